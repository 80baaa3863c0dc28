"""The baseline: what holds, drafts with their effect, revisions, and the release line of a product."""

from __future__ import annotations

import datetime
from dataclasses import asdict, dataclass
from typing import Any

from django.db import IntegrityError
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ordnung.core.coverage import list_unlisted
from ordnung.core.matching import Follows
from ordnung.core.releases import Conflict, find_conflicts
from ordnung.core.rule_check import check_rules, fit_together
from ordnung.core.rules import Rule
from ordnung.formats.text import whole_number
from ordnung.server.api.catalogs import IssueRow, issue_rows
from ordnung.server.api.paging import paged, rows_of
from ordnung.server.assessment.current import Assessment, current_assessment, load_catalogs
from ordnung.server.assessment.effects import (
    DraftEffectRow,
    EffectRow,
    draft_row,
    effect_between,
    effect_of,
    effect_row,
    tell_differences,
)
from ordnung.server.assessment.release_line import ReleaseLineRow, release_line
from ordnung.server.audit.recording import record, recorded
from ordnung.server.baselines.current import decided, follows_rows, latest, read_follows, read_rules
from ordnung.server.baselines.models import Draft, Revision
from ordnung.server.baselines.rows import (
    NAMES_SHOWN,
    BaselineLineRow,
    CoverageRow,
    RuleRow,
    coverage_rows,
    line_rows,
    rule_rows,
)
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.shapes import anything, limited, read, row_from, shape
from ordnung.server.work.events import tell

