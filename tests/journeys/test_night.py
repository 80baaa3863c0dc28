"""The night through the real interface: waves and gates, hands, questions, a failing wave, and going back. One demo."""

from __future__ import annotations

import dataclasses
import datetime
import re
from concurrent.futures import ThreadPoolExecutor

import pytest
from playwright.sync_api import Page, expect

from ordnung.core.components import Component, Server
from ordnung.standins.hardware import writes_of
from tests.fieldkit.test_commands import run as command
from tests.journeys.axe import check_axe
from tests.journeys.browser import open_page
from tests.journeys.browser import sign_in as enter
from tests.journeys.site import Api, Demo, control, read_log
from tests.kit_journal import KIT, journal, whole

pytestmark = pytest.mark.journey
LONG = 120_000


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    found = Demo(tmp_path_factory.mktemp("demo"))
    api = found.api
    api.be_patient()
    api.post("surveys")
    api.wait_for_work()
    for work in api.get("work?limit=50"):
        api.post(f"work/{work['id']}/seen")
    yield found
    assert found.stop() == 0, found.log.read_text()


@pytest.fixture
def page(browser, demo):
    with open_page(browser) as found:
        yield found


def sign_in(page: Page, demo: Demo, path: str = "/") -> None:
    enter(page, demo.web + path, demo.password)


def by_one_reboot(api: Api, kind: str) -> list[str]:
    """Servers of a kind that one reboot brings level."""
    rest = api.get("servers?sort=-off&limit=1000")["servers"]
    return [s["name"] for s in rest if s["resets"] == "1 reboot" and not s["failure"] and s["name"].startswith(kind)]


def pack(api: Api, names: list[str]) -> None:
    api.post("repositories", {"servers": names})
    assert api.wait_for_work()["state"] == "done"


def test_a_wave_waits_for_a_person_and_one_server_is_held(page, demo):
    api = demo.api
    names = by_one_reboot(api, "surge")[-2:]
    pack(api, names)
    run = api.post("runs", {"servers": names})
    begin = datetime.datetime.fromisoformat(run["drafted_at"])
    window = {"start": run["drafted_at"], "end": (begin + datetime.timedelta(days=2)).isoformat(), "name": ""}
    api.patch(f"runs/{run['id']}/sheet", {"windows": [window]})
    sign_in(page, demo, f"/run-sheet/{run['id']}?side=waves")
    details = page.get_by_role("complementary", name="Run sheet: details")
    details.get_by_role("button", name="Add a wave").click()
    details.get_by_role("region", name="Wave wave 1").wait_for()
    details.get_by_role("button", name="Add a wave").click()
    details.get_by_role("region", name="Wave wave 2").wait_for()
    details.get_by_role("button", name=names[1], exact=True).focus()
    page.keyboard.press("Alt+ArrowDown")
    first, second = (details.get_by_role("region", name=f"Wave wave {n}") for n in (1, 2))
    second.get_by_role("button", name=names[1], exact=True).wait_for()
    first.get_by_label("Then", exact=True).click()
    page.get_by_role("option", name="a person lets it go on").click()
    page.get_by_role("button", name="Start: update 2 servers now").click()
    asks = page.get_by_role("alert").filter(has_text="wave 1 has ended: go on?")
    expect(asks).to_contain_text("All 1 went well.", timeout=LONG)
    ends = details.get_by_role("region", name="Window")
    ends.get_by_label("End it later, at").fill(f"{(begin + datetime.timedelta(hours=3)):%H}:59")
    ends.get_by_role("button", name="End it then").click()
    expect(ends).to_contain_text(re.compile(rf"It ends .*{(begin + datetime.timedelta(hours=3)):%H}:59"))
    check_axe(page, "light")
    page.goto(f"{demo.web}/run-sheet/{run['id']}?lane={names[1]}")
    expect(page.get_by_role("table", name="State of each server")).to_contain_text(
        "a person lets it go on after wave 1"
    )
    details.get_by_role("button", name=f"Hold {names[1]} before its next step").click()
    meant = page.get_by_role("dialog")
    expect(meant).to_contain_text(f"{names[1]} has not begun and begins only when it is let go on.")
    meant.get_by_role("button", name=f"Hold {names[1]} before its next step").click()
    details.get_by_role("button", name=f"Let {names[1]} go on").wait_for()
    asks.get_by_role("button", name="Let the next wave begin").click()
    expect(page.get_by_role("table", name="State of each server")).to_contain_text("held before the next step")
    details.get_by_role("button", name=f"Let {names[1]} go on").click()
    meant.get_by_role("button", name=f"Let {names[1]} go on").click()
    expect(page.get_by_role("heading", name="Ended, 2 of 2 servers done")).to_be_visible(timeout=LONG)


