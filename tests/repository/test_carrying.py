"""Written out and carried in: verified first, only what is new, and refused with the right reason."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from ordnung.repository import (
    SHAPES,
    Seen,
    carry_in,
    check_carrier,
    check_repository,
    look_at,
    open_carrier,
    refuse_older,
    write_as,
)
from ordnung.repository.seal import store_metadata
from ordnung.repository.sealed import one_medium, only_new, open_sealed
from ordnung.store import ContentStore, RepositoryError, look_over
from tests.repository.sealing import PAYLOADS, open_book, seal

MORE = {**PAYLOADS, "payloads/quorrin.q25/nic-24.2.8.pldm": b"nic" * 5000}
DOCUMENTS = {"catalogs/corvane.json": b"{}", "rules.json": b"[]"}


@pytest.fixture(scope="module")
def book(tmp_path_factory):
    return open_book(tmp_path_factory.mktemp("book"))


@pytest.fixture
def store(tmp_path):
    return ContentStore(tmp_path / "far end")


def bring(place, store, seen=None, root=None, **more):
    with open_carrier(place) as carrier:
        arrived = look_at(carrier, root, **more)
        refuse_older(arrived, seen)
        return carry_in(carrier, arrived, store, "repository-1")


@pytest.mark.parametrize("shape", SHAPES)
def test_what_was_written_out_is_carried_in(tmp_path, book, store, shape):
    place = write_as(shape, seal(tmp_path, book), tmp_path / f"out{SHAPES[shape]}").path
    carried = bring(place, store)
    assert (carried.new_files, carried.known_files, carried.waiting) == (4, 0, ())
    assert {store.path(s).read_bytes() for n, s in carried.arrived.sums.items() if n in PAYLOADS} == set(
        PAYLOADS.values()
    )
    assert look_over(store).is_sound and look_over(store).loose == ()
    again = bring(place, store, Seen(edition=1, packing=carried.arrived.packing_sum))
    assert (again.new_files, again.known_files) == (0, 4)


def test_at_the_far_end_it_is_whole_again(tmp_path, book, store):
    carried = bring(write_as("tar", seal(tmp_path, book), tmp_path / "o.tar").path, store)
    store_metadata(tmp_path / "seal", carried.metadata)
    onward = write_as("folder", open_sealed("annex", tmp_path / "seal", store), tmp_path / "onward").path
    assert check_repository(onward).files == 4


def test_only_what_an_older_copy_lacks_is_written_and_stored(tmp_path, book, store):
    bring(write_as("tar", seal(tmp_path, book), tmp_path / "one.tar").path, store)
    newer = seal(tmp_path, book, MORE, edition=2)
    old = {c.sha256 for c in seal(tmp_path, book).contents.values()}
    thin = write_as("tar", only_new(newer, old), tmp_path / "two.tar").path
    assert thin.stat().st_size < 30_000
    carried = bring(thin, store)
    assert (carried.new_files, carried.known_files, carried.waiting) == (2, 3, ())
    empty = ContentStore(tmp_path / "empty")
    with pytest.raises(RepositoryError) as caught:
        bring(thin, empty)
    assert caught.value.code == "missing" and not list(empty.sums())


def test_an_older_edition_is_refused(tmp_path, book, store):
    one = write_as("tar", seal(tmp_path, book), tmp_path / "one.tar").path
    carried = bring(write_as("tar", seal(tmp_path, book, MORE, edition=2), tmp_path / "two.tar").path, store)
    with pytest.raises(RepositoryError) as caught:
        bring(one, store, Seen(edition=2, packing=carried.arrived.packing_sum))
    assert caught.value.code == "older" and "edition 2; this is edition 1" in caught.value.what


def test_two_repositories_under_one_number_are_refused(tmp_path, book, store):
    carried = bring(write_as("tar", seal(tmp_path, book), tmp_path / "one.tar").path, store)
    with pytest.raises(RepositoryError) as caught:
        bring(write_as("tar", seal(tmp_path, book, MORE), tmp_path / "x.tar").path, store, Seen(edition=1, packing=carried.arrived.packing_sum))  # fmt: skip
    assert caught.value.code == "mixed"


def test_several_media_come_one_after_the_other(tmp_path, book, store):
    whole = seal(tmp_path, book, MORE, media=2)
    with whole.open(next(p for p in whole.files if p.endswith("packing.json"))) as file:
        assert b'"media": 2' in file.read()
    from ordnung.formats.packing import parse_packing

    packing = parse_packing(next(c.source for c in whole.contents.values() if c.path == "packing.json").read_bytes())
    places = []
    for medium in (1, 2):
        elsewhere = {p.sha256 for p in packing.payloads if p.medium != medium}
        places.append(write_as("iso", one_medium(whole, elsewhere), tmp_path / f"m{medium}.iso").path)
    first = bring(places[1], store)
    assert len(first.waiting) == 2 and first.new_files == 3
    second = bring(places[0], store, Seen(edition=1, packing=first.arrived.packing_sum))
    assert second.waiting == () and second.new_files == 2


@pytest.mark.parametrize("attack", ["flip", "cut", "gone"])
def test_nothing_is_stored_of_what_is_refused(tmp_path, book, store, attack):
    place = write_as("folder", seal(tmp_path, book), tmp_path / "out").path
    victim = sorted((place / "targets").rglob("*.pldm"))[-1]
    if attack == "gone":
        victim.unlink()
    else:
        raw = victim.read_bytes()
        victim.write_bytes(raw[:-1] if attack == "cut" else raw[:-1] + b"?")
    with pytest.raises(RepositoryError) as caught:
        bring(place, store)
    assert victim.name in caught.value.file and caught.value.code in ("altered", "cut short", "missing")
    assert not list(store.sums()) and store.owners() == {}


def test_an_expired_one_comes_in_only_when_a_person_says_so(tmp_path, book, store):
    place = write_as("tar", seal(tmp_path, book, days=-2), tmp_path / "old.tar").path
    with pytest.raises(RepositoryError) as caught:
        bring(place, store)
    assert caught.value.code == "expired"
    assert bring(place, store, allow_expired=True).arrived.seal.is_expired


def test_a_seal_without_a_packing_list_is_none_of_ours(tmp_path, book, store):
    from tests.repository.sealing import seal_files

    (tmp_path / "a").write_bytes(b"a")
    seal_files(tmp_path / "plain", book, {"a": tmp_path / "a"})
    with pytest.raises(RepositoryError, match="none of Ordnung's"):
        bring(tmp_path / "plain", store)


# Killed at any moment.

WRITE = """
import sys
from pathlib import Path
from ordnung.repository import *
from ordnung.repository.sealed import open_sealed
work, shape, out = Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3])
carrier = open_sealed("x", work / "seal", ContentStore(work / "store"))
print("go", flush=True)
write_as(shape, carrier, out)
"""
CARRY = """
import sys
from pathlib import Path
from ordnung.repository import *
print("go", flush=True)
with open_carrier(Path(sys.argv[1])) as carrier:
    carry_in(carrier, look_at(carrier, None), ContentStore(Path(sys.argv[2])), "repository-1")
