"""What the house has decided, and how it is changed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, fields

from django.conf import settings

from ordnung.core.components import KINDS
from ordnung.core.night.recurring import WindowRuleError, find_zone
from ordnung.engine.entries import Remedy
from ordnung.engine.world import USUAL, Choice, RemedyException
from ordnung.server.audit.recording import record
from ordnung.server.house.models import House
from ordnung.server.problems import Problem
from ordnung.server.shapes import limited, row_from
from ordnung.server.work.events import tell

MOST = 100_000
MOST_EXCEPTIONS = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class RemedyOtherwise:
    """What is done with a remedy for a model or a kind of component; empty is any."""

    remedy: str = limited(max_length=40)
    choice: str = limited(max_length=40)
    model: str = limited(max_length=200, allow_blank=True, default="")
    kind: str = limited(max_length=40, allow_blank=True, default="")


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseRow:
    """The house's settings. ``at_once`` None: ``usual_at_once``, as the installation says."""

    zone: str
    at_once: int | None
    usual_at_once: int
    transfers: int
    bytes_per_second: int | None
    racks: dict[str, int]
    rooms: dict[str, int]
    certainty: float
    approval: bool
    starter_apart: bool
    remedies: dict[str, str]
    remedy_exceptions: list[RemedyOtherwise]
    stop_share: int
    patience_minutes: int
    reading_hours: int


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseChange:
    """Everything as it shall be."""

    zone: str = limited(max_length=100)
    at_once: int | None = limited(min_value=1, max_value=MOST, allow_null=True, default=None)
    transfers: int = limited(min_value=1, max_value=1000)
    bytes_per_second: int | None = limited(min_value=1, max_value=10**12, allow_null=True, default=None)
    racks: dict[str, int]
    rooms: dict[str, int]
    certainty: float = limited(min_value=0.5, max_value=0.99)
    approval: bool
    starter_apart: bool
    remedies: dict[str, str] = limited(default=dict)
    remedy_exceptions: list[RemedyOtherwise] = limited(default=list)
    stop_share: int = limited(min_value=0, max_value=100, default=25)
    patience_minutes: int = limited(min_value=1, max_value=7 * 1440, default=60)
    reading_hours: int = limited(min_value=1, max_value=8784)


def house() -> House:
    """The one row."""
    return House.objects.get_or_create(pk=1)[0]


def house_row() -> HouseRow:
    """The house's settings as they are given out."""
    row = house()
    chosen = {str(remedy): str(choice) for remedy, choice in remedies(row).items()}
    otherwise = [RemedyOtherwise(**e) for e in row.remedy_exceptions]
    return row_from(HouseRow, row, usual_at_once=settings.AT_ONCE, remedies=chosen, remedy_exceptions=otherwise)


def remedies(row: House) -> dict[Remedy, Choice]:
    """What the house lets be done with each remedy."""
    return {remedy: Choice(row.remedies.get(str(remedy), USUAL[remedy])) for remedy in Remedy}


def remedy_exceptions(row: House) -> tuple[RemedyException, ...]:
    """Where it is otherwise, in the order in which they are asked."""
    return tuple(
        RemedyException(remedy=Remedy(e["remedy"]), choice=Choice(e["choice"]), model=e["model"], kind=e["kind"])
        for e in row.remedy_exceptions
    )


def at_once(row: House) -> int:
    """How many servers are worked on at one time over the whole site (T6)."""
    return row.at_once if row.at_once is not None else settings.AT_ONCE


def change_house(wanted: HouseChange) -> None:
    """Make these the house's settings. Raises Problem that names the field."""
    try:
        find_zone(wanted.zone)
    except WindowRuleError as error:
        raise Problem("format", str(error), field=error.field) from None
    for name in ("racks", "rooms"):
        _demand_numbers(name, getattr(wanted, name))
    _demand_choices(wanted.remedies.items(), "remedies")
    _demand_exceptions(wanted.remedy_exceptions)
    row = house()
    before = {f.name: getattr(row, f.name) for f in fields(wanted)}
    after = {f.name: getattr(wanted, f.name) for f in fields(wanted)}
    after["remedy_exceptions"] = [asdict(e) for e in wanted.remedy_exceptions]
    House.objects.filter(pk=row.pk).update(**after)
    changed = [name for name in after if after[name] != before[name]]
    record(before={name: before[name] for name in changed}, after={name: after[name] for name in changed})
    tell("house")


def _demand_choices(chosen: Iterable[tuple[str, str]], field: str) -> None:
    known, choices = {str(remedy) for remedy in Remedy}, {str(choice) for choice in Choice}
    for name, choice in chosen:
        if name not in known or choice not in choices:
            raise Problem("format", f"{name[:60]} can't be {choice[:60]}.", field=field)


def _demand_exceptions(exceptions: Sequence[RemedyOtherwise]) -> None:
    field = "remedy_exceptions"
    _demand_choices(((e.remedy, e.choice) for e in exceptions), field)
    if len(exceptions) > MOST_EXCEPTIONS:
        raise Problem("format", f"There are at most {MOST_EXCEPTIONS} exceptions.", field=field)
    for one in exceptions:
        if one.kind and one.kind not in KINDS:
            raise Problem("format", f"{one.kind} is no kind of component.", field=field)
        if not (one.kind or one.model.strip()):
            raise Problem("format", "An exception names a model, a kind of component, or both.", field=field)


def _demand_numbers(field: str, numbers: Mapping[str, int]) -> None:
    for name, number in numbers.items():
        if not name.strip() or len(name) > 200 or not 0 <= number <= MOST:
            raise Problem(
                "format", f"{name[:60] or 'A limit without a name'} can't be limited to {number}.", field=field
            )
