"""What the API says of servers, and what it takes."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from ordnung.server.assessment.present import CellRow, ComponentRow, RoundRow, StrandedRow
from ordnung.server.shapes import limited, spelled
from ordnung.server.work.rows import FailureRow

NAME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$"
URL = r"^https://[A-Za-z0-9.:\[\]-]+$"
PIN = r"^[0-9a-f]{64}$"


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerRow:
    name: str
    model: str
    serial: str | None
    room: str
    rack: str
    unit: int
    height: int
    role: str
    group: str | None
    may_be_away: int | None
    read_at: datetime.datetime | None
    failure: FailureRow | None
    cells: list[CellRow]
    signature: str
    resets: str
    outages: int
    off: int
    exposed: int
    components: int
    running: int | None
    tags: list[str]
    lost: int
    seen_pin: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerPageRow:
    total: int
    offset: int
    servers: list[ServerRow]


@dataclass(frozen=True, slots=True, kw_only=True)
class HindranceRow:
    what: str
    seen: str
    remedy: str
    stops: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class ReachWayRow:
    way: str
    open: bool | None
    seen: str
    remedy: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LostPartRow:
    slot: str
    kind: str
    name: str
    version: str | None
    missed_at: datetime.datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerDetailRow(ServerRow):
    url: str
    user: str
    pin: str | None
    seen_uuid: str | None
    seen_serial: str | None
    parts: list[ComponentRow]
    rounds: list[RoundRow]
    stranded: list[StrandedRow]
    proof: str
    readings: int
    uuid: str | None
    tag: str | None
    power: str | None
    health: str | None
    hindrances: list[HindranceRow]
    ways: list[ReachWayRow]
    probed_at: datetime.datetime | None
    lost_parts: list[LostPartRow]
    reported_at: datetime.datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Credentials:
    user: str = limited(max_length=200)
    password: str = limited(max_length=500, write_only=True, trim_whitespace=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Trust:
    pin: str = spelled(PIN)


@dataclass(frozen=True, slots=True, kw_only=True)
class OtherBoard:
    """By what a server tells itself now, as it was shown; empty where it tells none."""

    uuid: str = limited(max_length=500, allow_blank=True)
    serial: str = limited(max_length=500, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class NewServer(Credentials):
    name: str = spelled(NAME)
    url: str = spelled(URL, max_length=300)
    rack: str = limited(default="", max_length=20, allow_blank=True)
    unit: int = limited(default=0, min_value=0, max_value=100)


@dataclass(frozen=True, slots=True, kw_only=True)
class ManyCredentials(Credentials):
    """For named servers, for a group, or for both."""

    servers: list[str] = limited(default=list, max_length=50000, child_kwargs={"max_length": 200})
    group: str = limited(default="", max_length=200, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class Accept(Trust):
    server: str = limited(max_length=200)


@dataclass(frozen=True, slots=True, kw_only=True)
class ManyTrust:
    accept: list[Accept]


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerChange:
    """What is given is changed, the rest stays."""

    url: str | None = spelled(URL, default=None, max_length=300)
    room: str | None = limited(default=None, max_length=100, allow_blank=True)
    rack: str | None = limited(default=None, max_length=20, allow_blank=True)
    unit: int | None = limited(default=None, min_value=0, max_value=100)
    height: int | None = limited(default=None, min_value=1, max_value=20)
    role: str | None = limited(default=None, max_length=200, allow_blank=True)
    group: str | None = limited(default=None, max_length=200, allow_blank=True)
    tags: list[str] | None = limited(default=None, max_length=50, child_kwargs={"max_length": 60})


@dataclass(frozen=True, slots=True, kw_only=True)
class Names:
    """Servers by name; none means all."""

    servers: list[str] | None = limited(default=None, max_length=50000, child_kwargs={"max_length": 200})


@dataclass(frozen=True, slots=True, kw_only=True)
class Whom(Names):
    """Servers by name; none means all, or with ``failed`` those whose last reading failed."""

    failed: bool = False
