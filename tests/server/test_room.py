"""When what Ordnung keeps can't be read or written for a while: runs wait, people are told, nothing is doubled."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from asgiref.sync import sync_to_async
from django.contrib.sessions.models import Session
from django.db import OperationalError, connection

from ordnung.engine.run import carry_out_run
from ordnung.engine.server_run import carry_out
from ordnung.server import engine, room
from ordnung.server.api.site import site_trouble
from ordnung.server.people.sessions import SEEN
from ordnung.server.repositories.payloads import open_store
from ordnung.server.runs.derived import find_differences
from ordnung.server.runs.models import Run
from ordnung.server.supervisor import Child, Supervisor
from ordnung.server.work.models import Work
from ordnung.standins.hardware import writes_of
from ordnung.store import RepositoryError
from tests.server.houses import Person, fill
from tests.server.test_sheets import RING
from tests.server.test_truth import NOW, CrashingJournal, Site, ended_rows
from tests.simulation.clock import run


def make_full() -> None:
    """The database may not grow any more over this line: SQLite says so itself, as on a full disk."""
    with connection.cursor() as cursor:
        cursor.execute("VACUUM")  # else what other tests left free would be filled first
        cursor.execute("PRAGMA page_count")
        cursor.execute(f"PRAGMA max_page_count = {cursor.fetchone()[0]}")


def make_line_anew() -> None:
    """Of the thread that works with the database."""
    connection.close()


@pytest.fixture
def line_made_anew():
    """Nothing of a full disk is left for others, also where it was not noticed."""
    yield
    run(sync_to_async(make_line_anew)())


class FullJournal(CrashingJournal):
    """The disk is full from the n-th entry on until the line to the database is made anew."""

    full, refused = 0, 0

    def append_now(self, run, server, seq, value):
        if self.count == self.full:
            make_full()
        try:
            return super().append_now(run, server, seq, value)
        except OperationalError:
            self.refused += 1
            raise


@pytest.mark.django_db(transaction=True)
def test_a_disk_that_is_full_for_a_while_ends_no_server_and_doubles_nothing(mirror_folder, settings, line_made_anew):
    steady = Site(mirror_folder, ["surge-03"], settings)
    made = steady.start("surge-03")
    run(carry_out(steady.house.hand("surge-03", str(made.pk))))
    wanted = writes_of(steady.house.devices["surge-03"].log)
    refused = 0
    for full in range(1, steady.house.journal.count, 3):
        trial = Site(mirror_folder, [], settings)
        trial.house.journal = FullJournal()
        trial.house.journal.full = full
        made = trial.start("surge-03")
        run(carry_out_run(str(made.pk), trial.lanes("surge-03"), trial.house.world()))
        assert ended_rows(made) == ("level", False, "ended", "done"), full
        assert writes_of(trial.house.devices["surge-03"].log) == wanted, full
        assert not trial.house.troubles and not find_differences([made])
        refused += trial.house.journal.refused
        run(sync_to_async(make_line_anew)())
    assert refused, "the disk was never full"


@pytest.mark.django_db(transaction=True)
async def test_work_is_begun_anew_when_the_database_answers_again(monkeypatch):
    work = await Work.objects.acreate(kind="survey", title="s", asked_at=NOW, state="running")
    tries = []

    async def job(work, ports):
        tries.append(work.pk)
        if len(tries) == 1:
            raise ExceptionGroup("as a survey tells it", [OperationalError("database is locked")])
        if len(tries) == 2:
            raise ValueError("an error of our own")

    monkeypatch.setattr(engine, "RECORDS_S", 0.0)
    monkeypatch.setitem(engine.jobs, "survey", job)
    await engine.carry_out(work, None)
    await work.arefresh_from_db()
    assert tries == [work.pk, work.pk]
    assert work.state == "failed" and "ValueError" in work.note


@pytest.mark.django_db(transaction=True)
def test_who_looks_may_look_on_and_who_acts_is_told_that_nothing_was_kept(web):
    web.raise_request_exception = False
    assert web.get("/api/v1/floor").status_code == 200
    session = web.session
    session[SEEN] = time.time() - 300
    session.save()
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA query_only = ON")
    try:
        assert web.get("/api/v1/floor").status_code == 200
        answer = web.post("/api/v1/surveys", {"servers": []}, content_type="application/json")
        assert answer.status_code == 503 and answer.headers["Retry-After"]
        assert answer.json()["type"] == "ordnung:records-out"
        assert answer.json()["detail"].endswith("Nothing of this request was kept.")
    finally:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA query_only = OFF")
    assert web.get("/api/v1/floor").status_code == 200
    assert time.time() - Session.objects.get().get_decoded()[SEEN] < 60


LOGGING = """
import logging, structlog
from ordnung.formats.logs import configure_logs
configure_logs()
structlog.get_logger().warning("of ours")
logging.getLogger("a library").warning("of theirs")
print("went on", flush=True)
"""


def test_a_line_of_the_log_that_finds_no_room_stops_nothing():
    with Path("/dev/full").open("w") as full:
        done = subprocess.run([sys.executable, "-c", LOGGING], stderr=full, stdout=subprocess.PIPE, text=True)
    assert done.stdout == "went on\n"


def test_a_supervisor_whose_folder_can_not_be_written_to_watches_on(tmp_path):
    (tmp_path / "logs" / "engine.log").mkdir(parents=True)  # can't be opened as a file
    (tmp_path / "engine.new").symlink_to("/dev/full")
    supervisor, ticks = Supervisor(tmp_path, {}), []

    def tick() -> None:
        ticks.append(len(ticks))
        if len(ticks) == 3:
            supervisor.stopping = True
        raise OSError(errno.ENOSPC, "No space left on device")

    supervisor.ticks.append(tick)
    child = Child(
        "engine",
        ("this",),
        supervisor._spawn(("this",), tmp_path / "logs" / "engine.log"),
        tmp_path / "none",
        False,
        0.0,
    )
    supervisor.children.append(child)
    child.process.wait()
    supervisor.watch()
    supervisor.stop()
    assert ticks == [0, 1, 2] and child.again_at is not None


@pytest.mark.parametrize(
    ("free", "told"),
    [
        (2 * room.LOW, ""),
        (room.LOW - 1, "Only 1023 MiB are free in "),
        (4096, "No room is left in "),
        (None, "can't be written to"),
    ],
)
def test_what_room_there_is_for_records_stands_on_every_page(monkeypatch, free, told):
    monkeypatch.setattr(room, "free_bytes", lambda folder: free)
    assert told in site_trouble() and bool(told) == bool(site_trouble())


def test_a_disk_is_looked_at_as_it_is(tmp_path, monkeypatch):
    assert 0 < room.free_bytes(tmp_path) < 2**60
    monkeypatch.setattr(room, "records_folder", lambda: tmp_path / "gone")
    assert "can't be looked at (No such file or directory)" in site_trouble()
    assert room.free_bytes(room.Path("/proc")) in (0, None), "where nothing can be kept"


@pytest.mark.django_db
@pytest.mark.parametrize(("free", "told"), [(room.LEAST - 1, "255 MiB are free"), (None, "Nothing can be written")])
def test_no_run_is_started_whose_records_may_not_fit(web, catalogs, monkeypatch, free, told):
    fill(RING)
    house = Person(web)
    pk = house.post("runs")["id"]
    monkeypatch.setattr(room, "free_bytes", lambda folder: free)
    status, problem = house.post(f"runs/{pk}/start")
    assert status == 409 and problem["type"] == "ordnung:no-room" and problem["detail"].startswith(told)
    assert Run.objects.get().state == "draft"


def test_payloads_leave_room_for_records():
    store = open_store()
    found = os.statvfs(store.root)
    assert store.room() <= found.f_bavail * found.f_frsize - room.LEAST + 2**24
    with pytest.raises(RepositoryError, match="free for the store"):
        store.want_room(store.room() + 2**30, "a payload")
