"""Seeded nights through anything; thousands more by ``make soak``."""

from __future__ import annotations

import pytest

from tests.simulation.night import play

NIGHTS = 150


@pytest.mark.parametrize("seed", range(NIGHTS))
def test_a_random_night(mirror_folder, seed):
    play(seed, mirror_folder)
