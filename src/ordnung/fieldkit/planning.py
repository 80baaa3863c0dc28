"""``ordnung drift`` and ``ordnung route``: the core on files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from ordnung.core.drift import OFF_BASELINE
from ordnung.core.drift_rows import drift_rows, total_rows
from ordnung.core.route import Route
from ordnung.fieldkit.inputs import load_house
from ordnung.fieldkit.show import as_json, print_json, print_table

_PATH = click.Path(exists=True, dir_okay=False, path_type=Path)


def takes_house(command: Callable[..., Any]) -> Callable[..., Any]:
    """Readings, catalogs, rules, and whether JSON is wanted: what every planning command takes."""
    for option in (
        as_json,
        click.option("--rules", type=_PATH, help="House rules; without them the fixed ones hold."),
        click.option("--catalog", "catalogs", type=_PATH, multiple=True, required=True),
        click.option("--readings", type=_PATH, required=True),
    ):
        command = option(command)
    return command


@click.command()
@takes_house
@click.option("--check", is_flag=True, help="Exit with 1 when anything is off the baseline.")
def drift(readings: Path, catalogs: tuple[Path, ...], rules: Path | None, as_json: bool, check: bool) -> int:
    """How far each component is from the baseline."""
    standings, _ = load_house(readings, catalogs, rules)
    rows = [row for standing in standings for row in drift_rows(standing)]
    totals = total_rows(rows)
    if as_json:
        print_json({"components": rows, "totals": totals})
    else:
        columns = ("server", "slot", "product", "installed", "target", "verdict", "behind", "reason")
        print_table(columns, [[row[name] for name in columns] for row in rows])
        click.echo(", ".join(f"{n} {word}" for word, n in totals.items()))
    off = any(d.verdict in OFF_BASELINE for standing in standings for d in standing.drift)
    return 1 if check and off else 0


@click.command()
@takes_house
def route(readings: Path, catalogs: tuple[Path, ...], rules: Path | None, as_json: bool) -> int:
    """The fewest resets that lead each server to its baseline, with the proof."""
    standings, _ = load_house(readings, catalogs, rules)
    if as_json:
        print_json({"servers": [route_row(s.server.name, s.route) for s in standings]})
        return 0
    rows: list[tuple[object, ...]] = []
    for standing in standings:
        for number, step in enumerate(standing.route.rounds, start=1):
            writes = ", ".join(f"{w.slot} {w.source} → {w.to}" for w in step.writes) or "nothing to write"
            rows.append((standing.server.name, number, writes, step.reset or "no reset"))
        rows += [
            (standing.server.name, "–", f"{lost.slot} stays: {lost.reason}", "") for lost in standing.route.stranded
        ]
    print_table(("server", "round", "writes", "reset"), rows)
    return 0


def route_row(server: str, found: Route) -> dict[str, Any]:
    """The route of one server as the JSON of the command line has it (R18, R19, R22)."""
    return {
        "server": server,
        "rounds": [
            {
                "writes": [
                    {"slot": w.slot, "product": w.product, "from": w.source, "to": w.to, "seconds": w.seconds}
                    for w in step.writes
                ],
                "reset": step.reset,
            }
            for step in found.rounds
        ],
        "outages": found.outages,
        "power_cycles": found.power_cycles,
        "restarts": found.restarts,
        "stranded": [{"slot": s.slot, "reason": s.reason} for s in found.stranded],
        "proven": found.proven,
    }
