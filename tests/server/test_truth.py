"""One truth of a run: tapes, the rows that follow from them, places over all runs; on the real database adapter."""

from __future__ import annotations

import datetime

import pytest

from ordnung.core.away import AwayPlace
from ordnung.engine import entries as e
from ordnung.engine.entry_codec import rounds_body
from ordnung.engine.ports import NoPlaceError
from ordnung.engine.run import RunServer as Lane
from ordnung.engine.run import carry_out_run
from ordnung.engine.server_run import carry_out
from ordnung.engine.world import Patience
from ordnung.server.assessment import current
from ordnung.server.fleet.models import Group, Server
from ordnung.server.runs.derived import find_differences, load_tape, rebuild_all, taken_places
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import AwayLease, Run, RunServer, TapeEntry
from ordnung.server.work.models import Event, Work
from ordnung.standins.faults import Fault
from ordnung.standins.hardware import writes_of
from tests.simulation.clock import VirtualClock, run
from tests.simulation.world import Crashed, DemoFloor, House

pytestmark = pytest.mark.django_db(transaction=True)
NOW = datetime.datetime(2026, 11, 23, 1, tzinfo=datetime.UTC)


class CrashingJournal(DatabaseJournal):
    """Dies inside the n-th transaction: before anything of it, or with everything of it but the commit."""

    def __init__(self) -> None:
        super().__init__()
        self.count, self.before, self.inside = 0, None, None

    def append_now(self, run, server, seq, value):
        self.count += 1
        if self.count == self.before:
            raise Crashed
        return super().append_now(run, server, seq, value)

    def _tell(self, run, server, after, before):
        super()._tell(run, server, after, before)
        if self.count == self.inside:
            raise Crashed


class Site:
    """The demo's hardware in process, its journal and rows in the database."""

    def __init__(self, mirror, names, settings, devices=None) -> None:
        self.clock = VirtualClock()
        settings.CLOCK = self.clock
        self.house = House(self.clock, devices or DemoFloor(self.clock.seconds), mirror)
        self.house.journal = CrashingJournal()
        current.forget()
        for name in names:
            self.add(name)

    def add(self, name, group=None):
        row, _ = Server.objects.get_or_create(name=name, defaults={"url": f"https://{name}.example"})
        if group:
            row.group, _ = Group.objects.get_or_create(name=group, defaults={"may_be_away": 1})
            row.save()

    def start(self, *names) -> Run:
        made = Run.objects.create(name="r", state="running", drafted_at=NOW, drafted_by="t", started_at=NOW)
        for place, name in enumerate(names):
            RunServer.objects.create(
                run=made, server=Server.objects.get(name=name), place=place, active=True, rounds=rounds_body(())
            )
        Work.objects.create(
            kind="run", title="r", subject={"run": made.pk}, asked_at=NOW, state="running", total=len(names)
        )
        return made

    def lanes(self, *names):
        groups = {r.name: r.group.name for r in Server.objects.exclude(group=None).select_related("group")}
        return [
            Lane(endpoint=self.house.endpoint(n), place=AwayPlace(server=n, groups=(groups[n],) if n in groups else ()))
            for n in names
        ]


@pytest.fixture
def site(mirror_folder, settings, transactional_db):
    return Site(mirror_folder, ["surge-03"], settings)


def ended_rows(made):
    place = made.servers.get()
    made.refresh_from_db()
    work = Work.objects.get(subject__run=made.pk)
    return place.ended, place.active, made.state, work.state


@pytest.mark.parametrize("when", ["before", "inside"])
def test_a_crash_at_every_position_leaves_tape_and_rows_telling_the_same(mirror_folder, settings, when):
    """A kill between the end on the tape and its row once locked the server out of every later run."""
    steady = Site(mirror_folder, ["surge-03"], settings)
    made = steady.start("surge-03")
    run(carry_out(steady.house.hand("surge-03", str(made.pk))))
    positions, wanted = steady.house.journal.count, writes_of(steady.house.devices["surge-03"].log)
    assert positions > 10 and ended_rows(made) == ("level", False, "ended", "done")
    for position in range(1, positions + 1):
        trial = Site(mirror_folder, [], settings)
        again = trial.start("surge-03")
        setattr(trial.house.journal, when, position)
        with pytest.raises(Crashed):
            run(carry_out(trial.house.hand("surge-03", str(again.pk))))
        assert find_differences([again]) == [], position
        tape = load_tape(again.pk, "surge-03")
        assert len(tape) == position - 1
        trial.house.journal = CrashingJournal()
        trial.house.born()
        trial.clock.t += 45
        run(carry_out(trial.house.hand("surge-03", str(again.pk))))
        assert find_differences([again]) == [] and ended_rows(again) == ("level", False, "ended", "done"), position
        assert writes_of(trial.house.devices["surge-03"].log) == wanted, position
        assert AwayLease.objects.count() == 0


