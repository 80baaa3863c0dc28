"""The hardware of the demo: rack K1 of the Lowmere Tide and Flood Office, and fleets of any size."""

from __future__ import annotations

import random
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from ordnung.standins import makers as m
from ordnung.standins.hardware import Hardware, Part

USER, PASSWORD = "ordnung", "kelp-and-slate"
_ID = uuid.UUID("6f0a1d1e-52c1-4f0b-9e0a-0d0c1f0e1a2b")


@dataclass(frozen=True, slots=True, kw_only=True)
class Model:
    """A server model: its own firmware and what is fitted, as (slot, make)."""

    name: str
    generation: str
    reboot_seconds: float
    restart_seconds: float
    late_seconds: float = 0.0
    fitted: tuple[tuple[str, m.Make], ...] = ()


def _drives(make: m.Make, count: int) -> tuple[tuple[str, m.Make], ...]:
    return tuple((f"drive-{number:02d}", make) for number in range(count))


_SUPPLIES = (("psu-1", m.SUPPLY_800), ("psu-2", m.SUPPLY_800))
REED14 = Model(
    name="Corvane Reed 14", generation="newest", reboot_seconds=240, restart_seconds=100,
    fitted=(("bios", m.REED14_BIOS), ("bmc", m.REED14_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), *_drives(m.DRIVE_S4, 8), *_SUPPLIES),
)  # fmt: skip
REED12 = Model(
    name="Corvane Reed 12", generation="middle", reboot_seconds=260, restart_seconds=120,
    fitted=(("bios", m.REED12_BIOS), ("bmc", m.REED12_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), *_drives(m.DRIVE_K7, 4), *_SUPPLIES),
)  # fmt: skip
HEATH24 = Model(
    name="Corvane Heath 24", generation="newest", reboot_seconds=360, restart_seconds=130, late_seconds=180,
    fitted=(("bios", m.HEATH24_BIOS), ("bmc", m.HEATH24_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), ("backplane", m.HEATH24_PLANE), *_drives(m.DRIVE_K7, 24), *_SUPPLIES),
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """One server of the scenario: where it stands and what differs from the newest."""

    name: str
    model: Model
    unit: int
    serial: str
    group: str
    role: str
    versions: dict[str, str] = field(default_factory=dict)
    waiting: dict[str, str] = field(default_factory=dict)
    other: dict[str, m.Make] = field(default_factory=dict)


_ENSEMBLE, _ROLE = "surge ensemble", "ensemble forecast"


def _surge(number: int, **facts: dict[str, str]) -> Place:
    return Place(
        name=f"surge-{number:02d}", model=REED14, unit=42 - number, serial=f"CRV14-{number:04d}",
        group=_ENSEMBLE, role=_ROLE, **facts,  # type: ignore[arg-type]
    )  # fmt: skip


def _gauge(number: int, versions: dict[str, str], **facts: dict[str, m.Make]) -> Place:
    pair = f"gauge pair {(number + 1) // 2}"
    return Place(
        name=f"gauge-{number:02d}", model=REED12, unit=21 - number, serial=f"CRV12-{number:04d}",
        group=pair, role="takes in gauge readings", versions=versions, **facts,  # type: ignore[arg-type]
    )  # fmt: skip


_OLD_REED14 = {"bios": "2.1.0", "bmc": "5.10.2", "raid-1": "7.16.1"}
_OLD_REED12 = {"bios": "1.44.0", "bmc": "2.61.1", "raid-1": "7.14.0", "nic-1": "22.9.0"}
_LAGGING = {"drive-03": "GX02", "drive-05": "GX02"}
RACK_K1 = (
    _surge(1, versions={"bmc": "5.32.0"}),
    _surge(2),
    _surge(3, versions={"raid-1": "7.16.1"}),
    _surge(4, versions={"bmc": "5.20.0", "nic-1": "24.1.3"}),
    _surge(5, versions={"bios": "3.0.5"}),
    _surge(6, versions={"nic-1": "24.1.3", "raid-1": "7.14.0"}),
    _surge(7, versions={**_OLD_REED14, **_LAGGING}),
    _surge(8, versions={"bios": "2.1.0"}, waiting={"bios": "2.4.1"}),
    _surge(9, versions=_OLD_REED14),
    _surge(10, versions={f"drive-{n:02d}": "GX03" for n in range(8)}),
    _gauge(1, _OLD_REED12),
    _gauge(2, _OLD_REED12),
    _gauge(3, {"bios": "1.52.0", "bmc": "2.75.3", "nic-1": "24.1.3"}),
    _gauge(4, {"bmc": "2.75.3", "nic-1": "3.14"}, other={"nic-1": m.STRAY_NIC}),
    Place(
        name="vault-01", model=HEATH24, unit=7, serial="CRV24-0001", group="vault ring 1", role="storage ring",
        versions={"bios": "2.2.0", "bmc": "4.8.0", "backplane": "1.3"},
    ),
    Place(
        name="vault-02", model=HEATH24, unit=4, serial="CRV24-0002", group="vault ring 1", role="storage ring",
        versions={"raid-1": "7.16.1", "drive-07": "A12", "drive-19": "A07"},
    ),
)  # fmt: skip
GROUPS = {"surge ensemble": 4, "gauge pair 1": 1, "gauge pair 2": 1, "vault ring 1": 1}
"""How many servers of each group may be away at once."""


def build_hardware(place: Place, rack: str, now: Callable[[], float], serial: str | None = None) -> Hardware:
    """The hardware model of one place."""
    parts = []
    for slot, make in place.model.fitted:
        fitted = place.other.get(slot, make)
        parts.append(_part(slot, fitted, place.versions.get(slot, fitted.releases[-1].version), place))
    last_month = now() - 26 * 86400
    return Hardware(
        name=place.name,
        model=place.model.name,
        serial=serial or place.serial,
        uuid=str(uuid.uuid5(_ID, place.serial)),
        generation=place.model.generation,
        user=USER,
        password=PASSWORD,
        parts=parts,
        now=now,
        rack=rack,
        unit=place.unit,
        restart_seconds=place.model.restart_seconds,
        reboot_seconds=place.model.reboot_seconds,
        late_seconds=place.model.late_seconds,
        controller_reset_at=last_month,
        system_reset_at=last_month,
    )


def _part(slot: str, make: m.Make, version: str, place: Place) -> Part:
    waiting = place.waiting.get(slot)
    versions = [release.version for release in make.releases]
    has_banks = make.kind in ("bios", "controller")
    before = versions[max(0, versions.index(version) - 1)] if version in versions else versions[-1]
    known = make.made(version) if version in versions else None
    return Part(
        slot=slot,
        kind=make.kind,
        name=make.name,
        software_id=make.software_id,
        version=version,
        scheme=make.scheme,
        listed=tuple(versions),
        pci=make.pci,
        number=make.number,
        spare=(waiting or before) if has_banks else None,
        waiting=waiting,
        waiting_activation=make.activation if waiting else None,
        waiting_rules=m.device_rules(make, make.made(waiting)) if waiting else {},
        floor=known.floor_after if known else None,
        generation=max([1, *(r.brings for r in make.releases[: versions.index(version) + 1])] if known else [1]),
        write_seconds=float(make.write_seconds),
    )


def demo_hardware(now: Callable[[], float]) -> list[Hardware]:
    """Rack K1: 16 servers."""
    return [build_hardware(place, "K1", now) for place in RACK_K1]


def random_hardware(count: int, seed: int, now: Callable[[], float]) -> list[Hardware]:
    """Any number of servers with random models and versions, 40 to a rack."""
    chance = random.Random(seed)
    devices = []
    for number in range(count):
        model = chance.choice((REED14, REED14, REED12, HEATH24))
        versions = {slot: _any(chance, make.releases) for slot, make in model.fitted}
        place = Place(
            name=f"stand-{number + 1:04d}", model=model, unit=number % 40 + 1, serial=f"CRV99-{number + 1:04d}",
            group="stand-ins", role="load", versions=versions,
        )  # fmt: skip
        devices.append(build_hardware(place, f"X{number // 40 + 1}", now))
    return devices


def _any(chance: random.Random, releases: Sequence[m.Made]) -> str:
    return chance.choice(releases).version
