"""Write a repository out, and give the file to a browser, in parts where it asks for them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.repository import SHAPES
from ordnung.server.catalogs.commands import check_folder
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.commands import demand_sealed
from ordnung.server.repositories.models import Repository, WrittenOut
from ordnung.server.repositories.out_jobs import carrier_for
from ordnung.server.repositories.rows import WrittenRow, written_row
from ordnung.server.shapes import limited, one_of, read, shape
from ordnung.server.work.events import tell
from ordnung.server.work.orders import ask_for

PIECE = 1024 * 1024
_RANGE = re.compile(r"bytes=(\d+)-(\d*)")


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteOut:
    """``folder`` is a folder of this machine; without it the site keeps what is written. ``since`` is the edition
    that the far end has already.
    """

    shape: str = one_of(list(SHAPES))
    folder: str = limited(default="", max_length=500, allow_blank=True)
    since: int | None = limited(default=None, allow_null=True)


class WrittenOutView(APIView):
    @extend_schema(request=shape(WriteOut), responses={202: shape(WrittenRow)(many=True)})
    def post(self, request: Request, pk: int) -> Response:
        """Write a repository out: one file or folder for each medium it was packed for."""
        asked = read(WriteOut, request)
        row = get_object_or_404(Repository, pk=pk)
        demand_sealed(row)
        since = _since(row, asked.since)
        folder = Path(check_folder(asked.folder)) if asked.folder else Path(settings.HOME) / "written"
        media = range(1, row.media + 1) if row.media > 1 else (0,)
        rows = [_order(row, asked.shape, folder, medium, since, request.user.username) for medium in media]
        tell("repositories", id=row.pk)
        return Response([written_row(written) for written in rows], status=202)


def _since(row: Repository, edition: int | None) -> Repository | None:
    if edition is None:
        return None
    found = Repository.objects.filter(series=row.series, edition=edition).exclude(packing_sum="").first()
    if found is None or edition >= row.edition:
        raise Problem("not-found", f"{row.name} has no older edition {edition} here.", field="since")
    return found


def _order(row: Repository, shape: str, folder: Path, medium: int, since: Repository | None, person: str) -> WrittenOut:
    name = re.sub(r"[^A-Za-z0-9._-]+", "-", row.name).strip("-.") or f"repository-{row.pk}"
    name += f"-e{row.edition}" + (f"-since-e{since.edition}" if since else "")
    name += f"-{medium}-of-{row.media}" if medium else ""
    place = folder / (name + SHAPES[shape])
    under_way = WrittenOut.objects.filter(place=str(place), state=WrittenOut.State.WRITING).exists()
    if under_way:
        raise Problem("busy", f"{place.name} is being written already.", status=409)
    written = WrittenOut.objects.create(
        repository=row, shape=shape, medium=medium, since=since.edition if since else None, place=str(place),
        asked_at=now(), asked_by=person,
    )  # fmt: skip
    size = sum(carrier_for(row, medium, since).files.values())
    subject = {"written": written.pk, "repository": row.pk}
    ask_for("write-out", f"Writing {place.name}", size, "bytes", subject)
    return written


class WrittenFileView(APIView):
    @extend_schema(responses={(200, "application/octet-stream"): OpenApiTypes.BINARY})
    def get(self, request: Request, pk: int, written: int) -> HttpResponse | StreamingHttpResponse:
        """The file, whole or from where a download broke off (RFC 9110, ranges)."""
        row = get_object_or_404(WrittenOut, pk=written, repository_id=pk)
        path = Path(row.place)
        if row.state != WrittenOut.State.DONE or not path.is_file():
            raise Problem("not-found", f"{path.name} is not here (any more).", status=404)
        return send_file(request, path, row.sha256)


def send_file(request: HttpRequest, path: Path, sha256: str) -> HttpResponse | StreamingHttpResponse:
    """A file with one range, an ETag, and flat memory."""
    size = path.stat().st_size
    match = _RANGE.fullmatch(request.headers.get("Range", ""))
    tag = f'"{sha256}"'
    if request.headers.get("If-Range", tag) != tag:
        match = None
    start, end = (int(match[1]), int(match[2] or size - 1)) if match else (0, size - 1)
    if match and (start >= size or end < start):
        answer = HttpResponse(status=416)
        answer["Content-Range"] = f"bytes */{size}"
        return answer
    end = min(end, size - 1)
    streamed = StreamingHttpResponse(
        _pieces(path, start, end + 1), status=206 if match else 200, content_type="application/octet-stream"
    )
    streamed["Content-Length"], streamed["ETag"], streamed["Accept-Ranges"] = str(end + 1 - start), tag, "bytes"
    streamed["Content-Disposition"] = f'attachment; filename="{path.name}"'
    if match:
        streamed["Content-Range"] = f"bytes {start}-{end}/{size}"
    return streamed


def _pieces(path: Path, start: int, end: int) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(start)
        while start < end and (piece := file.read(min(PIECE, end - start))):
            start += len(piece)
            yield piece
