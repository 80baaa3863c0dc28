"""A sealed repository: good ones are accepted, every attack is refused with the right reason and the file named."""

from __future__ import annotations

import datetime
import io
import json
import shutil
import tarfile
from pathlib import Path

import pytest
import zstandard
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from securesystemslib.signer import CryptoSigner
from tuf.api.metadata import Metadata, Root
from tuf.ngclient import Updater

from ordnung.repository import (
    SHAPES,
    Wish,
    check_carrier,
    check_repository,
    look_at,
    open_carrier,
    verify_seal,
    write_as,
)
from ordnung.repository.carriers import check_name, shorten
from ordnung.repository.roots import SPELLING
from ordnung.repository.seal import prefixed
from ordnung.store import RepositoryError
from tests.repository.sealing import NOW, PAYLOADS, open_book, seal


@pytest.fixture(scope="module")
def book(tmp_path_factory):
    return open_book(tmp_path_factory.mktemp("book"))


@pytest.fixture
def whole(tmp_path, book):
    return seal(tmp_path, book)


@pytest.fixture
def sealed(tmp_path, whole):
    return write_as("folder", whole, tmp_path / "out").path


def refused(place, root=None, **more) -> RepositoryError:
    with pytest.raises(RepositoryError) as caught, open_carrier(place) as carrier:
        check_carrier(carrier, root, **more)
    return caught.value


def test_a_good_one_is_accepted(sealed, book):
    checked = check_repository(sealed)
    assert (checked.files, checked.unsealed, checked.edition) == (4, (), 1)
    assert checked.root_key == book.holders("root")[0].keyid
    assert checked.expires == NOW + datetime.timedelta(days=30)


@pytest.mark.parametrize("shape", SHAPES)
def test_the_same_input_gives_the_same_bytes_and_reads_the_same(tmp_path, whole, shape):
    places = [write_as(shape, whole, tmp_path / name / f"out{SHAPES[shape]}") for name in ("one", "two")]
    assert places[0].sha256 == places[1].sha256 and bool(places[0].sha256) == (shape != "folder")
    with open_carrier(places[0].path) as one, open_carrier(places[1].path) as two:
        assert check_carrier(one) == check_carrier(two)
        for path, size in one.files.items():
            with one.open(path) as a, two.open(path) as b:
                assert a.read(size + 1) == b.read(size + 1)
    assert not list(tmp_path.rglob("*.part*"))


def test_a_stock_tuf_client_fetches_from_it(sealed, tmp_path):
    import http.server
    import threading

    class Quiet(http.server.SimpleHTTPRequestHandler):
        def __init__(self, *args):
            super().__init__(*args, directory=str(sealed))

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Quiet)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        base = f"http://127.0.0.1:{server.server_address[1]}"
        for name in ("state", "got"):
            (tmp_path / name).mkdir()
        updater = Updater(
            str(tmp_path / "state"), f"{base}/metadata/", str(tmp_path / "got"), f"{base}/targets/",
            bootstrap=(sealed / "metadata/1.root.json").read_bytes(),
        )  # fmt: skip
        updater.refresh()
        for name, raw in PAYLOADS.items():
            info = updater.get_targetinfo(name)
            assert Path(updater.download_target(info)).read_bytes() == raw
    finally:
        server.shutdown()
        server.server_close()


# The matrix: every file, every attack, every carrier.

FILES = ["metadata/1.root.json", "metadata/1.targets.json", "metadata/1.snapshot.json", "metadata/timestamp.json", "payload", "list"]  # fmt: skip


def find(sealed, name):
    patterns = {"payload": "*bios-3.2.0.pldm", "list": "*packing.json"}
    return next((sealed / "targets").rglob(patterns[name])) if name in patterns else sealed / name


def repacked(sealed, shape, tmp_path):
    """The attacked folder as another carrier, packed by plain tools that know nothing of seals."""
    if shape == "folder":
        return sealed
    plain = tmp_path / "attacked.tar"
    with tarfile.open(plain, "w", format=tarfile.PAX_FORMAT) as archive:
        for path in sorted(p for p in sealed.rglob("*") if p.is_file()):
            archive.add(path, path.relative_to(sealed).as_posix())
    if shape == "tar":
        return plain
    packed = tmp_path / "attacked.tar.zst"
    packed.write_bytes(zstandard.compress(plain.read_bytes()))
    return packed


