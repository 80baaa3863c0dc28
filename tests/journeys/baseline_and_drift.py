"""Issues that drop a model, rules, pins and their effect, a revision, who an advisory concerns, the odd ones sent on."""

from __future__ import annotations

import json
import re

from playwright.sync_api import expect

from ordnung.standins.publishing import signing_key
from tests.journeys.site import control

LONG = 60_000
HEATH = "Corvane Heath 24"


def publish(read_demo, folder):
    """Two later issues as Corvane would send them: December as it was, January without the Heath 24."""
    november = read_demo.folder / "home/standins/mirror/catalogs/corvane-servers-2026-11.json"
    document = json.loads(november.read_text())
    files = []
    for issue, issued, dropped in (("2026-12", "2026-12-09", None), ("2027-01", "2027-01-13", HEATH)):
        models = [m for m in document["models"] if m != dropped]
        products = [p for p in document["products"] if not dropped or "heath24" not in p["id"]]
        raw = json.dumps(
            {**document, "issue": issue, "issued": issued, "models": models, "products": products}
        ).encode()
        path = folder / f"corvane-servers-{issue}.json"
        path.write_bytes(raw)
        beside = folder / f"{path.name}.sig"
        beside.write_bytes(signing_key("Corvane").sign(raw))
        files += [path, beside]
    return files


def test_1_two_issues_come_in_and_the_dropped_model_keeps_the_older_one(page, read_demo, tmp_path):
    page.goto(f"{read_demo.web}/baseline?side=sources")
    files = publish(read_demo, tmp_path)
    page.get_by_label("Catalog file").set_input_files([files[0]])
    expect(page.get_by_role("alert")).to_contain_text("unsigned, but this house trusts only")
    page.get_by_label("Catalog file").set_input_files(files)
    expect(page.get_by_role("status").filter(has_text="Corvane 2027-01 brought in")).to_be_visible()
    expect(page.get_by_text("dropped after Dec 26")).to_be_visible()
    pin = page.get_by_role("slider", name=f"{HEATH} follows Corvane")
    expect(pin).to_have_attribute("aria-valuetext", "2026-11, Nov 26")
    page.get_by_role("button", name="Rules", exact=True).click()
    pin.focus()
    page.keyboard.press("End")
    expect(pin).to_have_attribute("aria-valuetext", "2026-12, Dec 26")
    expect(page.get_by_role("heading", name="If r3 replaces r2")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("^components off the baseline .* ±0$"))).to_be_visible()
    expect(page.get_by_text("Your draft is kept")).to_be_visible()
    page.trouble[:] = [t for t in page.trouble if "422" not in t]


def test_2_a_product_is_held_another_pinned_and_the_effect_watched(page, read_demo):
    page.goto(f"{read_demo.web}/baseline")
    expect(page.get_by_role("slider", name=f"{HEATH} follows Corvane")).to_have_attribute(
        "aria-valuetext", "2026-12, Dec 26"
    )
    page.get_by_role("button", name="Add a rule").click()
    form = page.get_by_role("form", name="Rule")
    expect(form.get_by_role("button", name="Put it in")).to_have_attribute("aria-disabled", "true")
    form.get_by_role("button", name="product", exact=True).click()
    form.get_by_label("Where product is").fill("tessaly.r9")
    page.get_by_role("option", name="tessaly.r9").click()
    form.get_by_label("Reason").fill("rebuilds must not be disturbed this week")
    form.get_by_role("button", name="Put it in").click()
    rules = page.get_by_role("list", name="House rules")
    expect(rules.get_by_role("listitem").first).to_contain_text("Tessaly R9 RAID")
    expect(page.get_by_role("row", name=re.compile(r"^components held .* \+\d+$"))).to_be_visible()

    page.get_by_role("button", name="Change rule 3").click()
    form.get_by_label("Version").fill("24.1.3")
    form.get_by_role("button", name="Put it in").click()
    expect(page.get_by_text("No longer closes: QUO-SA-2026-003.")).to_be_visible()
    targets = page.get_by_role("list", name="Targets that change")
    expect(targets).to_contain_text("24.2.8 → 24.1.3")

    first = rules.get_by_role("listitem").first
    first.focus()
    page.keyboard.press("Alt+ArrowDown")
    expect(rules.get_by_role("listitem").nth(1)).to_contain_text("Tessaly R9 RAID")
    expect(page.get_by_text("Rule 1 is now rule 2 of 4.")).to_be_attached()

    make = page.get_by_role("button", name="Make it r3")
    expect(make).to_have_attribute("aria-disabled", "true")
    page.get_by_label("What for (goes with the revision)").fill("Storage stays quiet until the drill is over")
    make.click()
    expect(page.get_by_role("heading", name="r3 holds")).to_be_visible()
    row = page.get_by_role("row", name=re.compile("Tessaly R9 RAID held"))
    expect(row).to_contain_text("rebuilds must not be disturbed this week")


