"""The whole way through the real interface, by role and name; bad input; accessibility. One demo for all."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from ordnung.standins.hardware import writes_of
from tests.journeys.axe import check_axe
from tests.journeys.browser import open_page
from tests.journeys.browser import sign_in as enter
from tests.journeys.site import Demo, control, read_log, wait_until

pytestmark = pytest.mark.journey
LONG = 120_000


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    found = Demo(tmp_path_factory.mktemp("demo"))
    found.api.be_patient()
    yield found
    assert found.stop() == 0, found.log.read_text()


@pytest.fixture
def page(browser, demo):
    with open_page(browser) as found:
        yield found


def sign_in(page: Page, demo: Demo, path: str = "/") -> None:
    enter(page, demo.web + path, demo.password)


def go(page: Page, place: str) -> None:
    page.get_by_role("navigation", name="Places").get_by_role("link", name=place).click()


def test_1_the_whole_way(page, demo):
    sign_in(page, demo)
    expect(page.get_by_text("Nothing is read yet")).to_be_visible()
    page.get_by_role("button", name="Read all servers").click()
    expect(page.get_by_text("118 of 122 read")).to_be_visible(timeout=LONG)
    # The failure stays in the work line until somebody has seen it; then what is under way has the line.
    page.get_by_role("button", name="Seen: Reading all servers").click()
    expect(page.get_by_role("button", name="Seen: Reading all servers")).to_be_hidden()

    page.get_by_role("option", name=re.compile("^surge-07;")).click()
    panel = page.get_by_role("complementary", name="Floor: details")
    expect(panel.get_by_role("heading", name="surge-07")).to_be_visible()
    expect(panel.get_by_text("The way to the baseline: 2 reboots, 1 controller restart")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page).to_have_url(re.compile(r"/floor$"))
    page.get_by_role("option", name=re.compile("^surge-01;")).click()
    page.keyboard.press("a")
    expect(page.get_by_role("heading", name="16 servers selected")).to_be_visible()

    go(page, "Drift")
    expect(page.get_by_role("heading", name="41 of 244 components are off the baseline")).to_be_visible()
    page.get_by_role(
        "button", name=re.compile("BIOS 2.1.0 by way of 2.4.1 → 3.2.0: behind, security fix missing, 4 releases")
    ).first.click()
    page.get_by_role("button", name=re.compile("^2.4.1, must-stop")).click()
    expect(page.get_by_text("Brings the second signature scheme")).to_be_visible()

    go(page, "Baseline")
    row = page.get_by_role("row", name=re.compile("Ardlow 800 supply"))
    expect(row.get_by_text("a failed write can kill a power supply")).to_be_visible()

    go(page, "Repository")
    page.get_by_role("button", name="See what would be packed").click()
    page.get_by_role("button", name="Pack and seal").click()
    page.get_by_role("button", name="Check it end to end").click(timeout=LONG)
    side = page.get_by_role("complementary", name="Repository: details")
    expect(side.get_by_text("every signature and checksum right")).to_be_visible(timeout=LONG)

    go(page, "Run sheet")
    page.get_by_role("button", name=re.compile("^Plan a run for")).click()
    expect(
        page.get_by_text("14 servers, 45 updates, 15 outages and 9 controller restarts (the fewest possible)")
    ).to_be_visible()
    page.get_by_role("button", name="Start: update 14 servers now").click()
    states = page.get_by_role("table", name="State of each server")
    expect(
        states.get_by_role("row", name=re.compile("surge-07 (staging|writing|written|resetting|returning)"))
    ).to_be_visible(timeout=LONG)
    expect(page.get_by_role("progressbar", name="14 servers to the baseline")).to_be_visible()
    # A backplane wants a look at its lights: somebody is at the server, and says so.
    page.get_by_role("button", name="Done: vault-01").click(timeout=LONG)
    expect(page.get_by_role("heading", name="Ended, 14 of 14 servers done")).to_be_visible(timeout=LONG)
    expect(states.get_by_role("row", name=re.compile("level every version confirmed by reading"))).to_have_count(14)

    page.get_by_role("link", name="Open its record").click()
    expect(page.get_by_text("level with the baseline")).to_be_visible()
    page.get_by_role("button", name="Back to 7.16.1: raid-1 of surge-03").click()
    expect(page.get_by_role("heading", name="Take back raid-1 of surge-03 to 7.16.1")).to_be_visible()
    page.get_by_role("button", name="Start: update 1 server now").click()
    expect(page.get_by_role("heading", name="Ended, 1 of 1 servers done")).to_be_visible(timeout=LONG)
    page.get_by_role("link", name="Open its record").click()
    expect(page.get_by_text("The one server is as before the run that it takes back.")).to_be_visible()
    expect(page.get_by_text("put back").first).to_be_visible()
    go(page, "Floor")
    page.get_by_role("button", name="Show as table").click()
    page.get_by_label("Find among 122 servers").fill("surge-03")
    expect(page.get_by_role("row", name=re.compile("surge-03 Kelp K1 39 .* RAID 1 reboot"))).to_be_visible()

    for name in ("surge-07", "gauge-01", "vault-01", "surge-03"):
        told = read_log(demo.control, name)
        writes = writes_of(told["log"])
        assert len(writes) == len(set(writes)) and told["dead"] == [] and told["waiting"] == {}
    assert read_log(demo.control, "surge-03")["versions"]["raid-1"] == "7.16.1"


def test_2_the_floor_by_keyboard_alone(page, demo):
    sign_in(page, demo, "/floor")
    page.get_by_role("listbox", name="Racks").focus()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_role("option", name=re.compile("^surge-41;"))).to_have_attribute("aria-selected", "true")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.get_by_role("heading", name="3 servers selected")).to_be_visible()
    page.keyboard.press("a")
    expect(page.get_by_role("heading", name="7 servers selected")).to_be_visible()
    for key in ("ArrowRight", "ArrowRight", "Home"):
        page.keyboard.press(key)
    expect(page.get_by_role("heading", name="surge-01")).to_be_visible()
    page.keyboard.press("+")
    page.keyboard.press("0")
    page.keyboard.press("a")
    expect(page.get_by_role("heading", name="16 servers selected")).to_be_visible()
    go(page, "Drift")
    expect(page.get_by_role("button", name="No longer narrow to: 16 selected")).to_be_visible()
    page.keyboard.press("/")
    page.get_by_role("combobox").fill("vault-02")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="vault-02")).to_be_visible()
    page.keyboard.press("w")
    expect(page.get_by_role("heading", name="All work")).to_be_visible()
    page.keyboard.press("Escape")


def test_2_keys_pressed_faster_than_the_page_is_drawn(page, demo):
    """Each begins where the one before it led, not at what was drawn last."""
    sign_in(page, demo, "/floor")
    page.get_by_role("listbox", name="Racks").focus()
    for _ in range(20):
        for key in ("ArrowDown", "ArrowDown", "Escape", "ArrowDown"):
            page.keyboard.press(key)
        expect(page.get_by_role("heading", name="surge-41")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_role("heading", name="surge-41")).to_be_hidden()


def test_2_on_a_phone_every_place_is_reached_and_the_page_never_scrolls_sideways(page, demo):
    page.set_viewport_size({"width": 390, "height": 844})
    sign_in(page, demo, "/floor")
    places = page.get_by_role("navigation", name="Places").get_by_role("link")
    assert places.count() == 6
    for place in places.all():
        expect(place).to_be_in_viewport(ratio=1)
        place.click()
        expect(place).to_have_attribute("aria-current", "page")
        expect(page.get_by_role("main").get_by_role("heading").first).to_be_visible()
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, place.inner_text()
        check_both_schemes(page)
    expect(page.get_by_role("button", name="Find or do")).to_be_in_viewport(ratio=1)
    expect(page.get_by_role("button", name="All work")).to_be_in_viewport(ratio=1)


def test_2_on_a_phone_what_is_selected_comes_up_from_below_and_goes_down_again(page, demo):
    page.set_viewport_size({"width": 390, "height": 844})
    sign_in(page, demo, "/floor?as=table")
    page.get_by_label("Find among 122 servers").fill("surge-07")
    page.get_by_role("button", name="surge-07", exact=True).click()
    handle = page.get_by_role("button", name="surge-07", expanded=True)
    expect(page.get_by_role("heading", name="surge-07")).to_be_in_viewport()
    expect(page.get_by_role("complementary", name="Floor: details")).to_contain_text("Kelp")
    check_axe(page, "light")
    handle.click()
    expect(page.get_by_role("heading", name="surge-07")).to_be_hidden()
    expect(page.get_by_label("Find among 122 servers")).to_be_in_viewport()


def box_at_rest(thing):
    """Where it is once what comes late (fonts, counts) no longer moves it: fingers go by places, not by names."""
    box = None
    while box is None or box != thing.bounding_box():
        box = thing.bounding_box()
        thing.page.wait_for_timeout(300)
    return box


def test_2_two_fingers_go_closer_and_the_address_keeps_where_one_looks(browser, demo):
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True)
    page = context.new_page()
    sign_in(page, demo, "/floor")
    racks = page.get_by_role("listbox", name="Racks")
    box = box_at_rest(racks)
    x, y = box["x"] + 180, box["y"] + 60
    touches = context.new_cdp_session(page)

    def touch(kind: str, *points: float) -> None:
        touches.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": [{"x": at, "y": y} for at in points]})

    touch("touchStart", x - 20, x + 20)
    for spread in range(30, 121, 10):
        touch("touchMove", x - spread, x + spread)
    touch("touchEnd")
    expect(page).to_have_url(re.compile(r"look=\d+\.-?\d+\.-?\d+"))
    looked = page.url
    page.reload()
    racks.wait_for()
    assert page.url == looked
    racks.press("0")
    expect(page).not_to_have_url(re.compile("look="))
    context.close()


def check_both_schemes(page: Page) -> None:
    check_axe(page, "light")
    page.emulate_media(color_scheme="dark")
    check_axe(page, "dark")
    page.emulate_media(color_scheme="light")


def test_3_every_place_passes_axe_in_both_schemes(page, demo):
    page.goto(demo.web)
    page.get_by_label("Name").wait_for()
    check_both_schemes(page)
    sign_in(page, demo)
    for path, sign in (
        ("/floor?servers=surge-07", "surge-07"),
        ("/floor?lens=health", "off the baseline"),
        ("/floor?as=table&lens=reach", "off the baseline"),
        ("/floor?add=1", "Add servers"),
        ("/drift?product=corvane.reed14.bios", "Reed 14 BIOS"),
        ("/drift?side=review&servers=surge-07", "Chosen beforehand"),
        ("/drift?side=advisories&item=corvane.reed14.bios", "Advisories"),
        ("/baseline", "Which issue each model follows"),
        ("/baseline?side=sources", "Catalogs at hand"),
        ("/baseline?side=revisions", "Revisions"),
        ("/repository", "Seal"),
        ("/house?window=Thursday+night", "Who serves together"),
        ("/run-sheet/1", "14 servers to the baseline"),
        ("/record/1", "14 servers to the baseline"),
        ("/record/months", "Over months"),
    ):
        page.goto(demo.web + path)
        page.get_by_role("heading", name=sign).first.wait_for()
        check_both_schemes(page)


def expected_refusals(page: Page) -> None:
    """This test provokes refusals: those answers, and Chromium's word about them, are not trouble."""
    page.trouble[:] = [t for t in page.trouble if not re.search(r"422|409|401", t)]


