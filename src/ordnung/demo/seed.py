"""Put the scenario into an empty site: the technician, the groups, the servers, the catalogs. Nothing is read yet."""

from __future__ import annotations

import datetime
import hashlib
import json
import os
import shutil
import sys
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import django

from ordnung.core.rules import Rule
from ordnung.demo.house import seed_desk, seed_house
from ordnung.demo.reports import write_reports
from ordnung.formats.logs import configure_logs
from ordnung.standins.publishing import SIGNER, public_key

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")

PEOPLE = {
    "lead": "spring-tide-ledger",
    "technician": "slack-water-bench",
    "approver": "harbour-lamp-oath",
    "viewer": "gauge-house-window",
}
"""Sign-in names and demo passwords, printed at start."""
RIGHTS = {
    "lead": ("look", "plan", "run", "approve", "keep"),
    "technician": ("look", "plan", "run"),
    "approver": ("look", "approve"),
    "viewer": ("look",),
}
"""What each of them may do."""


def seed_people() -> None:
    """The demo's people, each with their rights; those who are there stay as they are."""
    from django.contrib.auth.models import User

    from ordnung.server.rights.rights import Right, give_rights

    for name, password in PEOPLE.items():
        if not User.objects.filter(username=name).exists():
            give_rights(User.objects.create_user(name, password=password), [Right(right) for right in RIGHTS[name]])


def seed(announcement: dict[str, Any], catalogs: Path) -> None:
    """Add what is not there yet; addresses follow the stand-ins'. Seeding twice changes nothing."""
    from ordnung.server.advisories.store import bring_in_advisory
    from ordnung.server.catalogs.bring_in import bring_in
    from ordnung.server.catalogs.models import CatalogIssue

    seed_people()
    seed_house()
    _seed_servers(announcement)
    seed_desk(**announcement["desk"])
    _move_sources(announcement)
    if CatalogIssue.objects.exists():
        return
    _trust_corvane()
    for path in sorted(catalogs.glob("*.json")):
        beside = path.with_name(path.name + ".sig")
        signature = bytes.fromhex(beside.read_text()) if beside.exists() else None
        bring_in(path.read_bytes(), f"{announcement['mirror']}catalogs/{path.name}", signature=signature)
    for path in sorted((catalogs.parent / "advisories").glob("*.json")):
        bring_in_advisory(path.read_bytes(), f"{announcement['mirror']}advisories/{path.name}")
    _seed_sources(announcement, catalogs.parent)
    _seed_revision()


def _move_sources(announcement: dict[str, Any]) -> None:
    """The stand-ins' mirrors may have other ports than last time; the second one is a place for payloads."""
    from ordnung.server.catalogs.models import Source
    from ordnung.server.clock import now
    from ordnung.server.repositories.models import FetchPlace

    for row in Source.objects.filter(kind="mirror"):
        name = row.address.rsplit("/", 1)[-1]
        Source.objects.filter(pk=row.pk).update(address=f"{announcement['mirror']}{name}")
    depot = announcement["depot"]
    FetchPlace.objects.filter(added_by="lead").exclude(base=depot).delete()
    FetchPlace.objects.get_or_create(base=depot, defaults={"added_at": now(), "added_by": "lead"})


def _trust_corvane() -> None:
    """Corvane signs its catalogs; Quorrin does not, and is marked so."""
    from ordnung.server.catalogs.models import TrustedKey
    from ordnung.server.clock import now

    values = {"key": public_key("Corvane"), "added_at": now(), "added_by": "lead"}
    TrustedKey.objects.get_or_create(maker="Corvane", name=SIGNER, defaults=values)


