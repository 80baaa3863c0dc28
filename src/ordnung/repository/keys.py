"""The private keys that Ordnung keeps: Ed25519, encrypted, each in a file named by its id."""

from __future__ import annotations

from pathlib import Path

from cryptography.exceptions import InvalidKey
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from securesystemslib.signer import CryptoSigner, SSlibKey

from ordnung.store.copying import write_durably
from ordnung.store.errors import RepositoryError

OLD_NAMES = ("root", "online")
"""Until 0.3 two keys were kept under these names."""


class KeyBox:
    """A folder of private keys."""

    def __init__(self, folder: Path, secret: bytes) -> None:
        """Open the folder. Raises RepositoryError when a key there was encrypted with another secret."""
        folder.mkdir(parents=True, exist_ok=True)
        self.folder, self._secret = folder, secret
        self.signers: dict[str, CryptoSigner] = {}
        for path in sorted(folder.glob("*.pem")):
            signer = CryptoSigner(load_private_key(path, secret))
            self.signers[signer.public_key.keyid] = signer

    def make(self) -> CryptoSigner:
        """A new key, kept from now on."""
        signer = CryptoSigner(Ed25519PrivateKey.generate())
        write_durably(self.folder / f"{signer.public_key.keyid}.pem", spell_private_key(signer, self._secret), 0o600)
        self.signers[signer.public_key.keyid] = signer
        return signer

    def named(self, name: str) -> CryptoSigner | None:
        """One of the keys of before 0.4, or None."""
        path = self.folder / f"{name}.pem"
        return CryptoSigner(load_private_key(path, self._secret)) if path.exists() else None


def load_private_key(path: Path, secret: bytes | None) -> Ed25519PrivateKey:
    """A private key from a PEM file. Raises RepositoryError when it can't be opened or is of another kind."""
    try:
        key = serialization.load_pem_private_key(path.read_bytes(), secret)
    except (ValueError, TypeError, InvalidKey):
        message = "it is no private key, or it was encrypted with another password"
        raise RepositoryError("broken", path.name, message) from None
    if not isinstance(key, Ed25519PrivateKey):
        raise RepositoryError("broken", path.name, "it is not an Ed25519 key")
    return key


def spell_private_key(signer: CryptoSigner, secret: bytes | None) -> bytes:
    """A private key as PEM (PKCS 8), encrypted when there is a secret."""
    protection = serialization.BestAvailableEncryption(secret) if secret else serialization.NoEncryption()
    kind = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8
    return signer._private_key.private_bytes(*kind, protection)


def public_key(text: str) -> SSlibKey:
    """A public key from its 64 hex digits. Raises RepositoryError for anything else."""
    try:
        return SSlibKey.from_crypto(Ed25519PublicKey.from_public_bytes(bytes.fromhex(text.strip())))
    except ValueError:
        raise RepositoryError("broken", "key", "not an Ed25519 public key: 64 hex digits") from None


def public_hex(key: SSlibKey) -> str:
    """The 64 hex digits of a public key."""
    return str(key.keyval["public"])
