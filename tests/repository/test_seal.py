"""A sealed repository: good ones are accepted, every attack is refused with the file named."""

from __future__ import annotations

import datetime
import shutil

import pytest

from ordnung.repository import Content, RepositoryError, check_repository, open_keys, write_out
from ordnung.repository.build import prefixed

SOON = datetime.datetime.now(datetime.UTC).replace(microsecond=0) + datetime.timedelta(days=3)


@pytest.fixture(scope="module")
def keys(tmp_path_factory):
    return open_keys(tmp_path_factory.mktemp("keys"), b"secret")


@pytest.fixture
def contents(mirror_folder):
    paths = ["corvane/reed14/bios/bios-3.2.0.pldm", "corvane/reed14/bios/bios-2.4.1.pldm"]
    return [Content(path=path, source=mirror_folder / path) for path in paths]


@pytest.fixture
def sealed(tmp_path, keys, contents):
    write_out(tmp_path / "out", contents, keys, SOON)
    return tmp_path / "out"


def test_a_good_one_is_accepted(sealed, keys):
    checked = check_repository(sealed)
    assert (checked.files, checked.unsealed, checked.root_key) == (2, (), keys.fingerprint)
    assert checked.expires == SOON


def test_the_same_input_gives_the_same_bytes(tmp_path, keys, contents):
    for name in ("one", "two"):
        write_out(tmp_path / name, contents, keys, SOON)
    for path in (tmp_path / "one").rglob("*.*"):
        if path.is_file():
            assert path.read_bytes() == (tmp_path / "two" / path.relative_to(tmp_path / "one")).read_bytes()


FILES = [
    "metadata/1.root.json",
    "metadata/1.targets.json",
    "metadata/1.snapshot.json",
    "metadata/timestamp.json",
    "payload",
]


def find(sealed, name):
    return next((sealed / "targets").rglob("*bios-3.2.0.pldm")) if name == "payload" else sealed / name


@pytest.mark.parametrize("name", FILES)
@pytest.mark.parametrize("attack", ["flip", "cut", "gone", "grown"])
def test_an_altered_cut_or_missing_file_is_refused_by_name(sealed, name, attack):
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
    with pytest.raises(RepositoryError) as caught:
        check_repository(sealed)
    assert path.name in caught.value.file
    assert caught.value.code in ("altered", "cut short", "missing")


def test_two_payloads_swapped_are_refused(sealed):
    one, two = sorted((sealed / "targets").rglob("*.pldm"))
    keep = one.read_bytes()
    one.write_bytes(two.read_bytes())
    two.write_bytes(keep)
    with pytest.raises(RepositoryError) as caught:
        check_repository(sealed)
    assert caught.value.code in ("altered", "cut short")


def test_an_expired_seal_is_refused(tmp_path, keys, contents):
    write_out(tmp_path / "old", contents, keys, SOON - datetime.timedelta(days=9))
    with pytest.raises(RepositoryError) as caught:
        check_repository(tmp_path / "old")
    assert (caught.value.code, caught.value.file) == ("expired", "metadata/timestamp.json")


def test_a_repository_sealed_by_another_key_is_refused_against_the_trusted_root(tmp_path, sealed, contents):
    write_out(tmp_path / "foreign", contents, open_keys(tmp_path / "keys", b"other"), SOON)
    trusted = (sealed / "metadata" / "1.root.json").read_bytes()
    assert check_repository(sealed, trusted).files == 2
    with pytest.raises(RepositoryError) as caught:
        check_repository(tmp_path / "foreign", trusted)
    assert caught.value.code == "altered"


def test_a_link_out_of_the_folder_is_refused(sealed, tmp_path):
    path = find(sealed, "payload")
    shutil.copy(path, tmp_path / "outside.pldm")
    path.unlink()
    path.symlink_to(tmp_path / "outside.pldm")
    with pytest.raises(RepositoryError, match="missing"):
        check_repository(sealed)


def test_what_the_seal_does_not_know_is_told(sealed):
    (sealed / "targets" / "stray.txt").write_text("x")
    assert check_repository(sealed).unsealed == ("targets/stray.txt",)


def test_writing_again_replaces_whole(sealed, keys, contents):
    write_out(sealed, contents[:1], keys, SOON)
    assert check_repository(sealed).files == 1


def test_the_keys_open_only_with_their_secret(tmp_path):
    first = open_keys(tmp_path, b"one").fingerprint
    assert open_keys(tmp_path, b"one").fingerprint == first
    with pytest.raises(ValueError, match="password"):
        open_keys(tmp_path, b"two")


def test_consistent_names():
    assert prefixed("a/b.pldm", "ff") == "a/ff.b.pldm"
