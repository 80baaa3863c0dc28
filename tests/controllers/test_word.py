"""A last word left with a controller, on services that keep it, that don't, and that want none."""

from __future__ import annotations

import datetime

import pytest

from ordnung.controllers import ControllerError, Word
from ordnung.controllers.word import MOST_CHARACTERS
from ordnung.standins.parts import Account
from ordnung.standins.scenario import PLACES, demo_hardware
from ordnung.standins.sessions import sign_in
from tests.simulation.lines import controller_of

NOW = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
MARK = "0123456789ab"
FAILED = Word(text="it failed", is_idle=True)


@pytest.fixture
def device():
    (found,) = demo_hardware(NOW.timestamp, [next(place for place in PLACES if place.name == "surge-02")])
    return found


@pytest.mark.parametrize("is_idle", [True, False])
@pytest.mark.parametrize("quirks", [(), ("sessions elsewhere",)], ids=str)
async def test_who_else_signs_in_finds_it_under_its_mark_alone(device, quirks, is_idle):
    device.quirks |= set(quirks)
    assert await controller_of(device).leave_word(MARK, Word(text="raid-1:\nthe write failed", is_idle=is_idle))
    other = controller_of(device)
    assert await other.find_word(MARK) == Word(text="raid-1: the write failed", is_idle=is_idle)
    assert await other.find_word("ba9876543210") is None
    assert await other.find_word("") is None


@pytest.mark.parametrize("quirk", ["no session context", "strict sign-in", "basic only"])
async def test_where_it_is_not_kept_no_session_is_left(device, quirk):
    device.quirks |= {quirk}
    controller = controller_of(device)
    assert not await controller.leave_word(MARK, FAILED) and not device.sessions
    assert await controller.find_word(MARK) is None


async def test_of_several_the_last_counts(device):
    for text in ("the first time", "the second time"):
        await controller_of(device).leave_word(MARK, Word(text=text, is_idle=True))
    assert (await controller_of(device).find_word(MARK)).text == "the second time"


async def test_it_is_cut_to_what_fits(device):
    await controller_of(device).leave_word(MARK, Word(text="x" * 1000, is_idle=True))
    assert (await controller_of(device).find_word(MARK)).text == "x" * MOST_CHARACTERS


async def test_sessions_that_may_not_be_seen_hide_nothing_else(device):
    sign_in(device, device.user, device.password, "somebody's own")
    device.accounts["9"] = Account(user="kit", password="handed-out", role="ReadOnly")
    sign_in(device, "kit", "handed-out", f"ordnung.word/1 {MARK} idle it failed")
    limited = controller_of(device)
    limited._session.basic = "Basic a2l0OmhhbmRlZC1vdXQ="
    assert await limited.find_word(MARK) == FAILED


async def test_a_wrong_password_is_no_word(device):
    controller = controller_of(device)
    device.accounts["1"].password = "another"
    with pytest.raises(ControllerError):
        await controller.find_word(MARK)
