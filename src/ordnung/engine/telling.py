"""Tape entries in words: what happened, what Ordnung did, what the person can do. The only place where they become
sentences; nothing here is ever read back.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import assert_never

from ordnung.core.errands import ErrandKind
from ordnung.core.sheet import DiscPart
from ordnung.engine.entries import (
    AheadDone,
    Answer,
    Answered,
    Asked,
    Back,
    Confirmed,
    Deferred,
    Ended,
    ErrandAsked,
    ErrandDone,
    ErrandGivenUp,
    Evidence,
    LeftBefore,
    PlaceGiven,
    PlaceTaken,
    Plan,
    Question,
    Read,
    Reason,
    Remedied,
    Remedy,
    ResetIntent,
    ResetSeen,
    ResetSent,
    ResetSpared,
    ResetUnsent,
    TapeEntry,
    Troubled,
    Warned,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)

SENTENCES: dict[Reason, str] = {
    Reason.CONFIRMED: "every version confirmed by reading",
    Reason.AS_FAR_AS_IT_GOES: "as far as it goes. {lost}",
    Reason.LEVEL_ALREADY: "level already",
    Reason.NO_WAY_FORWARD: "nothing to do; no way for {slots}",
    Reason.WAITS: "written, and active at the next reboot, whenever that is: {what}. It stays marked until a reading "
    "shows it",
    Reason.NOT_LEFT: "{what} can't be left for a reboot: it goes alone, at once, by a power cycle or with somebody at "
    "the server. {sent}. Plan it on a sheet that carries out its reboots.",
    Reason.STOPPED: "stopped by a person; nothing is under way on this server",
    Reason.LEFT_OUT: "a person left it out; nothing was sent",
    Reason.NO_WINDOW: "its turn came no more: {why}. {sent} was sent. Plan it into another window.",
    Reason.NOT_APPROVED: "it would need {what} now, which is not what was approved. Nothing of that was sent. Plan it "
    "again.",
    Reason.PUT_BACK: "put back as it was, after this: {why}",
    Reason.PUT_BACK_PARTLY: "put back as far as it goes: {lost}. It was put back after this: {why}",
    Reason.NOT_MOVED_OFF: "its work was not moved off: {why}. {sent}; the server was not reset. Plan it again when its "
    "work can go.",
    Reason.NOT_TAKEN_BACK: "it is done with the server, but its work was not taken back: {why}. Take it back, then say "
    "that the server is back.",
    Reason.NOT_HEALED: "the server is done, but its group is not whole again: {why}. It counts as away until a person "
    "says that it is back.",
    Reason.NO_HANDS: "{what} {why}. {sent}.",
    Reason.NO_PLACE: "its turn never came: {why}. Nothing was sent. Bring the others back first, then start it again.",
    Reason.NO_PLACE_ANY_MORE: "its turn never came: {why}. Nothing more was sent. Bring the others back first, "
    "then plan it again.",
    Reason.CONTROLLER: "{cause}: {detail}. {remedy}",
    Reason.NO_CONTACT: "no answer for {minutes} min ({cause}: {detail}). Nothing more was sent. {remedy}",
    Reason.NO_WAY_IN: "{slot}: this controller can neither fetch nor be pushed a payload; nothing was sent to it",
    Reason.NO_BANK: "{slot}: none of its banks holds {to} any more; nothing was sent to it. Plan it again.",
    Reason.NOT_NAMED: "{slot}: no catalog names a file for {to}; nothing was sent to it",
    Reason.NOT_AT_HAND: "{slot}: {why}; nothing was sent to it. Pack a repository for this server, then plan again.",
    Reason.FOREIGN_PAYLOAD: "{slot}: {why}; nothing was sent to it",
    Reason.GONE: "{slot} is not in the server any more; nothing was sent to it",
    Reason.MOVED_ON: "{slot}: planned from {source}, it is at {version}; nothing was sent to it. Plan again.",
    Reason.NOT_ARRIVED: "{slot}: the payload did not arrive in {tries} tries; nothing was written",
    Reason.TASK_VANISHED: "{slot}: the task vanished and the version is not there",
    Reason.TASK_FAILED: "{slot} {to} was not written: {message}. It is still at {source}.",
    Reason.TASK_DENIED: "{slot}: the device says that {to} was not written ({message}), and shows it as {how}. "
    "It was not written again.",
    Reason.TASK_STALLED: "{slot}: the device stands at {percent} and does not move. It was left alone: do not reset "
    "this server before the device says that it has ended.",
    Reason.TRANSFER_FAILED: "{message}",
    Reason.NO_TARGETS: "its controller lets no component be named; the image alone may tell for which it is",
    Reason.NOT_ALONE: "{slot}: its controller decides by the image alone what it writes, and this one {why}; nothing "
    "was sent to it",
    Reason.FOREIGN_JOB: "someone else's job is on this server ({job}); Ordnung waited {minutes} min, twice, and sent "
    "nothing more. Let it end or cancel it at the controller, then start this server again.",
    Reason.CHECK: "{seen}. Nothing more was sent. {remedy}",
    Reason.RESET_NOT_BEGUN: "the {kind} was asked for {tries} times and never began",
    Reason.RESET_UNCERTAIN: "it can't be told whether the {kind} has happened; it was not asked for again. Look at "
    "the server's console, then read it again.",
    Reason.RESET_IGNORED: "its system did not carry out the graceful restart within {minutes} min; nothing was "
    "forced. Restart it from its own system, then read it again.",
    Reason.NOT_BACK: "not back {minutes} min after the {kind}; {stands}. Look at the server's console.",
    Reason.NOT_STARTED: "it has been starting for {minutes} min, and {stands}; it was not reset. Look at the server's "
    "console.",
    Reason.NOT_HELD: "the device said that {versions} was written, and shows neither that it is nor that it waits. It "
    "was not written again.",
    Reason.NOT_SHOWN: "{missing}, {minutes} min after the reset",
    Reason.CHANGED: "the check after found: {found}",
    Reason.GONE_AGAIN: "{versions} was confirmed and is gone again",
    Reason.NOT_BY_KIT: "{slot}: the field kit on the disc has not brought it to {to}, and the server showed nothing "
    "new for {minutes} min. Look at its console, or bring it another way.",
    Reason.KIT_ENDED: "{slot}: the field kit on the disc has ended without bringing it to {to}. Look at the tasks of "
    "its controller, or bring it another way.",
    Reason.STARTS_UNTOLD: "its controller tells nothing of its server's starts, so that it could not be seen whether "
    "one went to the disc; nothing was sent. Bring it another way.",
    Reason.WRITES_UNSEEN: "whether the field kit left a write under way can't be seen, since its controller keeps no "
    "list of tasks: the server was not reset. Look at its console, and restart it when nothing is being written.",
    Reason.NO_DISC_SERVED: "no disc can be fetched from here: payloads are served over nothing; nothing was sent",
    Reason.KIT_SAID: "{slot}: the field kit on the disc has ended without bringing it to {to}. It said: {why}",
    Reason.BARRED: "{why}",
    Reason.OWN_ERROR: "Ordnung met an error of its own ({error}, {id} in the log). Nothing more was sent to this "
    "server; the others go on. Look at it, then start it again.",
    Reason.EARLIER: "{told}",
}
"""One sentence for each reason; the names in it are the facts that go with it."""


_LEFT = {
    "waits": "Written, and active with whatever reset comes next: {waits}.",
    "staged": "Its device has, and goes on with at whatever reset comes next: {staged}.",
    "writing": "Its device writes with that reset, and may still be at it: {writing}. Do not reset it again before it "
    "is done.",
    "disc": "The disc may still be in its virtual media and chosen for its starts: take out the one and take back the "
    "other at its controller.",
}
"""What is left in a server at its end, by the fact that tells of it."""


class _Untold(dict[str, str]):
    """Facts that an entry lacks are shown as such, never as an error."""

    def __missing__(self, key: str) -> str:
        return "?"


def tell_reason(reason: Reason, facts: Mapping[str, str]) -> str:
    """A reason in a sentence, and what else the person has to know."""
    told = SENTENCES[reason].format_map(_Untold(facts))
    told = f"{told}. It last said: {facts['said']}" if "said" in facts else told
    more = [words.format_map(facts) for name, words in _LEFT.items() if name in facts]
    return " ".join([f"{told.rstrip('.')}.", *more]) if more else told


_BOOT_WORDS = {
    "None": "it has not begun to start",
    "PrimaryProcessorInitializationStarted": "it is starting its processor",
    "BusInitializationStarted": "it is starting its buses",
    "MemoryInitializationStarted": "it is testing its memory",
    "SecondaryProcessorInitializationStarted": "it is starting its other processors",
    "PCIResourceConfigStarted": "it is setting up its cards",
    "SystemHardwareInitializationComplete": "its hardware is ready, its system is not",
    "SetupEntered": "it stands in its set-up, where a key must be pressed",
    "OSBootStarted": "its system is starting",
    "OSRunning": "its system runs",
}
"""BootProgress.LastState (ComputerSystem schema) in words."""


def tell_boot(state: str | None) -> str:
    """How far a server has come with its start."""
    return _BOOT_WORDS.get(state or "", f"it says {state}" if state else "it does not say how far it is")


def tell_entry(value: TapeEntry) -> str:
    """One entry in a sentence."""
    match value:
        case Read():
            return f"read, {value.why}: {len(value.server.components)} components"
        case LeftBefore():
            left = ", ".join(f"{write.slot} {write.to}" for write in value.writes)
            return f"left by an earlier run, waiting for a reset: {left}"
        case Plan():
            return _tell_plan(value)
        case PlaceTaken():
            if value.place.ahead:
                return "before its turn: what waits for a reset is written, in service"
            return "its turn: it may go away" if value.place.outage else "its turn: it stays in service"
        case PlaceGiven():
            return f"counted as back: {value.why} ({value.by})" if value.why else f"counted as back ({value.by})"
        case Deferred():
            return f"put off to the end: {tell_reason(value.reason, value.facts)}"
        case AheadDone():
            return "what can be done before its turn is done; it goes on when its turn comes"
        case Warned():
            return f"warning, {value.check}: {value.seen}. {value.remedy}"
        case Troubled():
            return f"trouble: {tell_reason(value.reason, value.facts)}"
        case Remedied():
            by = f", as {value.by} says" if value.by else ""
            return f"tries a remedy{by}: {REMEDIES[value.remedy]}"
        case ErrandAsked():
            return f"asked {value.of or 'for a tick'}: {tell_errand_asked(value)}"
        case ErrandDone():
            return f"done by {value.by}" + (f": {value.note}" if value.note else "")
        case ErrandGivenUp():
            return f"waited for no longer: {value.why}"
        case WriteIntent() | WriteSent() | WriteUnsent() | WriteStaged() | WriteDone() | WriteFailed():
            return _tell_write(value)
        case ResetSpared():
            who = "and not by this run" if value.kind.is_outage else "by itself"
            return f"no {value.kind} is needed: it has started since, {who}, and what waited for that is active"
        case ResetIntent() | ResetSent() | ResetSeen() | ResetUnsent() | Back():
            return _tell_reset(value)
        case Asked():
            return f"asked a person: {tell_question(value)}"
        case Answered():
            return f"{value.by} answered: {_ANSWERS[value.answer]}"
        case Confirmed():
            message = ", ".join(f"{slot} {version}" for slot, version in value.versions)
            return f"confirmed by reading: {message}" if message else "confirmed by reading"
        case Ended():
            return f"{value.ending}: {tell_reason(value.reason, value.facts)}"
        case _:
            assert_never(value)


_ERRANDS = {
    ErrandKind.MOVE_OFF: "move its work off",
    ErrandKind.TAKE_BACK: "take its work back",
    ErrandKind.HEALED: "is its group whole again?",
    ErrandKind.HANDS_BEFORE: "at the server, before {slot} {to}: {what}",
    ErrandKind.HANDS_AFTER: "at the server, after {slot} {to}: {what}",
}


def tell_errand_asked(value: ErrandAsked) -> str:
    """What is asked for outside."""
    facts = {"slot": value.errand.slot, "to": value.errand.to, "what": value.errand.what}
    return _ERRANDS[value.errand.kind].format_map(facts)


def tell_question(value: Asked) -> str:
    """What a person is asked."""
    facts = dict(value.facts)
    if value.question is Question.TRY_REMEDY:
        facts["remedy"] = REMEDIES[Remedy(facts["remedy"])]
        # A reason may end with or without a stop.
        facts["why"] = f"{facts['why'].rstrip('.')}."
    return _QUESTIONS[value.question].format_map(facts)


REMEDIES = {
    Remedy.ALONE: "that update alone, without company",
    Remedy.RESTART_FIRST: "the controller restarted first, then the same again",
    Remedy.BETWEEN: "a release between the two written first",
    Remedy.OTHER_WAY: "the payload brought by another way",
    Remedy.PUT_BACK: "what this run did here put back",
    Remedy.DISC_OUT: "the disc taken out, its own system started, and no more",
}
_QUESTIONS = {
    Question.FORCE_RESTART: "its system did not carry out the graceful restart within {minutes} min; restart it by "
    "force?",
    Question.LET_IN: "{cause}: {detail}. {remedy} The run waits as it stands, and goes on by itself when "
    "that is settled.",
    Question.TRY_REMEDY: "{why} Shall this be tried: {remedy}?",
}
_ANSWERS = {
    Answer.FORCE: "restart it by force",
    Answer.LEAVE: "leave it as it is",
    Answer.TRY: "try it",
    Answer.SETTLED: "that is settled",
}


def _tell_plan(value: Plan) -> str:
    writes = sum(planned.is_update for step in value.rounds for planned in step.writes)
    return f"planned {writes} writes in {len(value.rounds)} rounds" if value.rounds else "nothing to do"


def _tell_write(value: WriteIntent | WriteSent | WriteUnsent | WriteStaged | WriteDone | WriteFailed) -> str:
    match value:
        case WriteIntent():
            write, payload = value.planned.write, value.planned.payload
            bytes_told = f", {payload.sha256[:12]}… of {payload.maker} {payload.issue}" if payload else ""
            if value.planned.disc is not None:
                return _tell_disc(value)
            if value.planned.sets_up:
                return f"will set up {write.slot} anew, which is {write.source}"
            settled = f", identified by {value.settled_by}" if value.settled_by else ""
            return f"will {value.way} {write.slot} {write.source} → {write.to}{bytes_told}{settled}"
        case WriteSent():
            is_left = value.evidence is Evidence.LEFT
            return "followed by readings" if is_left else f"the controller took it on{_found(value.evidence)}"
        case WriteUnsent():
            return f"it never arrived: {tell_reason(value.reason, value.facts)}"
        case WriteStaged():
            return "its device has it, and waits for the reset with the rest"
        case WriteDone():
            return f"written, by {value.evidence}"
        case WriteFailed():
            return f"not written: {tell_reason(value.reason, value.facts)}"
        case _:
            assert_never(value)


def _tell_disc(value: WriteIntent) -> str:
    write = value.planned.write
    if value.planned.disc is DiscPart.KIT:
        return f"will {value.way}: {write.slot} {write.source} → {write.to}"
    more = " and have the server start from it" if value.planned.disc is DiscPart.IN else ", and its own starts back"
    return f"will {value.way}{more}"


_RESET_WORDS = {
    "GracefulRestart": ", gracefully",
    "ForceRestart": ", by force",
    "PowerCycle": ", without asking its system",
    "FullPowerCycle": ", with all power taken away",
}
"""ResetType (Resource schema) where it says more than the kind of the reset."""


def _tell_reset(value: ResetIntent | ResetSent | ResetSeen | ResetUnsent | Back) -> str:
    match value:
        case ResetIntent():
            return f"will ask for a {value.kind}{_RESET_WORDS.get(value.type, '')}"
        case ResetSent():
            return f"the controller took the reset on{_found(value.evidence)}"
        case ResetSeen():
            return f"the reset has acted, by {value.evidence}"
        case ResetUnsent():
            return f"the reset did not begin: {tell_reason(value.reason, value.facts)}"
        case Back():
            stands = "its system runs" if value.marker.is_up() else tell_boot(value.marker.boot)
            return f"answers again, {stands}"
        case _:
            assert_never(value)


def _found(evidence: Evidence) -> str:
    return "" if evidence is Evidence.ANSWER else f" (found after a break, by {evidence})"
