"""Payloads: kept once by SHA-256, fetched, identified, sealed, written out, checked, served."""

from ordnung.repository.build import Content, write_out
from ordnung.repository.check import Checked, check_repository
from ordnung.repository.errors import RepositoryError
from ordnung.repository.fetch import Fetcher
from ordnung.repository.identity import check_identity
from ordnung.repository.keys import SealKeys, open_keys
from ordnung.repository.serve import PayloadServer
from ordnung.repository.sources import Brought, Looked, Mirror, has_packages, look, look_into_folder
from ordnung.repository.store import ContentStore
from ordnung.repository.tuf_source import look_into_tuf, read_root

__all__ = [
    "Brought",
    "Checked",
    "Content",
    "ContentStore",
    "Fetcher",
    "Looked",
    "Mirror",
    "PayloadServer",
    "RepositoryError",
    "SealKeys",
    "check_identity",
    "check_repository",
    "has_packages",
    "look",
    "look_into_folder",
    "look_into_tuf",
    "open_keys",
    "read_root",
    "write_out",
]
