"""What people do with repositories: pack, pack again, seal again, check, sign, drop."""

from __future__ import annotations

import dataclasses
import datetime
import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from tuf.api.metadata import Metadata, Targets

from ordnung.core.packing import Trim, kept
from ordnung.engine.boot_base import BootBase, load_boot_base
from ordnung.engine.compose import SEAL_DAYS
from ordnung.formats.packing import parse_packing, write_packing
from ordnung.repository import describe, draft_targets
from ordnung.repository.carry_in import PACKING
from ordnung.repository.seal import add_target_signatures, load_targets
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Line, Repository
from ordnung.server.repositories.packing_job import DRAFT, keep_draft, line_values
from ordnung.server.repositories.payloads import open_book, open_repository, open_store, seal_folder
from ordnung.server.repositories.plans import Plan, make_plan, media_row
from ordnung.server.repositories.rows import LINE_FIELDS, head_row
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for
from ordnung.store import RepositoryError


def pack(
    plan: Plan, name: str, capacity: int | None, person: str, after: Repository | None = None, *, boots: bool = False
) -> Repository:
    """Put a repository before the engine.

    Raises:
        Problem: there is nothing to pack, it fits on no medium, or it is to boot and there is no boot system here.
    """
    boot = _boot_base() if boots else None
    packed = kept(plan.lines)
    if not packed:
        raise Problem("nothing-to-pack", "These servers need nothing: all are level, held or without a route.")
    too_large = media_row(plan, capacity, boot).too_large
    if too_large:
        raise Problem("too-large", f"{too_large}. Choose a larger medium or trim it.", field="capacity")
    servers = sorted({name for line in packed for name in line.servers})
    title = name or f"{len(servers)} server{'' if len(servers) == 1 else 's'}, {now():%d %b %Y}"
    gone = [line for line in plan.lines if line.trimmed]
    values: dict[str, Any] = {"series": after.series, "edition": next_edition(after)} if after else {}
    with recorded():
        record(after={"name": title, "servers": servers, "files": len(packed)})
        row = Repository.objects.create(
            name=title, made_at=now(), made_by=person, revision=plan.revision.number,
            servers=sorted(s.server.name for s in plan.standings) if after else servers,
            trims=[{"by": t.by, "value": t.value} for t in plan.trims], capacity=capacity,
            left_out=[{"name": g.product.name, "version": g.release.version, "size": g.size} for g in gone],
            boots=boots, **values,
        )  # fmt: skip
        Line.objects.bulk_create([Line(repository=row, **fields) for fields in line_values(packed)])
        total = sum(line.size for line in packed)
        record(on={"repository": row.pk})
        ask_for("pack", f"Packing {title}", total, "bytes", {"repository": row.pk})
    tell("repositories", id=row.pk)
    return row


def _boot_base() -> BootBase:
    try:
        return load_boot_base(settings.BOOT_BASE)
    except RepositoryError as error:
        raise Problem("no-boot-system", f"No disc can be made to boot here: {error}.", field="boots") from None


def next_edition(row: Repository) -> int:
    """The number of the next edition of a series."""
    last = Repository.objects.filter(series=row.series).order_by("-edition").first()
    return (last.edition if last else row.edition) + 1


def forget_written(row: Repository) -> None:
    """What was written out into Ordnung's own folder goes with its repository; what lies elsewhere is the person's."""
    own = Path(settings.HOME) / "written"
    for written in row.written.all():
        place = Path(written.place)
        if place.parent == own:
            shutil.rmtree(place) if place.is_dir() else place.unlink(missing_ok=True)


def demand_sealed(row: Repository) -> None:
    """Refuse what only a sealed repository can do. Raises Problem."""
    if row.state not in ("sealed", "waiting"):
        raise Problem("not-sealed", f"{row.name} is not sealed yet.", status=409)


