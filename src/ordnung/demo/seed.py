"""Put the scenario into an empty site: the technician, the groups, the servers, the catalogs. Nothing is read yet."""

from __future__ import annotations

import datetime
import hashlib
import json
import os
import sys
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import django

from ordnung.demo.reports import write_reports

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")

PEOPLE = {"technician": "tide-table"}
"""Sign-in names and demo passwords, printed at start."""


def seed(announcement: dict[str, Any], catalogs: Path) -> None:
    """Add what is not there yet; addresses follow the stand-ins'. Seeding twice changes nothing."""
    from django.contrib.auth.models import User

    from ordnung.server.catalogs.bring_in import bring_in
    from ordnung.server.catalogs.models import CatalogIssue

    for name, password in PEOPLE.items():
        if not User.objects.filter(username=name).exists():
            User.objects.create_user(name, password=password)
    _seed_servers(announcement)
    if not CatalogIssue.objects.exists():
        for path in sorted(catalogs.glob("*.json")):
            bring_in(path.read_bytes(), f"{announcement['mirror']}catalogs/{path.name}")


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
    django.setup()
    announced = json.loads(Path(sys.argv[1]).read_text())
    check_addresses(announced)
    seed(announced, Path(sys.argv[2]))
    write_reports(Path(sys.argv[1]).parent / "host-reports", datetime.datetime.now(datetime.UTC))
