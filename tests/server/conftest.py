"""What the server's tests share: a person at a browser, the demo's catalogs, stand-ins' networks allowed."""

from __future__ import annotations

import functools
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.core.cache import cache
from django.db import connection
from django.test import Client

from ordnung.core.catalog import Issue
from ordnung.formats.addresses import parse_networks
from ordnung.formats.catalog import parse_catalog
from ordnung.server.audit import recording
from ordnung.server.catalogs import bring_in
from ordnung.server.rights.rights import Right, give_rights


@pytest.fixture(scope="session")
def django_db_setup(django_db_setup, django_db_blocker):
    """The tests empty their database between them, which the trail's own guard would refuse."""
    with django_db_blocker.unblock(), connection.cursor() as cursor:
        for table in ("trailentry", "trailhead"):
            cursor.execute(f"DROP TRIGGER audit_{table}_stays_delete")


@pytest.fixture(autouse=True)
def stand_in_networks(settings):
    settings.NETWORKS = parse_networks("127.20.0.0/16")
    settings.EGRESS = parse_networks("127.0.0.0/8")


@pytest.fixture(autouse=True)
def no_entry_is_late(monkeypatch):
    """Every command writes its own entry of the audit trail, in its own transaction."""

    def late(command):
        raise AssertionError(f"{command} changed something and wrote no entry in the audit trail")

    monkeypatch.setattr(recording, "tell_late", late)


@pytest.fixture(autouse=True)
def fresh_house():
    """Databases come and go under one process: nothing of the last one is remembered."""
    for forget in recording.UNDONE:
        forget()
    cache.clear()


@pytest.fixture
def person():
    """A person with all rights."""
    return make_person("technician")


def make_person(name: str, *rights: Right) -> User:
    """Somebody who may sign in; with all rights unless some are named."""
    user = User.objects.create_user(name, password="tide-table")
    give_rights(user, rights or Right)
    return user


@pytest.fixture
def web(person):
    client = Client()
    client.force_login(person)
    return client


@functools.cache
def read_issues(folder: Path) -> list[tuple[bytes, Issue]]:
    """Every catalog of the mirror, read once for all tests."""
    raws = [path.read_bytes() for path in sorted((folder / "catalogs").glob("*.json"))]
    return [(raw, parse_catalog(raw)) for raw in raws]


@pytest.fixture
def catalogs(mirror_folder, web):
    """The issues of the mirror as if each had been brought in: how that is done, others ask (``test_catalogs``)."""
    for raw, issue in read_issues(mirror_folder):
        bring_in._store(issue, raw, "", f"{issue.catalog}.json")
        bring_in.see(issue.maker, issue.catalog, issue.issue, issue.issued)
