"""The sheet as a document: windows of the house, waves, what can't be, who approves, what is left over, on paper."""

from __future__ import annotations

import datetime
import json
import re

import pytest
from playwright.sync_api import expect

from ordnung.demo.seed import PEOPLE
from ordnung.formats.sheet import check_sheet, parse_sheet
from tests.journeys.axe import check_axe
from tests.journeys.browser import open_page, sign_in, throw_away

PAIR = ["gauge-01", "gauge-02"]
SEVERAL = [*PAIR, "surge-03", "surge-04", "surge-07", "surge-08", "chart-02", "chart-03"]


@pytest.fixture
def api(read_demo):
    return read_demo.api


@pytest.fixture
def draft(api, page):
    """A sheet for a few servers; gone afterwards."""
    made = api.post("runs", {"servers": SEVERAL})
    yield made
    throw_away(api, page, made["id"])


def side(page):
    return page.get_by_role("complementary", name="Run sheet: details")


def test_a_window_over_the_night_of_the_clock_change_is_as_long_as_the_night(page, read_demo, api):
    page.goto(f"{read_demo.web}/house?week=2027-10-25")
    nights = page.get_by_role("list", name="Nights of the week")
    page.get_by_role("button", name="New window").click()
    editor = page.get_by_role("complementary", name="House: details")
    editor.get_by_label("Name").fill("Saturday night")
    editor.get_by_label("First on").fill("2027-10-02")
    editor.get_by_label("Opens").fill("22:00")
    editor.get_by_label("Closes", exact=True).fill("21:00")
    editor.get_by_label("Closes on").click()
    page.get_by_role("option", name="the same day").click()
    editor.get_by_label("Comes").click()
    page.get_by_role("option", name="on days of the week").click()
    editor.get_by_role("button", name="Sat").click()
    editor.get_by_role("button", name="Thu").click()
    expect(editor.get_by_text("every week on Sat")).to_be_visible()
    editor.get_by_role("button", name="Keep it").click()
    expect(editor.get_by_role("alert")).to_contain_text("It closes before it opens. Does it go over midnight?")
    editor.get_by_label("Closes on").click()
    page.get_by_role("option", name="the next day").click()
    editor.get_by_label("Closes", exact=True).fill("05:00")
    check_axe(page, "light")
    editor.get_by_role("button", name="Keep it").click()
    night = nights.get_by_role("listitem").filter(has_text="Sat 30 Oct")
    expect(
        night.get_by_role("button", name="Saturday night 22:00 to 05:00, 8 h, the clock is put back")
    ).to_be_visible()
    page.get_by_role("button", name="Week after").click()
    expect(nights.get_by_role("button", name="Saturday night 22:00 to 05:00, 7 h")).to_be_visible()
    nights.get_by_role("button", name="Saturday night").click()
    editor.get_by_role("button", name="Delete Saturday night").click()
    expect(nights.get_by_role("button", name="Saturday night")).to_have_count(0)
    expect(page.get_by_role("link", name=re.compile("^window "))).to_be_visible()
    page.trouble[:] = [t for t in page.trouble if "422" not in t]


def test_waves_are_proposed_moved_by_keys_and_by_dragging_and_told_beforehand(page, read_demo, draft):
    page.goto(f"{read_demo.web}/run-sheet/{draft['id']}?side=waves")
    side(page).get_by_role("button", name="Propose waves").click()
    canary = side(page).get_by_role("region", name="Wave canary")
    first = canary.get_by_role("button", name=re.compile(r"^\w+-\d+$")).first
    name = first.inner_text()
    lanes = page.get_by_role("tree", name="Lanes")
    expect(lanes.get_by_role("treeitem", name=re.compile("^canary: "))).to_be_visible()
    rest = side(page).get_by_role("region", name="Wave rest")
    first.hover()
    page.mouse.down()
    box = rest.bounding_box()
    page.mouse.move(box["x"] + 40, box["y"] + 20, steps=6)
    expect(side(page).get_by_text(re.compile(r"^It would end \d\d:\d\d"))).to_be_visible()
    assert rest.bounding_box() == box, "what is told must not move what it would be dropped on"
    page.mouse.up()
    expect(rest.get_by_role("button", name=name, exact=True)).to_be_visible()
    rest.get_by_role("button", name=name, exact=True).focus()
    page.keyboard.press("Alt+ArrowUp")
    expect(rest.get_by_role("button", name=name, exact=True)).to_have_count(0)
    canary.get_by_label("Minutes to wait after canary").fill("45")
    with page.expect_response(re.compile(r"/sheet$")):
        page.keyboard.press("Enter")
    # While it is being kept, the words of a button fade.
    expect(side(page).get_by_role("button", name="Propose them anew")).to_be_enabled()
    begins = side(page).get_by_label("rest not before")
    begins.fill("23:59")
    expect(side(page).get_by_text(re.compile(r"^It would end \d\d:\d\d"))).to_be_visible()
    begins.press("Enter")
    expect(rest.get_by_role("button", name="At its turn")).to_be_enabled()
    expect(begins).to_have_value("23:59")
    check_axe(page, "light")
    side(page).get_by_role("button", name="Document", exact=True).click()
    came = side(page).get_by_role("region", name="How it came about")
    expect(came.get_by_text(re.compile("lead: waves$")).first).to_be_visible()
    side(page).get_by_role("button", name="Waves", exact=True).click()
    side(page).get_by_role("button", name="rest earlier").click()
    expect(lanes.get_by_role("treeitem").nth(1)).to_have_attribute("aria-label", re.compile("^rest: "))
    side(page).get_by_role("button", name="No waves").click()
    expect(side(page).get_by_role("button", name="Propose waves")).to_be_visible()


