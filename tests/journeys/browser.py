"""Chromium as this project drives it."""

from __future__ import annotations

import os
import re
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.journeys.site import Api

ARGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
    # A page lives for seconds here: to optimise its scripts takes a fifth of all that a page takes, and never pays.
    "--js-flags=--no-maglev --no-opt --always-sparkplug",
]  # fmt: skip
# What is on a page in the end is asked for, not how soon: a loaded machine may take its time.
expect.set_options(timeout=20_000)
AS_FOUND = {"viewport": {"width": 1280, "height": 800}}
OPEN: list[Page] = []
PARKED: list[Page] = []
SIGNED_IN: dict[tuple[str, str], list[Any]] = {}
"""By site and person: who signed in once by the form comes back as they would the next day."""
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium-headless-shell")


@contextmanager
def open_browser() -> Iterator[Browser]:
    """Debian's Chromium, headless."""
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=ARGS)
        try:
            yield browser
        finally:
            PARKED.clear()
            browser.close()


@contextmanager
def open_page(browser: Browser) -> Iterator[Page]:
    """A page that fails the test on any console error, error of a script, or failed request.

    One that another journey has done with is taken, emptied, if there is one: to load all scripts anew takes as long
    as what most journeys do.
    """
    page = PARKED.pop() if PARKED else _new_page(browser)
    page.trouble, page.waiting, page.sent = [], {}, deque(maxlen=12)
    OPEN.append(page)
    yield page
    OPEN.remove(page)
    _leave(page)
    assert page.trouble == [], page.trouble


def _new_page(browser: Browser) -> Page:
    page = browser.new_context(**AS_FOUND, color_scheme="light", reduced_motion="reduce").new_page()
    page.on("console", lambda m: page.trouble.append(f"console: {m.text}") if m.type == "error" else None)
    page.on("pageerror", lambda e: page.trouble.append(f"page: {e}"))
    page.on("response", lambda r: page.trouble.append(f"{r.status} {r.url}") if r.status >= 400 else None)
    page.on("request", lambda r: page.waiting.setdefault(r, time.monotonic()))
    page.on("requestfinished", lambda r: page.waiting.pop(r, None))
    page.on("requestfailed", lambda r: page.waiting.pop(r, None))
    page.on("response", lambda r: page.sent.append(r) if r.request.method != "GET" else None)
    return page


def rest(page: Page) -> None:
    """Leave for what neither asks nor is told anything, at the same site, so that the page keeps its process."""
    site = urlsplit(page.url)
    page.goto(f"{site.scheme}://{site.netloc}/api/v1/me")


def _leave(page: Page) -> None:
    """Empty a page and keep it for the next journey."""
    page.unroute_all()
    page.evaluate("localStorage.clear(); sessionStorage.clear()")
    rest(page)
    page.context.clear_cookies()
    page.set_viewport_size(AS_FOUND["viewport"])
    page.emulate_media(color_scheme="light", media="null")
    PARKED.append(page)


def let_failures_go(page: Page) -> None:
    """What failed before was meant to: seen, it leaves the work line to what comes.

    While something is under way, failures are a number at its side; they can be seen to once it has ended.
    """
    seen = page.get_by_role("button", name=re.compile("^Seen: "))
    line = page.get_by_role("status", name="Work under way")
    while seen.count() or any("failed" in text for text in line.all_inner_texts()):
        if not seen.count():
            page.wait_for_timeout(200)
            continue
        one = seen.element_handle()
        seen.click()
        one.wait_for_element_state("hidden")


def expect_work(page: Page, title: str, note: str) -> None:
    """The work line says in the end what a work came to."""
    line = page.get_by_role("status", name="Work under way")
    expect(line).to_contain_text(re.compile(f"{re.escape(title)}.*{re.escape(note)}"), timeout=60_000)


def throw_away(api: Api, page: Page, draft: int) -> None:
    """Throw a draft away once the page has left it: a page that is open would go on asking for it."""
    rest(page)
    api.delete(f"runs/{draft}")


def tell_open_pages() -> str:
    """What the open pages show, and what they have sent and which requests they wait for: read when a journey has failed."""
    lines = []
    for page in OPEN:
        lines += [f"{page.url}: {'; '.join(page.trouble) or 'no trouble'}"]
        lines += [f"  waits {time.monotonic() - at:.0f} s for {r.method} {r.url}" for r, at in page.waiting.items()]
        lines += [f"  sent {r.request.method} {r.url}: {r.status}" for r in page.sent]
        lines += [page.inner_text("body", timeout=5000)[:4000]]
    return "\n".join(lines)


def let_in(page: Page, web: str, password: str, name: str = "lead") -> None:
    """Sign in whoever hasn't yet; who has comes back without a page that the journey would leave at once."""
    known = SIGNED_IN.get((urlsplit(web).netloc, name))
    if known is None:
        sign_in(page, web, password, name)
    else:
        page.context.add_cookies(known)


def sign_in(page: Page, web: str, password: str, name: str = "lead") -> None:
    """Sign in on the page that is open, as the lead unless somebody is named."""
    site = (urlsplit(web).netloc, name)
    page.context.add_cookies(SIGNED_IN.get(site, []))
    page.goto(web)
    places, form = page.get_by_role("navigation", name="Places"), page.get_by_role("button", name="Sign in")
    places.or_(form).first.wait_for()
    if form.is_visible():
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(password)
        form.click()
        places.wait_for()
        SIGNED_IN[site] = list(page.context.cookies())
