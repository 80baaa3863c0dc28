"""Hooks of the house and people's ticks, against the work desk over HTTPS: kept, tried, asked during a run."""

from __future__ import annotations

import asyncio

import pytest
from aiohttp import web as http
from asgiref.sync import sync_to_async

from ordnung.core.errands import Errand, ErrandKind
from ordnung.engine.ports import HelpState
from ordnung.formats.authorities import Authorities
from ordnung.server.assessment import current
from ordnung.server.audit.models import TrailEntry
from ordnung.server.fleet.models import Group
from ordnung.server.house.hook_line import ask_hook
from ordnung.server.house.models import Hook
from ordnung.server.runs.groups import GroupChange, change_group
from ordnung.server.runs.helpers import DatabaseHelpers, _help_of
from ordnung.server.runs.models import AwayLease, RunServer
from ordnung.standins.floor import DESK_ADDRESS, DESK_SECRET
from ordnung.standins.workdesk import DeskFault
from tests.server.houses import Person
from tests.server.test_jobs import SiteUnderTest

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
async def site(live, settings, tmp_path, transactional_db):
    current.forget()
    settings.HOME, settings.CA, settings.CLOCK = tmp_path, live.ca, live.clock
    settings.MIRRORS_VOUCHED_BY = Authorities(live.ca)
    live.floor.desk.seconds = 20.0
    found = await sync_to_async(SiteUnderTest)(live, tmp_path)
    yield found
    await found.close()


@pytest.fixture
async def desk(site) -> Hook:
    hook = Hook(name="work desk", url=site.live.floor.desk_url)
    hook.set_secret(DESK_SECRET)
    await hook.asave()
    return hook


def move(**wanted) -> None:
    change_group(Group.objects.get(name="surge ensemble"), GroupChange(**wanted))


async def prepared(site, names=("surge-03",)) -> int:
    """A sheet that may start: read, packed, laid out."""
    await sync_to_async(site.post)("surveys")
    await site.work()
    await sync_to_async(site.post)("repositories", {"servers": list(names)})
    await site.work()
    return (await sync_to_async(site.post)("runs", {"servers": list(names)}))["id"]


def desk_log(site, what="done"):
    return [(e["order"], e["server"]) for e in site.live.floor.desk.log if e["what"] == what]


async def test_a_run_moves_work_off_by_the_hook_and_takes_it_back(site, desk):
    await sync_to_async(move)(mover="hook", hook="work desk", off_seconds=60, back_seconds=30)
    run = await prepared(site)
    drawn = (await sync_to_async(site.get)(f"runs/{run}"))["servers"][0]["plan"]
    assert [span["kind"] for span in drawn if span["kind"] in ("moving off", "taking back")] == [
        "moving off", "taking back",
    ]  # fmt: skip
    await sync_to_async(site.post)(f"runs/{run}/start")
    await site.work()
    assert (await RunServer.objects.aget(run_id=run)).ended == "level"
    assert desk_log(site) == [("work.move-off", "surge-03"), ("work.take-back", "surge-03")]
    told = [entry["text"] for entry in (await sync_to_async(site.get)(f"runs/{run}/tape"))]
    assert "asked work desk: move its work off" in told and "done by work desk" in told


async def test_a_person_ticks_what_no_hook_does_and_the_list_of_calls_says_where(site):
    await sync_to_async(move)(mover="person")
    run = await prepared(site)
    await sync_to_async(site.post)(f"runs/{run}/start")
    seen = []

    async def tick():
        while len(seen) < 2:
            await asyncio.sleep(0.05)
            for row in await sync_to_async(site.get)("calls"):
                row_run = await sync_to_async(site.get)(f"runs/{run}")
                assert row_run["asking"] == 1 and row_run["servers"][0]["errand"]["text"] == row["text"]
                await sync_to_async(site.post)(
                    f"runs/{run}/servers/surge-03/tick", {"key": row["key"], "note": "with the night desk"}
                )
                assert (row["kind"], row["rack"], row["server"]) == ("tick", "", "surge-03")
                seen.append((row_run["servers"][0]["errand"]["errand"], row["text"]))

    await asyncio.gather(site.work(), tick())
    assert [kind for kind, _ in seen] == ["move off", "take back"]
    assert seen[0][1] == "Move the work off surge-03: it is about to go away."
    told = [entry["text"] for entry in (await sync_to_async(site.get)(f"runs/{run}/tape"))]
    assert told.count("done by technician: with the night desk") == 2
    assert await TrailEntry.objects.filter(command="tick what was done").acount() == 2


