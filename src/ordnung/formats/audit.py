"""The audit trail: entries chained by hash, heads signed by the site. What is told of one can be checked elsewhere.

Each entry carries the link of the one before it; its own link is the SHA-256 of everything in it, spelled in one way.
So an entry that was edited, taken out or moved breaks the chain there. A head is a link that the site signed
(Ed25519, RFC 8032) and gave out: a trail that was cut or written anew behind it no longer leads to it. Format and
limits: ``docs/formats/audit.md``.
"""

from __future__ import annotations

import datetime
import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ordnung.formats.documents import parse_document, read_instant, write_document
from ordnung.formats.errors import FormatError
from ordnung.formats.signatures import find_signer, read_key

FORMAT = "ordnung.audit/1"
BEGINNING = "0" * 64
"""What stands where the first entry names the one before it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditEntry:
    """Who did what, when, from where, to what, with what result. Secrets are never in it."""

    number: int
    at: datetime.datetime
    who: str
    where: str
    command: str
    on: Mapping[str, Any] = field(default_factory=dict)
    asked: Mapping[str, Any] = field(default_factory=dict)
    before: Mapping[str, Any] = field(default_factory=dict)
    after: Mapping[str, Any] = field(default_factory=dict)
    result: str = "done"
    detail: str = ""
    previous: str = BEGINNING
    link: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Head:
    """A link that the site signed when it was the newest; ``key`` is the public half, in hex."""

    number: int
    at: datetime.datetime
    link: str
    key: str
    signature: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Trail:
    """Entries in their order, from some number on, and the heads that were signed."""

    site: str
    entries: tuple[AuditEntry, ...] = ()
    heads: tuple[Head, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class TrailFault:
    """Where a trail is broken, and how."""

    number: int
    what: str


def entry_body(entry: AuditEntry) -> dict[str, Any]:
    """An entry as JSON, without its link: what the link is made of."""
    return {
        "number": entry.number,
        "at": _spell(entry.at),
        "who": entry.who,
        "where": entry.where,
        "command": entry.command,
        "on": entry.on,
        "asked": entry.asked,
        "before": entry.before,
        "after": entry.after,
        "result": entry.result,
        "detail": entry.detail,
        "previous": entry.previous,
    }


def link_of(entry: AuditEntry) -> str:
    """The link of an entry: SHA-256 over its canonical spelling (sorted names, no blanks, ASCII)."""
    return hashlib.sha256(_canonical(entry_body(entry))).hexdigest()


def head_bytes(number: int, at: datetime.datetime, link: str) -> bytes:
    """What is signed of a head."""
    return _canonical({"format": "ordnung.audit-head/1", "number": number, "at": _spell(at), "link": link})


def _canonical(body: Mapping[str, Any]) -> bytes:
    return json.dumps(body, sort_keys=True, separators=(",", ":"), ensure_ascii=True).encode()


def _spell(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).isoformat(timespec="microseconds")


def check_trail(trail: Trail, key: str | None = None, known: Sequence[Head] = ()) -> tuple[TrailFault, ...]:
    """Everything that is wrong with a trail, in order of number; empty when it is whole.

    Args:
        key: the site's public key in hex, from where it was given out; None: the trail's heads must agree on one.
        known: heads that were given out earlier: the trail must still lead to them.
    """
    faults = [*_chain_faults(trail.entries)]
    links = {entry.number: entry.link for entry in trail.entries}
    keys = {head.key for head in (*trail.heads, *known)}
    if key is None and len(keys) > 1:
        faults.append(TrailFault(number=0, what="its heads are signed by different keys"))
    for head in (*trail.heads, *known):
        what = _head_fault(head, links, key or head.key, trail.entries)
        if what is not None:
            faults.append(TrailFault(number=head.number, what=what))
    return tuple(sorted(set(faults), key=lambda fault: (fault.number, fault.what)))


def _chain_faults(entries: Iterable[AuditEntry]) -> Iterable[TrailFault]:
    before: AuditEntry | None = None
    for entry in entries:
        if before is None and entry.number == 1 and entry.previous != BEGINNING:
            yield TrailFault(number=1, what="something stood before the first entry")
        if before is not None and entry.number != before.number + 1:
            yield TrailFault(number=entry.number, what=f"it stands after entry {before.number}: cut out or moved")
        elif before is not None and entry.previous != before.link:
            yield TrailFault(number=entry.number, what=f"it does not follow entry {before.number} as that stands here")
        if link_of(entry) != entry.link:
            yield TrailFault(number=entry.number, what="it was changed after it was written")
        before = entry


def _head_fault(head: Head, links: Mapping[int, str], key: str, entries: Sequence[AuditEntry]) -> str | None:
    try:
        public, signature = read_key(key), bytes.fromhex(head.signature)
    except (FormatError, ValueError):
        return "its head's key or signature can't be read"
    if (
        len(signature) != 64
        or find_signer(head_bytes(head.number, head.at, head.link), signature, {"": public}) is None
    ):
        return "the signature of its head was not made by the site's key"
    if head.number in links:
        return None if links[head.number] == head.link else "it is not the entry that was signed as head"
    if not entries or head.number > entries[-1].number:
        return f"the trail was cut: entry {head.number} was signed as head and is not here"
    return None  # it stands before the part that this is


# The document


def write_trail(trail: Trail) -> bytes:
    """A trail as a document of its own: the same trail, the same bytes."""
    return write_document(
        {
            "format": FORMAT,
            "site": trail.site,
            "entries": [{**entry_body(entry), "link": entry.link} for entry in trail.entries],
            "heads": [head_row(head) for head in trail.heads],
        }
    )


def head_row(head: Head) -> dict[str, Any]:
    """A head as JSON: what the site gives out."""
    return {
        "number": head.number,
        "at": _spell(head.at),
        "link": head.link,
        "key": head.key,
        "signature": head.signature,
    }


def parse_trail(raw: bytes, source: str = "trail") -> Trail:
    """A trail from its document. Raises FormatError when it is none; whether it is whole, ``check_trail`` says."""
    body = parse_document(raw, "audit", source)
    entries = tuple(_entry(row, source, place) for place, row in enumerate(body["entries"]))
    return Trail(site=body["site"], entries=entries, heads=tuple(parse_head(row, source) for row in body["heads"]))


def parse_head(row: Mapping[str, Any], source: str) -> Head:
    """A head from JSON. Raises FormatError when its time can't be read."""
    return Head(**{**row, "at": read_instant(row["at"], source, "heads")})


def _entry(row: Mapping[str, Any], source: str, place: int) -> AuditEntry:
    return AuditEntry(**{**row, "at": read_instant(row["at"], source, f"entries.{place}.at")})
