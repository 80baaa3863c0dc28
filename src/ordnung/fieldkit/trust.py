"""Whose seal is trusted, where nothing but the ids of its keys was brought along."""

from __future__ import annotations

from ordnung.repository import Carrier, first_root, root_ids
from ordnung.store import RepositoryError


def trusted_root(carrier: Carrier, trust: str) -> bytes:
    """A carrier's own first root, where its keys are those that were compared (``trust``). Raises RepositoryError."""
    own = first_root(carrier)
    keys = root_ids(own)
    if trust != keys:
        message = (
            f"it is sealed by the root keys {keys}, which nobody here has confirmed: compare them with those shown "
            f"where it was packed, then say --trust {keys}, or give its root with --root"
        )
        raise RepositoryError("untrusted", "metadata/1.root.json", message)
    return own