def test_3_revisions_are_compared_and_an_old_one_begun_from(page, read_demo):
    page.goto(f"{read_demo.web}/baseline?side=revisions")
    changed = page.get_by_role("list", name="What was changed")
    expect(changed).to_contain_text("rule added: hold tessaly.r9")
    expect(changed).to_contain_text("Corvane Heath 24 follows 2026-12 of corvane-servers instead of 2026-11")
    page.get_by_role("button", name="Begin a draft from r2").click()
    expect(page.get_by_role("heading", name="If r4 replaces r3")).to_be_visible()
    expect(page.get_by_text("Closes besides: QUO-SA-2026-003.")).to_be_visible()
    page.get_by_label("What for (goes with the revision)").fill("The drill is over")
    page.get_by_role("button", name="Make it r4").click()
    expect(page.get_by_role("heading", name="r4 holds")).to_be_visible()


def test_4_who_is_affected_and_the_odd_ones_are_sent_on(page, read_demo):
    page.goto(f"{read_demo.web}/drift")
    page.get_by_role("button", name="Advisories").click()
    entry = page.get_by_role("listitem", name="CRV-SA-2026-014")
    expect(entry).to_contain_text("3.2.0 ends it")
    expect(page.get_by_role("listitem", name="CRV-SA-2026-009")).to_contain_text(
        "Does not apply: no catalog here lists"
    )
    entry.get_by_role("button", name=re.compile(r"^Show: \d+ servers affected")).click()
    expect(page.get_by_role("button", name="No longer narrow to: affected by CRV-SA-2026-014")).to_be_visible()
    page.get_by_role("button", name="Narrow to…").click()
    page.get_by_label("Model", exact=True).click()
    page.get_by_role("option", name=re.compile("^Corvane Reed 14")).click()
    expect(page.get_by_role("button", name="No longer narrow to: Corvane Reed 14")).to_be_visible()
    page.get_by_role("button", name=re.compile("^2.1.0, 4 components")).click()
    page.get_by_role("button", name="Show 4 servers").click()
    expect(page.get_by_role("button", name="No longer narrow to: on 2.1.0")).to_be_visible()
    folds = page.get_by_role("table", name="Servers folded by state")
    expect(folds.get_by_role("button", name="surge-07", exact=True)).to_be_visible()
    expect(folds.get_by_role("button", name="surge-18", exact=True)).to_have_count(0)

    page.get_by_role("button", name="Review and send on").click()
    steps = page.get_by_role("list", name="Steps chosen")
    expect(steps).to_contain_text("2.1.0 → 2.4.1 → 3.2.0")
    page.get_by_role("button", name=re.compile("^Take out Brevik S4 NVMe")).first.click()
    page.get_by_label("Why does it stay as it is?").fill("spare drives come on Friday")
    page.get_by_role("button", name="Take out", exact=True).click()
    expect(page.get_by_role("list", name="Taken out")).to_contain_text("spare drives come on Friday")
    page.get_by_role("button", name=re.compile(r"^Plan a run for \d+")).click()
    page.get_by_role("heading", name=re.compile("^A new run sheet for")).wait_for()
    page.get_by_role("button", name=re.compile("^Plan a run for")).click()
    expect(page.get_by_role("button", name=re.compile(r"^Start: update \d+ servers now"))).to_be_visible()
    expect(page.get_by_text("GX02")).to_have_count(0)


def test_5_a_mirror_that_passes_an_old_issue_off_as_newest_is_refused_in_words(page, read_demo):
    control(read_demo.control, "/mirror/faults", {"path": "corvane-index.json", "kind": "older"})
    page.goto(f"{read_demo.web}/baseline?side=sources")
    page.get_by_role("button", name="Look at all now").click()
    sources = page.get_by_role("list", name="Sources")
    expect(sources.get_by_role("alert")).to_contain_text(
        "passes 2026-09 off as the newest issue of corvane-servers, but 2027-01 was seen", timeout=LONG
    )
    expect(sources).to_contain_text("brought Pellam folder")
    control(read_demo.control, "/mirror/faults", {"path": "corvane-index.json"})
    page.get_by_role("button", name="Look at all now").click()
    expect(sources.get_by_role("alert")).to_contain_text("but 2027-01 was seen", timeout=LONG)


def test_6_drift_goes_out_as_files(page, read_demo):
    page.goto(f"{read_demo.web}/drift?servers=surge-07")
    for label, name in (
        ("plain CSV: the drift shown", "drift.csv"),
        ("BOM of the firmware shown, CycloneDX", "firmware.cdx.json"),
    ):
        with page.expect_download() as told:
            page.get_by_role("link", name=label).click()
        assert told.value.suggested_filename == name and told.value.path().stat().st_size > 500
