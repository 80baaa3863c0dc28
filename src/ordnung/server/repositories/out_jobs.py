"""Write a repository out, check one end to end, look over the content store."""

from __future__ import annotations

import asyncio
from pathlib import Path

from asgiref.sync import sync_to_async

from ordnung.repository import Carrier, check_carrier, write_as
from ordnung.repository.sealed import one_medium, only_new
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.repositories.gauge import Gauge
from ordnung.server.repositories.models import Line, Repository, WrittenOut
from ordnung.server.repositories.payloads import open_book, open_repository, open_store
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import fail, succeed
from ordnung.store import RepositoryError, look_over


def carrier_for(row: Repository, medium: int = 0, since: Repository | None = None) -> Carrier:
    """A sealed repository, one medium of it, or what a site lacks that has an older edition. Raises RepositoryError."""
    carrier: Carrier = open_repository(row)
    if medium:
        elsewhere = set(Line.objects.filter(repository=row).exclude(medium=medium).values_list("sha256", flat=True))
        carrier = one_medium(carrier, elsewhere)
    if since is not None:
        known = {
            path.rsplit("/", 1)[-1].split(".", 1)[0] for path in open_repository(since).files if "targets/" in path
        }
        carrier = only_new(carrier, known)
    return carrier


async def do_write_out(work: Work, ports: EnginePorts) -> None:
    """Write a repository out."""
    row = await WrittenOut.objects.select_related("repository").aget(pk=work.subject["written"])
    gauge = Gauge(work)
    since = None
    if row.since is not None:
        since = await Repository.objects.filter(series=row.repository.series, edition=row.since).afirst()
    try:
        carrier = await sync_to_async(carrier_for)(row.repository, row.medium, since)
        written = await gauge.follow(
            asyncio.to_thread(write_as, row.shape, carrier, Path(row.place), gauge.advance)
        )  # fmt: skip
    except (RepositoryError, OSError) as error:
        message = str(error) if isinstance(error, RepositoryError) else f"{row.place}: {error.strerror}"
        await sync_to_async(WrittenOut.objects.fail)(row.pk, message)
        await sync_to_async(fail)(work, message)
    else:
        values = {"files": written.files, "size": written.bytes, "sha256": written.sha256}
        await sync_to_async(WrittenOut.objects.finish)(row.pk, **values)
        note = f"{written.path.name}, {written.files} files" + (
            f", SHA-256 {written.sha256[:12]}…" if written.sha256 else ""
        )
        await sync_to_async(succeed)(work, note, done=work.total)
    await sync_to_async(tell)("repositories", id=row.repository_id)


async def do_check(work: Work, ports: EnginePorts) -> None:
    """Verify a repository end to end against this site's root, or the one that came with it."""
    row = await Repository.objects.aget(pk=work.subject["repository"])
    gauge = Gauge(work)
    try:
        root = await sync_to_async(_own_root)(row)
        carrier = await sync_to_async(open_repository)(row)
        checked = await gauge.follow(asyncio.to_thread(check_carrier, carrier, root, report=gauge.advance))
    except RepositoryError as error:
        await _end_check(work, row, f"{error.code}: {error}", failed=True)
    else:
        message = f"Whole: {checked.files} files, every signature and checksum right"
        await _end_check(work, row, message, failed=False)


def _own_root(row: Repository) -> bytes | None:
    """What is sealed here is checked from the very first root on; what was carried in from the one it brought."""
    return None if row.carried_from else open_book().history()[0]


async def _end_check(work: Work, row: Repository, message: str, *, failed: bool) -> None:
    values = {"checked_at": now(), "checked": message, "check_failed": failed}
    await Repository.objects.filter(pk=row.pk).aupdate(**values)
    await sync_to_async(fail if failed else succeed)(work, message)
    await sync_to_async(tell)("repositories", id=row.pk)


async def do_look_over(work: Work, ports: EnginePorts) -> None:
    """Hash everything in the content store; what is not what it is named for is moved out of use."""
    gauge = Gauge(work)
    store = open_store()
    report = await gauge.follow(asyncio.to_thread(look_over, store, repair=True, report=gauge.advance))
    message = f"{report.files} payloads, all what they are named for" if report.is_sound else (
        f"{len(report.altered) + len(report.strange)} of {report.files} were not what they are named for and are out "
        f"of use: {', '.join(name[:12] for name in (*report.altered, *report.strange))}"
    )  # fmt: skip
    if report.missing:
        message += f"; {len(report.missing)} that repositories name are missing"
    is_well = report.is_sound and not report.missing
    await sync_to_async(succeed if is_well else fail)(work, message)
