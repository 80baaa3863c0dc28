"""Add to the audit trail. An entry is written in the transaction of what it tells, or the whole does not happen."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Iterator, Mapping
from typing import Any

from django.db import transaction

from ordnung.formats.audit import BEGINNING, AuditEntry, link_of
from ordnung.formats.secret_names import SECRET
from ordnung.formats.text import clean
from ordnung.server.audit.models import TrailEntry
from ordnung.server.clock import now

MOST_TEXT, MOST_ITEMS, MOST_DEPTH = 300, 40, 5
"""What is longer, more or deeper is cut, and said to be."""


def append(
    *,
    who: str,
    where: str,
    command: str,
    on: Mapping[str, Any],
    asked: Mapping[str, Any] | None = None,
    before: Mapping[str, Any] | None = None,
    after: Mapping[str, Any] | None = None,
    result: str = "done",
    detail: str = "",
) -> AuditEntry:
    """Put an entry at the end of the trail, within the transaction that is open, and answer it with its link."""
    from ordnung.server.work.events import tell

    with transaction.atomic():
        last = TrailEntry.objects.order_by("-number").values_list("number", "link").first() or (0, BEGINNING)
        at: datetime.datetime = now()
        entry = AuditEntry(
            number=last[0] + 1, at=at, who=clean(who)[:200], where=clean(where)[:100], command=command, on=tidy(on),
            asked=tidy(asked or {}), before=tidy(before or {}), after=tidy(after or {}), result=result,
            detail=clean(detail)[:2000], previous=last[1],
        )  # fmt: skip
        entry = dataclasses.replace(entry, link=link_of(entry))
        fields = {f.name: getattr(entry, f.name) for f in dataclasses.fields(entry)}
        TrailEntry.objects.create(**fields, subjects="\n".join(["", *_subjects(entry.on), ""]))
        tell("audit", number=entry.number)
    return entry


def subject(kind: str, name: object) -> str:
    """How something is found in the trail again."""
    return f"\n{kind}:{name}\n"


def _subjects(on: Mapping[str, Any]) -> Iterator[str]:
    for kind, value in on.items():
        for one in value if isinstance(value, list) else [value]:
            yield f"{kind.removesuffix('s')}:{one}"


def tidy(value: Any, depth: int = 0) -> Any:
    """A value fit for the trail: without secrets, control characters and lengths nobody reads."""
    if depth >= MOST_DEPTH:
        return "…"
    if isinstance(value, Mapping):
        return {
            clean(str(name))[:100]: "given" if str(name).lower() in SECRET else tidy(item, depth + 1)
            for name, item in list(value.items())[:MOST_ITEMS]
        }
    if isinstance(value, list | tuple | set | frozenset):
        items = list(value)
        more = [f"and {len(items) - MOST_ITEMS} more"] if len(items) > MOST_ITEMS else []
        return [*(tidy(item, depth + 1) for item in items[:MOST_ITEMS]), *more]
    if value is None or isinstance(value, bool | int | float):
        return value
    text = clean(str(value))
    return text if len(text) <= MOST_TEXT else f"{text[:MOST_TEXT]}… ({len(text)} characters)"
