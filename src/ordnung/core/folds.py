"""Equal servers folded into one: the same model, versions, targets and way (N3.2)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position


@dataclass(frozen=True, slots=True)
class Placed:
    """Equal servers of one model under a baseline: where each of their components stands."""

    model: str
    positions: tuple[Position, ...]
    names: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Fold:
    """Servers in one and the same state; ``standing`` is that of the first of ``names``."""

    standing: Standing
    names: tuple[str, ...]

    @property
    def placed(self) -> Placed:
        """The fold as it stands now."""
        return Placed(self.standing.server.model, self.standing.positions, self.names)


def fold_fleet(standings: Iterable[Standing]) -> tuple[Fold, ...]:
    """The folds of a house, in order of their first server. Unread servers stay alone."""
    numbers: dict[int, int] = {}
    by_sign: dict[tuple[object, ...], int] = {}
    heads: list[Standing] = []
    names: list[list[str]] = []
    for standing in standings:
        number = numbers.get(id(standing.signature)) if standing.positions else None
        if number is None:
            sign = standing.signature if standing.positions else (standing.server.name,)
            number = by_sign.setdefault(sign, len(heads))
            if standing.positions:
                numbers[id(standing.signature)] = number
            if number == len(heads):
                heads.append(standing)
                names.append([])
        names[number].append(standing.server.name)
    return tuple(Fold(head, tuple(mine)) for head, mine in zip(heads, names, strict=True))
