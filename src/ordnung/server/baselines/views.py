"""The baseline as the resulting list with reasons, and the release line of a product."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.baseline import BaselineLine, list_baseline
from ordnung.core.catalog import Product, Release
from ordnung.core.house import Standing
from ordnung.core.rules import FIXED_RULES
from ordnung.server.catalogs.views import IssueSerializer, issue_rows
from ordnung.server.clock import now
from ordnung.server.house import Snapshot, snapshot
from ordnung.server.problems import Problem


class BaselineLineSerializer(serializers.Serializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    target = serializers.CharField(allow_null=True)
    held = serializers.BooleanField()
    issue = serializers.CharField()
    rule = serializers.IntegerField(allow_null=True)
    why = serializers.CharField()
    fitted = serializers.IntegerField()
    servers = serializers.ListField(child=serializers.CharField())
    importance = serializers.CharField(allow_null=True)
    released = serializers.DateField(allow_null=True)


class RuleSerializer(serializers.Serializer):
    do = serializers.CharField()
    what = serializers.CharField()
    reason = serializers.CharField()


class BaselineSerializer(serializers.Serializer):
    issues = IssueSerializer(many=True)
    rules = RuleSerializer(many=True)
    lines = BaselineLineSerializer(many=True)
    unlisted = serializers.ListField(child=serializers.CharField())


class ReleaseSerializer(serializers.Serializer):
    version = serializers.CharField()
    released = serializers.DateField(allow_null=True)
    importance = serializers.CharField(allow_null=True)
    notes = serializers.CharField()
    fixes = serializers.ListField(child=serializers.CharField())
    size = serializers.IntegerField(allow_null=True)
    activation = serializers.CharField(allow_null=True)
    direct_from = serializers.CharField(allow_null=True)
    needs = serializers.ListField(child=serializers.CharField())
    floor_after = serializers.CharField(allow_null=True)
    is_target = serializers.BooleanField()
    is_stop = serializers.BooleanField()
    servers = serializers.ListField(child=serializers.CharField())
    components = serializers.IntegerField()
    waiting = serializers.IntegerField()


class WaySerializer(serializers.Serializer):
    """One leg of a route over this product: from, to, by which reset, and how many components take it."""

    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    to = serializers.CharField()
    reset = serializers.CharField()
    components = serializers.IntegerField()


class ReleaseLineSerializer(serializers.Serializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    held = serializers.BooleanField()
    releases = ReleaseSerializer(many=True)
    ways = WaySerializer(many=True)
    elsewhere = serializers.ListField(child=serializers.CharField())
    floor = serializers.CharField(allow_null=True)


class BaselineView(APIView):
    @extend_schema(responses=BaselineSerializer)
    def get(self, request) -> Response:
        """Which release each product should run, which rule made it so, and where it is fitted."""
        house = snapshot()
        servers = [s.server for s in house.standings.values()]
        lines = list_baseline(servers, house.catalogs, FIXED_RULES, now().date())
        unlisted = sorted(
            f"{p.component.name} in {s.server.name}, {p.component.slot}: {p.match.reason}"
            for s in house.standings.values()
            for p in s.positions
            if p.product is None
        )
        rules = [{"do": r.do, "what": _what(r.where), "reason": r.reason} for r in FIXED_RULES]
        body = {
            "issues": issue_rows(),
            "rules": rules,
            "lines": [_line(line) for line in lines],
            "unlisted": unlisted,
        }
        return Response(BaselineSerializer(body).data)


def _what(where) -> str:
    if not where:
        return "everything else"
    words = {"power": "power supply"}
    return ", ".join(f"every {words.get(v, v)}" for values in where.values() for v in values)


def _line(line: BaselineLine) -> dict[str, Any]:
    release = line.product.find(line.target.version) if line.target.version else None
    return {
        "product": line.product.id,
        "name": line.product.name,
        "kind": line.product.kind,
        "target": line.target.version,
        "held": line.target.held,
        "issue": line.issue,
        "rule": line.target.rule,
        "why": line.target.reason,
        "fitted": line.fitted,
        "servers": list(line.servers),
        "importance": release.importance if release else None,
        "released": release.released if release else None,
    }


class ReleaseLineView(APIView):
    @extend_schema(responses=ReleaseLineSerializer)
    def get(self, request, product: str) -> Response:
        """All releases of a product in order, how many components sit on each, and the ways to the baseline."""
        house = snapshot()
        found = next((p for p in house.catalogs.products() if p.id == product), None)
        if found is None:
            raise Problem("not-found", f"No catalog lists {product}.", status=404)
        return Response(ReleaseLineSerializer(release_line(found, house)).data)


def release_line(product: Product, house: Snapshot) -> dict[str, Any]:
    """The release line of one product over the whole house."""
    seen: dict[str, list[str]] = {}
    waiting: dict[str, int] = {}
    targets: set[str] = set()
    held = False
    ways: dict[tuple[str, str, str], int] = {}
    stops: set[str] = set()
    for standing in house.standings.values():
        for position in standing.positions:
            if position.product is None or position.product.id != product.id:
                continue
            component, target = position.component, position.target
            release = product.find(component.version or "")
            seen.setdefault(release.version if release else component.version or "unread", []).append(
                standing.server.name
            )
            if component.has_waiting and component.waiting:
                waiting[component.waiting] = waiting.get(component.waiting, 0) + 1
            if target is not None:
                held = held or target.held
                targets |= {target.version} if target.version else set()
        for source, to, reset in _legs(standing, product.id):
            ways[source, to, reset] = ways.get((source, to, reset), 0) + 1
            if to not in targets:
                stops.add(to)
    goal = [r for v in targets if (r := product.find(v)) is not None]
    return {
        "product": product.id,
        "name": product.name,
        "kind": product.kind,
        "held": held,
        "releases": [_release(product, r, seen, waiting, targets, stops - targets) for r in product.ordered],
        "ways": [{"source": s, "to": t, "reset": r, "components": n} for (s, t, r), n in sorted(ways.items())],
        "elsewhere": sorted(f"{v} ({len(names)})" for v, names in seen.items() if product.find(v) is None),
        "floor": next((r.floor_after for r in goal if r.floor_after), None),
    }


def _legs(standing: Standing, product: str) -> list[tuple[str, str, str]]:
    return [
        (write.source, write.to, step.reset or "at once")
        for step in standing.route.rounds
        for write in step.writes
        if write.product == product
    ]


def _release(
    product: Product,
    release: Release,
    seen: dict[str, list[str]],
    waiting: dict[str, int],
    targets: set[str],
    stops: set[str],
) -> dict[str, Any]:
    here = seen.get(release.version, [])
    return {
        "version": release.version,
        "released": release.released,
        "importance": release.importance,
        "notes": release.notes,
        "fixes": [f"{f.id} ({f.score})" if f.score is not None else f.id for f in release.fixes],
        "size": release.payload.size if release.payload else None,
        "activation": release.activation,
        "direct_from": release.direct_from,
        "needs": [f"{n.product} {n.at_least or 'below ' + str(n.below)}" for n in release.needs],
        "floor_after": release.floor_after,
        "is_target": release.version in targets,
        "is_stop": release.version in stops,
        "servers": sorted(set(here)),
        "components": len(here),
        "waiting": waiting.get(release.version, 0),
    }
