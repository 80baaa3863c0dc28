"""Our JSON documents: bounded, strict reading against the shipped JSON Schemas, and fixed writing."""

from __future__ import annotations

import functools
import importlib.resources
import json
from collections.abc import Mapping
from typing import Any

import jsonschema

from ordnung.formats.errors import FormatError

MAX_BYTES = 64 * 1024 * 1024
"""A catalog of 100,000 releases is about 50 MB; anything larger is not one of our documents."""
MAX_DEPTH = 24
"""Our documents nest at most 8 deep."""


@functools.cache
def _validator(name: str) -> jsonschema.Draft202012Validator:
    text = importlib.resources.files("ordnung.formats.schemas").joinpath(f"{name}.json").read_text("utf-8")
    return jsonschema.Draft202012Validator(json.loads(text))


def parse_document(raw: bytes, name: str, source: str) -> dict[str, Any]:
    """A JSON document of ours, checked against its schema.

    Args:
        raw: the file's bytes.
        name: the schema's name; the document's ``format`` must be ``ordnung.NAME/1``.
        source: what to call the file in messages.

    Raises:
        FormatError: too large, cut short, not JSON, of another format or version, or not by the
            schema; up to five faults are named with their places.
    """
    if len(raw) > MAX_BYTES:
        raise FormatError(source, "", f"larger than {MAX_BYTES // 2**20} MiB")
    try:
        document = json.loads(raw.decode("utf-8"), object_pairs_hook=_no_doubles)
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
    return _check(document, name, source)


def _no_doubles(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    result = dict(pairs)
    if len(result) != len(pairs):
        raise ValueError("a name stands twice in one object")
    return result


def _check(document: Any, name: str, source: str) -> dict[str, Any]:
    if not isinstance(document, dict):
        raise FormatError(source, "", "not a JSON object")
    if document.get("format") != f"ordnung.{name}/1":
        raise FormatError(source, "format", f"{document.get('format')!r} is not ordnung.{name}/1")
    if _depth(document) > MAX_DEPTH:
        raise FormatError(source, "", "nested too deeply")
    faults = sorted(_validator(name).iter_errors(document), key=lambda e: [str(p) for p in e.absolute_path])
    if faults:
        places = [f"{_path(fault)}: {fault.message[:160]}" for fault in faults[:5]]
        raise FormatError(
            source,
            places[0].split(": ", 1)[0],
            "; ".join(p.split(": ", 1)[1] for p in places[:1]) + _others(places, faults),
        )
    return document


def _others(places: list[str], faults: list[Any]) -> str:
    if len(places) < 2:
        return ""
    more = f" and {len(faults) - len(places)} more" if len(faults) > len(places) else ""
    return "; also " + "; ".join(places[1:]) + more


def _path(fault: jsonschema.ValidationError) -> str:
    return ".".join(str(part) for part in fault.absolute_path) or "document"


def _depth(value: Any, level: int = 1) -> int:
    if level > MAX_DEPTH:
        return level
    children = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return max((_depth(child, level + 1) for child in children), default=level)


def write_document(document: Mapping[str, Any]) -> bytes:
    """The fixed spelling of a document: UTF-8, two spaces, a final newline; same input, same bytes."""
    return (json.dumps(document, ensure_ascii=False, indent=2) + "\n").encode()