async def test_a_tick_for_something_else_is_refused_and_changes_nothing(site):
    run = await prepared(site)
    answer = site.browser.post
    refused = await sync_to_async(answer)(
        f"/api/v1/runs/{run}/servers/surge-03/tick", {"key": "another"}, content_type="application/json"
    )
    assert refused.status_code == 409 and b"does not wait for that" in refused.content


async def test_a_desk_that_refuses_is_told_on_the_page_and_a_person_may_do_it_instead(site, desk):
    await sync_to_async(move)(mover="hook", hook="work desk")
    site.live.floor.desk.faults.append(DeskFault("refuses", on="work.move-off", times=10_000))
    run = await prepared(site)
    await sync_to_async(site.post)(f"runs/{run}/start")
    told = set()

    async def step_in():
        while not told or (await RunServer.objects.aget(run_id=run)).errand is None:
            await asyncio.sleep(0.05)
            told.add((await RunServer.objects.aget(run_id=run)).detail)
        place = await RunServer.objects.aget(run_id=run)
        await sync_to_async(site.post)(f"runs/{run}/servers/surge-03/tick", {"key": place.errand_key})

    await asyncio.gather(site.work(), step_in())
    tape = [entry["text"] for entry in (await sync_to_async(site.get)(f"runs/{run}/tape"))]
    assert "done by technician" in tape
    assert (await Hook.objects.aget(pk=desk.pk)).told in ("not now", "")


async def test_a_server_whose_work_stays_elsewhere_is_not_given_back_by_a_reading(site, desk):
    await sync_to_async(move)(mover="hook", hook="work desk")
    site.live.floor.desk.faults.append(DeskFault("refuses", on="work.take-back", times=10**6))
    run = await prepared(site)
    await sync_to_async(site.post)(f"runs/{run}/start")
    await site.work()
    place = await RunServer.objects.aget(run_id=run)
    assert place.ended == "failed" and "its work was not taken back" in place.reason
    await sync_to_async(site.post)("surveys")
    await site.work()
    lease = await AwayLease.objects.aget(server__name="surge-03")
    assert lease.kept and lease.doubt.startswith("its work is still elsewhere")
    await sync_to_async(site.post)("away/surge-03/back", {"reason": "taken back by hand"})
    assert not await AwayLease.objects.aexists()


def test_the_secret_is_given_out_once_and_kept_encrypted(site):
    person = Person(site.browser)
    made = person.post("hooks", {"name": "desk", "url": site.live.floor.desk_url})
    assert made["secret"].startswith("whsec_")
    assert made["secret"] not in str(person.get("hooks")) and "secret" not in person.get("hooks")[0]
    kept = Hook.objects.get()
    assert kept.secret() == made["secret"] and made["secret"].encode() not in bytes(kept.sealed_secret)
    assert made["secret"] not in str(list(TrailEntry.objects.values()))
    tried = person.post(f"hooks/{made['id']}/try")
    assert tried["told"] == "it answered 401", "the desk has another secret"
    assert tried["answered_at"]


@pytest.mark.parametrize(
    "url", ["http://127.20.100.4/work", "https://10.0.0.1/", "https://a:b@127.0.0.1/", "ftp://x/", "https:///"]
)
def test_a_hook_is_asked_over_https_at_an_address_this_house_goes_out_to(site, url):
    status, problem = Person(site.browser).post("hooks", {"name": "desk", "url": url})
    assert status == 422 and problem["field"] == "url" and not Hook.objects.exists()


def test_a_hook_that_moves_work_is_not_forgotten(site, desk):
    move(mover="hook", hook="work desk")
    status, problem = Person(site.browser).delete(f"hooks/{desk.pk}")
    assert status == 409 and "surge ensemble" in problem["detail"] and Hook.objects.exists()


def test_a_group_that_asks_a_hook_names_one(site):
    status, problem = Person(site.browser).patch("groups/surge ensemble", {"mover": "hook"})
    assert status == 422 and problem["field"] == "hook"
    status, problem = Person(site.browser).patch("groups/surge ensemble", {"mover": "hook", "hook": "nobody"})
    assert status == 422 and problem["detail"] == "There is no hook nobody."


