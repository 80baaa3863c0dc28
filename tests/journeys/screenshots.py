"""``make screenshots``: one current picture of each main view, from a fresh demo, into docs/screenshots."""

from __future__ import annotations

import datetime
import json
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Browser, Page, expect

from ordnung.standins.scenario import RACK_K1
from tests.journeys.browser import open_browser, sign_in
from tests.journeys.site import Api

K1 = ",".join(place.name for place in RACK_K1)
OUT = Path(__file__).parents[2] / "docs" / "screenshots"
FAR = 300_000
Tour = Callable[[Page, str, dict[str, str]], None]


def shoot(page: Page, name: str) -> None:
    page.wait_for_timeout(500)
    page.mouse.move(640, 795)
    page.screenshot(path=OUT / f"{name}.png")


def tour(page: Page, web: str, people: dict[str, str]) -> None:
    """Go the whole way and take a picture of each place."""
    page.goto(web)
    shoot(page, "sign-in")
    page.get_by_label("Name").fill("lead")
    page.get_by_label("Password").fill(people["lead"])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="Read all servers").click()
    expect(page.get_by_text("118 of 122 read")).to_be_visible(timeout=FAR)
    page.get_by_role("radio", name="Health").click()
    shoot(page, "floor-health")
    page.get_by_role("radio", name="Waterline").click()
    page.get_by_role("option", name=re.compile("^surge-07;")).click()
    page.get_by_role("button", name="Plan a run").wait_for()
    shoot(page, "floor")
    page.goto(f"{web}/drift?product=corvane.reed14.bios")
    page.get_by_label("Release line").get_by_text("must-stop").wait_for()
    shoot(page, "drift")
    page.goto(f"{web}/drift?side=review&group=surge%20ensemble&product=corvane.reed14.bios")
    page.get_by_role("list", name="Steps chosen").wait_for()
    shoot(page, "drift-review")
    page.goto(f"{web}/baseline?side=sources")
    page.get_by_role("button", name="Look at all now").click()
    page.get_by_text("brought Pellam folder").wait_for(timeout=FAR)
    shoot(page, "baseline-sources")
    page.goto(f"{web}/baseline")
    page.get_by_role("button", name="Follow the newest everywhere").click()
    page.get_by_role("table", name="Effect on the fleet").wait_for()
    shoot(page, "baseline")
    page.get_by_role("button", name="Drop the draft").click()
    page.get_by_role("heading", name="r2 holds").wait_for()
    repositories(page, web, people)
    beforehand(page, web, people)
    page.goto(f"{web}/run-sheet?new=1&servers={K1}")
    page.get_by_role("button", name="Plan a run for").click()
    page.get_by_role("button", name="Start: update").wait_for()
    page.get_by_role("button", name="Start: update").click()
    calling(page, web)
    page.get_by_role("link", name="Open its record").wait_for(timeout=FAR)
    page.get_by_role("link", name="Open its record").click()
    page.get_by_role("table", name="Before and after").wait_for()
    page.get_by_role("link", name="Audit trail: who did what").click()
    page.get_by_role("button", name="Check all of it").click()
    page.get_by_text("Whole:").wait_for()
    shoot(page, "record-trail")


def calling(page: Page, web: str) -> None:
    """A backplane wants a look at its lights: as it is called on a phone, and ticked."""
    page.get_by_role("button", name="Done: vault-01").wait_for(timeout=FAR)
    sheet = page.url
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto(f"{web}/calls")
    page.get_by_label("A note on vault-01").fill("bay 7 was amber, reseated")
    shoot(page, "calls")
    page.get_by_role("button", name="Done: vault-01").click()
    page.get_by_role("heading", name="Nothing needs a person").wait_for()
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(sheet)


def beforehand(page: Page, web: str, people: dict[str, str]) -> None:
    """The house, and a night worked out for all servers: in a window, by waves."""
    page.goto(f"{web}/house")
    page.get_by_role("list", name="Nights of the week").wait_for()
    shoot(page, "house")
    api = Api(web, people["lead"])
    draft = api.post("runs", {"window": "Thursday night"})
    page.goto(f"{web}/run-sheet/{draft['id']}?side=waves")
    page.get_by_role("button", name="Propose waves").click()
    page.get_by_role("region", name="Wave canary").wait_for()
    page.get_by_role("button", name="Outlook").click()
    page.get_by_text("all done with nine in ten").wait_for()
    page.get_by_role("treeitem", name=re.compile("^canary")).click()
    shoot(page, "run-sheet-plan")
    api.delete(f"runs/{draft['id']}")


