"""What the server's tests share: a person at a browser, the demo's catalogs, stand-ins' networks allowed."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from ordnung.formats.addresses import parse_networks
from ordnung.server import house


@pytest.fixture(autouse=True)
def stand_in_networks(settings):
    settings.NETWORKS = parse_networks("127.20.0.0/16")


@pytest.fixture(autouse=True)
def fresh_house():
    """Databases come and go under one process: nothing of the last one is remembered."""
    house.forget()


@pytest.fixture
def person():
    return User.objects.create_user("technician", password="tide-table")


@pytest.fixture
def web(person):
    client = Client()
    client.force_login(person)
    return client


@pytest.fixture
def catalogs(mirror_folder, web):
    for path in sorted((mirror_folder / "catalogs").glob("*.json")):
        answer = web.post("/api/v1/catalogs", {"file": SimpleUploadedFile(path.name, path.read_bytes())})
        assert answer.status_code == 201, answer.content
