"""One Chromium for all journeys of a module."""

from __future__ import annotations

import pytest

from tests.journeys.browser import open_browser


@pytest.fixture(scope="module")
def browser():
    with open_browser() as found:
        yield found
