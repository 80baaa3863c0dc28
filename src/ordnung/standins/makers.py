"""The made-up makers: their products and releases, the packages and the catalogs they publish.

This is the one truth of the demo: packages (with the rules devices obey) and catalogs (which
Ordnung reads) both come from these tables.
"""

from __future__ import annotations

import datetime
import hashlib
import random
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ordnung.formats.documents import write_document
from ordnung.formats.pldm import DeviceRecord, NewImage, device_descriptors, write_package
from ordnung.formats.pldm.model import device_data
from ordnung.standins.publishing import payload_signature, publish

RESTART, REBOOT, POWER, ONCE = "controller restart", "server reboot", "power cycle", "at once"


@dataclass(frozen=True, slots=True)
class Made:
    """One release as its maker knows it; needs map a product id to the least version."""

    version: str
    released: str
    importance: str = "routine"
    notes: str = ""
    fixes: tuple[tuple[str, float, str], ...] = ()
    direct_from: str | None = None
    needs: tuple[tuple[str, str], ...] = ()
    floor_after: str | None = None
    signature: int = 1
    brings: int = 0
    hands: str = ""
    """What a person does at the server afterwards."""
    sets: tuple[tuple[str, str], ...] = ()
    """Settings that it changes when it becomes active, with their new values."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Make:
    """One product of a maker."""

    id: str
    name: str
    kind: str
    software_id: str
    scheme: str = "dotted"
    pci: str | None = None
    number: str = ""
    activation: str = REBOOT
    write_seconds: int = 60
    reset_seconds: int = 240
    kilobytes: int = 400
    sparse: bool = False
    """Its packages name no more than their maker, and carry no device data: many real ones do."""
    releases: tuple[Made, ...] = ()

    @property
    def folder(self) -> str:
        """Where its payloads lie on the maker's mirror."""
        return self.id.replace(".", "/")

    def made(self, version: str) -> Made:
        """The release of that version. Raises KeyError when the maker made none."""
        for release in self.releases:
            if release.version == version:
                return release
        raise KeyError(version)


_SA14 = (("CRV-SA-2026-014", 8.1, "Boot variable handling lets a local administrator run code before the system"),)
_SA11 = (("CRV-SA-2026-011", 9.0, "Session tokens of the management controller can be guessed"),)
_SA03 = (("QUO-SA-2026-003", 7.4, "A crafted frame stops the card"),)

