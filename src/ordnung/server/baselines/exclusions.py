"""What a person took out of the work to be done, remembered with reason, person and day (N3.4)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from django.db import transaction

from ordnung.core.assessment import Standing
from ordnung.core.folds import Fold
from ordnung.core.review import without
from ordnung.server.baselines.models import Exclusion
from ordnung.server.clock import now
from ordnung.server.work.events import tell


def reasons(servers: Iterable[str] | None = None) -> dict[str, dict[str, str]]:
    """By server and slot, why it stays as it is."""
    rows = Exclusion.objects.filter(put_back_at=None)
    if servers is not None:
        names = set(servers)
        rows = rows.filter(server__in=names) if len(names) < 500 else rows
    found: dict[str, dict[str, str]] = {}
    for row in rows:
        found.setdefault(row.server, {})[row.slot] = row.reason
    return found


def reviewed_folds(folds: Sequence[Fold], standings: Mapping[str, Standing]) -> list[Fold]:
    """Folds as a run takes them: a server of which something was taken out stands for itself."""
    by_place = reasons(name for fold in folds for name in fold.names)
    found = []
    for fold in folds:
        rest = tuple(name for name in fold.names if name not in by_place)
        found += [Fold(without(standings[name], by_place[name]), (name,)) for name in fold.names if name in by_place]
        if rest:
            found.append(Fold(fold.standing, rest))
    return found


def reviewed(standings: Sequence[Standing]) -> list[Standing]:
    """Standings as a run or a repository takes them: what was taken out stays as it is."""
    by_place = reasons(s.server.name for s in standings)
    return [without(s, by_place[s.server.name]) if s.server.name in by_place else s for s in standings]


def excluded() -> list[Exclusion]:
    """What is left out now."""
    return list(Exclusion.objects.filter(put_back_at=None))


def leave_out(places: Collection[tuple[str, str]], reason: str, person: str) -> None:
    """Leave components, by server and slot, as they are; an earlier reason for the same is replaced."""
    with transaction.atomic():
        before = [row.pk for row in excluded() if (row.server, row.slot) in places]
        Exclusion.objects.filter(pk__in=before).delete()
        Exclusion.objects.bulk_create(
            Exclusion(server=server, slot=slot, reason=reason, by=person, at=now()) for server, slot in sorted(places)
        )
        tell("left-out")


def put_back(places: Collection[tuple[str, str]], person: str) -> None:
    """Take components into the work to be done again. That they were left out stays on record."""
    with transaction.atomic():
        rows = [row.pk for row in excluded() if (row.server, row.slot) in places]
        Exclusion.objects.filter(pk__in=rows).update(put_back_at=now(), put_back_by=person)
        tell("left-out")
