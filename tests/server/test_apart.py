"""Foreign files are read apart: what they do to the reader is told of the file, and harms nobody else."""

from __future__ import annotations

import os
import sys
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from ordnung.formats.catalog import parse_catalog
from ordnung.formats.errors import FormatError
from ordnung.formats.text import whole_number
from ordnung.server import apart
from ordnung.server.apart import Budget

SMALL = Budget(cpu_s=1, wall_s=1.5, memory=64 * 2**20)


@pytest.fixture
def small(monkeypatch):
    monkeypatch.setattr(apart, "BUDGET", SMALL)


def test_what_the_reader_makes_of_it_comes_back():
    assert apart.apart(whole_number, "a list", "42") == 42


def test_what_the_reader_says_of_it_comes_back_whole():
    with pytest.raises(FormatError) as here:
        parse_catalog(b"{}", "broken.json")
    with pytest.raises(FormatError) as there:
        apart.apart(parse_catalog, "broken.json", b"{}", "broken.json")
    assert str(there.value) == str(here.value) and there.value.faults == here.value.faults != ()


@pytest.mark.parametrize(
    ("reader", "arguments"),
    [
        (bytes, (2**30,)),
        (sum, (range(10**12),)),
        (time.sleep, (4,)),
        (os.abort, ()),
        (os._exit, (0,)),
    ],
    ids=["memory", "work", "time", "crash", "end"],
)
def test_a_file_that_is_too_much_for_its_reader_is_refused_and_the_next_is_read(small, reader, arguments):
    with pytest.raises(
        FormatError, match=r"^huge\.json: reading it took more than 1 s of work, 2 s in all or 64 MiB, or"
    ):
        apart.apart(reader, "huge.json", *arguments)
    assert apart.apart(whole_number, "a list", "42") == 42


def test_a_slow_one_keeps_no_other_waiting():
    with ThreadPoolExecutor(1) as pool:
        slow = pool.submit(apart.apart, time.sleep, "slow", 1.5)
        assert apart.apart(whole_number, "a list", "42") == 42 and not slow.done()
        slow.result()


def test_a_helper_that_was_killed_is_started_again():
    helper = apart.apart(os.getppid, "a list")
    os.kill(helper, 9)
    assert apart.apart(whole_number, "a list", "2") == 2
    assert apart.apart(os.getppid, "a list") != helper


def test_a_reader_knows_nothing_of_the_site():
    modules, environment = apart.apart(looked_around, "a list")
    assert "django" not in modules and not any(name.startswith("ORDNUNG_") for name in environment)


def looked_around() -> tuple[set[str], set[str]]:
    return {name.partition(".")[0] for name in sys.modules}, set(os.environ)
