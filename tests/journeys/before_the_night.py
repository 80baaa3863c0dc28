"""Before the night: who may be away together is set, and what will stop a server is answered for or left standing."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.journeys.axe import check_axe
from tests.journeys.browser import throw_away


def test_how_many_of_a_group_may_be_away_is_set_on_the_floor(page, read_demo):
    page.goto(f"{read_demo.web}/floor?groups=1")
    groups = page.get_by_role("list", name="Groups").get_by_role("listitem")
    groups.get_by_text("gauge pair 9", exact=True).wait_for()
    names = groups.locator("strong").all_inner_texts()
    assert names.index("gauge pair 2") < names.index("gauge pair 10")
    row = groups.filter(has=page.get_by_text("gauge pair 9", exact=True))
    row.get_by_label("May be away of gauge pair 9").fill("2")
    row.get_by_role("button", name="Change").click()
    row.get_by_role("button", name="Delete gauge pair 9").click()
    expect(row.get_by_text("2 servers would lose the limit")).to_be_visible()
    check_axe(page, "light")
    row.get_by_role("button", name="Keep it").click()
    told = {g["name"]: g["may_be_away"] for g in read_demo.api.get("groups")}
    assert told["gauge pair 9"] == 2


def test_a_lost_feed_is_told_before_the_run_and_answered_for_with_a_reason(page, read_demo):
    api = read_demo.api
    draft = api.post("runs", {"servers": ["chart-14", "vault-08"]})["id"]
    page.goto(f"{read_demo.web}/run-sheet/{draft}")
    side = page.get_by_role("complementary", name="Run sheet: details")
    expect(side.get_by_text("vault-08 is expected to be stopped")).to_be_visible()
    page.goto(f"{read_demo.web}/run-sheet/{draft}?lane=chart-14")
    expect(side.get_by_text(re.compile("psu-2 has no input"))).to_be_visible()
    expect(side.get_by_role("button", name="Override the feed check")).to_be_disabled()
    side.get_by_label("Why chart-14 goes all the same").fill("feed A carries the row")
    side.get_by_role("button", name="Override the feed check").click()
    expect(side.get_by_text("The feed check is overridden: feed A carries the row (lead)")).to_be_visible()
    expect(side.get_by_text(re.compile("its health is Critical"))).to_be_visible()
    check_axe(page, "light")
    side.get_by_role("button", name="Take the override back").click()
    expect(side.get_by_text(re.compile("psu-2 has no input"))).to_be_visible()
    throw_away(api, page, draft)


def test_a_lead_sees_the_chances_what_holds_the_end_and_the_costs_before_signing(page, read_demo):
    api = read_demo.api
    draft = api.post("runs", {"servers": ["vault-01", "vault-02", "gauge-01", "gauge-02", "surge-07"]})["id"]
    page.goto(f"{read_demo.web}/run-sheet/{draft}")
    expected = page.get_by_role("region", name="What to expect")
    expect(expected.get_by_text("all done with nine in ten")).to_be_visible()
    expect(
        expected.get_by_text("What holds the end: how many of gauge pair 1 may be away", exact=False)
    ).to_be_visible()
    expect(expected.get_by_text(re.compile(r"\d+ outages instead of \d+ if each update had its own"))).to_be_visible()
    tail = page.get_by_role("img", name=re.compile("^All done with even chance after .+, nine in ten after"))
    tail.focus()
    expect(page.get_by_role("tooltip")).to_contain_text("99 in 100 after")
    check_axe(page, "light")
    throw_away(api, page, draft)


def test_a_sheet_of_many_is_folded_into_bands_and_walked_by_keys(page, read_demo):
    api = read_demo.api
    draft = api.post("runs", {"servers": []})
    page.goto(f"{read_demo.web}/run-sheet/{draft['id']}")
    lanes = page.get_by_role("tree", name="Lanes")
    first = lanes.get_by_role("treeitem").first
    expect(first).to_have_attribute("aria-expanded", "false")
    expect(first).to_have_attribute("aria-label", re.compile(r"^.+: \d+ servers$"))
    assert lanes.get_by_role("treeitem").count() < draft["count"] / 2
    lanes.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowRight")
    expect(first).to_have_attribute("aria-expanded", "true")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    server = draft["servers"][0]["server"]
    expect(page).to_have_url(re.compile(rf"lane={server}"))
    expect(page.get_by_role("heading", name=server, exact=True)).to_be_visible()
    page.keyboard.press("+")
    page.keyboard.press("+")
    expect(page).to_have_url(re.compile(r"time=\d+-\d+"))
    page.wait_for_timeout(500)  # until the address has settled: what comes next is told from it
    before = page.url
    page.keyboard.press("Shift+ArrowRight")
    expect(page).not_to_have_url(before)
    page.reload()
    expect(lanes.get_by_role("treeitem", name=re.compile(f"^{server}:"))).to_have_attribute("aria-selected", "true")
    check_axe(page, "light")
    lanes.focus()
    page.keyboard.press("0")
    expect(page).not_to_have_url(re.compile("time="))
    page.get_by_role("button", name="by rack").click()
    expect(first).to_have_attribute("aria-label", re.compile(r"^\S+ \S+: \d+ server"))
    rows = page.get_by_role("table", name="What will be done").get_by_role("row")
    assert rows.count() < draft["count"], "equal plans are told once"
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys of this place")).to_contain_text("follow now")
    throw_away(api, page, draft["id"])
