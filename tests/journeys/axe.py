"""The accessibility check that journeys make on what is shown."""

from __future__ import annotations

import json
from pathlib import Path

from playwright.sync_api import Page

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
# Half way through a change of colour no contrast is the one that stays; what turns for ever is left to turn.
SETTLE = """() => document.getAnimations()
  .filter((one) => Number.isFinite(one.effect?.getComputedTiming().endTime ?? Infinity))
  .forEach((one) => one.finish())"""
WHOLE = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]


def check_axe(page: Page, scheme: str) -> None:
    """No violations of the standard rules on what is shown now; another scheme can differ in contrast only."""
    if page.evaluate("window.axe === undefined"):
        page.evaluate(AXE.read_text())
    page.evaluate(SETTLE)
    only = {"type": "tag", "values": WHOLE} if scheme == "light" else {"type": "rule", "values": ["color-contrast"]}
    # To name where everything is right would take most of the time.
    found = page.evaluate("only => axe.run(document, {runOnly: only, resultTypes: ['violations']})", only)
    told = [(v["id"], [n["html"][:160] for n in v["nodes"][:3]]) for v in found["violations"]]
    assert told == [], json.dumps(told, indent=1)
