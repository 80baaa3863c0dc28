"""Files on their way here from a browser: where they lie, and when they go."""

from __future__ import annotations

import datetime
from pathlib import Path

from django.conf import settings

from ordnung.server.clock import now
from ordnung.server.repositories.models import Arrival, Upload

SUFFIX = ".upload"
KEPT = datetime.timedelta(days=2)
"""So long an upload that nobody carries in is kept, to be gone on with."""


def upload_path(row: Upload) -> Path:
    """Where what has come of an upload lies."""
    folder = Path(settings.HOME) / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{row.pk}{SUFFIX}"


def upload_row(row: Upload) -> dict:
    """An upload and how far it is."""
    path = upload_path(row)
    received = path.stat().st_size if path.exists() else 0
    return {"id": str(row.pk), "name": row.name, "size": row.size, "received": received}


def forget_upload(place: str) -> None:
    """What was carried in is in the store: its upload goes. Files that lie elsewhere are the person's and stay."""
    path = Path(place)
    if path.suffix == SUFFIX and path.parent == Path(settings.HOME) / "uploads":
        path.unlink(missing_ok=True)
        Upload.objects.filter(pk=path.stem).delete()


def forget_old_uploads() -> None:
    """Uploads that were given up, unless one is just being carried in."""
    busy = set(Arrival.objects.filter(state="checking").values_list("place", flat=True))
    for row in Upload.objects.filter(begun_at__lt=now() - KEPT):
        if str(upload_path(row)) not in busy:
            forget_upload(str(upload_path(row)))