REED14_BIOS = Make(
    id="corvane.reed14.bios", name="Reed 14 BIOS", kind="bios", software_id="CRV-R14-BIOS",
    write_seconds=300, reset_seconds=300, kilobytes=1600,
    releases=(
        Made("1.8.2", "2024-03-12"),
        Made("1.11.0", "2024-06-18", "stability", "Steadier memory training on cold starts."),
        Made("2.1.0", "2024-11-05", "routine", "New set-up pages."),
        Made("2.4.1", "2025-03-20", "stability", "Brings the second signature scheme: later releases can only be written from here on.", brings=2),
        Made("2.6.0", "2025-07-15", "stability", "Fewer corrected errors reported.", direct_from="2.4.1", signature=2),
        Made("3.0.5", "2026-01-27", "routine", "Needs controller 5.30.0.", direct_from="2.4.1", needs=(("corvane.reed14.bmc", "5.30.0"),), signature=2),
        Made("3.2.0", "2026-10-07", "security", "Closes CRV-SA-2026-014. No way back below 2.4.1.", _SA14, "2.4.1", (("corvane.reed14.bmc", "5.30.0"),), "2.4.1", 2),
    ),
)  # fmt: skip
REED14_BMC = Make(
    id="corvane.reed14.bmc", name="Reed 14 controller", kind="controller", software_id="CRV-R14-BMC",
    activation=RESTART, write_seconds=240, reset_seconds=120, kilobytes=4200,
    releases=(
        Made("5.10.2", "2025-02-11"),
        Made("5.20.0", "2025-09-02", "stability", "Longer event log."),
        Made("5.30.0", "2026-09-23", "security", "Closes CRV-SA-2026-011.", _SA11),
    ),
)  # fmt: skip
REED12_BIOS = Make(
    id="corvane.reed12.bios", name="Reed 12 BIOS", kind="bios", software_id="CRV-R12-BIOS",
    write_seconds=280, reset_seconds=320, kilobytes=1300,
    releases=(
        Made("1.44.0", "2024-04-09"),
        Made("1.52.0", "2025-06-03", "stability"),
        Made("1.56.0", "2026-08-19", "security", "Closes CRV-SA-2026-014. The last release for this model.", _SA14, needs=(("corvane.reed12.bmc", "2.75.3"),)),
    ),
)  # fmt: skip
REED12_BMC = Make(
    id="corvane.reed12.bmc", name="Reed 12 controller", kind="controller", software_id="CRV-R12-BMC",
    activation=RESTART, write_seconds=220, reset_seconds=140, kilobytes=2600,
    releases=(
        Made("2.61.1", "2024-01-30"),
        Made("2.70.0", "2025-01-14", "stability", "Layout of the flash changes: a stop on the way to anything newer.", direct_from="2.61.1"),
        Made("2.75.3", "2025-11-11", "security", "Closes CRV-SA-2026-011.", _SA11, "2.70.0"),
        Made("2.80.0", "2026-08-19", "stability", "", (), "2.70.0"),
    ),
)  # fmt: skip
HEATH24_BIOS = Make(
    id="corvane.heath24.bios", name="Heath 24 BIOS", kind="bios", software_id="CRV-H24-BIOS",
    write_seconds=300, reset_seconds=420, kilobytes=1700,
    releases=(
        Made("2.2.0", "2025-05-06"),
        Made("2.6.0", "2026-10-07", "security", "Closes CRV-SA-2026-014. MemoryInterleave becomes Adaptive.", _SA14,
            sets=(("MemoryInterleave", "Adaptive"),)),
    ),
)  # fmt: skip
HEATH24_BMC = Make(
    id="corvane.heath24.bmc", name="Heath 24 controller", kind="controller", software_id="CRV-H24-BMC",
    activation=RESTART, write_seconds=240, reset_seconds=150, kilobytes=3800,
    releases=(Made("4.8.0", "2025-08-05"), Made("4.12.0", "2026-09-23", "security", "Closes CRV-SA-2026-011.", _SA11)),
)  # fmt: skip
HEATH24_PLANE = Make(
    id="corvane.heath24.backplane", name="Heath 24 backplane", kind="backplane", software_id="CRV-H24-PLANE",
    activation=POWER, write_seconds=60, reset_seconds=540, kilobytes=120, sparse=True,
    releases=(Made("1.3", "2025-02-18"), Made("1.4", "2026-06-30", "stability", "Drives no longer drop out when all spin up at once.",
        hands="See that the light of each drive bay is green.")),
)  # fmt: skip
RAID_R9 = Make(
    id="tessaly.r9", name="Tessaly R9 RAID", kind="raid", software_id="TSY-R9", pci="ffe2:0090:ffe2:0001",
    number="TSY-R9-8P", write_seconds=120, kilobytes=700,
    releases=(
        Made("7.14.0", "2025-04-22"),
        Made("7.16.1", "2025-12-09", "stability"),
        Made("7.18.0", "2026-09-30", "stability", "Rebuilds no longer stall when a second drive is slow."),
    ),
)  # fmt: skip
NIC_Q25 = Make(
    id="quorrin.q25", name="Quorrin Q25, 2 ports", kind="nic", software_id="QUO-Q25", pci="ffe3:0025:ffe3:0002",
    number="Q25-2S", write_seconds=90, kilobytes=900,
    releases=(
        Made("22.9.0", "2024-09-10"),
        Made("24.1.3", "2025-10-21", "stability"),
        Made("24.2.8", "2026-05-12", "security", "Closes QUO-SA-2026-003.", _SA03),
    ),
)  # fmt: skip
DRIVE_S4 = Make(
    id="brevik.s4", name="Brevik S4 NVMe", kind="drive", software_id="BRV-S4", scheme="listed", number="S4-1920",
    activation=ONCE, write_seconds=45, reset_seconds=0, kilobytes=300,
    releases=(Made("GX02", "2025-01-16"), Made("GX03", "2025-09-25"), Made("GX04", "2026-07-09", "stability", "Fewer latency peaks under mixed load.")),
)  # fmt: skip
DRIVE_K7 = Make(
    id="brevik.k7", name="Brevik K7 SAS", kind="drive", software_id="BRV-K7", scheme="letter", number="K7-16T",
    activation=ONCE, write_seconds=40, reset_seconds=0, kilobytes=260,
    releases=(Made("A07", "2024-12-03"), Made("A12", "2025-08-26"), Made("B01", "2026-06-16", "stability")),
)  # fmt: skip
SUPPLY_800 = Make(
    id="ardlow.p800", name="Ardlow 800 supply", kind="power", software_id="ARD-P800", number="P800",
    write_seconds=180, kilobytes=80, releases=(Made("1.07", "2024-10-01"), Made("1.09", "2026-03-17", "stability")),
)  # fmt: skip
SUPPLY_1400 = Make(
    id="ardlow.p1400", name="Ardlow 1400 supply", kind="power", software_id="ARD-P1400", number="P1400",
    write_seconds=180, kilobytes=90, releases=(Made("2.02", "2024-11-12"), Made("2.05", "2026-04-21", "stability")),
)  # fmt: skip
REED10_BIOS = Make(
    id="corvane.reed10.bios", name="Reed 10 BIOS", kind="bios", software_id="CRV-R10-BIOS",
    write_seconds=260, reset_seconds=340, kilobytes=900,
    releases=(Made("0.92", "2021-05-11"), Made("0.98", "2024-10-15", "stability", "The last release for this model.", needs=(("corvane.reed10.bmc", "1.30.0"),))),
)  # fmt: skip
REED10_BMC = Make(
    id="corvane.reed10.bmc", name="Reed 10 controller", kind="controller", software_id="CRV-R10-BMC",
    activation=RESTART, write_seconds=260, reset_seconds=180, kilobytes=1800,
    releases=(Made("1.12.0", "2020-03-03"), Made("1.30.0", "2024-10-15", "security", "Learns to list and update what is fitted.")),
)  # fmt: skip
ADAPTER_H2 = Make(
    id="tessaly.h2", name="Tessaly H2 host adapter", kind="raid", software_id="TSY-H2", pci="ffe2:0012:ffe2:0002",
    number="TSY-H2-16I", write_seconds=90, kilobytes=500,
    releases=(Made("16.00", "2023-09-12"), Made("16.12", "2025-10-07", "stability")),
)  # fmt: skip
CROSSED_H2 = Make(
    id="crossed.h2", name="H2 adapter, other firmware", kind="raid", software_id="H2-IT-OTHER", pci="ffe2:0012:ffe9:0002",
    number="H2-X", releases=(Made("20.00.07", "2021-06-01"),),
)  # fmt: skip
NIC_Q100 = Make(
    id="quorrin.q100", name="Quorrin Q100", kind="nic", software_id="QUO-Q100", pci="ffe3:0100:ffe3:0001",
    number="Q100-1Q", write_seconds=110, kilobytes=1200,
    releases=(Made("30.1.0", "2025-06-17"), Made("30.4.2", "2026-05-12", "stability")),
)  # fmt: skip
PELLAM_BIOS = Make(
    id="pellam.p1160.bios", name="Pellam 1160 BIOS", kind="bios", software_id="PEL-1160-BIOS",
    write_seconds=240, reset_seconds=280, kilobytes=1100, scheme="letter",
    releases=(Made("C08", "2024-05-21"), Made("D02", "2026-02-10", "stability")),
)  # fmt: skip
PELLAM_BMC = Make(
    id="pellam.p1160.bmc", name="Pellam 1160 controller", kind="controller", software_id="PEL-1160-BMC",
    activation=RESTART, write_seconds=200, reset_seconds=110, kilobytes=2200,
    releases=(Made("3.04", "2024-05-21"), Made("3.11", "2026-02-10", "security", "Closes PEL-2026-02.", (("PEL-2026-02", 7.2, "A crafted session name stops the controller"),))),
)  # fmt: skip


