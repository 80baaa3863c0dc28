"""A run as many people watch it: made once of what changed, given to every open page, and never another than it is."""

from __future__ import annotations

import asyncio
import gzip
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time

import pytest
from asgiref.sync import sync_to_async
from django.test import AsyncClient

from ordnung.server import reckoning
from ordnung.server.api.given import Giver
from ordnung.server.compression import pack
from ordnung.server.house.models import House
from ordnung.server.runs import live, outlook
from ordnung.server.runs.live import live_answer
from ordnung.server.runs.models import Run, RunServer
from ordnung.server.runs.rows import run_row
from ordnung.server.shapes import write_json
from ordnung.server.work.events import newest_event, tell, tell_place
from ordnung.server.work.hub import HUB, Hub
from ordnung.server.work.shared import Shared
from tests.server.houses import Person, fill
from tests.server.played import Played
from tests.server.test_sheets import RING

pytestmark = pytest.mark.django_db


@pytest.fixture
def house(web, catalogs):
    fill(RING)
    return Person(web)


@pytest.fixture
def night(house):
    """A run under way, and what makes it go on."""
    run = house.post("runs")
    return Played(run["id"], len(run["servers"]))


def told(row) -> dict:
    return json.loads(write_json(row))


def plain(pk: int) -> dict:
    """The run read from the rows and the tapes, all of it, as of now."""
    return told(run_row(Run.objects.get(pk=pk)))


def shown(pk: int) -> dict:
    return json.loads(live_answer(Run.objects.get(pk=pk)).plain)


def merged(known: dict, part: dict) -> dict:
    """What a page makes of what it is told (``web/src/api/lanes.ts``)."""
    fresh = {lane["server"]: lane for lane in part["servers"]}
    return {**part, "servers": [fresh.get(lane["server"], lane) for lane in known["servers"]]}


@pytest.mark.parametrize("seed", range(4))
def test_what_is_shown_and_what_is_told_is_the_run_as_it_is(house, night, seed):
    """Whatever happened in between: the plain way is the oracle."""
    dice, pk = random.Random(seed), night.pk
    page = shown(pk)
    live.tell_part(Run.objects.get(pk=pk))
    page = shown(pk)
    for _ in range(60):
        match dice.randrange(8):
            case 0:
                House.objects.update(stop_share=dice.randrange(1, 100))
                tell("house")
            case 1:
                house.post(f"runs/{pk}/orders", {"order": dice.choice(["hold", "go"]), "server": dice.choice(RING)})
            case 2:
                house.post(f"runs/{pk}/orders", {"order": dice.choice(["hold", "go"])})
            case kind:
                night.go_on(kind > 4)
        if dice.random() < 0.5:
            assert shown(pk) == plain(pk)
        part = live.tell_part(Run.objects.get(pk=pk))
        page = merged(page, told(part)) if part is not None else shown(pk)
        assert page == plain(pk)


def test_only_what_changed_is_read_again(house, night, django_assert_max_num_queries):
    for _ in range(20):
        night.go_on(True)
    shown(night.pk)
    live.tell_part(Run.objects.get(pk=night.pk))
    night.go_on(True)
    with django_assert_max_num_queries(12):
        part = told(live.tell_part(Run.objects.get(pk=night.pk)))
    assert len(part["servers"]) == 1 and part["count"] == len(plain(night.pk)["servers"])
    assert told(live.tell_part(Run.objects.get(pk=night.pk)))["servers"] == [], "nothing since"


