"""Two hundred browsers that watch one run: nothing lost, soon seen, and every answer as fast as is promised.

The run's entries are written by the engine's own journal in a process of its own, at the pace of a night of four hours.
Each browser is one that asks and listens as ``web/src/api/live.ts`` does; what an event makes stale is read from there.
"""

from __future__ import annotations

import asyncio
import gzip
import json
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import aiohttp
from tests.journeys.site import Api, free_port, wait_until

BROWSERS, SERVERS, FLEET = 200, 500, 800
OPENED_IN_S, WATCHED_S = 120.0, 60.0
PROMISED_S, SEEN_S = 0.1, 1.0
ENTRIES_A_SECOND, STEPS_A_SECOND = 0.5, 2.5
"""Five hundred servers with some fifteen entries each within four hours, and the percentages of 25 at once."""
STALE = json.loads((Path(__file__).parents[1] / "web" / "src" / "api" / "stale.json").read_text())
FORECAST_S = 60.0
KEPT_OPEN_S = 3.0
"""Less than the server keeps an idle connection: a browser would ask once more where it was closed just then."""


@dataclass
class WatchingRatios:
    """Shares of what is promised, and how many events some browser has not been told."""

    coming: float
    answers: float
    seen: float
    lost: int
    asked: int
    told: int


@dataclass
class Browser:
    """One page that shows the run: what it asked and how long that took, what it was told and when."""

    web: str
    run: int
    cookies: dict[str, str]
    took: list[tuple[float, float]] = field(default_factory=list)
    heard: dict[int, float] = field(default_factory=dict)
    watching: int = 0
    seen: int | None = None
    """The event as of which it has the run; None while it has not."""
    missed: int = 0

    async def watch(self, until: float) -> None:
        """Open the page and keep it open."""
        lines = aiohttp.TCPConnector(keepalive_timeout=KEPT_OPEN_S)
        async with aiohttp.ClientSession(
            self.web, cookies=self.cookies, connector=lines, auto_decompress=False
        ) as session:
            active = {
                key: f"/api/v1/{path}"
                for key, path in {
                    "me": "me", "site": "site", "work": "work", "calls": "calls", "run": f"runs/{self.run}",
                    "forecast": f"runs/{self.run}/forecast",
                }.items()
            }  # fmt: skip
            after = json.loads(await self._ask(session, active["me"]))["event"]
            async with asyncio.TaskGroup() as group:
                group.create_task(self._poll(session, active["forecast"], until))
                group.create_task(self._listen(session, active, after, until))
                for key in ("run", "forecast"):
                    group.create_task(self._ask(session, active[key]))

    async def _ask(self, session: aiohttp.ClientSession, path: str) -> bytes:
        begun = time.monotonic()
        async with session.get(path) as answer:
            body = await answer.read()
        self.took.append((begun, time.monotonic() - begun))
        assert answer.status == 200, (path, answer.status, body[:200])
        # What a browser does with it takes its own time, not the server's; here two hundred of them share a process.
        body = gzip.decompress(body) if answer.headers.get("Content-Encoding") == "gzip" else body
        if path.endswith("/site"):
            self.watching = json.loads(body)["watching"]
        elif path.endswith(f"/runs/{self.run}") and (found := re.search(rb'"event":(\d+)', body)):
            self.seen = int(found[1])
            if self.seen < self.missed:
                await self._ask(session, path)
        return body

    async def _poll(self, session: aiohttp.ClientSession, path: str, until: float) -> None:
        """The forecast comes by itself; it is asked for now and then, as long as the page shows it."""
        while time.monotonic() + FORECAST_S < until:
            await asyncio.sleep(FORECAST_S)
            await self._ask(session, path)

    async def _listen(self, session: aiohttp.ClientSession, active: dict[str, str], after: int, until: float) -> None:
        asking: set[asyncio.Task[None]] = set()
        try:
            async with asyncio.timeout_at(until), session.get(f"/api/v1/events?after={after}") as stream:
                number, kind = 0, ""
                async for raw in stream.content:
                    name, _, value = raw.decode().rstrip("\n").partition(": ")
                    if name == "id":
                        number = int(value)
                        self.heard[number] = time.monotonic()
                    elif name == "event":
                        kind = value
                    elif name == "data":
                        keys = self._stale(kind, json.loads(value) if kind in ("change", "stale", "begun") else {})
                        asking |= {asyncio.create_task(self._later(session, active[k])) for k in keys & active.keys()}
        except TimeoutError:
            pass
        await asyncio.gather(*asking)

    def _stale(self, kind: str, told: dict[str, Any]) -> set[str]:
        if kind == "stale":
            return {"run"}
        if kind == "begun":
            self.missed = told["missed"] or 0
            is_old = self.seen is not None and self.seen < self.missed
            return {"site", "work", "calls"} - set(told["given"]) | ({"run"} if is_old else set())
        keys = set(STALE.get(told.get("topic", ""), ()))
        return keys - {"run"} if told.get("topic") == "runs" else keys

    async def _later(self, session: aiohttp.ClientSession, path: str) -> None:
        await asyncio.sleep(0.25 + random.random() * 0.02 * self.watching)
        await self._ask(session, path)


