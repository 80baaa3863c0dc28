"""How long the writes and resets of a tape took: what came to a good end, and what failed, each once."""

from __future__ import annotations

import datetime

from ordnung.controllers import Marker
from ordnung.core.route import Write
from ordnung.core.sheet import PlannedWrite
from ordnung.engine import entries as e
from ordnung.engine.lasted import lasted

START = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
PLANNED = PlannedWrite(write=Write(slot="bios", product="p", source="1", to="2", seconds=None), payload=None)


def tape(*steps):
    """Entries from (seconds, value) pairs."""
    return [
        e.Entry(seq=n, at=START + datetime.timedelta(seconds=at), value=value) for n, (at, value) in enumerate(steps, 1)
    ]


def intent():
    return e.WriteIntent(planned=PLANNED, way="push")


def reset():
    return e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, marker=Marker(), type="ForceRestart")


def told(*steps):
    return [(f.seq, f.kind, f.product, f.version, f.seconds, f.failed) for f in lasted(tape(*steps))]


def test_a_write_lasts_from_its_taking_on_and_a_reset_from_its_asking():
    done = e.WriteDone(evidence=e.Evidence.TASK)
    found = told(
        (0, intent()),
        (7, e.WriteSent()),
        (107, done),
        (110, reset()),
        (112, e.ResetSent()),
        (400, e.Back(marker=Marker())),
    )
    assert found == [(3, "writing", "p", "2", 100.0, False), (6, "server reboot", "", "", 290.0, False)]


def test_what_failed_is_told_as_such_and_what_never_began_not_at_all():
    failed = e.WriteFailed(reason=e.Reason.TASK_FAILED)
    assert told((0, intent()), (5, e.WriteSent()), (9, failed)) == [(3, "writing", "p", "2", 4.0, True)]
    unsent = e.WriteUnsent(reason=e.Reason.NOT_ARRIVED)
    assert told((0, intent()), (5, unsent), (9, failed)) == []
    assert told((0, reset()), (5, e.ResetUnsent(reason=e.Reason.RESET_NOT_BEGUN)), (9, e.Back(marker=Marker()))) == []
    assert told((0, intent()), (9, e.Ended(ending=e.Ending.STOPPED, reason=e.Reason.STOPPED))) == []


def test_a_write_that_was_found_done_after_a_break_has_no_beginning_to_count_from():
    assert told((0, intent()), (500, e.WriteDone(evidence=e.Evidence.VERSION))) == []
