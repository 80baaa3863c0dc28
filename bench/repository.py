"""Building and checking a repository of 2 GB, against the plain tools on the same bytes."""

from __future__ import annotations

import datetime
import hashlib
import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ordnung.formats.packing import PackingList, write_packing
from ordnung.repository import (
    Content,
    SealBook,
    SealedCarrier,
    carry_in,
    check_repository,
    describe,
    draft_targets,
    finish,
    look_at,
    open_carrier,
    write_as,
)
from ordnung.store import ContentStore

FILES, FILE_MB = 40, 54
GB = FILES * FILE_MB * 2**20 / 1e9


@dataclass(frozen=True)
class RepositoryRatios:
    """Speeds as parts of the plain tools' (1 is as fast, more is faster), and memory in MB."""

    build: float
    archive: float
    check: float
    carry: float
    grew_mb: float


def bench_repository() -> RepositoryRatios:
    """Measured in a process of its own, so that what is remembered elsewhere does not count as memory."""
    out = subprocess.run([sys.executable, "-m", "bench.repository"], capture_output=True, text=True, check=True).stdout
    return RepositoryRatios(*map(float, out.split()))


def _measure() -> RepositoryRatios:
    with tempfile.TemporaryDirectory(prefix="bench-", dir=os.environ.get("ORDNUNG_BENCH_DIR")) as name:
        folder = Path(name)
        store, contents = _contents(folder)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        sources = [str(c.source) for c in contents if c.size > 2**20]
        # In turns, so that neither has the cache to itself.
        plain, ours = [], []
        for turn in range(2):
            copies = folder / f"copies-{turn}"
            copies.mkdir()
            plain.append(_timed(lambda to=copies: _copy_and_sum(sources, to)))
            shutil.rmtree(copies)
            out = folder / f"out-{turn}"
            ours.append(_timed(lambda to=out: _build(contents, folder, to)))
            if turn < 1:
                shutil.rmtree(out)
        check_plain = min(_timed(lambda: _sum(sources)) for _ in range(2))
        check_ours = min(_timed(lambda: check_repository(folder / "out-1")) for _ in range(2))
        archive = _timed(lambda: write_as("tar", _sealed(contents, folder), folder / "out.tar"))
        carry = _timed(lambda: _carry(folder / "out.tar", folder / "far"))
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        assert sum(1 for _ in store.sums()) == FILES
        return RepositoryRatios(
            build=min(plain) / min(ours), archive=min(plain) / archive, check=check_plain / check_ours,
            carry=min(plain) / carry, grew_mb=(after - before) / 1024,
        )  # fmt: skip


def _contents(folder: Path) -> tuple[ContentStore, list[Content]]:
    store = ContentStore(folder / "store")
    piece = os.urandom(2**20)
    contents = []
    for number in range(FILES):
        # Written in pieces, so that making it does not hide what the work itself takes.
        draft, digest = folder / "draft", hashlib.sha256()
        with draft.open("wb") as file:
            for place in range(FILE_MB):
                part = (number * FILE_MB + place).to_bytes(8, "big") + piece[8:]
                digest.update(part)
                file.write(part)
        with draft.open("rb") as file:
            path = store.take_in(file, digest.hexdigest(), str(number))
        size = FILE_MB * 2**20
        contents.append(Content(path=f"payloads/p/large-{number}.pldm", source=path, sha256=path.name, size=size))
    now = datetime.datetime.now(datetime.UTC)
    packing = PackingList(
        name="bench", series="0" * 32, edition=1, made_at=now, made_by="bench", revision=1, servers=(), payloads=()
    )  # fmt: skip
    (folder / "packing.json").write_bytes(write_packing(packing))
    return store, [*contents, describe("packing.json", folder / "packing.json")]


def _sealed(contents: list[Content], folder: Path) -> SealedCarrier:
    now = datetime.datetime.now(datetime.UTC)
    book = SealBook(folder / "keys", b"bench", now)
    metadata = finish(draft_targets(contents, book, 1, now + datetime.timedelta(days=9)), book)
    return SealedCarrier("bench", metadata, {c.path: c for c in contents})


def _build(contents: list[Content], folder: Path, to: Path) -> None:
    write_as("folder", _sealed(contents, folder), to)


def _copy_and_sum(sources: list[str], to: Path) -> None:
    """The plain way: copy, make it durable as ours is, and sum what was written."""
    subprocess.run(["cp", *sources, str(to)], check=True)
    copies = [str(path) for path in to.iterdir()]
    subprocess.run(["sync", *copies], check=True)
    _sum(copies)


def _sum(paths: list[str]) -> None:
    subprocess.run(["sha256sum", *paths], check=True, stdout=subprocess.DEVNULL)


def _carry(archive: Path, far: Path) -> None:
    with open_carrier(archive) as carrier:
        carry_in(carrier, look_at(carrier, None), ContentStore(far), "bench")


def _timed(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


if __name__ == "__main__":
    found = _measure()
    print(found.build, found.archive, found.check, found.carry, found.grew_mb)
