"""The house's root: thresholds, keys elsewhere, changes that need old and new holders."""

from __future__ import annotations

import datetime

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from securesystemslib.signer import CryptoSigner
from tuf.api.metadata import Metadata

from ordnung.repository import SealBook, Wish, check_carrier, finish, sign_offline, verify_seal
from ordnung.repository.keys import public_hex
from ordnung.repository.roots import SPELLING, load_root
from ordnung.repository.seal import add_target_signatures, draft_targets, signatures_due
from ordnung.store import RepositoryError
from tests.repository.sealing import NOW, contents_of, open_book, seal


def offline() -> CryptoSigner:
    return CryptoSigner(Ed25519PrivateKey.generate())


def own(book: SealBook, role: str) -> tuple[str, ...]:
    return tuple(holder.keyid for holder in book.holders(role))


def wish(book: SealBook, **change) -> Wish:
    told = {"root": own(book, "root"), "root_threshold": 1, "targets": own(book, "targets"), "targets_threshold": 1}
    return Wish(**{**told, **change})


def test_the_first_root_is_made_once_and_kept(tmp_path):
    first = open_book(tmp_path)
    again = SealBook(tmp_path / "keys", b"secret", NOW + datetime.timedelta(days=9))
    assert first.history() == again.history() and len(first.history()) == 1
    assert all(holder.kept for role in ("root", "targets", "timestamp") for holder in again.holders(role))
    with pytest.raises(RepositoryError, match="another password"):
        SealBook(tmp_path / "keys", b"other", NOW)


def test_a_far_end_follows_the_rotation_of_all_keys(tmp_path):
    book = open_book(tmp_path)
    trusted = book.history()[0]
    for _ in range(2):
        assert (
            book.change(wish(book, root=("new",), targets=("new", "new"), targets_threshold=2, other_online=True), NOW)
            == []
        )
    found = verify_seal(seal(tmp_path, book), trusted)
    assert found.root_version == 3 and found.root == book.history()[-1]
    assert found.root_key == own(book, "root")[0] and check_carrier(seal(tmp_path, book), trusted).files == 4


def test_what_the_old_keys_seal_after_a_rotation_is_refused(tmp_path):
    book = open_book(tmp_path)
    stolen = seal(tmp_path, book)
    book.change(wish(book, targets=("new",), other_online=True), NOW)
    with pytest.raises(RepositoryError) as caught:
        verify_seal(stolen, book.history()[-1])
    assert caught.value.code == "untrusted"


def test_a_root_that_wants_an_offline_key_waits_for_it(tmp_path):
    book, far = open_book(tmp_path), offline()
    before = own(book, "root")
    (wanted,) = book.change(wish(book, root=(*before, public_hex(far.public_key)), root_threshold=2), NOW)
    assert (wanted.role, wanted.have, wanted.threshold) == ("root", 1, 2) and wanted.open_to == (far.public_key.keyid,)
    assert book.root.signed.version == 1, "the old root holds until then"
    with pytest.raises(RepositoryError) as caught:
        book.add_signatures(sign_offline(book.draft.to_bytes(SPELLING), offline()))
    assert caught.value.code == "unsigned" and book.root.signed.version == 1
    assert book.add_signatures(sign_offline(book.draft.to_bytes(SPELLING), far)) == []
    assert book.root.signed.version == 2 and book.draft is None


def test_signatures_of_something_else_are_refused(tmp_path):
    book, far = open_book(tmp_path), offline()
    book.change(wish(book, root=(*own(book, "root"), public_hex(far.public_key)), root_threshold=2), NOW)
    other = load_root(book.draft.to_bytes(SPELLING))
    other.signed.expires += datetime.timedelta(days=900)
    with pytest.raises(RepositoryError) as caught:
        book.add_signatures(sign_offline(other.to_bytes(SPELLING), far))
    assert caught.value.code == "foreign"
    book.drop_draft()
    with pytest.raises(RepositoryError, match="no change of the root waits"):
        book.add_signatures(other.to_bytes(SPELLING))


@pytest.mark.parametrize(("keys", "threshold"), [(("new",), 2), (("new",), 0), ((), 1)])
def test_thresholds_that_cannot_be_met_are_refused(tmp_path, keys, threshold):
    book = open_book(tmp_path)
    with pytest.raises(RepositoryError) as caught:
        book.change(wish(book, targets=keys, targets_threshold=threshold), NOW)
    assert caught.value.code == "below threshold" and len(book.history()) == 1


def test_a_key_counts_once_however_often_it_is_named(tmp_path):
    book = open_book(tmp_path)
    with pytest.raises(RepositoryError, match="2 of 1 signatures"):
        book.change(wish(book, targets=own(book, "targets") * 2, targets_threshold=2), NOW)


def test_targets_are_sealed_by_file_exchange(tmp_path):
    book, far = open_book(tmp_path), offline()
    book.change(wish(book, targets=(public_hex(far.public_key),)), NOW)
    contents = contents_of(tmp_path, {})
    targets = draft_targets(contents, book, 1, NOW + datetime.timedelta(days=3))
    assert signatures_due(targets, book).have == 0
    with pytest.raises(RepositoryError) as caught:
        finish(targets, book)
    assert caught.value.code == "below threshold"
    signed = sign_offline(targets.to_bytes(SPELLING), far)
    assert add_target_signatures(targets, signed, book).is_enough
    assert set(finish(targets, book)) == {
        "1.root.json",
        "2.root.json",
        "1.targets.json",
        "1.snapshot.json",
        "timestamp.json",
    }


@pytest.mark.parametrize("junk", [b"", b"{}", b'{"signed": {"_type": "timestamp"}}', b"\xff" * 40])
def test_junk_is_not_signed(junk):
    with pytest.raises(RepositoryError) as caught:
        sign_offline(junk, offline())
    assert caught.value.code == "broken"


def test_timestamps_are_not_signed_by_hand(tmp_path):
    with seal(tmp_path, open_book(tmp_path), {}).open("metadata/timestamp.json") as file:
        raw = file.read()
    assert Metadata.from_bytes(raw).signed.type == "timestamp"
    with pytest.raises(RepositoryError, match="signed by Ordnung itself"):
        sign_offline(raw, offline())
