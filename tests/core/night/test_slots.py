"""Places of one limit, each branch told by hand: what the properties reach only when the dice fall so."""

from __future__ import annotations

import numpy as np

from ordnung.core.night.profile import Profile
from ordnung.core.night.slots import Slots


def samples(*values):
    return np.array(values, dtype=float)


def test_who_comes_too_early_takes_the_place_that_is_free_first():
    slots = Slots(2, 2)
    slots.hold(samples(0, 0), samples(50, 90))
    slots.hold(samples(0, 0), samples(80, 60))
    assert slots.first().tolist() == [50, 60]
    slots.hold(samples(10, 10), samples(200, 200))
    assert slots.first().tolist() == [80, 90], "in each sample the one that would have been free first is held on"


def test_a_place_that_was_given_back_is_free_unless_somebody_else_holds_it():
    slots = Slots(1, 1)
    held = slots.hold(samples(0), samples(100))
    slots.give_back(held, samples(40))
    assert slots.first().tolist() == [40]
    slots.hold(samples(40), samples(90))
    slots.give_back(held, samples(10))
    slots.put_off(held, samples(500))
    assert slots.first().tolist() == [90]


def test_a_stretch_without_room_is_told_by_its_end():
    profile = Profile(1)
    profile.take(100, 200)
    assert profile.clash(150, 160) == 200
    assert profile.clash(0, 101) == 200
    assert profile.clash(0, 100) is None and profile.clash(200, 300) is None and profile.clash(150, 150) is None
