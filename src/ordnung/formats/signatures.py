"""Detached signatures: Ed25519 (RFC 8032) over a file's bytes as they are, in a file beside it named ``NAME.sig``."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Mapping

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from ordnung.formats.errors import FormatError

LENGTH, KEY_LENGTH = 64, 32


def read_signature(raw: bytes, source: str) -> bytes:
    """The 64 bytes of a signature, given raw, in hex or in base64. Raises FormatError for anything else."""
    return _bytes(raw, LENGTH, source, "an Ed25519 signature")


def read_key(text: str, source: str = "key") -> bytes:
    """The 32 bytes of a public key, given in hex or base64. Raises FormatError for anything else."""
    raw = _bytes(text.encode(), KEY_LENGTH, source, "an Ed25519 public key")
    Ed25519PublicKey.from_public_bytes(raw)
    return raw


def _bytes(raw: bytes, length: int, source: str, what: str) -> bytes:
    if len(raw) == length:
        return raw
    text = raw.strip()
    for decode in (bytes.fromhex, _base64):
        try:
            found = decode(text.decode("ascii"))
        except (ValueError, UnicodeDecodeError):
            continue
        if len(found) == length:
            return found
    raise FormatError(source, "", f"not {what}: {length} bytes, raw, in hex or in base64")


def _base64(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except binascii.Error as error:
        raise ValueError(str(error)) from None


def find_signer(raw: bytes, signature: bytes, keys: Mapping[str, bytes]) -> str | None:
    """The name of the key whose signature over ``raw`` this is, or None when no trusted key made it."""
    for name, key in keys.items():
        try:
            Ed25519PublicKey.from_public_bytes(key).verify(signature, raw)
        except InvalidSignature:
            continue
        return name
    return None


def signed_digest(sha256: str) -> bytes:
    """What a maker signs of a payload: the 32 bytes of its SHA-256, so that it needn't be held in memory."""
    return bytes.fromhex(sha256)
