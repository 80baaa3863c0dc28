"""What the demo's office has decided, and three months of made-up durations by which its forecasts are sharp (N8.3)."""

from __future__ import annotations

import datetime
import random
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ordnung.core.night.costs import FAILED_WRITES
from ordnung.standins.makers import RESTART
from ordnung.standins.models import MODELS, Model
from ordnung.standins.scenario import PLACES

if TYPE_CHECKING:
    from ordnung.server.runs.models import DriftDay, KeptDuration

ZONE = "Europe/Lisbon"
WINDOWS = (
    {"name": "Thursday night", "opens": (22, 0), "closes": (4, 0), "nights": 1, "rule": "FREQ=WEEKLY;BYDAY=TH"},
    # Over the changes of the clock too: they come on last Sundays.
    {"name": "Last Sunday", "opens": (0, 30), "closes": (6, 0), "nights": 0, "rule": "FREQ=MONTHLY;BYDAY=-1SU"},
)
FIRST = datetime.date(2026, 1, 1)
KEPT, DAYS = 14, 90
"""So many durations of each release on each model, over so many days."""
SPREAD, SLOWER = 0.07, 1.08
"""Real ones lie close together, a little above what the makers say."""


def seed_house() -> None:
    """The office's zone, windows and past durations; what is there stays as it is."""
    from ordnung.server.house.models import House, MaintenanceWindow
    from ordnung.server.runs.models import DriftDay, KeptDuration
    from ordnung.server.work.events import tell

    House.objects.get_or_create(pk=1, defaults={"zone": ZONE})
    for told in WINDOWS:
        times = {key: datetime.time(*told[key]) for key in ("opens", "closes")}  # type: ignore[misc]
        rest = {"first": FIRST, "nights": told["nights"], "rule": told["rule"]}
        MaintenanceWindow.objects.get_or_create(name=told["name"], defaults={**times, **rest})
    if not KeptDuration.objects.filter(run=None).exists():
        KeptDuration.objects.bulk_create(_durations(), batch_size=500)
    if not DriftDay.objects.exists():
        DriftDay.objects.bulk_create(_days())
    tell("house")


MOVED, HEALED = "gauge pair", "vault ring"
"""Groups whose work the desk moves off and back, and those that it is asked about whether they are whole again."""
MOVES_S, HEALS_S = 60, 300


def seed_desk(url: str, secret: str) -> None:
    """The work desk, and the groups that it serves; where it is follows the stand-ins."""
    from ordnung.server.fleet.models import Group
    from ordnung.server.house.models import Hook

    hook = Hook.objects.filter(name="work desk").first()
    if hook is not None:
        Hook.objects.filter(pk=hook.pk).update(url=url)
        return
    hook = Hook(name="work desk", url=url)
    hook.set_secret(secret)
    hook.save()
    moved = Group.objects.filter(name__startswith=MOVED)
    moved.update(mover="hook", hook=hook, off_seconds=MOVES_S, back_seconds=MOVES_S)
    Group.objects.filter(name__startswith=HEALED).update(healer="hook", hook=hook, heal_seconds=HEALS_S)


def _durations() -> Iterator[KeptDuration]:
    from ordnung.server.clock import now
    from ordnung.server.runs.models import KeptDuration

    chance, at = random.Random(7), now()
    seq = 0
    for model, kind, product, version, seconds in _kinds():
        for _ in range(KEPT):
            seq += 1
            took = seconds * SLOWER * chance.lognormvariate(0.0, SPREAD)
            ago = datetime.timedelta(days=chance.uniform(1, DAYS))
            yield KeptDuration(
                server="an earlier run", seq=seq, at=at - ago, model=model.name, kind=kind, product=product,
                version=version, seconds=round(took, 1), failed=kind == "writing" and chance.random() < FAILED_WRITES,
            )  # fmt: skip


def _kinds() -> Iterator[tuple[Model, str, str, str, float]]:
    """Every release of what is fitted in each model, and the resets that it knows."""
    for model in MODELS:
        makes = {make.id: make for _, make in model.fitted}
        for make in makes.values():
            for release in make.releases:
                yield model, "writing", make.id, release.version, float(make.write_seconds)
        kinds: dict[str, float] = {}
        for make in makes.values():
            known = kinds.get(make.activation, 0.0)
            kinds[make.activation] = max(known, float(make.reset_seconds))
        for kind in sorted(kinds):
            yield model, kind, "", "", model.restart_seconds if kind == RESTART else kinds[kind]


STEPS = ((90, 0.25), (63, 0.62), (49, 0.35), (22, 0.8), (8, 0.55))
"""So many days ago so large a share of each model was off: with each issue more, after each night less."""


def _days() -> Iterator[DriftDay]:
    """How the models stood, day by day until yesterday."""
    from ordnung.server.clock import now
    from ordnung.server.runs.models import DriftDay

    chance, today = random.Random(11), now().date()
    for model in MODELS:
        servers = sum(place.model.name == model.name for place in PLACES)
        # An issue concerns each model in its own measure, and each night brings some of them level.
        shares = [(since + chance.randint(-3, 3), share * chance.uniform(0.7, 1.3)) for since, share in STEPS[1:]]
        for ago in range(DAYS, 0, -1):
            share = [STEPS[0][1], *(share for since, share in shares if ago <= since)][-1]
            off = min(servers, round(servers * share))
            exposed = min(off, round(off * (0.7 if ago <= 22 else 0.3)))
            day = today - datetime.timedelta(days=ago)
            yield DriftDay(day=day, model=model.name, servers=servers, off=off, exposed=exposed)
