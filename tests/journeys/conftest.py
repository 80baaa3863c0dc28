"""One Chromium for all journeys of a module, and a demo whose servers were read, for those that need no other."""

from __future__ import annotations

from collections.abc import Generator

import pytest

from tests.journeys.browser import open_browser, tell_open_pages
from tests.journeys.site import Demo, free_port


@pytest.fixture(scope="module")
def browser():
    with open_browser() as found:
        yield found


@pytest.fixture(scope="session")
def read_demo(tmp_path_factory):
    """Started once for all that ask for it."""
    found = Demo(tmp_path_factory.mktemp("demo"), device_port=free_port())
    api = found.api
    api.post("surveys", {})
    api.wait_for_work()
    yield found
    assert found.stop() == 0, found.log.read_text()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """A journey that failed says what was on its pages."""
    report = yield
    if report.when == "call" and report.failed:
        report.sections.append(("the pages", tell_open_pages()))
    return report
