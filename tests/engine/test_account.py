"""What a tape amounts to: rounds as they went, remedies with their results, what was done outside."""

from __future__ import annotations

import datetime

from ordnung.engine import entries as e
from ordnung.engine.account import away_seconds, outside_of, remedies_of, rounds_of, tell_tape
from ordnung.engine.entries import Entry
from tests.engine.test_tape import (
    ALONE,
    BACK,
    BACK_AGAIN,
    BEGUN,
    CONFIRMED,
    DEFERRED,
    DONE_OUTSIDE,
    INTENT,
    INTENT_RAID,
    KEPT,
    NOT_WRITTEN,
    NOW,
    OFF,
    REFUSED,
    RESET,
    RESET_SENT,
    RESET_UNSENT,
    RESTART,
    SEEN,
    SENT,
    STAGED,
    TROUBLE,
    UNSENT,
    WRITTEN,
)

MIN = datetime.timedelta(minutes=1)
LEVEL = e.Ended(ending=e.Ending.LEVEL, reason=e.Reason.CONFIRMED)
FAILED = e.Ended(ending=e.Ending.FAILED, reason=e.Reason.NOT_BACK, facts={"minutes": "40", "kind": "server reboot"})
STOPPED = e.Ended(ending=e.Ending.STOPPED, reason=e.Reason.STOPPED)


def by_the_minute(*values):
    return [Entry(seq=n, at=NOW + n * MIN, value=value) for n, value in enumerate(values, start=1)]


def test_a_round_is_told_with_what_was_written_its_reset_and_what_was_confirmed():
    (step,) = rounds_of(by_the_minute(*WRITTEN, RESET, RESET_SENT, SEEN, BACK, CONFIRMED, LEVEL))
    (write,), (reset,) = step.writes, step.resets
    assert (write.slot, write.source, write.to, write.result, write.sha256) == ("bios", "1", "2", "written", "aa")
    assert (write.began, write.ended) == (NOW + 4 * MIN, NOW + 6 * MIN) and write.detail == "by its task"
    assert (reset.kind, reset.type) == ("server reboot", "ForceRestart")
    assert reset.acted_by == "the time of its last reset" and reset.back == NOW + 10 * MIN
    assert step.confirmed == ("bios 2",)


def test_what_never_arrived_and_was_sent_again_is_told_twice():
    (step,) = rounds_of(by_the_minute(*BEGUN, INTENT, UNSENT, INTENT, SENT))
    assert [write.result for write in step.writes] == ["never arrived", "open"]
    assert step.writes[1].ended is None and step.resets == ()


def test_what_is_kept_for_the_reset_is_told_as_it_ended_after_it():
    failed = e.WriteFailed(reason=e.Reason.TASK_FAILED)
    kept = (*KEPT, INTENT_RAID, SENT, STAGED, RESET, RESET_SENT)
    (step,) = rounds_of(by_the_minute(*kept))
    assert [write.result for write in step.writes] == ["staged", "staged"]
    (step,) = rounds_of(by_the_minute(*kept, SEEN, BACK, failed, WRITTEN[-1]))
    assert [(write.slot, write.result) for write in step.writes] == [("bios", "not written"), ("raid", "written")]


def test_a_reset_that_did_not_begin_is_none():
    (step,) = rounds_of(by_the_minute(*WRITTEN, RESET, RESET_UNSENT))
    assert step.resets == ()


def test_what_comes_after_a_remedy_or_being_put_off_is_another_round():
    again = (*NOT_WRITTEN, TROUBLE, ALONE, *BEGUN[1:], INTENT, SENT, e.WriteDone(evidence=e.Evidence.TASK))
    assert [[w.result for w in step.writes] for step in rounds_of(by_the_minute(*again))] == [
        ["not written"],
        ["written"],
    ]
    assert rounds_of(by_the_minute(*BEGUN, DEFERRED, *BEGUN)) == ()


def test_a_remedy_helped_if_what_comes_next_is_a_good_end():
    (one,) = remedies_of(by_the_minute(*NOT_WRITTEN, TROUBLE, ALONE, LEVEL))
    assert one.result == "helped" and "bios ? was not written" in one.why and one.by == ""
    first, second = remedies_of(by_the_minute(*NOT_WRITTEN, TROUBLE, ALONE, TROUBLE, RESTART, FAILED))
    assert first.result.startswith("did not help: bios") and second.result.startswith("did not help: not back 40 min")
    assert second.by == "lead"
    (cut,) = remedies_of(by_the_minute(*NOT_WRITTEN, TROUBLE, ALONE, STOPPED))
    assert cut.result == "ended otherwise"
    (open_,) = remedies_of(by_the_minute(*NOT_WRITTEN, TROUBLE, ALONE))
    assert open_.result == ""


def test_what_was_done_outside_is_told_with_who_did_it_or_why_not():
    done, refused, open_ = outside_of(by_the_minute(OFF, DONE_OUTSIDE, BACK_AGAIN, REFUSED, OFF))
    assert (done.what, done.of, done.by, done.note) == ("move its work off", "desk", "desk", "with a note")
    assert done.ended == NOW + 2 * MIN
    assert refused.note == "given up: not now" and open_.ended is None
    assert len(outside_of(by_the_minute(OFF, OFF, DONE_OUTSIDE))) == 2


def test_only_outages_that_are_over_are_time_away():
    assert away_seconds(by_the_minute(RESET, SEEN, BACK)) == 120.0
    assert away_seconds(by_the_minute(RESET, RESET_UNSENT, BACK)) == 0.0
    assert away_seconds(by_the_minute(RESET, SEEN)) == 0.0
    restart = e.ResetIntent(kind=e.ResetKind.CONTROLLER_RESTART, marker=RESET.marker)
    assert away_seconds(by_the_minute(restart, BACK)) == 0.0


def test_the_tape_is_told_entry_by_entry():
    told = tell_tape(by_the_minute(*WRITTEN))
    assert [row.seq for row in told] == list(range(1, 7)) and told[5].text == "written, by its task"
