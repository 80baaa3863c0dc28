"""The baseline: what holds, drafts with their effect, revisions, and the release line of a product."""

from __future__ import annotations

from typing import Any

from django.db import IntegrityError
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.coverage import list_unlisted
from ordnung.core.matching import Follows
from ordnung.core.releases import find_conflicts
from ordnung.core.rule_check import check_rules, fit_together
from ordnung.core.rules import Rule
from ordnung.formats.text import whole_number
from ordnung.server.api.baseline_shapes import (
    BaselineSerializer,
    ComparedSerializer,
    DraftEffectSerializer,
    DraftSerializer,
    NewRevisionSerializer,
    ProposalSerializer,
    ReleaseLineSerializer,
    RevisionDetailSerializer,
    RevisionSerializer,
)
from ordnung.server.api.catalogs import issue_rows
from ordnung.server.assessment.current import Assessment, current_assessment, load_catalogs
from ordnung.server.assessment.effects import draft_row, effect_between, effect_of, effect_row, tell_differences
from ordnung.server.assessment.release_line import release_line
from ordnung.server.audit.recording import record, recorded
from ordnung.server.baselines.current import decided, follows_rows, latest, read_follows, read_rules
from ordnung.server.baselines.models import Draft, Revision
from ordnung.server.baselines.rows import NAMES_SHOWN, coverage_rows, line_rows, rule_rows
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell

MAX_RULES = 200


class BaselineView(APIView):
    @extend_schema(responses=BaselineSerializer)
    def get(self, request) -> Response:
        """Which release each product should run, which rule made it so, and what covers which model."""
        assessment = current_assessment()
        rules = assessment.baseline.rules
        findings = check_rules(fit_together(assessment.folds, rules, assessment.groups), rules, now().date())
        body = {
            "revision": revision_row(latest(), whole=True),
            "issues": issue_rows(),
            "coverage": coverage_rows(assessment.models, assessment.catalogs),
            "rules": rule_rows(rules, findings, assessment.catalogs.by_id),
            "lines": line_rows([fold.placed for fold in assessment.folds]),
            "unlisted": [_unlisted(line) for line in list_unlisted(assessment.folds)],
            "conflicts": find_conflicts(assessment.catalogs.issues),
            "draft": Draft.objects.filter(person=request.user.username).first(),
            "groups": sorted({group for group in assessment.groups.values() if group}),
        }
        return Response(BaselineSerializer(body).data)


def _unlisted(line: Any) -> dict[str, Any]:
    names = ("name", "kind", "software_id", "model", "reason", "components")
    return {**{name: getattr(line, name) for name in names}, "servers": list(line.servers[:NAMES_SHOWN])}


def revision_row(row: Revision, *, whole: bool = False) -> dict[str, Any]:
    """One revision, with its rules if it is to be whole."""
    names = ("number", "note", "basis", "made_at", "made_by")
    values = {**{name: getattr(row, name) for name in names}, "frozen": bool(row.follows)}
    if not whole:
        return values
    # Revision 1 follows what comes; spelled out as it is now, a draft can begin from it.
    follows = row.follows or follows_rows(load_catalogs({}).freeze(current_assessment().models))
    return {**values, "rules": row.rules, "follows": follows}


def read_wanted(assessment: Assessment, body: Any) -> tuple[tuple[Rule, ...], Follows]:
    """Rules and choices of a draft. Raises FormatError or Problem when they can't be."""
    rules = read_rules(body["rules"])
    if len(rules) > MAX_RULES:
        raise Problem("too-many", f"More than {MAX_RULES} rules.", field="rules")
    issues = {(i.maker, i.catalog, i.issue): i for i in assessment.catalogs.issues}
    for row in body["follows"]:
        if not row["maker"]:
            continue
        issue = issues.get((row["maker"], row["catalog"], row["issue"]))
        if issue is None or (row["model"] and not issue.covers(row["model"])):
            why = "is not here" if issue is None else f"does not cover {row['model']}"
            raise Problem("no-such-issue", f"{row['catalog']} {row['issue']} {why}.", field="follows")
    return rules, read_follows(body["follows"])


class EffectView(APIView):
    @extend_schema(request=ProposalSerializer, responses=DraftEffectSerializer)
    def post(self, request) -> Response:
        """What a draft would change on this fleet, before it is made. Nothing is stored."""
        body = ProposalSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        assessment = current_assessment()
        rules, follows = read_wanted(assessment, body.validated_data)
        return Response(draft_row(assessment, rules, follows))