def test_a_lane_dragged_onto_its_partner_is_refused_with_the_rule(page, read_demo, api):
    begin = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=300)
    window = {"start": begin.isoformat(), "end": (begin + datetime.timedelta(hours=3)).isoformat()}
    made = api.post("runs", {"servers": PAIR})
    path = f"/api/v1/runs/{made['id']}/sheet"
    pinned = {"server": PAIR[0], "not_before": (begin + datetime.timedelta(hours=1)).isoformat(), "pinned": True}
    page.goto(f"{read_demo.web}/run-sheet/{made['id']}?band=none")
    for change in ({"windows": [window]}, {"wishes": [pinned]}):
        assert page.evaluate(PATCH, [path, change]) == 200
    plans = {s["server"]: s["plan"] for s in api.get(f"runs/{made['id']}")["servers"]}
    assert plans[PAIR[0]][0]["start"] == 3600
    lanes = page.get_by_role("tree", name="Lanes")
    lane = lanes.get_by_role("treeitem", name=re.compile(f"^{PAIR[1]}:"))
    page.reload()
    page.get_by_text("all done with nine in ten").wait_for()
    box = lane.bounding_box()
    far = (3660 - plans[PAIR[1]][0]["start"]) / (3 * 3600 * 1.03) * (box["width"] - 116)
    at = box["x"] + box["width"] * 0.5
    page.mouse.move(at, box["y"] + 12)
    page.mouse.down()
    page.mouse.move(at + far, box["y"] + 12, steps=8)
    told = page.get_by_role("status").filter(has_text=f"{PAIR[1]} at ")
    expect(told).to_contain_text("It can't be:")
    expect(told).to_contain_text("group gauge pair 1 allows 1 away")
    page.mouse.up()
    expect(page.get_by_text(f"{PAIR[1]} can't begin just then: group gauge pair 1 allows 1 away")).to_be_visible()
    assert api.get(f"runs/{made['id']}")["sheet"] == 3
    lanes.focus()
    page.keyboard.press("End")
    page.keyboard.press("Alt+ArrowRight")
    expect(page.get_by_text("Drag a lane to say when it begins")).to_be_visible()
    assert api.get(f"runs/{made['id']}")["sheet"] == 4
    page.trouble[:] = [t for t in page.trouble if "409" not in t]
    throw_away(api, page, made["id"])


def test_who_would_hardly_be_back_in_time_is_left_over_with_the_chance(page, read_demo, api):
    made = api.post("runs", {"servers": ["surge-07"]})
    begin = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=300)
    just = begin + datetime.timedelta(seconds=made["planned_seconds"] + 20)
    page.goto(f"{read_demo.web}/run-sheet/{made['id']}")
    window = {"start": begin.isoformat(), "end": just.isoformat(), "name": ""}
    answer = page.evaluate(PATCH, [f"/api/v1/runs/{made['id']}/sheet", {"windows": [window]}])
    assert answer == 200
    page.goto(f"{read_demo.web}/run-sheet/{made['id']}")
    expect(side(page).get_by_text("surge-07 has no place")).to_be_visible()
    expect(
        side(page).get_by_text(re.compile(r"Left over: back in time with [\d.]+ %, 90 % are asked for"))
    ).to_be_visible()
    expect(page.get_by_text(re.compile("1 server left over"))).to_be_visible()
    throw_away(api, page, made["id"])


PATCH = """async ([path, body]) => {
  const csrf = (await (await fetch('/api/v1/me')).json()).csrf;
  const headers = {'Content-Type': 'application/json', 'X-CSRFToken': csrf};
  return (await fetch(path, {method: 'PATCH', headers, body: JSON.stringify(body)})).status;
}"""


