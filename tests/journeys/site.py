"""A whole site in processes of its own, as a person starts it, and a plain client of its API."""

from __future__ import annotations

import functools
import http.cookiejar
import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

WAIT_S = 120.0


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def clean_environment() -> dict[str, str]:
    """The environment without what this test process set for its own Django."""
    return {k: v for k, v in os.environ.items() if not k.startswith("ORDNUNG_") or k == "ORDNUNG_SIGN_IN_RATE"}


def wait_until(done, what: str, limit_s: float = WAIT_S, pause_s: float = 0.1):
    """Poll until ``done()`` is true; its value."""
    end = time.monotonic() + limit_s
    while not (value := done()):
        assert time.monotonic() < end, f"waited too long for {what}"
        time.sleep(pause_s)
    return value


class Demo:
    """``ordnung demo`` on free ports; stopped by its own process id."""

    def __init__(self, folder: Path, rate: float = 200.0, device_port: int = 0) -> None:
        self.folder, self.announce, self.device_port = folder, folder / "demo.json", device_port
        self.log = folder / "demo.log"
        self.announce.unlink(missing_ok=True)
        command = [sys.executable, "-m", "ordnung.demo", "--port", str(free_port()), "--device-port", str(device_port)]
        command += ["--rate", str(rate), "--home", str(folder / "home"), "--announce", str(self.announce)]
        with self.log.open("wb") as out:
            self.process = subprocess.Popen(command, stdout=out, stderr=subprocess.STDOUT, env=clean_environment())
        wait_until(lambda: self.announce.exists() or self.process.poll() is not None, "the demo")
        assert self.announce.exists(), self.log.read_text()
        told = json.loads(self.announce.read_text())
        self.web, self.control, self.ca, self.mirror = told["web"], told["control"], told["ca"], told["mirror"]
        self.password, self.targets = told["people"]["lead"], told["targets"]

    @functools.cached_property
    def api(self) -> Api:
        """The lead's, signed in once: to check a password takes long on purpose."""
        return Api(self.web, self.password)

    def stop(self) -> int:
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(30)


class Api:
    """Signed in as the lead, who may do everything."""

    def __init__(self, web: str, password: str) -> None:
        self.web, self.token = web, ""
        jar = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
        self.token = self.get("me")["csrf"]
        self.token = self.post("sign-in", {"name": "lead", "password": password})["csrf"]

    def get(self, path: str) -> Any:
        return self._ask("GET", path, None)

    def post(self, path: str, body: Any = None) -> Any:
        return self._ask("POST", path, body or {})

    def put(self, path: str, body: Any) -> Any:
        return self._ask("PUT", path, body)

    def patch(self, path: str, body: Any) -> Any:
        return self._ask("PATCH", path, body)

    def delete(self, path: str) -> Any:
        return self._ask("DELETE", path, None)

    def _ask(self, method: str, path: str, body: Any) -> Any:
        data = json.dumps(body).encode() if body is not None else None
        headers = {"Content-Type": "application/json", "X-CSRFToken": self.token}
        request = urllib.request.Request(f"{self.web}/api/v1/{path}", data, headers, method=method)
        with self.opener.open(request, timeout=30) as answer:
            raw = answer.read()
            return json.loads(raw) if raw else None

    def be_patient(self) -> None:
        """The house waits for people as long as a journey takes on a slow machine."""
        house = {key: value for key, value in self.get("house").items() if key != "usual_at_once"}
        self.put("house", {**house, "patience_minutes": 7 * 1440})

    def wait_for_work(self) -> dict[str, Any]:
        """Until nothing is under way; the latest work. Somebody is at every server that asks for it."""

        def still():
            for call in self.get("calls"):
                if call["kind"] == "tick":
                    self.post(f"runs/{call['run']}/servers/{call['server']}/tick", {"key": call["key"]})
            work = self.get("work?limit=1000")
            return work if all(w["state"] in ("done", "failed") for w in work) else None

        # To tell all that is under way is work for the site, which is needed for what is waited for.
        return max(wait_until(still, "work", pause_s=0.4), key=lambda w: w["id"])


def control(base: str, path: str, body: Any = None, method: str | None = None) -> Any:
    """Ask the stand-ins' control port."""
    data = json.dumps(body).encode() if body is not None else None
    request = urllib.request.Request(base + path, data, {"Content-Type": "application/json"}, method=method)
    with urllib.request.urlopen(request, timeout=10) as answer:
        return json.loads(answer.read())


def read_log(base: str, server: str) -> dict[str, Any]:
    """A device's own log, versions, waiting versions and dead components."""
    return control(base, f"/servers/{server}/log")


__all__ = ["Api", "Demo", "clean_environment", "control", "free_port", "read_log", "urllib", "wait_until"]
