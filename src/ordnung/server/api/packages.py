"""A look into a single package: what it says of itself, and whether it is for a component. Nothing is stored."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.formats.pldm import (
    DESCRIPTOR_NAMES,
    DeviceRecord,
    DownstreamRecord,
    Package,
    parse_package,
    spell_descriptor,
)
from ordnung.repository.identity import refuse_foreign
from ordnung.server.assessment.current import current_assessment
from ordnung.server.problems import Problem
from ordnung.server.shapes import StrictSerializer

MAX_PACKAGE = 64 * 1024 * 1024


class LookSerializer(StrictSerializer):
    file = serializers.FileField()
    server = serializers.CharField(required=False, default="", allow_blank=True)
    slot = serializers.CharField(required=False, default="", allow_blank=True)


class PackageImageSerializer(StrictSerializer):
    version = serializers.CharField()
    size = serializers.IntegerField()
    activations = serializers.ListField(child=serializers.CharField())


class PackageSerializer(StrictSerializer):
    name = serializers.CharField()
    revision = serializers.IntegerField()
    version = serializers.CharField()
    released = serializers.DateTimeField(allow_null=True)
    size = serializers.IntegerField()
    devices = serializers.ListField(child=serializers.CharField())
    downstream = serializers.ListField(child=serializers.CharField())
    generation = serializers.IntegerField()
    trailing = serializers.IntegerField()
    images = PackageImageSerializer(many=True)
    fits = serializers.CharField(allow_blank=True)


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
    return {
        "name": name,
        "revision": package.revision,
        "version": package.version,
        "released": package.released,
        "size": package.size,
        "devices": [_device(record) for record in package.devices],
        "downstream": [_device(record) for record in package.downstream],
        "generation": package.generation,
        "trailing": package.trailing,
        "images": [
            {"version": i.version, "size": i.size, "activations": list(i.activations())} for i in package.images
        ],
    }


def _device(record: DeviceRecord | DownstreamRecord) -> str:
    software_id = record.rules().get("software_id")
    kinds = ", ".join(f"{DESCRIPTOR_NAMES.get(k, hex(k))} {spell_descriptor(k, v)}" for k, v in record.descriptors)
    return f"{software_id}: {kinds}" if software_id else kinds


def _fits(package: Package, name: str, server: str, slot: str) -> str:
    if not server:
        return ""
    standing = current_assessment().standings.get(server)
    component = standing.server.component(slot) if standing else None
    if component is None:
        raise Problem("not-found", f"There is no component {slot} in {server}.", status=404, field="slot")
    why = refuse_foreign(package, component)
    if why is not None:
        raise Problem(
            "payload-foreign", f"{name} is not for {slot} of {server}: {why}. Nothing was sent.", field="file"
        )
    return f"{name} is for {component.name} in {slot} of {server}."
