"""At the doors where foreign files come in."""

from __future__ import annotations

import json

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from ordnung.server import apart


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("catalogs", b"{}"),
        ("advisories", b"{}"),
        ("host-reports", b"{}"),
        ("packages", b"{}"),
        ("searches", "a,b\n1,2\n"),
    ],
)
def test_nobody_is_kept_from_writing_while_a_file_is_read(web, monkeypatch, path, body):
    """SQLite has one writer: the engine could not go on with its tapes meanwhile."""
    depths, ask = [], apart._ask

    def watch(budget, request):
        depths.append(len(connection.savepoint_ids))
        return ask(budget, request)

    monkeypatch.setattr(apart, "_ask", watch)
    form = {"list": body} if path == "searches" else {"file": SimpleUploadedFile("file.json", body)}
    kind = {"content_type": "application/json"} if path == "searches" else {}
    answer = web.post(f"/api/v1/{path}", json.dumps(form) if kind else form, **kind)
    assert 400 <= answer.status_code < 500 and depths and set(depths) == {0}, answer.content
