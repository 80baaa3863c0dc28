"""What fits on a medium, and how a repository is spread over several of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

GB = 10**9
MEDIA = (
    ("CD", 360_000 * 2048),
    ("DVD", 2_295_104 * 2048),
    ("8 GB stick", 8 * GB - 8 * GB // 25),
    ("16 GB stick", 16 * GB - 16 * GB // 25),
    ("32 GB stick", 32 * GB - 32 * GB // 25),
    ("64 GB stick", 64 * GB - 64 * GB // 25),
)
"""Usable bytes: sectors of ECMA-130 (80 min) and ECMA-267 discs; sticks less 4 % for their file system."""
BLOCK = 2048
"""Sizes are rounded up to a disc's sector."""


class TooLargeError(ValueError):
    """One file alone doesn't fit on the medium. ``name`` and ``size`` say which."""

    def __init__(self, name: str, size: int, capacity: int) -> None:
        self.name, self.size, self.capacity = name, size, capacity
        super().__init__(f"{name} has {size} bytes, the medium takes {capacity}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """Which files go on which medium (counted from 1), and how full each gets."""

    places: dict[str, int]
    filled: tuple[int, ...]

    @property
    def count(self) -> int:
        """How many media there are."""
        return len(self.filled)


def spread(sizes: Sequence[tuple[str, int]], capacity: int | None, everywhere: int = 0) -> Spread:
    """Spread files over as few media as first-fit decreasing finds (at most 11/9 of the fewest, plus one).

    Args:
        sizes: name and bytes of each file.
        capacity: bytes of one medium; None puts all on one.
        everywhere: bytes that must lie on each medium (the seal, the packing list, the catalogs).

    Raises:
        TooLargeError: a file, or what must lie on each, doesn't fit on an empty medium.
    """
    if capacity is None:
        total = everywhere + sum(_rounded(size) for _, size in sizes)
        return Spread(places={name: 1 for name, _ in sizes}, filled=(total,))
    if everywhere > capacity:
        raise TooLargeError("seal, packing list and catalogs", everywhere, capacity)
    filled: list[int] = []
    places: dict[str, int] = {}
    for name, size in sorted(sizes, key=lambda pair: (-pair[1], pair[0])):
        size = _rounded(size)
        if everywhere + size > capacity:
            raise TooLargeError(name, size, capacity)
        place = next((n for n, used in enumerate(filled) if used + size <= capacity), None)
        if place is None:
            filled.append(everywhere)
            place = len(filled) - 1
        filled[place] += size
        places[name] = place + 1
    return Spread(places=places, filled=tuple(filled) or (everywhere,))


def _rounded(size: int) -> int:
    return -(-size // BLOCK) * BLOCK
