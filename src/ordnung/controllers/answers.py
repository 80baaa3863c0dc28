"""What a controller answers, made safe once, in one place: whatever comes in, a JSON object or a named cause comes out.

Text from a device is data: control characters and halves of surrogate pairs are replaced here, so that they reach no
terminal, log or page. Numbers are numbers only in ASCII digits; times to wait are bounded.
"""

from __future__ import annotations

import email.utils
import json
import re
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

from ordnung.formats.documents import is_deeper
from ordnung.formats.text import clean

Json = dict[str, Any]
MAX_DEPTH = 60
"""How deep an answer may nest, expanded ones included; real ones stay below 20."""
MAX_TEXT = 500
"""The longest text of a device that is kept, in characters: the readings' format allows no more."""
WAIT_S = 30.0
"""How long to leave a busy controller alone that names no time, in seconds."""
LONGEST_S = 86_400.0
"""What a Retry-After beyond all reason counts as."""
_SUSPECT = re.compile(rb"[\x00-\x1f\x7f]|\\[bfnrtu]|\xc2[\x80-\x9f]|\xe2[\x80\x81]|\xef\xbb\xbf|\xed[\xa0-\xbf]")


_HARMLESS = bytes(byte for byte in range(0x20, 0xF0) if byte not in b"\\\x7f\xc2\xe2\xed\xef")
"""Bytes that begin nothing suspect: most answers have no others, and to see that takes a tenth of a search."""


class MalformedError(ValueError):
    """An answer that is no JSON object, or one that no reader could bear."""


@dataclass(frozen=True, slots=True)
class Answer:
    """One answer: status, headers (names in lower case) and the JSON body (empty when there is none)."""

    status: int
    headers: Mapping[str, str]
    body: Json

    def header(self, name: str) -> str | None:
        """A header by its name in any case."""
        return self.headers.get(name.lower())


def parse_body(raw: bytes, status: int) -> Json:
    """The JSON object of an answer; empty for an empty body, and for an error's body that is none.

    Raises:
        MalformedError: not a JSON object, NaN or infinite numbers, or nested deeper than ``MAX_DEPTH``.
    """
    if not raw.strip():
        return {}
    try:
        body = _DECODER.decode(raw.decode(json.detect_encoding(raw), "surrogatepass"))
        if not isinstance(body, dict):
            raise MalformedError("not a JSON object")
        # What opens no more often can't nest deeper: most answers need no second look.
        if raw.count(b"{") + raw.count(b"[") > MAX_DEPTH and is_deeper(body, MAX_DEPTH):
            raise MalformedError(f"nested deeper than {MAX_DEPTH} levels")
        suspect = raw.translate(None, _HARMLESS) and _SUSPECT.search(raw)
        return _cleaned(body) if suspect else body
    except (ValueError, RecursionError) as error:
        if status >= 400:
            return {}
        raise error if isinstance(error, MalformedError) else MalformedError("not a JSON object") from None


def _refuse_constant(name: str) -> float:
    raise MalformedError(f"{name} is no number")


_DECODER = json.JSONDecoder(strict=False, parse_constant=_refuse_constant)


def _cleaned(value: Any) -> Any:
    """The same with every unsafe character replaced; no deeper than ``MAX_DEPTH``."""
    if isinstance(value, str):
        return clean(value)
    if isinstance(value, dict):
        return {clean(str(key)): _cleaned(inner) for key, inner in value.items()}
    return [_cleaned(inner) for inner in value] if isinstance(value, list) else value


def as_dict(value: Any) -> Json:
    """The object, or an empty one for anything else."""
    return value if isinstance(value, dict) else {}


def as_list(value: Any) -> list[Json]:
    """The objects of a list, or none for anything else."""
    return [item for item in value if isinstance(item, dict)] if isinstance(value, list) else []


def as_text(value: Any, limit: int = MAX_TEXT) -> str | None:
    """A string with blanks around it cut, at most ``limit`` characters, the last one … when it was longer.

    Numbers are taken as strings (some controllers send them).
    """
    if not isinstance(value, str):
        if isinstance(value, bool) or not isinstance(value, int | float):
            return None
        value = str(value)
    text = clean(value).strip()
    return (text if len(text) <= limit else f"{text[: limit - 1]}…") or None


def as_number(value: Any) -> int | None:
    """A whole number that is not negative, also as a controller spells it that sends strings; ASCII digits only."""
    if isinstance(value, bool):
        return None
    if isinstance(value, float):
        return int(value) if value >= 0 and value == value and value < 2**63 else None
    text = str(value).strip() if isinstance(value, int | str) else ""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 19 else None


def as_path(value: Any) -> str | None:
    """The path (with its query) of a URI a controller names, or None; where it says it is does not matter."""
    if not isinstance(value, str):
        return None
    try:
        parts = urlsplit(value.strip())
    except ValueError:
        return None
    return (f"{parts.path}?{parts.query}" if parts.query else parts.path) or None


