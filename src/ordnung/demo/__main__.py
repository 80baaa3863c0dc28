"""``python -m ordnung.demo``: stand-ins, web and engine with the demo data, until Ctrl-C."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
from pathlib import Path

import click

from ordnung.demo.seed import PEOPLE
from ordnung.formats.siteclock import SETTING, SiteClock, keep_time, keeper, read_kept, start_clock
from ordnung.server.supervisor import Supervisor, SupervisorError, demand_free, start_site
from ordnung.standins.certificates import open_authority

RATE = 60.0
PAYLOAD_ADDRESS = "127.20.100.2"


@click.command()
@click.option("--port", type=int, default=8000, show_default=True, help="Of the web server.")
@click.option("--device-port", type=int, default=8443, show_default=True, help="Of the stand-ins; 0 takes free ones.")
@click.option(
    "--rate", type=click.FloatRange(min=0.1), default=RATE, show_default=True, help="How fast the clock runs."
)
@click.option("--home", type=click.Path(path_type=Path), default=Path("var/demo"), show_default=True)
@click.option("--fleet", type=click.IntRange(1, 20_000), help="So many servers with readings made up, no stand-ins.")
@click.option("--fresh", is_flag=True, help="Begin again: forget runs and put the hardware back as it was.")
@click.option("--announce", type=click.Path(path_type=Path), help="Write the addresses here once all answer.")
def main(
    port: int, device_port: int, rate: float, home: Path, fleet: int | None, fresh: bool, announce: Path | None
) -> None:  # fmt: skip
    """Try everything on this machine: the Lowmere Tide and Flood Office, 120 servers in ten racks."""
    home = (home / f"fleet-{fleet}" if fleet else home).resolve()
    if fresh and home.exists():
        shutil.rmtree(home)
    home.mkdir(parents=True, exist_ok=True)
    clock = start_clock(rate, read_kept(home / "clock"))
    keep = keeper(home / "clock", clock)
    keep()
    supervisor = Supervisor(home, _environment(home, clock), ticks=[keep])
    try:
        if fleet:
            url, announced = _start_fleet(supervisor, port, fleet), {}
        else:
            url = _start(supervisor, port, device_port)
            announced = json.loads((home / "standins.json").read_text())
        if announce:
            temporary = announce.with_suffix(".new")
            temporary.write_text(json.dumps({**announced, "web": url, "people": PEOPLE, "home": str(home)}))
            temporary.replace(announce)
        _tell(url, rate)
        supervisor.watch()
    except SupervisorError as error:
        click.echo(str(error), err=True)
        sys.exit(3)
    finally:
        supervisor.stop()
        if home.exists():
            keep_time(home / "clock", clock.seconds())


def _environment(home: Path, clock: SiteClock) -> dict[str, str]:
    authority = open_authority(home / "standins" / "ca")
    certificate = authority.folder / "payloads.pem"
    if not certificate.exists():
        authority.issue(PAYLOAD_ADDRESS, "payloads")
    return {
        SETTING: clock.setting(),
        "ORDNUNG_HOME": str(home / "site"),
        "ORDNUNG_CA": str(authority.path),
        "ORDNUNG_MIRROR_CA": str(authority.path),
        "ORDNUNG_ENGINE_READY": str(home / "engine.ready"),
        "ORDNUNG_ENGINE_TROUBLE": str(home / "engine.trouble"),
        "ORDNUNG_PAYLOAD_ADDRESS": PAYLOAD_ADDRESS,
        "ORDNUNG_PAYLOAD_PORT": "0",
        "ORDNUNG_PAYLOAD_CERTIFICATE": str(certificate),
        "ORDNUNG_NETWORKS": "127.20.0.0/16",
        "ORDNUNG_EGRESS": "127.0.0.0/8",
        "ORDNUNG_SSDP": f"127.0.0.1:{_free_udp_port()}",
    }


def _free_udp_port() -> int:
    """Searches of the demo go over a port of their own: several demos on one machine don't hear each other."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.bind(("127.0.0.1", 0))
        port: int = line.getsockname()[1]
        return port


def _start(supervisor: Supervisor, port: int, device_port: int) -> str:
    home = supervisor.home
    demand_free("127.0.0.1", port, "the web server")
    if device_port:
        demand_free("127.20.1.41", device_port, "the stand-ins")
    announced = home / "standins.json"
    announced.unlink(missing_ok=True)
    stand_ins = supervisor.start(
        "standins", "ordnung.standins", "--scenario", "demo", "--port", str(device_port), "--keep",
        "--host", "ordnung.demo.virtual_host",
        "--folder", str(home / "standins"), "--announce", str(announced),
        "--ssdp-port", supervisor.environment["ORDNUNG_SSDP"].partition(":")[2],
    )  # fmt: skip
    url = start_site(supervisor, "127.0.0.1", port)
    supervisor.wait_until(stand_ins, announced.exists)
    _seed(supervisor, "ordnung.demo.seed", str(announced), str(home / "standins" / "mirror" / "catalogs"))
    return url


def _start_fleet(supervisor: Supervisor, port: int, count: int) -> str:
    """The web and the engine with a large house whose controllers don't exist."""
    demand_free("127.0.0.1", port, "the web server")
    url = start_site(supervisor, "127.0.0.1", port)
    _seed(supervisor, "ordnung.demo.fleet", str(count), str(supervisor.home / "standins" / "mirror"))
    return url


def _seed(supervisor: Supervisor, module: str, *arguments: str) -> None:
    environment = {**os.environ, **supervisor.environment}
    command = [sys.executable, "-m", module, *arguments]
    seeded = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if seeded.returncode:
        raise SupervisorError(f"The demo data can't be put in: {seeded.stderr.strip().splitlines()[-1]}")


def _tell(url: str, rate: float) -> None:
    click.echo(f"\n  Ordnung answers at {url}\n")
    for name, password in PEOPLE.items():
        click.echo(f"  sign in as {name}, password {password}")
    click.echo(f"\n  The clock runs {rate:g} times as fast as yours. Ctrl-C stops everything.\n")


if __name__ == "__main__":
    main()
