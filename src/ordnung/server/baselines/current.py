"""The baseline that holds: the last revision, as the core knows it."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ordnung.core.matching import Follows
from ordnung.core.rules import FIXED_RULES, Rule
from ordnung.formats.rules import parse_rules, rules_document
from ordnung.server.baselines.models import Revision
from ordnung.server.clock import now


@dataclass(frozen=True, slots=True)
class Decided:
    """A revision's number, rules, and what each model follows."""

    number: int
    rules: tuple[Rule, ...]
    follows: Follows


def latest() -> Revision:
    """The last revision. Every house starts with revision 1: the fixed rules, the newest issue as it comes."""
    found = Revision.objects.order_by("-number").first()
    if found is not None:
        return found
    values = {
        "rules": rules_document(FIXED_RULES), "made_at": now(), "made_by": "Ordnung",
        "note": "The rules every house starts with; each model follows the newest issue that covers it, as it comes.",
    }  # fmt: skip
    return Revision.objects.get_or_create(number=1, defaults=values)[0]


def decided(revision: Revision) -> Decided:
    """A revision as the core knows it."""
    return Decided(revision.number, read_rules(revision.rules), read_follows(revision.follows))


def read_rules(document: Any) -> tuple[Rule, ...]:
    """Rules from a document. Raises FormatError for anything but valid rules."""
    return parse_rules(json.dumps(document).encode(), "rules")


def read_follows(rows: Iterable[Mapping[str, str]]) -> Follows:
    """What each model follows, from its rows."""
    return {(row["model"], row["maker"], row["catalog"]): row["issue"] for row in rows}


def follows_rows(follows: Follows) -> list[dict[str, str]]:
    """What each model follows, as rows."""
    return [
        {"model": model, "maker": maker, "catalog": catalog, "issue": issue}
        for (model, maker, catalog), issue in sorted(follows.items())
    ]
