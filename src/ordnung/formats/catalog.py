"""Catalogs, ``ordnung.catalog/1``: bytes to ``Issue`` and back."""

from __future__ import annotations

import datetime
from typing import Any

from ordnung.core.catalog import Fix, Issue, Need, Payload, Product, Release, Wrapping
from ordnung.core.matching import find_ties
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import Fault, FormatError


def parse_catalog(raw: bytes, source: str = "catalog", signed_by: str = "") -> Issue:
    """One issue of a catalog.

    Args:
        signed_by: the name of the trusted key that signed these very bytes, if one did.

    Raises:
        FormatError: not a whole, valid catalog. Every fault is named: also dates that do not exist, a
            product that stands twice, two releases that compare equal (V10), products that one
            component would fit equally well (D1).
    """
    document = parse_document(raw, "catalog", source)
    faults: list[Fault] = []
    issued = _date(document["issued"], faults, "issued")
    products = tuple(_product(entry, faults, f"products.{place}") for place, entry in enumerate(document["products"]))
    places: dict[str, int] = {}
    for place, product in enumerate(products):
        if places.setdefault(product.id, place) != place:
            faults.append(Fault(f"products.{place}.id", f"{product.id} stands twice"))
    issue = Issue(
        maker=document["maker"],
        catalog=document["catalog"],
        issue=document["issue"],
        issued=issued or datetime.date.min,
        base=document.get("base", ""),
        models=tuple(document.get("models", ())),
        products=products,
        signed_by=signed_by,
    )
    for tie in find_ties(issue):
        if tie.one != tie.other:
            message = f"{tie.one} and {tie.other} fit the same components equally well ({_spell(tie.entry)})"
            faults.append(Fault(f"products.{places[tie.other]}.fits", message))
    if faults:
        raise FormatError.of(source, faults)
    return issue


def _spell(entry: dict[str, str]) -> str:
    return ", ".join(f"{key} {value}" for key, value in sorted(entry.items()))


def _product(entry: dict[str, Any], faults: list[Fault], place: str) -> Product:
    product = Product(
        id=entry["id"],
        name=entry["name"],
        kind=entry["kind"],
        scheme=entry.get("scheme", "listed"),
        fits=tuple(entry.get("fits", ())),
        releases=tuple(
            _release(release, faults, f"{place}.releases.{number}") for number, release in enumerate(entry["releases"])
        ),
    )
    seen: dict[object, int] = {}
    for number, release in enumerate(product.releases):
        key = product.key(release.version)
        if key is not None and seen.setdefault(key, number) != number:
            equal = product.releases[seen[key]].version
            faults.append(
                Fault(f"{place}.releases.{number}.version", f"{release.version} equals {equal} of the same product")
            )
    return product


def _release(entry: dict[str, Any], faults: list[Fault], place: str) -> Release:
    released = entry.get("released")
    return Release(
        version=entry["version"],
        released=_date(released, faults, f"{place}.released") if released else None,
        importance=entry.get("importance"),
        fixes=tuple(Fix(**fix) for fix in entry.get("fixes", ())),
        payload=_payload(entry),
        wrappings=_wrappings(entry),
        direct_from=entry.get("direct_from"),
        needs=tuple(Need(**need) for need in entry.get("needs", ())),
        activation=entry.get("activation"),
        write_seconds=entry.get("write_seconds"),
        reset_seconds=entry.get("reset_seconds"),
        alone=entry.get("alone", False),
        floor_after=entry.get("floor_after"),
        notes=entry.get("notes", ""),
        hands_before=entry.get("hands", {}).get("before", ""),
        hands_after=entry.get("hands", {}).get("after", ""),
        announces=tuple(entry.get("announces", ())),
    )


def _wrappings(entry: dict[str, Any]) -> tuple[Wrapping, ...]:
    return tuple(Wrapping(bearer=w["for"], payload=_build_payload(w)) for w in entry.get("wrappings", ()))


def _payload(entry: dict[str, Any]) -> Payload | None:
    """The wrapping for the controller, which is how we bring payloads (N2.8)."""
    if entry.get("payload") is not None:
        return _build_payload(entry["payload"])
    return next((w.payload for w in _wrappings(entry) if w.bearer == "controller"), None)


def _build_payload(entry: dict[str, Any]) -> Payload:
    signature = entry.get("signature", {})
    return Payload(
        path=entry["path"], size=entry["size"], sha256=entry["sha256"], form=entry.get("form", "pldm"),
        signature=signature.get("value", ""), generation=signature.get("generation"),
    )  # fmt: skip


def _date(text: str, faults: list[Fault], place: str) -> datetime.date | None:
    try:
        return datetime.date.fromisoformat(text)
    except ValueError:
        faults.append(Fault(place, f"{text} is not a date"))
        return None


def write_catalog(issue: Issue) -> bytes:
    """The fixed spelling of an issue; reading it back gives the same issue."""
    return write_document(
        {
            "format": "ordnung.catalog/1",
            "maker": issue.maker,
            "catalog": issue.catalog,
            "issue": issue.issue,
            "issued": issue.issued.isoformat(),
            "base": issue.base,
            "models": list(issue.models),
            "products": [_product_entry(product) for product in issue.products],
        }
    )


def _product_entry(product: Product) -> dict[str, Any]:
    return {
        "id": product.id,
        "name": product.name,
        "kind": product.kind,
        "scheme": product.scheme,
        "fits": [dict(entry) for entry in product.fits],
        "releases": [_release_entry(release) for release in product.releases],
    }


def _release_entry(release: Release) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "version": release.version,
        "released": release.released.isoformat() if release.released else None,
        "importance": release.importance,
        "fixes": [_known({"id": f.id, "score": f.score, "title": f.title or None}) for f in release.fixes],
        "payload": None if _is_wrapped(release) else _payload_entry(release.payload),
        "wrappings": [{"for": w.bearer, **(_payload_entry(w.payload) or {})} for w in release.wrappings],
        "direct_from": release.direct_from,
        "needs": [_known({"product": n.product, "at_least": n.at_least, "below": n.below}) for n in release.needs],
        "activation": release.activation,
        "write_seconds": release.write_seconds,
        "reset_seconds": release.reset_seconds,
        "alone": release.alone or None,
        "floor_after": release.floor_after,
        "notes": release.notes or None,
        "hands": _known({"before": release.hands_before or None, "after": release.hands_after or None}) or None,
        "announces": list(release.announces) or None,
    }
    return {name: value for name, value in _known(entry).items() if value != []}


def _is_wrapped(release: Release) -> bool:
    return any(w.bearer == "controller" and w.payload == release.payload for w in release.wrappings)


def _payload_entry(payload: Payload | None) -> dict[str, Any] | None:
    if payload is None:
        return None
    entry: dict[str, Any] = {"path": payload.path, "size": payload.size, "sha256": payload.sha256}
    if payload.form != "pldm":
        entry["form"] = payload.form
    if payload.signature:
        entry["signature"] = {"generation": payload.generation, "value": payload.signature}
    return entry


def _known(entry: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in entry.items() if value is not None}
