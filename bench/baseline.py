"""The effect of a draft at ten thousand servers, and bringing in a catalog of five thousand releases."""

from __future__ import annotations

import dataclasses
import datetime
import json
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from ordnung.core.assessment import assess_fleet
from ordnung.core.components import Server
from ordnung.core.effect import CostMemory, compare_baselines
from ordnung.core.folds import fold_fleet
from ordnung.core.matching import Catalogs
from ordnung.core.rules import FIXED_RULES, Rule
from ordnung.demo.fleet import as_reading, make_places
from ordnung.formats.catalog import parse_catalog
from ordnung.standins.makers import write_mirror
from ordnung.standins.models import build_hardware

SERVERS, RELEASES, PROMISED_S = 10_000, 5_000, 0.2
"""A draft's effect is promised under 200 ms."""


class DraftBench(NamedTuple):
    """First and repeated effect of each kind of edit, as shares of what is promised; and against judging anew."""

    first: dict[str, float]
    again: float
    anew: float
    states: int


def make_fleet(number: int, now: datetime.datetime) -> tuple[list[Server], Catalogs]:
    """So many servers in three hundred states, and the catalogs of their makers."""
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch:
        paths = write_mirror(Path(scratch), "https://127.20.100.1/")
        catalogs = Catalogs(tuple(parse_catalog(path.read_bytes()) for path in paths))
    like: dict[object, Server] = {}
    servers: list[Server] = []
    for place in make_places(number):
        key = (place.model.name, tuple(sorted(place.versions.items())))
        if key not in like:
            like[key] = as_reading(build_hardware(place, place.rack, now.timestamp), now)
        servers.append(dataclasses.replace(like[key], name=place.name, group=place.group))
    return servers, catalogs


def bench_draft() -> DraftBench:
    """What each kind of edit takes, the first time it is made and while it is gone on with."""
    now = datetime.datetime.now(datetime.UTC)
    servers, catalogs = make_fleet(SERVERS, now)
    standings = assess_fleet(servers, catalogs, FIXED_RULES, now.date())
    folds, groups, memory = fold_fleet(standings), {s.name: s.group for s in servers}, CostMemory()
    models = sorted({s.model for s in servers})
    edits = {
        "nothing": (FIXED_RULES, {}),
        "hold every NIC": ((Rule(do="hold", where={"kind": ("nic",)}), *FIXED_RULES), {}),
        "hold a group": ((Rule(do="hold", where={"group": (servers[0].group,)}), *FIXED_RULES), {}),
        "wait 200 days": ((FIXED_RULES[0], Rule(do="wait", days=200)), {}),
        "all pins one issue back": (FIXED_RULES, {(m, "Corvane", "corvane-servers"): "2026-09" for m in models}),
        "all pins a year back": (FIXED_RULES, {(m, "Corvane", "corvane-servers"): "2025-11" for m in models}),
    }  # fmt: skip

    def effect(rules, follows):  # type: ignore[no-untyped-def]
        compare_baselines(folds, None, (catalogs.following(follows), rules), now.date(), memory, groups)

    first = {name: _time(lambda e=edit: effect(*e)) / PROMISED_S for name, edit in edits.items()}
    again = statistics.median(_time(lambda e=edit: effect(*e)) for edit in edits.values() for _ in range(3))
    anew = _time(lambda: assess_fleet(servers, catalogs, edits["wait 200 days"][0], now.date()))
    return DraftBench(first, again / PROMISED_S, anew / again, len(folds))


def bench_bring_in() -> tuple[float, float]:
    """(reading a catalog of 5,000 releases / reading it as bare JSON, the same as a share of one second)."""
    raw = _catalog()
    ours, bare = _best(lambda: parse_catalog(raw)), _best(lambda: json.loads(raw))
    return ours / bare, ours


def _catalog() -> bytes:
    releases = [
        {
            "version": f"{n}.0.0", "released": "2026-01-01", "importance": "stability", "activation": "server reboot",
            "fixes": [{"id": f"SA-{n}", "score": 7.5, "title": "A made-up fault"}], "write_seconds": 120,
            "payload": {"path": f"a/b-{n}.pldm", "size": 1000 + n, "sha256": f"{n:064x}"}, "notes": "Made up. " * 8,
        }
        for n in range(10)
    ]  # fmt: skip
    products = [
        {
            "id": f"p{n}", "name": f"Product {n}", "kind": "nic", "scheme": "dotted",
            "fits": [{"software_id": f"S{n}"}], "releases": releases,
        }
        for n in range(RELEASES // 10)
    ]  # fmt: skip
    head = {"format": "ordnung.catalog/1", "maker": "Made up", "catalog": "c", "issue": "1", "issued": "2026-11-04"}
    return json.dumps({**head, "products": products}).encode()


def _time(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _best(work: Callable[[], object], rounds: int = 3) -> float:
    return min(_time(work) for _ in range(rounds))
