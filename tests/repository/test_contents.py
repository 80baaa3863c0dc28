"""Where files lie in images and archives, and reading them there."""

from __future__ import annotations

import io
import pickle
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.repository.carriers import ImageCarrier
from ordnung.repository.contents import _extents_of
from ordnung.store.errors import RepositoryError


@dataclass
class Record:
    """What the library says of one piece of a file."""

    block: int
    length: int
    data_continuation: Record | None = None

    def extent_location(self) -> int:
        return self.block

    def get_data_length(self) -> int:
        return self.length


def test_a_file_of_several_pieces_is_listed_whole():
    """From 4 GiB on a disc image keeps a file in several; only the first was read once."""
    record = Record(10, 4096, Record(12, 4096, Record(14, 100)))
    assert list(_extents_of(record, "x", 14 * 2048 + 100)) == [(20480, 4096), (24576, 4096), (28672, 100)]
    with pytest.raises(RepositoryError, match="the image ends before"):
        list(_extents_of(record, "x", 14 * 2048 + 99))


@given(st.lists(st.binary(max_size=9), max_size=5), st.lists(st.binary(max_size=9), max_size=5), st.integers(1, 7))
def test_pieces_are_read_one_after_the_other(tmp_path_factory, wanted, between, at_once):
    path = tmp_path_factory.mktemp("image") / "x.iso"
    whole, extents = b"", []
    for number, piece in enumerate(wanted):
        whole += between[number] if number < len(between) else b""
        extents.append((len(whole), len(piece)))
        whole += piece
    path.write_bytes(whole + b"behind")
    carrier = ImageCarrier(path, "x", {"a": tuple(extents)})
    with io.BufferedReader(carrier.open("a"), at_once) as file:
        assert file.read() == b"".join(wanted)
    assert carrier.files == {"a": sum(map(len, wanted))}


def test_a_refusal_comes_whole_from_another_process():
    error = RepositoryError("cut short", "a\x07.tar", "it ends")
    again = pickle.loads(pickle.dumps(error))
    assert (again.code, again.file, again.what, str(again)) == (error.code, error.file, error.what, str(error))
