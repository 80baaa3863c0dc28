"""Our JSON documents: bounded, strict reading against the shipped JSON Schemas, and fixed writing."""

from __future__ import annotations

import datetime
import functools
import importlib.resources
import itertools
import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

import jsonschema
import jsonschema_rs

from ordnung.formats.errors import Fault, FormatError

MAX_BYTES = 64 * 1024 * 1024
"""A catalog of 100,000 releases is about 50 MB; anything larger is not one of our documents."""
MAX_DEPTH = 64
"""Our documents nest at most 8 deep; an advisory's product tree is the deepest that is read."""
MAX_FAULTS = 200


def _schema(name: str) -> Any:
    return json.loads(importlib.resources.files("ordnung.formats.schemas").joinpath(f"{name}.json").read_text("utf-8"))


def _each_once(_: Any, unique: bool, found: Any, __: Any) -> Iterator[jsonschema.ValidationError]:
    """``uniqueItems`` in the time that the items take; the library compares each with each."""
    if unique and isinstance(found, list) and len({json.dumps(item, sort_keys=True) for item in found}) < len(found):
        yield jsonschema.ValidationError("an item stands twice in it")


_Wording = jsonschema.validators.extend(  # type: ignore[no-untyped-call]
    jsonschema.Draft202012Validator, {"uniqueItems": _each_once}
)


@functools.cache
def _validator(name: str) -> Any:
    return _Wording(_schema(name))


@functools.cache
def _quick(name: str) -> jsonschema_rs.Draft202012Validator:
    return jsonschema_rs.Draft202012Validator(_schema(name))


def parse_document(raw: bytes, name: str, source: str) -> dict[str, Any]:
    """A JSON document of ours, checked against its schema.

    Args:
        raw: the file's bytes.
        name: the schema's name; the document's ``format`` must be ``ordnung.NAME/1``.
        source: what to call the file in messages.

    Raises:
        FormatError: too large, cut short, not JSON, of another format or version, or not by the
            schema; every fault is named with its place.
    """
    document = load_json(raw, source)
    if document.get("format") != f"ordnung.{name}/1":
        raise FormatError(source, "format", f"{document.get('format')!r} is not ordnung.{name}/1")
    check_schema(document, name, source)
    return document


def load_json(raw: bytes, source: str) -> dict[str, Any]:
    """A JSON object from bytes, bounded in size and depth, no name twice in one object, no text that is none.

    Raises:
        FormatError: too large, cut short, not JSON, not an object, nested too deeply, or with halves of surrogate
            pairs (RFC 8259, 8.2, leaves it open what they mean; nothing that is written or stored may hold them).
    """
    if len(raw) > MAX_BYTES:
        raise FormatError(source, "", f"larger than {MAX_BYTES // 2**20} MiB")
    try:
        document = json.loads(raw.decode("utf-8"), object_pairs_hook=_no_doubles, parse_constant=_no_constant)
    except RecursionError:
        raise FormatError(source, "", "nested too deeply") from None
    except UnicodeDecodeError as error:
        raise FormatError(source, f"byte {error.start}", "not UTF-8") from None
    except json.JSONDecodeError as error:
        cut = error.pos >= len(error.doc.rstrip()) or "Unterminated" in error.msg
        what = "the file ends in the middle: it was cut short" if cut else f"not JSON: {error.msg}"
        raise FormatError(source, f"line {error.lineno}, column {error.colno}", what) from None
    except ValueError as error:
        raise FormatError(source, "", str(error)) from None
    if not isinstance(document, dict):
        raise FormatError(source, "", "not a JSON object")
    if is_deeper(document, MAX_DEPTH):
        raise FormatError(source, "", "nested too deeply")
    if _SURROGATE.search(raw) and not _is_text(document):
        raise FormatError(source, "", "half of a surrogate pair stands in it, which is no character")
    return document


_SURROGATE = re.compile(rb"\\u[dD][89a-fA-F]")


def _is_text(document: dict[str, Any]) -> bool:
    try:
        json.dumps(document, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return False
    return True


def _no_constant(word: str) -> float:
    raise ValueError(f"{word} is not a number in JSON")


def _no_doubles(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    result = dict(pairs)
    if len(result) != len(pairs):
        raise ValueError("a name stands twice in one object")
    return result


def check_schema(document: dict[str, Any], name: str, source: str) -> None:
    """Check a document against a shipped schema. Raises FormatError with its first faults, in order of place.

    ``MAX_FAULTS`` are looked for: to word every one of a file that is wrong throughout takes half a minute.

    Whether all is well is asked of the compiled checker, which is some hundred times as fast; only a
    document that has faults is gone through by the one that words them.
    """
    if _quick(name).is_valid(document):
        return
    found = itertools.islice(_validator(name).iter_errors(document), MAX_FAULTS)
    faults = sorted(found, key=lambda fault: [str(part) for part in fault.absolute_path])
    first = [Fault(_path(fault), fault.message[:160]) for fault in faults]
    raise FormatError.of(source, first or [Fault("document", "not by its schema")])


def _path(fault: jsonschema.ValidationError) -> str:
    return ".".join(str(part) for part in fault.absolute_path) or "document"


_NESTS = (dict, list)
"""A union would be made anew for each of the many values it is asked of."""


def is_deeper(value: Any, most: int) -> bool:
    """Whether objects and lists nest deeper in a value than so many levels; the value itself is the first."""
    level = [value]
    for _ in range(most):
        inner = (part.values() if isinstance(part, dict) else part for part in level)
        level = [child for children in inner for child in children if isinstance(child, _NESTS)]
        if not level:
            return False
    return True


def write_document(document: Mapping[str, Any]) -> bytes:
    """The fixed spelling of a document: UTF-8, two spaces, a final newline; same input, same bytes."""
    return (json.dumps(document, ensure_ascii=False, indent=2) + "\n").encode()


def read_instant(text: str, source: str, place: str) -> datetime.datetime:
    """An instant of RFC 3339 in UTC. Raises FormatError: it is no time, says no zone, or lies before all calendars."""
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise FormatError(source, place, f"{text} is not a time") from None
    if moment.tzinfo is None:
        raise FormatError(source, place, f"{text} does not say its zone")
    try:
        return moment.astimezone(datetime.UTC)
    except OverflowError:
        raise FormatError(source, place, f"{text} is not a time") from None
