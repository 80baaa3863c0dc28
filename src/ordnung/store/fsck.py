"""Look over a content store: what is there, whether it is what it is named for, and what is missing."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from ordnung.store.content import ContentStore, is_sum
from ordnung.store.copying import Progress, digest_of, silent, sync_folder
from ordnung.store.errors import RepositoryError

WORKERS = min(4, os.cpu_count() or 1)
"""Hashing leaves Python's lock: so many files are read at once."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """What a look over the store found."""

    files: int
    bytes: int
    altered: tuple[str, ...]
    """Files whose bytes are not what their name says."""
    strange: tuple[str, ...]
    """Files that don't belong in a store."""
    broken: tuple[str, ...]
    """Holds that can't be read."""
    missing: tuple[tuple[str, str], ...]
    """(owner, checksum) of what is held and not here."""
    loose: tuple[str, ...]
    """What nobody holds: collecting throws it away."""
    partial: tuple[str, ...]
    """Half-collected files: to be gone on with, or left from a crash."""
    repaired: tuple[str, ...] = ()

    @property
    def is_sound(self) -> bool:
        """Whether everything here can be trusted; missing, loose and half-collected files are no harm."""
        return not (self.altered or self.strange or self.broken)


def look_over(store: ContentStore, *, repair: bool = False, report: Progress = silent) -> Report:
    """Hash every file of a store and compare it with its name; compare what is held with what is here.

    Args:
        repair: move what is altered or strange to ``damaged/``, where nothing uses it, and throw
            half-collected files away that nobody waits for.
    """
    paths = sorted(path for path in store.folder.rglob("*") if not path.is_dir() or path.is_symlink())
    proper = [p for p in paths if _is_proper(store, p)]
    strange = [p for p in paths if p not in set(proper)]
    with ThreadPoolExecutor(WORKERS) as pool:
        sums = list(pool.map(lambda path: digest_of(path, report), proper))
    altered = [path for path, found in zip(proper, sums, strict=True) if found != path.name]
    holds, broken = _holds(store)
    here = {path.name for path in proper} - {path.name for path in altered}
    held = {sha256 for sums_ in holds.values() for sha256 in sums_}
    partial = sorted(store.partial.iterdir())
    return Report(
        files=len(proper),
        bytes=sum(path.stat().st_size for path in proper),
        altered=tuple(path.name for path in altered),
        strange=tuple(str(path.relative_to(store.folder)) for path in strange),
        broken=tuple(broken),
        missing=tuple((owner, s) for owner, sums_ in holds.items() for s in sorted(sums_ - here)),
        loose=tuple(sorted(here - held)),
        partial=tuple(path.name for path in partial),
        repaired=tuple(_repair(store, [*altered, *strange], held) if repair else ()),
    )


def _is_proper(store: ContentStore, path: Path) -> bool:
    return is_sum(path.name) and path == store.path(path.name) and path.is_file() and not path.is_symlink()


def _holds(store: ContentStore) -> tuple[dict[str, frozenset[str]], list[str]]:
    try:
        return store.owners(), []
    except RepositoryError as error:
        return {}, [error.file]


def _repair(store: ContentStore, bad: list[Path], held: set[str]) -> list[str]:
    done = []
    damaged = store.root / "damaged"
    for path in bad:
        damaged.mkdir(exist_ok=True)
        path.replace(damaged / path.name)
        done.append(f"{path.name} was moved to damaged")
    for path in store.partial.iterdir():
        if path.name[:64] not in held or path.suffix == ".tmp":
            path.unlink()
            done.append(f"{path.name} was half collected and is thrown away")
    if done:
        sync_folder(store.folder)
    return done
