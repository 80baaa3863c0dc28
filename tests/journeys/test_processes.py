"""Killing the engine loses and doubles nothing; the supervisor speaks plainly and leaves nothing behind."""

from __future__ import annotations

import json
import os
import random
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from ordnung.demo.seed import PEOPLE
from ordnung.formats.siteclock import SETTING, start_clock
from ordnung.server.supervisor import Supervisor, answers
from ordnung.standins.certificates import open_authority
from ordnung.standins.hardware import writes_of
from tests.journeys.site import Api, Demo, clean_environment, free_port, read_log, wait_until

pytestmark = pytest.mark.journey
RATE = 100.0
KILLS = int(os.environ.get("ORDNUNG_KILLS", "10"))
"""How often the engine is killed: while it stages, writes, resets, confirms; ``make soak`` does it 200 times."""


class Site:
    """Stand-ins, web and engine started one by one, so that the engine can be killed."""

    def __init__(self, home) -> None:
        authority = open_authority(home / "standins" / "ca")
        environment = {
            **clean_environment(),
            SETTING: start_clock(RATE).setting(),
            "ORDNUNG_HOME": str(home / "site"),
            "ORDNUNG_CA": str(authority.path),
            "ORDNUNG_MIRROR_CA": str(authority.path),
            "ORDNUNG_ENGINE_READY": str(home / "engine.ready"),
            "ORDNUNG_NETWORKS": "127.20.0.0/16",
            "ORDNUNG_EGRESS": "127.0.0.0/8",
            "ORDNUNG_PAYLOAD_ADDRESS": "127.20.100.3",
            "ORDNUNG_PAYLOAD_PORT": str(free_port()),
            "ORDNUNG_PAYLOAD_CERTIFICATE": str(authority.issue("127.20.100.3", "payloads")),
        }
        for name in ("ORDNUNG_SECRET", "ORDNUNG_DATABASE"):
            environment.pop(name, None)
        self.home, self.ready = home, home / "engine.ready"
        handlers = [signal.getsignal(n) for n in (signal.SIGINT, signal.SIGTERM)]
        self.supervisor = Supervisor(home, environment)
        for number, handler in zip((signal.SIGINT, signal.SIGTERM), handlers, strict=True):
            signal.signal(number, handler)
        announced = home / "floor.json"
        self._start(
            "standins",
            "ordnung.standins",
            "--port",
            "0",
            "--folder",
            str(home / "standins"),
            "--announce",
            str(announced),
        )
        wait_until(announced.exists, "stand-ins")
        self.told = json.loads(announced.read_text())
        self._run("ordnung.server.manage", "migrate", "--verbosity", "0", "--skip-checks")
        self._run("ordnung.demo.seed", str(announced), str(home / "standins" / "mirror" / "catalogs"))
        port = free_port()
        self._start("web", "ordnung.server.web", "--port", str(port))
        self.web = f"http://127.0.0.1:{port}"
        wait_until(lambda: answers(f"{self.web}/api/v1/me"), "web")
        self.start_engine()

    def _start(self, name, *command):
        # Bypasses the inherited environment of this test process: only what a real site has.
        keep = dict(os.environ)
        os.environ.clear()
        os.environ.update(self.supervisor.environment)
        try:
            return self.supervisor.start(name, *command)
        finally:
            os.environ.clear()
            os.environ.update(keep)

    def _run(self, *command) -> None:
        subprocess.run([sys.executable, "-m", *command], env=dict(self.supervisor.environment), check=True)

    def start_engine(self) -> None:
        self.ready.unlink(missing_ok=True)
        self.engine = self._start("engine", "ordnung.server.engine")
        wait_until(self.ready.exists, "engine")

    def kill_engine(self) -> None:
        self.engine.process.kill()
        self.engine.process.wait()
        self.supervisor.children.remove(self.engine)


@pytest.fixture
def site(tmp_path):
    found = Site(tmp_path)
    yield found
    found.supervisor.stop()


def test_killing_the_engine_at_any_moment_loses_and_doubles_nothing(site):
    """A run and, while kills are left, its way back and the run again, killed all along."""
    names = ["surge-07", "gauge-01", "surge-08", "vault-01"]
    api, chance, kills = Api(site.web, PEOPLE["lead"]), random.Random(KILLS), KILLS
    api.be_patient()
    api.post("surveys", {"servers": names})
    assert api.wait_for_work()["state"] == "done"
    api.post("repositories", {"servers": names})
    assert api.wait_for_work()["state"] == "done"
    run = api.post("runs", {"servers": names})
    while True:
        kills = carry_through(site, api, run["id"], kills, chance)
        if not kills:
            return
        goes_back = run["takes_back"] is None
        run = api.post(f"runs/{run['id']}/take-back") if goes_back else api.post("runs", {"servers": names})


