"""Files on their way here from a browser: where they lie, and when they go."""

from __future__ import annotations

import datetime
import fcntl
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from django.conf import settings
from django.db import transaction
from django.db.models import Sum

from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Arrival, Upload
from ordnung.server.repositories.payloads import open_store
from ordnung.store.errors import no_room

SUFFIX = ".upload"
KEPT = datetime.timedelta(days=2)
"""So long an upload that nobody carries in is kept, to be gone on with."""


def upload_path(row: Upload) -> Path:
    """Where what has come of an upload lies."""
    folder = Path(settings.HOME) / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{row.pk}{SUFFIX}"


@dataclass(frozen=True, slots=True, kw_only=True)
class UploadRow:
    """An upload and how far it is."""

    id: str
    name: str
    size: int
    received: int


def upload_row(row: Upload) -> UploadRow:
    """An upload and how far it is."""
    path = upload_path(row)
    received = path.stat().st_size if path.exists() else 0
    return UploadRow(id=str(row.pk), name=row.name, size=row.size, received=received)


def begin_upload(name: str, size: int, person: str) -> Upload:
    """An upload with room of its own, or the one of this name and size that this person began and can go on with.

    Raises:
        Problem: the person, or all together, would have more on their way than the house allows.
        RepositoryError: the disk has no room for it beside what is promised to the others.
    """
    with transaction.atomic():
        known = Upload.objects.filter(name=name, size=size, person=person).order_by("-begun_at").first()
        if known is not None:
            return known
        _refuse_too_much(size, person)
        open_store().want_room(size + _promised(), name)
        return Upload.objects.create(name=name, size=size, person=person, begun_at=now())


def _refuse_too_much(size: int, person: str) -> None:
    for rows, limit, whose in (
        (Upload.objects.filter(person=person), settings.UPLOADS_A_PERSON, "you have"),
        (Upload.objects.all(), settings.UPLOADS_IN_ALL, "all together have"),
    ):
        under_way = rows.aggregate(sum=Sum("size"))["sum"] or 0
        if under_way + size > limit:
            message = (
                f"{whose.capitalize()} {under_way} bytes on their way, of {limit} at most. Carry in or drop what has "
                "come; what nobody goes on with for two days is dropped."
            )
            raise Problem("too-much", message, status=413, field="size")


def _promised() -> int:
    """Bytes that uploads under way have still to get."""
    return sum(row.size - row.received for row in map(upload_row, Upload.objects.all()))


@contextmanager
def write_piece(row: Upload) -> Iterator[BinaryIO]:
    """The file of an upload, to be added to; nobody else writes on it meanwhile.

    Raises:
        Problem: somebody else does.
        RepositoryError: the disk is full.
    """
    try:
        with upload_path(row).open("ab") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                message = f"A piece of {row.name} is just being written. Ask how far it is, then go on."
                raise Problem("busy", message, status=409) from None
            yield file
    except OSError as error:
        raise no_room(error, row.name) or error from None


def forget_upload(place: str) -> None:
    """What was carried in is in the store: its upload goes. Files that lie elsewhere are the person's and stay."""
    path = Path(place)
    if path.suffix == SUFFIX and path.parent == Path(settings.HOME) / "uploads":
        path.unlink(missing_ok=True)
        Upload.objects.filter(pk=path.stem).delete()


def forget_old_uploads() -> None:
    """Uploads that were given up, unless one is just being carried in."""
    busy = set(Arrival.objects.checking().values_list("place", flat=True))
    for row in Upload.objects.filter(begun_at__lt=now() - KEPT):
        if str(upload_path(row)) not in busy:
            forget_upload(str(upload_path(row)))
