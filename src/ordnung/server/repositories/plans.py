"""What would be packed: for chosen servers, by a revision of the baseline, with trims."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ordnung.core.assessment import Standing, assess_fleet
from ordnung.core.foresee import foreseen
from ordnung.core.media import TooLargeError, spread
from ordnung.core.packing import Packed, Trim, kept, plan_packing
from ordnung.engine.boot_base import BootBase
from ordnung.engine.compose import CatalogFile, Documents, everywhere_bytes, issues_of, payload_paths
from ordnung.formats.documents import write_document
from ordnung.server.advisories.models import AdvisoryFile
from ordnung.server.assessment.current import current_assessment, load_catalogs
from ordnung.server.baselines.current import decided
from ordnung.server.baselines.exclusions import reviewed
from ordnung.server.baselines.models import Revision
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.problems import Problem


@dataclass(frozen=True, slots=True)
class Plan:
    """A packing list with what it was worked out from."""

    standings: list[Standing]
    lines: tuple[Packed, ...]
    trims: tuple[Trim, ...]
    revision: Revision


def make_plan(names: list[str] | None, trims: Sequence[Trim] = (), revision: int | None = None) -> Plan:
    """The packing list for servers. Raises Problem for a revision or a server that is not there."""
    assessment = current_assessment()
    unknown = [name for name in names or () if name not in assessment.standings]
    if unknown:
        raise Problem("unknown-server", f"There is no server {unknown[0]} here.", field="servers")
    row = Revision.objects.filter(number=revision or assessment.baseline.number).first()
    if row is None:
        raise Problem("not-found", f"There is no revision {revision}.", status=404, field="revision")
    chosen, catalogs, rules = assessment.chosen(names), assessment.catalogs, assessment.baseline.rules
    if row.number != assessment.baseline.number:
        other = decided(row)
        catalogs, rules = load_catalogs(other.follows), other.rules
        chosen = list(assess_fleet([standing.server for standing in chosen], catalogs, rules, now().date()))
    standings = reviewed(chosen)
    later = reviewed(foreseen(standings, catalogs, rules, now().date()))
    return Plan(standings, plan_packing([*standings, *later], trims), tuple(trims), row)


def gather_documents(plan: Plan) -> Documents:
    """The catalogs, rules and advisories that belong to a packing list."""
    issues = issues_of(plan.standings)
    catalogs = [
        CatalogFile(maker=row.maker, catalog=row.catalog, issue=row.issue, raw=bytes(row.raw), signed_by=row.signed_by)
        for row in CatalogIssue.objects.order_by("maker", "catalog", "issue")
        if (row.maker, row.catalog, row.issue) in issues
    ]
    models = {standing.server.model for standing in plan.standings}
    follows = [
        entry
        for entry in plan.revision.follows
        if entry["model"] in models and (entry["maker"], entry["catalog"], entry["issue"]) in issues
    ]
    return Documents(
        catalogs=catalogs,
        advisories={row.name: bytes(row.raw) for row in AdvisoryFile.objects.order_by("name")},
        rules=write_document(plan.revision.rules),
        follows=follows,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class MediaRow:
    """How a packing list fills media of one size; ``places`` says on which each payload is."""

    capacity: int | None
    everywhere: int
    filled: list[int]
    places: dict[str, int]
    too_large: str


def media_row(plan: Plan, capacity: int | None, boot: BootBase | None = None) -> MediaRow:
    """How the packing list, and a boot system with it, fills media of this size; ``too_large``: what fits on none."""
    lines = [line for line in kept(plan.lines) if line.release.payload is not None]
    paths = payload_paths(lines)
    documents = gather_documents(plan)
    extra = everywhere_bytes(documents, len(lines) + len(documents.by_path()), boot)
    try:
        found = spread([(paths[line.name], line.size) for line in lines], capacity, extra)
    except TooLargeError as error:
        return MediaRow(capacity=capacity, everywhere=extra, filled=[], places={}, too_large=str(error))
    places = {f"{line.product.id} {line.release.version}": found.places[paths[line.name]] for line in lines}
    return MediaRow(capacity=capacity, everywhere=extra, filled=list(found.filled), places=places, too_large="")
