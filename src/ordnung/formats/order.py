"""An order, ``ordnung.order/1``: what the field kit on a disc is to do with one server, without asking anybody.

It lies behind the image, where a disc's own volume ends: the image is the same for every server and stays under its
seal (``docs/formats/order.md``). It gives no right that the kit would not have: whatever is sent comes from under the
seal, and is sent to the server that is named and to no other.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, BinaryIO, NamedTuple

from ordnung.core.same_server import Likeness, compare
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError

FORMAT = "ordnung.order/1"
MARK = b"ORDNUNG ORDER\n"
"""What an order begins with, so that whatever else lies there is taken for nothing."""
SECTOR = 2048
MOST_BYTES = 1024 * 1024
_VOLUME_AT, _SIZE_AT = 16 * SECTOR, 80
"""ECMA-119, 8.4: the primary volume descriptor, and in it the volume's size in logical blocks."""


class _Told(NamedTuple):
    uuid: str | None
    serial: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Order:
    """``writes``: slots with what they get, by its checksum; ``rules``: a document of the house's rules.

    ``overrides``: checks that a person has overridden for this server, with the reasons.
    """

    run: str
    server: str
    uuid: str = ""
    serial: str = ""
    group: str = ""
    writes: tuple[tuple[str, str], ...]
    rules: Mapping[str, Any]
    overrides: Mapping[str, str] = field(default_factory=dict)

    @property
    def mark(self) -> str:
        """Under what the kit leaves word of how it ended."""
        return mark_of(self.run, self.server)

    def is_for(self, uuid: str | None, serial: str | None) -> bool:
        """Whether it names the server with these, by whatever tells servers apart of what both know."""
        return compare(self, _Told(uuid, serial))[0] is Likeness.SAME


def mark_of(run: str, server: str) -> str:
    """What a word about an order is known by: twelve hexadecimal digits."""
    return hashlib.sha256(f"{run}\0{server}".encode()).hexdigest()[:12]


def write_order(order: Order) -> bytes:
    """An order as a file."""
    named = {"name": order.server, "uuid": order.uuid, "serial": order.serial, "group": order.group}
    body = {
        "format": FORMAT,
        "run": order.run,
        "server": {key: value for key, value in named.items() if value},
        "writes": [{"slot": slot, "brings": brings} for slot, brings in order.writes],
        "rules": dict(order.rules),
        "overrides": dict(order.overrides),
    }
    return write_document(body)


def parse_order(raw: bytes, source: str = "order") -> Order:
    """An order from its file. Raises FormatError: not by the schema."""
    body = parse_document(raw, "order", source)
    server = body["server"]
    return Order(
        run=body["run"], server=server["name"], uuid=server.get("uuid", ""), serial=server.get("serial", ""),
        group=server.get("group", ""), writes=tuple((w["slot"], w["brings"]) for w in body["writes"]),
        rules=body["rules"], overrides=body.get("overrides", {}),
    )  # fmt: skip


def tail_of(raw: bytes) -> bytes:
    """What is put behind an image so that it brings an order along: whole sectors. Raises ValueError: too long."""
    marked = MARK + struct.pack("<I", len(raw)) + raw
    if len(marked) > MOST_BYTES:
        raise ValueError(f"an order of {len(marked)} bytes is longer than {MOST_BYTES}")
    return marked + bytes(-len(marked) % SECTOR)


def find_order(disc: BinaryIO) -> bytes | None:
    """The order behind the image on a disc, or in a file of one; None where there is none. Raises OSError."""
    disc.seek(_VOLUME_AT)
    volume = disc.read(SECTOR)
    if volume[:6] != b"\x01CD001" or len(volume) < SECTOR:
        return None
    (blocks,) = struct.unpack_from("<I", volume, _SIZE_AT)
    disc.seek(blocks * SECTOR)
    head = disc.read(SECTOR)
    if not head.startswith(MARK):
        return None
    (size,) = struct.unpack_from("<I", head, len(MARK))
    if size > MOST_BYTES:
        return None
    begins = len(MARK) + 4
    disc.seek(blocks * SECTOR)
    raw = disc.read(begins + size)[begins:]
    if len(raw) < size:
        raise FormatError("the order behind the image", "", "it is cut short")
    return raw