def test_a_lane_that_was_told_before_its_event_is_told_again_after_it(house, night, monkeypatch):
    """The rows are at least as new as the event they are told by: a page puts the steps between over them, and of a
    server whose end was told so it said *confirming* for good.
    """
    run = Run.objects.get(pk=night.pk)
    for _ in range(20):
        night.go_on(True)
    live.tell_part(run)
    moments = iter([lambda: night.go_on(True)])

    def newest() -> int:
        known = newest_event()
        next(moments, lambda: None)()  # between the look at the events and the look at the rows
        return known

    monkeypatch.setattr(live, "KEPT_S", -1.0)
    monkeypatch.setattr(live, "newest_event", newest)
    before = told(live.tell_part(run))
    assert len(before["servers"]) == 1 and before["event"] < newest_event()
    monkeypatch.setattr(live, "KEPT_S", 60.0)
    after = told(live.tell_part(run))
    assert [lane["server"] for lane in after["servers"]] == [lane["server"] for lane in before["servers"]]
    assert after["event"] == newest_event()


def test_of_very_many_lanes_a_page_had_better_ask_and_of_an_ended_run_nothing_is_kept(house, night, monkeypatch):
    monkeypatch.setattr(live, "MOST_TOLD", 0)
    run = Run.objects.get(pk=night.pk)
    assert live.tell_part(run) is None
    RunServer.objects.update(ended="level", active=False)
    Run.objects.update(state=Run.State.ENDED)
    tell("runs", id=night.pk)
    live.tell_part(Run.objects.get(pk=night.pk))
    assert night.pk not in live._kept
    assert shown(night.pk)["state"] == "ended"


def test_the_whole_is_made_once_for_all_who_come_in_before_anything_happens(house, night, monkeypatch):
    made = []
    monkeypatch.setattr(live, "pack", lambda plain: made.append(plain) or pack(plain))
    run = Run.objects.get(pk=night.pk)
    first = live_answer(run)
    assert live_answer(run) is first and len(made) == 1
    night.go_on(True)
    assert shown(night.pk) == plain(night.pk) and len(made) == 2
    live.tell_part(run)
    assert live_answer(run).plain == made[1] and len(made) == 2
    monkeypatch.setattr(live, "KEPT_S", -1.0)
    live_answer(run)
    assert len(made) == 3, "what no event tells of is looked at every so often"


def test_who_takes_it_compressed_gets_it_so(house, night):
    for taken, body in (("gzip", "small"), ("identity", "plain")):
        answer = house.web.get(f"/api/v1/runs/{night.pk}", headers={"Accept-Encoding": taken})
        assert answer.content == getattr(live_answer(Run.objects.get(pk=night.pk)), body)
        assert answer.headers.get("Content-Encoding") == (taken if taken == "gzip" else None)
        assert answer["Content-Type"] == "application/json" and "Accept-Encoding" in answer["Vary"]
        assert "no-store" in answer["Cache-Control"]
    assert gzip.decompress(pack(b"{}").small) == b"{}"


def names(messages) -> list[str]:
    return [topic for _, topic, _ in messages]


def test_pages_are_given_what_every_page_has_and_only_when_it_is_another(house, night):
    giver = Giver()
    assert names(giver.give([])) == ["site", "work", "calls"], "at first, and every so often"
    assert names(giver.give([])) == []
    pk, name = night.pk, night.waiting[0]
    assert names(giver.give([(1, "lane", {"run": pk, "server": name})])) == ["lanes"]
    RunServer.objects.filter(server__name=name).update(question="by force?")
    tell_place(pk, name)
    found = giver.give([(2, "places", {"run": pk, "server": name})])
    assert names(found) == ["site", "calls"], "the clock has gone on"
    assert json.loads(found[1][2])[0]["text"] == "By force?"
    assert names(giver.give([(3, "searches", {})])) == []
    assert names(giver.last()) == ["site", "work", "calls"]
    giver.forget()
    assert giver.last() == []


def test_a_draft_is_asked_for_and_not_given(house):
    draft = house.post("runs")["id"]
    giver = Giver()
    giver.give([])
    assert "lanes" not in names(giver.give([(1, "runs", {"id": draft}), (2, "runs", {})]))


