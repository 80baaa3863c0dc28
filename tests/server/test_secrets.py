"""Secrets at rest and on the way: kept under keys of their own, never written down, never told."""

from __future__ import annotations

import io
import json
import logging
import sqlite3
import sys

import pytest
import structlog
from django.core.management import call_command
from django.db import connection
from django.test import Client

from ordnung.formats.logs import configure_logs
from ordnung.server import vault
from ordnung.server.audit.models import TrailEntry
from ordnung.server.fleet.models import Search, Server
from ordnung.server.settings import parse_folders
from tests.server.test_api import add_server
from tests.server.test_rights import send

pytestmark = pytest.mark.django_db
CANARY = "canary-9b1d-hold-this-bird"


@pytest.fixture(autouse=True)
def home(settings, tmp_path):
    settings.HOME = tmp_path
    return tmp_path


# The vault


def test_a_secret_is_read_back_by_its_owner_in_its_table_and_by_nobody_else():
    sealed = vault.encrypt(CANARY, "server", "surge-03")
    assert vault.decrypt(sealed, "server", "surge-03") == CANARY and CANARY.encode() not in sealed
    assert vault.encrypt(CANARY, "server", "surge-03") != sealed, "each has a key and a nonce of its own"
    for table, owner in (("server", "surge-04"), ("search", "surge-03")):
        with pytest.raises(ValueError, match=f"the credentials of {owner} can't be read"):
            vault.decrypt(sealed, table, owner)
    for place in (0, 4, 20, 40, len(sealed) - 1):
        altered = bytearray(sealed)
        altered[place] ^= 1
        with pytest.raises(ValueError, match="can't be read"):
            vault.decrypt(bytes(altered), "server", "surge-03")
    with pytest.raises(ValueError, match="can't be read"):
        vault.decrypt(sealed[:30], "server", "surge-03")


def test_the_key_file_is_made_once_closed_and_refused_when_it_is_loose_or_broken(home):
    first = vault.key_file()
    path = home / "vault.key"
    assert path.stat().st_mode & 0o777 == 0o600 and vault.key_file() is first
    assert set(first.purposes) == set(vault.PURPOSES) and len({*first.keys.values(), *first.purposes.values()}) == 3
    vault.write_keys(vault.KeyFile("x", {"x": b"1" * 32}, first.purposes), path, fresh=True)
    assert vault.key_file() == first, "whoever was quicker has made it"
    path.chmod(0o640)
    with pytest.raises(vault.VaultError, match="can be read by others"):
        vault.key_file()
    path.chmod(0o600)
    for broken in (
        "",
        "{}",
        '{"current": "a", "keys": {}, "purposes": {}}',
        '{"current": 1, "keys": [], "purposes": 2}',
    ):
        path.write_text(broken)
        with pytest.raises(vault.VaultError, match="not a key file"):
            vault.key_file()


def test_keys_are_changed_with_everything_under_them_and_what_was_written_before_is_still_read(home, settings):
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM

    row, older, lost = (add_server(f"surge-0{n}") for n in (1, 2, 3))
    row.set_password(CANARY)
    row.save()
    nonce = b"0" * 12
    older.sealed_password = nonce + AESGCM(vault._first("credentials")).encrypt(nonce, b"before", b"surge-02")
    older.save()
    lost.sealed_password = b"nothing of ours"
    lost.save()
    Search.objects.create(asked_at="2026-11-23T12:00:00Z", what="x", sealed_password=b"x")
    before = vault.key_file()
    out = io.StringIO()
    call_command("rotate_vault", stdout=out)
    after = vault.key_file()
    assert set(after.keys).isdisjoint(before.keys) and after.purposes == before.purposes
    found = {row.name: row.endpoint() for row in Server.objects.all()}
    assert (found["surge-01"].password, found["surge-02"].password) == (CANARY, "before")
    assert found["surge-03"].withheld and "surge-03" in out.getvalue()
    assert bytes(Search.objects.get().sealed_password) == b""
    told = TrailEntry.objects.get()
    assert (told.command, told.after["secrets"], told.after["lost"]) == ("change the key of secrets", 3, ["surge-03"])


def test_a_rotation_that_is_cut_off_leaves_everything_readable(monkeypatch):
    row = add_server("surge-01")
    row.set_password(CANARY)
    row.save()

    def cut(*_, **__):
        raise KeyboardInterrupt

    monkeypatch.setattr(Server, "save", cut)
    with pytest.raises(KeyboardInterrupt):
        call_command("rotate_vault")
    assert Server.objects.get().endpoint().password == CANARY


# Never written down


def dump() -> str:
    raw = connection.connection
    assert isinstance(raw, sqlite3.Connection)
    return "\n".join(raw.iterdump())


