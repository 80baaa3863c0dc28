"""Whether what answers is the server that is known: by its system's UUID and serial, never by address or certificate.

Factories ship equal certificates, zero UUIDs and blank serials: those tell nothing.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Protocol

PLACEHOLDERS = frozenset({"03000200-0400-0500-0006-000700080009", "12345678-1234-5678-90ab-cddeefaabbcc"})
"""UUIDs that boards are delivered with until someone sets their own."""
FILLERS = ("none", "n/a", "na", "default string", "to be filled by o.e.m.", "unknown", "not specified")
"""What boards are delivered with as a serial."""


class Identified(Protocol):
    """What has a UUID and a serial, as far as they are told."""

    @property
    def uuid(self) -> str | None: ...
    @property
    def serial(self) -> str | None: ...


class Likeness(StrEnum):
    """What two pairs of identifiers say of each other."""

    SAME = "same"
    OTHER = "other"
    UNTOLD = "untold"
    """Neither is told by both."""


def usable_uuid(uuid: str | None) -> str | None:
    """A UUID that can tell servers apart, in lower case; None for a blank, a placeholder or none at all."""
    text = (uuid or "").strip().lower()
    digits = set(text.replace("-", ""))
    return None if len(digits) < 2 or text in PLACEHOLDERS else text


def usable_serial(serial: str | None) -> str | None:
    """A serial number that can tell servers apart; None for a blank one or a word that stands for none."""
    text = (serial or "").strip().lower()
    return None if text in FILLERS or len(set(text.replace(" ", ""))) < 2 else text


def spellings(uuid: str) -> tuple[str, str]:
    """A usable UUID as it is, and in the other byte order.

    SMBIOS keeps the first three fields little-endian (DSP0134, 7.2.1), RFC 9562 spells them big-endian; firmware that
    reads the table may spell the one or the other, and another release of it otherwise.
    """
    return uuid, _swapped(uuid)


def is_same_uuid(one: str, two: str) -> bool:
    """Whether two usable UUIDs are one, be it in the other byte order."""
    return two in spellings(one)


def _swapped(uuid: str) -> str:
    fields = uuid.split("-")
    if [len(field) for field in fields] != [8, 4, 4, 4, 12]:
        return uuid
    return "-".join([*("".join(reversed(_pairs(field))) for field in fields[:3]), *fields[3:]])


def _pairs(text: str) -> list[str]:
    return [text[at : at + 2] for at in range(0, len(text), 2)]


def compare(known: Identified, told: Identified) -> tuple[Likeness, str]:
    """Whether two are one server, and by what they differ in words, empty where they don't.

    One identifier that differs is enough for two: servers of one chassis may share its serial, boards of one batch
    their UUID.
    """
    found = Likeness.UNTOLD
    for word, ours, theirs, usable, is_one in (
        ("serial", known.serial, told.serial, usable_serial, str.__eq__),
        ("UUID", known.uuid, told.uuid, usable_uuid, is_same_uuid),
    ):
        one, two = usable(ours), usable(theirs)
        if one is None or two is None:
            continue
        if not is_one(one, two):
            return Likeness.OTHER, f"{word} {theirs}, known is {ours}"
        found = Likeness.SAME
    return found, ""
