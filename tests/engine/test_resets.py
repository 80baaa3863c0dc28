"""Has a reset acted? By whatever a controller shows, certain in either direction or not at all."""

from __future__ import annotations

import pytest

from ordnung.controllers import Marker
from ordnung.engine.entries import Evidence
from ordnung.engine.entries import ResetKind as K
from ordnung.engine.resets import look_for_reset
from ordnung.engine.telling import tell_boot

THEN, NEAR, LATER = "2026-11-20T02:00:00Z", "2026-11-20T02:00:02+00:00", "2026-11-23T02:00:00"
"""A time, the same as one reckons it again, and another."""


def m(**told):
    return Marker(**told)


READY = "SystemHardwareInitializationComplete"


@pytest.mark.parametrize(
    ("kind", "before", "now", "losses", "acted", "still"),
    [
        (K.SERVER_REBOOT, m(system="a"), m(system="b"), 0, Evidence.RESET_TIME, False),
        (K.SERVER_REBOOT, m(system="a"), m(system="a"), 0, None, False),  # some count no restart as a reset
        (K.SERVER_REBOOT, m(system="a", boot="OSRunning"), m(system="a", boot="OSRunning"), 0, None, True),
        (K.SERVER_REBOOT, m(system=THEN), m(system=LATER), 0, Evidence.RESET_TIME, False),
        (K.SERVER_REBOOT, m(system=THEN, boot="OSRunning"), m(system=NEAR, boot="OSRunning"), 0, None, True),
        (
            K.SERVER_REBOOT,
            m(system=THEN, boot="OSRunning"),
            m(system=THEN, boot="SetupEntered"),
            0,
            Evidence.BOOT_PROGRESS,
            False,
        ),
        (
            K.SERVER_REBOOT,
            m(system=THEN, boot="OSRunning", boot_at=THEN),
            m(system=THEN, boot="OSRunning", boot_at=LATER),
            0,
            None,
            False,
        ),
        (K.POWER_CYCLE, m(system=THEN, power="On"), m(system=THEN, power="Off"), 0, Evidence.POWER_STATE, False),
        (K.CONTROLLER_RESTART, m(controller=THEN), m(controller=NEAR), 0, None, True),
        (K.CONTROLLER_RESTART, m(controller=THEN, uptime_s=900), m(controller=THEN, uptime_s=9), 0, None, False),
        (K.SERVER_REBOOT, m(system="a"), m(), 0, None, False),
        (K.SERVER_REBOOT, m(power="On"), m(power="PoweringOff"), 0, Evidence.POWER_STATE, False),
        (K.SERVER_REBOOT, m(power="Off"), m(power="Off"), 0, None, False),
        (K.SERVER_REBOOT, m(boot="OSRunning"), m(boot="MemoryInitializationStarted"), 0, Evidence.BOOT_PROGRESS, False),
        (K.SERVER_REBOOT, m(boot="OSBootStarted"), m(boot="OSRunning"), 0, None, False),  # it was starting before
        (K.SERVER_REBOOT, m(boot="OSBootStarted"), m(boot="SetupEntered"), 0, Evidence.BOOT_PROGRESS, False),
        (K.SERVER_REBOOT, m(boot="OSBootStarted"), m(boot=READY), 0, Evidence.BOOT_PROGRESS, False),
        (K.SERVER_REBOOT, m(boot=READY), m(boot="MemoryInitializationStarted"), 0, Evidence.BOOT_PROGRESS, False),
        (K.SERVER_REBOOT, m(boot=READY), m(boot="OSBootStarted"), 0, None, False),
        (K.SERVER_REBOOT, m(boot=READY), m(boot=READY), 0, None, False),
        (
            K.SERVER_REBOOT,
            m(boot="OSRunning", boot_at="1"),
            m(boot="OSRunning", boot_at="2"),
            0,
            Evidence.BOOT_PROGRESS,
            False,
        ),
        (K.SERVER_REBOOT, m(boot="OSRunning", boot_at="1"), m(boot="OSRunning", boot_at="1"), 0, None, True),
        (K.SERVER_REBOOT, m(boot="OSRunning"), m(boot="OSRunning"), 5, None, False),  # sessions are the controller's
        (K.SERVER_REBOOT, m(controller="a"), m(controller="b"), 0, None, False),
        (K.CONTROLLER_RESTART, m(controller="a"), m(controller="b"), 0, Evidence.RESET_TIME, False),
        (K.CONTROLLER_RESTART, m(controller="a"), m(controller="a"), 1, None, True),
        (K.CONTROLLER_RESTART, m(uptime_s=9000), m(uptime_s=20), 0, Evidence.UPTIME, False),
        (K.CONTROLLER_RESTART, m(uptime_s=9000), m(uptime_s=9100), 0, None, True),
        (K.CONTROLLER_RESTART, m(uptime_s=9000), m(uptime_s=9001), 0, None, False),  # a clock that stands tells nothing
        (K.CONTROLLER_RESTART, m(), m(), 1, Evidence.SESSION, False),
        (K.CONTROLLER_RESTART, m(system="a"), m(system="b"), 0, None, False),
        (K.POWER_CYCLE, m(system="a"), m(system="b"), 0, Evidence.RESET_TIME, False),
        (K.POWER_CYCLE, m(uptime_s=9000), m(uptime_s=20), 0, Evidence.UPTIME, False),
        (K.POWER_CYCLE, m(controller="a"), m(controller="a"), 0, None, False),
    ],
)
def test_what_two_looks_say(kind, before, now, losses, acted, still):
    look = look_for_reset(kind, before, now, elapsed_s=100.0, losses=losses)
    assert (look.acted, look.still) == (acted, still)
    assert look.is_blind == (acted is None and not still)


def test_a_server_is_up_when_nothing_that_is_told_says_otherwise():
    assert m().is_up() and m(boot="OSRunning").is_up() and m(boot="None", power="On").is_up()
    begins = m(boot="OSBootStarted")
    assert not begins.is_up() and not begins.is_up(m(boot="OSRunning")) and not m(power="Off").is_up()
    ready = m(boot=READY)
    assert ready.is_up(ready) and not ready.is_up() and not ready.is_up(begins) and not ready.is_starting
    assert begins.is_up(begins) and m(boot="OSRunning").is_up(begins) and not m(boot="SetupEntered").is_up(begins)


def test_how_far_a_start_has_come_is_said_in_words():
    assert tell_boot("SystemHardwareInitializationComplete") == "its hardware is ready, its system is not"
    assert tell_boot("OEM") == "it says OEM" and tell_boot(None) == "it does not say how far it is"


def test_a_time_that_stays_is_believed_of_a_server_that_was_watched():
    """One that counts no restart may have started and run again while nobody looked."""
    stands = m(system=THEN, boot="OSRunning")
    for is_watched in (True, False):
        look = look_for_reset(K.SERVER_REBOOT, stands, stands, elapsed_s=900.0, is_watched=is_watched)
        assert (look.acted, look.still) == (None, is_watched)
