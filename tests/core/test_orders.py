"""What an order will mean, said before it is given: for who has not begun, who is at something, and who is between."""

from __future__ import annotations

import pytest

from ordnung.core.orders import SPELLED_OUT, Order, Ordered, tell_meaning

WAITS = Ordered(server="surge-01", begun=False, needs_s=900)
WRITES = Ordered(server="surge-12", begun=True, step="writing bios 3.2.0", left_s=170, needs_s=900)
IDLES = Ordered(server="surge-13", begun=True, waits=("bios", "nic-1"))
AWAY = Ordered(server="surge-14", begun=True, step="in its server reboot", left_s=0, elsewhere=True)
LAST = Ordered(server="surge-15", begun=True, step="in its server reboot", left_s=60, is_last=True)

STORIES = [
    (Order.HOLD, WAITS, "surge-01 has not begun and begins only when it is let go on."),
    (Order.HOLD, WRITES, "surge-12 is writing bios 3.2.0: that ends in about 3 min, then it waits."),
    (Order.HOLD, IDLES, "surge-13 waits. What is written to bios, nic-1 waits for its reset."),
    (
        Order.HOLD,
        AWAY,
        "surge-14 is in its server reboot: that ends any moment, then it waits. Its work stays elsewhere meanwhile.",
    ),
    (
        Order.HOLD,
        LAST,
        "surge-15 is in its server reboot: that ends in about 1 min, then it is done: there is nothing left to hold.",
    ),
    (Order.STOP, WAITS, "surge-01 has not begun and is left as it is: nothing is sent."),
    (Order.STOP, WRITES, "surge-12 is writing bios 3.2.0: that ends in about 3 min, then it ends here."),
    (
        Order.STOP,
        IDLES,
        "surge-13 ends here. What is written to bios, nic-1 becomes active with whatever reset comes next.",
    ),
    (
        Order.STOP,
        AWAY,
        "surge-14 is in its server reboot: that ends any moment, then it takes its work back and ends here.",
    ),
    (Order.LEAVE_OUT, WAITS, "surge-01 has not begun and is left out: nothing is sent."),
    (Order.LATER, WAITS, "surge-01 has not begun and begins no earlier than 02:30."),
]


@pytest.mark.parametrize(("order", "server", "told"), STORIES)
def test_it_is_said_what_becomes_of_each(order, server, told):
    meaning = tell_meaning(order, [server], at="02:30")
    assert meaning.lines == (told,) and meaning.servers == (server.server,) and meaning.refused == ()


@pytest.mark.parametrize("order", [Order.LEAVE_OUT, Order.LATER])
def test_who_has_begun_is_not_left_out_nor_put_later(order):
    meaning = tell_meaning(order, [WAITS, WRITES], at="02:30")
    assert meaning.servers == ("surge-01",)
    assert meaning.refused == ("surge-12 has begun: hold it or stop it instead.",)


def test_only_who_is_held_goes_on():
    held = [Ordered(server="surge-01", begun=False, held=True), Ordered(server="surge-02", begun=True, held=True)]
    meaning = tell_meaning(Order.GO, [*held, WRITES])
    assert meaning.servers == ("surge-01", "surge-02")
    assert meaning.lines == (
        "surge-01 has not begun and begins as soon as it is its turn.",
        "surge-02 goes on with its next step.",
    )


def test_who_would_no_longer_fit_into_the_window_is_named():
    meaning = tell_meaning(Order.LATER, [WAITS], at="03:50", left_s=600)
    assert meaning.lines[1] == "surge-01 would be left over: it needs 15 min, 10 would be left."
    assert (
        tell_meaning(Order.LATER, [WAITS], at="05:00", left_s=-60).lines[1].endswith("needs 15 min, 0 would be left.")
    )
    assert len(tell_meaning(Order.LATER, [WAITS], at="02:00", left_s=900).lines) == 1


def test_many_are_counted_and_none_is_lost():
    waiting = [Ordered(server=f"w-{n}", begun=False) for n in range(20)]
    begun = [Ordered(server=f"b-{n}", begun=True) for n in range(9)]
    meaning = tell_meaning(Order.HOLD, [*waiting, *begun])
    assert len(meaning.servers) == 29
    assert f"So do {9 - SPELLED_OUT} more that have begun." in meaning.lines
    assert meaning.lines[-1].startswith("20 servers have not begun; each begins only when it is let go on: w-0, ")
    assert meaning.lines[-1].endswith(f"and {20 - SPELLED_OUT} more.")
    assert tell_meaning(Order.HOLD, []).lines == ()


def test_who_was_started_from_a_disc_goes_on_whatever_is_ordered():
    in_disc = Ordered(server="surge-16", begun=True, step="writing bios 3.2.0", left_s=60, in_disc=True)
    for order, then in ((Order.HOLD, "nothing left to hold then."), (Order.STOP, "and ends there.")):
        (line,) = tell_meaning(order, [in_disc]).lines
        assert line.startswith("surge-16 was started from its disc: it goes on until it is level") and line.endswith(
            then
        )
