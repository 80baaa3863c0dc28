"""The Lowmere Tide and Flood Office: 120 servers in ten racks and two old spares; and fleets of any size.

What isn't told of a server is drawn from its name, so that the scenario is the same every time.
"""

from __future__ import annotations

import dataclasses
import random
from collections.abc import Callable, Sequence
from typing import Any

from ordnung.standins import makers as m
from ordnung.standins.faults import QUIRKS, Fault
from ordnung.standins.hardware import Hardware
from ordnung.standins.models import (
    FLASH_STORE,
    HEATH24,
    MODELS,
    PELLAM1160,
    REED10,
    REED12,
    REED14,
    Model,
    RackPlace,
    build_hardware,
    put_behind_one,
)

SITE = "Lowmere Tide and Flood Office"
_YEAR = 365 * 86400.0
_OLD_REED14 = {"bios": "2.1.0", "bmc": "5.10.2", "raid-1": "7.16.1"}
_OLD_REED12 = {"bios": "1.44.0", "bmc": "2.61.1", "raid-1": "7.14.0", "nic-1": "22.9.0"}
_LAGGING = {"drive-03": "GX02", "drive-05": "GX02"}
_ROOMS = {"K": "Kelp", "S": "Slate", "H": "Hill annex"}


@dataclasses.dataclass(frozen=True, slots=True)
class Kind:
    """One row of the scenario: servers of a name, their model, role and group."""

    name: str
    role: str
    serial: str
    model: Callable[[int], Model]
    group: Callable[[int], str]


_KINDS = {
    kind.name: kind
    for kind in (
        Kind("surge", "ensemble forecast", "CRV14", lambda n: REED12 if n > 38 else REED14, lambda n: "surge ensemble"),
        Kind("gauge", "takes in gauge readings", "CRV12", lambda n: REED12, lambda n: f"gauge pair {(n + 1) // 2}"),
        Kind("chart", "renders charts", "CRV15", lambda n: REED14 if n % 2 else REED12, lambda n: "charts"),
        Kind("vault", "storage ring", "CRV24", lambda n: HEATH24, lambda n: f"vault ring {(n + 5) // 6}"),
        Kind("watch", "forecasters' desk", "PEL11", lambda n: PELLAM1160, lambda n: "watch desk"),
        Kind("sump", "spare", "CRV10", lambda n: REED10, lambda n: "spares"),
    )
}
_AWAY = {"surge ensemble": 4, "charts": 6, "watch desk": 2, "spares": 2}

_RACKS: dict[str, tuple[tuple[str, int, int, int], ...]] = {
    # rack: (name, first, last, unit of the first; the next stands below it)
    "K1": (("surge", 1, 10, 41), ("gauge", 1, 4, 20), ("vault", 1, 1, 7), ("vault", 2, 2, 4)),
    "K2": (("surge", 11, 22, 41), ("gauge", 5, 10, 20), ("vault", 3, 4, 7)),
    "K3": (("surge", 23, 30, 41), ("chart", 1, 8, 28), ("vault", 5, 6, 7)),
    "K4": (("surge", 31, 36, 41), ("chart", 9, 12, 28)),
    "S1": (("surge", 37, 40, 41), ("gauge", 11, 14, 28), ("vault", 7, 9, 10)),
    "S2": (("gauge", 15, 20, 41), ("vault", 10, 12, 20)),
    "S3": (("chart", 13, 20, 41), ("watch", 1, 5, 24)),
    "S4": (("chart", 21, 24, 41), ("watch", 6, 10, 24), ("sump", 1, 2, 3)),
    "H1": (("surge", 41, 44, 41), ("vault", 13, 15, 20)),
    "H2": (("surge", 45, 48, 41), ("vault", 16, 18, 20)),
}

