"""How fast somebody may try passwords: slower with each that fails, per account and per address."""

from __future__ import annotations

from django.core.cache import cache

WINDOW_S = 3600
"""How long a failure counts."""
FREE_OF_ADDRESS, FREE_OF_ACCOUNT = 5, 10
"""Failures that cost nothing yet."""
LONGEST_OF_ADDRESS, LONGEST_OF_ACCOUNT = 900.0, 60.0
"""The longest wait, in seconds: short for an account, so that nobody can shut its owner out for the night."""


def wait_for(account: str, address: str, now: float) -> float:
    """Seconds until the next try may be made; 0 when it may be made now."""
    return max(
        _left(_key("address", address), FREE_OF_ADDRESS, LONGEST_OF_ADDRESS, now),
        _left(_key("account", account), FREE_OF_ACCOUNT, LONGEST_OF_ACCOUNT, now),
    )


def note_failure(account: str, address: str, now: float) -> None:
    """A try that failed."""
    for key in (_key("address", address), _key("account", account)):
        count, _ = cache.get(key, (0, 0.0))
        cache.set(key, (count + 1, now), WINDOW_S)


def note_success(account: str, address: str) -> None:
    """Who has signed in starts anew."""
    cache.delete_many([_key("address", address), _key("account", account)])


def _key(kind: str, name: str) -> str:
    return f"sign-in-{kind}-{name.casefold().encode().hex()[:200]}"


def _left(key: str, free: int, longest: float, now: float) -> float:
    count, last = cache.get(key, (0, 0.0))
    if count < free:
        return 0.0
    left: float = last + min(longest, 2.0 ** (count - free)) - now
    return max(0.0, left)
