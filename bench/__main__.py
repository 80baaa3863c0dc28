"""``make bench``: each line is a ratio measured in this very run, against a bound or a plain alternative."""

from __future__ import annotations

import asyncio
import json
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from base64 import b64encode
from pathlib import Path
from typing import Any

import aiohttp
import numpy as np

from ordnung.controllers import Client, Endpoint, RedfishControllers
from ordnung.core.drift import Columns, judge
from ordnung.engine.survey import AT_ONCE, Surveyed, survey
from ordnung.formats.siteclock import SiteClock

SERVERS, COMPONENTS, ROUNDS = 200, 300_000, 7


def main() -> int:
    """Measure and print."""
    print(f"survey of {SERVERS} stand-ins / the same GETs by a bare client: {bench_survey():.2f}")
    one_pass, loop = bench_drift()
    print(f"drift of {COMPONENTS} components / one NumPy pass over the same columns: {one_pass:.1f}")
    print(f"drift of {COMPONENTS} components / a plain loop: {1 / loop:.4f} (the loop takes {loop:.0f} times as long)")
    return 0


def bench_survey() -> float:
    """Our survey against a bare aiohttp client that asks for exactly the same paths."""
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch:
        announce = Path(scratch) / "floor.json"
        command = [sys.executable, "-m", "ordnung.standins", "--servers", str(SERVERS), "--seed", "7", "--port", "0"]
        command += ["--folder", f"{scratch}/standins", "--announce", str(announce)]
        floor = subprocess.Popen(command, stderr=subprocess.DEVNULL)
        try:
            while not announce.exists():
                time.sleep(0.1)
            return asyncio.run(_survey_ratio(json.loads(announce.read_text())))
        finally:
            floor.send_signal(signal.SIGTERM)
            floor.wait()


async def _survey_ratio(told: dict[str, Any]) -> float:
    endpoints = [
        Endpoint(name=t["name"], url=t["url"], user=t["user"], password=t["password"]) for t in told["targets"]
    ]
    paths: dict[str, list[str]] = {}
    await _survey(endpoints, told["ca"], paths)
    ours, bare = [], []
    for _ in range(3):
        ours.append(await _survey(endpoints, told["ca"], None))
        bare.append(await _bare(told, paths))
    return statistics.median(ours) / statistics.median(bare)


async def _survey(endpoints: list[Endpoint], ca: str, paths: dict[str, list[str]] | None) -> float:
    async def told(result: Surveyed) -> None:
        assert result.server is not None, result.error

    async with Client(ca) as client:
        if paths is not None:
            _record(client, paths)
        begun = time.perf_counter()
        await survey(endpoints, RedfishControllers(client), SiteClock(), told)
        return time.perf_counter() - begun


def _record(client: Client, paths: dict[str, list[str]]) -> None:
    """Note which paths are asked of which server, so that the bare client asks the same."""
    plain = client.http.request

    def asked(method: str, url: str, **how: Any) -> Any:
        if method == "GET":
            base, _, path = url.partition("/redfish")
            paths.setdefault(base, []).append("/redfish" + path)
        return plain(method, url, **how)

    client.http.request = asked  # type: ignore[method-assign, assignment]


async def _bare(told: dict[str, Any], paths: dict[str, list[str]]) -> float:
    import ssl

    context = ssl.create_default_context(cafile=told["ca"])
    connector = aiohttp.TCPConnector(limit=0, limit_per_host=4, ssl=context)
    gate = asyncio.Semaphore(AT_ONCE)

    async def ask(http: aiohttp.ClientSession, url: str, headers: dict[str, str]) -> None:
        async with http.get(url, headers=headers) as answer:
            await answer.read()

    async def one(http: aiohttp.ClientSession, target: dict[str, Any]) -> None:
        secret = f"{target['user']}:{target['password']}".encode()
        headers = {"Authorization": f"Basic {b64encode(secret).decode()}"}
        async with gate:
            await asyncio.gather(*(ask(http, target["url"] + path, headers) for path in paths[target["url"]]))

    begun = time.perf_counter()
    async with aiohttp.ClientSession(connector=connector) as http:
        await asyncio.gather(*(one(http, target) for target in told["targets"]))
    return time.perf_counter() - begun


def bench_drift() -> tuple[float, float]:
    """(our judgement / one pass over the same columns, a plain loop / our judgement)."""
    columns = _columns()
    ours = _best(lambda: judge(columns))
    one_pass = _best(lambda: _pass(columns))
    rows = COMPONENTS // 30
    part = Columns(
        **{name: getattr(columns, name)[:rows] for name in columns.__slots__ if name != "security"},
        security=columns.security,
    )
    loop = _best(lambda: _loop(part)) * (COMPONENTS / rows)
    return ours / one_pass, loop / ours


def _columns() -> Columns:
    chance = np.random.default_rng(7)
    products, releases = 40, 8
    security = np.cumsum(np.concatenate([[0], chance.integers(0, 2, products * (releases + 1))])).astype(np.int32)
    number = chance.integers(0, products, COMPONENTS)

    def flags(odds: float) -> np.ndarray[Any, np.dtype[np.bool_]]:
        return chance.random(COMPONENTS) < odds

    return Columns(
        unread=flags(0.01), listed=flags(0.98), held=flags(0.1), pending=flags(0.02), ordered=flags(0.99),
        stranded=flags(0.01),
        installed=chance.integers(0, 2 * releases + 1, COMPONENTS).astype(np.int32),
        target=np.full(COMPONENTS, 2 * releases - 1, dtype=np.int32),
        offset=(number * (releases + 1)).astype(np.int32),
        security=security,
    )  # fmt: skip


def _pass(columns: Columns) -> None:
    """Read every column once and write one verdict and one distance: the memory traffic that can't be avoided."""
    low = (columns.installed + 1) >> 1
    np.subtract((columns.target + 1) >> 1, low)
    out = np.zeros(columns.installed.shape, dtype=np.int8)
    for flag in (columns.unread, columns.listed, columns.held, columns.pending, columns.ordered, columns.stranded):
        out += flag
    columns.security[columns.offset + low]


def _loop(columns: Columns) -> list[int]:
    """The same judgement, a component at a time."""
    verdicts = []
    for i in range(len(columns.installed)):
        have, want = int(columns.installed[i]), int(columns.target[i])
        low, high, start = (have + 1) >> 1, (want + 1) >> 1, int(columns.offset[i])
        missed = columns.security[start + high] - columns.security[start + low]
        checks = (columns.unread[i], not columns.listed[i], columns.held[i], columns.pending[i], not columns.ordered[i],
                  have == want, have > want, columns.stranded[i], missed > 0)  # fmt: skip
        verdicts.append(next((n for n, holds in enumerate(checks) if holds), 9))
    return verdicts


def _best(work: Any) -> float:
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)


if __name__ == "__main__":
    sys.exit(main())
