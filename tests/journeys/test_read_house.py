"""Journeys through a house that was read already. One demo serves them all: to start and read it takes a minute."""

from __future__ import annotations

import pytest

pytest.register_assert_rewrite(
    "tests.journeys.baseline_and_drift",
    "tests.journeys.before_the_night",
    "tests.journeys.machine_room",
    "tests.journeys.repository",
    "tests.journeys.roles",
    "tests.journeys.the_sheet",
)

from tests.journeys.baseline_and_drift import *  # noqa: E402, F403
from tests.journeys.before_the_night import *  # noqa: E402, F403
from tests.journeys.browser import let_in, open_page  # noqa: E402
from tests.journeys.repository import *  # noqa: E402, F403
from tests.journeys.roles import *  # noqa: E402, F403
from tests.journeys.the_sheet import *  # noqa: E402, F403

pytestmark = pytest.mark.journey


@pytest.fixture
def page(browser, read_demo):
    with open_page(browser) as found:
        let_in(found, read_demo.web, read_demo.password)
        yield found


from tests.journeys.machine_room import *  # noqa: E402, F403 - last: it takes servers away and adds them again
