"""Pack for the annex, trim, seal, write out; carry in at a second Ordnung that knows nothing, and plan from it there."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from playwright.sync_api import expect

from ordnung.repository import check_carrier, open_carrier
from ordnung.repository.boot import find_boot_system
from ordnung.server.supervisor import answers
from tests.journeys.axe import check_axe
from tests.journeys.browser import expect_work, let_failures_go, open_page, sign_in
from tests.journeys.site import Api, clean_environment, control, free_port, wait_until

LONG = 60_000
ANNEX = [f"surge-{n}" for n in range(41, 49)]


ANNEX_PASSWORD = "hill-top-beacon-7"


class Annex:
    """``ordnung serve`` with a home of its own: nothing is known here, and there is no way out."""

    def __init__(self, folder: Path, ca: str) -> None:
        self.home, port = folder / "annex", free_port()
        self.environment = {
            **clean_environment(),
            "ORDNUNG_HOME": str(self.home),
            "ORDNUNG_NETWORKS": "127.20.0.0/16",
            "ORDNUNG_EGRESS": "127.0.0.0/8",
        }
        self.home.mkdir()
        command = ["--home", str(self.home), "--port", str(port), "--ca", ca, "--payload-port", "0"]
        self.log = (folder / "annex.log").open("wb")
        self.process = subprocess.Popen(
            [sys.executable, "-m", "ordnung.server", *command], env=self.environment, stdout=self.log, stderr=self.log
        )
        self.web = f"http://127.0.0.1:{port}"
        wait_until(self.answers, "the annex")
        secret = folder / "annex.password"
        secret.write_text(f"{ANNEX_PASSWORD}\n")
        self.manage("add_person", "lead", "--password-file", str(secret))

    def manage(self, *command: str) -> None:
        environment = {**os.environ, **self.environment}
        subprocess.run([sys.executable, "-m", "ordnung.server.manage", *command], env=environment, check=True, capture_output=True)  # fmt: skip

    def answers(self) -> bool:
        assert self.process.poll() is None
        return answers(f"{self.web}/api/v1/me")

    def stop(self) -> int:
        self.process.send_signal(signal.SIGINT)
        code = self.process.wait(30)
        self.log.close()
        return code


@pytest.fixture(scope="module")
def annex(tmp_path_factory, read_demo):
    found = Annex(tmp_path_factory.mktemp("annex"), read_demo.ca)
    yield found
    found.stop()


@pytest.fixture(scope="module")
def carried() -> dict[str, object]:
    """What goes from one site to the other: files, and the key that was told by telephone."""
    return {}


def save(page, name: str, folder: Path) -> Path:
    with page.expect_download() as waiting:
        page.get_by_role("link", name=re.compile(f"^Download .*{name}")).click()
    place = folder / waiting.value.suggested_filename
    waiting.value.save_as(place)
    return place


def test_1_packed_for_the_annex_trimmed_sealed_and_written_out(page, read_demo, tmp_path_factory, carried):
    page.goto(f"{read_demo.web}/repository?new=1&servers={','.join(ANNEX)}")
    told = page.get_by_role("status", name="Size")
    expect(told).to_contain_text("payloads")
    page.get_by_role("textbox", name="Name").fill("Hill annex, November")
    page.get_by_role("combobox", name="Has to fit on").click()
    page.get_by_role("option", name="a size of your own").click()
    page.get_by_role("spinbutton", name="Megabytes of one medium").fill("11")
    expect(told).to_contain_text("spread over")

    page.get_by_role("button", name=re.compile("^leave out: Reed 12 BIOS 1.56.0")).click()
    losses = page.get_by_role("status", name="What the servers lose")
    expect(losses).to_contain_text("Reed 12 BIOS 1.56.0: its target 1.56.0 is not packed")
    expect(told).to_contain_text("left out")
    page.get_by_role("button", name=re.compile("^pack it: Reed 12 BIOS 1.56.0")).click()
    expect(losses).to_have_count(0)
    page.get_by_role("button", name=re.compile("^RAID .*: leave it out")).click()
    expect(losses).to_contain_text("Stays as it is")
    expect(page.get_by_role("button", name=re.compile("^RAID .*, left out: pack it"))).to_be_visible()
    check_axe(page, "light")

    page.get_by_role("button", name="Pack and seal").click()
    side = page.get_by_role("complementary", name="Repository: details")
    expect(side.get_by_text("Good until")).to_be_visible(timeout=LONG)
    expect(page.get_by_role("heading", name="Hill annex, November")).to_be_visible()
    expect(page.get_by_role("region", name="By today")).to_contain_text("Holds all that its servers need today")
    carried["key"] = side.get_by_text("to compare at the far end").inner_text().split(":")[-1].strip()
    assert re.fullmatch(r"[0-9a-f]{64}", carried["key"])

    side.get_by_text("Archive, compressed").click()
    side.get_by_role("button", name=re.compile("^Write it out on")).click()
    expect(side.get_by_role("link", name=re.compile(r"Download .*-1-of-"))).to_be_visible(timeout=LONG)
    media = side.get_by_role("link", name=re.compile("^Download "))
    expect(side.get_by_text("being written")).to_have_count(0, timeout=LONG)
    folder = tmp_path_factory.mktemp("stick")
    carried["files"] = [save(page, f"-{n}-of-", folder) for n in range(1, media.count() + 1)]
    assert len(carried["files"]) >= 2
    check_axe(page, "light")


def test_1a_a_disc_that_boots_by_itself(page, read_demo, tmp_path):
    page.goto(f"{read_demo.web}/repository?new=1&servers={ANNEX[0]}")
    page.get_by_role("textbox", name="Name").fill("For the aisle")
    boots = page.get_by_role("checkbox", name=re.compile("^Its discs boot by themselves"))
    boots.click()
    expect(boots).to_be_checked()
    check_axe(page, "light")
    page.get_by_role("button", name="Pack and seal").click()
    side = page.get_by_role("complementary", name="Repository: details")
    expect(side.get_by_text("Good until")).to_be_visible(timeout=LONG)
    expect(page.get_by_text("with the system by which its discs boot")).to_be_visible()
    side.get_by_text("boots by itself, as a disc and as a stick").click()
    side.get_by_role("button", name="Write it out").click()
    expect(side.get_by_role("link", name=re.compile("^Download "))).to_be_visible(timeout=LONG)
    disc = save(page, "For-the-aisle", tmp_path)
    with open_carrier(disc) as carrier:
        assert check_carrier(carrier).unsealed == () and find_boot_system(carrier) is not None
    told = subprocess.run(
        ["xorriso", "-indev", disc, "-report_el_torito", "plain"], check=True, capture_output=True, text=True
    )
    assert "BIOS" in told.stdout and "UEFI" in told.stdout


def test_2_carried_in_where_nobody_knows_the_keys_yet(browser, annex, carried, tmp_path):
    first, *others = carried["files"]
    altered = tmp_path / first.name.replace("Hill", "Mill")
    raw = bytearray(first.read_bytes())
    raw[len(raw) // 2] ^= 1
    altered.write_bytes(raw)
    with open_page(browser) as page:
        sign_in(page, f"{annex.web}/repository", ANNEX_PASSWORD)
        page.get_by_role("button", name="Carry one in").first.click()
        lines = page.get_by_role("list", name="Carried in").get_by_role("listitem")
        page.get_by_label("Repository file").set_input_files(altered)
        expect(lines.first.get_by_role("alert")).to_contain_text("nothing was stored", timeout=LONG)

        page.get_by_label("Repository file").set_input_files(first)
        expect(lines).to_have_count(2, timeout=LONG)
        expect(lines.first.get_by_role("alert")).to_contain_text("keys that nobody here has confirmed", timeout=LONG)
        expect(lines.first).to_contain_text(carried["key"])
        check_axe(page, "light")
        lines.first.get_by_role("button", name="I have compared them: trust these keys and carry it in").click()
        expect(lines.first).to_contain_text("lie on media still to come", timeout=LONG)
        for number, other in enumerate(others):
            page.get_by_label("Repository file").set_input_files(other)
            expect(lines).to_have_count(4 + number, timeout=LONG)
            expect(lines.first).to_contain_text("files new", timeout=LONG)
        expect(lines.first).to_contain_text("carried in")
        lines.first.get_by_role("button", name="Make them the next revision here").click()
        expect(lines.first).to_contain_text("Its rules are revision 2 of this site")
        lines.first.get_by_role("button", name="Show it").click()
        expect(page.get_by_role("heading", name="Hill annex, November")).to_be_visible()
        expect(page.get_by_text("None of its servers is known here")).to_be_visible()
        page.get_by_role("button", name="Check it end to end").click()
        side = page.get_by_role("complementary", name="Repository: details")
        expect(side.get_by_text("every signature and checksum right")).to_be_visible(timeout=LONG)


def test_3_planned_from_it_at_the_annex(browser, read_demo, annex):
    api = read_demo.api
    addresses = [api.get(f"servers/{name}")["url"].removeprefix("https://") for name in ANNEX]
    with open_page(browser) as page:
        sign_in(page, f"{annex.web}/floor?add=1", ANNEX_PASSWORD)
        page.get_by_role("textbox", name="Addresses of management controllers").fill("\n".join(addresses))
        page.get_by_role("textbox", name="Controller user").fill("ordnung")
        page.get_by_role("textbox", name="Controller password").fill("kelp-and-slate")
        page.get_by_role("button", name="Look who is there").click()
        expect(page.get_by_role("button", name=f"Add {len(ANNEX)} servers and read")).to_be_visible(timeout=LONG)
        let_failures_go(page)
        page.get_by_role("button", name=f"Add {len(ANNEX)} servers and read").click()
        expect_work(page, "Reading", f"{len(ANNEX)} read")
        page.goto(f"{annex.web}/repository")
        expect(page.get_by_role("region", name="By today")).not_to_contain_text("None of its servers", timeout=LONG)
        page.goto(f"{annex.web}/run-sheet?new=1")
        page.get_by_role("button", name=re.compile("^Plan a run for")).click()
        page.get_by_role("button", name=re.compile("^Start: update")).wait_for(timeout=LONG)
    run = Api(annex.web, ANNEX_PASSWORD).get("runs")[0]
    assert run["state"] == "draft"


def test_4_a_mirror_that_lies_is_named_and_trusted_again(page, read_demo):
    path = "corvane/reed12/bios/bios-1.56.0.pldm"
    control(read_demo.control, "/mirror/faults", {"path": path, "kind": "altered"})
    page.goto(f"{read_demo.web}/repository?side=supply")
    places = page.get_by_role("list", name="Places")
    expect(places.get_by_role("listitem")).to_have_count(2)
    api = read_demo.api
    page.goto(f"{read_demo.web}/floor")  # nobody looks at what is dropped
    for repository in api.get("repositories"):
        api.delete(f"repositories/{repository['id']}")
    page.goto(f"{read_demo.web}/repository?side=supply")
    api.post("store/clear")
    api.post("repositories", {"servers": ANNEX})
    assert api.wait_for_work()["state"] == "done"
    liar = places.get_by_role("listitem").filter(has_text="put aside")
    expect(liar).to_contain_text("its checksum is", timeout=LONG)
    liar.get_by_role("button", name="Trust it again").click()
    expect(liar).to_have_count(0)
    control(read_demo.control, "/mirror/faults", {"path": path})


VIEWS = ["?new=1&side=all&medium=30000000&trim=kind:drive", "?in=1&side=holders", "?side=supply", "?side=this"]


@pytest.mark.parametrize("view", VIEWS)
def test_5_the_night_shift_reads_as_well(page, read_demo, view):
    page.emulate_media(color_scheme="dark")
    page.goto(f"{read_demo.web}/repository{view}")
    page.get_by_role("complementary", name="Repository: details").wait_for()
    page.get_by_role("group", name="Beside the repository").wait_for()
    check_axe(page, "dark")


def test_6_the_seal_gets_a_second_holder_elsewhere(page, read_demo, tmp_path):
    key = tmp_path / "far.pem"
    command = [sys.executable, "-m", "ordnung.fieldkit.main", "seal"]
    environment = {**clean_environment(), "ORDNUNG_KEY_SECRET": "far"}
    public = subprocess.run([*command, "key", "-o", str(key)], env=environment, check=True, capture_output=True, text=True).stdout.strip()  # fmt: skip
    page.goto(f"{read_demo.web}/repository?side=holders")
    group = page.get_by_role("group", name="Change who may sign (root)", exact=True)
    group.get_by_label("or the public half of one elsewhere").fill(public)
    group.get_by_role("button", name="Add", exact=True).click()
    group.get_by_label("Change who may sign (root): how many must sign").fill("2")
    page.get_by_role("button", name="Make root 2").click()
    waiting = page.get_by_role("status", name="The next root")
    expect(waiting).to_contain_text("root: 1 of 2")
    with page.expect_download() as download:
        waiting.get_by_role("link", name="Get the file").click()
    download.value.save_as(tmp_path / "to-sign.json")
    subprocess.run([*command, "sign", str(tmp_path / "to-sign.json"), "--key", str(key), "--yes"], env=environment, check=True, capture_output=True)  # fmt: skip
    page.get_by_label("Signed root").set_input_files(tmp_path / "to-sign.json")
    expect(page.get_by_text("Root 2, good until")).to_be_visible()
    check_axe(page, "light")