def is_true(value: object) -> bool:
    """A flag, also as a controller spells it that sends strings."""
    return value is True or (isinstance(value, str) and value.strip().lower() == "true")


def link_of(value: object) -> str | None:
    """The ``@odata.id`` of a link object, or None."""
    link = value.get("@odata.id") if isinstance(value, dict) else None
    return link if isinstance(link, str) and link else None


def retry_after(answer: Answer) -> float:
    """How long a busy controller asks to be left alone, in seconds (RFC 9110, 10.2.3): a number or a date, bounded."""
    header = answer.header("Retry-After")
    seconds = as_number(header)
    if seconds is None and header:
        try:
            moment = email.utils.parsedate_to_datetime(header)
        except (ValueError, TypeError, OverflowError):
            return WAIT_S
        moment = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
        return min(LONGEST_S, max(1.0, (moment - datetime.now(UTC)).total_seconds()))
    return WAIT_S if seconds is None else min(LONGEST_S, max(1.0, float(seconds)))


def error_text(body: Json) -> str:
    """What a Redfish error body says, shortened; the first extended message if there is one."""
    error = as_dict(body.get("error"))
    first = next(iter(as_list(error.get("@Message.ExtendedInfo"))), {})
    return as_text(first.get("Message"), 300) or as_text(error.get("message"), 300) or ""


_REFUSED = frozenset({307, 308, 501, 503, 505, 507})
"""Of redirections and errors of servers those that say that nothing was done (RFC 9110, 15.4, 15.6; RFC 4918, 11.5)."""


def leaves_open(answer: Answer) -> bool:
    """Whether an answer to a request that changes something does not tell whether that was done.

    A server that failed (500), or stands before the one that was meant (502, 504), may have passed it on.
    """
    return (answer.status >= 500 or 300 <= answer.status < 400) and answer.status not in _REFUSED


_LATER = frozenset({"ResourceInUse", "UpdateInProgress", "ServiceTemporarilyUnavailable", "ServiceShuttingDown"})
"""Messages that say *not now*: their resolution is to send it again later (DSP8011, Base and Update registries)."""


def wants_it_later(body: Json) -> bool:
    """Whether an error body refuses for the moment alone: what is asked for is in use."""
    return not _LATER.isdisjoint(_messages(body))


def wants_new_password(body: Json) -> bool:
    """Whether what was refused is not let be done before the account's password is changed (DSP8011, Base registry).

    A session is opened all the same (DSP0266, "Password management"), and some services let it do everything.
    """
    return "PasswordChangeRequired" in _messages(body)


def has_no_session_left(body: Json) -> bool:
    """Whether a sign-in was refused because others hold all the sessions there are, whatever its status (DSP8011)."""
    return "SessionLimitExceeded" in _messages(body)


_UNKNOWN = {"ActionParameterUnknown": 1, "ActionParameterNotSupported": 0, "PropertyUnknown": 0}
"""Messages that refuse what is not known, and which of their arguments tells its name (DSP8011, Base registry)."""


def unknown_names(body: Json) -> frozenset[str]:
    """What of a refused request is not known, by its names: of an action's parameters, or of properties."""
    found = set()
    for told in as_list(as_dict(body.get("error")).get("@Message.ExtendedInfo")):
        place, args = _UNKNOWN.get((as_text(told.get("MessageId")) or "").rpartition(".")[2]), told.get("MessageArgs")
        if place is not None and isinstance(args, list) and len(args) > place:
            found.add(str(args[place]).rpartition("/")[2])
    return frozenset(found)


def _messages(body: Json) -> set[str]:
    """The keys of all messages that an error bears."""
    error = as_dict(body.get("error"))
    told = [error.get("code"), *(message.get("MessageId") for message in as_list(error.get("@Message.ExtendedInfo")))]
    return {(as_text(name) or "").rpartition(".")[2] for name in told}


async def follow_members(
    find: Callable[[str], Awaitable[Json | None]], path: str | None, limit: int
) -> list[str | Json]:
    """The members of a collection, page after page, up to a limit: each a path, or the member itself where it
    stands in the collection without a link of its own. A member named twice is one.

    Raises:
        MalformedError: it lists more than that.
    """
    members: list[str | Json] = []
    seen: set[str] = set()
    named: set[str] = set()
    first = path
    while path is not None and path not in seen:
        if len(members) > limit:
            raise MalformedError(f"{first} lists more than {limit} members")
        seen.add(path)
        collection = await find(path)
        if collection is None:
            break
        for member in as_list(collection.get("Members")):
            link = link_of(member)
            if link is None:
                if any(not key.startswith("@") for key in member):
                    members.append(member)
            elif link not in named:
                named.add(link)
                members.append(link)
        path = as_path(collection.get("Members@odata.nextLink"))
    return members
