"""Repositories: make, look, check; and a look into a single package."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.packing import plan_packing
from ordnung.formats.pldm import DESCRIPTOR_NAMES, Package, parse_package
from ordnung.repository import check_repository
from ordnung.repository.identity import refuse_foreign
from ordnung.server.clock import now
from ordnung.server.drift.left_out import reviewed
from ordnung.server.fleet.serializers import NamesSerializer
from ordnung.server.house import snapshot
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Line, Repository
from ordnung.server.work.orders import ask_for

MAX_PACKAGE = 64 * 1024 * 1024


class LineSerializer(serializers.Serializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    version = serializers.CharField()
    size = serializers.IntegerField()
    sha256 = serializers.CharField()
    reasons = serializers.ListField(child=serializers.CharField())
    servers = serializers.ListField(child=serializers.CharField())
    state = serializers.ChoiceField(choices=["waiting", "fetching", "packed", "refused"])
    bytes = serializers.IntegerField()
    unsigned = serializers.BooleanField()
    message = serializers.CharField()


class RepositorySerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    state = serializers.ChoiceField(choices=["packing", "sealed", "incomplete"])
    servers = serializers.ListField(child=serializers.CharField())
    folder = serializers.CharField()
    made_at = serializers.DateTimeField()
    expires = serializers.DateTimeField(allow_null=True)
    root_key = serializers.CharField()
    message = serializers.CharField()
    revision = serializers.IntegerField()
    lines = LineSerializer(many=True)


class NewRepositorySerializer(NamesSerializer):
    name = serializers.CharField(max_length=200, required=False, default="", allow_blank=True)


class PackingSerializer(serializers.Serializer):
    """What would be packed for the chosen servers."""

    lines = LineSerializer(many=True)
    servers = serializers.ListField(child=serializers.CharField())


class CheckedSerializer(serializers.Serializer):
    files = serializers.IntegerField()
    bytes = serializers.IntegerField()
    expires = serializers.DateTimeField()
    root_key = serializers.CharField()
    unsealed = serializers.ListField(child=serializers.CharField())


class LookSerializer(serializers.Serializer):
    file = serializers.FileField()
    server = serializers.CharField(required=False, default="", allow_blank=True)
    slot = serializers.CharField(required=False, default="", allow_blank=True)


class PackageImageSerializer(serializers.Serializer):
    version = serializers.CharField()
    size = serializers.IntegerField()
    activations = serializers.ListField(child=serializers.CharField())


class PackageSerializer(serializers.Serializer):
    name = serializers.CharField()
    revision = serializers.IntegerField()
    version = serializers.CharField()
    released = serializers.DateTimeField(allow_null=True)
    size = serializers.IntegerField()
    devices = serializers.ListField(child=serializers.CharField())
    images = PackageImageSerializer(many=True)
    fits = serializers.CharField(allow_blank=True)


def packing_rows(names: list[str] | None) -> list[dict[str, Any]]:
    """The packing list for servers, as it stands before anything is fetched."""
    return [
        {
            "product": line.product.id,
            "name": line.product.name,
            "kind": line.product.kind,
            "version": line.release.version,
            "size": line.release.payload.size if line.release.payload else 0,
            "sha256": line.release.payload.sha256 if line.release.payload else "",
            "reasons": list(line.reasons),
            "servers": list(line.servers),
            "state": "waiting",
            "bytes": 0,
            "unsigned": not line.issue.signed_by,
            "message": "",
        }
        for line in plan_packing(reviewed(snapshot().chosen(names)))
    ]


def repository_row(row: Repository) -> dict[str, Any]:
    """One repository with its lines."""
    fields = ("id", "name", "state", "servers", "folder", "made_at", "expires", "root_key", "message", "revision")
    return {**{name: getattr(row, name) for name in fields}, "lines": list(row.lines.order_by("pk"))}


class PackingView(APIView):
    @extend_schema(request=NamesSerializer, responses=PackingSerializer)
    def post(self, request) -> Response:
        """The packing list for the chosen servers, without making anything."""
        body = NamesSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        names = body.validated_data.get("servers") or None
        rows = packing_rows(names)
        servers = sorted({name for row in rows for name in row["servers"]})
        return Response(PackingSerializer({"lines": rows, "servers": servers}).data)


class RepositoriesView(APIView):
    @extend_schema(responses=RepositorySerializer(many=True))
    def get(self, request) -> Response:
        """All repositories, newest first."""
        rows = [repository_row(row) for row in Repository.objects.order_by("-pk")[:50]]
        return Response(RepositorySerializer(rows, many=True).data)

    @extend_schema(request=NewRepositorySerializer, responses={202: RepositorySerializer})
    def post(self, request) -> Response:
        """Pack a repository for the chosen servers; the engine fetches, checks, writes out and seals."""
        body = NewRepositorySerializer(data=request.data)
        body.is_valid(raise_exception=True)
        names = body.validated_data.get("servers") or None
        rows = packing_rows(names)
        if not rows:
            raise Problem("nothing-to-pack", "These servers need nothing: all are level, held or without a route.")
        servers = sorted({name for row in rows for name in row["servers"]})
        with transaction.atomic():
            title = body.validated_data["name"] or f"{len(servers)} servers, {now():%d %b %Y}"
            revision = snapshot().baseline.number
            repository = Repository.objects.create(
                name=title, servers=names or servers, made_at=now(), revision=revision
            )
            Line.objects.bulk_create([Line(repository=repository, **row) for row in rows])
            total = sum(row["size"] for row in rows)
            ask_for("pack", f"Packing {title}", total, "bytes", {"repository": repository.pk})
        return Response(RepositorySerializer(repository_row(repository)).data, status=202)


class RepositoryView(APIView):
    @extend_schema(responses=RepositorySerializer)
    def get(self, request, pk: int) -> Response:
        """One repository with its packing list."""
        return Response(RepositorySerializer(repository_row(get_object_or_404(Repository, pk=pk))).data)


class RepositoryCheckView(APIView):
    @extend_schema(request=None, responses=CheckedSerializer)
    def post(self, request, pk: int) -> Response:
        """Verify the written-out repository end to end against this site's root."""
        row = get_object_or_404(Repository, pk=pk)
        if row.state != "sealed":
            raise Problem("not-sealed", f"{row.name} is not sealed yet; there is nothing to check.", status=409)
        checked = check_repository(Path(row.folder))
        if checked.root_key != row.root_key:
            raise Problem("foreign-seal", f"{row.name} is sealed by another key than this site's.", status=409)
        return Response(CheckedSerializer(checked).data)


class PackagesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(request={"multipart/form-data": LookSerializer}, responses=PackageSerializer)
    def post(self, request) -> Response:
        """Look into a package and, when a component is named, say whether it is for it. Nothing is stored."""
        body = LookSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        file = body.validated_data["file"]
        if file.size > MAX_PACKAGE:
            raise Problem(
                "too-large",
                f"{file.name} is larger than {MAX_PACKAGE // 2**20} MiB.",
                status=413,
                field="file",
            )
        package = parse_package(file.read(), file.name)
        fits = _fits(package, file.name, body.validated_data["server"], body.validated_data["slot"])
        return Response(PackageSerializer({**package_row(package, file.name), "fits": fits}).data)


def package_row(package: Package, name: str) -> dict[str, Any]:
    """A package in words."""
    devices = []
    for record in package.devices:
        told = record.rules().get("software_id")
        kinds = ", ".join(
            f"{DESCRIPTOR_NAMES.get(k, hex(k))} {v[::-1].hex() if len(v) == 2 else v.hex()}"
            for k, v in record.descriptors
        )
        devices.append(f"{told}: {kinds}" if told else kinds)
    return {
        "name": name,
        "revision": package.revision,
        "version": package.version,
        "released": package.released,
        "size": package.size,
        "devices": devices,
        "images": [
            {"version": i.version, "size": i.size, "activations": list(i.activations())} for i in package.images
        ],
    }


def _fits(package: Package, name: str, server: str, slot: str) -> str:
    if not server:
        return ""
    standing = snapshot().standings.get(server)
    component = standing.server.component(slot) if standing else None
    if component is None:
        raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="slot")
    why = refuse_foreign(package, component)
    if why is not None:
        raise Problem(
            "payload-foreign", f"{name} is not for {slot} of {server}: {why}. Nothing was sent.", field="file"
        )
    return f"{name} is for {component.name} in {slot} of {server}."