def test_a_step_by_hand_is_ticked_from_a_phone_and_the_call_is_seen(page, demo):
    """The backplane of a storage server wants a look at its lights: called on every page, ticked at the rack."""
    api = demo.api
    pack(api, ["vault-18"])
    run = api.post("runs", {"servers": ["vault-18"]})
    assert "See that the light" in run["servers"][0]["hands"][0]["what"]
    api.post(f"runs/{run['id']}/start")
    page.set_viewport_size({"width": 390, "height": 800})
    sign_in(page, demo, "/floor")
    page.get_by_role("link", name=re.compile("call.* for a person")).click(timeout=LONG)
    rack = page.get_by_role("region", name="Hill annex, rack H2")
    row = rack.get_by_role("listitem").filter(has_text="vault-18")
    expect(row).to_contain_text("See that the light of each drive bay is green.", timeout=LONG)
    expect(row).to_contain_text("to do", timeout=LONG)
    check_axe(page, "light")
    row.get_by_role("button", name="Seen: vault-18").click()
    expect(row).to_contain_text("seen by lead")
    assert re.fullmatch(r"(\(\d+\) )?Ordnung", page.title())
    row.get_by_label("A note on vault-18").fill("one was amber, reseated")
    row.get_by_role("button", name="Done: vault-18").click()
    expect(row).to_have_count(0)
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(f"{demo.web}/run-sheet/{run['id']}?lane=vault-18")
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    told = [entry["text"] for entry in api.get(f"runs/{run['id']}/tape?server=vault-18")]
    assert "done by lead: one was amber, reseated" in told


def test_work_is_moved_off_by_the_house_s_own_desk_and_who_does_it_is_chosen(page, demo):
    api = demo.api
    sign_in(page, demo, "/house")
    hooks = page.get_by_role("region", name="Hooks")
    hooks.get_by_role("button", name="Try work desk").click()
    expect(hooks.get_by_role("status").filter(has_text="answered")).to_be_visible()
    page.get_by_role("button", name="charts", exact=True).click()
    group = page.get_by_role("form", name="Group charts")
    group.get_by_label("Before one goes away, its work").click()
    page.get_by_role("option", name="is moved off by a hook").click()
    group.get_by_role("button", name="Change").click()
    expect(group.get_by_text("Say which hook is asked for charts.")).to_be_visible()
    page.trouble[:] = [told for told in page.trouble if "422" not in told]
    group.get_by_label("Hook", exact=True).click()
    page.get_by_role("option", name="work desk").click()
    group.get_by_label("Moving off, minutes").fill("2")
    check_axe(page, "light")
    group.get_by_role("button", name="Change").click()
    expect(page.get_by_text("work moved off by work desk (2 min off, 0 min back)")).to_be_visible()
    found = next(row for row in api.get("groups") if row["name"] == "charts")
    assert (found["mover"], found["hook"], found["off_seconds"]) == ("hook", "work desk", 120)
    api.patch("groups/charts", {"mover": "", "hook": ""})


def start_one(page: Page, demo: Demo, api: Api, name: str, manner: str):
    """A run of one server that has a manner, under way and open; the run, and what the server asks on its sheet."""
    control(demo.control, f"/servers/{name}/quirks", {"quirks": [manner]})
    pack(api, [name])
    run = api.post("runs", {"servers": [name]})
    api.post(f"runs/{run['id']}/start")
    sign_in(page, demo, f"/run-sheet/{run['id']}")
    return run, page.get_by_role("alert").filter(has_text=f"{name} asks")


