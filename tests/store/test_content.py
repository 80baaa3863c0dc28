"""The content store: once each, counted by who needs it, looked over."""

from __future__ import annotations

import hashlib
import io

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from ordnung.store import ContentStore, RepositoryError, look_over


def sum_of(raw: bytes) -> str:
    return hashlib.sha256(raw).hexdigest()


@pytest.fixture
def store(tmp_path):
    return ContentStore(tmp_path / "store")


def test_what_comes_in_is_checked_on_the_way(store):
    with pytest.raises(RepositoryError) as caught:
        store.take_in(io.BytesIO(b"other"), sum_of(b"this"), "bios.pldm")
    assert caught.value.code == "altered" and caught.value.file == "bios.pldm"
    assert not list(store.sums()) and not list(store.partial.iterdir())


def test_what_is_here_is_not_written_again(store):
    path = store.put(b"payload", "x")
    before = path.stat().st_ino
    assert store.put(b"payload", "y") == path and path.stat().st_ino == before
    assert path.stat().st_mode & 0o222 == 0, "nobody writes into it by accident"


def test_collecting_leaves_what_is_held_or_coming(store):
    store.hold("one", [sum_of(b"a"), sum_of(b"b")])
    store.hold("two", [sum_of(b"b")])
    for raw in (b"a", b"b", b"loose"):
        store.put(raw, "x")
    store.partial_path(sum_of(b"a")).write_bytes(b"half")
    (store.partial / ("0" * 64)).write_bytes(b"nobody waits for it")
    assert store.counts()[sum_of(b"b")] == 2
    assert store.collect().files == 2
    assert set(store.sums()) == {sum_of(b"a"), sum_of(b"b")} and store.partial_path(sum_of(b"a")).exists()
    store.release("one")
    assert store.collect().files == 2
    assert list(store.sums()) == [sum_of(b"b")]


@pytest.mark.parametrize(
    "junk",
    [b"", b"{}", b"[]", b'{"format": "ordnung.hold/1", "sums": ["x"]}', b'{"format": "ordnung.hold/9", "sums": []}'],
)
def test_a_broken_hold_stops_collecting_and_is_told(store, junk):
    store.put(b"payload", "x")
    (store.holds / "one.json").write_bytes(junk)
    with pytest.raises(RepositoryError) as caught:
        store.collect()
    assert caught.value.code == "broken" and caught.value.file == "holds/one.json"
    report = look_over(store)
    assert not report.is_sound and report.broken == ("holds/one.json",) and report.files == 1


def test_looking_over_finds_what_is_not_what_it_is_named_for(store):
    good, bad = store.put(b"good", "x"), store.put(b"bad", "x")
    store.hold("one", [good.name, bad.name, sum_of(b"never came")])
    bad.chmod(0o644)
    bad.write_bytes(b"BAD")
    (store.folder / "readme.txt").write_text("?")
    (store.partial / f"{sum_of(b'z')}.1.tmp").write_bytes(b"left by a crash")
    report = look_over(store)
    assert (report.altered, report.strange) == ((bad.name,), ("readme.txt",)) and not report.is_sound
    assert {s for _, s in report.missing} == {bad.name, sum_of(b"never came")}
    repaired = look_over(store, repair=True)
    assert len(repaired.repaired) == 3 and (store.root / "damaged" / bad.name).exists()
    after = look_over(store)
    assert after.is_sound and after.partial == () and not store.has(bad.name)


def test_too_little_room_is_said_before_anything_is_begun(store):
    with pytest.raises(RepositoryError) as caught:
        store.want_room(2**62, "Hill annex")
    assert caught.value.code == "no room" and "nothing was begun" in caught.value.what


class Holding(RuleBasedStateMachine):
    """Whatever is held and put, released and collected: the store agrees with a plain dictionary."""

    def __init__(self) -> None:
        super().__init__()
        import tempfile
        from pathlib import Path

        self.folder = tempfile.TemporaryDirectory()
        self.store = ContentStore(Path(self.folder.name))
        self.held: dict[str, set[str]] = {}
        self.here: set[str] = set()

    names, raws = st.sampled_from("abc"), st.binary(max_size=3)

    @rule(owner=names, raw=st.lists(raws, max_size=3))
    def hold(self, owner, raw):
        self.store.hold(owner, map(sum_of, raw))
        self.held[owner] = set(map(sum_of, raw))

    @rule(owner=names)
    def release(self, owner):
        self.store.release(owner)
        self.held.pop(owner, None)

    @rule(raw=raws)
    def put(self, raw):
        self.here.add(self.store.put(raw, "x").name)

    @rule()
    def collect(self):
        needed = {s for sums in self.held.values() for s in sums}
        assert self.store.collect().files == len(self.here - needed)
        self.here &= needed

    @invariant()
    def agrees(self):
        assert set(self.store.sums()) == self.here
        assert self.store.owners() == {owner: frozenset(sums) for owner, sums in self.held.items()}

    def teardown(self):
        assert look_over(self.store).is_sound
        self.folder.cleanup()


TestHolding = Holding.TestCase
TestHolding.settings = settings(max_examples=15, stateful_step_count=15, deadline=None)
