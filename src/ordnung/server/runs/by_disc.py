"""Sheets that go by a disc: the image that is chosen, and what the kit on it is ordered to do with each server."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.db.models import QuerySet

from ordnung.core.by_disc import is_by_disc
from ordnung.core.sheet import DiscPart
from ordnung.engine.entry_codec import parse_rounds
from ordnung.engine.payloads import DiscFile
from ordnung.formats.order import Order, mark_of, tail_of, write_order
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import WrittenOut
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.planned import plan_anew
from ordnung.store import RunDisc

OFFERED = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetDiscRow:
    """A disc image that boots by itself, by which a sheet can go."""

    id: int
    name: str
    edition: int
    sha256: str
    size: int


def discs() -> list[SheetDiscRow]:
    """The images that were written out here whole, the newest first."""
    rows = _usable().select_related("repository").order_by("-pk")[:OFFERED]
    return [disc_row(row) for row in rows if Path(row.place).is_file()]


def disc_row(row: WrittenOut) -> SheetDiscRow:
    """One image."""
    packed = row.repository
    return SheetDiscRow(id=row.pk, name=packed.name, edition=packed.edition, sha256=row.sha256, size=row.size)


def _usable() -> QuerySet[WrittenOut]:
    done = WrittenOut.objects.filter(shape="iso", state=WrittenOut.State.DONE, medium=0, since=None)
    return done.filter(repository__boots=True)


def choose_disc(run: Run, places: Sequence[RunServer], chosen: int) -> None:
    """Let a draft go by a disc image that was written out, or (0) by no disc any more; it is planned anew for it.

    Raises:
        Problem: it takes something back, its reboots are left to whenever they come, or none of it can go by that.
    """
    if chosen and run.takes_back_id is not None:
        raise Problem("way-back", "What is taken back is not taken back by a disc.", status=409, field="disc")
    if chosen and run.unattended:
        message = "Its reboots are left to whenever they come, and a disc needs one now. Carry them out first."
        raise Problem("unattended", message, status=409, field="disc")
    run.disc = _usable().select_related("repository").filter(pk=chosen).first() if chosen else None
    if chosen and run.disc is None:
        message = "There is no such disc image: pack a repository whose discs boot by themselves, and write it out."
        raise Problem("no-such-disc", message, field="disc")
    plan_anew(run, places)
    if chosen and not any(place.rounds for place in places):
        raise Problem("not-by-disc", f"None of these servers can go by it. {places[0].detail}", field="disc")


def demand_disc(run: Run) -> None:
    """Raises Problem for a sheet that goes by a disc whose image is not there any more."""
    goes = any(is_by_disc(parse_rounds(rounds)) for rounds in run.servers.values_list("rounds", flat=True))
    if goes and (run.disc is None or not Path(run.disc.place).is_file()):
        message = f"The disc image of {run.name} is not where it was written out. Write it out again and choose it."
        raise Problem("no-such-disc", message, status=409)


def disc_file(run: Run) -> DiscFile | None:
    """The image that a run goes by, as it was written out."""
    return DiscFile(path=Path(run.disc.place), sha256=run.disc.sha256) if run.disc is not None else None


def run_disc(run: Run, places: Sequence[RunServer]) -> RunDisc | None:
    """What is served as the disc of a run: the image, and behind it for each server what the kit is ordered to do."""
    if run.disc is None:
        return None
    tails = {p.server.name: tail_of(write_order(_order(run, p))) for p in places if parse_rounds(p.rounds)}
    return RunDisc(path=Path(run.disc.place), tails=tails)


def order_mark(run: Run, server: str) -> str:
    """Under what the kit on a server's disc leaves word of how it ended."""
    return mark_of(_name(run), server)


def _name(run: Run) -> str:
    return f"run {run.pk} of {settings.SITE}"


def _order(run: Run, place: RunServer) -> Order:
    writes = (p for step in parse_rounds(place.rounds) for p in step.writes)
    return Order(
        run=_name(run), server=place.server.name, group=place.group,
        uuid=place.server.uuid or "", serial=place.server.serial or "",
        writes=tuple((p.write.slot, p.brings) for p in writes if p.disc is DiscPart.KIT),
        rules=run.rules, overrides=place.overrides,
    )  # fmt: skip