def _partition(key: str, name: str, *versions: tuple[str, str]) -> Make:
    return Make(
        id=f"pellam.p1160.{key}", name=f"Service partition: {name}", kind="store", software_id=f"PEL-1160-{key.upper()}",
        activation=ONCE, write_seconds=50, reset_seconds=0, kilobytes=600, releases=tuple(Made(*pair) for pair in versions),
    )  # fmt: skip


STORE_DIAG = _partition("diag", "diagnostics", ("5.1", "2024-08-06"), ("5.4", "2026-01-20"))
STORE_DRIVERS = _partition("drivers", "drivers", ("2025.1", "2025-03-04"), ("2026.1", "2026-03-03"))
STORE_TOOLS = _partition("tools", "update tools", ("1.8", "2024-12-10"), ("2.0", "2026-02-24"))
STRAY_NIC = Make(
    id="stray.n10", name="Unmarked N10, 4 ports", kind="nic", software_id="N10-GENERIC", pci="ffe9:0010:ffe9:0001",
    number="N10", releases=(Made("3.14", "2020-01-01"),),
)  # fmt: skip

MAKES = (
    REED14_BIOS, REED14_BMC, REED12_BIOS, REED12_BMC, HEATH24_BIOS, HEATH24_BMC, HEATH24_PLANE,
    RAID_R9, NIC_Q25, DRIVE_S4, DRIVE_K7, SUPPLY_800, SUPPLY_1400, REED10_BIOS, REED10_BMC, ADAPTER_H2, NIC_Q100,
    PELLAM_BIOS, PELLAM_BMC, STORE_DIAG, STORE_DRIVERS, STORE_TOOLS,
)  # fmt: skip
BY_ID = {make.id: make for make in MAKES}
_CARDS = (NIC_Q25, NIC_Q100)
_CORVANE_OWN = tuple(make for make in MAKES if make not in _CARDS and "pellam" not in make.id)
_REED10, _REED12, _STAYING = "Corvane Reed 10", "Corvane Reed 12", ("Corvane Reed 14", "Corvane Heath 24")