class Elsewhere:
    """A hook that answers as it is told."""

    def __init__(self, authority) -> None:
        self.authority, self.answer, self.asked = authority, None, []

    async def __aenter__(self):
        app = http.Application()
        app.router.add_route("*", "/{tail:.*}", self._handle)
        self.runner = http.AppRunner(app)
        await self.runner.setup()
        site = http.TCPSite(self.runner, DESK_ADDRESS, 0, ssl_context=self.authority.context(DESK_ADDRESS, "desk"))
        await site.start()
        self.url = f"https://{DESK_ADDRESS}:{self.runner.addresses[0][1]}/work"
        return self

    async def __aexit__(self, *_):
        await self.runner.cleanup()

    async def _handle(self, request):
        self.asked.append((request.method, request.path, request.headers.get("webhook-id")))
        return self.answer()


ANSWERS = {
    "done": (lambda: http.Response(), HelpState.DONE, ""),
    "taken on": (lambda: http.Response(status=202), HelpState.PENDING, ""),
    "not now": (
        lambda: http.json_response({"reason": "a surge is on"}, status=409),
        HelpState.REFUSED,
        "a surge is on",
    ),
    "unknown": (lambda: http.Response(status=404), HelpState.REFUSED, "it answered 404"),
    "out of order": (lambda: http.Response(status=500), HelpState.PENDING, "it answered 500"),
    "leads elsewhere": (lambda: http.Response(status=302, headers={"Location": "https://x/"}), HelpState.REFUSED, ""),
    "no object": (lambda: http.Response(status=409, text="[1]"), HelpState.REFUSED, "it answered 409"),
    "steers": (lambda: http.json_response({"reason": "no\x1b[2J"}, status=409), HelpState.REFUSED, "no\ufffd[2J"),
    "endless": (lambda: http.Response(text="x" * 2_000_000), HelpState.DONE, ""),
}


@pytest.mark.parametrize("how", ANSWERS)
async def test_whatever_a_hook_answers_has_one_meaning(site, how):
    answer, state, note = ANSWERS[how]
    async with Elsewhere(site.live.floor.authority) as hook:
        hook.answer = answer
        found = _help_of(await ask_hook(hook.url, DESK_SECRET, "key-1", {"type": "work.move-off"}), "desk")
        assert found.state is state and (not note or found.note == note)
        assert len(hook.asked) == 1 and hook.asked[0][2] == "key-1"


async def test_a_hook_that_is_not_there_has_not_begun_anything(site):
    found = await ask_hook(f"https://{DESK_ADDRESS}:9/", DESK_SECRET, "key-1", {})
    assert _help_of(found, "desk").state is HelpState.SILENT and found.told == "the hook can't be reached"


async def test_where_it_looks_is_only_ever_the_hook_itself(site):
    async with Elsewhere(site.live.floor.authority) as hook:
        for where, kept in (("/work/7", True), ("https://127.20.100.9/x", False), ("", False)):
            hook.answer = lambda where=where: http.Response(status=202, headers={"Location": where} if where else {})
            found = await ask_hook(hook.url, DESK_SECRET, "key-1", {})
            assert bool(found.look_at) is kept, where


async def test_what_a_hook_has_forgotten_is_asked_again_under_the_same_key(site, desk):
    await sync_to_async(move)(mover="hook", hook="work desk")
    run = await prepared(site)
    errand = Errand(kind=ErrandKind.MOVE_OFF)
    await RunServer.objects.filter(run_id=run).aupdate(
        errand={"kind": "move off", "slot": "", "to": "", "what": "", "of": "work desk", "since": ""}, errand_key="k"
    )
    helpers = DatabaseHelpers()
    site.live.floor.desk.seconds = 1e9
    assert await helpers.helper(str(run), "surge-03", errand) == "work desk"
    assert (await helpers.ask(str(run), "surge-03", errand, "k")).state is HelpState.PENDING
    site.live.floor.desk.orders.clear()
    found = await helpers.ask(str(run), "surge-03", errand, "k")
    assert (found.state, found.note) == (HelpState.PENDING, "it has forgotten what it took on; it is asked again")
    await helpers.ask(str(run), "surge-03", errand, "k")
    assert desk_log(site, "taken on") == [("work.move-off", "surge-03")] * 2
