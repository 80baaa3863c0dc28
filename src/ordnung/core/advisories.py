"""Security advisories against this fleet: which servers run something affected, which release ends it (N2.5).

Advisories are those of CSAF 2.0; the words for a status are ours: ``affected``, ``fixed``,
``not affected`` and ``open`` (under investigation).
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ordnung.core.catalog import Product
from ordnung.core.folds import Fold
from ordnung.core.matching import Catalogs
from ordnung.core.versions import Key

STATUSES = ("affected", "open", "fixed", "not affected")
"""From what weighs most to what weighs least when statements overlap: a doubt counts against the device."""


@dataclass(frozen=True, slots=True)
class Range:
    """Versions between bounds: (comparator, version) pairs as a ``vers`` specifier lists them; empty is every version.

    Comparators are ``=``, ``!=``, ``<``, ``<=``, ``>``, ``>=``.
    """

    bounds: tuple[tuple[str, str], ...] = ()

    def holds(self, product: Product, version: str) -> bool | None:
        """Whether a version lies inside; None when it can't be ordered against a bound."""
        if any(version.strip() == bound.strip() for mark, bound in self.bounds if mark in ("=", "<=", ">=")):
            return True
        key = product.key(version)
        keyed = [(mark, product.key(bound)) for mark, bound in self.bounds]
        if not keyed:
            return True
        if key is None or any(bound is None for _, bound in keyed):
            return None
        pairs = [(mark, bound) for mark, bound in keyed if bound is not None]
        if any(bound == key for mark, bound in pairs if mark == "!="):
            return False
        if any(bound == key for mark, bound in pairs if mark in ("=", "<=", ">=")):
            return True
        if all(mark == "!=" for mark, _ in pairs):
            return True
        return _between(key, [(bound, mark) for mark, bound in pairs if mark[0] in "<>"])


def _between(key: Key, bounds: list[tuple[Key, str]]) -> bool:
    """Inside an interval: the nearest bound below opens one; with none below, the nearest above closes one."""
    below = [(bound, mark) for bound, mark in bounds if bound < key or (bound == key and mark == "<")]
    if below:
        return max(below)[1][0] == ">"
    above = [pair for pair in bounds if pair not in below]
    return bool(above) and min(above)[1][0] == "<"


@dataclass(frozen=True, slots=True, kw_only=True)
class Statement:
    """What an advisory says of one product: which versions have which status, for which vulnerability."""

    name: str
    vendor: str = ""
    identifiers: tuple[str, ...] = ()
    """Model numbers, SKUs and URIs by which the product can be told apart from its name."""
    versions: Range = Range()
    status: str
    vulnerability: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """What the publisher advises, in its own words."""

    category: str
    details: str
    url: str = ""
    restart: str = ""
    """What has to be restarted for it, in words; empty when nothing has, or it is not said."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Advisory:
    """One advisory as published. ``score`` is the worst of its vulnerabilities, 0 to 10, or unknown."""

    id: str
    publisher: str
    title: str
    version: str
    released: datetime.datetime
    score: float | None
    statements: tuple[Statement, ...]
    remedies: tuple[Remedy, ...] = ()
    notes: str = ""
    tlp: str = ""
    """To whom it may be passed on (Traffic Light Protocol); empty when it is not said."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Concern:
    """Components of one product at one version that an advisory speaks of.

    ``ends`` is the first release of the product that is no longer affected; ``within`` whether the
    baseline of every one of these components reaches it.
    """

    product: str
    name: str
    version: str
    status: str
    ends: str | None
    within: bool
    components: int
    servers: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class AdvisoryImpact:
    """One advisory on this fleet. Without concerns, ``reason`` says why it does not apply.

    ``undecided``: what it names can't be told from what is here, so it is no all-clear.
    """

    advisory: Advisory
    concerns: tuple[Concern, ...]
    reason: str
    undecided: bool = False

    @property
    def affected(self) -> tuple[str, ...]:
        """Servers with something affected, or with something that can't be told."""
        hit = {n for c in self.concerns if c.status in ("affected", "unknown", "open") for n in c.servers}
        return tuple(sorted(hit))


def assess(advisory: Advisory, folds: Sequence[Fold], catalogs: Catalogs) -> AdvisoryImpact:
    """Match an advisory's statements with what is fitted here."""
    statements = match_statements(advisory, catalogs)
    found: dict[tuple[str, str], tuple[int, set[str], bool]] = {}
    for fold in folds:
        for position in fold.standing.positions:
            product, version = position.product, position.component.version
            if product is None or version is None or product.id not in statements:
                continue
            count, names, within = found.get((product.id, version), (0, set(), True))
            ends = _ends(statements[product.id], catalogs.by_id[product.id], version)
            target = position.target.version if position.target else None
            reaches = ends is not None and _reaches(product, target, ends)
            found[product.id, version] = (count + len(fold.names), names | set(fold.names), within and reaches)
    concerns = [_concern(key, value, statements, catalogs.by_id) for key, value in found.items()]
    concerns.sort(key=lambda c: (c.status not in ("affected", "unknown", "open"), c.name, c.version))
    open_ended = () if concerns else _patterns(advisory, statements)
    if open_ended:
        named = ", ".join(sorted({s.name for s in advisory.statements}))
        reason = f"{named} is named by the model numbers {', '.join(open_ended)}, which no catalog here tells"
        return AdvisoryImpact(advisory=advisory, concerns=(), reason=reason, undecided=True)
    return AdvisoryImpact(
        advisory=advisory, concerns=tuple(concerns), reason="" if concerns else _why(advisory, statements)
    )