def _corvane(issue: str, issued: str) -> tuple[str, str, str, str, tuple[str, ...], tuple[Make, ...]]:
    """One of Corvane's issues: March 2026 drops Reed 10, November 2026 drops Reed 12."""
    dropped = [name for name, until in (("reed10", "2026-03"), ("reed12", "2026-11")) if issue >= until]
    models = [m for m, key in ((_REED10, "reed10"), (_REED12, "reed12")) if key not in dropped]
    products = tuple(m for m in _CORVANE_OWN if not any(key in m.id for key in dropped))
    return ("Corvane", "corvane-servers", issue, issued, (*models, *_STAYING), products)


ISSUES: tuple[tuple[str, str, str, str, tuple[str, ...], tuple[Make, ...]], ...] = (
    _corvane("2025-02", "2025-02-19"),
    _corvane("2025-05", "2025-05-21"),
    _corvane("2025-08", "2025-08-20"),
    _corvane("2025-11", "2025-11-19"),
    _corvane("2026-03", "2026-03-18"),
    _corvane("2026-06", "2026-07-15"),
    _corvane("2026-09", "2026-09-24"),
    _corvane("2026-11", "2026-11-04"),
    ("Quorrin", "quorrin-cards", "2026-06", "2026-06-01", (), _CARDS),
)
"""(maker, catalog, issue, issued, models, products). Pellam publishes no catalog, only packages."""


def device_rules(make: Make, made: Made) -> dict[str, Any]:
    """What the package tells the device (``formats.md``: device rules inside a package)."""
    rules: dict[str, Any] = {
        "software_id": make.software_id,
        "version": made.version,
        "signature_generation": made.signature,
        "name": make.name,
        "kind": make.kind,
        "importance": made.importance,
    }
    if made.direct_from:
        rules["direct_from"] = made.direct_from
    if made.needs:
        rules["needs"] = [
            {"product": name, "software_id": BY_ID[name].software_id, "at_least": bound} for name, bound in made.needs
        ]
    if made.floor_after:
        rules["floor_after"] = made.floor_after
    if made.brings:
        rules["brings_generation"] = made.brings
    if made.sets:
        rules["sets"] = dict(made.sets)
    return rules


