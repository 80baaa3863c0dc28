"""Catalog issues, their sources, and the keys that may sign them."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import JSONParser, MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.releases import compare_issues
from ordnung.formats.addresses import is_address
from ordnung.formats.compressed import unpack
from ordnung.formats.documents import MAX_BYTES
from ordnung.formats.signatures import read_key, read_signature
from ordnung.repository import read_root
from ordnung.server.api.work_shapes import WorkSerializer
from ordnung.server.assessment.current import load_catalogs
from ordnung.server.catalogs.bring_in import bring_in
from ordnung.server.catalogs.models import CatalogIssue, Source, TrustedKey
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.events import tell
from ordnung.server.work.orders import ask_for


class IssueSerializer(StrictSerializer):
    maker = serializers.CharField()
    catalog = serializers.CharField()
    issue = serializers.CharField()
    issued = serializers.DateField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    signed_by = serializers.CharField(allow_blank=True)
    brought_in = serializers.DateTimeField()
    models = serializers.ListField(child=serializers.CharField())
    products = serializers.IntegerField()
    releases = serializers.IntegerField()


class BroughtInSerializer(IssueSerializer):
    state = serializers.ChoiceField(choices=["new", "known", "signed"])
    older_than = serializers.CharField(allow_blank=True)


class FileSerializer(StrictSerializer):
    file = serializers.FileField()
    signature = serializers.FileField(required=False)


class SourceSerializer(StrictSerializer):
    id = serializers.IntegerField()
    kind = serializers.ChoiceField(choices=["mirror", "folder"])
    address = serializers.CharField()
    proxy = serializers.CharField(allow_blank=True)
    maker = serializers.CharField(allow_blank=True)
    trust = serializers.CharField(allow_blank=True)
    added_at = serializers.DateTimeField()
    answered_at = serializers.DateTimeField(allow_null=True)
    said = serializers.CharField(allow_blank=True)
    failed_at = serializers.DateTimeField(allow_null=True)
    failure = serializers.CharField(allow_blank=True)


class NewSourceSerializer(StrictSerializer):
    """``tuf_root`` is the root metadata to trust, for a mirror that is a TUF repository."""

    address = serializers.CharField(max_length=500)
    proxy = serializers.CharField(max_length=500, required=False, default="", allow_blank=True)
    maker = serializers.CharField(max_length=200, required=False, default="", allow_blank=True)
    tuf_root = serializers.CharField(max_length=200_000, required=False, default="", allow_blank=True)


class SourcesFetchSerializer(StrictSerializer):
    sources = serializers.ListField(child=serializers.IntegerField(), required=False)


class KeySerializer(StrictSerializer):
    id = serializers.IntegerField()
    maker = serializers.CharField()
    name = serializers.CharField()
    key = serializers.CharField()
    added_at = serializers.DateTimeField()
    added_by = serializers.CharField()


class NewKeySerializer(StrictSerializer):
    maker = serializers.CharField(max_length=200)
    name = serializers.CharField(max_length=200)
    key = serializers.CharField(max_length=200)


class IssueChangeSerializer(StrictSerializer):
    what = serializers.ChoiceField(choices=["model", "product", "release"])
    change = serializers.ChoiceField(choices=["added", "dropped", "changed"])
    name = serializers.CharField()
    detail = serializers.CharField(allow_blank=True)


def issue_rows() -> list[dict]:
    """Every issue at hand, newest first."""
    values = {(i.maker, i.catalog, i.issue): i for i in load_catalogs().issues}
    rows = []
    for row in CatalogIssue.objects.defer("raw").order_by("-issued", "catalog"):
        value = values[row.maker, row.catalog, row.issue]
        rows.append(
            {
                "maker": row.maker,
                "catalog": row.catalog,
                "issue": row.issue,
                "issued": row.issued,
                "source": row.source,
                "signed_by": row.signed_by,
                "brought_in": row.brought_in,
                "models": list(value.models),
                "products": len(value.products),
                "releases": sum(len(p.releases) for p in value.products),
            }
        )
    return rows


class CatalogsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(responses=IssueSerializer(many=True))
    def get(self, request) -> Response:
        """All issues at hand."""
        return Response(IssueSerializer(issue_rows(), many=True).data)

    @extend_schema(request={"multipart/form-data": FileSerializer}, responses={201: BroughtInSerializer})
    def post(self, request) -> Response:
        """Bring in one issue, plain, gzipped or zstd, with its detached signature where there is one.

        A file that is cut, altered or malformed is refused whole, and nothing changes.
        """
        body = FileSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        file, beside = body.validated_data["file"], body.validated_data.get("signature")
        if file.size > MAX_BYTES:
            raise Problem(
                "too-large", f"{file.name} is larger than {MAX_BYTES // 2**20} MiB.", status=413, field="file"
            )
        packed = file.read()
        signature = read_signature(beside.read(4096), beside.name) if beside is not None else None
        brought = bring_in(unpack(packed, file.name), file.name, packed=packed, signature=signature)
        issue = brought.issue
        row = next(r for r in issue_rows() if (r["catalog"], r["issue"]) == (issue.catalog, issue.issue))
        values = {**row, "state": brought.state, "older_than": brought.older_than}
        return Response(BroughtInSerializer(values).data, status=201 if brought.state == "new" else 200)


class IssueDiffView(APIView):
    @extend_schema(responses=IssueChangeSerializer(many=True), operation_id="catalogs_compare")
    def get(self, request, maker: str, catalog: str, old: str, new: str) -> Response:
        """What one issue of a catalog adds, drops and changes against another."""
        issues = {i.issue: i for i in load_catalogs().issues if (i.maker, i.catalog) == (maker, catalog)}
        if old not in issues or new not in issues:
            raise Problem("not-found", f"{catalog} has no issue {old if old not in issues else new} here.", status=404)
        changes = compare_issues(issues[old], issues[new])
        return Response(IssueChangeSerializer(changes, many=True).data)


def source_row(row: Source) -> dict[str, Any]:
    """One source with how it answered."""
    names = ("id", "kind", "address", "proxy", "maker", "added_at", "answered_at", "said", "failed_at", "failure")
    trust = f"TUF root {read_root(bytes(row.root))}" if row.root else ""
    return {**{name: getattr(row, name) for name in names}, "trust": trust}


class SourcesView(APIView):
    parser_classes = [JSONParser]

    @extend_schema(responses=SourceSerializer(many=True))
    def get(self, request) -> Response:
        """Where catalogs come from, when each last answered and what failed."""
        return Response(SourceSerializer([source_row(r) for r in Source.objects.order_by("pk")], many=True).data)

    @extend_schema(request=NewSourceSerializer, responses={201: SourceSerializer})
    def post(self, request) -> Response:
        """Add a mirror by its https address, or a folder on this machine by its path. It is not asked yet."""
        body = NewSourceSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked = body.validated_data
        values: dict[str, Any] = {"maker": asked["maker"], "proxy": check_proxy(asked["proxy"])}
        if asked["address"].startswith("/"):
            values |= {"kind": Source.Kind.FOLDER, "address": check_folder(asked["address"])}
        else:
            values |= {"kind": Source.Kind.MIRROR, "address": check_mirror(asked["address"], bool(asked["tuf_root"]))}
        if asked["tuf_root"]:
            values["root"] = asked["tuf_root"].encode()
            read_root(values["root"])
        try:
            with transaction.atomic():
                row = Source.objects.create(added_at=now(), **values)
        except IntegrityError:
            raise Problem("source-known", f"{values['address']} is a source already.", field="address") from None
        tell("sources", id=row.pk)
        return Response(SourceSerializer(source_row(row)).data, status=201)


def check_proxy(proxy: str) -> str:
    """A proxy is an http address; raises Problem otherwise."""
    if proxy and (urlsplit(proxy).scheme != "http" or not urlsplit(proxy).hostname):
        raise Problem("bad-proxy", f"{proxy} is no proxy address: http://host:port is meant.", field="proxy")
    return proxy


def check_mirror(address: str, has_root: bool) -> str:
    """A mirror is spoken to over https only; raises Problem otherwise."""
    parts = urlsplit(address)
    if parts.scheme != "https" or not parts.hostname or parts.username:
        message = f"{address} is neither an https address nor a folder's path. Catalogs are fetched over https only."
        raise Problem("bad-source", message, field="address")
    if is_address(parts.hostname) and not settings.EGRESS.allows(parts.hostname):
        raise Problem(
            "bad-source", f"{parts.hostname} is not in the networks that this house goes out to.", field="address"
        )
    if has_root:
        return address if address.endswith("/") else address + "/"
    return address + "index.json" if address.endswith("/") else address


def check_folder(address: str) -> str:
    """A folder must lie where the house allows; raises Problem otherwise."""
    path = Path(address).resolve()
    if not any(path.is_relative_to(folder) for folder in settings.FOLDERS):
        allowed = ", ".join(str(folder) for folder in settings.FOLDERS)
        message = f"{address} lies outside the folders this house allows ({allowed})."
        raise Problem("not-allowed", message, field="address")
    if not path.is_dir():
        raise Problem("not-found", f"There is no folder {address} on the machine Ordnung runs on.", field="address")
    return str(path)


class SourceView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Forget a source; what it brought stays."""
        get_object_or_404(Source, pk=pk).delete()
        tell("sources", id=pk)
        return Response(status=204)