@pytest.mark.parametrize("shape", ["folder", "tar", "tar.zst"])
@pytest.mark.parametrize("name", FILES)
@pytest.mark.parametrize("attack", ["flip", "cut", "gone", "grown"])
def test_an_altered_cut_or_missing_file_is_refused_by_name(sealed, tmp_path, name, attack, shape):
    path = find(sealed, name)
    raw = bytearray(path.read_bytes())
    if attack == "flip":
        raw[len(raw) // 2] ^= 1
        path.write_bytes(raw)
    elif attack == "cut":
        path.write_bytes(raw[: len(raw) // 2])
    elif attack == "grown":
        path.write_bytes(raw + b"x")
    else:
        path.unlink()
    error = refused(repacked(sealed, shape, tmp_path))
    assert path.name in error.file
    wanted = {"gone": ("missing",), "cut": ("cut short", "altered")}.get(attack, ("altered", "broken"))
    assert error.code in wanted


@pytest.mark.parametrize("shape", ["tar", "tar.zst", "iso"])
@pytest.mark.parametrize("part", [0.2, 0.6, 0.97])
def test_an_archive_or_image_that_is_cut_is_refused(whole, tmp_path, shape, part):
    place = write_as(shape, whole, tmp_path / f"out{SHAPES[shape]}").path
    raw = place.read_bytes()
    place.write_bytes(raw[: int(len(raw) * part)])
    if shape == "iso" and part > 0.9:
        place.write_bytes(raw[: -200 * 2048])  # what lies behind the last file is padding
    assert refused(place).code in ("cut short", "altered", "broken", "missing")


@pytest.mark.parametrize("shape", ["tar", "tar.zst", "iso"])
def test_a_flipped_bit_of_a_payload_is_found_in_archives_and_images(whole, tmp_path, shape):
    place = write_as(shape, whole, tmp_path / f"out{SHAPES[shape]}").path
    raw = bytearray(place.read_bytes())
    at = raw.find(b"raid" * 50) if shape != "tar.zst" else len(raw) // 2
    assert at > 0
    raw[at + 8] ^= 4
    place.write_bytes(raw)
    assert refused(place).code in ("altered", "cut short", "missing")


def test_two_payloads_swapped_are_refused(sealed):
    one, two = sorted((sealed / "targets").rglob("*bios*.pldm"))
    keep = one.read_bytes()
    one.write_bytes(two.read_bytes())
    two.write_bytes(keep)
    assert refused(sealed).code in ("altered", "cut short")


def test_an_expired_seal_is_refused_unless_a_person_says_otherwise(tmp_path, book):
    place = write_as("folder", seal(tmp_path, book, days=-6), tmp_path / "old").path
    error = refused(place)
    assert (error.code, error.file) == ("expired", "metadata/timestamp.json")
    with open_carrier(place) as carrier:
        found = verify_seal(carrier, allow_expired=True)
        assert found.is_expired and check_carrier(carrier, allow_expired=True).files == 4


def test_frozen_the_snapshot_may_not_outlive_its_own_end(tmp_path, book, sealed):
    """Freeze: the timestamp is fresh, but what it points at has expired."""
    old = seal(tmp_path / "old", book, days=-1)
    for name in ("1.snapshot.json", "1.targets.json"):
        with old.open(f"metadata/{name}") as file:
            (sealed / "metadata" / name).write_bytes(file.read())
    assert refused(sealed).code in ("altered", "expired")


def test_parts_of_two_editions_are_refused_as_mixed(tmp_path, book, sealed):
    newer = write_as("folder", seal(tmp_path / "newer", book, edition=2), tmp_path / "two").path
    shutil.copy(sealed / "metadata/1.snapshot.json", newer / "metadata/2.snapshot.json")
    assert refused(newer).code in ("altered", "mixed")
    mixed = write_as("folder", seal(tmp_path / "third", book, edition=3), tmp_path / "three").path
    stamp = Metadata.from_file(str(mixed / "metadata/timestamp.json"))
    stamp.signed.snapshot_meta.version, stamp.signed.snapshot_meta.hashes = 1, None
    stamp.signed.snapshot_meta.length = None
    for signer in book.signers("timestamp"):
        stamp.sign(signer)
    stamp.to_file(str(mixed / "metadata/timestamp.json"), SPELLING)
    shutil.copy(sealed / "metadata/1.snapshot.json", mixed / "metadata/1.snapshot.json")
    assert refused(mixed).code in ("missing", "mixed")


def test_sealed_by_others_is_untrusted(tmp_path, sealed):
    trusted = (sealed / "metadata" / "1.root.json").read_bytes()
    foreign = write_as("folder", seal(tmp_path / "f", open_book(tmp_path / "other")), tmp_path / "foreign").path
    assert check_repository(sealed, trusted).files == 4
    assert refused(foreign, trusted).code == "untrusted"


def test_a_key_under_another_keys_id_is_refused(sealed):
    """People compare ids: one that is not what its key gives would let a stranger pass under ours."""
    stranger = CryptoSigner(Ed25519PrivateKey.generate())
    place = sealed / "metadata" / "1.root.json"
    forged = Metadata[Root].from_bytes(place.read_bytes())
    ours = forged.signed.roles["root"].keyids[0]
    stranger.public_key.keyid = ours
    forged.signed.keys[ours] = stranger.public_key
    forged.sign(stranger)
    place.write_bytes(forged.to_bytes(SPELLING))
    found = refused(sealed)
    assert found.code == "altered" and "is not the id of its key" in found.what


def test_too_few_signatures_are_below_the_threshold(tmp_path):
    book = open_book(tmp_path)
    keys = [h.keyid for h in book.holders("targets")]
    book.change(Wish(root=(book.holders("root")[0].keyid,), root_threshold=1, targets=(*keys, "new"), targets_threshold=2), NOW)  # fmt: skip
    place = write_as("folder", seal(tmp_path, book), tmp_path / "out").path
    assert check_repository(place).files == 4
    path = place / "metadata/1.targets.json"
    targets = Metadata.from_file(str(path))
    targets.signatures.popitem()
    # The snapshot must agree with what is left, so that only the threshold can object.
    raw = targets.to_bytes(SPELLING)
    path.write_bytes(raw)
    snapshot = Metadata.from_file(str(place / "metadata/1.snapshot.json"))
    meta = snapshot.signed.meta["targets.json"]
    meta.length, meta.hashes = None, None
    resign(snapshot, book, place / "metadata/1.snapshot.json")
    stamp = Metadata.from_file(str(place / "metadata/timestamp.json"))
    stamp.signed.snapshot_meta.length = stamp.signed.snapshot_meta.hashes = None
    resign(stamp, book, place / "metadata/timestamp.json")
    error = refused(place)
    assert (error.code, error.file) == ("below threshold", "metadata/1.targets.json")
    assert "1 of 2 signatures" in error.what


def resign(metadata, book, path):
    for number, signer in enumerate(book.signers(metadata.signed.type)):
        metadata.sign(signer, append=number > 0)
    metadata.to_file(str(path), SPELLING)


@pytest.mark.parametrize("length", [-1, 0, 2**62])
def test_lengths_that_lie_are_refused(sealed, book, length):
    """Even signed: no size is trusted before the file's own is known."""
    path = sealed / "metadata/1.targets.json"
    told = json.loads(path.read_bytes())
    name = next(n for n in told["signed"]["targets"] if "raid" in n)
    told["signed"]["targets"][name]["length"] = length
    path.write_text(json.dumps(told))
    assert refused(sealed).code in ("altered", "cut short")


# Names and links.


@pytest.mark.parametrize(
    "name", ["../outside", "/etc/x", "a/../b", "a//b", "a/.hidden", "a\\b", "", "targets/./x", "x" * 600]
)
def test_names_that_could_lead_out_are_refused(name):
    with pytest.raises(RepositoryError) as caught:
        check_name(name)
    assert caught.value.code == "escape"


def evil_tar(path, name, kind=tarfile.REGTYPE, link="", size=4):
    with tarfile.open(path, "w") as archive:
        info = tarfile.TarInfo(name)
        info.type, info.linkname, info.size = kind, link, size if kind == tarfile.REGTYPE else 0
        archive.addfile(info, io.BytesIO(b"evil"[:size]))


@pytest.mark.parametrize(
    ("name", "kind", "code"),
    [
        ("../../etc/cron.d/x", tarfile.REGTYPE, "escape"),
        ("/etc/passwd", tarfile.REGTYPE, "escape"),
        ("metadata/1.root.json", tarfile.SYMTYPE, "escape"),
        ("targets/x", tarfile.LNKTYPE, "escape"),
        ("targets/x", tarfile.CHRTYPE, "escape"),
        ("targets/x", tarfile.FIFOTYPE, "escape"),
    ],
)
def test_archives_with_names_or_links_that_lead_out_are_refused(tmp_path, name, kind, code):
    evil_tar(tmp_path / "evil.tar", name, kind, "/etc/passwd")
    assert refused(tmp_path / "evil.tar").code == code


@pytest.mark.parametrize("size", [2**40, -5])
def test_archive_members_with_lying_sizes_are_refused(tmp_path, size):
    evil_tar(tmp_path / "evil.tar", "targets/x")
    raw = bytearray((tmp_path / "evil.tar").read_bytes())
    raw[124:136] = b"\x80" + size.to_bytes(11, "big", signed=True) if size > 0 else (256**11 + size).to_bytes(12, "big")
    raw[124] |= 0x80
    raw[148:156] = b"        "
    raw[148:156] = f"{sum(raw[:512]):06o}\0 ".encode()
    (tmp_path / "evil.tar").write_bytes(raw)
    assert refused(tmp_path / "evil.tar").code in ("cut short", "broken")


def test_a_file_twice_in_an_archive_is_refused(tmp_path):
    with tarfile.open(tmp_path / "twice.tar", "w") as archive:
        for _ in range(2):
            info = tarfile.TarInfo("targets/x")
            archive.addfile(info, io.BytesIO())
    assert refused(tmp_path / "twice.tar").code == "broken"


def test_a_link_in_a_folder_is_refused(sealed, tmp_path):
    path = find(sealed, "payload")
    shutil.copy(path, tmp_path / "outside.pldm")
    path.unlink()
    path.symlink_to(tmp_path / "outside.pldm")
    assert refused(sealed).code == "escape"


def test_a_bomb_is_not_unpacked_to_its_end(tmp_path):
    (tmp_path / "bomb.tar.zst").write_bytes(zstandard.compress(bytes(64 * 2**20)))
    with pytest.raises(RepositoryError) as caught, open_carrier(tmp_path / "bomb.tar.zst", small=2**20):
        pass
    assert caught.value.code == "broken" and "grows without end" in caught.value.what


def test_anything_else_is_no_repository(tmp_path):
    (tmp_path / "photo.jpg").write_bytes(b"\xff\xd8" * 9000)
    assert "neither a folder" in refused(tmp_path / "photo.jpg").what
    (tmp_path / "empty").mkdir()
    assert refused(tmp_path / "empty").code == "missing"


def test_what_the_seal_does_not_know_is_told(sealed):
    (sealed / "targets" / "stray.txt").write_text("x")
    (sealed / "holiday photos").mkdir()
    assert check_repository(sealed).unsealed == ("targets/stray.txt",)


def test_names_shortened_on_a_disc_are_understood(sealed):
    for path in list((sealed / "targets").rglob("*")):
        if path.is_file():
            path.rename(path.with_name(shorten(path.name)))
    assert all(len(p.name) <= 64 for p in (sealed / "targets").rglob("*"))
    assert check_repository(sealed).files == 4
    with open_carrier(sealed) as carrier:
        assert look_at(carrier, None).packing.name == "Hill annex"


def test_writing_again_replaces_whole_and_nothing_else(tmp_path, sealed, book):
    write_as("folder", seal(tmp_path / "n", book, {}, edition=2), sealed)
    assert check_repository(sealed).files == 1
    (tmp_path / "notes").mkdir()
    (tmp_path / "notes" / "letter").write_text("mine")
    with pytest.raises(RepositoryError, match="left alone"):
        write_as("folder", seal(tmp_path / "m", book, {}), tmp_path / "notes")
    assert (tmp_path / "notes" / "letter").read_text() == "mine"


def test_an_altered_store_is_not_written_out(tmp_path, whole):
    next(c.source for c in whole.contents.values() if "raid" in c.path).write_bytes(b"riad" * 9000)
    for shape in ("folder", "tar"):
        with pytest.raises(RepositoryError, match="nothing was written out"):
            write_as(shape, whole, tmp_path / f"x{SHAPES[shape]}")
        assert not (tmp_path / f"x{SHAPES[shape]}").exists()


def test_consistent_names():
    assert prefixed("a/b.pldm", "ff") == "a/ff.b.pldm"
