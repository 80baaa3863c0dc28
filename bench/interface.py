"""What a browser needs: the bytes of the first place, the first useful paint, and tasks and frames after it."""

from __future__ import annotations

import gzip
import json
import re
import signal
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from playwright.sync_api import Page
from tests.journeys.browser import open_browser, sign_in
from tests.journeys.site import Api, free_port, wait_until

DIST = Path(__file__).parents[1] / "web" / "dist"
PROMISED_KB = 250
PROMISED_PAINT_S = {122: 1.0, 10_000: 2.0}
PROMISED_TASK_MS = 100
FRAME_MS = 1000 / 60
LANES_OF = 1500
"""Servers of a house in which about a thousand need something."""
PLACES = ("floor", "drift", "baseline", "repository", "run-sheet", "record")

WATCH = """
window.paintedAt = 0; window.longest = 0;
const look = () => {
  if (!document.querySelector('main h1, main h2')) return requestAnimationFrame(look);
  requestAnimationFrame(() => requestAnimationFrame(() => { window.paintedAt = performance.now(); }));
};
look();
new PerformanceObserver((list) => {
  for (const task of list.getEntries())
    if (window.paintedAt && task.startTime > window.paintedAt) window.longest = Math.max(window.longest, task.duration);
}).observe({ type: 'longtask', buffered: true });
"""
TURN = """async (act) => {
  const tree = document.querySelector('[role=tree]'), box = tree.getBoundingClientRect(), frames = [];
  let last = performance.now(), end = last + 2500;
  await new Promise((done) => {
    const step = (now) => {
      frames.push(now - last);
      last = now;
      if (act === 'scroll') tree.scrollTop += 40;
      else tree.dispatchEvent(new WheelEvent('wheel', { deltaY: frames.length < 60 ? -12 : 12, ctrlKey: true,
        clientX: box.left + 500, clientY: box.top + 100, bubbles: true, cancelable: true }));
      if (now < end) requestAnimationFrame(step); else done();
    };
    requestAnimationFrame(step);
  });
  return frames.slice(2);
}"""


DRAWN = """() => new Promise((done) =>
  requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now()))))"""


@dataclass
class InterfaceRatios:
    """Everything as a part of what is promised; below one keeps the promise."""

    bytes_first: float = 0.0
    paint: dict[int, float] = field(default_factory=dict)
    task: dict[str, float] = field(default_factory=dict)
    find_key: float = 0.0
    frames: dict[str, float] = field(default_factory=dict)


def bench_interface() -> InterfaceRatios:
    """Build nothing, start the demo with made-up readings, and look at it as a person would."""
    found = InterfaceRatios(bytes_first=first_bytes() / (PROMISED_KB * 1000))
    for servers, promised in PROMISED_PAINT_S.items():
        with _open(servers) as (page, _, web):
            paints = [_paint(page, web) for _ in range(3)]
            found.paint[servers] = statistics.median(paints) / 1000 / promised
            if servers == max(PROMISED_PAINT_S):
                found.task = _tasks(page, web)
                found.find_key = _find(page) / PROMISED_TASK_MS
    with _open(LANES_OF) as (page, api, web):
        run = api.post("runs", {"servers": []})
        page.goto(f"{web}/run-sheet/{run['id']}?band=none")
        page.get_by_role("tree", name="Lanes").wait_for()
        # What is asked after the lanes are there is still being worked out, on the same two cores.
        page.get_by_text("all done with nine in ten").wait_for()
        page.wait_for_timeout(1500)
        for act in ("scroll", "zoom"):
            frames = sorted(page.evaluate(TURN, act))
            found.frames[f"{run['count']} lanes, {act}"] = frames[int(len(frames) * 0.95)] / FRAME_MS
    return found


def first_bytes() -> int:
    """The bytes of all scripts that the first place needs, compressed as they are sent."""
    page = (DIST / "index.html").read_text()
    scripts = {DIST / "assets" / name for name in re.findall(r"assets/([\w.-]+\.js)", page)}
    return sum(len(gzip.compress(script.read_bytes(), 9)) for script in scripts)


@contextmanager
def _open(servers: int) -> Iterator[tuple[Page, Api, str]]:
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch, open_browser() as browser:
        announce = Path(scratch) / "demo.json"
        command = [sys.executable, "-m", "ordnung.demo", "--port", str(free_port()), "--fleet", str(servers)]
        command += ["--home", f"{scratch}/home", "--announce", str(announce)]
        demo = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            wait_until(announce.exists, "the demo", 300)
            told: dict[str, Any] = json.loads(announce.read_text())
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            sign_in(page, told["web"], told["people"]["lead"])
            page.add_init_script(WATCH)
            yield page, Api(told["web"], told["people"]["lead"]), told["web"]
        finally:
            demo.send_signal(signal.SIGINT)
            demo.wait()


def _paint(page: Page, web: str) -> float:
    page.goto(f"{web}/floor")
    # The content policy forbids what would wait in the page.
    painted: float = wait_until(lambda: page.evaluate("window.paintedAt"), "the first paint")
    return painted


def _tasks(page: Page, web: str) -> dict[str, float]:
    """The longest task of each place after it was first seen, as a part of what is promised."""
    found = {}
    for place in PLACES:
        page.goto(f"{web}/{place}")
        wait_until(lambda: page.evaluate("window.paintedAt"), "the first paint")
        page.wait_for_timeout(1500)
        page.keyboard.press("w")
        page.wait_for_timeout(800)
        page.keyboard.press("Escape")
        page.mouse.move(500, 400)
        page.mouse.wheel(0, 400)
        page.wait_for_timeout(1200)
        found[place] = page.evaluate("window.longest") / PROMISED_TASK_MS
    return found


def _find(page: Page) -> float:
    """Milliseconds from a key in find-or-do to the frame that answers it, the longest of a name typed."""
    page.keyboard.press("/")
    page.get_by_role("combobox").wait_for()
    longest = 0.0
    for key in "surge-0":
        began: float = page.evaluate("performance.now()")
        page.keyboard.press(key)
        answered: float = page.evaluate(DRAWN)
        longest = max(longest, answered - began)
    page.keyboard.press("Escape")
    return longest
