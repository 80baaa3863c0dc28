"""Adding servers, trusting them, watching a survey, reading again what failed, finding what vanished."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.journeys.axe import check_axe
from tests.journeys.browser import expect_work, let_failures_go, open_page, sign_in
from tests.journeys.site import Api, control, read_log, wait_until

LONG = 120_000
AWAY = ("surge-45", "surge-46", "surge-47", "surge-48", "vault-16", "vault-17", "vault-18", "watch-06")


@pytest.fixture(scope="module")
def port(read_demo):
    return read_demo.device_port


@pytest.fixture(scope="module")
def demo(read_demo):
    """It knows everything but rack H2 and one desk with a certificate of its own; all others are read."""
    api = read_demo.api
    for name in AWAY:
        api.delete(f"servers/{name}")
    return read_demo


def reach(page: Page, role: str, name: str | re.Pattern) -> None:
    """Go to a control with the tab key alone."""
    wanted = page.get_by_role(role, name=name)
    wanted.wait_for()
    for _ in range(60):
        if wanted.evaluate("node => node === document.activeElement"):
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"the tab key does not lead to {role} {name}")


def test_1_a_range_is_added_by_keyboard_alone(page, demo, port):
    page.goto(demo.web)
    page.get_by_role("navigation", name="Places").wait_for()
    page.keyboard.press("/")
    page.keyboard.type("Add servers")
    page.keyboard.press("Enter")
    reach(page, "textbox", "Addresses of management controllers")
    page.keyboard.type(f"127.20.22.1-127.20.22.42:{port}\n127.20.14.24:{port}")
    reach(page, "textbox", "Controller user")
    page.keyboard.type("ordnung")
    reach(page, "textbox", "Controller password")
    page.keyboard.type("kelp-and-slate")
    reach(page, "button", "Look who is there")
    page.keyboard.press("Enter")
    expect(page.get_by_text("43 addresses: 8 new, 35 without a server")).to_be_visible(timeout=LONG)
    found = page.get_by_role("list", name="Found")
    expect(found.get_by_role("listitem")).to_have_count(8)
    expect(found.get_by_text("Corvane Reed 12, CRV14-0045")).to_be_visible()
    expect(found.get_by_text("The fleet's authority does not vouch for it")).to_be_visible()

    let_failures_go(page)
    reach(page, "textbox", f"Name for https://127.20.14.24:{port}")
    page.keyboard.press("Control+a")
    page.keyboard.type("watch-06")
    reach(page, "button", "Add 8 servers and read")
    page.keyboard.press("Enter")
    expect(found.get_by_text("compare its fingerprint and accept it first")).to_be_visible()
    expect_work(page, "7 new servers", "7 read")

    reach(page, "checkbox", re.compile("I have compared the fingerprint"))
    page.keyboard.press("Space")
    reach(page, "button", "Add 1 server and read")
    page.keyboard.press("Enter")
    expect_work(page, "Reading watch-06", "1 read")
    expect(page.get_by_role("heading", name="watch-06")).to_be_visible()


def test_2_adding_them_again_finds_them_known_and_a_moved_one_is_followed(page, demo, port):
    control(demo.control, "/servers/surge-45/move", {"address": "127.20.22.99"})
    page.goto(f"{demo.web}/floor?add=1")
    let_failures_go(page)
    page.get_by_label("Addresses of management controllers").fill(
        f"127.20.22.40-127.20.22.41:{port}, 127.20.22.99:{port}"
    )
    page.get_by_label("Controller user").fill("ordnung")
    page.get_by_label("Controller password").fill("kelp-and-slate")
    page.get_by_role("button", name="Look who is there").click()
    expect(page.get_by_text("3 addresses: 1 moved, 1 here already, 1 without a server")).to_be_visible(timeout=LONG)
    expect(page.get_by_text(re.compile("known at https://127.20.22.41:.* until now"))).to_be_visible()
    # Its certificate names the old address: that it is the known one by its UUID sends no password there by itself.
    page.get_by_role("button", name="Add 1 server and read").click()
    expect(page.get_by_text("compare its fingerprint and accept it first", exact=False).first).to_be_visible()
    page.get_by_role(
        "checkbox", name="I have compared the fingerprint with the controllers themselves: accept it"
    ).check()
    page.get_by_role("button", name="Add 1 server and read").click()
    expect(page.get_by_role("heading", name="surge-45")).to_be_visible()
    expect_work(page, "Reading surge-45", "1 read")


def test_3_a_list_tells_of_every_row(page, demo, port, tmp_path):
    table = tmp_path / "list.csv"
    table.write_text(
        f"address,name,rack,unit\n127.20.1.41:{port},spare-1,K1,41\n10.1.1.1,far,K1,2\nno where,x,K1,3\n127.20.1.41:{port},y,K1,a\n"
    )
    page.goto(f"{demo.web}/floor?add=1")
    page.get_by_label("List of servers").set_input_files(table)
    expect(page.get_by_text("A list of 4 rows is chosen")).to_be_visible()
    page.get_by_role("button", name="Look who is there").click()
    found = page.get_by_role("list", name="Found")
    expect(found.get_by_text("outside the networks this house allows")).to_be_visible(timeout=LONG)
    expect(found.get_by_text("not an address, a range")).to_be_visible()
    expect(found.get_by_text("the same address as on line 2; ")).to_have_count(0)
    expect(found.get_by_text("unit 'a' is not a number from 0 to 100; the same address as on line 2")).to_be_visible()
    expect(found.get_by_text("here already")).to_be_visible()


def test_4_what_failed_is_read_again(page, demo):
    page.goto(f"{demo.web}/floor")
    expect(page.get_by_text("unreachable: 1 server")).to_be_visible()
    expect(page.get_by_text("certificate changed: 1 server")).to_be_visible()
    page.get_by_role("button", name="Accept 1 fingerprint", exact=True).click()
    expect(page.get_by_text("certificate changed: 1 server")).to_have_count(0, timeout=LONG)
    expect(page.get_by_text("no credentials: 1 server")).to_be_visible()
    control(demo.control, "/servers/surge-40/faults", method="DELETE")
    page.get_by_role("button", name=re.compile("Read again what failed")).click()
    expect(page.get_by_text("unreachable: 1 server")).to_have_count(0, timeout=LONG)


def test_5_a_card_that_vanished_is_found_with_one_key(page, demo):
    api = demo.api
    control(demo.control, "/servers/surge-44/faults", {"kind": "part gone", "slot": "nic-1"})
    control(demo.control, "/servers/surge-44/power-cut", {})
    wait_until(lambda: read_again(api, "surge-44"), "the server after the power cut")
    page.goto(f"{demo.web}/floor")
    expect(page.get_by_role("heading", name="1 component vanished")).to_be_visible()
    page.get_by_role("button", name="surge-44", exact=True).click()
    panel = page.get_by_role("complementary", name="Floor: details")
    expect(panel.get_by_role("heading", name="surge-44")).to_be_visible()
    expect(panel.get_by_role("alert")).to_contain_text("Quorrin Q25, 2 ports")
    page.keyboard.press("h")
    expect(panel.get_by_role("list", name="Changes")).to_contain_text("vanished Quorrin Q25, 2 ports in nic-1")
    panel.get_by_role("button", name="Seen").click()
    expect(panel.get_by_role("alert")).to_have_count(0)


def read_again(api: Api, name: str) -> bool:
    api.post("surveys", {"servers": [name]})
    return api.wait_for_work()["state"] == "done"


def test_6_reach_is_tried_from_the_controllers_side(page, demo):
    page.goto(f"{demo.web}/floor?servers=gauge-11")
    panel = page.get_by_role("complementary", name="Floor: details")
    expect(panel.get_by_role("list", name="What will get in the way")).to_contain_text("its clock is 3 years behind")
    panel.get_by_role("button", name="Try from its side").click()
    ways = panel.get_by_role("list", name="Reach")
    expect(ways).to_contain_text("by its clock our certificate is not valid", timeout=LONG)
    expect(ways).to_contain_text("open fetches over HTTP: offered, and a test from its side arrived here")


def test_6_a_server_s_next_start_is_sent_to_its_own_diagnostics_and_taken_back(page, demo):
    page.goto(f"{demo.web}/floor?servers=watch-03")
    panel = page.get_by_role("complementary", name="Floor: details")
    panel.locator("summary", has_text="Start watch-03 from it once").first.focus()
    page.keyboard.press("Enter")
    expect(panel.get_by_text("Nothing is reset from here").first).to_be_visible()
    panel.get_by_role("button", name="Send its next start to store-diag").press("Enter")
    expect(panel.get_by_text("the next start goes here")).to_be_visible(timeout=LONG)
    bars = panel.get_by_role("list", name="What will get in the way")
    expect(bars).to_contain_text("its next start goes, once, to the boot option Service partition: diagnostics")
    check_axe(page, "light")
    panel.get_by_role("button", name="Take that back").click()
    expect(panel.get_by_text("the next start goes here")).to_have_count(0, timeout=LONG)
    expect(bars).to_have_count(0)
    assert not [entry for entry in read_log(demo.control, "watch-03")["log"] if entry["what"] == "reset"]


def test_7_the_drawing_can_be_framed_and_the_table_says_the_same(page, demo):
    page.goto(f"{demo.web}/floor")
    racks = page.get_by_role("listbox", name="Racks")
    first = page.get_by_role("option", name=re.compile("^surge-41;")).bounding_box()
    last = page.get_by_role("option", name=re.compile("^surge-44;")).bounding_box()
    page.mouse.move(first["x"] + 2, first["y"] + 2)
    page.mouse.down()
    page.mouse.move(last["x"] + 20, last["y"] + 6, steps=6)
    page.mouse.up()
    expect(page.get_by_role("heading", name="4 servers selected")).to_be_visible()
    page.get_by_role("button", name="Show as table").click()
    expect(page.get_by_role("checkbox", name="Select surge-42")).to_be_checked()
    expect(racks).to_have_count(0)
    page.get_by_role("button", name="Model").click()
    expect(page.get_by_role("row").nth(1)).to_contain_text("Corvane Heath 24")
    page.get_by_role("button", name="Model").click()
    expect(page.get_by_role("columnheader", name="Model")).to_have_attribute("aria-sort", "descending")
    page.get_by_role("button", name="Server", exact=True).click()
    table = page.get_by_role("grid", name="Servers")
    table.focus()
    for key in ("Home", "ArrowDown", "Space", "ArrowDown", "Space"):
        page.keyboard.press(key)
    expect(page.get_by_role("heading", name="6 servers selected")).to_be_visible()
    page.keyboard.press("Home")
    for _ in range(4):
        page.keyboard.press("Shift+ArrowDown")
    expect(page.get_by_role("heading", name="5 servers selected")).to_be_visible()
    page.keyboard.press("End")
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", selected=True)).to_have_count(1)
    expect(page.get_by_role("row", selected=True)).to_contain_text("watch-")


def test_8_many_selected_make_a_short_address_that_is_reloaded_and_passed_on(browser, page, demo):
    page.goto(f"{demo.web}/floor?as=table")
    page.get_by_label(re.compile("^Find among")).fill("surge")
    page.get_by_role("checkbox", name="Select all shown").click()
    told = page.get_by_role("heading", name=re.compile("servers selected")).inner_text()
    assert int(told.split()[0]) > 24 and re.search(r"servers=(@|%40)\w+$", page.url)
    page.reload()
    expect(page.get_by_role("heading", name=told)).to_be_visible()
    page.get_by_role("link", name=re.compile("^Drift")).click()
    of_them = page.get_by_role("main").get_by_text(f"{told.split()[0]} selected")
    expect(of_them).to_be_visible()
    off = page.get_by_role("heading", name=re.compile("components are off")).inner_text()
    with open_page(browser) as theirs:
        sign_in(theirs, demo.web, demo.password)
        theirs.goto(page.url)
        expect(theirs.get_by_role("heading", name=off)).to_be_visible()
        theirs.goto(f"{demo.web}/run-sheet?new=1&servers=@forgotten")
        expect(theirs.get_by_role("alert")).to_contain_text("Choose the servers again")
        expect(theirs.get_by_role("button", name=re.compile("^Plan a run"))).to_have_count(0)
        theirs.get_by_role("button", name="Go on with nothing selected").click()
        expect(theirs.get_by_role("button", name=re.compile("^Plan a run for all"))).to_be_visible()
        theirs.trouble[:] = [t for t in theirs.trouble if "404" not in t]


def test_9_the_floor_comes_out_as_files(demo):
    api = demo.api
    with api.opener.open(f"{demo.web}/api/v1/exports/servers.csv?servers=surge-07") as answer:
        lines = answer.read().decode().splitlines()
    assert lines[0].startswith("server,address,model,serial,room,rack,unit") and len(lines) == 15
    assert any(",bios,bios,Reed 14 BIOS,2.1.0,,3.2.0,exposed,4," in line for line in lines)
    readings = api.get("exports/readings.json?servers=surge-07,surge-08")
    assert readings["format"] == "ordnung.readings/1" and len(readings["servers"]) == 2
