"""Secrets at rest: each row under a data key of its own, that under a key of the site's key file.

The file lies beside the database, mode 0600, and is refused when others may read it. It holds keys by id, so that
they can be changed (``manage.py rotate_vault``), and one key for each other purpose. None of them signs sessions, and
none is derived from another.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
import tempfile
from dataclasses import dataclass
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from django.conf import settings

PURPOSES = ("seal keys", "payload paths")
_MARK = b"OV2"
_NONCE, _WRAPPED = 12, 48
_cached: tuple[Path, int, KeyFile] | None = None


class VaultError(Exception):
    """The key file can't be used; the sentence says why and what to do."""


@dataclass(frozen=True, slots=True)
class KeyFile:
    """The site's keys: by id, which of them is used for what is new, and one for each other purpose."""

    current: str
    keys: dict[str, bytes]
    purposes: dict[str, bytes]


def encrypt(plain: str, table: str, owner: str) -> bytes:
    """Encrypt a secret so that it can be read back for this owner in this table only."""
    file, data_key = key_file(), AESGCM.generate_key(256)
    bound = _bound(table, owner, file.current)
    wrap, seal = os.urandom(_NONCE), os.urandom(_NONCE)
    wrapped = AESGCM(file.keys[file.current]).encrypt(wrap, data_key, bound)
    name = file.current.encode()
    return (
        _MARK
        + bytes([len(name)])
        + name
        + wrap
        + wrapped
        + seal
        + AESGCM(data_key).encrypt(seal, plain.encode(), bound)
    )


def decrypt(sealed: bytes, table: str, owner: str) -> str:
    """The secret. Raises ValueError when its key is gone, or the row was moved or altered."""
    try:
        return _open(sealed, table, owner) if sealed.startswith(_MARK) else _open_first(sealed, owner)
    except (InvalidTag, IndexError, KeyError, ValueError):
        raise ValueError(f"the credentials of {owner} can't be read with this site's keys") from None


def _open(sealed: bytes, table: str, owner: str) -> str:
    size = sealed[len(_MARK)]
    at = len(_MARK) + 1
    name, at = sealed[at : at + size].decode(), at + size
    bound, key = _bound(table, owner, name), key_file().keys[name]
    wrap, wrapped = sealed[at : at + _NONCE], sealed[at + _NONCE : at + _NONCE + _WRAPPED]
    data_key = AESGCM(key).decrypt(wrap, wrapped, bound)
    at += _NONCE + _WRAPPED
    return AESGCM(data_key).decrypt(sealed[at : at + _NONCE], sealed[at + _NONCE :], bound).decode()


def _open_first(sealed: bytes, owner: str) -> str:
    """A row written before there was a key file; a rotation writes it anew."""
    return AESGCM(_first("credentials")).decrypt(sealed[:_NONCE], sealed[_NONCE:], owner.encode()).decode()


def _first(purpose: str) -> bytes:
    return hmac.new(settings.SECRET_KEY.encode(), f"ordnung {purpose}".encode(), hashlib.sha256).digest()


def _bound(table: str, owner: str, key: str) -> bytes:
    return f"{table}\0{owner}\0{key}".encode()


def purpose_key(purpose: str) -> bytes:
    """The 32 bytes kept for one purpose. Raises VaultError as ``key_file``."""
    return key_file().purposes[purpose]


# The key file


def key_path() -> Path:
    """Where the site's keys lie."""
    return Path(settings.HOME) / "vault.key"


def key_file() -> KeyFile:
    """The site's keys, made on first use.

    Raises:
        VaultError: the file is loose, or is none.
    """
    global _cached
    path = key_path()
    if not path.exists():
        _make(path)
    about = path.stat()
    if about.st_mode & 0o077:
        raise VaultError(f"{path} can be read by others. Take that away (chmod 600), and change what it protects.")
    if _cached is None or _cached[:2] != (path, about.st_mtime_ns):
        _cached = (path, about.st_mtime_ns, _read(path))
    return _cached[2]


def _read(path: Path) -> KeyFile:
    try:
        body = json.loads(path.read_text())
        keys = {name: bytes.fromhex(key) for name, key in body["keys"].items()}
        purposes = {name: bytes.fromhex(key) for name, key in body["purposes"].items()}
        found = KeyFile(body["current"], keys, purposes)
        if found.current not in keys or set(purposes) != set(PURPOSES):
            raise KeyError(found.current)
    except (ValueError, KeyError, TypeError, AttributeError, OSError) as error:
        raise VaultError(f"{path} is not a key file of Ordnung: bring back the one of your backup.") from error
    return found


def write_keys(file: KeyFile, path: Path, *, fresh: bool = False) -> None:
    """Put keys into their file, whole or not at all; a fresh one never over one that is there."""
    body = {
        "current": file.current,
        "keys": {name: key.hex() for name, key in file.keys.items()},
        "purposes": {name: key.hex() for name, key in file.purposes.items()},
    }
    write_private(path, json.dumps(body), fresh=fresh)


def write_private(path: Path, text: str, *, fresh: bool = False) -> None:
    """Write a file that nobody else may read, whole or not at all; a fresh one never over one that is there."""
    path.parent.mkdir(parents=True, exist_ok=True)
    number, name = tempfile.mkstemp(dir=path.parent, prefix=".private-")  # 0600 by itself
    temporary = Path(name)
    with os.fdopen(number, "w") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    try:
        if fresh:
            path.hardlink_to(temporary)  # fails where another process was quicker: its keys are as good
        else:
            temporary.replace(path)
    except FileExistsError:
        pass
    finally:
        temporary.unlink(missing_ok=True)


def new_id() -> str:
    """An id for a new key."""
    return secrets.token_hex(4)


def _make(path: Path) -> None:
    is_older = (Path(settings.HOME) / "keys").exists()  # its seal keys were encrypted before there was a key file
    purposes = {name: _first(name) if is_older else secrets.token_bytes(32) for name in PURPOSES}
    name = new_id()
    write_keys(KeyFile(name, {name: secrets.token_bytes(32)}, purposes), path, fresh=True)
