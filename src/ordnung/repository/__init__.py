"""Payloads of a repository: fetched, identified, sealed, written out, carried in, checked."""

from ordnung.repository.carriers import Carrier, FolderCarrier, PartCarrier, SealedCarrier, open_carrier
from ordnung.repository.carry_in import Arrived, CarriedIn, Seen, carry_in, look_at, refuse_older
from ordnung.repository.check import Checked, check_carrier, check_repository, first_root, root_ids, verify_seal
from ordnung.repository.egress import Egress
from ordnung.repository.fetch import Fetcher, PayloadSource
from ordnung.repository.identity import check_identity, check_payload_signature
from ordnung.repository.roots import SealBook, Wish, sign_offline
from ordnung.repository.seal import Content, describe, draft_targets, finish, store_metadata
from ordnung.repository.sources import Brought, Mirror, SourceReport, has_packages, look, look_into_folder
from ordnung.repository.transfer import Pace
from ordnung.repository.tuf_source import look_into_tuf, read_root
from ordnung.repository.written import SHAPES, Written, write_as

__all__ = [
    "SHAPES",
    "Arrived",
    "Brought",
    "CarriedIn",
    "Carrier",
    "Checked",
    "Content",
    "Egress",
    "Fetcher",
    "FolderCarrier",
    "Mirror",
    "Pace",
    "PartCarrier",
    "PayloadSource",
    "SealBook",
    "SealedCarrier",
    "Seen",
    "SourceReport",
    "Wish",
    "Written",
    "carry_in",
    "check_carrier",
    "check_identity",
    "check_payload_signature",
    "check_repository",
    "describe",
    "draft_targets",
    "finish",
    "first_root",
    "has_packages",
    "look",
    "look_at",
    "look_into_folder",
    "look_into_tuf",
    "open_carrier",
    "read_root",
    "refuse_older",
    "root_ids",
    "sign_offline",
    "store_metadata",
    "verify_seal",
    "write_as",
]