def test_a_restart_that_does_not_come_to_pass_is_a_question_on_the_sheet(page, demo):
    api = demo.api
    name = by_one_reboot(api, "surge")[0]
    run, asks = start_one(page, demo, api, name, "graceful ignored")
    expect(asks).to_contain_text("did not carry out the graceful restart within 15 min", timeout=LONG)
    page.get_by_role("button", name=f"Restart {name} by force").click()
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    log = read_log(demo.control, name)["log"]
    assert [e["kind"] for e in log if e["what"] == "reset"][-1:] == ["server reboot"]
    assert [e["what"] for e in log].count("graceful restart ignored") == 1
    texts = [entry["text"] for entry in api.get(f"runs/{run['id']}/tape?server={name}")]
    assert "lead answered: restart it by force" in texts


def test_a_controller_that_lets_nobody_in_after_its_image_is_settled_on_the_sheet_and_the_run_goes_on(page, demo):
    api, name = demo.api, "gauge-04"
    target = next(row for row in demo.targets if row["name"] == name)
    run, asks = start_one(page, demo, api, name, "certificate anew")
    expect(asks).to_contain_text("Certificate changed", timeout=LONG)
    expect(asks).to_contain_text("shown ")
    check_axe(page, "light")
    asks.get_by_role("button", name="Accept the shown certificate").click()
    expect(asks).to_contain_text("its password was cleared when its certificate changed", timeout=LONG)
    asks.get_by_label("Controller password").fill(target["password"])
    asks.get_by_role("button", name="Keep and read again").click()
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    texts = [entry["text"] for entry in api.get(f"runs/{run['id']}/tape?server={name}")]
    assert texts.count("lead answered: that is settled") == 2


def test_a_failing_wave_holds_the_rest_and_what_went_is_put_back(page, demo):
    """The canary refuses its image; a person lets the others go, reads the record, and takes their wave back."""
    api = demo.api
    canary, *others = by_one_reboot(api, "chart")[:3]
    pack(api, [canary, *others])
    before = {name: read_log(demo.control, name)["versions"] for name in others}
    run = api.post("runs", {"servers": [canary, *others], "name": "Charts"})
    waves = [{"name": "canary", "servers": [canary]}, {"name": "rest", "servers": others}]
    api.patch(f"runs/{run['id']}/sheet", {"waves": waves})
    slot = next(s for s in run["servers"] if s["server"] == canary)["rounds"][0]["writes"][0]["slot"]
    control(demo.control, f"/servers/{canary}/faults", {"kind": "image refused", "slot": slot, "times": 99})
    sign_in(page, demo, f"/run-sheet/{run['id']}")
    page.get_by_role("button", name="Start: update 3 servers now").click()
    asks = page.get_by_role("alert").filter(has_text="canary has ended: go on?")
    expect(asks).to_contain_text(canary, timeout=LONG)
    assert not [n for n in others if writes_of(read_log(demo.control, n)["log"])], "the rest has not begun"
    asks.get_by_role("button", name="Let the next wave begin").click()
    expect(page.get_by_role("heading", name="Ended, 3 of 3 servers done")).to_be_visible(timeout=LONG)
    control(demo.control, f"/servers/{canary}/faults?kind=image+refused", method="DELETE")

    page.get_by_role("link", name="Open its record").click()
    summary = page.get_by_role("region", name="Summary")
    expect(summary).to_contain_text("2 of 3 servers are level with the baseline.")
    expect(summary).to_contain_text(f"{canary} needs a person")
    people = page.get_by_role("table", name="What people did")
    expect(people).to_contain_text("let a run go on after a wave")
    check_axe(page, "light")
    page.get_by_role("button", name="Take rest back").click()
    expect(page.get_by_role("heading", name=re.compile("^Take back rest of Charts"))).to_be_visible()
    page.get_by_role("button", name="Start: update 2 servers now").click()
    expect(page.get_by_role("heading", name="Ended, 2 of 2 servers done")).to_be_visible(timeout=LONG)
    assert {name: read_log(demo.control, name)["versions"] for name in others} == before


