"""Seeded nights through anything; thousands more by ``make soak``."""

from __future__ import annotations

import pytest

from tests.simulation.night import play

NIGHTS = 150


# Nights prove invariants; which lines they touch is measured by the tests that name what they prove, and costs as much again.
@pytest.mark.no_cover
@pytest.mark.parametrize("seed", range(NIGHTS))
def test_a_random_night(mirror_folder, seed):
    play(seed, mirror_folder)