class DraftView(APIView):
    @extend_schema(request=DraftSerializer, responses={204: None})
    def put(self, request) -> Response:
        """Keep what this person is working on."""
        body = DraftSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked = body.validated_data
        read_wanted(current_assessment(), asked)
        values = {**asked, "follows": [dict(row) for row in asked["follows"]], "changed_at": now()}
        with recorded():
            Draft.objects.update_or_create(person=request.user.username, defaults=values)
            record(after={"rules": values["rules"], "note": values.get("note", "")})
        return Response(status=204)

    @extend_schema(responses={204: None})
    def delete(self, request) -> Response:
        """Throw this person's draft away."""
        Draft.objects.filter(person=request.user.username).delete()
        return Response(status=204)


class RevisionsView(APIView):
    @extend_schema(responses=RevisionSerializer(many=True))
    def get(self, request) -> Response:
        """All revisions, newest first."""
        latest()
        rows = [revision_row(row) for row in Revision.objects.order_by("-number")]
        return Response(RevisionSerializer(rows, many=True).data)

    @extend_schema(request=NewRevisionSerializer, responses={201: RevisionDetailSerializer})
    def post(self, request) -> Response:
        """Make a new revision. What each model follows is spelled out, so that no later issue changes it."""
        body = NewRevisionSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        asked, assessment = body.validated_data, current_assessment()
        rules, follows = read_wanted(assessment, asked)
        effect = effect_row(effect_of(assessment, rules, follows))
        frozen = {**assessment.catalogs.following(follows).freeze(assessment.models), **follows}
        try:
            with recorded():
                row = self._make(request.user.username, asked, frozen, effect)
                made = {"rules": row.rules, "note": row.note}
                record(on={"revision": row.number}, before={"revision": row.basis}, after=made)
        except IntegrityError:
            raise Problem("revision-taken", "Someone made a revision at this moment. Look at it first.") from None
        return Response(RevisionDetailSerializer(revision_row(row, whole=True)).data, status=201)

    @staticmethod
    def _make(person: str, asked: Any, frozen: Follows, effect: dict[str, Any]) -> Revision:
        last = latest()
        if asked["basis"] != last.number:
            detail = (
                f"Revision {last.number} was made by {last.made_by} since this draft was begun from {asked['basis']}."
            )
            raise Problem("revision-moved", f"{detail} Compare the two, then make yours.", status=409, field="basis")
        brief = {
            **effect,
            "changes": [{key: change[key] for key in ("name", "before", "after")} for change in effect["changes"]],
        }
        row = Revision.objects.create(
            number=last.number + 1, rules=asked["rules"], follows=follows_rows(frozen), note=asked["note"],
            basis=last.number, effect=brief, made_at=now(), made_by=person,
        )  # fmt: skip
        Draft.objects.filter(person=person).delete()
        tell("baselines", number=row.number)
        return row


class RevisionView(APIView):
    @extend_schema(responses=RevisionDetailSerializer)
    def get(self, request, number: int) -> Response:
        """One revision with its rules: to look at, or as the start of a new one."""
        return Response(RevisionDetailSerializer(revision_row(find_revision(number), whole=True)).data)


def find_revision(number: int) -> Revision:
    """A revision by its number."""
    latest()
    return get_object_or_404(Revision, number=number)


class CompareView(APIView):
    @extend_schema(
        responses=ComparedSerializer,
        parameters=[OpenApiParameter("one", int, required=True), OpenApiParameter("other", int, required=True)],
    )
    def get(self, request) -> Response:
        """Two revisions: what was changed, and what that means for the fleet as it is today."""
        asked = [whole_number(request.query_params.get(name, "")) for name in ("one", "other")]
        if asked[0] is None or asked[1] is None:
            raise Problem("bad-number", "Two numbers of revisions are wanted.", field="one")
        one, other = find_revision(asked[0]), find_revision(asked[1])
        first, second = decided(one), decided(other)
        effect = effect_between(current_assessment(), (first.rules, first.follows), (second.rules, second.follows))
        body = {
            "one": revision_row(one),
            "other": revision_row(other),
            "differences": tell_differences(one, other),
            "effect": effect_row(effect),
        }
        return Response(ComparedSerializer(body).data)


class ReleaseLineView(APIView):
    @extend_schema(responses=ReleaseLineSerializer)
    def get(self, request, product: str) -> Response:
        """All releases of a product in order, how many components sit on each, and the ways to the baseline."""
        assessment = current_assessment()
        found = assessment.catalogs.by_id.get(product)
        if found is None:
            raise Problem("not-found", f"No catalog lists {product}.", status=404)
        return Response(ReleaseLineSerializer(release_line(found, assessment)).data)