def carry_through(site, api, run: int, kills: int, chance: random.Random) -> int:
    """Start a run, kill the engine now and then until it has ended, and hold it to the devices' own logs."""
    control = site.told["control"]
    before = {s["server"]: len(read_log(control, s["server"])["log"]) for s in api.get(f"runs/{run}")["servers"]}
    api.post(f"runs/{run}/start")
    while kills and api.get(f"runs/{run}")["state"] == "running":
        time.sleep(chance.uniform(0.2, 2.0))  # real time is the point: the engine dies wherever it happens to be
        site.kill_engine()
        site.start_engine()
        kills -= 1
    assert api.wait_for_work()["state"] == "done", api.get("work")
    for lane in api.get(f"runs/{run}")["servers"]:
        name = lane["server"]
        assert lane["ended"] in ("level", "put back"), (name, lane["reason"])
        told = read_log(control, name)
        log = told["log"][before[name] :]
        sent = [(w["slot"], w["to"]) for r in lane["rounds"] for w in r["writes"] if w["sha256"]]
        assert sorted(writes_of(log)) == sorted(sent), "every write once"
        resets = [e["kind"] for e in log if e["what"] == "reset"]
        assert resets == [r["reset"] for r in lane["rounds"] if r["reset"]], "every reset once"
        assert told["dead"] == [] and told["waiting"] == {}
    return kills


def test_a_busy_port_is_a_clear_sentence(tmp_path):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        command = [sys.executable, "-m", "ordnung.demo", "--port", port, "--device-port", "0", "--home", str(tmp_path)]
        done = subprocess.run(command, capture_output=True, text=True, env=clean_environment(), timeout=60, check=False)
    assert done.returncode == 3
    assert done.stderr.strip() == (
        f"Port {port} at 127.0.0.1, which the web server needs, is taken. "
        "Stop what uses it or choose another with --port."
    )


def children_of(pid: int) -> list[int]:
    told = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True, check=False).stdout
    return [int(line) for line in told.split()]


def engine_of(demo: Demo) -> int | None:
    for child in children_of(demo.process.pid):
        path = Path(f"/proc/{child}/cmdline")
        if path.exists() and b"ordnung.server.engine" in path.read_bytes():
            return child
    return None


def test_a_site_outlives_its_engine_and_nothing_outlives_the_site(tmp_path):
    """A killed engine stopped everything; a killed supervisor left children that blocked the next start."""
    demo = Demo(tmp_path)
    api = demo.api
    api.post("surveys", {"servers": ["surge-03"]})
    assert api.wait_for_work()["state"] == "done"
    first = engine_of(demo)
    os.kill(first, signal.SIGKILL)
    told = wait_until(lambda: api.get("site")["trouble"], "the page to say so")
    assert "engine ended with status -9" in told and "started again in 1 s. Nothing is lost" in told
    wait_until(lambda: engine_of(demo) not in (None, first) and not api.get("site")["trouble"], "another engine")
    api.post("surveys", {"servers": ["surge-03"]})
    assert api.wait_for_work()["state"] == "done"
    before, addresses = api.get("site")["now"], api.get("servers/surge-03")["url"]
    children = children_of(demo.process.pid)
    assert len(children) == 3
    demo.process.kill()
    demo.process.wait()
    wait_until(lambda: not any(Path(f"/proc/{child}").exists() for child in children), "the children's end", 10)

    again = Demo(tmp_path)
    api = again.api
    server = api.get("servers/surge-03")
    assert (server["readings"], server["url"]) == (2, addresses), "the stand-ins are where they were"
    assert api.get("site")["now"] > before, "the clock never goes back"
    os.kill(next(c for c in children_of(again.process.pid) if is_web(c)), signal.SIGKILL)
    assert again.process.wait(30) == 3, "without the web server there is nothing to look at"
    assert "web ended with status -9" in again.log.read_text() and "Traceback" not in again.log.read_text()


def is_web(child: int) -> bool:
    return b"ordnung.server.web" in Path(f"/proc/{child}/cmdline").read_bytes()