def test_an_entry_its_rows_and_its_event_are_one(site):
    made = site.start("surge-03")
    before = Event.objects.count()
    site.house.journal.inside = 3
    with pytest.raises(Crashed):
        run(carry_out(site.house.hand("surge-03", str(made.pk))))
    assert TapeEntry.objects.count() == 2 and Event.objects.filter(topic="lane").count() == 2 and before == 0


def test_rows_that_differ_are_written_anew_from_the_tapes(site):
    made = site.start("surge-03")
    run(carry_out(site.house.hand("surge-03", str(made.pk))))
    RunServer.objects.update(ended="", reason="", active=True)
    Run.objects.update(state="running", ended_at=None)
    AwayLease.objects.create(server=Server.objects.get(), run=made, outage=True, since=NOW)
    assert [name for _, name in rebuild_all()] == ["surge-03"]
    assert find_differences([Run.objects.get()]) == [] and ended_rows(made)[:3] == ("level", False, "ended")
    assert AwayLease.objects.count() == 0 and rebuild_all() == []


def pair(mirror_folder, settings) -> Site:
    made = Site(mirror_folder, [], settings)
    for name in ("gauge-01", "gauge-02"):
        made.add(name, "pair 1")
    return made


def test_a_server_that_fails_while_away_keeps_its_place_and_its_partner_stays(mirror_folder, settings):
    site = pair(mirror_folder, settings)
    site.house.devices["gauge-01"].faults.append(Fault("boot hangs"))
    site.house.patience = Patience(back_s=600, place_s=900)
    made = site.start("gauge-01", "gauge-02")
    lanes = site.lanes("gauge-01", "gauge-02")
    ended = run(carry_out_run(str(made.pk), lanes, site.house.world()))
    assert ended == {"gauge-01": "failed", "gauge-02": "left over"}
    assert [e["kind"] for e in site.house.devices["gauge-02"].log if e["what"] == "reset"] == []
    (lease,) = AwayLease.objects.all()
    assert lease.server.name == "gauge-01" and lease.kept
    told = made.servers.get(server__name="gauge-02").reason
    assert "group pair 1 allows 1 away: gauge-01 is left away" in told and "Nothing was sent" in told


def test_two_runs_obey_the_same_limits(mirror_folder, settings):
    """Two runs once put two servers of a pair away together."""
    site = pair(mirror_folder, settings)
    first, second = site.start("gauge-01"), site.start("gauge-02")
    lanes = [site.lanes("gauge-01"), site.lanes("gauge-02")]
    most = []

    async def both():
        import asyncio

        world = site.house.world()
        log = site.house.told
        site.house.told = type("T", (list,), {"append": lambda s, item: most.append(len(taken_now()))})()

        def taken_now():
            return [d for d in ("gauge-01", "gauge-02") if site.house.devices[d].boot_until > site.clock.t]

        await asyncio.gather(
            carry_out_run(str(first.pk), lanes[0], world),
            carry_out_run(str(second.pk), lanes[1], world, order=1),
        )
        site.house.told = log

    run(both())
    assert set(RunServer.objects.values_list("ended", flat=True)) == {"level"} and max(most) == 1
    assert AwayLease.objects.count() == 0


def test_a_reading_that_proves_it_back_frees_the_place_and_so_does_a_person(mirror_folder, settings, web):
    from ordnung.server.runs.adapters import keep_reading

    site = pair(mirror_folder, settings)
    device = site.house.devices["gauge-01"]
    device.faults.append(Fault("boot hangs"))
    made = site.start("gauge-01")
    run(carry_out_run(str(made.pk), site.lanes("gauge-01"), site.house.world()))
    reading = run(read(site, "gauge-01"))
    keep_reading(reading, None)
    assert AwayLease.objects.get().doubt == "its system does not run yet"
    answer = web.get("/api/v1/away").json()
    assert [(row["server"], row["kept"], row["doubt"]) for row in answer] == [
        ("gauge-01", True, "its system does not run yet")
    ]
    groups = {row["name"]: row["away"] for row in web.get("/api/v1/groups").json()}
    assert groups["pair 1"] == ["gauge-01"]
    device.boot_until = site.clock.t
    keep_reading(run(read(site, "gauge-01")), None)
    assert AwayLease.objects.count() == 0 and find_differences([made]) == []
    assert load_tape(made.pk, "gauge-01")[-1].value == e.PlaceGiven(
        by="a reading", why="it runs, and everything that was there is there"
    )


async def read(site, name):
    async with site.house.controllers.open(site.house.endpoint(name)) as controller:
        return await controller.read(site.clock.now)


