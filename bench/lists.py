"""Lists at ten thousand servers with some thirty components each: queries and time against what is promised."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SERVERS, CALLS = 10_000, 30
PROMISED_S = 0.1
"""Every screen answers in a tenth of a second."""
PATHS = (
    "floor", "site", "servers", "servers?sort=-off&offset=5000", "servers?search=node-00042", "servers/node-00042",
    "servers/node-00042/readings", "lost", "work", "baseline", "drift", "drift?verdict=exposed",
    "products/brevik.k7/line", "review?room=Hall 1",
)  # fmt: skip


def bench_lists() -> dict[str, tuple[int, float]]:
    """For each list: how many queries it takes, and its p95 as a share of what is promised."""
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch:
        environment = {**os.environ, "ORDNUNG_HOME": scratch, "ORDNUNG_NETWORKS": "127.20.0.0/16"}
        command = [sys.executable, "-m", "bench.lists", scratch]
        out = subprocess.run(command, env=environment, capture_output=True, text=True, check=True).stdout
        return {path: (queries, share) for path, queries, share in json.loads(out.splitlines()[-1])}


def _measure(scratch: Path) -> list[tuple[str, int, float]]:
    os.environ["DJANGO_SETTINGS_MODULE"] = "ordnung.server.settings"
    import django

    django.setup()
    from django.contrib.auth.models import User
    from django.core.management import call_command
    from django.db import connection
    from django.test import Client
    from django.test.utils import CaptureQueriesContext

    from ordnung.demo.fleet import seed_fleet
    from ordnung.standins.models import HEATH24

    call_command("migrate", verbosity=0)
    seed_fleet(SERVERS, scratch / "mirror", (HEATH24,))
    browser = Client()
    browser.force_login(User.objects.get(username="lead"))
    browser.get("/api/v1/floor")
    found = []
    for path in PATHS:
        with CaptureQueriesContext(connection) as queries:
            assert browser.get(f"/api/v1/{path}").status_code == 200, path
        asked = len(queries)
        times = sorted(_time(browser, path) for _ in range(CALLS))
        found.append((path, asked, times[int(CALLS * 0.95)] / PROMISED_S))
    return found


def _time(browser, path: str) -> float:  # type: ignore[no-untyped-def]
    begun = time.perf_counter()
    browser.get(f"/api/v1/{path}")
    return time.perf_counter() - begun


if __name__ == "__main__":
    print(json.dumps(_measure(Path(sys.argv[1]))))
