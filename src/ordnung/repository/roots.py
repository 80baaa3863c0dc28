"""The house's root: who may sign repositories, how many must, and how that changes (TUF 1.0, clause 5.3).

``roots/N.root.json`` are the published ones, never changed; ``roots/draft.json`` is the next one while
signatures are missing. A root is published once the keys of the one before and its own have signed it,
each up to their threshold.
"""

from __future__ import annotations

import copy
import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from securesystemslib.signer import CryptoSigner, SSlibKey
from securesystemslib.signer._utils import compute_default_keyid
from tuf.api.exceptions import RepositoryError as TufError
from tuf.api.metadata import Metadata, Role, Root
from tuf.api.serialization import DeserializationError, SerializationError
from tuf.api.serialization.json import CanonicalJSONSerializer, JSONSerializer

from ordnung.repository.keys import KeyBox, public_hex, public_key
from ordnung.store.copying import write_durably
from ordnung.store.errors import RepositoryError

ROOT_DAYS = 365
ROLES = ("root", "targets", "snapshot", "timestamp")
ONLINE = ("snapshot", "timestamp")
"""Roles that are always signed here; root and targets may be signed elsewhere."""
NEW = "new"
SPELLING = JSONSerializer(compact=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Holder:
    """One key of a role: its id, its public half in hex, whether its private half is kept here."""

    keyid: str
    public: str
    kept: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """What the next root should be. Keys are ids known already, public keys in hex, or ``new``."""

    root: tuple[str, ...]
    root_threshold: int
    targets: tuple[str, ...]
    targets_threshold: int
    other_online: bool = False
    """Whether snapshot and timestamp get a new key."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SignaturesDue:
    """How many signatures are there, how many must be, and whose could still come."""

    role: str
    have: int
    threshold: int
    open_to: tuple[str, ...]

    @property
    def is_enough(self) -> bool:
        """Whether the threshold is met."""
        return self.have >= self.threshold


class SealBook:
    """The keys and roots of one house, in a folder."""

    def __init__(self, folder: Path, secret: bytes, now: datetime.datetime) -> None:
        """Open it; the first root and its keys are made when there is none.

        Raises:
            RepositoryError: the kept keys were encrypted with another secret, or a root can't be read.
        """
        self.folder, self.box = folder / "roots", KeyBox(folder, secret)
        self.folder.mkdir(parents=True, exist_ok=True)
        if not self._path(1).exists():
            self._begin(now)

    def _path(self, version: int) -> Path:
        return self.folder / f"{version}.root.json"

    def _begin(self, now: datetime.datetime) -> None:
        root, online = (self.box.named(name) or self.box.make() for name in ("root", "online"))
        self.box.signers |= {s.public_key.keyid: s for s in (root, online)}
        roles = {r: Role([(root if r == "root" else online).public_key.keyid], 1) for r in ROLES}
        keys: dict[str, Any] = {s.public_key.keyid: s.public_key for s in (root, online)}
        signed = Root(version=1, expires=_ends(now), keys=keys, roles=roles, consistent_snapshot=True)
        metadata = Metadata(signed)
        metadata.sign(root)
        write_durably(self._path(1), metadata.to_bytes(SPELLING))

    def history(self) -> list[bytes]:
        """All published roots, the first first."""
        found: list[bytes] = []
        while self._path(len(found) + 1).exists():
            found.append(self._path(len(found) + 1).read_bytes())
        return found

    @property
    def root(self) -> Metadata[Root]:
        """The root that holds."""
        return load_root(self.history()[-1])

    def holders(self, role: str, root: Root | None = None) -> tuple[Holder, ...]:
        """Whose keys a role has."""
        root = root or self.root.signed
        return tuple(
            Holder(keyid=keyid, public=public_hex(_known(root, keyid)), kept=keyid in self.box.signers)
            for keyid in root.roles[role].keyids
        )

    def signers(self, role: str) -> list[CryptoSigner]:
        """The keys of a role that are kept here."""
        return [self.box.signers[h.keyid] for h in self.holders(role) if h.kept]

    # Changing the root.

    @property
    def draft(self) -> Metadata[Root] | None:
        """The next root while signatures are missing."""
        path = self.folder / "draft.json"
        return load_root(path.read_bytes()) if path.exists() else None

    def change(self, wish: Wish, now: datetime.datetime) -> list[SignaturesDue]:
        """Draw up the next root and sign it with what is kept; it is published if that is enough.

        Returns the signatures still wanted, nothing when it is published.

        Raises:
            RepositoryError: a key that can't be read, or a threshold that the keys can't meet.
        """
        before = self.root.signed
        root: Root = copy.deepcopy(before)
        root.version, root.expires = before.version + 1, _ends(now)
        for role, names, threshold in (
            ("root", wish.root, wish.root_threshold),
            ("targets", wish.targets, wish.targets_threshold),
        ):
            self._staff(root, role, [self._key(name, before) for name in names], threshold)
        if wish.other_online:
            fresh = self.box.make().public_key
            for role in ONLINE:
                self._staff(root, role, [fresh], 1)
        metadata = Metadata(root)
        for keyid in {*before.roles["root"].keyids, *root.roles["root"].keyids} & set(self.box.signers):
            metadata.sign(self.box.signers[keyid], append=True)
        return self._keep(metadata)

    def _key(self, name: str, before: Root) -> SSlibKey:
        if name == NEW:
            return self.box.make().public_key
        return _known(before, name) if name in before.keys else public_key(name)

    def _staff(self, root: Root, role: str, keys: Sequence[SSlibKey], threshold: int) -> None:
        distinct = {key.keyid: key for key in keys}
        if not 1 <= threshold <= len(distinct):
            message = f"{threshold} of {len(distinct)} signatures can't be asked for"
            raise RepositoryError("below threshold", role, message)
        for keyid in list(root.roles[role].keyids):
            root.revoke_key(keyid, role)
        for key in distinct.values():
            root.add_key(key, role)
        root.roles[role].threshold = threshold

    def add_signatures(self, raw: bytes) -> list[SignaturesDue]:
        """Take signatures made elsewhere into the draft; published when they are enough.

        Raises:
            RepositoryError: there is no draft, the file is another one, or no signature in it is good.
        """
        draft = self.draft
        if draft is None:
            raise RepositoryError("missing", "draft", "no change of the root waits for signatures")
        keys = {**self.root.signed.keys, **draft.signed.keys}
        merge_signatures(draft, load_root(raw), keys)
        return self._keep(draft)

    def drop_draft(self) -> None:
        """Leave the root as it is."""
        (self.folder / "draft.json").unlink(missing_ok=True)

    def _keep(self, metadata: Metadata[Root]) -> list[SignaturesDue]:
        due = self.signatures_due(metadata)
        path = self.folder / "draft.json"
        if due:
            write_durably(path, metadata.to_bytes(SPELLING))
            return due
        write_durably(self._path(metadata.signed.version), metadata.to_bytes(SPELLING))
        path.unlink(missing_ok=True)
        return []

    def signatures_due(self, metadata: Metadata[Root]) -> list[SignaturesDue]:
        """Which signatures a next root still wants: of the keys of before and of its own."""
        both = (("root before", self.root.signed), ("root", metadata.signed))
        counts = [count_signatures(metadata, "root", by, name) for name, by in both]
        return [one for one in counts if not one.is_enough]


def _ends(now: datetime.datetime) -> datetime.datetime:
    return now.replace(microsecond=0) + datetime.timedelta(days=ROOT_DAYS)


def _known(root: Root, keyid: str) -> SSlibKey:
    key = root.keys[keyid]
    if not isinstance(key, SSlibKey):
        raise RepositoryError("broken", keyid, "this key is of a kind that Ordnung doesn't know")
    return key


def load_root(raw: bytes) -> Metadata[Root]:
    """Root metadata. Raises RepositoryError for anything else.

    TUF leaves ids of keys free (1.0, clause 4.2); here people compare them, so each must be what its key gives.
    """
    try:
        metadata: Metadata[Root] = Metadata.from_bytes(raw)
    except (DeserializationError, ValueError) as error:
        raise RepositoryError("broken", "root.json", f"this is no root metadata ({type(error).__name__})") from None
    if not isinstance(metadata.signed, Root):
        raise RepositoryError("broken", "root.json", f"this is {metadata.signed.type} metadata, not a root")
    for keyid, key in metadata.signed.keys.items():
        if compute_default_keyid(key.keytype, key.scheme, key.keyval) != keyid:
            raise RepositoryError("broken", "root.json", f"{keyid} is not the id of its key")
    return metadata


def count_signatures(metadata: Metadata[Any], role: str, by: Root, name: str = "") -> SignaturesDue:
    """How many of the keys that ``by`` gives a role have signed."""
    result = by.get_verification_result(role, signed_bytes(metadata), metadata.signatures)
    return SignaturesDue(
        role=name or role, have=len(result.signed), threshold=result.threshold, open_to=tuple(sorted(result.unsigned))
    )


def signed_bytes(metadata: Metadata[Any]) -> bytes:
    """What a signature covers."""
    return CanonicalJSONSerializer().serialize(metadata.signed)


def merge_signatures(into: Metadata[Any], brought: Metadata[Any], keys: dict[str, Any]) -> int:
    """Take good signatures over from another copy of the same metadata; returns how many were new.

    Raises:
        RepositoryError: it is not the same metadata, or no new signature in it is by a known key and good.
    """
    try:
        if signed_bytes(into) != signed_bytes(brought):
            raise RepositoryError("foreign", "signatures", "these signatures are of something else: sign the file anew")
    except SerializationError as error:
        raise RepositoryError("broken", "signatures", str(error)) from None
    fresh = 0
    for keyid, signature in brought.signatures.items():
        if keyid not in keys or not signature.signature:
            continue
        try:
            keys[keyid].verify_signature(signature, signed_bytes(into))
        except Exception:  # noqa: S112 - the library raises several families for a bad signature
            continue
        fresh += keyid not in into.signatures
        into.signatures[keyid] = signature
    if not fresh:
        raise RepositoryError("unsigned", "signatures", "no good signature is in this file that was not here already")
    return fresh


def sign_offline(raw: bytes, signer: CryptoSigner) -> bytes:
    """Root or targets metadata with one more signature: what happens where the offline key is.

    Raises:
        RepositoryError: it is no such metadata.
    """
    try:
        metadata: Metadata[Any] = Metadata.from_bytes(raw)
        if metadata.signed.type not in ("root", "targets"):
            raise RepositoryError("broken", "file", f"{metadata.signed.type} metadata are signed by Ordnung itself")
        metadata.sign(signer, append=True)
    except (DeserializationError, TufError, ValueError) as error:
        raise RepositoryError("broken", "file", f"there is nothing to sign in it ({type(error).__name__})") from None
    return metadata.to_bytes(SPELLING)