def pack_again(row: Repository, person: str, *, same: bool) -> Repository:
    """The next edition: by what is needed today, or with ``same`` the same contents under a new seal.

    Raises:
        Problem: it was carried in, it is not sealed yet, or nothing is needed any more.
    """
    if row.carried_from:
        raise Problem("not-ours", f"{row.name} was carried in; its next edition is packed where it came from.")
    if same:
        demand_sealed(row)
        return _seal_again(row, person)
    trims = [Trim(by=trim["by"], value=trim["value"]) for trim in row.trims]
    return pack(make_plan(row.servers, trims), row.name, row.capacity, person, row, boots=row.boots)


def _seal_again(row: Repository, person: str) -> Repository:
    """The next edition with the same contents: nothing is fetched."""
    store, carrier = open_store(), open_repository(row)
    contents = [c for c in carrier.contents.values() if c.path != PACKING]
    old = next(c for c in carrier.contents.values() if c.path == PACKING)
    edition = next_edition(row)
    packing = dataclasses.replace(
        parse_packing(old.source.read_bytes()), edition=edition, made_at=now().replace(microsecond=0), made_by=person
    )
    raw = write_packing(packing)
    with recorded():
        record(on={"repository": row.pk}, before={"edition": row.edition}, after={"edition": edition})
        fresh = Repository.objects.create(
            name=row.name, series=row.series, edition=edition, servers=row.servers, trims=row.trims,
            left_out=row.left_out, capacity=row.capacity, boots=row.boots, media=row.media, made_at=packing.made_at,
            made_by=person, revision=row.revision, rules=row.rules, follows=row.follows,
        )  # fmt: skip
        lines = [{name: getattr(line, name) for name in LINE_FIELDS} for line in row.lines.order_by("pk")]
        Line.objects.bulk_create([Line(repository=fresh, **fields) for fields in lines])
    store.hold(fresh.owner, {c.sha256 for c in contents})
    contents.append(describe(PACKING, store.put(raw, PACKING)))
    store.hold(fresh.owner, {c.sha256 for c in contents})
    ends = now() + datetime.timedelta(days=SEAL_DAYS)
    keep_draft(fresh, draft_targets(contents, open_book(), edition, ends))
    fresh.refresh_from_db()
    return fresh


def check_repository(row: Repository) -> Work:
    """Have a repository verified end to end. Raises Problem when it is not sealed yet."""
    demand_sealed(row)
    return ask_for("check", f"Checking {row.name}", head_row(row).bytes, "bytes", {"repository": row.pk})


def drop_repository(row: Repository) -> None:
    """Drop a repository; payloads that no other one needs go at the next clearing of the store.

    Raises:
        Problem: the engine is at work on it.
    """
    if is_busy(row):
        raise Problem("busy", f"{row.name} is being worked on; wait until that has ended.", status=409)
    open_store().release(row.owner)
    for path in seal_folder(row).glob("*"):
        path.unlink()
    forget_written(row)
    row.delete()
    tell("repositories")


def is_busy(row: Repository) -> bool:
    """Whether the engine is at work on a repository."""
    works = Work.objects.open().filter(kind__in=("pack", "write-out", "check"))
    return any(work.subject.get("repository") == row.pk for work in works)


def draft_of(row: Repository) -> Metadata[Targets]:
    """The metadata that waits for signatures. Raises Problem when none does."""
    path = seal_folder(row) / DRAFT
    if not path.exists():
        raise Problem("not-signing", f"{row.name} does not wait for signatures.", status=409)
    return load_targets(path.read_bytes())


def add_signatures(row: Repository, raw: bytes) -> None:
    """Add signatures that were made elsewhere; the repository is sealed when they are enough.

    Raises:
        Problem: it waits for none.
        RepositoryError: the file is not what was to be signed.
    """
    targets = draft_of(row)
    add_target_signatures(targets, raw, open_book())
    with recorded(first=True):
        keep_draft(row, targets)
    row.refresh_from_db()
