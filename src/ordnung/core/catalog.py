"""The catalog model: makers' lists of products and their releases in dated issues."""

from __future__ import annotations

import bisect
import datetime
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

from ordnung.core.versions import Key, version_key

ACTIVATIONS = ("at once", "controller restart", "server reboot", "power cycle")
IMPORTANCES = ("routine", "stability", "security")
"""From least to most."""
MANY_VERSIONS = 10_000
"""So many keys a product remembers; versions come from devices, so there must be an end to it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Fix:
    """One thing a release puts right; ``score`` is 0 to 10 or unknown."""

    id: str
    score: float | None = None
    title: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Payload:
    """The file that carries a release. ``size`` in bytes, ``sha256`` in lower-case hex.

    ``form`` is ``pldm`` for a package that tells whom it is for, ``opaque`` for a file of which only the
    catalog (made from a side-car) tells it. ``signature`` is the maker's over the checksum, in hex, with
    its ``generation``; empty and None where the maker has none.
    """

    path: str
    size: int
    sha256: str
    form: str = "pldm"
    signature: str = ""
    generation: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Wrapping:
    """The same release wrapped for the way it is brought: ``controller``, ``host`` or ``disc`` (N2.8)."""

    bearer: str
    payload: Payload


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """A condition on the active version of every component of a product in the same server."""

    product: str
    at_least: str | None = None
    below: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Release:
    """One version of a product. What is None is unknown, not zero."""

    version: str
    released: datetime.date | None = None
    importance: str | None = None
    fixes: tuple[Fix, ...] = ()
    payload: Payload | None = None
    wrappings: tuple[Wrapping, ...] = ()
    direct_from: str | None = None
    needs: tuple[Need, ...] = ()
    activation: str | None = None
    write_seconds: float | None = None
    reset_seconds: float | None = None
    alone: bool = False
    floor_after: str | None = None
    notes: str = ""
    hands_before: str = ""
    hands_after: str = ""
    """What a person does at the server before or after it is installed (P3)."""
    announces: tuple[str, ...] = ()
    """What it changes around the versions and says so: ``setting NAME``, ``boot order``, ``links`` (N6.1)."""

    @property
    def size(self) -> int | None:
        """Bytes that are transferred for it: its payload's, else the largest wrapping's; None is unknown (A10)."""
        if self.payload is not None:
            return self.payload.size
        return max((w.payload.size for w in self.wrappings), default=None)

    @property
    def lacks(self) -> str:
        """Of one without a payload: why there is none for a controller, which brings all that is brought (N2.8)."""
        others = " and ".join(sorted({wrapping.bearer for wrapping in self.wrappings}))
        return f"the catalog has it for {others} alone" if others else "the catalog names no payload for it"


@dataclass(frozen=True)
class Product:
    """A kind of component as its maker sells it, with its releases, oldest first."""

    id: str
    name: str
    kind: str
    scheme: str = "listed"
    fits: tuple[dict[str, str], ...] = ()
    releases: tuple[Release, ...] = ()

    @cached_property
    def listed(self) -> tuple[str, ...]:
        """The versions in the catalog's order."""
        return tuple(release.version for release in self.releases)

    @cached_property
    def _places(self) -> dict[str, int]:
        return {name.strip(): place for place, name in reversed(list(enumerate(self.listed)))}

    def key(self, version: str) -> Key | None:
        """The sortable key of any version string under this product's scheme, or None."""
        known = self._known_keys
        if version not in known:
            if len(known) > MANY_VERSIONS:
                known.clear()
            known[version] = self._find_key(version)
        return known[version]

    @cached_property
    def _known_keys(self) -> dict[str, Key | None]:
        return {}

    def _find_key(self, version: str) -> Key | None:
        if self.scheme == "listed":
            place = self._places.get(version.strip())
            return None if place is None else (place,)
        return version_key(self.scheme, version)

    @cached_property
    def ordered(self) -> tuple[Release, ...]:
        """Releases whose version parses, lowest first (V10, V12)."""
        keyed = [(key, release) for release in self.releases if (key := self.key(release.version)) is not None]
        return tuple(release for _, release in sorted(keyed, key=lambda pair: pair[0]))

    @cached_property
    def _keys(self) -> list[Key]:
        """The keys of ``ordered``, which they are sorted by."""
        return [key for release in self.ordered if (key := self.key(release.version)) is not None]

    @cached_property
    def _by_key(self) -> dict[Key, Release]:
        return dict(zip(self._keys, self.ordered, strict=True))

    def find(self, version: str) -> Release | None:
        """The release equal to ``version`` by the scheme (V11), or None."""
        key = self.key(version)
        if key is not None:
            return self._by_key.get(key)
        return next((r for r in self.releases if r.version.strip() == version.strip()), None)

    def between(self, above: str | None, upto: str) -> tuple[Release, ...]:
        """The orderable releases in (above, upto]; empty when either cannot be ordered (D8)."""
        low = self.key(above) if above is not None else ()
        high = self.key(upto)
        if low is None or high is None:
            return ()
        return self.ordered[bisect.bisect_right(self._keys, low) : bisect.bisect_right(self._keys, high)]

    def rank(self, version: str) -> int | None:
        """2 i + 1 for the i-th orderable release, the even number between for what lies between; None unordered."""
        key = self.key(version)
        if key is None:
            return None
        lower = bisect.bisect_left(self._keys, key)
        return 2 * lower + (lower < len(self._keys) and self._keys[lower] == key)


@dataclass(frozen=True, slots=True, kw_only=True)
class Issue:
    """One dated appearance of a catalog. No ``models`` means that it covers every model (D2)."""

    maker: str
    catalog: str
    issue: str
    issued: datetime.date
    base: str = ""
    models: tuple[str, ...] = ()
    products: tuple[Product, ...] = ()
    signed_by: str = ""
    """The name of the trusted key whose signature was found good; empty for an unsigned issue."""

    @property
    def name(self) -> str:
        """Maker and issue, as people speak of it."""
        return f"{self.maker} {self.issue}"

    def covers(self, model: str) -> bool:
        """Whether this issue speaks for servers of ``model``."""
        return not self.models or model in self.models


def worst_importance(releases: Iterable[Release]) -> str | None:
    """The worst known importance among releases, or None."""
    known = [r.importance for r in releases if r.importance in IMPORTANCES]
    return max(known, key=IMPORTANCES.index, default=None)