def test_the_record_is_printed_and_verified_elsewhere(page, demo, tmp_path):
    api = demo.api
    run = next(row for row in api.get("runs") if row["name"] == "Charts")
    sign_in(page, demo, f"/record/{run['id']}")
    page.get_by_role("table", name="Before and after").wait_for()
    with page.expect_download() as saving:
        page.get_by_role("link", name="Signed record").click()
    file = tmp_path / "record.json"
    saving.value.save_as(file)
    code, out, err = command("record", "verify", file)
    assert code == 0 and "It is what the site gave out." in out, err
    page.emulate_media(media="print")
    expect(page.get_by_role("region", name="The record as files")).to_be_hidden()
    expect(page.get_by_role("region", name="Summary")).to_be_visible()
    expect(page.get_by_role("table", name="Before and after")).to_be_visible()
    assert page.pdf(format="A4", landscape=True)[:5] == b"%PDF-"


def test_a_bank_is_switched_from_the_floor(page, demo):
    """surge-02 is level and its other bank holds the BIOS before: it goes back to it without a byte being sent."""
    api = demo.api
    sign_in(page, demo, "/floor?servers=surge-02")
    panel = page.get_by_role("complementary", name="Floor: details")
    panel.get_by_text("What bios can go back to").click()
    way = panel.get_by_role("list", name="Ways back of bios")
    expect(way).to_contain_text("in its second bank: switched to, nothing is written; 1 reboot")
    check_axe(page, "light")
    way.get_by_role("button", name="Switch to 3.0.5: bios of surge-02").click()
    expect(page.get_by_role("heading", name="Take back bios of surge-02 to 3.0.5")).to_be_visible()
    page.get_by_role("button", name="Start: update 1 server now").click()
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    told = read_log(demo.control, "surge-02")
    assert told["versions"]["bios"] == "3.0.5" and writes_of(told["log"]) == []
    assert api.get("servers/surge-02")["parts"][0]["version"] == "3.0.5"


def test_reboots_are_left_to_whenever_they_come_and_called_until_a_reading_shows_it(page, demo):
    api = demo.api
    name = "surge-05"
    pack(api, [name])
    run = api.post("runs", {"servers": [name]})
    sign_in(page, demo, f"/run-sheet/{run['id']}")
    reboots = page.get_by_role("region", name="Reboots")
    leave = reboots.get_by_role("button", name="Leave them to the next reboot")
    expect(leave).to_be_disabled()
    reboots.get_by_role("checkbox", name="I know that a server may come up with new firmware").click()
    leave.click()
    expect(reboots).to_contain_text("This run resets no system.")
    check_axe(page, "light")
    page.get_by_role("button", name="Start: update 1 server now").click()
    states = page.get_by_role("table", name="State of each server")
    expect(states).to_contain_text("written, and active at the next reboot, whenever that is", timeout=LONG)
    assert not [entry for entry in read_log(demo.control, name)["log"] if entry["what"] == "reset"]
    page.goto(f"{demo.web}/calls")
    row = page.get_by_role("listitem").filter(has_text=name)
    expect(row).to_contain_text("It waits for a reboot, whenever that comes")
    check_axe(page, "light")


def test_a_server_is_brought_level_by_a_disc_in_its_virtual_media(page, demo):
    """The kit starts from the disc, does what stands on the sheet over its reboots, and is gone again."""
    api = demo.api
    name = "surge-09"
    packed = api.post("repositories", {"servers": [name], "boots": True, "name": "Discs for the edge"})
    api.wait_for_work()
    api.post(f"repositories/{packed['id']}/written", {"shape": "iso"})
    api.wait_for_work()
    run = api.post("runs", {"servers": [name]})
    sign_in(page, demo, f"/run-sheet/{run['id']}")
    brought = page.get_by_role("region", name="How it is brought")
    brought.get_by_label("What brings the payloads").click()
    page.get_by_role("option", name=re.compile("^a disc: Discs for the edge, edition 1")).click()
    expect(brought).to_contain_text("out of service from then until it is level")
    expect(page.get_by_text("1 outage by its disc")).to_be_visible()
    expect(page.get_by_role("region", name="Reboots")).to_have_count(0)
    check_axe(page, "light")
    page.get_by_role("button", name="Start: update 1 server now").click()
    states = page.get_by_role("table", name="State of each server")
    expect(states).to_contain_text("by the kit", timeout=LONG)
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    told = read_log(demo.control, name)
    what = [entry["what"] for entry in told["log"]]
    assert told["versions"]["bios"] == "3.2.0" and what.index("disc started") < what.index("write begun")
    assert what.count("media inserted") == what.count("media ejected") == 1
    page.goto(f"{demo.web}/record/{run['id']}")
    record = page.get_by_role("region", name="Record of a run")
    expect(record).to_contain_text("3.2.0")
    expect(record).to_contain_text("as it was")
    check_axe(page, "light")


