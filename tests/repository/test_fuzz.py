"""Carriers and seals that differ from good ones: read as they are, or refused by name, within a budget."""

from __future__ import annotations

import io
import json
import os
import random
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard

from ordnung.formats.text import clean
from ordnung.repository import check_carrier, look_at, open_carrier, write_as
from ordnung.repository.roots import load_root
from ordnung.repository.seal import load_targets
from ordnung.repository.tuf_source import read_root
from ordnung.store import RepositoryError
from tests.formats.mutations import budget, spoil_bytes, spoil_document
from tests.repository.sealing import open_book, seal

TIMES = 10 * int(os.environ.get("ORDNUNG_FUZZ", "1"))
SECTOR = 2048


@pytest.fixture(scope="module")
def sealed(tmp_path_factory) -> dict[str, bytes]:
    """The same small repository as each kind of file."""
    folder = tmp_path_factory.mktemp("sealed")
    whole = seal(folder, open_book(folder))
    return {
        shape: write_as(shape, whole, folder / f"out.{shape}").path.read_bytes() for shape in ("tar", "tar.zst", "iso")
    }


def check(name: str, number: int, read: Callable[[], object]) -> bool:
    """Whether it was taken; anything but a refusal by name is a failure."""
    try:
        with budget():
            read()
    except RepositoryError as error:
        told = f"{error} {error.file} {error.what}"
    except Exception as error:
        raise AssertionError(f"{name}, case {number}: {type(error).__name__}: {error}") from error
    else:
        return True
    assert clean(told) == told, f"{name}, case {number}: {told!r}"
    return False


def carry(path: Path) -> None:
    with open_carrier(path, path.parent) as carrier:
        look_at(carrier, None, allow_expired=True)
        check_carrier(carrier, allow_expired=True)


def header_places(raw: bytes, chance: random.Random) -> Callable[[], int]:
    """Places in the headers of a tar archive: what is fed on."""
    at, places = 0, []
    while at + 512 <= len(raw) and any(raw[at : at + 512]):
        places.append(at)
        size = int(raw[at + 124 : at + 135].rstrip(b" \0") or b"0", 8)
        at += 512 + (size + 511) // 512 * 512
    return lambda: chance.choice(places) + chance.choice((0, 100, 124, 130, 156, 156, 157, 257, 263, 345, 500))


def sum_headers(raw: bytes) -> bytes:
    """With the checksums of all that look like headers made right again (POSIX.1-1988, ustar)."""
    out = bytearray(raw)
    for at in range(0, len(out) - 511, 512):
        if out[at + 257 : at + 262] == b"ustar":
            out[at + 148 : at + 156] = b" " * 8
            out[at + 148 : at + 156] = f"{sum(out[at : at + 512]):06o}\0 ".encode()
    return bytes(out)


def test_archives(sealed, tmp_path):
    chance, raw = random.Random(11), sealed["tar"]
    places = header_places(raw, chance)
    came = []
    for number in range(TIMES * 4):
        spoiled = sum_headers(spoil_bytes(raw, chance, places if chance.random() < 0.8 else None))
        path = tmp_path / "x.tar"
        path.write_bytes(zstandard.compress(spoiled) if number % 4 == 0 else spoiled)
        came.append(check("archive", number, lambda: carry(path)))  # noqa: B023
    assert not all(came)


def test_extension_headers(sealed, tmp_path):
    """Long names, pax records and sparse maps, with lengths that lie."""
    chance = random.Random(5)
    kinds = (
        tarfile.XHDTYPE,
        tarfile.XGLTYPE,
        tarfile.GNUTYPE_LONGNAME,
        tarfile.GNUTYPE_LONGLINK,
        tarfile.GNUTYPE_SPARSE,
    )
    records = (b"21 path=targets/a.json\n", b"12 size=99\n", b"25 GNU.sparse.major=1.0\n", b"30 GNU.sparse.map=0,1,2,3,4,5\n",
               b"9" * 5000, b"-1 x=\n", b"0 =\n", b"18 size=999999999\n", b"13 hdrcharset=\xff\n", b"11 mtime=x\n")  # fmt: skip
    for number in range(TIMES * 2):
        body = spoil_bytes(b"".join(chance.choices(records, k=chance.randint(1, 4))), chance)
        info = tarfile.TarInfo("x")
        info.type, info.size = chance.choice(kinds), chance.choice((len(body), len(body), 0, 2**33, 511))
        padded = body + bytes(-len(body) % 512)
        path = tmp_path / "x.tar"
        path.write_bytes(sum_headers(info.tobuf(tarfile.GNU_FORMAT) + padded + sealed["tar"]))
        check("extension", number, lambda: carry(path))  # noqa: B023


def test_images(sealed, tmp_path):
    chance, raw = random.Random(13), sealed["iso"]
    directories = range(16 * SECTOR, min(len(raw), 60 * SECTOR))
    came = []
    for number in range(TIMES * 2):
        path = tmp_path / "x.iso"
        path.write_bytes(spoil_bytes(raw, chance, lambda: chance.choice(directories)))
        came.append(check("image", number, lambda: carry(path)))  # noqa: B023
    assert not all(came)


def test_metadata(sealed):
    chance = random.Random(17)
    with tarfile.open(fileobj=io.BytesIO(sealed["tar"])) as archive:
        files = {m.name.split(".", 1)[-1]: archive.extractfile(m).read() for m in archive if "metadata" in m.name}
    readers = {"root.json": (load_root, read_root), "targets.json": (load_targets,)}
    for name, reads in readers.items():
        good = json.loads(files[name])
        for number in range(TIMES * 2):
            raw = spoil_document(good, chance)
            for read in reads:
                check(name, number, lambda: read(raw))  # noqa: B023
