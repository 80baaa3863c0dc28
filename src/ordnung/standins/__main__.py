"""``python -m ordnung.standins``: run stand-ins until told to stop."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sys
from pathlib import Path

import click

from ordnung.formats.siteclock import SETTING, SiteClock, parse_clock, start_clock
from ordnung.standins.floor import Floor, FloorSettings
from ordnung.standins.hardware import Hardware
from ordnung.standins.makers import write_mirror
from ordnung.standins.scenario import demo_hardware, make_enclosures, mixed_hardware


@click.command()
@click.option("--scenario", type=click.Choice(["demo"]), help="The demo scenario (default).")
@click.option("--servers", type=click.IntRange(1, 8000), help="Any number of servers instead.")
@click.option("--enclosures", type=click.IntRange(1, 200), help="Two systems behind each of so many controllers.")
@click.option("--seed", type=int, default=1, show_default=True)
@click.option("--rate", type=click.FloatRange(min=0.1), help="How fast their clock runs (default 60, or the site's).")
@click.option("--port", type=int, default=8443, show_default=True, help="0 takes free ports.")
@click.option("--control-port", type=int, default=0)
@click.option("--service-ms", type=click.FloatRange(min=0), default=0.0, help="Time each request takes.")
@click.option("--ssdp-port", type=int, default=0, help="Answer searches on the network here (1900); 0: don't.")
@click.option("--host", default="", metavar="MODULE", help="Plays what a server runs that was started from a disc.")
@click.option("--keep", is_flag=True, help="Keep the state of the hardware over restarts.")
@click.option("--folder", type=click.Path(path_type=Path), default=Path("var/standins"), show_default=True)
@click.option("--announce", type=click.Path(path_type=Path), help="Write addresses here once all answer.")
def main(
    scenario: str | None, servers: int | None, enclosures: int | None, seed: int, rate: float | None, port: int, control_port: int,
    ssdp_port: int, service_ms: float, host: str, keep: bool, folder: Path, announce: Path | None,
) -> None:  # fmt: skip
    """Simulated servers on loopback addresses, each with its own certificate."""
    if len([chosen for chosen in (scenario, servers, enclosures) if chosen]) > 1:
        raise click.UsageError("--scenario, --servers and --enclosures exclude each other")
    clock = (
        start_clock(rate)
        if rate
        else parse_clock(os.environ.get(SETTING))
        if SETTING in os.environ
        else start_clock(60)
    )
    hardware = _hardware(servers, enclosures, seed, clock)
    settings = FloorSettings(
        folder=folder, port=port, control_port=control_port, service_ms=service_ms, keep=keep, ssdp_port=ssdp_port,
        host=host,
    )  # fmt: skip
    floor = Floor(hardware, settings, clock)
    sys.exit(asyncio.run(_run(floor, clock, announce)))


def _hardware(servers: int | None, enclosures: int | None, seed: int, clock: SiteClock) -> list[Hardware]:
    if servers:
        return mixed_hardware(servers, seed, clock.seconds)
    return make_enclosures(enclosures, seed, clock.seconds) if enclosures else demo_hardware(clock.seconds)


async def _run(floor: Floor, clock: SiteClock, announce: Path | None) -> int:
    stopped = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, stopped.set)
    floor.mirror.folder.mkdir(parents=True, exist_ok=True)
    try:
        await floor.start()
    except OSError as error:
        click.echo(f"The stand-ins can't listen: {error}. Is a demo running already?", err=True)
        await floor.stop()
        return 3
    await asyncio.to_thread(write_mirror, floor.mirror.folder, floor.mirror_url)
    if announce is not None:
        temporary = announce.with_suffix(".new")
        temporary.write_text(json.dumps(floor.announcement(), indent=2))
        temporary.replace(announce)
    click.echo(f"{len(floor.hardware)} stand-ins answer; their clock runs {clock.rate:g} times as fast.", err=True)
    await stopped.wait()
    await floor.stop()
    return 0


if __name__ == "__main__":
    main()