def test_what_a_field_kit_did_is_carried_home(page, demo, tmp_path):
    """The annex has no network: the stick's journal becomes a run on record, with its reading."""
    told = demo.api.get("servers/watch-01")
    read = {"model": told["model"], "serial": told["serial"], "read_at": datetime.datetime.now(datetime.UTC)}
    bios = Component(slot="bios", kind="bios", name="BIOS", version="1.0")
    before = Server(name=KIT, components=(bios,), **read)
    after = dataclasses.replace(before, components=(dataclasses.replace(bios, version="9.9"),))
    with ThreadPoolExecutor(1) as elsewhere:  # this thread's loop is the browser's
        elsewhere.submit(journal, tmp_path, whole(before, after)).result()
    sign_in(page, demo, "/record")
    page.get_by_label("journal.jsonl of a field kit").set_input_files(tmp_path / "journal.jsonl")
    page.get_by_role("status", name="Carried in").get_by_role("link", name="watch-01").click()
    page.get_by_role("heading", name="watch-01 brought level by a field kit").wait_for()
    expect(page.get_by_role("region", name="Record of a run")).to_contain_text("9.9")
    page.get_by_label("journal.jsonl of a field kit").set_input_files(tmp_path / "journal.jsonl")
    expect(page.get_by_text("is on record already")).to_be_visible()


def follow_the_folder(api: Api) -> None:
    """The packages that Pellam sends, since it publishes no catalog, become part of the baseline."""
    api.post("catalog-sources/fetch")
    api.wait_for_work()
    held = api.get("baseline")["revision"]
    issue = next(issue for issue in api.get("baseline")["issues"] if issue["maker"] == "Pellam")
    own = {"model": "", "maker": "Pellam", "catalog": issue["catalog"], "issue": issue["issue"]}
    follows = [one for one in held["follows"] if one["maker"]]
    told = {"rules": held["rules"], "follows": [*follows, own], "note": "Pellam too", "basis": held["number"]}
    api.post("baseline/revisions", told)


def test_a_blank_flash_store_and_a_damaged_partition_are_put_right(page, demo):
    """watch-05's store came blank as a spare part, a partition of watch-07 is damaged: set up anew, then filled."""
    api = demo.api
    follow_the_folder(api)
    pack(api, ["watch-05", "watch-07"])
    sign_in(page, demo, "/floor?servers=watch-07")
    panel = page.get_by_role("complementary", name="Floor: details")
    expect(panel).to_contain_text("a run sets it up anew and fills it; what it still holds is lost then")
    run = api.post("runs", {"servers": ["watch-05", "watch-07"]})
    page.goto(f"{demo.web}/run-sheet/{run['id']}?side=checks")
    expect(page.get_by_text("whatever could still be read of it is lost")).to_be_visible()
    check_axe(page, "light")
    page.get_by_role("button", name="Start: update 2 servers now").click()
    page.get_by_role("link", name="Open its record").click(timeout=LONG)
    expect(page.get_by_text("All 2 servers are level with the baseline.")).to_be_visible()
    record = page.get_by_role("region", name="Record of a run")
    for told in ("store-diag blank → 5.4", "store-tools blank → 2.0", "store-drivers damaged → 2026.1"):
        expect(record).to_contain_text(told)
    expect(record.get_by_text("as it was")).to_have_count(2)
    versions = read_log(demo.control, "watch-05")["versions"]
    assert (versions["store-diag"], versions["store-drivers"], versions["store-tools"]) == ("5.4", "2026.1", "2.0")
    acts = [entry for entry in read_log(demo.control, "watch-07")["log"] if entry["what"] == "set up"]
    assert [entry["slots"] for entry in acts] == [["store-drivers"]], "nothing but the damaged one was set up"
