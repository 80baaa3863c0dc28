"""What the project promises about itself: docs that exist, locks without addresses, loopback only."""

from __future__ import annotations

import json
import re
from collections import Counter
from pathlib import Path

import pytest

from ordnung.controllers import CAUSES
from ordnung.core.drift import Verdict
from ordnung.formats.documents import _validator
from ordnung.standins.floor import MIRROR_ADDRESS, address_of
from ordnung.standins.scenario import GROUPS, PLACES, demo_hardware, random_hardware

ROOT = Path(__file__).parents[1]
PAGES = sorted([*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")])


@pytest.mark.parametrize("page", PAGES, ids=lambda p: str(p.relative_to(ROOT)))
def test_every_link_in_the_docs_leads_somewhere(page):
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        assert target.startswith("http") or (page.parent / target).exists(), target


def test_the_readme_has_a_picture_of_each_place():
    text = (ROOT / "README.md").read_text()
    for place in ("floor", "drift", "baseline", "repository", "run-sheet", "record"):
        assert f"docs/screenshots/{place}.png" in text
        assert (ROOT / "docs" / "places" / f"{place}.md").exists()
    assert len(list((ROOT / "docs" / "screenshots").glob("*.png"))) < 20


def test_lock_files_record_no_address():
    for path in ROOT.glob("requirements*.lock"):
        assert not re.search(r"^\s*(-i|--index-url|--extra-index-url|--find-links)\b|https?://", path.read_text(), re.M)
    assert '"resolved": "http' not in (ROOT / "web" / "package-lock.json").read_text()


def test_every_cause_of_failure_is_documented():
    page = (ROOT / "docs" / "formats" / "controllers.md").read_text().replace("\n", " ")
    for cause in CAUSES:
        assert cause in page, cause


def test_the_interface_has_a_word_and_a_mark_for_every_verdict():
    words = {v["word"] for v in json.loads((ROOT / "docs" / "vocabulary.json").read_text())["verdicts"]}
    marks = (ROOT / "web" / "src" / "waterline" / "Glyph.tsx").read_text()
    for verdict in Verdict:
        assert verdict.word in words, verdict
        assert re.search(rf"^  {verdict.word}: ", marks, re.M), verdict


@pytest.mark.parametrize("name", ["catalog", "readings", "rules", "host-report"])
def test_the_shipped_schemas_are_schemas(name):
    validator = _validator(name)
    validator.check_schema(validator.schema)


def test_every_stand_in_is_on_loopback_at_an_address_of_its_own():
    devices = [*demo_hardware(lambda: 0.0), *random_hardware(1000, 1, lambda: 0.0)]
    addresses = [address_of(device) for device in devices]
    assert all(address.startswith("127.20.") for address in [*addresses, MIRROR_ADDRESS])
    assert len(set(addresses)) == len(addresses)


def test_the_scenario_is_as_designed():
    """``scenario.md``: 120 servers and two spares in ten racks, five models, nobody on another's unit."""
    assert len(PLACES) == 122 and len({p.rack for p in PLACES}) == 10 and len({p.room for p in PLACES}) == 3
    counts = Counter(p.name.partition("-")[0] for p in PLACES)
    assert counts == {"surge": 48, "gauge": 20, "chart": 24, "vault": 18, "watch": 10, "sump": 2}
    assert len({p.model.name for p in PLACES}) == 5 and len({p.serial for p in PLACES}) == 122
    assert sum(p.model.name == "Corvane Reed 12" for p in PLACES if p.name.startswith("surge")) == 10
    away = {"surge ensemble": 4, "charts": 6, "watch desk": 2, "vault ring 1": 1, "gauge pair 7": 1}
    assert away.items() <= GROUPS.items() and {p.group for p in PLACES} == set(GROUPS)
    taken = [(p.rack, unit) for p in PLACES for unit in range(p.unit, p.unit + p.model.height)]
    assert len(set(taken)) == len(taken) and all(1 <= unit <= 42 for _, unit in taken)


def test_no_module_has_outgrown_its_subject():
    for path in (ROOT / "src").rglob("*.py"):
        lines = [line for line in path.read_text().splitlines() if line.strip()]
        assert len(lines) <= 440, f"{path} has {len(lines)} lines"


LOGS_NOTHING = {
    "server/web.py": "its application says how, in asgi.py",
    "server/__main__.py": "starts the processes that log",
    "server/apart.py": "what reads foreign files hands its errors back",
    "store/serve_alone.py": "whoever started it logs how it ended",
    "demo/__main__.py": "starts the processes that log",
    "demo/virtual_host.py": "stands for a disc that was started",
}


def test_every_process_that_logs_says_how_before_it_does():
    """As it comes, structlog draws tracebacks with all that was known in them, passwords among it."""
    source = ROOT / "src" / "ordnung"
    for path in source.rglob("*.py"):
        name, text = str(path.relative_to(source)), path.read_text()
        is_process = "__name__ ==" in text or "get_context(" in text
        if is_process and not name.startswith("standins/"):
            assert ("configure_logs(" in text) != (name in LOGS_NOTHING), name


def test_every_rule_and_need_that_is_cited_leads_somewhere():
    pages = "".join(path.read_text() for path in (ROOT / "docs" / "rules").glob("*.md"))
    told = set(re.findall(r"\b([VDRT]\d{1,2}b?|N\d\.\d{1,2})\b", pages))
    for path in [*(ROOT / "src").rglob("*.py"), *(ROOT / "tests").rglob("*.py")]:
        for cited in re.findall(r"[(`*\s]((?:[DRT]\d{1,2}b?|N\d\.\d{1,2}))(?=[),.:;\s])", path.read_text()):
            assert cited in told, f"{path.relative_to(ROOT)} cites {cited}"
        for page in re.findall(r"``((?:planning|rules|night|needs)\.md)``", path.read_text()):
            assert (ROOT / "docs" / "rules" / page).exists()
