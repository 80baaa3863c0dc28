"""``ordnung timetable``: a night worked out from files."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import click

from ordnung.core.night.certainty import plan_surely
from ordnung.core.night.forecast import Forecast, Quantiles
from ordnung.core.night.itinerary import Duty, duty_of, round_minutes
from ordnung.core.night.limits import NightLimits
from ordnung.core.night.timetable import Seat, Timetable, plan_timetable
from ordnung.fieldkit.inputs import load_house
from ordnung.fieldkit.planning import takes_house
from ordnung.fieldkit.show import print_json, print_table
from ordnung.formats.errors import FormatError
from ordnung.formats.limits import LimitsFile, parse_limits, place_in

_PATH = click.Path(exists=True, dir_okay=False, path_type=Path)


class _WrongUsageError(click.ClickException):
    exit_code = 2


@click.command()
@takes_house
@click.option("--limits", type=_PATH, help="Groups, waves, windows; without them the usual ones hold.")
@click.option("--samples", type=click.IntRange(1, 100_000), help="Forecast by so many nights played through.")
@click.option("--seed", type=click.IntRange(0), default=0, show_default=True, help="Of the forecast.")
def timetable(
    readings: Path,
    catalogs: tuple[Path, ...],
    rules: Path | None,
    as_json: bool,
    limits: Path | None,
    samples: int | None,
    seed: int,
) -> int:
    """When each server goes, under all limits, and when it will probably be over."""
    standings, _ = load_house(readings, catalogs, rules)
    told = _load_limits(limits, [s.server for s in standings])
    duties = [duty_of(s, place_in(s.server, s.route.outages > 0)) for s in standings]
    planned, found = _plan(duties, told.limits, samples, seed)
    if as_json:
        print_json(timetable_row(planned, found, told.start))
    else:
        _print(planned, found, told.start)
    return 0


def _load_limits(path: Path | None, servers: list[Any]) -> LimitsFile:
    if path is None:
        return LimitsFile(start=None, limits=NightLimits())
    try:
        return parse_limits(path.read_bytes(), servers, path.name)
    except FormatError as error:
        raise _WrongUsageError(str(error)) from None


def _plan(duties: list[Duty], limits: NightLimits, samples: int | None, seed: int) -> tuple[Timetable, Forecast | None]:
    if samples is None:
        return plan_timetable(duties, limits), None
    return plan_surely(duties, limits, samples=samples, seed=seed)


def timetable_row(planned: Timetable, found: Forecast | None, start: datetime.datetime | None) -> dict[str, Any]:
    """The answer as the JSON of the command line has it (``docs/rules/night.md``, on files; A33, A36, A37)."""
    return {
        "start": None if start is None else start.isoformat().replace("+00:00", "Z"),
        "servers": [_server_row(seat) for seat in planned.seats],
        "left": [{"server": o.server, "reason": o.reason} for o in planned.left],
        "makespan": planned.makespan,
        "bound": planned.bound,
        "ratio": planned.ratio,
        "forecast": None if found is None else _forecast_row(found),
    }


def _server_row(seat: Seat) -> dict[str, Any]:
    placed = seat.placed
    steps = [
        {
            "kind": step.kind,
            "slot": step.slot,
            "to": step.to,
            "ahead": number < placed.itinerary.ahead,
            "start": start,
            "end": start + step.seconds,
            **({"assumed": True} if step.assumed else {}),
        }
        for number, (start, step) in enumerate(zip(placed.starts, placed.itinerary.steps, strict=True))
    ]
    return {"server": seat.server, "wave": seat.wave, "steps": steps, "away": [list(span) for span in placed.aways]}


def _forecast_row(found: Forecast) -> dict[str, Any]:
    return {
        "samples": found.samples,
        "seed": found.seed,
        "end": _quantiles(found.end),
        "servers": [{"server": c.server, **_quantiles(c.done), "in_time": c.in_time} for c in found.servers],
        "binds": None
        if found.binds is None
        else {"limit": found.binds.limit, "server_minutes": found.binds.server_minutes},
    }


def _quantiles(q: Quantiles) -> dict[str, float]:
    return {"p50": q.p50, "p90": q.p90, "p99": q.p99}


def _print(planned: Timetable, found: Forecast | None, start: datetime.datetime | None) -> None:
    chances = {c.server: c for c in found.servers} if found else {}
    rows = []
    for seat in planned.seats:
        chance = chances.get(seat.server)
        away = ", ".join(f"{_clock(a, start)}–{_clock(b, start)}" for a, b in seat.placed.aways)
        begins, ends = _clock(seat.placed.begins, start), _clock(seat.placed.end, start)
        sure = _clock(chance.done.p90, start) if chance else None
        rows.append((seat.server, seat.wave, begins, away or "never", ends, sure))
    print_table(("server", "wave", "begins", "away", "ends", "nine in ten by"), rows)
    for left in planned.left:
        click.echo(f"{left.server} is left over: {left.reason}")
    click.echo(f"{round_minutes(planned.makespan)} min; no timetable can take less than {int(planned.bound // 60)} min")
    if found:
        end = found.end
        by = [_clock(q, start) for q in (end.p50, end.p90, end.p99)]
        click.echo(f"done with even chance by {by[0]}, nine in ten by {by[1]}, 99 in 100 by {by[2]}")
        if found.binds:
            click.echo(f"what delays most: {found.binds.limit}, {found.binds.server_minutes:g} minutes of servers")


def _clock(seconds: float, start: datetime.datetime | None) -> str:
    if start is None:
        minutes = round(seconds / 60)
        return f"+{minutes // 60}:{minutes % 60:02}"
    return (start + datetime.timedelta(seconds=seconds)).strftime("%d %b %H:%M")