def make_package(make: Make, made: Made) -> bytes:
    """The payload of one release: a PLDM package with content that is always the same."""
    seed = random.Random(f"{make.id} {made.version}")
    size = make.kilobytes * 1024
    dense, sparse = seed.randbytes(size * 2 // 3), bytes(size - size * 2 // 3)
    image = NewImage(version=made.version, content=dense + sparse, activation=make.activation)
    released = datetime.datetime.fromisoformat(made.released).replace(tzinfo=datetime.UTC)
    descriptors, data = device_descriptors(make.software_id, make.pci), device_data(device_rules(make, made))
    if make.sparse:
        descriptors, data = descriptors[:1], b""
    device = DeviceRecord(descriptors=descriptors, images=(0,), version=made.version, data=data)
    revision = 1 if made.released < "2025" else 4
    return write_package([device], [image], version=made.version, released=released, revision=revision)


def payload_path(make: Make, made: Made) -> str:
    """Where the payload lies below the mirror's root."""
    return f"{make.folder}/{make.kind}-{made.version}.pldm"


def write_mirror(folder: Path, base: str, makes: Iterable[Make] = MAKES) -> list[Path]:
    """Write payloads and catalogs as the makers publish them; returns the catalogs' paths.

    What is there already with the right length is left alone. Other makes may be given under
    the same ids, such as smaller ones.
    """
    sums: Sums = {}
    by_id = {make.id: make for make in makes}
    for make in by_id.values():
        for made in make.releases:
            path = folder / payload_path(make, made)
            raw = make_package(make, made)
            sums[make.id, made.version] = (len(raw), hashlib.sha256(raw).hexdigest())
            if not path.exists() or path.stat().st_size != len(raw):
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(raw)
    paths = []
    for maker, catalog, issue, issued, models, products in ISSUES:
        document = {
            "format": "ordnung.catalog/1",
            "maker": maker,
            "catalog": catalog,
            "issue": issue,
            "issued": issued,
            "base": base,
            "models": list(models),
            "products": [_product(by_id[make.id], sums, issued, maker) for make in products],
        }
        path = folder / "catalogs" / f"{catalog}-{issue}.json"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(write_document(document))
        paths.append(path)
    publish(folder, paths)
    return paths


Sums = dict[tuple[str, str], tuple[int, str]]
"""Size and checksum of a payload by product and version."""


def _product(make: Make, sums: Sums, issued: str, maker: str) -> dict[str, Any]:
    fits: dict[str, str] = {"software_id": make.software_id}
    if make.pci:
        fits["pci"] = ":".join(make.pci.split(":")[:2]) + ":*:*"
    return {
        "id": make.id,
        "name": make.name,
        "kind": make.kind,
        "scheme": make.scheme,
        "fits": [fits],
        "releases": [_release(make, made, sums, maker) for made in make.releases if made.released <= issued],
    }


def _release(make: Make, made: Made, sums: Sums, maker: str) -> dict[str, Any]:
    size, digest = sums[make.id, made.version]
    signature = payload_signature(maker, digest, made.signature)
    entry: dict[str, Any] = {
        "version": made.version,
        "released": made.released,
        "importance": made.importance,
        "fixes": [{"id": name, "score": score, "title": title} for name, score, title in made.fixes],
        "payload": {
            "path": payload_path(make, made),
            "size": size,
            "sha256": digest,
            **({"signature": signature} if signature else {}),
        },
        "needs": [{"product": name, "at_least": bound} for name, bound in made.needs],
        "activation": make.activation,
        "write_seconds": make.write_seconds,
        "reset_seconds": make.reset_seconds,
        "alone": False,
    }
    optional: dict[str, object] = {
        "direct_from": made.direct_from,
        "floor_after": made.floor_after,
        "notes": made.notes,
    }
    if made.hands:
        optional["hands"] = {"after": made.hands}
    if made.sets:
        optional["announces"] = [f"setting {name}" for name, _ in made.sets]
    return {**entry, **{name: value for name, value in optional.items() if value}}
