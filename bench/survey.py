"""A survey of many slow stand-ins against a bare client that asks for the very same paths at the same concurrency."""

from __future__ import annotations

import asyncio
import json
import re
import resource
import signal
import ssl
import statistics
import subprocess
import sys
import tempfile
import time
from base64 import b64encode
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import aiohttp

from ordnung.controllers import Client, Endpoint, RedfishControllers
from ordnung.engine.survey import AT_ONCE, Surveyed, survey
from ordnung.formats.siteclock import SiteClock

SERVERS, SERVICE_MS = 1000, 100
BOUND_GB = 2.0
"""What a thousand stand-ins may take in one process."""


@dataclass(frozen=True)
class Measured:
    """Ratios of one comparison: time, requests a server by generation, memory of the stand-ins and of ours."""

    ratio: float
    requests: dict[str, float]
    standins_gb: float
    own_gb: float


def bench_survey() -> Measured:
    """Our survey against a bare aiohttp client that asks for exactly the same paths."""
    with tempfile.TemporaryDirectory(prefix="ordnung-bench-") as scratch:
        announce = Path(scratch) / "floor.json"
        command = [sys.executable, "-m", "ordnung.standins", "--servers", str(SERVERS), "--seed", "7", "--port", "0"]
        command += ["--service-ms", str(SERVICE_MS), "--folder", f"{scratch}/standins", "--announce", str(announce)]
        floor = subprocess.Popen(command, stderr=subprocess.DEVNULL)
        try:
            while not announce.exists():
                time.sleep(0.1)
            ratio, requests, own_gb = asyncio.run(_compare(json.loads(announce.read_text())))
            return Measured(ratio, requests, _peak(floor.pid), own_gb)
        finally:
            floor.send_signal(signal.SIGTERM)
            floor.wait()


def _peak(pid: int) -> float:
    """The most memory a process has held, in GB."""
    found = re.search(r"VmHWM:\s+(\d+) kB", Path(f"/proc/{pid}/status").read_text())
    return int(found[1]) / 2**20 if found else 0.0


async def _compare(told: dict[str, Any]) -> tuple[float, dict[str, float], float]:
    endpoints = [
        Endpoint(name=t["name"], url=t["url"], user=t["user"], password=t["password"]) for t in told["targets"]
    ]
    paths: dict[str, list[str]] = {}
    await _survey(endpoints, told["ca"], paths)
    own_gb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    ours = await _survey(endpoints, told["ca"], None)
    bare = await _bare(told, paths)
    by_kind: dict[str, list[int]] = {}
    for target in told["targets"]:
        by_kind.setdefault(target["generation"], []).append(len(paths[target["url"]]))
    return ours / bare, {kind: statistics.mean(counts) for kind, counts in sorted(by_kind.items())}, own_gb


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
