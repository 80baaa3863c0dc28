"""A user of its own for who runs inside a server, handed out by its controller (DSP0270, "Credential bootstrapping").

It comes over IPMI, so that nobody needs to know a password and no network need be trusted; the certificate's
fingerprint comes the same way.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

GROUP_EXTENSION, REDFISH = 0x2C, 0x52
FINGERPRINT, CREDENTIALS = 0x01, 0x02
STAYS_ENABLED = 0xA5
SHA_256 = 0x01
_SIZE = 16

Ask = Callable[[int, int, bytes], bytes]
"""(network function, command, data) to the answer, completion code first. Raises OSError."""


@dataclass(frozen=True, slots=True)
class Handed:
    """A user, its password, and the SHA-256 of the certificate that the service shows; empty where that is not told."""

    user: str
    password: str = field(repr=False)
    pin: str = ""


def bootstrap(ask: Ask) -> Handed | None:
    """Ask for a user and the fingerprint; None where the controller hands out none, or can't be asked.

    Bootstrapping stays enabled: after the next reset it is asked again.
    """
    try:
        answer = ask(GROUP_EXTENSION, CREDENTIALS, bytes([REDFISH, STAYS_ENABLED]))
        proof = ask(GROUP_EXTENSION, FINGERPRINT, bytes([REDFISH, 1]))
    except OSError:
        return None
    if len(answer) < 2 + 2 * _SIZE or answer[0] != 0 or answer[1] != REDFISH:
        return None
    user, password = (_text(answer[at : at + _SIZE]) for at in (2, 2 + _SIZE))
    if not user or not password:
        return None
    is_told = len(proof) >= 3 + 32 and proof[0] == 0 and proof[1] == REDFISH and proof[2] == SHA_256
    return Handed(user, password, proof[3:35].hex() if is_told else "")


def _text(raw: bytes) -> str:
    text = raw.partition(b"\0")[0].decode("ascii", "replace")
    return text if text.isascii() and text.isprintable() else ""
