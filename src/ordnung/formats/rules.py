"""House rules, ``ordnung.rules/1``."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any

from ordnung.core.rules import Rule
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError


def parse_rules(raw: bytes, source: str = "rules") -> tuple[Rule, ...]:
    """The rules in order. Raises FormatError for anything but a valid rules file."""
    document = parse_document(raw, "rules", source)
    return tuple(_rule(entry, source, f"rules.{place}") for place, entry in enumerate(document["rules"]))


def _rule(entry: dict[str, Any], source: str, place: str) -> Rule:
    where = entry.get("where", {})
    try:
        until = datetime.date.fromisoformat(entry["until"]) if "until" in entry else None
    except ValueError:
        raise FormatError(source, f"{place}.until", f"{entry['until']} is not a date") from None
    return Rule(
        do=entry["do"],
        where={key: (value,) if isinstance(value, str) else tuple(value) for key, value in where.items()},
        version=entry.get("version"),
        days=entry.get("days", 0),
        unless_score=entry.get("unless_score"),
        reason=entry.get("reason", ""),
        author=entry.get("author", ""),
        until=until,
    )


def rules_document(rules: Sequence[Rule]) -> dict[str, Any]:
    """The rules as a document; what is not set is left out."""
    return {"format": "ordnung.rules/1", "rules": [_entry(rule) for rule in rules]}


def write_rules(rules: Sequence[Rule]) -> bytes:
    """The fixed spelling of rules; reading it back gives the same rules."""
    return write_document(rules_document(rules))


def _entry(rule: Rule) -> dict[str, Any]:
    entry = {
        "do": rule.do,
        "where": {key: list(values) for key, values in rule.where.items()},
        "version": rule.version,
        "days": rule.days if rule.do == "wait" else None,
        "unless_score": rule.unless_score,
        "reason": rule.reason,
        "author": rule.author,
        "until": rule.until.isoformat() if rule.until else None,
    }
    return {name: value for name, value in entry.items() if value not in (None, "", {})}
