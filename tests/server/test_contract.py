"""The API against its own document: whatever the document allows is answered as it says, and never by an error of ours."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest
import schemathesis
from django.test import Client
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ordnung.server.rights.commands import COMMANDS
from ordnung.server.rights.rights import Right
from tests.server.conftest import make_person
from tests.server.test_api import add_server

pytestmark = pytest.mark.django_db
DOCUMENT = json.loads((Path(__file__).parents[2] / "docs" / "openapi.json").read_text())
API = schemathesis.openapi.from_dict(DOCUMENT)
LEFT_OUT = {"/api/v1/sign-out", "/api/v1/me/password"}
"""They would end the session of the one who asks."""
OPERATIONS = {
    f"{operation.method.upper()} {operation.path}": operation
    for found in API.get_all_operations()
    if (operation := found.ok()).path not in LEFT_OUT
}
EACH = int(os.environ.get("ORDNUNG_FUZZ", "1"))
"""Requests for each operation; more in a soak."""


def ask(client: Client, case):
    """A case as a request of Django's own client; what can't be told in an address is left out of it."""
    path = case.formatted_path
    query = {name: str(value) for name, value in (case.query or {}).items() if value is not None}
    kind = case.media_type or "application/json"
    if case.method in ("GET", "HEAD"):
        return client.get(path, query)
    if kind == "multipart/form-data" and isinstance(case.body, dict):
        fields = {name: value if isinstance(value, bytes) else str(value) for name, value in case.body.items()}
        return client.post(path, fields)
    body = (
        case.body
        if isinstance(case.body, bytes)
        else json.dumps(case.body if isinstance(case.body, dict | list) else {})
    )
    return client.generic(case.method, path, body, content_type=kind)


def documented(case_path: str, method: str) -> set[str]:
    return set(DOCUMENT["paths"][case_path][method.lower()]["responses"])


@pytest.mark.parametrize("right", list(Right))
def test_nothing_that_the_document_allows_is_answered_otherwise_or_by_an_error(right, settings_of_site):
    """Asked by whoever has just the right that it takes; the others are refused whatever they send (test_rights)."""
    add_server("surge-03")
    client = Client(raise_request_exception=False)
    client.force_login(make_person("somebody", right))

    @settings(max_examples=EACH, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    @given(data=st.data())
    def fuzz(data, operation, name):
        case = data.draw(operation.as_strategy())
        answer = ask(client, case)
        told = f"{name} {case.query} {str(case.body)[:300]}: {answer.status_code} {answer.content[:300]!r}"
        assert answer.status_code < 500, told
        codes = documented(operation.path, operation.method)
        assert str(answer.status_code) in codes or (400 <= answer.status_code < 500 and "4XX" in codes), told
        if answer.status_code >= 400:
            assert answer["Content-Type"].startswith("application/problem+json"), told

    for name, operation in OPERATIONS.items():
        if right_of(operation) is right:
            fuzz(operation=operation, name=name)


def right_of(operation) -> Right | None:
    """The right that an operation takes, found by the address of the document in the table of commands."""
    shape = re.sub(r"\{\w+\}", "{}", operation.path.removeprefix("/api/v1/"))
    for (route, method), command in COMMANDS.items():
        if re.sub(r"<\w+:\w+>", "{}", route) == shape and method == operation.method.upper():
            return command.right
    return Right.LOOK


@pytest.fixture
def settings_of_site(settings, tmp_path):
    settings.HOME = tmp_path
    settings.FOLDERS = [tmp_path / "incoming"]


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", "arrivals", {"upload": "no-id"}),
        ("POST", "packing", {"servers": ["surge-03"], "capacity": 2**63}),
        ("POST", "repositories", {"servers": ["surge-03"], "name": "x", "capacity": 2**63}),
        ("PATCH", "servers/surge-03", {"url": "https://]"}),
        ("POST", "servers", {"name": "x", "url": "https://[", "user": "u", "password": "p", "unit": 2**70}),
        ("POST", "searches", {"list": "name,address,unit\nx,127.20.0.1,²\n"}),
        ("POST", "searches", {"addresses": "https://]"}),
        ("GET", "servers?offset=²", None),
        ("GET", "repositories/compare?one=²&other=1", None),
        ("GET", "servers/surge-03/changes?before=²", None),
        ("GET", "drift?limit=²", None),
        ("GET", "baseline/compare?one=²&other=²", None),
        ("GET", "ways-back?server=\x00&slot=\x00", None),
    ],
)
def test_what_once_was_an_error_of_ours_is_a_named_refusal(web, method, path, body, settings_of_site):
    add_server("surge-03")
    raw = json.dumps(body).encode() if body is not None else b""
    answer = web.generic(method, f"/api/v1/{path}", raw, content_type="application/json")
    assert answer.status_code < 500, answer.content
    assert answer.status_code < 400 or answer["Content-Type"] == "application/problem+json"


def test_a_field_that_nobody_knows_is_refused_by_name_and_not_ignored(web):
    answer = web.post("/api/v1/surveys", json.dumps({"servres": ["surge-03"]}), content_type="application/json")
    told = answer.json()
    assert (answer.status_code, told["field"], told["detail"]) == (400, "servres", "is no field of this request.")


@pytest.mark.parametrize("path", ["/api", "/api/v2/servers", "/api/v1/nothing", "/api/v1/uploads/no-id"])
def test_an_unknown_address_of_the_api_is_a_problem_and_not_the_page(web, path):
    answer = web.get(path)
    assert (answer.status_code, answer["Content-Type"]) == (404, "application/problem+json")


def test_refusals_before_a_view_are_problems_too(web, settings):
    strict = Client(enforce_csrf_checks=True)
    forged = strict.post("/api/v1/sign-in", "{}", content_type="application/json")
    assert (forged.status_code, forged.json()["type"]) == (403, "ordnung:no-token")
    wrong = web.get("/api/v1/me", HTTP_HOST="elsewhere.example")
    assert (wrong.status_code, wrong.json()["type"]) == (400, "ordnung:wrong-host")
    settings.DATA_UPLOAD_MAX_MEMORY_SIZE = 10
    large = web.post("/api/v1/surveys", json.dumps({"servers": ["x" * 50]}), content_type="application/json")
    assert (large.status_code, large.json()["type"]) == (413, "ordnung:too-large")


def test_an_error_of_ours_is_a_problem_with_the_id_of_the_log(web, monkeypatch):
    from ordnung.server.api import fleet as views

    def breaks():
        raise ZeroDivisionError("canary")

    monkeypatch.setattr(views, "current_assessment", breaks)
    client = Client(raise_request_exception=False)
    client.cookies = web.cookies
    answer = client.get("/api/v1/servers")
    assert answer.status_code == 500 and "the log has it under" in answer.json()["detail"]
    assert "canary" not in answer.content.decode()


def test_what_the_api_says_is_kept_by_nobody_and_every_answer_carries_its_headers(web):
    for path, kept in (("/api/v1/servers", "no-store"), ("/api/v1/floor", "no-cache"), ("/floor", "no-cache")):
        answer = web.get(path)
        assert kept in answer["Cache-Control"], path
        assert answer["X-Content-Type-Options"] == "nosniff" and answer["X-Frame-Options"] == "DENY"
        assert "default-src 'self'" in answer["Content-Security-Policy"] and answer["Referrer-Policy"] == "same-origin"