def test_trouble_of_the_engine_is_told_though_no_event_tells_it(house, settings, tmp_path, monkeypatch):
    monkeypatch.setattr("ordnung.server.api.given.LOOK_S", 0.0)
    settings.ENGINE_TROUBLE = str(tmp_path / "trouble")
    giver = Giver()
    giver.give([])
    (tmp_path / "trouble").write_text("The engine has stopped.")
    ((_, key, body),) = giver.give([])
    assert key == "site" and json.loads(body)["trouble"].startswith("The engine has stopped.")


@pytest.mark.django_db(transaction=True)
async def test_a_page_that_comes_late_has_at_once_what_the_others_have(person, monkeypatch):
    class Given:
        def last(self):
            return [(None, "site", '{"now":1}')]

    monkeypatch.setattr(HUB, "giver", Given())
    first = await sync_to_async(tell)("work", id=1)
    client = AsyncClient()
    await client.aforce_login(person)
    for after, missed in ((first.pk - 1, first.pk), (first.pk, None)):
        answer = await client.get(f"/api/v1/events?after={after}")
        parts = answer.streaming_content.__aiter__()
        text = (await parts.__anext__()).decode()
        while "event: begun" not in text:
            text += (await parts.__anext__()).decode()
        assert 'event: site\ndata: {"now":1}\n\n' in text and ('"id": 1' in text) is (missed is not None)
        assert json.loads(text.partition("event: begun\ndata: ")[2]) == {"missed": missed, "given": ["site"]}
        await parts.aclose()


@pytest.mark.django_db(transaction=True)
async def test_pages_ask_for_everything_where_it_can_not_be_worked_out_what_they_are_given(monkeypatch):
    class Broken:
        asked = 0

        def give(self, events):
            self.asked += 1
            raise RuntimeError("no")

        def forget(self):
            self.asked = 0

    hub = Hub()
    hub.giver = Broken()
    task = asyncio.create_task(hub.run())
    while hub.last is None:
        await asyncio.sleep(0.01)
    async with hub.subscribe() as queue:
        await sync_to_async(tell)("work", id=7)
        kinds = [(await asyncio.wait_for(queue.get(), 5))[1] for _ in range(2)]
        assert sorted(kinds) == ["gap", "work"]
        while hub.giver.asked < 3:
            await asyncio.sleep(0.01)
        assert queue.empty(), "told once, not at every look"
    while hub.giver.asked:
        await asyncio.sleep(0.01)
    hub.stop()
    await task


def test_an_answer_for_all_is_made_once_until_an_event_of_its_makes_it_another():
    made = []
    answer = Shared(lambda: made.append(len(made)) or len(made), frozenset({"work"}), kept_s=60.0)
    assert answer.get() == answer.get() == 1
    tell("searches", id=1)
    assert answer.get() == 1
    tell("work", id=1)
    assert answer.get() == 2
    answer.forget()
    assert answer.get() == 3
    short = Shared(lambda: made.append(0), frozenset({"work"}), kept_s=-1.0)
    short.get(), short.get()
    assert len(made) == 5, "what time alone changes"


def foreseen(run):
    return json.loads(outlook.outlook(run).plain)


def test_a_forecast_is_worked_out_for_all_who_look_and_anew_after_an_order(house, night, monkeypatch):
    asked = []

    def work_out(run):
        asked.append(run.pk)
        return f"forecast {len(asked)}"

    monkeypatch.setattr(outlook, "forecast_row", work_out)
    run = Run.objects.get(pk=night.pk)
    assert foreseen(run) == foreseen(run) == "forecast 1"
    night.go_on(True)
    assert foreseen(run) == "forecast 1", "it slides by itself"
    tell("runs", id=run.pk + 1)
    assert foreseen(run) == "forecast 1", "another's"
    house.post(f"runs/{run.pk}/orders", {"order": "hold"})
    assert foreseen(run) == "forecast 2"
    monkeypatch.setattr(outlook, "OLDEST_S", 0.0)
    assert foreseen(run) == "forecast 3", "nobody has looked for long"
    run.state = Run.State.DRAFT
    assert foreseen(run) == "forecast 4" and foreseen(run) == "forecast 5", "a draft's is its own"


