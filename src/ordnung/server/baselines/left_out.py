"""What a person took out of the work to be done, remembered with reason, person and day (N3.4)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from ordnung.core.folds import Fold
from ordnung.core.house import Standing
from ordnung.core.review import without
from ordnung.server.baselines.models import LeftOut


def reasons(servers: Iterable[str] | None = None) -> dict[str, dict[str, str]]:
    """By server and slot, why it stays as it is."""
    rows = LeftOut.objects.filter(put_back_at=None)
    if servers is not None:
        wanted = set(servers)
        rows = rows.filter(server__in=wanted) if len(wanted) < 500 else rows
    found: dict[str, dict[str, str]] = {}
    for row in rows:
        found.setdefault(row.server, {})[row.slot] = row.reason
    return found


def reviewed_folds(folds: Sequence[Fold], standings: Mapping[str, Standing]) -> list[Fold]:
    """Folds as a run takes them: a server of which something was taken out stands for itself."""
    told = reasons(name for fold in folds for name in fold.names)
    found = []
    for fold in folds:
        rest = tuple(name for name in fold.names if name not in told)
        found += [Fold(without(standings[name], told[name]), (name,)) for name in fold.names if name in told]
        if rest:
            found.append(Fold(fold.standing, rest))
    return found


def reviewed(standings: Sequence[Standing]) -> list[Standing]:
    """Standings as a run or a repository takes them: what was taken out stays as it is."""
    told = reasons(s.server.name for s in standings)
    return [without(s, told[s.server.name]) if s.server.name in told else s for s in standings]