def match_statements(advisory: Advisory, catalogs: Catalogs) -> dict[str, tuple[Statement, ...]]:
    """Our products by id with the statements that speak of them: by identifier first, else by vendor and name."""
    by_word: dict[str, set[str]] = {}
    by_name: dict[str, set[str]] = {}
    makers: dict[str, set[str]] = {}
    for issue in catalogs.issues:
        for product in issue.products:
            words = {product.id, *(v for f in product.fits for k, v in f.items() if k in ("software_id", "part"))}
            for word in words:
                by_word.setdefault(word.lower(), set()).add(product.id)
            for name in (product.name, f"{issue.maker} {product.name}"):
                by_name.setdefault(name.lower(), set()).add(product.id)
            makers.setdefault(product.id, set()).update({issue.maker.lower(), product.name.split(" ", 1)[0].lower()})
    by_product: dict[str, list[Statement]] = {}
    for statement in advisory.statements:
        hits = {name for word in statement.identifiers for name in _named_by(_word(word), by_word)}
        if not hits:
            vendor = statement.vendor.lower()
            hits = {p for p in by_name.get(statement.name.lower(), ()) if not vendor or vendor in makers[p]}
        for name in hits:
            by_product.setdefault(name, []).append(statement)
    return {name: tuple(statements) for name, statements in by_product.items()}


def _named_by(word: str, by_word: Mapping[str, set[str]]) -> set[str]:
    """The products that an identifier names, marks for any letters (``*``) and any one (``?``) included.

    Source: CSAF 2.0, 3.1.3.3.4 (model numbers).
    """
    if not _is_pattern(word):
        return by_word.get(word, set())
    pieces = _pieces(word)
    return {name for own, names in by_word.items() if _fits(pieces, own) for name in names}


_PIECE = re.compile(r"\\(.)|(.)", re.DOTALL)
_MANY, _ONE = "many", "one"


def _pieces(word: str) -> list[str]:
    """The letters and marks of a model number; a backslash takes its meaning from a mark."""
    marks = {"*": _MANY, "?": _ONE}
    return [escaped or marks.get(plain, plain) for escaped, plain in _PIECE.findall(word)]


def _is_pattern(word: str) -> bool:
    return not {_MANY, _ONE}.isdisjoint(_pieces(word))


def _fits(pieces: Sequence[str], text: str) -> bool:
    """Whether a text fits pieces; in steps of their product at most, whatever somebody wrote there."""
    at = piece = 0
    star, resume = -1, 0
    while at < len(text):
        if piece < len(pieces) and pieces[piece] == _MANY:
            star, resume = piece, at
            piece += 1
        elif piece < len(pieces) and pieces[piece] in (_ONE, text[at]):
            at, piece = at + 1, piece + 1
        elif star >= 0:
            resume += 1
            at, piece = resume, star + 1
        else:
            return False
    return all(left == _MANY for left in pieces[piece:])


def _patterns(advisory: Advisory, statements: Mapping[str, object]) -> tuple[str, ...]:
    """The model numbers with marks by which the advisory names something, where none of it was found in a catalog."""
    if statements:
        return ()
    found = {word for s in advisory.statements for word in s.identifiers if _is_pattern(_word(word))}
    return tuple(sorted(found))


def _word(identifier: str) -> str:
    return identifier.lower().rsplit("/", 1)[-1]


def status_of(statements: Sequence[Statement], product: Product, version: str) -> str:
    """The status of a version: the gravest that holds; ``unknown`` when none speaks of it or it can't be ordered."""
    held = [(s.status, s.versions.holds(product, version)) for s in statements]
    for status in STATUSES:
        if any(word == status and holds for word, holds in held):
            return status
    if any(word == "affected" and holds is None for word, holds in held):
        return "unknown"
    # Silence about a version below every fixed one is no all-clear; above the last fixed one it is.
    fixed = [b for s in statements if s.status == "fixed" for m, b in s.versions.bounds if m in ("=", ">=")]
    keys = [key for bound in fixed if (key := product.key(bound)) is not None]
    key = product.key(version)
    return "fixed" if keys and key is not None and key > max(keys) else "unknown"


def _ends(statements: Sequence[Statement], product: Product, version: str) -> str | None:
    if status_of(statements, product, version) not in ("affected", "open", "unknown"):
        return None
    key = product.key(version)
    if key is None:
        return None
    later = (r.version for r in product.ordered if (product.key(r.version) or ()) > key)
    return next((v for v in later if status_of(statements, product, v) in ("fixed", "not affected")), None)


def _reaches(product: Product, target: str | None, ends: str) -> bool:
    have, want = product.key(target) if target else None, product.key(ends)
    return have is not None and want is not None and have >= want


def _concern(
    key: tuple[str, str],
    value: tuple[int, set[str], bool],
    statements: Mapping[str, tuple[Statement, ...]],
    products: Mapping[str, Product],
) -> Concern:
    product = products[key[0]]
    count, names, within = value
    return Concern(
        product=product.id,
        name=product.name,
        version=key[1],
        status=status_of(statements[product.id], product, key[1]),
        ends=_ends(statements[product.id], product, key[1]),
        within=within,
        components=count,
        servers=tuple(sorted(names)),
    )


def _why(advisory: Advisory, statements: Mapping[str, object]) -> str:
    names = sorted({statement.name for statement in advisory.statements})
    if not names:
        return "it names no product"
    if statements:
        return f"{', '.join(names)}: in a catalog here, but fitted in no server"
    return f"no catalog here lists {', '.join(names)}"