def bench_watching() -> WatchingRatios:
    """Start a house of made-up readings, let its run go on, and have it watched."""
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch, _house(scratch) as told:
        api = Api(told["web"], told["people"]["lead"])
        names = api.get("floor")["name"]
        run = api.post("runs", {"servers": names})["id"]
        played, sessions = Path(scratch) / "played.json", Path(scratch) / "sessions.json"
        home = Path(told["home"]) / "site"
        environment = {**os.environ, "ORDNUNG_HOME": str(home), "ORDNUNG_SYNCHRONOUS": "FULL"}
        command = [sys.executable, "-m", "bench.watching", str(run), str(sessions), str(played)]
        player = subprocess.Popen(command, env=environment)
        try:
            wait_until(sessions.exists, "the run")
            browsers = asyncio.run(_watch(told["web"], run, json.loads(sessions.read_text())))
        finally:
            player.send_signal(signal.SIGINT)
            player.wait()
        return _judge(browsers, {int(pk): at for pk, at in json.loads(played.read_text()).items()})


async def _watch(web: str, run: int, sessions: list[dict[str, str]]) -> list[Browser]:
    loop = asyncio.get_running_loop()
    until = loop.time() + OPENED_IN_S + WATCHED_S
    browsers = [Browser(web, run, cookies) for cookies in sessions[:BROWSERS]]

    async def open_later(number: int, browser: Browser) -> None:
        await asyncio.sleep(OPENED_IN_S * number / BROWSERS)
        await browser.watch(until)

    await asyncio.gather(*(open_later(number, browser) for number, browser in enumerate(browsers)))
    return browsers


def _judge(browsers: list[Browser], played: dict[int, float]) -> WatchingRatios:
    took = sorted(t for browser in browsers for t in browser.took)
    settled = took[0][0] + OPENED_IN_S
    lags, lost = [], 0
    for browser in browsers:
        first, last = min(browser.heard), max(browser.heard)
        lost += sum(number not in browser.heard for number in range(first, last + 1))
        lags += [at - played[number] for number, at in browser.heard.items() if number in played]
    return WatchingRatios(
        coming=_p95([t for at, t in took if at < settled]) / PROMISED_S,
        answers=_p95([t for at, t in took if at >= settled]) / PROMISED_S,
        seen=_p95(lags) / SEEN_S,
        lost=lost, asked=len(took), told=len(lags),
    )  # fmt: skip


def _p95(values: list[float]) -> float:
    return sorted(values)[int(len(values) * 0.95)]


@contextmanager
def _house(scratch: str) -> Iterator[dict[str, Any]]:
    announce = Path(scratch) / "demo.json"
    command = [sys.executable, "-m", "ordnung.demo", "--port", str(free_port()), "--fleet", str(FLEET), "--rate", "1"]
    command += ["--home", f"{scratch}/home", "--announce", str(announce)]
    demo = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        wait_until(announce.exists, "the demo", 300)
        told: dict[str, Any] = json.loads(announce.read_text())
        yield told
    finally:
        demo.send_signal(signal.SIGINT)
        demo.wait()


def _sign_in() -> dict[str, str]:
    """A session of its own, without the time that a password takes."""
    from django.contrib.auth.models import User
    from django.test import Client

    client = Client()
    client.force_login(User.objects.get(username="lead"))
    return {name: morsel.value for name, morsel in client.cookies.items()}


def _play(pk: int, sessions: Path, out: Path) -> None:
    """Be the engine of a run: its journal's entries and its reporter's steps, at the pace of a night."""
    os.environ["DJANGO_SETTINGS_MODULE"] = "ordnung.server.settings"
    import django

    django.setup()
    from tests.server.played import Played

    played = Played(pk, SERVERS)
    told: dict[int, float] = {}
    sessions.with_suffix(".new").write_text(json.dumps([_sign_in() for _ in range(BROWSERS)]))
    sessions.with_suffix(".new").rename(sessions)
    signal.signal(signal.SIGINT, lambda *_: sys.exit(0))
    try:
        while True:
            for number in played.go_on(random.random() < ENTRIES_A_SECOND / (ENTRIES_A_SECOND + STEPS_A_SECOND)):
                told[number] = time.monotonic()
            time.sleep(1 / (ENTRIES_A_SECOND + STEPS_A_SECOND))
    finally:
        out.write_text(json.dumps(told))


if __name__ == "__main__":
    _play(int(sys.argv[1]), Path(sys.argv[2]), Path(sys.argv[3]))
