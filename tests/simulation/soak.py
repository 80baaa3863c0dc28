"""``python -m tests.simulation.soak``: thousands of random nights, or one again by its seed."""

from __future__ import annotations

import collections
import logging
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import click
import structlog

from tests.simulation.night import play
from tests.simulation.world import small_mirror

TOLD_EVERY = 250


def _try(job: tuple[int, str]) -> tuple[int, str, tuple[str, ...], int]:
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
    seed, mirror = job
    try:
        night = play(seed, Path(mirror))
    except AssertionError as error:
        return seed, str(error), (), 0
    return seed, "", night.endings, night.lives


@click.command()
@click.option("--runs", default=5000, show_default=True, help="How many nights.")
@click.option("--first", default=0, show_default=True, help="The first seed.")
@click.option("--seed", type=int, help="Play this one night, with its error whole.")
@click.option("--workers", default=2, show_default=True)
def main(runs: int, first: int, seed: int | None, workers: int) -> None:
    """Play random nights and say which broke an invariant."""
    with tempfile.TemporaryDirectory(prefix="ordnung-soak-") as folder:
        mirror = small_mirror(Path(folder))
        if seed is not None:
            click.echo(play(seed, mirror))
            return
        sys.exit(1 if _play_all(mirror, range(first, first + runs), workers) else 0)


def _play_all(mirror: Path, seeds: range, workers: int) -> int:
    """How many of them broke an invariant; said as they go."""
    began, broken, lives = time.monotonic(), 0, 0
    endings: collections.Counter[str] = collections.Counter()
    with ProcessPoolExecutor(workers) as pool:
        jobs = ((number, str(mirror)) for number in seeds)
        for done, (_, error, ended, lived) in enumerate(pool.map(_try, jobs, chunksize=8)):
            if done and done % TOLD_EVERY == 0:
                click.echo(f"{done} of {len(seeds)} nights, {broken} broken, {time.monotonic() - began:.0f} s")
            endings.update(ended)
            lives += lived
            if error:
                broken += 1
                click.echo(error[:600])
    told = ", ".join(f"{count} {how}" for how, count in endings.most_common())
    took = time.monotonic() - began
    click.echo(f"{len(seeds)} nights, {lives} lives of the engine: {told}; {broken} broken; {took:.0f} s")
    return broken


if __name__ == "__main__":
    main()
