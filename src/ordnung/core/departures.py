"""In what a server's part of a run went otherwise than the sheet said (needs N5.7, N8.1). Pure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from ordnung.core.night.itinerary import round_minutes
from ordnung.core.run_record import RoundRecord
from ordnung.core.sheet import PlannedRound

WORTH_S, SHARE = 300.0, 0.2
"""What is so many seconds off, and such a share of what was planned, is told; less is what clocks and devices do."""


def find_departures(
    planned: Sequence[PlannedRound],
    done: Sequence[RoundRecord],
    begin: tuple[float, float] | None,
    took: tuple[float, float],
) -> tuple[str, ...]:
    """What was written, reset or took otherwise than planned, in words; empty when it went as the sheet says.

    Args:
        begin: seconds from the run's start to its turn, as planned and as it came; None: its turn never came.
        took: seconds from its turn to its end, as planned and as it was.
    """
    return (*_updates(planned, done), *_resets(planned, done), *_times(begin, took))


def _updates(planned: Sequence[PlannedRound], done: Sequence[RoundRecord]) -> Iterator[str]:
    wanted = [(p.write.slot, p.write.to) for step in planned for p in step.writes]
    written = [(w.slot, w.to) for step in done for w in step.writes if w.result == "written"]
    for told, pairs in (
        ("planned and not written", [pair for pair in wanted if pair not in written]),
        ("written besides", [pair for pair in dict.fromkeys(written) if pair not in wanted]),
        ("written again", [pair for pair, times in Counter(written).items() if times > 1]),
    ):
        if pairs:
            yield f"{told}: {', '.join(f'{slot} {to}' for slot, to in pairs)}"


def _resets(planned: Sequence[PlannedRound], done: Sequence[RoundRecord]) -> Iterator[str]:
    wanted = Counter(step.reset for step in planned if step.reset is not None)
    taken = Counter(reset.kind for step in done for reset in step.resets)
    for kind in sorted(wanted.keys() | taken.keys()):
        if wanted[kind] != taken[kind]:
            yield f"{kind}: {_times_told(taken[kind])} instead of {_times_told(wanted[kind])}"


def _times_told(number: int) -> str:
    return {0: "never", 1: "once", 2: "twice"}.get(number, f"{number} times")


def _times(begin: tuple[float, float] | None, took: tuple[float, float]) -> Iterator[str]:
    if begin is None:
        yield "its turn never came"
        return
    late = begin[1] - begin[0]
    if abs(late) >= WORTH_S:
        yield f"its turn came {round_minutes(abs(late))} min {'later' if late > 0 else 'earlier'} than planned"
    off = abs(took[1] - took[0])
    if off >= WORTH_S and off >= SHARE * took[0]:
        yield f"it took {round_minutes(took[1])} min instead of {round_minutes(took[0])}"
