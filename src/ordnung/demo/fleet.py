"""A large house to try the drawing and the lists with: servers and readings made up directly, by seed.

There are no controllers behind it: reading one again says that it can't be reached, which is true.
"""

from __future__ import annotations

import datetime
import os
import random
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import django

if TYPE_CHECKING:
    from ordnung.server.fleet.models import Group
    from ordnung.server.fleet.models import Server as Row

from ordnung.core.components import Component, Server
from ordnung.core.facts import Facts
from ordnung.demo.house import seed_house
from ordnung.demo.seed import seed_people
from ordnung.formats.logs import configure_logs
from ordnung.standins.hardware import Hardware
from ordnung.standins.makers import Made, Make, write_mirror
from ordnung.standins.models import MODELS, Model, RackPlace, build_hardware

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
KINDS_OF_STATE = 60
"""So many states of one model there are in the house: real fleets repeat themselves."""
RACK_HOLDS, ROOM_HOLDS = 40, 24
ROLES = ("forecast", "archive", "gateways", "charts", "spares")
CHUNK = 250
SHARES = (50, 30, 10, 8, 2)
"""How common each model is."""


def make_places(count: int, models: Sequence[Model] = MODELS, seed: int = 1) -> Iterator[RackPlace]:
    """``count`` servers in racks of 40 and rooms of 24 racks, drawn from a limited number of states a model."""
    chance = random.Random(seed)
    states = {
        model.name: [{slot: _one(chance, make).version for slot, make in model.fitted} for _ in range(KINDS_OF_STATE)]
        for model in models
    }
    rack, left = 0, RACK_HOLDS
    for number in range(count):
        model = chance.choices(models, SHARES[: len(models)])[0]
        if left < model.height:
            rack, left = rack + 1, RACK_HOLDS
        left -= model.height
        hall, role = rack // ROOM_HOLDS, ROLES[rack % len(ROLES)]
        yield RackPlace(
            name=f"node-{number + 1:05d}", model=model, unit=left + 1, serial=f"LTF{number:07d}",
            group=f"{role} {rack // 10 + 1}", role=role, room=f"Hall {hall + 1}",
            rack=f"{chr(65 + hall % 26)}{rack % ROOM_HOLDS + 1}", versions=chance.choice(states[model.name]),
        )  # fmt: skip


def _one(chance: random.Random, make: Make) -> Made:
    """One of its releases: mostly the newest, some one or two behind."""
    back = chance.choices((0, 1, 2), (88, 9, 3))[0]
    return make.releases[max(0, len(make.releases) - 1 - back)]


def as_reading(device: Hardware, at: datetime.datetime) -> Server:
    """What a survey of this hardware would say, without asking it."""
    return Server(
        name=device.name,
        model=device.model,
        serial=device.serial,
        uuid=device.uuid,
        tag=device.asset_tag,
        read_at=at,
        facts=Facts(
            power="On", health="OK", clock_off_s=0.2, role="Administrator", pulls=("HTTPS", "HTTP"), push="any"
        ),
        components=tuple(
            Component(
                slot=part.slot,
                kind=part.kind,
                name=part.name,
                software_id=part.software_id,
                version=part.version,
                banks=tuple(v for v in (part.version, part.spare) if v),
                updateable=True,
                pci=part.pci,
                part=part.number or None,
                serial=part.serial,
            )
            for part in device.parts
        ),
    )


def seed_fleet(count: int, mirror: Path, models: Sequence[Model] = MODELS) -> None:
    """Fill an empty site. Seeding one that has servers changes nothing."""
    from ordnung.server.catalogs.bring_in import bring_in
    from ordnung.server.fleet.models import Server as Row
    from ordnung.server.work.events import tell

    if Row.objects.exists():
        return
    seed_people()
    seed_house()
    for path in write_mirror(mirror, "https://127.20.100.1/"):
        bring_in(path.read_bytes(), path.name)
    places = list(make_places(count, models))
    for start in range(0, count, CHUNK):
        _store(places[start : start + CHUNK])
    tell("readings")


def _store(places: list[RackPlace]) -> None:
    """Servers with one reading each, a chunk in one transaction."""
    from django.db import transaction

    from ordnung.formats.readings import server_entry
    from ordnung.server.clock import now
    from ordnung.server.fleet.models import Group, Reading, keep_states
    from ordnung.server.fleet.models import Server as Row

    chance, moment = random.Random(places[0].name), now()
    ages = [datetime.timedelta(minutes=chance.choice((2, 2, 2, 30, 600, 9000))) for _ in places]
    values = [
        as_reading(build_hardware(place, place.rack, moment.timestamp), moment - age)
        for place, age in zip(places, ages, strict=True)
    ]
    heads = [server_entry(value) for value in values]
    entries = [head.pop("components") for head in heads]
    with transaction.atomic():
        names = {place.group for place in places}
        groups = {n: Group.objects.get_or_create(name=n, defaults={"may_be_away": 4})[0] for n in names}
        ids = iter(keep_states([entry for mine in entries for entry in mine]))
        rows = Row.objects.bulk_create(_row(place, value, groups) for place, value in zip(places, values, strict=True))
        readings = Reading.objects.bulk_create(
            Reading(server=row, read_at=moment - age, head=head, parts=[next(ids) for _ in mine])
            for row, age, head, mine in zip(rows, ages, heads, entries, strict=True)
        )
        for row, reading in zip(rows, readings, strict=True):
            row.latest = reading
        Row.objects.bulk_update(rows, ["latest"])


def _row(place: RackPlace, value: Server, groups: dict[str, Group]) -> Row:
    from ordnung.server.fleet.models import Server as Row

    port = 8000 + int(place.name[-3:])
    return Row(
        name=place.name,
        url=f"https://127.20.255.254:{port}",
        user="none",
        sealed_password=b"",
        room=place.room,
        rack=place.rack,
        unit=place.unit,
        height=place.model.height,
        role=place.role,
        group=groups[place.group],
        uuid=value.uuid,
        serial=value.serial,
    )


if __name__ == "__main__":
    configure_logs(for_people=True)
    django.setup()
    seed_fleet(int(sys.argv[1]), Path(sys.argv[2]))
