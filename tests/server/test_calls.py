"""What needs a person: listed by where it is, seen, and told to the house's hook until somebody has."""

from __future__ import annotations

import datetime

import pytest
from asgiref.sync import sync_to_async

from ordnung.core.turn import may_turn
from ordnung.formats.authorities import Authorities
from ordnung.server.clock import now
from ordnung.server.fleet.models import Server
from ordnung.server.house.models import Hook, House
from ordnung.server.runs.call_chore import AGAIN_S, call_for_help
from ordnung.server.runs.calls import unheard
from ordnung.server.runs.models import CallNote, Run, RunServer
from ordnung.server.runs.turns import turns_of
from ordnung.server.work.events import tell, tell_place
from ordnung.server.work.models import Work
from ordnung.standins.floor import DESK_SECRET
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db(transaction=True)
NAMES = ("surge-03", "vault-03", "gauge-04")
BY_HAND = {"slot": "bp-1", "to": "1.4", "when": "after", "what": "See that its lights are green."}


@pytest.fixture
def house(web):
    fill(NAMES)
    run = Run.objects.create(
        name="a night", state=Run.State.RUNNING, drafted_at=now(), drafted_by="lead", started_at=now(),
        waves=[
            {"name": "canary", "wait_seconds": 0, "gate": "person"},
            {"name": "rest", "wait_seconds": 0, "gate": "none"},
        ],
    )  # fmt: skip
    for place, name in enumerate(NAMES):
        RunServer.objects.create(
            run=run, server=Server.objects.get(name=name), place=place, active=True, wave="rest", since=now()
        )
    return run


def change(name: str, **values) -> None:
    """A row is another, and that is told, as whatever writes it does."""
    RunServer.objects.filter(server__name=name).update(**values)
    tell_place(Run.objects.values_list("pk", flat=True).get(), name)


def errand(of="") -> dict[str, str]:
    return {"kind": "move off", "slot": "", "to": "", "what": "", "of": of, "since": now().isoformat()}


def calls(web):
    return [(row["kind"], row["server"], row["told"]) for row in Person(web).get("calls")]


def test_a_quiet_run_calls_nobody(house, web):
    assert calls(web) == []


def test_everything_that_needs_a_person_stands_there_and_what_is_due_comes_first(house, web):
    change("surge-03", errand=errand(), errand_key="k1", hands=[BY_HAND])
    change("vault-03", question="its system did not restart; by force?")
    change(
        "gauge-04", errand=errand("work desk"), errand_key="k2", detail="for its work to be moved off: a surge is on"
    )
    found = calls(web)
    assert sorted(found[:-1]) == [
        ("question", "vault-03", ""),
        ("refused", "gauge-04", "work desk: a surge is on"),
        ("tick", "surge-03", ""),
    ]
    assert found[-1] == ("coming", "surge-03", "")


def test_a_hook_that_only_takes_its_time_calls_nobody(house, web):
    change("gauge-04", errand=errand("work desk"), errand_key="k2", detail="for its work to be moved off")
    assert calls(web) == []


def test_a_wave_in_which_nobody_goes_is_passed_over_with_its_gate(house, web):
    """A22; else the run would wait at a gate that no page shows."""
    assert may_turn(turns_of(house)["surge-03"], now()) is None


def test_a_gate_calls_when_its_wave_has_ended_and_no_earlier(house, web):
    change("surge-03", wave="canary")
    assert calls(web) == []
    change("surge-03", wave="canary", ended="failed", reason="not back", active=False)
    assert [kind for kind, _, _ in calls(web)] == ["gate", "failed"]
    told = next(row["text"] for row in Person(web).get("calls") if row["kind"] == "gate")
    assert told == "canary of a night is done: surge-03 did not go well. Let the next wave go?"


