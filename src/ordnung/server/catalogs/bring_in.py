"""Bring a catalog issue in: read, checked whole and its signature looked at before anything is stored."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Collection
from dataclasses import dataclass, replace

from ordnung.core.catalog import Issue
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.signatures import find_signer
from ordnung.server.apart import apart
from ordnung.server.audit.recording import record, recorded
from ordnung.server.catalogs.models import CatalogIssue, NewestSeen, TrustedKey
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell


@dataclass(frozen=True, slots=True, kw_only=True)
class BroughtIn:
    """One issue that came: ``new``, ``known`` already, or ``signed`` where an unsigned copy was here before."""

    issue: Issue
    state: str
    older_than: str = ""
    """The newest issue seen of this catalog, where this one is older."""


def bring_in(
    raw: bytes,
    source: str,
    *,
    packed: bytes | None = None,
    signature: bytes | None = None,
    vouched: str = "",
    vouches_for: Collection[str] | None = None,
) -> BroughtIn:
    """Store one issue.

    Args:
        raw: the catalog as JSON.
        packed: the file as it came, which the signature covers; ``raw`` itself by default.
        vouched: who vouches for it where no detached signature does.
        vouches_for: the makers that one was trusted for, None for all; another maker's catalog comes in by that
            maker's own signature only.

    Raises:
        FormatError: it is not a whole, valid catalog.
        Problem: its signature is missing or wrong, or the same issue is here with other contents.
            Whatever is raised, nothing stored changes.
    """
    issue = apart(parse_catalog, source, raw, source)
    is_vouched = bool(vouched) and (vouches_for is None or issue.maker in vouches_for)
    signer = vouched if is_vouched else check_signature(issue.maker, packed or raw, signature, source)
    with recorded():
        known = CatalogIssue.objects.filter(maker=issue.maker, catalog=issue.catalog, issue=issue.issue).first()
        if known is not None:
            state = _meet(known, raw, signer, issue, source)
        else:
            _store(issue, raw, signer, source)
            state = "new"
        name = f"{issue.maker} {issue.catalog} {issue.issue}"
        record(on={"catalog": name}, after={"state": state, "signed_by": signer, "source": source})
        newest = see(issue.maker, issue.catalog, issue.issue, issue.issued)
        if state != "known":
            tell("catalogs")
    older = newest.issue if newest.issued > issue.issued else ""
    return BroughtIn(issue=replace(issue, signed_by=signer), state=state, older_than=older)


def check_signature(maker: str, packed: bytes, signature: bytes | None, source: str) -> str:
    """The name of the trusted key that signed, or empty when the house trusts no key of this maker.

    Raises:
        Problem: the house trusts a key of this maker and this file is not signed by it.
    """
    keys = {key.name: bytes.fromhex(key.key) for key in TrustedKey.objects.filter(maker=maker)}
    if not keys:
        return ""
    if signature is None:
        message = f"{source}: unsigned, but this house trusts only what {' or '.join(keys)} signed for {maker}."
        raise Problem("unsigned", f"{message} Bring the file's .sig along. Nothing was stored.", field="signature")
    signer = find_signer(packed, signature, keys)
    if signer is None:
        message = f"{source}: its signature was not made by {' or '.join(keys)} over these bytes: altered, or signed by"
        raise Problem("signature-wrong", f"{message} someone else. Nothing was stored.", field="signature")
    return signer


def _meet(known: CatalogIssue, raw: bytes, signer: str, issue: Issue, source: str) -> str:
    if bytes(known.raw) != raw:
        message = f"{issue.catalog} {issue.issue} is here already with other contents; what is here stays."
        raise Problem("issue-differs", f"{source}: {message}", status=409)
    if signer and not known.signed_by:
        known.signed_by = signer
        known.save(update_fields=["signed_by"])
        return "signed"
    return "known"


def _store(issue: Issue, raw: bytes, signer: str, source: str) -> None:
    CatalogIssue.objects.create(
        maker=issue.maker,
        catalog=issue.catalog,
        issue=issue.issue,
        issued=issue.issued,
        raw=raw,
        sha256=hashlib.sha256(raw).hexdigest(),
        signed_by=signer,
        brought_in=now(),
        source=source[:500],
    )


def see(maker: str, catalog: str, issue: str, issued: datetime.date) -> NewestSeen:
    """Remember an issue if it is the newest seen so far; returns the newest."""
    values = {"issue": issue, "issued": issued, "seen_at": now()}
    row, is_new = NewestSeen.objects.get_or_create(maker=maker, catalog=catalog, defaults=values)
    if not is_new and row.issued < issued:
        row.issue, row.issued, row.seen_at = issue, issued, now()
        row.save()
    return row