def test_a_secret_that_goes_through_every_door_is_found_nowhere_afterwards(web, home, monkeypatch):
    """Given, refused, and in the way of an error of ours: in no answer, log, event, row, trail or export."""
    told: list[bytes] = []
    written = io.StringIO()
    monkeypatch.setattr(sys, "stderr", written)
    configure_logs(logging.DEBUG)

    def ask(method, path, body=None, client=web):
        answer = send(client, method, path, body)
        told.append(b"".join(answer.streaming_content) if answer.streaming else answer.content)
        return answer.status_code

    server = {"name": "surge-01", "url": "https://127.20.0.1:8443", "user": "u", "password": CANARY}
    assert ask("POST", "servers", server) == 201
    assert ask("POST", "servers", server) == 422
    assert ask("POST", "servers", {**server, "name": "x", "url": "https://203.0.113.1"}) == 422
    assert ask("POST", "servers/surge-01/credentials", {"user": "u", "password": CANARY}) == 204
    assert ask("POST", "servers/surge-01/credentials", {"user": "u", "password": CANARY, "other": 1}) == 400
    assert ask("POST", "credentials", {"servers": ["surge-01"], "group": "", "user": "u", "password": CANARY}) == 204
    assert ask("POST", "searches", {"addresses": "127.20.0.9", "user": "u", "password": CANARY}) == 202
    assert ask("POST", "people", {"name": "mara", "password": CANARY, "rights": ["look"]}) == 201
    assert ask("POST", "me/password", {"old_password": CANARY, "new_password": CANARY}) == 422
    assert ask("POST", "sign-in", {"name": "mara", "password": f"{CANARY}-wrong"}, Client()) == 401
    assert ask("POST", "sign-in", {"name": "mara", "password": CANARY}, Client()) == 200
    from ordnung.server.api import fleet as views

    def breaks(*_, **__):
        raise RuntimeError("it broke")

    monkeypatch.setattr(views, "keep_credentials", breaks)
    fragile = Client(raise_request_exception=False)
    fragile.cookies = web.cookies
    assert ask("POST", "servers/surge-01/credentials", {"user": "u", "password": CANARY}, fragile) == 500
    structlog.get_logger().error("by hand", password=CANARY, user="\x1b[2Ju")
    logging.getLogger("library").error("a library's own words")
    for path in ("servers", "servers/surge-01", "audit", "exports/audit.json", "exports/audit.csv", "exports/servers.csv", "exports/readings.json", "people"):  # fmt: skip
        assert ask("GET", path) == 200
    everything = b"\n".join(told).decode() + dump() + written.getvalue()
    assert CANARY not in everything
    lines = [json.loads(line) for line in written.getvalue().splitlines() if line.startswith("{")]
    assert any(line.get("event") == "by hand" and line["password"] == "given" for line in lines)
    assert any(line.get("event") == "a library's own words" and line["level"] == "error" for line in lines)
    assert any("it broke" in line.get("exception", "") for line in lines) and "\\u001b[2J" not in written.getvalue()
    for path in home.rglob("*"):
        assert not path.is_file() or CANARY.encode() not in path.read_bytes(), path
        assert path.is_dir() or path.stat().st_mode & 0o077 == 0 or path.parent.name == "audit", path


def test_the_password_of_a_search_is_forgotten_when_it_is_over(web):
    from django.utils import timezone

    old = Search.objects.create(asked_at=timezone.now() - timezone.timedelta(days=900), what="x", sealed_password=b"x")
    assert (
        send(web, "POST", "searches", {"addresses": "127.20.0.9", "user": "u", "password": CANARY}).status_code == 202
    )
    old.refresh_from_db()
    assert bytes(old.sealed_password) == b""
    fresh = Search.objects.exclude(pk=old.pk).get()
    assert bytes(fresh.sealed_password)
    assert send(web, "POST", f"searches/{fresh.pk}/add", {"rows": [], "accept": []}).status_code == 201
    fresh.refresh_from_db()
    assert bytes(fresh.sealed_password) == b"", "nothing is left to be added"


# Where it may listen, and what it may read


def test_an_empty_folder_among_those_to_carry_in_from_is_refused():
    assert [str(path) for path in parse_folders("/a:/b")] == ["/a", "/b"]
    for text in ("", "/a:", " :/b"):
        with pytest.raises(ValueError, match="empty folder"):
            parse_folders(text)


@pytest.mark.parametrize("host", ["0.0.0.0", "192.0.2.7", "site.example"])
def test_a_site_that_can_be_reached_from_elsewhere_wants_tls_or_a_proxy_that_speaks_it(host, tmp_path):
    from click.testing import CliRunner

    from ordnung.server.__main__ import is_loopback, main

    refused = CliRunner().invoke(main, ["--host", host, "--home", str(tmp_path)])
    assert refused.exit_code == 2 and "in the clear" in refused.output and not is_loopback(host)
    assert is_loopback("127.0.0.1") and is_loopback("::1") and is_loopback("localhost")
