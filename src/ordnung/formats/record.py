"""The record of a run as a file, ``ordnung.record/1``: signed by the site, to be checked anywhere.

The sum is SHA-256 over the canonical JSON (RFC 8785) of the member ``record``; the signature (Ed25519, RFC 8032) is
over the sum with the site's name (``docs/formats/record.md``).
"""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import cattrs
import orjson
import rfc8785
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from ordnung.core.run_record import RunRecord
from ordnung.formats.documents import parse_document, read_instant
from ordnung.formats.errors import FormatError

FORMAT = "ordnung.record/1"
_converter = cattrs.Converter(detailed_validation=False)
_converter.register_structure_hook(datetime.datetime, lambda text, _: read_instant(text, "record", "record"))


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordFile:
    """A record as it was given out. ``found`` is the sum of what stands in it, ``sha256`` the one it was signed by."""

    site: str
    record: RunRecord
    found: str
    sha256: str
    key: str
    signature: str


def sign_record(site: str, record: RunRecord, key: Ed25519PrivateKey) -> RecordFile:
    """A record signed with the key of a site."""
    found = _sum(_body(record))
    public = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()
    signature = key.sign(_signed(site, found)).hex()
    return RecordFile(site=site, record=record, found=found, sha256=found, key=public, signature=signature)


def check_record(file: RecordFile, key: str | None = None) -> tuple[str, ...]:
    """Everything that speaks against a record being what the site gave out, in sentences; empty when it is.

    Args:
        key: the site's public key in hex, from where it was given out; None: the file's own is believed.
    """
    faults = []
    if file.found != file.sha256:
        faults.append("The record was changed after it was given out: its sum is another.")
    if key is not None and file.key != key:
        faults.append("It is signed by another key than the site's.")
    if not _is_signed(file):
        faults.append("Its signature does not hold.")
    return tuple(faults)


def _is_signed(file: RecordFile) -> bool:
    try:
        public = Ed25519PublicKey.from_public_bytes(bytes.fromhex(file.key))
        public.verify(bytes.fromhex(file.signature), _signed(file.site, file.sha256))
    except (InvalidSignature, ValueError):
        return False
    return True


def _signed(site: str, sha256: str) -> bytes:
    return rfc8785.dumps({"format": "ordnung.record-seal/1", "site": site, "sha256": sha256})


def _sum(body: Mapping[str, Any]) -> str:
    return hashlib.sha256(rfc8785.dumps(dict(body))).hexdigest()


def _body(record: RunRecord) -> dict[str, Any]:
    found: dict[str, Any] = orjson.loads(orjson.dumps(record, option=orjson.OPT_UTC_Z))
    return found


def write_record(file: RecordFile) -> bytes:
    """A record as a file."""
    body = {
        "format": FORMAT,
        "site": file.site,
        "record": _body(file.record),
        "sha256": file.sha256,
        "key": file.key,
        "signature": file.signature,
    }
    return orjson.dumps(body, option=orjson.OPT_INDENT_2) + b"\n"


def parse_record(raw: bytes, source: str = "record") -> RecordFile:
    """A record from its file. Raises FormatError: not by the schema, or a time that is none."""
    document = parse_document(raw, "record", source)
    try:
        found = _sum(document["record"])
    except rfc8785.CanonicalizationError as error:
        raise FormatError(source, "record", str(error)) from None
    return RecordFile(
        site=document["site"],
        record=_converter.structure(document["record"], RunRecord),
        found=found,
        sha256=document["sha256"],
        key=document["key"],
        signature=document["signature"],
    )
