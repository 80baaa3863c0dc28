"""Repositories as the API tells them."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Sequence
from typing import Any

from rest_framework import serializers

from ordnung.core.packing import BY, Packed
from ordnung.server.clock import now
from ordnung.server.repositories.models import Arrival, Line, Repository
from ordnung.server.shapes import StrictSerializer

SOON = datetime.timedelta(days=14)
"""So long before its end a seal is warned about."""
STATES = ["packing", "signing", "sealed", "waiting", "incomplete"]
LINE_FIELDS = (
    "product", "name", "kind", "version", "size", "sha256", "reasons", "servers", "state", "bytes", "unsigned",
    "signer", "generation", "form", "medium", "message",
)  # fmt: skip


class TrimSerializer(StrictSerializer):
    by = serializers.ChoiceField(choices=list(BY))
    value = serializers.CharField(max_length=500)


class LineSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    version = serializers.CharField()
    size = serializers.IntegerField()
    sha256 = serializers.CharField(allow_blank=True)
    reasons = serializers.ListField(child=serializers.CharField())
    servers = serializers.ListField(child=serializers.CharField())
    state = serializers.ChoiceField(choices=["waiting", "fetching", "packed", "refused", "left out", "elsewhere"])
    bytes = serializers.IntegerField()
    unsigned = serializers.BooleanField()
    signer = serializers.CharField(allow_blank=True)
    generation = serializers.IntegerField(allow_null=True)
    form = serializers.CharField()
    medium = serializers.IntegerField()
    message = serializers.CharField(allow_blank=True)
    trimmed = TrimSerializer(many=True)


class LeftOutLineSerializer(StrictSerializer):
    name = serializers.CharField()
    version = serializers.CharField()
    size = serializers.IntegerField()


class WrittenSerializer(StrictSerializer):
    id = serializers.IntegerField()
    shape = serializers.ChoiceField(choices=["folder", "tar", "tar.zst", "iso"])
    medium = serializers.IntegerField()
    since = serializers.IntegerField(allow_null=True)
    place = serializers.CharField()
    state = serializers.ChoiceField(choices=["writing", "done", "failed"])
    files = serializers.IntegerField()
    size = serializers.IntegerField()
    sha256 = serializers.CharField(allow_blank=True)
    message = serializers.CharField(allow_blank=True)
    asked_at = serializers.DateTimeField()
    asked_by = serializers.CharField()


class RepositoryHeadSerializer(StrictSerializer):
    """A repository without its packing list."""

    id = serializers.IntegerField()
    name = serializers.CharField()
    series = serializers.CharField()
    edition = serializers.IntegerField()
    state = serializers.ChoiceField(choices=STATES)
    made_at = serializers.DateTimeField()
    made_by = serializers.CharField(allow_blank=True)
    expires = serializers.DateTimeField(allow_null=True)
    ends = serializers.ChoiceField(choices=["later", "soon", "over", ""], allow_blank=True)
    root_key = serializers.CharField(allow_blank=True)
    root_version = serializers.IntegerField()
    message = serializers.CharField(allow_blank=True)
    revision = serializers.IntegerField()
    carried_from = serializers.CharField(allow_blank=True)
    carried_at = serializers.DateTimeField(allow_null=True)
    media = serializers.IntegerField()
    capacity = serializers.IntegerField(allow_null=True)
    waiting = serializers.ListField(child=serializers.CharField())
    checked_at = serializers.DateTimeField(allow_null=True)
    checked = serializers.CharField(allow_blank=True)
    check_failed = serializers.BooleanField()
    payloads = serializers.IntegerField()
    bytes = serializers.IntegerField()
    has_baseline = serializers.BooleanField()


class RepositorySerializer(RepositoryHeadSerializer):
    servers = serializers.ListField(child=serializers.CharField())
    trims = TrimSerializer(many=True)
    left_out = LeftOutLineSerializer(many=True)
    lines = LineSerializer(many=True)
    written = WrittenSerializer(many=True)


class ArrivalSerializer(StrictSerializer):
    id = serializers.IntegerField()
    place = serializers.CharField()
    name = serializers.CharField()
    state = serializers.ChoiceField(choices=["checking", "done", "waiting", "refused"])
    code = serializers.CharField(allow_blank=True)
    message = serializers.CharField(allow_blank=True)
    root_key = serializers.CharField(allow_blank=True)
    expired_reason = serializers.CharField(allow_blank=True)
    repository = serializers.IntegerField(allow_null=True)
    new_files = serializers.IntegerField()
    new_bytes = serializers.IntegerField()
    known_files = serializers.IntegerField()
    asked_at = serializers.DateTimeField()
    asked_by = serializers.CharField()


def packed_rows(lines: Sequence[Packed]) -> list[dict[str, Any]]:
    """A packing list as it stands before anything is fetched."""
    return [
        {
            "product": line.product.id,
            "name": line.product.name,
            "kind": line.product.kind,
            "version": line.release.version,
            "size": line.size,
            "sha256": line.release.payload.sha256 if line.release.payload else "",
            "reasons": list(line.reasons),
            "servers": list(line.servers),
            "state": "left out" if line.trimmed else "waiting",
            "bytes": 0,
            "unsigned": not line.issue.signed_by,
            "signer": "",
            "generation": line.release.payload.generation if line.release.payload else None,
            "form": line.release.payload.form if line.release.payload else "pldm",
            "medium": 1,
            "message": "",
            "trimmed": [{"by": trim.by, "value": trim.value} for trim in line.trimmed],
        }
        for line in lines
    ]


def line_row(line: Line) -> dict[str, Any]:
    """One stored line."""
    return {**{name: getattr(line, name) for name in LINE_FIELDS}, "trimmed": []}


def ends(expires: datetime.datetime | None) -> str:
    """Whether a seal ends later, soon, or is over."""
    if expires is None:
        return ""
    left = expires - now()
    return "over" if left <= datetime.timedelta() else "soon" if left < SOON else "later"


def head_row(row: Repository, lines: Iterable[Line] | None = None) -> dict[str, Any]:
    """A repository without its packing list."""
    fields = (
        "id", "name", "series", "edition", "state", "made_at", "made_by", "expires", "root_key", "root_version",
        "message", "revision", "carried_from", "carried_at", "media", "capacity", "waiting", "checked_at", "checked",
        "check_failed",
    )  # fmt: skip
    sizes = [line.size for line in (row.lines.all() if lines is None else lines)]
    return {
        **{name: getattr(row, name) for name in fields},
        "ends": ends(row.expires),
        "payloads": len(sizes),
        "bytes": sum(sizes),
        "has_baseline": row.rules is not None,
    }


def repository_row(row: Repository) -> dict[str, Any]:
    """One repository with its lines."""
    lines = list(row.lines.order_by("pk"))
    return {
        **head_row(row, lines),
        "servers": row.servers,
        "trims": row.trims,
        "left_out": row.left_out,
        "lines": [line_row(line) for line in lines],
        "written": list(row.written.order_by("-pk")),
    }


def arrival_row(row: Arrival) -> dict[str, Any]:
    """One thing carried in."""
    fields = (
        "id", "place", "name", "state", "code", "message", "root_key", "expired_reason", "new_files", "new_bytes",
        "known_files", "asked_at", "asked_by",
    )  # fmt: skip
    return {**{name: getattr(row, name) for name in fields}, "repository": row.repository_id}