MAX_RULES = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class UnlistedRow:
    name: str
    kind: str
    software_id: str | None
    model: str
    reason: str
    components: int
    servers: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Follow:
    model: str = limited(allow_blank=True, max_length=200)
    maker: str = limited(max_length=200, allow_blank=True)
    catalog: str = limited(max_length=200, allow_blank=True)
    issue: str = limited(max_length=200, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class RevisionRow:
    number: int
    note: str
    basis: int | None
    made_at: datetime.datetime
    made_by: str
    frozen: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RevisionDetailRow(RevisionRow):
    rules: Any = anything()
    follows: list[Follow]


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """Rules as an ``ordnung.rules/1`` document, and what models follow."""

    rules: Any = anything()
    follows: list[Follow]


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptDraft(Proposal):
    basis: int


@dataclass(frozen=True, slots=True, kw_only=True)
class NewRevision(KeptDraft):
    note: str = limited(max_length=2000, allow_blank=True)


@dataclass(frozen=True, slots=True, kw_only=True)
class ComparedRow:
    one: RevisionRow
    other: RevisionRow
    differences: list[str]
    effect: EffectRow


@dataclass(frozen=True, slots=True, kw_only=True)
class BaselineRow:
    revision: RevisionDetailRow
    issues: list[IssueRow]
    coverage: list[CoverageRow]
    rules: list[RuleRow]
    lines: list[BaselineLineRow]
    unlisted: list[UnlistedRow]
    conflicts: list[Conflict]
    draft: KeptDraft | None
    groups: list[str]


class BaselineView(APIView):
    @extend_schema(responses=shape(BaselineRow))
    def get(self, request: Request) -> Response:
        """Which release each product should run, which rule made it so, and what covers which model."""
        assessment = current_assessment()
        rules = assessment.baseline.rules
        findings = check_rules(fit_together(assessment.folds, rules, assessment.groups), rules, now().date())
        kept = Draft.objects.filter(person=request.user.username).first()
        body = BaselineRow(
            revision=whole_revision_row(latest()),
            issues=issue_rows(),
            coverage=coverage_rows(assessment.models, assessment.catalogs),
            rules=rule_rows(rules, findings, assessment.catalogs.by_id),
            lines=line_rows([fold.placed for fold in assessment.folds]),
            unlisted=[
                row_from(UnlistedRow, line, servers=list(line.servers[:NAMES_SHOWN]))
                for line in list_unlisted(assessment.folds)
            ],
            conflicts=list(find_conflicts(assessment.catalogs.issues)),
            draft=row_from(KeptDraft, kept) if kept else None,
            groups=sorted({group for group in assessment.groups.values() if group}),
        )
        return Response(body)


def revision_row(row: Revision) -> RevisionRow:
    """One revision without its rules."""
    return row_from(RevisionRow, row, frozen=bool(row.follows))


def whole_revision_row(row: Revision) -> RevisionDetailRow:
    """One revision with its rules."""
    # Revision 1 follows what comes; spelled out as it is now, a draft can begin from it.
    follows = row.follows or follows_rows(load_catalogs({}).freeze(current_assessment().models))
    return row_from(RevisionDetailRow, row, frozen=bool(row.follows), follows=follows)


def read_proposal(assessment: Assessment, asked: Proposal) -> tuple[tuple[Rule, ...], Follows]:
    """Rules and choices of a draft. Raises FormatError or Problem when they can't be."""
    rules = read_rules(asked.rules)
    if len(rules) > MAX_RULES:
        raise Problem("too-many", f"More than {MAX_RULES} rules.", field="rules")
    issues = {(i.maker, i.catalog, i.issue): i for i in assessment.catalogs.issues}
    for row in asked.follows:
        if not row.maker:
            continue
        issue = issues.get((row.maker, row.catalog, row.issue))
        if issue is None or (row.model and not issue.covers(row.model)):
            why = "is not here" if issue is None else f"does not cover {row.model}"
            raise Problem("no-such-issue", f"{row.catalog} {row.issue} {why}.", field="follows")
    return rules, read_follows([asdict(row) for row in asked.follows])


class EffectView(APIView):
    @extend_schema(request=shape(Proposal), responses=shape(DraftEffectRow))
    def post(self, request: Request) -> Response:
        """What a draft would change on this fleet, before it is made. Nothing is stored."""
        asked = read(Proposal, request)
        assessment = current_assessment()
        rules, follows = read_proposal(assessment, asked)
        return Response(draft_row(assessment, rules, follows))


class DraftView(APIView):
    @extend_schema(request=shape(KeptDraft), responses={204: None})
    def put(self, request: Request) -> Response:
        """Keep what this person is working on."""
        asked = read(KeptDraft, request)
        read_proposal(current_assessment(), asked)
        with recorded():
            values = {**asdict(asked), "changed_at": now()}
            Draft.objects.update_or_create(person=request.user.username, defaults=values)
            record(after={"rules": asked.rules})
        return Response(status=204)

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        """Throw this person's draft away."""
        Draft.objects.filter(person=request.user.username).delete()
        return Response(status=204)


class RevisionsView(APIView):
    @paged(RevisionRow)
    def get(self, request: Request) -> Response:
        """All revisions, newest first."""
        latest()
        return rows_of(request, [revision_row(row) for row in Revision.objects.order_by("-number")])

    @extend_schema(request=shape(NewRevision), responses={201: shape(RevisionDetailRow)})
    def post(self, request: Request) -> Response:
        """Make a new revision. What each model follows is spelled out, so that no later issue changes it."""
        asked = read(NewRevision, request)
        assessment = current_assessment()
        rules, follows = read_proposal(assessment, asked)
        effect = effect_row(effect_of(assessment, rules, follows))
        frozen = {**assessment.catalogs.following(follows).freeze(assessment.models), **follows}
        try:
            with recorded():
                row = self._make(request.user.username, asked, frozen, effect)
                made = {"rules": row.rules, "note": row.note}
                record(on={"revision": row.number}, before={"revision": row.basis}, after=made)
        except IntegrityError:
            raise Problem("revision-taken", "Someone made a revision at this moment. Look at it first.") from None
        return Response(whole_revision_row(row), status=201)

    @staticmethod
    def _make(person: str, asked: NewRevision, frozen: Follows, effect: EffectRow) -> Revision:
        last = latest()
        if asked.basis != last.number:
            detail = f"Revision {last.number} was made by {last.made_by} since this draft was begun from {asked.basis}."
            raise Problem("revision-moved", f"{detail} Compare the two, then make yours.", status=409, field="basis")
        changes = [{"name": c.name, "before": c.before, "after": c.after} for c in effect.changes]
        brief = {**asdict(effect), "changes": changes}
        row = Revision.objects.create(
            number=last.number + 1, rules=asked.rules, follows=follows_rows(frozen), note=asked.note,
            basis=last.number, effect=brief, made_at=now(), made_by=person,
        )  # fmt: skip
        Draft.objects.filter(person=person).delete()
        tell("baselines", number=row.number)
        return row


class RevisionView(APIView):
    @extend_schema(responses=shape(RevisionDetailRow))
    def get(self, request: Request, number: int) -> Response:
        """One revision with its rules: to look at, or as the start of a new one."""
        return Response(whole_revision_row(find_revision(number)))


def find_revision(number: int) -> Revision:
    """A revision by its number."""
    latest()
    return get_object_or_404(Revision, number=number)


class CompareView(APIView):
    @extend_schema(
        responses=shape(ComparedRow),
        parameters=[OpenApiParameter("one", int, required=True), OpenApiParameter("other", int, required=True)],
    )
    def get(self, request: Request) -> Response:
        """Two revisions: what was changed, and what that means for the fleet as it is today."""
        asked = [whole_number(request.query_params.get(name, "")) for name in ("one", "other")]
        if asked[0] is None or asked[1] is None:
            raise Problem("bad-number", "Two numbers of revisions are wanted.", field="one")
        one, other = find_revision(asked[0]), find_revision(asked[1])
        first, second = decided(one), decided(other)
        effect = effect_between(current_assessment(), (first.rules, first.follows), (second.rules, second.follows))
        body = ComparedRow(
            one=revision_row(one),
            other=revision_row(other),
            differences=tell_differences(one, other),
            effect=effect_row(effect),
        )
        return Response(body)


class ReleaseLineView(APIView):
    @extend_schema(responses=shape(ReleaseLineRow))
    def get(self, request: Request, product: str) -> Response:
        """All releases of a product in order, how many components sit on each, and the ways to the baseline."""
        assessment = current_assessment()
        found = assessment.catalogs.by_id.get(product)
        if found is None:
            raise Problem("not-found", f"No catalog lists {product}.", status=404)
        return Response(release_line(found, assessment))
