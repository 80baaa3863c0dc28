"""Device credentials at rest: AES-GCM under a key derived from the site's secret."""

from __future__ import annotations

import hashlib
import hmac
import os

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from django.conf import settings


def derive(purpose: str) -> bytes:
    """A 32 byte key for one purpose from the site's secret."""
    return hmac.new(settings.SECRET_KEY.encode(), f"ordnung {purpose}".encode(), hashlib.sha256).digest()


def encrypt(plain: str, owner: str) -> bytes:
    """Encrypt a secret so that it can only be read back for the same owner."""
    nonce = os.urandom(12)
    return nonce + AESGCM(derive("credentials")).encrypt(nonce, plain.encode(), owner.encode())


def decrypt(sealed: bytes, owner: str) -> str:
    """The secret. Raises ValueError when the site's secret has changed or the row was moved."""
    try:
        return AESGCM(derive("credentials")).decrypt(bytes(sealed[:12]), bytes(sealed[12:]), owner.encode()).decode()
    except InvalidTag:
        raise ValueError(f"the credentials of {owner} can't be read with this site's secret") from None