_STORIES: dict[str, dict[str, Any]] = {
    "surge-01": {"versions": {"bmc": "5.32.0"}},
    "surge-02": {"versions": {}},
    "surge-03": {"versions": {"raid-1": "7.16.1"}},
    "surge-04": {"versions": {"bmc": "5.20.0", "nic-1": "24.1.3"}},
    "surge-05": {"versions": {"bios": "3.0.5"}},
    "surge-06": {"versions": {"nic-1": "24.1.3", "raid-1": "7.14.0"}},
    "surge-07": {"versions": {**_OLD_REED14, **_LAGGING}},
    "surge-08": {"versions": {"bios": "2.1.0"}, "waiting": {"bios": "2.4.1"}},
    "surge-09": {"versions": _OLD_REED14},
    "surge-10": {"versions": {f"drive-{n:02d}": "GX03" for n in range(8)}},
    "surge-22": {"versions": {"nic-1": "24.1.3"}, "faults": (Fault("part gone", slot="nic-1"),)},
    "surge-30": {"versions": {"bios": "2.1.0"}, "waiting": {"bios": "2.4.1"}},
    "surge-33": {"certificate_days": 12},
    "surge-40": {"faults": (Fault("silent"),)},
    "gauge-01": {"versions": _OLD_REED12},
    "gauge-02": {"versions": _OLD_REED12},
    "gauge-03": {
        "versions": {"bios": "1.52.0", "bmc": "2.75.3", "nic-1": "24.1.3"},
        "faults": (Fault("refuses company"),),
    },
    "gauge-04": {"versions": {"bmc": "2.75.3", "nic-1": "3.14"}, "other": {"nic-1": m.STRAY_NIC}},
    "gauge-11": {"versions": {"bmc": "2.75.3"}, "faults": (Fault("clock wrong", seconds=-3.2 * _YEAR),)},
    "gauge-15": {"faults": (Fault("job pending"),)},
    "gauge-17": {"faults": (Fault("wants a restart"),)},
    "chart-19": {"faults": (Fault("link cut", times=6),)},
    "chart-04": {"other": {"psu-2": m.SUPPLY_1400}},
    "chart-06": {"quirks": frozenset({"trailing blanks", "numbers as strings"})},
    "chart-09": {"faults": ()},  # the demo knows it by a certificate that it had before
    "chart-14": {"faults": (Fault("feed lost"),)},
    "vault-01": {"versions": {"bios": "2.2.0", "bmc": "4.8.0", "backplane": "1.3"}},
    "vault-02": {"versions": {"raid-1": "7.16.1", "drive-07": "A12", "drive-19": "A07"}},
    "vault-03": {"extra": tuple((f"nic-{n}", m.NIC_Q25) for n in range(2, 7)), "versions": {"nic-5": "24.1.3"}},
    "vault-08": {"faults": (Fault("array rebuilding"),)},
    "watch-02": {"faults": (Fault("licence missing"),)},
    "watch-03": {"extra": FLASH_STORE, "versions": {"store-diag": "5.1"}},
    "watch-04": {"factory": True},
    "watch-05": {"extra": FLASH_STORE, "store": {slot: "blank" for slot, _ in FLASH_STORE}},
    "watch-06": {"self_signed": True, "hidden": (("nic-2", m.STRAY_NIC),)},
    "watch-07": {"extra": FLASH_STORE, "store": {"store-drivers": "damaged"}},
    "watch-08": {"self_signed": True},
    "watch-09": {"quirks": frozenset({"old shapes", "no drive revision"})},
    "sump-01": {"versions": {"bios": "0.92", "bmc": "1.12.0", "raid-1": "7.14.0"}, "quirks": frozenset({"old shapes"})},
    "sump-02": {"versions": {"bios": "0.98", "bmc": "1.30.0"}},
}
KNOWN_BY_ANOTHER_CERTIFICATE = "chart-09"