class SourcesFetchView(APIView):
    @extend_schema(request=SourcesFetchSerializer, responses={202: WorkSerializer})
    def post(self, request) -> Response:
        """Look at sources, all or the named ones; the engine does it."""
        body = SourcesFetchSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        known = list(Source.objects.order_by("pk").values_list("pk", flat=True))
        names = body.validated_data.get("sources") or known
        if not names or set(names) - set(known):
            raise Problem("not-found", "There is no such source. Add one first.", field="sources")
        title = f"Looking for catalogs at {len(names)} source{'' if len(names) == 1 else 's'}"
        work = ask_for("catalogs", title, 0, "bytes", {"sources": names})
        return Response(WorkSerializer(work).data, status=202)


class KeysView(APIView):
    @extend_schema(responses=KeySerializer(many=True))
    def get(self, request) -> Response:
        """The keys this house trusts to sign catalogs."""
        return Response(KeySerializer(TrustedKey.objects.order_by("maker", "name"), many=True).data)

    @extend_schema(request=NewKeySerializer, responses={201: KeySerializer})
    def post(self, request) -> Response:
        """Trust a key for a maker. From then on nothing of that maker comes in unsigned."""
        body = NewKeySerializer(data=request.data)
        body.is_valid(raise_exception=True)
        values = {**body.validated_data, "key": read_key(body.validated_data["key"]).hex()}
        try:
            with transaction.atomic():
                row = TrustedKey.objects.create(added_at=now(), added_by=request.user.username, **values)
        except IntegrityError:
            raise Problem("name-taken", f"There is a key {values['name']} already.", field="name") from None
        tell("sources")
        return Response(KeySerializer(row).data, status=201)


class KeyView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Trust a key no longer; what it signed stays, marked by its name."""
        get_object_or_404(TrustedKey, pk=pk).delete()
        tell("sources")
        return Response(status=204)
