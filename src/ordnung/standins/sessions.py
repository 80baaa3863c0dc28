"""Who is signed in to a stand-in's controller, and who may."""

from __future__ import annotations

import secrets
from typing import TYPE_CHECKING, NamedTuple

from ordnung.standins.waking import is_waking

if TYPE_CHECKING:
    from ordnung.standins.hardware import Hardware


class SignedIn(NamedTuple):
    """A session: its id, the account's id, and what it was opened with (Session schema, 1.5: ``Context``)."""

    number: str
    account: str
    context: str = ""


def sign_in(device: Hardware, user: str, password: str, context: str = "") -> tuple[str, str] | None:
    """A new session as (id, token), or None when the credentials are wrong."""
    account = find_account(device, user, password)
    if account is None:
        return None
    number, token = secrets.token_hex(4), secrets.token_urlsafe(24)
    device.sessions[token] = SignedIn(number, account, context)
    return number, token


def find_account(device: Hardware, user: str, password: str) -> str | None:
    """The id of the account with these credentials, or None: a refusal, which the device's own log tells."""
    for number, account in device.accounts.items():
        given, own = f"{user}\0{password}".encode(), f"{account.user}\0{account.password}".encode()
        is_it = secrets.compare_digest(given, own) and account.enabled and not account.locked
        if is_it and not is_waking(device, "accounts late"):
            return number
    device.note("sign-in refused", user=user)
    return None