"""
LARGE = {f"payloads/p/large-{n}.pldm": bytes([n]) * 2_500_000 for n in range(6)}


def run_and_kill(script: str, *arguments: object, after_ms: int) -> bool:
    """Whether it was killed before it ended by itself."""
    command = [sys.executable, "-c", script, *map(str, arguments)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, cwd=Path(__file__).parents[2])
    assert process.stdout is not None
    process.stdout.readline()
    time.sleep(after_ms / 1000)  # not waiting for anything: it chooses the moment of the kill
    os.kill(process.pid, signal.SIGKILL)
    process.stdout.close()
    return process.wait() != 0


@pytest.fixture(scope="module")
def large(tmp_path_factory, book):
    """A repository of some size, as a site keeps it."""
    work = tmp_path_factory.mktemp("large")
    carried = bring(write_as("tar", seal(work, book, LARGE), work / "whole.tar").path, ContentStore(work / "store"))
    store_metadata(work / "seal", carried.metadata)
    return work


@pytest.mark.parametrize("shape", ["folder", "tar", "tar.zst"])
def test_a_killed_write_goes_on_and_gives_the_same_bytes(tmp_path, large, shape):
    out = tmp_path / f"out{SHAPES[shape]}"
    for after_ms in (4, 20):
        run_and_kill(WRITE, large, shape, out, after_ms=after_ms)
        if out.exists():
            with open_carrier(out) as carrier:
                assert len(carrier.files) == 11
            break
    carrier = open_sealed("x", large / "seal", ContentStore(large / "store"))
    went_on = write_as(shape, carrier, out)
    fresh = write_as(shape, carrier, tmp_path / f"fresh{SHAPES[shape]}")
    assert (went_on.sha256, went_on.bytes) == (fresh.sha256, fresh.bytes)
    with open_carrier(out) as one, open_carrier(fresh.path) as two:
        assert dict(one.files) == dict(two.files)
    assert not list(tmp_path.glob("*.part*"))


def test_a_killed_carry_in_leaves_a_sound_store_and_goes_on(tmp_path, large):
    store = ContentStore(tmp_path / "store")
    for after_ms in (3, 25, 60):
        run_and_kill(CARRY, large / "whole.tar", tmp_path / "store", after_ms=after_ms)
        report = look_over(store)
        assert report.is_sound and report.loose == ()
    carried = bring(large / "whole.tar", store)
    assert carried.waiting == () and look_over(store).missing == ()
    assert sum(store.has(s) for s in carried.arrived.sums.values()) == 7


# Archives and folders as others make them


def pack(folder: Path, place: Path, *names: str) -> Path:
    subprocess.run(["tar", "-cf", place, "-C", folder, *names], check=True)
    return place


def test_archives_that_others_made_of_the_folder_are_taken(tmp_path, book, store):
    folder = write_as("folder", seal(tmp_path, book), tmp_path / "annex").path
    archives = [
        pack(folder, tmp_path / "dot.tar", "."),
        pack(folder.parent, tmp_path / "around.tar", folder.name),
        pack(folder.parent, tmp_path / "both.tar", f"./{folder.name}"),
    ]
    for place in archives:
        with open_carrier(place) as carrier:
            assert check_carrier(carrier).files == 4, place.name
    outer = tmp_path / "stick"
    outer.mkdir()
    folder.rename(outer / "annex")
    (outer / "holiday.jpg").write_bytes(b"not ours")
    assert bring(outer, store).new_files == 4


@pytest.mark.parametrize("packing", ["gzip", "xz", "zip", "bzip2"])
def test_what_is_packed_otherwise_is_refused_with_what_to_do(tmp_path, packing):
    starts = {"gzip": b"\x1f\x8b\x08", "xz": b"\xfd7zXZ", "zip": b"PK\x03\x04", "bzip2": b"BZh9"}
    place = tmp_path / "repository.packed"
    place.write_bytes(starts[packing] + bytes(50_000))
    with pytest.raises(RepositoryError, match=f"packed with {packing}; unpack it"), open_carrier(place):
        pass