def test_another_person_approves_and_a_changed_sheet_needs_it_again(browser, page, read_demo, api, draft):
    page.goto(f"{read_demo.web}/house")
    page.get_by_role("checkbox", name="A second person approves each sheet").click()
    page.get_by_role("button", name="Decide").click()
    expect(page.get_by_text("Holds from now on.")).to_be_visible()
    path = f"{read_demo.web}/run-sheet/{draft['id']}?side=paper"
    page.goto(path)
    own = side(page).get_by_role("region", name="Approval")
    expect(own.get_by_text("This house wants a second person to approve it")).to_be_visible()
    expect(own.get_by_role("button", name="Approve as it stands")).to_be_disabled()
    with open_page(browser) as other:
        sign_in(other, read_demo.web, PEOPLE["approver"], "approver")
        other.goto(path)
        side(other).get_by_role("button", name="Approve as it stands").click()
        expect(side(other).get_by_role("button", name="Take my approval back")).to_be_visible()
        check_axe(other, "light")
    expect(own.get_by_text("approver, ")).to_contain_text("holds")
    file = parse_sheet(json.dumps(api.get(f"exports/sheets/{draft['id']}.json")).encode())
    assert check_sheet(file) == () and file.approvals[0].by == "approver"
    page.goto(f"{read_demo.web}/run-sheet/{draft['id']}?lane=surge-03")
    side(page).get_by_role("button", name="Leave it out").click()
    page.goto(path)
    expect(own.get_by_text("approver, ")).to_contain_text(re.compile("^holds"))
    side(page).get_by_role("button", name="Waves", exact=True).click()
    side(page).get_by_role("button", name="Add a wave").click()
    side(page).get_by_role("button", name="Document", exact=True).click()
    expect(own.get_by_text("approver, ")).to_contain_text("no longer holds")
    expect(own.get_by_text("changed since: waves")).to_be_visible()
    check_axe(page, "dark")
    page.goto(f"{read_demo.web}/house")
    page.get_by_role("checkbox", name="A second person approves each sheet").click()
    page.get_by_role("button", name="Decide").click()
    expect(page.get_by_text("Holds from now on.")).to_be_visible()


def test_the_checks_stand_in_one_list_and_lead_to_their_servers(page, read_demo, api):
    made = api.post("runs", {"servers": ["chart-14", "vault-08", "surge-03"]})
    page.goto(f"{read_demo.web}/run-sheet/{made['id']}?side=checks")
    checks = side(page).get_by_role("list", name="Checks").get_by_role("listitem")
    expect(checks.filter(has_text="psu-2 has no input")).to_contain_text(re.compile("^stops"))
    expect(checks.filter(has_text="its health is Warning")).to_contain_text(re.compile("^warns"))
    check_axe(page, "light")
    checks.filter(has_text="array").get_by_role("button", name="vault-08").click()
    expect(side(page).get_by_role("button", name="Override the array check")).to_be_visible()
    throw_away(api, page, made["id"])


def test_what_if_is_answered_and_nothing_is_changed(page, read_demo, draft, api):
    page.goto(f"{read_demo.web}/run-sheet/{draft['id']}")
    asked = side(page).get_by_role("region", name="What if")
    asked.get_by_label("may be away of").click()
    page.get_by_role("option", name="gauge pair 1").click()
    expect(asked.get_by_role("status")).to_contain_text(re.compile(r"It would end \d\d:\d\d.+; nobody is left over"))
    at = datetime.datetime.fromisoformat(api.get("site")["now"]) + datetime.timedelta(hours=12)
    asked.get_by_label("it starts at").fill(f"{at:%H:%M}")
    expect(asked.get_by_role("status")).to_contain_text("later than now")
    assert api.get(f"runs/{draft['id']}")["sheet"] == 1


def test_a_sheet_is_made_for_a_window_and_a_group_and_planned_again_as_before(page, read_demo, api):
    page.goto(f"{read_demo.web}/run-sheet?new=1")
    page.get_by_label("For", exact=True).click()
    page.get_by_role("option", name="gauge pair 1", exact=True).click()
    page.get_by_label("Into the window").click()
    page.get_by_role("option", name=re.compile("^Thursday night, ")).click()
    check_axe(page, "light")
    page.get_by_role("button", name="Plan a run for gauge pair 1").click()
    expect(page.get_by_text(re.compile("Window: Thursday night, "))).to_be_visible()
    first = page.url
    side(page).get_by_role("button", name="Document", exact=True).click()
    side(page).get_by_role("button", name="Plan the same again").click()
    expect(page).not_to_have_url(re.compile(re.escape(first)))
    expect(page.get_by_text(re.compile("Window: Thursday night, "))).to_be_visible()
    side(page).get_by_role("button", name="Document", exact=True).click()
    side(page).get_by_label("with another sheet").click()
    page.get_by_role("option").first.click()
    expect(side(page).get_by_role("region", name="Compared").get_by_role("listitem").first).to_be_visible()
    for run in [r for r in api.get("runs") if r["state"] == "draft" and r["name"].startswith("gauge-01")]:
        throw_away(api, page, run["id"])


def test_on_paper_every_lane_stands_with_its_window_and_nothing_that_is_pressed(page, read_demo, api):
    made = api.post("runs", {"window": "Thursday night"})
    page.goto(f"{read_demo.web}/run-sheet/{made['id']}")
    page.get_by_role("tree", name="Lanes").wait_for()
    page.emulate_media(media="print")
    page.evaluate("window.dispatchEvent(new Event('beforeprint'))")
    pages = -(-made["count"] // 20)
    expect(page.get_by_role("heading", name=re.compile(rf"page {pages} of {pages}$"))).to_be_visible()
    for lane in (made["servers"][0], made["servers"][-1]):
        expect(page.get_by_text(lane["server"], exact=True).first).to_be_visible()
    expect(page.get_by_role("button", name="Throw away")).to_be_hidden()
    page.evaluate("window.dispatchEvent(new Event('afterprint'))")
    throw_away(api, page, made["id"])
