"""A journal as the field kit leaves it behind: one BIOS update of one server in each of its runs."""

from __future__ import annotations

from ordnung.controllers import Marker
from ordnung.core.away import AwayPlace
from ordnung.core.route import Write
from ordnung.core.sheet import NamedPayload, PlannedRound, PlannedWrite
from ordnung.engine import entries as e
from ordnung.engine.journal_lines import OpenedRun
from ordnung.fieldkit.journal import FileJournal
from tests.simulation.clock import VirtualClock, run

KIT = "10.0.0.7"
"""What the kit calls its server: it knows no names of the house."""
PAYLOAD = NamedPayload(sha256="aa" * 32, size=4, maker="M", catalog="c", issue="2026-11")


def whole(before, after, version="9.9"):
    planned = PlannedWrite(
        write=Write(slot="bios", product="x", source="1", to=version, seconds=300.0), payload=PAYLOAD
    )
    step = PlannedRound(
        writes=(planned,), reset="server reboot", reset_seconds=300.0, activates=(("bios", version),)
    )  # fmt: skip
    return (
        e.PlaceTaken(place=AwayPlace(server=KIT)),
        e.Read(server=before, why=e.ReadWhy.BEFORE),
        e.Plan(rounds=(step,)),
        e.WriteIntent(planned=planned, way="push", known_tasks=()),
        e.WriteSent(task="/t/1"),
        e.WriteDone(evidence=e.Evidence.TASK),
        e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, marker=Marker(system="a"), type="ForceRestart"),
        e.ResetSent(),
        e.ResetSeen(evidence=e.Evidence.RESET_TIME),
        e.Back(marker=Marker()),
        e.Confirmed(versions=(("bios", version),)),
        e.Read(server=after, why=e.ReadWhy.AFTER_ROUND),
        e.Ended(ending=e.Ending.LEVEL, reason=e.Reason.LEVEL_ALREADY),
    )


def journal(path, *tapes, back=None):
    """A journal with a run for each tape, as the field kit writes it."""
    clock = VirtualClock()

    async def write():
        with FileJournal(path / "journal.jsonl", clock) as kept:
            clock.t += 3600 * len(kept.runs)
            for number, values in enumerate(tapes, start=1 + len(kept.runs)):
                opened = OpenedRun(
                    run=str(number), server=KIT, at=clock.now(), repository="winter", edition=3, packing="ab", back=back
                )
                kept.open_run(opened)
                for seq, value in enumerate(values, start=1):
                    await clock.sleep(60)
                    await kept.append(str(number), KIT, seq, value)

    run(write())
    return (path / "journal.jsonl").read_bytes()
