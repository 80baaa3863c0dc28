"""A look into a single package: what it says of itself, and whether it is for a component. Nothing is stored."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from drf_spectacular.utils import extend_schema
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
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
from ordnung.server.apart import apart
from ordnung.server.api.files import SentFile, read_file
from ordnung.server.assessment.current import current_assessment
from ordnung.server.problems import Problem
from ordnung.server.shapes import limited, read, row_from, shape, upload

MAX_PACKAGE = 64 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class PackageLook:
    file: SentFile = upload()
    server: str = limited(default="", allow_blank=True)
    slot: str = limited(default="", allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class PackageImageRow:
    version: str
    size: int
    activations: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class PackageRow:
    name: str
    revision: int
    version: str
    released: datetime.datetime | None
    size: int
    devices: list[str]
    downstream: list[str]
    generation: int
    trailing: int
    images: list[PackageImageRow]
    fits: str


class PackagesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(request={"multipart/form-data": shape(PackageLook)}, responses=shape(PackageRow))
    def post(self, request: Request) -> Response:
        """Look into a package and, when a component is named, say whether it is for it. Nothing is stored."""
        asked = read(PackageLook, request)
        name, raw = read_file(asked.file, MAX_PACKAGE)
        package = apart(parse_package, name, raw, name)
        return Response(package_row(package, name, _fits(package, name, asked.server, asked.slot)))


def package_row(package: Package, name: str, fits: str) -> PackageRow:
    """A package in words."""
    return row_from(
        PackageRow,
        package,
        name=name,
        devices=[_device(record) for record in package.devices],
        downstream=[_device(record) for record in package.downstream],
        images=[row_from(PackageImageRow, i, activations=list(i.activations())) for i in package.images],
        fits=fits,
    )


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
