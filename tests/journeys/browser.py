"""Chromium as this project drives it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Browser, sync_playwright

ARGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
]  # fmt: skip
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium")


@contextmanager
def open_browser() -> Iterator[Browser]:
    """Debian's Chromium, headless."""
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=ARGS)
        try:
            yield browser
        finally:
            browser.close()
