"""What each person sees: what they may not do is shown as such, with whom to ask; rights take effect at once; the trail."""

from __future__ import annotations

import json
import re
import subprocess
import sys

import pytest
from playwright.sync_api import expect

from ordnung.demo.seed import PEOPLE
from tests.journeys.axe import check_axe
from tests.journeys.browser import let_in, open_page, sign_in

BARRED = {
    "viewer": {"Read all servers", "Add servers", "Plan a run", "Pack"},
    "approver": {"Read all servers", "Add servers", "Plan a run", "Pack"},
    "technician": {"Add servers"},
    "lead": set(),
}


@pytest.mark.parametrize("who", BARRED)
def test_each_sees_what_they_may_do_and_whom_to_ask_for_the_rest(browser, read_demo, who):
    with open_page(browser) as page:
        let_in(page, read_demo.web, PEOPLE[who], who)
        page.goto(f"{read_demo.web}/floor?servers=surge-07")
        for name in ("Read all servers", "Add servers", "Plan a run", "Pack"):
            button = page.get_by_role("button", name=name, exact=True)
            (expect(button).to_be_disabled if name in BARRED[who] else expect(button).to_be_enabled)()
        if BARRED[who]:
            page.get_by_role("button", name="Add servers", exact=True).focus()
            expect(page.get_by_role("tooltip")).to_contain_text(
                "It takes the right to keep, which you don't have. lead can."
            )
        page.goto(f"{read_demo.web}/people")
        rights = page.get_by_role("table", name="People and their rights")
        rights.get_by_role("rowheader", name=f"{who} you").wait_for()
        expect(rights.get_by_role("checkbox")).to_have_count(20 if who == "lead" else 0)
        check_axe(page, "light")


def test_a_right_that_is_given_counts_at_once_and_both_stand_on_the_trail(browser, page, read_demo, tmp_path):
    with open_page(browser) as other:
        sign_in(other, read_demo.web, PEOPLE["viewer"], "viewer")
        page.goto(f"{read_demo.web}/people")
        may_plan = page.get_by_role("checkbox", name="viewer may plan")
        may_plan.click()
        expect(may_plan).to_be_checked()
        expect(other.get_by_role("button", name="Read all servers")).to_be_enabled()
        may_plan.click()
        expect(other.get_by_role("button", name="Read all servers")).to_be_disabled()
        page.get_by_role("button", name="More: viewer").click()
        page.get_by_role("button", name="End their sessions").click()
        expect(page.get_by_role("row", name=re.compile("^viewer"))).not_to_contain_text("session")
        other.trouble.clear()
        other.reload()
        other.get_by_role("button", name="Sign in").wait_for()
        other.trouble.clear()
    page.goto(f"{read_demo.web}/record/trail?command=change a person")
    entries = page.get_by_role("table", name="Entries")
    expect(entries.get_by_role("row").nth(1)).to_contain_text("person viewer")
    page.get_by_role("button", name="Sign it now").click()
    page.get_by_role("list", name="Signed links").get_by_text("asked for by lead").first.wait_for()
    page.get_by_role("button", name="Check all of it").click()
    expect(page.get_by_text(re.compile(r"^Whole: [0-9]+ entries, [0-9]+ signed link"))).to_be_visible()
    for scheme in ("light", "dark"):
        check_axe(page, scheme)
        page.get_by_role("button", name=re.compile("Night shift|Paper")).click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Whole, to be checked (JSON)").click()
    trail = tmp_path / "audit.json"
    download.value.save_as(trail)
    key = json.loads(trail.read_text())["heads"][-1]["key"]
    command = [sys.executable, "-c", "from ordnung.fieldkit.main import main; main()", "audit", "verify", str(trail)]
    told = subprocess.run([*command, "--key", key], capture_output=True, text=True, check=False)
    assert told.returncode == 0, told.stdout + told.stderr


def test_what_is_wrong_in_a_form_stands_at_its_field(page, read_demo):
    page.goto(f"{read_demo.web}/people")
    form = page.get_by_role("form", name="Add a person")
    name, password = form.get_by_label("Name"), form.get_by_label("First password")
    name.fill("viewer")
    password.fill("kelp-and-slate-of-the-tide")
    form.get_by_role("button", name="Add viewer").click()
    expect(name).to_have_accessible_description(re.compile("There is a viewer already"))
    expect(name).to_have_attribute("aria-invalid", "true")
    expect(password).to_have_attribute("aria-invalid", "false")
    name.fill("mara")
    password.fill("password")
    form.get_by_role("button", name="Add mara").click()
    expect(password).to_have_accessible_description(re.compile("too short|too common"))
    expect(name).to_have_attribute("aria-invalid", "false")
    expect(form.get_by_role("alert")).to_have_count(1)
    check_axe(page, "light")
    page.trouble[:] = [t for t in page.trouble if not re.search(r"\b4\d\d\b", t)]


def test_ones_own_password_is_changed_by_keyboard(browser, read_demo):
    with open_page(browser) as page:
        let_in(page, read_demo.web, PEOPLE["approver"], "approver")
        page.goto(f"{read_demo.web}/people")
        form = page.get_by_role("form", name="Change your password")
        form.get_by_label("Present password").fill(PEOPLE["approver"])
        form.get_by_label("New password").fill("short")
        page.keyboard.press("Enter")
        expect(form.get_by_role("alert")).to_contain_text("too short")
        page.trouble.clear()
        for word in ("sea-wall-ledger-44", PEOPLE["approver"]):
            form.get_by_label("New password").fill(word)
            page.keyboard.press("Enter")
            expect(form.get_by_role("status")).to_contain_text("Changed")
            form.get_by_label("Present password").fill(word)
