"""The keys that seal repositories: made on first use, kept encrypted in a folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from securesystemslib.signer import CryptoSigner

ROLES = ("root", "targets", "snapshot", "timestamp")


@dataclass(frozen=True)
class SealKeys:
    """One Ed25519 signer for the root and one for the roles that are signed with every repository."""

    root: CryptoSigner
    online: CryptoSigner

    def signer(self, role: str) -> CryptoSigner:
        """Who signs a role."""
        return self.root if role == "root" else self.online

    @property
    def fingerprint(self) -> str:
        """The root key's id, to be compared at the far end."""
        return self.root.public_key.keyid


def open_keys(folder: Path, secret: bytes) -> SealKeys:
    """The keys kept in ``folder``, made on first use and encrypted with ``secret``.

    Raises:
        ValueError: the kept keys were encrypted with another secret.
    """
    folder.mkdir(parents=True, exist_ok=True)
    return SealKeys(*(CryptoSigner(_key(folder / f"{name}.pem", secret)) for name in ("root", "online")))


def _key(path: Path, secret: bytes) -> Ed25519PrivateKey:
    if path.exists():
        key = serialization.load_pem_private_key(path.read_bytes(), secret)
        assert isinstance(key, Ed25519PrivateKey)
        return key
    key = Ed25519PrivateKey.generate()
    protection = serialization.BestAvailableEncryption(secret)
    temporary = path.with_suffix(".new")
    temporary.touch(0o600)
    temporary.write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, protection))
    temporary.replace(path)
    return key
