"""What people do with repositories from elsewhere: carry in, try again, take the baseline."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.db import transaction

from ordnung.server.audit.recording import record, recorded
from ordnung.server.baselines.current import latest
from ordnung.server.baselines.models import Revision
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.repositories.models import Arrival, Repository, Upload
from ordnung.server.repositories.uploads import upload_path, upload_row
from ordnung.server.work.events import tell
from ordnung.server.work.orders import ask_for


def place_of_upload(upload: Upload) -> tuple[Path, str]:
    """Where a file that was sent lies, and its name. Raises Problem when it has not come whole."""
    if upload_row(upload).received != upload.size:
        raise Problem("not-whole", f"{upload.name} has not come whole yet.", status=409, field="upload")
    return upload_path(upload), upload.name


def place_on_machine(text: str) -> tuple[Path, str]:
    """A path on this machine, and its name. Raises Problem when it is not allowed, or not there."""
    path = Path(text or "-").resolve()
    if not any(path.is_relative_to(folder) for folder in settings.FOLDERS):
        allowed = " and ".join(str(folder) for folder in settings.FOLDERS)
        raise Problem("not-allowed", f"Repositories are carried in from below {allowed}.", field="place")
    if not path.exists():
        raise Problem("not-found", f"There is nothing at {path}.", status=404, field="place")
    return path, path.name


def begin_arrival(place: tuple[Path, str], trust: str, expired_reason: str, person: str) -> Arrival:
    """Put a carry-in before the engine; it is verified whole before anything is stored."""
    path, name = place
    with transaction.atomic():
        row = Arrival.objects.create(
            place=str(path), name=name, trust=trust, expired_reason=expired_reason, asked_at=now(), asked_by=person
        )
        ask_for("carry-in", f"Carrying in {name}", 0, "bytes", {"arrival": row.pk})
    tell("repositories")
    return row


def try_again(before: Arrival, trust: str, expired_reason: str, person: str) -> Arrival:
    """Try again what was refused: trusting its keys, or in spite of its expired seal.

    Raises:
        Problem: it is under way, is not there any more, or was sealed by other keys.
    """
    if before.state == Arrival.State.CHECKING:
        raise Problem("busy", f"{before.name} is being carried in.", status=409)
    if not Path(before.place).exists():
        raise Problem("not-found", f"{before.name} is not there any more.", status=404)
    if trust and trust != before.root_key:
        raise Problem("other-keys", "These are not the keys that sealed it.", field="trust")
    return begin_arrival((Path(before.place), before.name), trust, expired_reason, person)


def take_baseline(row: Repository, person: str) -> Revision:
    """Make the rules and the followed issues of a carried-in repository this site's next revision.

    Raises:
        Problem: it carries no rules.
    """
    if row.rules is None:
        raise Problem("no-baseline", f"{row.name} carries no rules.", status=409)
    here = set(CatalogIssue.objects.values_list("maker", "catalog", "issue"))
    follows = [f for f in row.follows if (f["maker"], f["catalog"], f["issue"]) in here]
    with recorded():
        before = latest()
        note = f"From {row.name}, edition {row.edition}: its revision {row.revision}."
        fresh = Revision.objects.create(
            number=before.number + 1, rules=row.rules, follows=follows, basis=before.number, made_at=now(),
            made_by=person, note=note,
        )  # fmt: skip
        record(before={"revision": before.number}, after={"revision": fresh.number, "note": note})
    tell("baselines", number=fresh.number)
    return fresh
