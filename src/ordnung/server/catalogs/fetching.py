"""Look at sources of catalogs: what the engine does when someone asks for it."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Callable
from pathlib import Path

from asgiref.sync import sync_to_async
from django.conf import settings

from ordnung.formats.catalog import write_catalog
from ordnung.formats.errors import FormatError
from ordnung.formats.folder_catalog import Heading, build_catalog
from ordnung.repository import (
    Brought,
    Egress,
    Mirror,
    SourceReport,
    has_packages,
    look,
    look_into_folder,
    look_into_tuf,
)
from ordnung.server.catalogs.bring_in import bring_in, see
from ordnung.server.catalogs.models import CatalogIssue, NewestSeen, Source
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import add_done, bump, fail, succeed
from ordnung.store import RepositoryError


async def do_catalogs(work: Work, ports: EnginePorts) -> None:
    """Look at the sources of a work, one after the other; one that fails doesn't disturb the others."""
    new, failures = 0, []
    await sync_to_async(bump)(work, done=0)
    for pk in work.subject["sources"]:
        source = await Source.objects.filter(pk=pk).afirst()
        if source is None:
            continue
        try:
            brought = await _look_at(source, work)
        except (FormatError, RepositoryError, Problem) as error:
            failures.append({"server": source.address, "cause": "source", "detail": str(error), "remedy": ""})
            await sync_to_async(_failed)(source, str(error))
        else:
            new += brought
        await sync_to_async(bump)(work, failures=failures)
    message = f"{new} new issue{'' if new == 1 else 's'}"
    if failures:
        message += f"; {len(failures)} of {len(work.subject['sources'])} sources failed: {failures[0]['detail']}"
    await sync_to_async(fail if failures else succeed)(work, message)


async def _look_at(source: Source, work: Work) -> int:
    known = await sync_to_async(_known)()
    report = _progress(work)
    if source.kind == Source.Kind.FOLDER:
        offer = await asyncio.to_thread(_folder, Path(source.address), known)
    elif source.root:
        sums = await sync_to_async(_sums)()
        keep = Path(settings.HOME) / "catalog-sources" / str(source.pk)
        root = bytes(source.root)
        offer = await asyncio.to_thread(
            look_into_tuf, source.address, root, keep, sums, report, way_out(), source.proxy
        )
    else:
        partly = Path(settings.HOME) / "catalog-sources" / "partly"
        offer = await look(Mirror(source.address, partly, way_out(), source.proxy), source.etag, known, report)
    return await sync_to_async(_take)(source, offer)


def way_out() -> Egress:
    """How this house goes out to mirrors."""
    return Egress(settings.MIRRORS_VOUCHED_BY, settings.EGRESS)


def _progress(work: Work) -> Callable[[int], None]:
    """Bytes as they arrive; stored by a task of its own, since the database must not hold the network up."""
    loop = asyncio.get_running_loop()

    def report(size: int) -> None:
        if size:
            asyncio.run_coroutine_threadsafe(sync_to_async(add_done)(work, size), loop)

    return report


def _known() -> set[tuple[str, str, str]]:
    return set(CatalogIssue.objects.values_list("maker", "catalog", "issue"))


def _sums() -> set[str]:
    return set(CatalogIssue.objects.values_list("sha256", flat=True))


def _folder(folder: Path, known: set[tuple[str, str, str]]) -> SourceReport:
    offer = look_into_folder(folder, known)
    if offer.offered or not has_packages(folder):
        return offer
    return SourceReport(files=(), offered=0)


def _take(source: Source, offers: SourceReport) -> int:
    """Store what a look brought, all or nothing of each file; returns how many issues are new."""
    if offers.unchanged:
        _answered(source, "as it was", offers.etag)
        return 0
    refuse_older(offers)
    files = list(offers.files)
    if source.kind == Source.Kind.FOLDER and not offers.offered:
        files = _from_packages(source)
    names = []
    for file in files:
        brought = bring_in(
            file.raw,
            _source_name(source, file),
            packed=file.packed,
            signature=file.signature,
            vouched=file.vouched,
            vouches_for={source.maker} if source.maker else None,
        )
        if file.vouched and not source.maker:
            # Trusted for whom it spoke first: from now on it vouches for no other maker.
            source.maker = brought.issue.maker
            source.save(update_fields=["maker"])
        names += [brought.issue.name] if brought.state != "known" else []
    for offer in offers.newest.values():
        see(offer.maker, offer.catalog, offer.issue, offer.issued)
    message = f"brought {', '.join(names)}" if names else "nothing new"
    message += f"; offers {offers.offered or len(files)}"
    if offers.unread:
        roles = f"{'role' if len(offers.unread) == 1 else 'roles'} {', '.join(offers.unread)}"
        message += f"; not looked at: what it delegates to the {roles}, which Ordnung doesn't follow"
    _answered(source, message, offers.etag)
    return len(names)


def refuse_older(offer: SourceReport) -> None:
    """Raise RepositoryError when a source passes an older issue off as the newest."""
    claims = [(o.maker, o.catalog, o.issue, o.issued) for o in offer.newest.values()]
    for maker, catalog, issue, issued in claims:
        seen = NewestSeen.objects.filter(maker=maker, catalog=catalog).first()
        if seen is not None and issued < seen.issued:
            message = (
                f"it passes {issue} off as the newest issue of {catalog}, but {seen.issue} was seen on "
                f"{seen.seen_at:%d %b %Y}: an old copy. Nothing was taken from it"
            )
            raise RepositoryError("older", catalog, message)


def _source_name(source: Source, file: Brought) -> str:
    return f"{source.address.rsplit('/', 1)[0]}/{file.name}" if source.kind == "mirror" else file.name


def _from_packages(source: Source) -> list[Brought]:
    """A catalog built from the folder's packages; nothing when it says what the last one said."""
    folder, today = Path(source.address), now().date()
    if not has_packages(folder):
        return []
    maker = source.maker or folder.name.capitalize()
    heading = {"maker": maker, "catalog": f"{folder.name}-folder", "base": f"file://{folder}/"}
    issue = build_catalog(folder, Heading(issue="-", issued=today, **heading))
    raw = write_catalog(issue)
    digest = hashlib.sha256(raw.replace(f'"issued": "{today.isoformat()}"'.encode(), b"")).hexdigest()
    name = f"folder {digest[:8]}"
    if CatalogIssue.objects.filter(maker=maker, catalog=heading["catalog"], issue=name).exists():
        return []
    final = write_catalog(build_catalog(folder, Heading(issue=name, issued=today, **heading)))
    return [Brought(name=f"{folder.name} (built from packages)", packed=final, raw=final)]


def _answered(source: Source, said: str, etag: str) -> None:
    values = {"answered_at": now(), "said": said, "etag": etag, "failure": "", "failed_at": None}
    Source.objects.filter(pk=source.pk).update(**values)
    tell("sources", id=source.pk)


def _failed(source: Source, failure: str) -> None:
    Source.objects.filter(pk=source.pk).update(failure=failure, failed_at=now())
    tell("sources", id=source.pk)
