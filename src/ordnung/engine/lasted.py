"""How long the writes and resets of a tape took (needs N8.3). Pure."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ordnung.engine.entries import (
    Back,
    Entry,
    ResetIntent,
    ResetSeen,
    ResetSent,
    ResetUnsent,
    WriteDone,
    WriteFailed,
    WriteIntent,
    WriteSent,
    WriteStaged,
    WriteUnsent,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Lasted:
    """One write from its taking on to its end, or one reset from its asking to the server's return, in seconds.

    ``seq`` and the moment of the last entry of it; ``product`` and ``version`` are empty for a reset.
    """

    seq: int
    kind: str
    product: str = ""
    version: str = ""
    seconds: float
    failed: bool = False
    """A write that the device did not carry out: it tells of the release, and nothing of how long it takes."""


def lasted(entries: Iterable[Entry]) -> list[Lasted]:
    """What of a tape came to an end; what never began tells nothing."""
    found: list[Lasted] = []
    write: WriteIntent | None = None
    reset: ResetIntent | None = None
    begun: Entry | None = None
    for entry in entries:
        match entry.value:
            case WriteIntent() as intent:
                # How long a field kit on a disc took, resets and all, tells nothing of the write.
                write, reset, begun = None if intent.planned.disc is not None else intent, None, None
            case ResetIntent() as reset:
                write, begun = None, entry
            case WriteSent() | ResetSent() | ResetSeen():
                begun = begun or entry
            case WriteFailed() if write is not None and begun is not None:
                planned = write.planned.write
                found.append(_between(begun, entry, "writing", planned.product, planned.to, failed=True))
                write, begun = None, None
            case WriteUnsent() | WriteStaged() | WriteFailed() | ResetUnsent():
                write, reset, begun = None, None, None
            case WriteDone() if write is not None and begun is not None:
                planned = write.planned.write
                found.append(_between(begun, entry, "writing", planned.product, planned.to))
                write, begun = None, None
            case Back() if reset is not None and begun is not None:
                found.append(_between(begun, entry, str(reset.kind)))
                reset, begun = None, None
            case _:
                pass
    return found


def _between(
    begun: Entry, over: Entry, kind: str, product: str = "", version: str = "", *, failed: bool = False
) -> Lasted:
    seconds = (over.at - begun.at).total_seconds()
    return Lasted(seq=over.seq, kind=kind, product=product, version=version, seconds=seconds, failed=failed)
