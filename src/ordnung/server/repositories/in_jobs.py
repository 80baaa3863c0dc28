"""Carry a repository in: verify it, store what is new, take over its catalogs and advisories."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import transaction

from ordnung.formats.documents import load_json
from ordnung.formats.errors import FormatError
from ordnung.repository import (
    Arrived,
    CarriedIn,
    Carrier,
    Seen,
    carry_in,
    first_root,
    look_at,
    open_carrier,
    refuse_older,
    root_ids,
    store_metadata,
)
from ordnung.repository.boot import is_bootable
from ordnung.repository.contents import Contents, Lister
from ordnung.repository.roots import load_root
from ordnung.server.advisories.store import bring_in_advisory
from ordnung.server.apart import apart
from ordnung.server.catalogs.bring_in import bring_in
from ordnung.server.clock import now
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.problems import Problem
from ordnung.server.repositories.gauge import Gauge
from ordnung.server.repositories.models import Arrival, Line, Repository, SeriesSeen, TrustedRoot, see_edition
from ordnung.server.repositories.payloads import open_book, open_store, seal_folder
from ordnung.server.repositories.uploads import forget_upload
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.progress import fail, succeed
from ordnung.store import RepositoryError


async def do_carry_in(work: Work, ports: EnginePorts) -> None:
    """Carry in what an arrival names; a refusal says why and leaves everything as it was."""
    row = await Arrival.objects.aget(pk=work.subject["arrival"])
    gauge = Gauge(work)
    job = asyncio.to_thread(_carry_in, row, gauge)
    try:
        note = await gauge.follow(job)
    except (RepositoryError, Problem, FormatError, OSError) as error:
        code = error.code if isinstance(error, RepositoryError | Problem) else "broken"
        message = error.strerror or str(error) if isinstance(error, OSError) else str(error)
        await sync_to_async(Arrival.objects.refuse)(row.pk, code, message)
        await sync_to_async(fail)(work, f"{row.name} refused: {message}")
    else:
        await sync_to_async(forget_upload)(row.place)
        await sync_to_async(succeed)(work, note, done=work.total)
    await sync_to_async(tell)("repositories")


def _carry_in(row: Arrival, gauge: Gauge) -> str:
    """In a thread of its own, with its own database connection."""
    from django.db import connection

    try:
        scratch = Path(settings.HOME) / "uploads"
        scratch.mkdir(parents=True, exist_ok=True)
        with open_carrier(Path(row.place), scratch, listed_by=_list_apart) as carrier:
            size = sum(carrier.files.values())
            Work.objects.filter(kind="carry-in", subject__arrival=row.pk).update(total=size)
            return _from_carrier(row, carrier, gauge)
    finally:
        connection.close()


def _list_apart(lister: Lister, path: Path, name: str) -> Contents:
    """What a stranger wrote is never read in the engine itself."""
    return apart(lister, name, path, name)


def _from_carrier(row: Arrival, carrier: Carrier, gauge: Gauge) -> str:
    arrived = _verify(row, carrier)
    refuse_older(arrived, _seen(arrived))
    store = open_store()
    packing = arrived.packing
    known = Repository.objects.filter(series=packing.series, edition=packing.edition).first()
    owner = known.owner if known else f"arrival-{row.pk}"
    try:
        carried = carry_in(carrier, arrived, store, owner, gauge.advance)
        with transaction.atomic():
            repository = known or _create(arrived, row)
            see_edition(packing.series, packing.edition, arrived.packing_sum)
            _take_over(repository, carried, row)
    except BaseException:
        if known is None:
            store.release(owner)
        raise
    if known is None:
        store.hold(repository.owner, arrived.sums.values())
    store.release(f"arrival-{row.pk}")  # also what a killed try before this one left
    store_metadata(seal_folder(repository), carried.metadata)
    return _tell_end(row, repository, carried)


def _verify(row: Arrival, carrier: Carrier) -> Arrived:
    """What came, its seal verified by the newest root known here of whoever sealed it.

    Raises:
        RepositoryError: ``untrusted``, or ``retired``: sealed by keys that were replaced since. What was recorded here
            before that stays good.
    """
    own = first_root(carrier)
    Arrival.objects.filter(pk=row.pk).update(root_key=root_ids(own))
    expired = bool(row.expired_reason)
    try:
        return look_at(carrier, _trusted(row, own), allow_expired=expired)
    except RepositoryError as error:
        if error.code not in ("untrusted", "below threshold") or not _is_known(row, own):
            raise
        before = look_at(carrier, own, allow_expired=expired)
        if not _is_recorded(before):
            what = "it is sealed by keys that were replaced since: pack it anew where it came from"
            raise RepositoryError("retired", error.file, what) from None
        return before


def _trusted(row: Arrival, own: bytes) -> bytes:
    """The root to verify by: the newest one known here.

    Raises:
        RepositoryError: nobody here trusts the keys that sealed it.
    """
    ids = root_ids(own)
    known = TrustedRoot.objects.filter(keys=ids).first()
    if known is not None:
        return bytes(known.root)
    history = open_book().history()
    if own == history[0]:
        return history[-1]
    if row.trust == ids:
        return own
    what = (
        "it is sealed by keys that nobody here has confirmed. Compare them with those shown where it was packed, "
        "then trust them"
    )
    raise RepositoryError("untrusted", "metadata/1.root.json", what)


def _is_known(row: Arrival, own: bytes) -> bool:
    """Whether the keys that sealed it first are trusted here, whatever became of them."""
    return own == open_book().history()[0] or TrustedRoot.objects.filter(keys=root_ids(own)).exists()


def _is_recorded(arrived: Arrived) -> bool:
    """Whether this very repository is on record here."""
    packing = arrived.packing
    known = Repository.objects.filter(series=packing.series, edition=packing.edition)
    return known.filter(packing_sum=arrived.packing_sum).exists()


def _seen(arrived: Arrived) -> Seen | None:
    last = SeriesSeen.objects.filter(series=arrived.packing.series).first()
    return Seen(edition=last.edition, packing=last.packing_sum) if last else None


def _create(arrived: Arrived, row: Arrival) -> Repository:
    packing, seal = arrived.packing, arrived.seal
    repository = Repository.objects.create(
        name=packing.name, series=packing.series, edition=packing.edition, state=Repository.State.WAITING,
        servers=list(packing.servers), trims=list(packing.trims), media=packing.media, made_at=packing.made_at,
        made_by=packing.made_by, expires=seal.expires, root_key=seal.root_key, root_version=seal.root_version,
        packing_sum=arrived.packing_sum, revision=packing.revision, carried_from=row.name, carried_at=now(),
        follows=list(packing.follows), boots=is_bootable(seal.targets),
    )  # fmt: skip
    signed = {c.path: c.signed_by for c in packing.catalogs}
    Line.objects.bulk_create(
        Line(
            repository=repository, product=p.product, name=p.name, kind=p.kind, version=p.version, size=p.size,
            sha256=p.sha256, reasons=list(p.reasons), servers=list(p.servers), medium=p.medium,
            unsigned=not any(signed.values()),
        )
        for p in packing.payloads
    )  # fmt: skip
    return repository


def _take_over(repository: Repository, carried: CarriedIn, row: Arrival) -> None:
    arrived = carried.arrived
    _remember_root(row, arrived)
    makers, seal = _vouched_makers(row, arrived), f"the seal {arrived.seal.root_key[:12]}"
    for catalog in arrived.packing.catalogs:
        name = f"{arrived.packing.name}: {catalog.path}"
        bring_in(carried.documents[catalog.path], name, vouched=seal, vouches_for=makers)
    for path in arrived.packing.advisories:
        try:
            bring_in_advisory(carried.documents[path], f"{arrived.packing.name}: {path}")
        except Problem as problem:
            if problem.code != "older":
                raise
    waiting = set(carried.waiting)
    for payload in arrived.packing.payloads:
        state = "elsewhere" if payload.path in waiting else "packed"
        values: dict[str, Any] = {"state": state, "bytes": 0 if payload.path in waiting else payload.size}
        repository.lines.filter(product=payload.product, version=payload.version).update(**values)
    rules = load_json(carried.documents[arrived.packing.rules], "rules.json") if arrived.packing.rules else None
    Repository.objects.take_over(repository.pk, waiting, rules=rules, message=_expired(row, arrived))
    tell("repositories", id=repository.pk)


def _expired(row: Arrival, arrived: Arrived) -> str:
    if not arrived.seal.is_expired:
        return ""
    return f"Its seal had expired; {row.asked_by} took it in all the same: {row.expired_reason}"


def _vouched_makers(row: Arrival, arrived: Arrived) -> set[str] | None:
    """The makers that this seal was trusted for; None for a seal of our own. Another maker's catalog comes in by that
    maker's own signature only.
    """
    ids = row.trust or Arrival.objects.values_list("root_key", flat=True).get(pk=row.pk)
    known = TrustedRoot.objects.filter(keys=ids).first()
    return set(known.makers) if known is not None else None


def _remember_root(row: Arrival, arrived: Arrived) -> None:
    """The newest root that it brought is what counts from now on; the first one's keys are its name."""
    if arrived.seal.root in open_book().history():
        return
    ids = row.trust or Arrival.objects.values_list("root_key", flat=True).get(pk=row.pk)
    known = TrustedRoot.objects.filter(keys=ids).first()
    version = load_root(arrived.seal.root).signed.version
    if known is None:
        TrustedRoot.objects.create(
            name=arrived.packing.name, keys=ids, root=arrived.seal.root, version=version, added_at=now(),
            added_by=row.asked_by, makers=sorted({catalog.maker for catalog in arrived.packing.catalogs}),
        )  # fmt: skip
    elif version > known.version:
        TrustedRoot.objects.filter(pk=known.pk).update(root=arrived.seal.root, version=version)


def _tell_end(row: Arrival, repository: Repository, carried: CarriedIn) -> str:
    waiting = len(carried.waiting)
    message = f"{carried.new_files} files new, {carried.known_files} here already" + (
        f"; {waiting} lie on media still to come" if waiting else ""
    )
    Arrival.objects.finish(
        row.pk, waits=waiting > 0, message=message, repository=repository, new_files=carried.new_files,
        new_bytes=carried.new_bytes, known_files=carried.known_files,
    )  # fmt: skip
    return f"{repository.name}, edition {repository.edition}: {message}"
