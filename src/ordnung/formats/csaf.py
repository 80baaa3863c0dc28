"""Security advisories in the Common Security Advisory Framework 2.0 (OASIS), read only.

What is taken: the tracking data, the product tree with all three ways of naming products (branches,
full_product_names, relationships), product_status, scores and remediations. Mandatory tests 6.1.1
(missing definition of product id), 6.1.2 (multiple definition) and 6.1.6 (contradicting status) are made.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from ordnung.core.advisories import Advisory, Range, Remedy, Statement
from ordnung.formats.documents import check_schema, load_json
from ordnung.formats.errors import Fault, FormatError

MAX_BRANCHES = 30
"""A product tree nests vendor, family, name, version and little else."""
_STATUS = {
    "known_affected": "affected", "first_affected": "affected", "last_affected": "affected",
    "fixed": "fixed", "first_fixed": "fixed",
    "known_not_affected": "not affected", "under_investigation": "open",
}  # fmt: skip
_GROUPS = {"affected": "affected", "not affected": "not affected", "fixed": "fixed", "open": "under investigation"}
_RESTARTS = {
    "connected": "of what is connected", "dependencies": "of what depends on it", "machine": "of the server",
    "parent": "of what it runs in", "service": "of the service", "system": "of the system",
    "vulnerable_component": "of the component", "zone": "of the zone",
}  # fmt: skip
"""CSAF 2.0, 3.2.3.12.5: what has to be restarted; ``none`` needs no word."""
_CONSTRAINT = re.compile(r"(<=|>=|!=|=|<|>)?\s*([^<>=!|\s][^<>=!|]*)")


@dataclass
class _Tree:
    """Products by product id, and every fault met."""

    products: dict[str, _Named] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)


@dataclass(frozen=True)
class _Named:
    name: str
    vendor: str = ""
    identifiers: tuple[str, ...] = ()
    versions: Range = field(default_factory=Range)


def parse_advisory(raw: bytes, source: str = "advisory") -> Advisory:
    """One advisory.

    Raises:
        FormatError: not a whole, valid CSAF 2.0 document; every fault is named with its place.
    """
    document = load_json(raw, source)
    check_schema(document, "csaf", source)
    tree = _Tree()
    _walk(document.get("product_tree", {}), tree)
    vulnerabilities = document.get("vulnerabilities", [])
    statements = [s for n, v in enumerate(vulnerabilities) for s in _statements(v, f"vulnerabilities.{n}", tree)]
    head = document["document"]
    released = _moment(head["tracking"]["current_release_date"], tree)
    if tree.faults:
        raise FormatError.of(source, tree.faults)
    scores = [
        cvss["baseScore"]
        for vulnerability in vulnerabilities
        for score in vulnerability.get("scores", ())
        for name, cvss in score.items()
        if name in ("cvss_v2", "cvss_v3") and "baseScore" in cvss
    ]
    return Advisory(
        id=head["tracking"]["id"],
        publisher=head["publisher"]["name"],
        title=head["title"],
        version=head["tracking"]["version"],
        released=released,
        score=max(scores, default=None),
        statements=tuple(dict.fromkeys(statements)),
        remedies=tuple(
            dict.fromkeys(
                Remedy(
                    category=remedy["category"].replace("_", " "),
                    details=remedy["details"],
                    url=_link(remedy.get("url", "")),
                    restart=_RESTARTS.get(remedy.get("restart_required", {}).get("category", ""), ""),
                )
                for vulnerability in vulnerabilities
                for remedy in vulnerability.get("remediations", ())
            )
        ),
        tlp=head.get("distribution", {}).get("tlp", {}).get("label", ""),
        notes="\n".join(n["text"] for n in head.get("notes", ()) if n["category"] in ("summary", "description")),
    )


def _link(url: object) -> str:
    """A link that may be shown as one: a page, nothing that runs."""
    return url if isinstance(url, str) and url.startswith(("https://", "http://")) else ""


def _moment(text: str, tree: _Tree) -> datetime.datetime:
    try:
        found = datetime.datetime.fromisoformat(text.upper())  # RFC 3339, 5.6: t and z may be small
    except ValueError:
        tree.faults.append(Fault("document.tracking.current_release_date", f"{text} is not a moment"))
        return datetime.datetime.min.replace(tzinfo=datetime.UTC)
    return found if found.tzinfo else found.replace(tzinfo=datetime.UTC)


def _walk(tree: dict[str, Any], into: _Tree) -> None:
    for number, entry in enumerate(tree.get("full_product_names", ())):
        _define(entry, {}, f"product_tree.full_product_names.{number}", into)
    _branches(tree.get("branches", ()), {}, "product_tree.branches", into, 0)
    _relate(tree.get("relationships", ()), into)


def _relate(relations: Sequence[dict[str, Any]], into: _Tree) -> None:
    """Products that are others, installed somewhere. One may name another that stands later in the list."""
    inner: dict[str, str] = {}
    for number, relation in enumerate(relations):
        entry = relation["full_product_name"]
        _define(entry, {}, f"product_tree.relationships.{number}.full_product_name", into)
        inner.setdefault(entry["product_id"], relation["product_reference"])
    for number, relation in enumerate(relations):
        place = f"product_tree.relationships.{number}"
        for key in ("product_reference", "relates_to_product_reference"):
            if relation[key] not in into.products:
                into.faults.append(Fault(f"{place}.{key}", f"{relation[key]} is defined nowhere"))
    for name in inner:
        at, seen = name, {name}
        while at in inner and inner[at] not in seen:
            at = inner[at]
            seen.add(at)
        if at in inner:
            into.faults.append(Fault("product_tree.relationships", f"{name} is defined by itself"))
        elif at in into.products:
            # What is installed on something else is still the thing itself: its versions are what counts.
            into.products[name] = into.products[at]


def _branches(branches: Any, above: dict[str, str], place: str, into: _Tree, depth: int) -> None:
    if depth > MAX_BRANCHES:
        into.faults.append(Fault(place, "branches nest too deeply"))
        return
    for number, branch in enumerate(branches):
        here, names = f"{place}.{number}", {**above, branch["category"]: branch["name"]}
        if "product" in branch:
            _define(branch["product"], names, f"{here}.product", into)
        _branches(branch.get("branches", ()), names, f"{here}.branches", into, depth + 1)


def _define(entry: dict[str, Any], names: dict[str, str], place: str, into: _Tree) -> None:
    name = entry["product_id"]
    if name in into.products:
        into.faults.append(Fault(f"{place}.product_id", f"{name} is defined twice"))
        return
    helper = entry.get("product_identification_helper", {})
    identifiers = [*helper.get("model_numbers", ()), *helper.get("skus", ())]
    identifiers += [uri["uri"] for uri in helper.get("x_generic_uris", ())]
    into.products[name] = _Named(
        name=names.get("product_name", entry["name"]),
        vendor=names.get("vendor", ""),
        identifiers=tuple(identifiers),
        versions=_range(names, f"{place}", into),
    )


def _range(names: dict[str, str], place: str, into: _Tree) -> Range:
    if "product_version" in names:
        return Range((("=", names["product_version"]),))
    if "product_version_range" not in names:
        return Range()
    found = parse_range(names["product_version_range"])
    if found is None:
        into.faults.append(Fault(place, f"{names['product_version_range']!r} is no range of versions"))
    return found or Range()


def parse_range(text: str) -> Range | None:
    """A ``vers`` specifier (``vers:generic/>=1.0|<3.2.0``) or a version-like one (``<=3.0.5``); None if neither."""
    body = text.strip()
    if body.startswith("vers:"):
        scheme, slash, body = body.partition("/")
        if not slash or not scheme[5:]:
            return None
    if body.strip() == "*":
        return Range()
    bounds = []
    for piece in body.split("|"):
        match = _CONSTRAINT.fullmatch(piece.strip())
        if match is None:
            return None
        bounds.append((match[1] or "=", match[2].strip()))
    return Range(tuple(bounds))


def _statement(named: _Named, status: str, vulnerability: str) -> Statement:
    return Statement(
        name=named.name, vendor=named.vendor, identifiers=named.identifiers, versions=named.versions, status=status,
        vulnerability=vulnerability,
    )  # fmt: skip


def _statements(vulnerability: dict[str, Any], place: str, tree: _Tree) -> Iterator[Statement]:
    name = vulnerability.get("cve") or vulnerability.get("title", "")
    groups: dict[str, set[str]] = {}
    told_of = vulnerability.get("product_status", {})
    for key, products in told_of.items():
        if key == "recommended":
            continue
        status = _STATUS[key]
        for number, product in enumerate(products):
            named = tree.products.get(product)
            if named is None:
                fault = Fault(f"{place}.product_status.{key}.{number}", f"{product} is defined nowhere")
                tree.faults.append(fault)
                continue
            groups.setdefault(product, set()).add(status)
            yield _statement(named, status, name)
    # What is recommended says nothing of a product of which something else is said (CSAF 2.0, 6.1.6).
    for number, product in enumerate(told_of.get("recommended", ())):
        named = tree.products.get(product)
        if named is None:
            place_of = f"{place}.product_status.recommended.{number}"
            tree.faults.append(Fault(place_of, f"{product} is defined nowhere"))
        elif product not in groups:
            yield _statement(named, "fixed", name)
    for product, found in groups.items():
        if len(found) > 1:
            fault = Fault(f"{place}.product_status", f"{product} is said to be {' and '.join(sorted(found))}")
            tree.faults.append(fault)
