"""Ways in which a file can differ from a good one: by its structure where it has one, by its bytes where not.

Everything is drawn from one seeded chance, so that a number replays a case.
"""

from __future__ import annotations

import copy
import json
import random
import signal
import string
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

BUDGET_S = 10.0
"""Seconds of processor time that a reader may take for a file of the sizes made here: most take a thousandth."""
NUMBERS = (0, 1, -1, 2**31, 2**32 - 1, 2**63, 2**64, -(2**63), 10**40, 1e308, 0.1)
TEXTS = (
    "", " ", "²", "\ud800", "\x00", "\x1b[2J", "\u202e", "../../etc/passwd", "9" * 5000, "a" * 70_000, "2026-13-45",
    "2026-11-04T25:00:00Z", "https://]", "vers:generic/>=1|<", "%s%n", "=1+1", "1.2.3-0_", "Ǆ",
)  # fmt: skip
WORDS = (0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF)


@contextmanager
def budget() -> Iterator[None]:
    """Raises AssertionError inside when it takes more processor time than ``BUDGET_S``: a hang is a failure too."""

    def over(*_: object) -> None:
        raise AssertionError(f"more than {BUDGET_S} s of processor time")

    before = signal.signal(signal.SIGPROF, over)
    signal.setitimer(signal.ITIMER_PROF, BUDGET_S)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)


def any_value(chance: random.Random) -> Any:
    """A value that is probably none that belongs there."""
    return chance.choice(
        (
            None, True, [], {}, [[]], {"a": {}}, chance.choice(NUMBERS), chance.choice(NUMBERS), chance.choice(TEXTS),
            chance.choice(TEXTS), "".join(chance.choices(string.printable, k=chance.randint(1, 40))),
        )
    )  # fmt: skip


def spoil_document(document: Any, chance: random.Random) -> bytes:
    """A JSON document in which one to four places differ, spelled as JSON or nearly so."""
    spoiled = copy.deepcopy(document)
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        spoiled = _spoil_place(spoiled, chance)
    raw = json.dumps(spoiled, ensure_ascii=chance.random() < 0.8).encode("utf-8", "surrogatepass")
    return spoil_bytes(raw, chance) if chance.random() < 0.1 else raw


def _spoil_place(document: Any, chance: random.Random) -> Any:
    holders = [holder for holder in _holders(document) if holder]
    if not holders:
        return any_value(chance)
    holder = chance.choice(holders)
    key = chance.choice(list(holder) if isinstance(holder, dict) else range(len(holder)))
    match chance.choice(("other", "other", "other", "gone", "twice", "elsewhere", "renamed", "deep", "many")):
        case "other":
            holder[key] = any_value(chance)
        case "gone":
            del holder[key]
        case "twice" if isinstance(holder, list):
            holder.insert(key, copy.deepcopy(holder[key]))
        case "elsewhere":
            other = chance.choice(holders)
            holder[key] = copy.deepcopy(chance.choice(list(other.values()) if isinstance(other, dict) else other))
        case "renamed" if isinstance(holder, dict):
            holder[chance.choice((*TEXTS[:4], "id", "format", "products"))] = holder.pop(key)
        case "deep":
            for _ in range(chance.choice((3, 80, 300))):
                holder[key] = [holder[key]]
        case "many":
            holder[key] = [copy.deepcopy(holder[key]) for _ in range(chance.choice((2, 300, 3000)))]
    return document


def _holders(value: Any) -> Iterator[Any]:
    if isinstance(value, dict | list):
        yield value
        for child in value.values() if isinstance(value, dict) else value:
            yield from _holders(child)


def spoil_bytes(raw: bytes, chance: random.Random, places: Callable[[], int] | None = None) -> bytes:
    """Bytes in which one to six places differ; ``places`` draws where, else anywhere."""
    out = bytearray(raw)
    for _ in range(chance.choice((1, 1, 2, 6))):
        if not out:
            break
        at = min(places() if places else chance.randrange(len(out)), len(out) - 1)
        match chance.choice(("bit", "byte", "word", "word", "cut", "gone", "put in", "copied")):
            case "bit":
                out[at] ^= 1 << chance.randrange(8)
            case "byte":
                out[at] = chance.randrange(256)
            case "word":
                size, order = chance.choice((1, 2, 4, 8)), chance.choice(("little", "big"))
                word = chance.choice(WORDS) % 256**size
                out[at : at + size] = word.to_bytes(size, order)
            case "cut":
                del out[at:]
            case "gone":
                del out[at : at + chance.choice((1, 4, 512))]
            case "put in":
                out[at:at] = chance.randbytes(chance.choice((1, 4, 512)))
            case "copied":
                start = chance.randrange(len(out))
                out[at : at + 64] = out[start : start + 64]
    return bytes(out)
