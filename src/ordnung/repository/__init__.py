"""Payloads: kept once by SHA-256, fetched, identified, sealed, written out, checked, served."""

from ordnung.repository.build import Content, write_out
from ordnung.repository.check import Checked, check_repository
from ordnung.repository.errors import RepositoryError
from ordnung.repository.fetch import Fetcher
from ordnung.repository.identity import check_identity
from ordnung.repository.keys import SealKeys, open_keys
from ordnung.repository.serve import PayloadServer
from ordnung.repository.store import ContentStore

__all__ = [
    "Checked",
    "Content",
    "ContentStore",
    "Fetcher",
    "PayloadServer",
    "RepositoryError",
    "SealKeys",
    "check_identity",
    "check_repository",
    "open_keys",
    "write_out",
]
