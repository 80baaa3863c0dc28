"""Payloads, kept once by SHA-256, and the server from which controllers fetch them.

What strangers reach runs on this package alone: nothing of seals, archives or catalogs is loaded there.
"""

from ordnung.store.content import ContentStore
from ordnung.store.errors import RepositoryError
from ordnung.store.fsck import Report, look_over
from ordnung.store.linked import LinkedStore
from ordnung.store.serve import Addresses, PayloadServer
from ordnung.store.serving import PayloadProcess, RunDisc

__all__ = [
    "Addresses",
    "ContentStore",
    "LinkedStore",
    "PayloadProcess",
    "PayloadServer",
    "Report",
    "RepositoryError",
    "RunDisc",
    "look_over",
]
