"""Names whose values are never written down: in the audit trail, in logs."""

from __future__ import annotations

SECRET = frozenset(
    {
        "password", "old_password", "new_password", "passphrase", "secret", "private_key", "csrf", "token",
        "authorization", "x-auth-token", "cookie",
    }
)  # fmt: skip
"""What is written instead is that one was given."""