def _place(kind: Kind, number: int, rack: str, unit: int) -> RackPlace:
    name, model = f"{kind.name}-{number:02d}", kind.model(number)
    story = dict(_STORIES.get(name, {}))
    drawn = {} if rack == "K1" and "versions" in story else _draw(random.Random(f"lowmere {name}"), model)
    versions = story.pop("versions", None)
    if versions is not None:
        drawn = {
            slot: v for slot, v in drawn.items() if slot in ("nic-1", "raid-1") and kind.name not in ("surge", "gauge")
        }
    return RackPlace(
        name=name, model=model, unit=unit, serial=f"{kind.serial}-{number:04d}", group=kind.group(number), role=kind.role,
        room=_ROOMS[rack[0]], rack=rack, versions={**drawn, **(versions or {})}, **story,
    )  # fmt: skip


def _draw(chance: random.Random, model: Model) -> dict[str, str]:
    """Most things newest, some one or two behind; a BIOS never without the controller it needs."""
    versions: dict[str, str] = {}
    for make in dict.fromkeys(make for _, make in model.fitted):
        back = chance.choices((0, 1, 2), (72, 20, 8))[0]
        chosen = make.releases[max(0, len(make.releases) - 1 - back)].version
        versions |= {slot: chosen for slot, other in model.fitted if other is make}
    bios, bmc = dict(model.fitted)["bios"], dict(model.fitted)["bmc"]
    if bios.made(versions["bios"]).needs:
        versions["bmc"] = bmc.releases[-1].version
    return versions


def _rack(rack: str) -> list[RackPlace]:
    places = []
    for name, first, last, unit in _RACKS[rack]:
        kind = _KINDS[name]
        for number in range(first, last + 1):
            places.append(_place(kind, number, rack, unit))  # the unit moves on below
            unit -= kind.model(number).height
    return places


PLACES: tuple[RackPlace, ...] = tuple(place for rack in _RACKS for place in _rack(rack))
RACK_K1 = tuple(place for place in PLACES if place.rack == "K1")
GROUPS = {place.group: _AWAY.get(place.group, 1) for place in PLACES}
"""How many servers of each group may be away at once."""


def demo_hardware(now: Callable[[], float], places: Sequence[RackPlace] = PLACES) -> list[Hardware]:
    """The hardware of the scenario, or of some of its places."""
    return [build_hardware(place, place.rack, now) for place in places]


def random_places(
    count: int, seed: int, models: Sequence[Model] = (REED14, REED14, REED12, HEATH24)
) -> list[RackPlace]:
    """Any number of servers with random models and versions, 40 to a rack."""
    chance = random.Random(seed)
    places = []
    for number in range(count):
        model = chance.choice(models)
        versions = {slot: chance.choice(make.releases).version for slot, make in model.fitted}
        places.append(
            RackPlace(
                name=f"stand-{number + 1:04d}",
                model=model,
                unit=number % 40 + 1,
                serial=f"CRV99-{number + 1:04d}",
                group="stand-ins",
                role="load",
                room="Stand-ins",
                rack=f"X{number // 40 + 1}",
                versions=versions,
            )
        )
    return places


def make_enclosures(count: int, seed: int, now: Callable[[], float]) -> list[Hardware]:
    """Two systems behind each of so many controllers, as ``stand-0001`` and ``stand-0002`` and so on."""
    found = demo_hardware(now, random_places(2 * count, seed, (REED14,)))
    for first, second in zip(found[::2], found[1::2], strict=True):
        put_behind_one(first, second)
    return found


def random_hardware(count: int, seed: int, now: Callable[[], float]) -> list[Hardware]:
    """As ``random_places``, as hardware."""
    return demo_hardware(now, random_places(count, seed))


def mixed_hardware(count: int, seed: int, now: Callable[[], float]) -> list[Hardware]:
    """All models and generations, about one in four with something that real controllers do."""
    chance = random.Random(f"quirks {seed}")
    quirks = sorted(QUIRKS)
    places = [
        dataclasses.replace(p, quirks=frozenset(chance.sample(quirks, chance.choice((0, 0, 0, 1)))))
        for p in random_places(count, seed, MODELS)
    ]
    return demo_hardware(now, places)