def repositories(page: Page, web: str, people: dict[str, str]) -> None:
    """Trims against a medium; a sealed repository written out; one carried in, and an altered copy refused."""
    api = Api(web, people["lead"])
    trims = "kind:raid%7Cpayload:corvane.reed14.bios%202.4.1"
    page.goto(f"{web}/repository?new=1&side=supply&medium=30000000&trim={trims}&servers={K1}")
    page.get_by_role("status", name="What the servers lose").wait_for()
    shoot(page, "repository-trims")
    side = page.get_by_role("complementary", name="Repository: details")
    page.goto(f"{web}/repository?new=1&servers={K1}")
    page.get_by_role("textbox", name="Name").fill("Kelp K1, November")
    page.get_by_role("button", name="Pack and seal").click()
    side.get_by_role("button", name="Check it end to end").click(timeout=FAR)
    side.get_by_text("every signature and checksum right").wait_for(timeout=FAR)
    side.get_by_role("button", name="Write it out").click()
    side.get_by_role("link", name=re.compile("^Download")).wait_for(timeout=FAR)
    shoot(page, "repository")
    written = Path(api.get(f"repositories/{api.get('repositories')[0]['id']}")["written"][0]["place"])
    incoming = written.parents[1] / "incoming"
    raw = bytearray(written.read_bytes())
    (incoming / "stick.tar").write_bytes(raw)
    raw[len(raw) // 2] ^= 1
    (incoming / "found-in-a-drawer.tar").write_bytes(raw)
    for name in ("found-in-a-drawer.tar", "stick.tar"):
        api.post("arrivals", {"place": str(incoming / name)})
        api.wait_for_work()
    page.goto(f"{web}/repository?in=1&side=holders")
    page.get_by_text("carried in", exact=True).wait_for(timeout=FAR)
    shoot(page, "repository-carry-in")


def adding(page: Page, web: str, people: dict[str, str]) -> None:
    """Rack H2 is taken out and found again by searching the network."""
    api = Api(web, people["lead"])
    for name in [*(f"surge-{n}" for n in range(45, 49)), "watch-06"]:
        api.delete(f"servers/{name}")
    page.goto(f"{web}/floor?add=1")
    page.get_by_label("Controller user").fill("ordnung")
    page.get_by_label("Controller password").fill("kelp-and-slate")
    page.get_by_role("button", name="Search the network").click()
    page.get_by_text(re.compile("addresses: 5 new")).wait_for(timeout=FAR)
    shoot(page, "floor-add")


def whole_house(page: Page, web: str, people: dict[str, str]) -> None:
    """All of the house in one night: after an hour, after three (in a dim room), and at its end."""
    api = Api(web, people["lead"])
    api.be_patient()
    for path in ("surveys", "repositories"):
        api.post(path)
        api.wait_for_work()
    run = api.post("runs")
    sign_in(page, web, people["lead"])
    page.goto(f"{web}/run-sheet/{run['id']}")
    api.post(f"runs/{run['id']}/start")
    follow(api, run["id"], 1)
    shoot(page, "run-sheet")
    page.get_by_role("button", name="Night shift").click()
    follow(api, run["id"], 3)
    shoot(page, "run-sheet-night")
    page.get_by_role("button", name="Paper").click()
    follow(api, run["id"])
    page.get_by_role("link", name="Open its record").click()
    page.get_by_role("table", name="Before and after").wait_for()
    shoot(page, "record")


def follow(api: Api, run: int, hours: float | None = None) -> None:
    """Somebody is at each server that asks for it, until so many of the site's hours have gone, or the run has ended."""
    while True:
        told = api.get(f"runs/{run}")
        since = datetime.datetime.fromisoformat(told["started_at"]) if told["started_at"] else None
        now = datetime.datetime.fromisoformat(api.get("site")["now"])
        if told["state"] == "ended" or (hours and since and now - since >= datetime.timedelta(hours=hours)):
            return
        for call in api.get("calls"):
            where = f"runs/{call['run']}/servers/{call['server']}"
            if call["kind"] == "tick":
                api.post(f"{where}/tick", {"key": call["key"]})
            elif call["kind"] == "question":
                api.post(f"{where}/answer", {"answer": "leave"})
        time.sleep(0.5)


def large(page: Page, web: str, people: dict[str, str]) -> None:
    """Ten thousand servers at one glance."""
    page.goto(web)
    page.get_by_label("Name").fill("lead")
    page.get_by_label("Password").fill(people["lead"])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="10,000 servers", exact=True).wait_for(timeout=FAR)
    page.wait_for_timeout(1000)
    shoot(page, "floor-10000")


def play(browser: Browser, extra: list[str], *tours: Tour) -> None:
    """Start a demo, take its pictures, stop it."""
    with tempfile.TemporaryDirectory(prefix="ordnung-shots-") as scratch:
        announce = Path(scratch) / "demo.json"
        command = [sys.executable, "-m", "ordnung.demo", "--port", "8017", "--device-port", "0"]
        command += ["--home", f"{scratch}/demo", "--announce", str(announce), *extra]
        demo = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        try:
            while not announce.exists() and demo.poll() is None:
                time.sleep(0.1)
            told = json.loads(announce.read_text())
            page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
            page.on("console", lambda m: print("console:", m.text) if m.type in ("error", "warning") else None)
            for one in tours:
                one(page, told["web"], told["people"])
            page.close()
        finally:
            demo.send_signal(signal.SIGTERM)
            demo.wait()


def main() -> int:
    OUT.mkdir(parents=True, exist_ok=True)
    with open_browser() as browser:
        play(browser, [], tour, adding)
        play(browser, [], whole_house)
        play(browser, ["--fleet", "10000"], large)
    return 0


if __name__ == "__main__":
    sys.exit(main())
