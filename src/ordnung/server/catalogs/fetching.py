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
    Looked,
    Mirror,
    RepositoryError,
    has_packages,
    look,
    look_into_folder,
    look_into_tuf,
)
from ordnung.server.catalogs.bring_in import bring_in, see
from ordnung.server.catalogs.models import CatalogIssue, NewestSeen, Source
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.shop import Shop
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import add_done, bump


async def do_catalogs(work: Work, shop: Shop) -> None:
    """Look at the sources of a work, one after the other; one that fails doesn't disturb the others."""
    new, failures = 0, []
    await sync_to_async(bump)(work, done=0)
    for pk in work.subject["sources"]:
        source = await Source.objects.filter(pk=pk).afirst()
        if source is None:
            continue
        try:
            came = await _look_at(source, work)
        except (FormatError, RepositoryError, Problem) as error:
            failures.append({"server": source.address, "cause": "source", "detail": str(error), "remedy": ""})
            await sync_to_async(_failed)(source, str(error))
        else:
            new += came
        await sync_to_async(bump)(work, failures=failures)
    told = f"{new} new issue{'' if new == 1 else 's'}"
    if failures:
        told += f"; {len(failures)} of {len(work.subject['sources'])} sources failed: {failures[0]['detail']}"
    state = "failed" if failures else "done"
    await sync_to_async(bump)(work, state=state, note=told, ended_at=now())


async def _look_at(source: Source, work: Work) -> int:
    known = await sync_to_async(_known)()
    told = _progress(work)
    if source.kind == Source.Kind.FOLDER:
        looked = await asyncio.to_thread(_folder, Path(source.address), known)
    elif source.root:
        sums = await sync_to_async(_sums)()
        keep = Path(settings.HOME) / "catalog-sources" / str(source.pk)
        root = bytes(source.root)
        looked = await asyncio.to_thread(look_into_tuf, source.address, root, keep, sums, told, way_out(), source.proxy)
    else:
        partly = Path(settings.HOME) / "catalog-sources" / "partly"
        looked = await look(Mirror(source.address, partly, way_out(), source.proxy), source.etag, known, told)
    return await sync_to_async(_take)(source, looked)


def way_out() -> Egress:
    """How this house goes out to mirrors."""
    return Egress(settings.MIRRORS_VOUCHED_BY, settings.EGRESS)


def _progress(work: Work) -> Callable[[int], None]:
    """Bytes as they arrive; stored by a task of its own, since the database must not hold the network up."""
    loop = asyncio.get_running_loop()

    def told(size: int) -> None:
        if size:
            asyncio.run_coroutine_threadsafe(sync_to_async(add_done)(work, size), loop)

    return told


def _known() -> set[tuple[str, str, str]]:
    return set(CatalogIssue.objects.values_list("maker", "catalog", "issue"))


def _sums() -> set[str]:
    return set(CatalogIssue.objects.values_list("sha256", flat=True))


def _folder(folder: Path, known: set[tuple[str, str, str]]) -> Looked:
    looked = look_into_folder(folder, known)
    if looked.offered or not has_packages(folder):
        return looked
    return Looked(files=(), offered=0)


def _take(source: Source, looked: Looked) -> int:
    """Store what a look brought, all or nothing of each file; returns how many issues are new."""
    if looked.unchanged:
        _answered(source, "as it was", looked.etag)
        return 0
    refuse_older(looked)
    files = list(looked.files)
    if source.kind == Source.Kind.FOLDER and not looked.offered:
        files = _from_packages(source)
    names = []
    for file in files:
        came = bring_in(
            file.raw,
            _source_name(source, file),
            packed=file.packed,
            signature=file.signature,
            vouched=file.vouched,
            vouches_for={source.maker} if source.maker else None,
        )
        if file.vouched and not source.maker:
            # Trusted for whom it spoke first: from now on it vouches for no other maker.
            source.maker = came.issue.maker
            source.save(update_fields=["maker"])
        names += [came.issue.name] if came.state != "known" else []
    for offer in looked.newest.values():
        see(offer.maker, offer.catalog, offer.issue, offer.issued)
    told = f"brought {', '.join(names)}" if names else "nothing new"
    told += f"; offers {looked.offered or len(files)}"
    if looked.unread:
        roles = f"{'role' if len(looked.unread) == 1 else 'roles'} {', '.join(looked.unread)}"
        told += f"; not looked at: what it delegates to the {roles}, which Ordnung doesn't follow"
    _answered(source, told, looked.etag)
    return len(names)


def refuse_older(looked: Looked) -> None:
    """Raise RepositoryError when a source passes an older issue off as the newest."""
    claims = [(o.maker, o.catalog, o.issue, o.issued) for o in looked.newest.values()]
    for maker, catalog, issue, issued in claims:
        seen = NewestSeen.objects.filter(maker=maker, catalog=catalog).first()
        if seen is not None and issued < seen.issued:
            told = (
                f"it passes {issue} off as the newest issue of {catalog}, but {seen.issue} was seen on "
                f"{seen.seen_at:%d %b %Y}: an old copy. Nothing was taken from it"
            )
            raise RepositoryError("older", catalog, told)


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
