"""The server models of the demo and how one place becomes hardware."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass, field

from ordnung.standins import makers as m
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Account, Part

USER, PASSWORD = "ordnung", "kelp-and-slate"
_ID = uuid.UUID("6f0a1d1e-52c1-4f0b-9e0a-0d0c1f0e1a2b")
Fitted = tuple[tuple[str, m.Make], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Model:
    """A server model: its own firmware, what is fitted as (slot, make), and what its controller learns when."""

    name: str
    height: int = 1
    generations: tuple[tuple[str, str], ...]
    reboot_seconds: float
    restart_seconds: float
    late_seconds: float = 0.0
    fitted: Fitted = ()


def _drives(make: m.Make, count: int) -> Fitted:
    return tuple((f"drive-{number:02d}", make) for number in range(count))


def _supplies(make: m.Make) -> Fitted:
    return (("psu-1", make), ("psu-2", make))


REED14 = Model(
    name="Corvane Reed 14", generations=(("", "newest"),), reboot_seconds=240, restart_seconds=100,
    fitted=(("bios", m.REED14_BIOS), ("bmc", m.REED14_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), *_drives(m.DRIVE_S4, 8), *_supplies(m.SUPPLY_800)),
)  # fmt: skip
REED12 = Model(
    name="Corvane Reed 12", generations=(("", "middle"), ("2.70.0", "newest")), reboot_seconds=260, restart_seconds=120,
    fitted=(("bios", m.REED12_BIOS), ("bmc", m.REED12_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), *_drives(m.DRIVE_K7, 4), *_supplies(m.SUPPLY_800)),
)  # fmt: skip
HEATH24 = Model(
    name="Corvane Heath 24", height=2, generations=(("", "newest"),), reboot_seconds=360, restart_seconds=130, late_seconds=180,
    fitted=(("bios", m.HEATH24_BIOS), ("bmc", m.HEATH24_BMC), ("raid-1", m.RAID_R9), ("hba-1", m.CROSSED_H2), ("nic-1", m.NIC_Q25), ("backplane", m.HEATH24_PLANE), *_drives(m.DRIVE_K7, 24), *_supplies(m.SUPPLY_1400)),
)  # fmt: skip
PELLAM1160 = Model(
    name="Pellam 1160", generations=(("", "middle"),), reboot_seconds=230, restart_seconds=110,
    fitted=(("bios", m.PELLAM_BIOS), ("bmc", m.PELLAM_BMC), ("raid-1", m.ADAPTER_H2), ("nic-1", m.NIC_Q100), *_drives(m.DRIVE_S4, 2), *_supplies(m.SUPPLY_800)),
)  # fmt: skip
REED10 = Model(
    name="Corvane Reed 10", generations=(("", "oldest"), ("1.30.0", "middle")), reboot_seconds=300, restart_seconds=180,
    fitted=(("bios", m.REED10_BIOS), ("bmc", m.REED10_BMC), ("raid-1", m.RAID_R9), ("nic-1", m.NIC_Q25), *_drives(m.DRIVE_K7, 2), *_supplies(m.SUPPLY_800)),
)  # fmt: skip
MODELS = (REED14, REED12, HEATH24, PELLAM1160, REED10)
FLASH_STORE: Fitted = (("store-diag", m.STORE_DIAG), ("store-drivers", m.STORE_DRIVERS), ("store-tools", m.STORE_TOOLS))
"""The service partitions of a server's own flash store."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RackPlace:
    """One server of the scenario: where it stands and what differs from the newest."""

    name: str
    model: Model
    unit: int
    serial: str
    group: str
    role: str
    room: str = "Kelp"
    rack: str = "K1"
    versions: dict[str, str] = field(default_factory=dict)
    waiting: dict[str, str] = field(default_factory=dict)
    other: dict[str, m.Make] = field(default_factory=dict)
    extra: Fitted = ()
    hidden: Fitted = ()
    store: dict[str, str] = field(default_factory=dict)
    """Of service partitions: ``blank`` or ``damaged``."""
    faults: tuple[Fault, ...] = ()
    quirks: frozenset[str] = frozenset()
    self_signed: bool = False
    certificate_days: int = 3650
    factory: bool = False
    """Still has the account it was delivered with."""
    same_certificate: bool = False
    """Shows the certificate that its maker puts into every controller."""


def build_hardware(place: RackPlace, rack: str, now: Callable[[], float]) -> Hardware:
    """The hardware model of one place."""
    fitted = [*place.model.fitted, *place.extra, *place.hidden]
    parts = [
        _part(slot, place.other.get(slot, make), place, number) for number, (slot, make) in enumerate(fitted, start=1)
    ]
    for part in parts:
        part.hidden = part.slot in dict(place.hidden)
    last_month = now() - 26 * 86400
    return Hardware(
        name=place.name,
        model=place.model.name,
        serial=place.serial,
        uuid=str(uuid.uuid5(_ID, place.serial)),
        generations=place.model.generations,
        accounts={"1": Account(USER, PASSWORD, change_required=place.factory)},
        parts=parts,
        now=now,
        rack=rack,
        unit=place.unit,
        restart_seconds=place.model.restart_seconds,
        reboot_seconds=place.model.reboot_seconds,
        late_seconds=place.model.late_seconds,
        controller_reset_at=last_month,
        system_reset_at=last_month,
        faults=[Fault(f.kind, f.slot, f.times, f.seconds, f.on) for f in place.faults],
        quirks=place.quirks,
        self_signed=place.self_signed,
        certificate_days=place.certificate_days,
        same_certificate=place.same_certificate,
        asset_tag=f"LTF-{place.serial[-4:]}-{place.serial[3:5]}",
    )


def put_behind_one(first: Hardware, second: Hardware) -> None:
    """Make two servers two systems of one enclosure: the controller is the first's, sign-in is shared."""
    first.beside, second.beside, second.is_second = second, first, True
    second.accounts, second.sessions = first.accounts, first.sessions
    controller = [part for part in first.parts if part.kind == "controller"]
    second.parts = controller + [part for part in second.parts if part.kind != "controller"]
    second.generations, second.rack, second.unit = first.generations, first.rack, first.unit


def _part(slot: str, make: m.Make, place: RackPlace, number: int) -> Part:
    state = place.store.get(slot, "ready") if make.kind == "store" else None
    version = "" if state in ("blank", "empty") else place.versions.get(slot, make.releases[-1].version)
    waiting = place.waiting.get(slot)
    versions = [release.version for release in make.releases]
    has_banks = make.kind in ("bios", "controller")
    before = versions[max(0, versions.index(version) - 1)] if version in versions else versions[-1]
    known = make.made(version) if version in versions else None
    brought = [r.brings for r in make.releases[: versions.index(version) + 1]] if known else []
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
        generation=max([1, *brought]),
        write_seconds=float(make.write_seconds),
        serial=f"{place.serial}-{number:02d}",
        store=state,
    )
