"""Version order (rules V1 to V12 of the planning rules).

A scheme turns a version string into a sortable *key*, or into ``None`` when the string
does not parse: such a version is *unordered* against every other and is never guessed.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Callable
from typing import Final

Key = tuple[object, ...]
"""A sortable key. Keys of one scheme compare with each other, never across schemes."""

SCHEMES: Final = ("dotted", "letter", "dated", "listed")

_DOTTED = re.compile(
    r"[vV]?(?P<numbers>[0-9]+(?:\.[0-9]+)*)"
    r"(?:-(?P<suffix>[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)|(?P<bare>[A-Za-z][0-9A-Za-z-]*(?:\.[0-9A-Za-z-]+)*))?"
    r"(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?",
    re.ASCII,
)
_LETTER = re.compile(r"([A-Za-z])([0-9]+)", re.ASCII)
_DATED = (
    re.compile(r"(?P<y>[0-9]{4})(?P<m>[0-9]{2})(?P<d>[0-9]{2})", re.ASCII),
    re.compile(r"(?P<y>[0-9]{4})\.(?P<m>[0-9]{2})\.(?P<d>[0-9]{2})", re.ASCII),
    re.compile(r"(?P<y>[0-9]{2})\.(?P<m>[0-9]{2})", re.ASCII),
)


def _identifier_key(identifier: str) -> tuple[int, int, str]:
    """Semver 2.0 clause 11.4: numeric identifiers are lower than others and compare as numbers."""
    if identifier.isdigit():
        return (0, int(identifier), "")
    return (1, 0, identifier)


def _dotted_key(version: str) -> Key | None:
    match = _DOTTED.fullmatch(version)
    if match is None:
        return None
    numbers = [int(part) for part in match["numbers"].split(".")]
    while len(numbers) > 1 and numbers[-1] == 0:
        numbers.pop()
    suffix = match["suffix"] or match["bare"]
    if suffix is None:
        return (tuple(numbers), 1, ())
    return (tuple(numbers), 0, tuple(_identifier_key(part) for part in suffix.split(".")))


def _letter_key(version: str) -> Key | None:
    match = _LETTER.fullmatch(version)
    return None if match is None else (match[1].upper(), int(match[2]))


def _dated_key(version: str) -> Key | None:
    for pattern in _DATED:
        match = pattern.fullmatch(version)
        if match is None:
            continue
        parts = match.groupdict()
        year = int(parts["y"]) + (2000 if len(parts["y"]) == 2 else 0)
        month, day = int(parts["m"]), int(parts.get("d") or 0)
        try:
            datetime.date(year, month, day or 1)
        except ValueError:
            return None
        if "d" in parts and day == 0:
            return None
        return (year, month, day)
    return None


_KEYS: Final[dict[str, Callable[[str], Key | None]]] = {
    "dotted": _dotted_key,
    "letter": _letter_key,
    "dated": _dated_key,
}


def version_key(scheme: str, version: str, listed: tuple[str, ...] = ()) -> Key | None:
    """The sortable key of a version, or None when it is unordered.

    Args:
        scheme: one of ``SCHEMES``.
        version: as the maker writes it; surrounding white space does not count (V11).
        listed: for ``listed``, the catalog's versions in order.

    Raises:
        ValueError: the scheme is unknown (V9: such a catalog is refused before this).

    >>> version_key("dotted", "2.9") < version_key("dotted", "2.10")
    True
    >>> version_key("dotted", "1.2rc2") == version_key("dotted", "1.2-rc2")
    True
    >>> version_key("letter", "A07") == version_key("letter", "a7")
    True
    >>> version_key("dated", "26.11") < version_key("dated", "20261101")
    True
    >>> version_key("dotted", "1..2") is None
    True
    """
    text = version.strip()
    if scheme == "listed":
        names = [name.strip() for name in listed]
        return (names.index(text),) if text in names else None
    if scheme not in _KEYS:
        raise ValueError(f"unknown version scheme {scheme!r}")
    return _KEYS[scheme](text)


def is_equal(scheme: str, one: str, other: str, listed: tuple[str, ...] = ()) -> bool:
    """Whether two versions are equal by the scheme (V11); unordered ones only as exact strings."""
    if one.strip() == other.strip():
        return True
    first, second = version_key(scheme, one, listed), version_key(scheme, other, listed)
    return first is not None and first == second


def is_at_least(scheme: str, version: str, bound: str, listed: tuple[str, ...] = ()) -> bool:
    """Whether ``version`` is at or above ``bound``; what cannot be ordered does not hold (R14)."""
    if version.strip() == bound.strip():
        return True
    have, want = version_key(scheme, version, listed), version_key(scheme, bound, listed)
    return have is not None and want is not None and have >= want


def is_below(scheme: str, version: str, bound: str, listed: tuple[str, ...] = ()) -> bool:
    """Whether ``version`` is strictly below ``bound``; what cannot be ordered does not hold (R14)."""
    have, want = version_key(scheme, version, listed), version_key(scheme, bound, listed)
    return have is not None and want is not None and have < want