def _seed_sources(announcement: dict[str, Any], mirror: Path) -> None:
    """Two mirrors, and the folder into which Pellam's packages are put, since Pellam publishes no catalog."""
    from django.conf import settings

    from ordnung.server.catalogs.models import Source
    from ordnung.server.clock import now

    folder = settings.FOLDERS[0] / "pellam"
    for path in sorted((mirror / "pellam").rglob("*.pldm")):
        place = folder / path.relative_to(mirror / "pellam")
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(path, place)
    for maker in ("corvane", "quorrin"):
        address = f"{announcement['mirror']}{maker}-index.json"
        Source.objects.get_or_create(address=address, defaults={"kind": "mirror", "added_at": now()})
    Source.objects.get_or_create(
        address=str(folder), defaults={"kind": "folder", "maker": "Pellam", "added_at": now()}
    )  # fmt: skip


RULES = (
    Rule(
        do="hold", where={"kind": ("power",)}, author="lead", until=datetime.date(2027, 3, 1),
        reason="a failed write can kill a power supply: replaced by hand, with a spare at hand, not flashed",
    ),
    Rule(
        do="pin", where={"product": ("quorrin.q25",)}, version="24.2.8", author="lead",
        reason="newer releases drop links with the old optics",
    ),
    Rule(do="wait", days=14, unless_score=9.0, author="lead", reason="let others meet the first faults"),
)  # fmt: skip
"""What the office decided in revision 2."""


def _seed_revision() -> None:
    """Revision 2, made by the lead: each model follows the last issue that covers it, spelled out."""
    from ordnung.formats.rules import rules_document
    from ordnung.server.assessment.current import load_catalogs
    from ordnung.server.baselines.current import follows_rows, latest
    from ordnung.server.baselines.models import Revision
    from ordnung.server.clock import now
    from ordnung.server.work.events import tell
    from ordnung.standins.models import MODELS

    if latest().number > 1:
        return
    follows = load_catalogs({}).freeze(model.name for model in MODELS)
    Revision.objects.create(
        number=2, rules=rules_document(RULES), follows=follows_rows(follows), basis=1, made_at=now(), made_by="lead",
        note="Rules of the office; Reed 12 stays with the September issue, the last that covers it.",
    )  # fmt: skip
    tell("baselines", number=2)


def _seed_servers(announcement: dict[str, Any]) -> None:
    from ordnung.server.fleet.models import Group, Server
    from ordnung.server.work.events import tell
    from ordnung.standins.scenario import GROUPS, KNOWN_BY_ANOTHER_CERTIFICATE, PLACES

    groups = {
        name: Group.objects.get_or_create(name=name, defaults={"may_be_away": n})[0] for name, n in GROUPS.items()
    }
    targets = {target["name"]: target for target in announcement["targets"]}
    known = {row.name: row for row in Server.objects.all()}
    for place in PLACES:
        target, row = targets[place.name], known.get(place.name)
        if row is None:
            row = Server(
                name=place.name, url=target["url"], user=target["user"], room=place.room, rack=place.rack,
                unit=place.unit, height=place.model.height, role=place.role, group=groups[place.group],
            )  # fmt: skip
            row.set_password(target["password"])
            if place.name == KNOWN_BY_ANOTHER_CERTIFICATE:
                row.pin = hashlib.sha256(b"the certificate it had before").hexdigest()
        if row.pk is None or row.url != target["url"]:
            row.url = target["url"]
            row.save()
    tell("readings", servers=[place.name for place in PLACES])


def check_addresses(announcement: dict[str, Any]) -> None:
    """Every stand-in is on loopback: the demo never speaks to anything else. Raises ValueError otherwise."""
    for target in announcement["targets"]:
        if not (urlsplit(target["url"]).hostname or "").startswith("127."):
            raise ValueError(f"{target['url']} is not a loopback address")


if __name__ == "__main__":
    configure_logs(for_people=True)
    django.setup()
    announced = json.loads(Path(sys.argv[1]).read_text())
    check_addresses(announced)
    seed(announced, Path(sys.argv[2]))
    write_reports(Path(sys.argv[1]).parent / "host-reports", datetime.datetime.now(datetime.UTC))