def test_a_forecast_that_is_shown_is_given_as_it_slides_and_only_while_it_is(house, night, monkeypatch):
    made = []
    monkeypatch.setattr(outlook, "forecast_row", lambda run: made.append(run.pk) or f"forecast {len(made)}")
    monkeypatch.setattr(outlook, "reckon", lambda work, pk: work(pk))
    monkeypatch.setattr("ordnung.server.api.given.AGAIN_S", 0.0)
    giver = Giver()
    assert "foretold" not in names(giver.give([])) and made == [], "nobody shows it"
    outlook.outlook(Run.objects.get(pk=night.pk))
    (found,) = [body for _, topic, body in giver.give([]) if topic == "foretold"]
    assert json.loads(found) == {"run": night.pk, "forecast": "forecast 1"}
    assert "foretold" not in names(giver.give([])), "it is no other"
    monkeypatch.setattr(outlook, "OLDEST_S", 0.0)
    assert "foretold" in names(giver.give([])) and len(made) == 2
    monkeypatch.setattr(outlook, "WANTED_S", -1.0)
    assert "foretold" not in names(giver.give([])) and len(made) == 2, "nobody has shown it for long"


@pytest.mark.django_db(transaction=True)
def test_whoever_looks_is_given_the_last_forecast_while_the_next_is_worked_out(house, night, monkeypatch):
    go, asked = threading.Event(), []

    def work_out(run):
        asked.append(run.pk)
        if len(asked) == 2:
            assert go.wait(10)
        if len(asked) == 3:
            raise RuntimeError("no")
        return f"forecast {len(asked)}"

    def settled():
        for thread in threading.enumerate():
            if thread.name.startswith("forecast"):
                thread.join(10)

    monkeypatch.setattr(outlook, "forecast_row", work_out)
    monkeypatch.setattr(outlook, "FRESH_S", 0.0)
    run = Run.objects.get(pk=night.pk)
    assert [foreseen(run) for _ in range(4)] == ["forecast 1"] * 4
    go.set()
    settled()
    assert len(asked) == 2, "one at a time"
    assert foreseen(run) == "forecast 2", "and begins the third, which fails"
    settled()
    assert foreseen(run) == "forecast 2"
    settled()


@pytest.fixture
def apart(monkeypatch):
    monkeypatch.setattr(reckoning, "_is_apart", True)
    yield
    reckoning._pool.shutdown()
    reckoning._forget()


def fail() -> None:
    raise ValueError("no such night")


def test_what_takes_long_is_worked_out_in_a_process_of_its_own(apart):
    other = reckoning.reckon(os.getpid)
    assert other != os.getpid() and reckoning.reckon(max, 3, 7) == 7
    with pytest.raises(ValueError, match="no such night"):
        reckoning.reckon(fail)
    os.kill(other, signal.SIGKILL)
    assert reckoning.reckon(max, 3, 7) == 7, "somebody ended it"
    assert reckoning.reckon(os.getpid) not in (other, os.getpid()), "and there is another"


ASKING = """
import os, time
from ordnung.server import reckoning
reckoning.reckon_apart()
print(reckoning.reckon(os.getpid), flush=True)
time.sleep(60)
"""


def test_it_ends_with_the_process_that_asked_however_that_ends(tmp_path):
    site = {**os.environ, "DJANGO_SETTINGS_MODULE": "ordnung.server.settings", "ORDNUNG_HOME": str(tmp_path)}
    asking = subprocess.Popen([sys.executable, "-c", ASKING], stdout=subprocess.PIPE, text=True, env=site)
    with asking:
        other = int(asking.stdout.readline())
        asking.kill()
    for _ in range(100):
        try:
            os.kill(other, 0)
        except ProcessLookupError:
            return
        time.sleep(0.1)
    pytest.fail("it lives on")


def test_events_are_counted_from_nothing():
    assert newest_event() == 0