def test_a_person_gives_a_place_back_with_a_reason_but_never_under_way(mirror_folder, settings, web):
    site = pair(mirror_folder, settings)
    made = site.start("gauge-01")
    journal, run_id = DatabaseJournal(), str(made.pk)
    journal.append_now(run_id, "gauge-01", 1, e.PlaceTaken(place=AwayPlace(server="gauge-01", groups=("pair 1",))))
    back = {"reason": "seen in the aisle"}
    answer = web.post("/api/v1/away/gauge-01/back", back, content_type="application/json")
    assert answer.status_code == 409 and answer.json()["type"] == "ordnung:under-way"
    with pytest.raises(NoPlaceError, match="pair 1 allows 1 away: gauge-01 is away or about to be"):
        journal.append_now(run_id, "gauge-02", 1, e.PlaceTaken(place=AwayPlace(server="gauge-02", groups=("pair 1",))))
    TapeEntry.objects.filter(seq__gt=1).delete()
    for seq, value in enumerate(left_away(), start=2):
        journal.append_now(run_id, "gauge-01", seq, value)
    assert taken_places()[0].kept
    assert web.post("/api/v1/away/gauge-01/back", {}, content_type="application/json").status_code == 400
    answer = web.post("/api/v1/away/gauge-01/back", back, content_type="application/json")
    assert answer.status_code == 204 and taken_places() == [] and find_differences([made]) == []
    assert web.post("/api/v1/away/gauge-01/back", back, content_type="application/json").status_code == 404


def left_away():
    from ordnung.controllers import Marker
    from ordnung.core.components import Server as Value

    yield e.Read(server=Value(name="gauge-01", model="m"), why=e.ReadWhy.BEFORE)
    yield e.ResetIntent(kind=e.ResetKind.SERVER_REBOOT, marker=Marker(), type="ForceRestart")
    yield e.ResetSent()
    yield e.Ended(ending=e.Ending.FAILED, reason=e.Reason.NOT_BACK)


def test_an_error_of_our_own_in_one_server_ends_that_server_alone(mirror_folder, settings):
    site = Site(mirror_folder, ["surge-03", "surge-04"], settings)
    made = site.start("surge-03", "surge-04")
    locate = site.house.locate

    async def broken(server):
        if server.name == "surge-03":
            raise KeyError("no such thing")
        return await locate(server)

    site.house.locate = broken
    ended = run(carry_out_run(str(made.pk), site.lanes("surge-03", "surge-04"), site.house.world()))
    assert ended == {"surge-03": "failed", "surge-04": "level"}
    reason = made.servers.get(server__name="surge-03").reason
    assert "an error of its own (KeyError, trouble-1 in the log)" in reason and "the others go on" in reason
    made.refresh_from_db()
    assert made.state == "ended" and find_differences([made]) == []


# Groups


def put(web, path, body, method="post"):
    return getattr(web, method)(f"/api/v1/{path}", body, content_type="application/json")


def test_groups_are_made_changed_listed_in_and_taken_away(web):
    assert put(web, "groups", {"name": "ring", "may_be_away": 1}).status_code == 201
    assert put(web, "groups", {"name": "ring", "may_be_away": 2}).json()["type"] == "ordnung:name-taken"
    rows = put(web, "groups/ring", {"may_be_away": 3, "name": "vault ring"}, "patch").json()
    assert [(r["name"], r["may_be_away"]) for r in rows] == [("vault ring", 3)]
    listed = put(web, "groups", {"list": "group,may_be_away\nvault ring,2\n pair 1 ,1\n"}, "put").json()
    assert {r["name"]: r["may_be_away"] for r in listed} == {"vault ring": 2, "pair 1": 1}
    assert put(web, "groups/pair 1", {}, "delete").status_code == 204
    assert put(web, "groups/pair 1", {}, "delete").status_code == 404
    assert list(Group.objects.values_list("name", flat=True)) == ["vault ring"]


@pytest.mark.parametrize(
    ("table", "told"),
    [
        ("name,limit\na,1\n", "columns group and may_be_away"),
        ("group,may_be_away\na,²\n", "line 2: ² is not how many"),
        ("group,may_be_away\na,1\na,2\n", "line 3: a stands twice"),
        ("group,may_be_away\n,1\n", "line 2: the group has no name"),
        ("group,may_be_away\na,-1\n", "line 2: -1 is not"),
    ],
)
def test_a_wrong_list_of_groups_changes_nothing_and_names_the_line(web, table, told):
    answer = put(web, "groups", {"list": table}, "put")
    assert answer.status_code == 422 and told in answer.json()["detail"]
    assert Group.objects.count() == 0
