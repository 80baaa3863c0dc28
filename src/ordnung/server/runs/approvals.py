"""A second person approves a sheet as it stands; any change but leaving servers out takes a new approval (P4)."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from ordnung.core.run_sheet import RunSheet, compare_sheets, only_leaves_out
from ordnung.core.sheet import DiscPart, PlannedRound
from ordnung.engine.entry_codec import parse_rounds
from ordnung.formats.sheet import Approval, approval_bytes
from ordnung.server.audit.heads import public_half, site_key
from ordnung.server.audit.recording import record
from ordnung.server.clock import now
from ordnung.server.house.settings import house
from ordnung.server.problems import Problem
from ordnung.server.runs.documents import keep_revision, present_sheet, revised
from ordnung.server.runs.models import Run, RunServer, SheetApproval
from ordnung.server.work.events import tell


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalRow:
    """``holds``: the sheet is what was approved, but for servers left out; else ``since`` says what is not."""

    by: str
    at: datetime.datetime
    revision: int
    holds: bool
    since: str


def approve(run: Run, person: str, sha256: str) -> None:
    """A person approves a sheet, by the sum of what they saw.

    Raises:
        Problem: it is no draft, they drafted it, have approved it already, or it was changed meanwhile.
    """
    if run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{run.name} was started already.", status=409)
    if run.drafted_by == person:
        raise Problem("second-person", f"You drafted {run.name}; somebody else has to approve it.", status=403)
    revision = keep_revision(run, person, "approved as it stood")
    if revision.sha256 != sha256:
        message = f"{run.name} was changed while you looked at it. Look at it again, then approve it."
        raise Problem("changed", message, status=409)
    if run.approvals.filter(revision=revision, by=person).exists():
        raise Problem("approved", f"You have approved {run.name} already.", status=409)
    key, at = site_key(), now().replace(microsecond=0)
    SheetApproval.objects.create(
        run=run, revision=revision, by=person, at=at, key=public_half(key),
        signature=key.sign(approval_bytes(revision.sha256, person, at)).hex(),
    )  # fmt: skip
    record(on={"run": run.pk}, after={"name": run.name, "revision": revision.number, "sha256": revision.sha256})
    tell("runs", id=run.pk)


def take_approval_back(run: Run, person: str) -> None:
    """A person no longer approves a sheet. Raises Problem: it was started, or they have not approved it."""
    if run.state != Run.State.DRAFT:
        raise Problem("not-a-draft", f"{run.name} was started already.", status=409)
    gone, _ = run.approvals.filter(by=person).delete()
    if not gone:
        raise Problem("not-approved", f"You have not approved {run.name}.", status=404)
    record(on={"run": run.pk}, before={"name": run.name})
    tell("runs", id=run.pk)


def approval_rows(run: Run) -> list[ApprovalRow]:
    """Who has approved a sheet, and whether that still holds."""
    found = list(run.approvals.select_related("revision"))
    if not found:
        return []
    present = present_sheet(run)
    return [_row(approval, present) for approval in found]


def _row(approval: SheetApproval, present: RunSheet) -> ApprovalRow:
    approved = revised(approval.revision)
    holds = only_leaves_out(approved, present)
    changes = [] if holds else [d for d in compare_sheets(approved, present) if d.after != "not on it"]
    told = [f"{d.server + ': ' if d.server else ''}{d.what}" for d in changes[:3]]
    more = f" and {len(changes) - 3} more" if len(changes) > 3 else ""
    return ApprovalRow(
        by=approval.by, at=approval.at, revision=approval.revision.number, holds=holds, since=", ".join(told) + more
    )


def demand_approval(run: Run, person: str) -> None:
    """Raises Problem where the house wants a sheet approved and it is not, or wants another person to start it."""
    decided, rows = house(), approval_rows(run)
    holding = [row.by for row in rows if row.holds]
    if decided.approval and not holding:
        since = f" It was approved by {rows[-1].by}, but changed since: {rows[-1].since}." if rows else ""
        message = f"{run.name} has to be approved by somebody else than {run.drafted_by} before it starts.{since}"
        raise Problem("not-approved", message, status=409)
    if decided.starter_apart and person in (run.drafted_by, *holding):
        message = f"This house wants {run.name} started by somebody who neither drafted nor approved it."
        raise Problem("second-person", message, status=403)


def approved_writes(place: RunServer) -> frozenset[tuple[str, str]]:
    """Slots of a server with what its sheet brings them: payloads by their sums, or a bank."""
    rounds: tuple[PlannedRound, ...] = parse_rounds(place.rounds)
    return frozenset((p.write.slot, p.brings) for step in rounds for p in step.writes if p.brings)


def planned_slots(place: RunServer) -> frozenset[str]:
    """The slots of a server that its sheet writes to, be it by the kit on a disc."""
    rounds: tuple[PlannedRound, ...] = parse_rounds(place.rounds)
    return frozenset(p.write.slot for step in rounds for p in step.writes if p.disc in (None, DiscPart.KIT))


def approvals_of(run: Run) -> tuple[Approval, ...]:
    """The approvals as the file of a sheet has them."""
    present = present_sheet(run)
    found = []
    for row in run.approvals.select_related("revision"):
        was = revised(row.revision)
        found.append(
            Approval(
                by=row.by, at=row.at, sha256=row.revision.sha256, key=row.key, signature=row.signature,
                sheet=was if compare_sheets(was, present) else None,
            )
        )  # fmt: skip
    return tuple(found)