def test_4_bad_files_are_refused_in_clear_sentences(page, demo, tmp_path):
    sign_in(page, demo, "/baseline?side=sources")
    mirror = demo.folder / "home" / "standins" / "mirror"
    raw = (mirror / "catalogs" / "corvane-servers-2026-11.json").read_bytes()
    half = tmp_path / "half.json"
    half.write_bytes(raw[: len(raw) // 2])
    page.get_by_label("Catalog file").set_input_files(half)
    expect(page.get_by_role("alert")).to_contain_text("half.json: line")
    expect(page.get_by_role("alert")).to_contain_text("cut short")
    expect(page.get_by_text("Corvane 2026-11")).to_be_visible()

    go(page, "Repository")
    page.get_by_role("button", name="Supply").click()
    package = mirror / "tessaly" / "r9" / "raid-7.18.0.pldm"
    spoiled = tmp_path / "spoiled.pldm"
    spoiled.write_bytes(package.read_bytes()[:-1] + b"!")
    page.get_by_label("Package file").set_input_files(spoiled)
    expect(page.get_by_role("alert")).to_contain_text("their checksum is wrong")
    page.get_by_label("For server").fill("surge-01")
    page.get_by_label("Slot").fill("bios")
    page.get_by_label("Package file").set_input_files(package)
    expect(page.get_by_role("alert")).to_contain_text("is not for bios of surge-01")
    expected_refusals(page)


def test_5_controllers_that_cannot_be_read_say_why_and_recover(page, demo):
    sign_in(page, demo, "/floor?servers=surge-01")
    panel = page.get_by_role("complementary", name="Floor: details")

    def read_again():
        panel.get_by_role("button", name="Read again").click()

    control(demo.control, "/servers/surge-01/password", {"password": "new-word"})
    read_again()
    expect(panel.get_by_role("alert")).to_contain_text("it refused user ordnung", timeout=LONG)
    panel.get_by_label("Controller password").fill("new-word")
    panel.get_by_role("button", name="Keep and read again").click()
    expect(panel.get_by_role("alert")).to_have_count(0, timeout=LONG)

    control(demo.control, "/servers/surge-01/certificate", {})
    read_again()
    expect(panel.get_by_role("alert")).to_contain_text("certificate changed", timeout=LONG)
    panel.get_by_role("button", name="Accept the shown certificate").click()
    expect(panel.get_by_role("alert")).to_contain_text("its password was cleared when its certificate changed")
    panel.get_by_label("Controller password").fill("new-word")
    panel.get_by_role("button", name="Keep and read again").click()
    expect(panel.get_by_role("alert")).to_have_count(0, timeout=LONG)

    control(demo.control, "/servers/surge-01/faults", {"kind": "silent"})
    read_again()
    expect(panel.get_by_role("alert")).to_contain_text("unreachable", timeout=LONG)
    expect(panel.get_by_role("list", name="Components")).to_contain_text("Reed 14 BIOS")
    expect(page.get_by_role("status", name="Work under way")).to_contain_text("0 of 1 read")
    control(demo.control, "/servers/surge-01/faults?kind=silent", method="DELETE")


def test_6_a_payload_that_lies_stops_the_packing(demo):
    api = demo.api
    path = "tessaly/r9/raid-7.16.1.pldm"
    for mirror in ("mirror", "depot"):
        control(demo.control, "/mirror/faults", {"path": path, "kind": "altered", "mirror": mirror})
    sealed = [r for r in api.get("repositories") if r["state"] == "sealed"]
    store = demo.folder / "home" / "site" / "payloads" / "content"
    lines = api.get(f"repositories/{sealed[0]['id']}")["lines"]
    line = next(line for line in lines if (line["product"], line["version"]) == ("tessaly.r9", "7.16.1"))
    (store / line["sha256"][:2] / line["sha256"]).unlink()
    made = api.post("repositories", {"servers": ["surge-03"]})
    work = api.wait_for_work()
    told = api.get(f"repositories/{made['id']}")
    assert work["state"] == "failed" and told["state"] == "incomplete"
    assert "Tessaly R9 RAID 7.16.1" in told["message"] and "nothing was sealed" in told["message"]
    for mirror in ("mirror", "depot"):
        control(demo.control, "/mirror/faults", {"path": path, "mirror": mirror})
    api.post("repositories", {"servers": ["surge-03"]})
    assert api.wait_for_work()["state"] == "done"


def test_7_a_refused_image_is_told_and_the_server_left_as_it_was(demo):
    api = demo.api
    control(demo.control, "/servers/surge-03/faults", {"kind": "image refused", "slot": "raid-1", "times": 9})
    before = read_log(demo.control, "surge-03")["versions"]
    run = api.post("runs", {"servers": ["surge-03"]})
    assert run["missing"] == []
    api.post(f"runs/{run['id']}/start")
    assert api.wait_for_work()["state"] == "failed"
    (lane,) = api.get(f"runs/{run['id']}")["servers"]
    assert lane["ended"] == "failed" and "still at 7.16.1" in lane["reason"]
    assert read_log(demo.control, "surge-03")["versions"] == before
    control(demo.control, "/servers/surge-03/faults?kind=image+refused", method="DELETE")


def test_8_a_command_refused_is_told_and_a_line_that_a_proxy_answered_comes_back(page, demo):
    """What stands between a page and its server is played by the browser's own network."""
    sign_in(page, demo, "/floor")
    problem = {"type": "ordnung:records-out", "status": 503, "detail": "Nothing of this request was kept."}
    page.route("**/api/v1/surveys", lambda route: route.fulfill(status=503, json=problem))
    page.keyboard.press("/")
    page.keyboard.type("read all")
    page.keyboard.press("Enter")
    told = page.get_by_role("alert").filter(has_text="Not done")
    expect(told).to_contain_text("Nothing of this request was kept.")
    told.get_by_role("button", name="Seen").click()
    expect(told).to_have_count(0)
    page.route("**/api/v1/events*", lambda route: route.fulfill(status=502, body="bad gateway"), times=1)
    page.reload()
    line = page.get_by_role("status", name="Work under way")
    expect(line).to_contain_text("The line to Ordnung is down.")
    expect(line).not_to_contain_text("The line to Ordnung is down.")
    page.trouble[:] = [t for t in page.trouble if "503" not in t and "502" not in t]


def test_8_hold_keeps_a_run_from_its_next_step(demo):
    api = demo.api
    run = api.post("runs", {"servers": ["surge-03"]})
    api.post(f"runs/{run['id']}/start")
    api.post(f"runs/{run['id']}/orders", {"order": "hold"})
    wait_until(lambda: "held" in api.get(f"runs/{run['id']}")["servers"][0]["detail"], "the hold")
    writes = writes_of(read_log(demo.control, "surge-03")["log"])
    api.post(f"runs/{run['id']}/orders", {"order": "go"})
    assert api.wait_for_work()["state"] == "done"
    assert len(writes_of(read_log(demo.control, "surge-03")["log"])) <= len(writes) + 1