def test_when_too_many_of_a_wave_failed_nobody_else_begins_until_a_person_says_so(house, web):
    """N6.5, also for a sheet without waves."""
    person = Person(web)
    change("surge-03", ended="failed", reason="not back", active=False)
    refused = may_turn(turns_of(house)["gauge-04"], now())
    assert str(refused) == "1 of 3 servers of rest failed; a person lets the others go on" and not refused.never
    (wave,) = [w for w in person.get(f"runs/{house.pk}")["waves"] if w["asks"]]
    assert (wave["name"], wave["has_failed"]) == ("rest", True)
    assert "1 of 3 servers of rest failed. Let the others go on?" in [row["text"] for row in person.get("calls")]
    person.post(f"runs/{house.pk}/waves/rest/open")
    assert may_turn(turns_of(Run.objects.get(pk=house.pk))["gauge-04"], now()) is None

    Run.objects.filter(pk=house.pk).update(waves=[], opened={})
    RunServer.objects.update(wave="")
    plain = Run.objects.get(pk=house.pk)
    assert may_turn(turns_of(plain)["gauge-04"], now()) is None, "one alone is no pattern where nobody asked for waves"
    change("vault-03", ended="failed", reason="not back", active=False)
    assert str(may_turn(turns_of(plain)["gauge-04"], now())).startswith("2 of 3 servers failed")
    assert person.get(f"runs/{house.pk}")["too_many_failed"]
    person.post(f"runs/{house.pk}/waves/all/open")
    assert may_turn(turns_of(Run.objects.get(pk=house.pk))["gauge-04"], now()) is None


def test_the_share_that_is_let_pass_is_the_house_s(house, web):
    change("surge-03", ended="failed", reason="not back", active=False)
    House.objects.update_or_create(pk=1, defaults={"stop_share": 34})
    assert may_turn(turns_of(house)["gauge-04"], now()) is None


@pytest.mark.parametrize(("kind", "answer", "status"), [
    ("try a remedy", "try", 200), ("try a remedy", "force", 409), ("force restart", "try", 409), ("force restart", "leave", 200),
])  # fmt: skip
def test_only_what_is_asked_is_answered(house, web, kind, answer, status):
    change("vault-03", question="what then?", question_kind=kind)
    path = f"/api/v1/runs/{house.pk}/servers/vault-03/answer"
    assert web.post(path, {"answer": answer}, content_type="application/json").status_code == status


def test_what_was_seen_stays_and_is_said_to_be(house, web):
    change("vault-03", question="by force?")
    person = Person(web)
    (row,) = person.get("calls")
    person.post("calls", {"call": row["id"]})
    assert [found["seen_by"] for found in person.get("calls")] == ["technician"]
    status, problem = person.post("calls", {"call": "another"})
    assert status == 404 and problem["detail"] == "That call is over."
    change("vault-03", answer="force")
    assert person.get("calls") == []


def test_failures_of_a_run_that_ended_call_until_its_end_was_seen(house, web):
    change("surge-03", ended="failed", reason="not back", active=False)
    work = Work.objects.create(
        kind="run", title="a night", state=Work.State.FAILED, subject={"run": house.pk}, asked_at=now()
    )
    Run.objects.filter(pk=house.pk).update(state=Run.State.ENDED)
    assert calls(web) == [("failed", "surge-03", "")]
    Work.objects.filter(pk=work.pk).update(seen=True)
    tell("work", id=work.pk)
    assert calls(web) == []


async def test_the_house_is_called_once_in_a_while_until_somebody_has_seen_it(house, web, live, settings):
    settings.MIRRORS_VOUCHED_BY = Authorities(live.ca)
    await sync_to_async(change)("vault-03", question="by force?")
    await call_for_help()
    counter = live.floor.counter
    assert counter.calls == [], "nobody is to be called"
    hook = Hook(name="pager", url=live.floor.desk_url.replace("/work", "/calls"), calls=True)
    hook.set_secret(DESK_SECRET)
    await hook.asave()
    await call_for_help()
    await call_for_help()
    assert [call["data"]["text"] for call in counter.calls] == ["By force?"], "not again at once"
    await CallNote.objects.aupdate(told_at=now() - datetime.timedelta(seconds=AGAIN_S + 1))
    await call_for_help()
    assert len(counter.calls) == 2
    await CallNote.objects.aupdate(told_at=now() - datetime.timedelta(days=1), seen_by="lead")
    assert await sync_to_async(unheard)(AGAIN_S) == []
