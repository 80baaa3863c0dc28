"""What a repository must hold for chosen servers: targets, must-stops, ways back, and nothing else.

Needs are gathered once a state, not once a server; what a trim leaves out is worked out over the
distinct needs, of which even a large house has few.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position
from ordnung.core.catalog import Issue, Product, Release
from ordnung.core.versions import is_at_least

REASONS = ("target", "must stop", "way back")
By = Literal["kind", "product", "model", "rule", "reason", "payload"]
BY: tuple[By, ...] = get_args(By)
"""What a trim can go by."""
Name = tuple[str, str]
"""(product, version): one payload."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Trim:
    """What a person leaves out: all needs with this ``value``. Payloads are named ``product version``,
    rules by their place, counted from zero."""

    by: By
    value: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """Why servers of one model need one release: the same product, rule and reason."""

    product: str
    version: str
    kind: str
    model: str
    rule: int | None
    reason: str

    @property
    def payload(self) -> Name:
        """The payload that answers it."""
        return self.product, self.version

    def is_trimmed(self, trim: Trim) -> bool:
        """Whether a trim leaves this need out."""
        facts = {
            "kind": self.kind, "product": self.product, "model": self.model, "reason": self.reason,
            "rule": None if self.rule is None else str(self.rule), "payload": f"{self.product} {self.version}",
        }  # fmt: skip
        return facts[trim.by] == trim.value


@dataclass(frozen=True, slots=True, kw_only=True)
class Packed:
    """One release to be packed: why, for which servers, and by which issue, whose ``base`` it comes from.

    ``trimmed`` names the trims that leave it out; it is packed when there are none.
    """

    product: Product
    release: Release
    issue: Issue
    reasons: tuple[str, ...]
    servers: tuple[str, ...]
    needs: tuple[Need, ...] = ()
    trimmed: tuple[Trim, ...] = ()

    @property
    def name(self) -> Name:
        """Product and version."""
        return self.product.id, self.release.version

    @property
    def size(self) -> int:
        """Bytes to carry; 0 where the catalog names no payload."""
        return self.release.payload.size if self.release.payload else 0


_Found = tuple[Need, Product, Release, Issue]


def plan_packing(standings: Sequence[Standing], trims: Sequence[Trim] = ()) -> tuple[Packed, ...]:
    """The packing list, by product name and version order; what a trim leaves out is in it, marked."""
    servers: dict[Need, list[str]] = {}
    parts: dict[Name, tuple[Product, Release, Issue]] = {}
    known: dict[tuple[int, int], list[_Found]] = {}
    for standing in standings:
        # Equal servers share route and drift; both stay alive as long as the standings do.
        key = (id(standing.route), id(standing.drift))
        if key not in known:
            known[key] = list(find_needs(standing))
        for need, product, release, issue in known[key]:
            servers.setdefault(need, []).append(standing.server.name)
            parts.setdefault(need.payload, (product, release, issue))
    by_payload: dict[Name, list[Need]] = {}
    for need in servers:
        by_payload.setdefault(need.payload, []).append(need)
    lines = [_line(parts[name], needs, servers, trims) for name, needs in by_payload.items()]
    return tuple(sorted(lines, key=lambda p: (p.product.name, p.product.ordered.index(p.release))))


def _line(
    parts: tuple[Product, Release, Issue], needs: list[Need], servers: dict[Need, list[str]], trims: Sequence[Trim]
) -> Packed:
    kept = [need for need in needs if not any(need.is_trimmed(trim) for trim in trims)]
    shown = kept or needs
    hit = () if kept else tuple(t for t in trims if any(need.is_trimmed(t) for need in needs))
    return Packed(
        product=parts[0],
        release=parts[1],
        issue=parts[2],
        reasons=tuple(reason for reason in REASONS if any(need.reason == reason for need in shown)),
        servers=tuple(sorted({name for need in shown for name in servers[need]})),
        needs=tuple(needs),
        trimmed=hit,
    )


def find_needs(standing: Standing) -> Iterator[_Found]:
    """What one server needs, each once; nothing for components that this route doesn't write."""
    seen: set[Need] = set()
    for position in standing.positions:
        stops = [w.to for w in standing.route.writes if w.slot == position.component.slot]
        if not stops or position.product is None:
            continue
        for version, reason in _reasons(position, position.product, stops):
            found = _found(standing, position, version, reason)
            if found is not None and found[0] not in seen:
                seen.add(found[0])
                yield found


def _reasons(position: Position, product: Product, stops: list[str]) -> Iterator[tuple[str, str]]:
    for place, version in enumerate(stops):
        yield version, "target" if place == len(stops) - 1 else "must stop"
    for version in ways_back(product, [position.component.version or "", *stops]):
        yield version, "way back"


def _found(standing: Standing, position: Position, version: str, reason: str) -> _Found | None:
    product, issue = position.product, position.match.issue
    assert product is not None and issue is not None
    release = product.find(version)
    if release is None or product.key(version) is None:
        return None
    need = Need(
        product=product.id,
        version=release.version,
        kind=product.kind,
        model=standing.server.model or "",
        rule=position.target.rule if position.target else None,
        reason=reason,
    )
    return need, product, release, issue


def ways_back(product: Product, passed: Sequence[str]) -> list[str]:
    """Which of the versions a component came from it can go back to (R15).

    Args:
        passed: the versions in the order in which they were active; the last is the present one.

    Returns the nearest to the start that no floor bars, or nothing.
    """
    floors = [r.floor_after for v in passed if (r := product.find(v)) is not None and r.floor_after]
    for version in passed[:-1]:
        if all(is_at_least(product.scheme, version, floor, product.listed) for floor in floors):
            return [version]
    return []


def kept(lines: Iterable[Packed]) -> tuple[Packed, ...]:
    """What is packed in the end."""
    return tuple(line for line in lines if not line.trimmed)


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """A trim that could be made, or is: the bytes it saves beside the others, and the payloads it leaves out."""

    trim: Trim
    saves: int
    payloads: int
    made: bool


def _trims_of(need: Need) -> tuple[Trim, ...]:
    return (
        Trim(by="kind", value=need.kind), Trim(by="product", value=need.product), Trim(by="model", value=need.model),
        Trim(by="reason", value=need.reason), Trim(by="rule", value=str(need.rule)),
    )  # fmt: skip


def offer_trims(lines: Sequence[Packed], trims: Sequence[Trim]) -> tuple[Offer, ...]:
    """Every trim that changes something, in the order of ``BY`` and by what it saves; single payloads aside."""
    values = {trim for line in lines for need in line.needs for trim in _trims_of(need)}  # fmt: skip
    offers = [_offer(lines, trims, trim) for trim in values | set(trims)]
    useful = [offer for offer in offers if offer.payloads or offer.made]
    return tuple(sorted(useful, key=lambda o: (BY.index(o.trim.by), -o.saves, o.trim.value)))


def _offer(lines: Sequence[Packed], trims: Sequence[Trim], trim: Trim) -> Offer:
    """What this trim leaves out that no other one does."""
    others = [other for other in trims if other != trim]
    gone = [
        line
        for line in lines
        if any(not any(need.is_trimmed(t) for t in others) for need in line.needs)
        and all(any(need.is_trimmed(t) for t in (*others, trim)) for need in line.needs)
    ]
    return Offer(trim=trim, saves=sum(line.size for line in gone), payloads=len(gone), made=trim in trims)
