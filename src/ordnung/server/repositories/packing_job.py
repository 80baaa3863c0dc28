"""Pack a repository: fetch what its list names, put it together, seal it."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import transaction
from tuf.api.metadata import Metadata, Targets

from ordnung.core.media import TooLargeError
from ordnung.core.packing import Packed, Trim, kept
from ordnung.engine.boot_base import BootBase, load_boot_base
from ordnung.engine.compose import SEAL_DAYS, Composed, Documents, Heading, compose, sums_of
from ordnung.engine.pack import PackedState, fetch_all
from ordnung.repository import Fetcher, Pace, PayloadSource, draft_targets, finish, store_metadata
from ordnung.repository.carry_in import PACKING
from ordnung.repository.roots import SPELLING, SignaturesDue
from ordnung.repository.seal import signatures_due
from ordnung.server.catalogs.fetching import way_out
from ordnung.server.catalogs.models import Source, TrustedKey
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.repositories.models import FetchLimit, FetchPlace, Line, Repository, see_edition
from ordnung.server.repositories.payloads import open_book, open_store, seal_folder
from ordnung.server.repositories.plans import Plan, gather_documents, make_plan
from ordnung.server.repositories.rows import LINE_FIELDS, packed_rows
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import add_done, bump, fail, succeed
from ordnung.store import RepositoryError
from ordnung.store.copying import write_durably

TOLD_BYTES = 256 * 1024
"""How much must have arrived before progress is stored again."""
DRAFT = "draft.targets.json"


async def do_pack(work: Work, ports: EnginePorts) -> None:
    """Make a repository."""
    row = await Repository.objects.aget(pk=work.subject["repository"])
    await sync_to_async(bump)(work, done=0)
    plan, lines, documents = await sync_to_async(_prepare)(row)
    try:
        good = await _fetch(work, row, lines)
        refused = len(lines) - len(good)
        if refused:
            await sync_to_async(_end_incomplete)(work, row, refused)
            return
        await sync_to_async(_seal)(work, row, plan, lines, documents)
    except (RepositoryError, TooLargeError) as error:
        await sync_to_async(_fail)(work, row, f"{error}. Nothing was sealed.")


def _prepare(row: Repository) -> tuple[Plan, list[Packed], Documents]:
    """The list as of now; what it names is held before anything is fetched."""
    trims = [Trim(by=t["by"], value=t["value"]) for t in row.trims]
    plan = make_plan(row.servers, trims, row.revision)
    lines = list(kept(plan.lines))
    documents = gather_documents(plan)
    with transaction.atomic():
        row.lines.all().delete()
        Line.objects.bulk_create([Line(repository=row, **fields) for fields in line_values(lines)])
    boot = boot_of(row)
    open_store().hold(row.owner, sums_of(lines, documents) | (boot.checksums() if boot is not None else set()))
    tell("repositories", id=row.pk)
    return plan, lines, documents


def boot_of(row: Repository) -> BootBase | None:
    """The boot system that goes into a repository. Raises RepositoryError where it should and there is none."""
    return load_boot_base(settings.BOOT_BASE) if row.boots else None


def line_values(lines: Sequence[Packed]) -> list[dict[str, Any]]:
    """Lines as the database keeps them."""
    return [{name: getattr(row, name) for name in LINE_FIELDS} for row in packed_rows(lines)]


async def _fetch(work: Work, row: Repository, lines: list[Packed]) -> list[tuple[Packed, Path]]:
    arrived: dict[tuple[str, str], int] = {}

    async def report(state: PackedState) -> None:
        key = (state.product, state.version)
        before = arrived.get(key, 0)
        if state.state == "fetching" and 0 <= state.bytes - before < TOLD_BYTES:
            return
        if state.state != "refused":
            arrived[key] = state.bytes
        await sync_to_async(_store_line)(work, row, state, arrived.get(key, 0) - before)

    places, pace, keys, proxies = await sync_to_async(_ways)()
    aside: list[tuple[str, str]] = []
    fetcher = Fetcher(
        open_store(), way_out(), settings.FOLDERS, places=places, pace=pace,
        put_aside=lambda place, why: aside.append((place.base, why)),
    )  # fmt: skip
    async with fetcher:
        good = await fetch_all(lines, fetcher, report, keys, proxies)
    await sync_to_async(_remember_places)(lines, fetcher, aside)
    return good


def _ways() -> tuple[list[PayloadSource], Pace, dict[str, dict[str, bytes]], dict[str, str]]:
    places = [PayloadSource(base=p.base, proxy=p.proxy, aside=p.aside) for p in FetchPlace.objects.order_by("pk")]
    limit = FetchLimit.objects.first()
    keys: dict[str, dict[str, bytes]] = {}
    for key in TrustedKey.objects.all():
        keys.setdefault(key.maker, {})[key.name] = bytes.fromhex(key.key)
    proxies = {source.address.rsplit("/", 1)[0] + "/": source.proxy for source in Source.objects.exclude(proxy="")}
    return places, Pace(limit.bytes_per_s if limit else 0), keys, proxies


def _remember_places(lines: list[Packed], fetcher: Fetcher, aside: list[tuple[str, str]]) -> None:
    """Places that were asked are known from now on; one that lied stays aside until someone trusts it again."""
    lied = dict(aside)
    known = {place.base for place in FetchPlace.objects.all()}
    for base in {line.issue.base for line in lines if line.issue.base} | set(lied):
        if base not in known:
            FetchPlace.objects.create(base=base, added_at=now(), added_by="a catalog")
        if base in lied:
            FetchPlace.objects.filter(base=base).update(aside=lied[base], aside_at=now())
    FetchPlace.objects.filter(base__in=fetcher.answered).update(answered_at=now())


def _store_line(work: Work, row: Repository, state: PackedState, moved: int) -> None:
    values: dict[str, Any] = {"state": state.state, "message": state.message}
    if state.bytes or state.state == "fetching":
        values["bytes"] = state.bytes
    if state.signer:
        values["signer"] = state.signer
    Line.objects.filter(repository=row, product=state.product, version=state.version).update(**values)
    add_done(work, moved)
    tell("repositories", id=row.pk)


def _end_incomplete(work: Work, row: Repository, refused: int) -> None:
    first = row.lines.filter(state="refused").first()
    message = f"{refused} of {row.lines.count()} payloads were refused; nothing was sealed. " + (
        f"{first.name} {first.version}: {first.message}" if first else ""
    )
    _fail(work, row, message)


def _fail(work: Work, row: Repository, message: str) -> None:
    Repository.objects.fail(row.pk, message)
    fail(work, message)
    tell("repositories", id=row.pk)


def _seal(work: Work, row: Repository, plan: Plan, lines: list[Packed], documents: Documents) -> None:
    heading = Heading(
        name=row.name, series=row.series, edition=row.edition, made_at=row.made_at, made_by=row.made_by or "Ordnung",
        revision=row.revision, servers=tuple(row.servers), trims=plan.trims,
    )  # fmt: skip
    composed = compose(lines, documents, heading, open_store(), row.capacity, boot_of(row))
    media = {(p.product, p.version): p.medium for p in composed.packing.payloads}
    for line in row.lines.all():
        Line.objects.filter(pk=line.pk).update(medium=media[line.product, line.version])
    Repository.objects.filter(pk=row.pk).update(
        rules=plan.revision.rules, follows=list(documents.follows), media=composed.packing.media
    )
    row.refresh_from_db()
    needed = draft_seal(row, composed)
    if needed is not None:
        left = needed.threshold - needed.have
        note = (
            f"{len(lines)} payloads packed; {left} more signature{'' if left == 1 else 's'} wanted before it is sealed"
        )
    else:
        row.refresh_from_db()
        note = f"{len(lines)} payloads, sealed until {row.expires:%d %b %Y}"
    succeed(work, note, done=work.total)


def draft_seal(row: Repository, composed: Composed) -> SignaturesDue | None:
    """Sign a repository with the keys kept here; returns what is still wanted, or None when it is sealed."""
    store, book = open_store(), open_book()
    store.hold(row.owner, {content.sha256 for content in composed.contents})
    expires = now().replace(microsecond=0) + datetime.timedelta(days=SEAL_DAYS)
    targets = draft_targets(composed.contents, book, row.edition, expires)
    return keep_draft(row, targets)


def keep_draft(row: Repository, targets: Metadata[Targets]) -> SignaturesDue | None:
    """Keep targets metadata as far as they are signed; sealed at once when that is enough."""
    book = open_book()
    needed = signatures_due(targets, book)
    folder = seal_folder(row)
    if not needed.is_enough:
        write_durably(folder / DRAFT, targets.to_bytes(SPELLING))
        Repository.objects.await_signatures(row.pk)
        tell("repositories", id=row.pk)
        return needed
    store_metadata(folder, finish(targets, book))
    (folder / DRAFT).unlink(missing_ok=True)
    Repository.objects.seal(
        row.pk,
        expires=targets.signed.expires,
        root_key=",".join(sorted(h.keyid for h in book.holders("root"))),
        root_version=book.root.signed.version,
        packing_sum=targets.signed.targets[PACKING].hashes["sha256"],
    )
    see_edition(row.series, row.edition, targets.signed.targets[PACKING].hashes["sha256"])
    tell("repositories", id=row.pk)
    return None
