"""``ordnung survey``: read servers through their controllers."""

from __future__ import annotations

import asyncio
import json
from pathlib import Path

import click

from ordnung.controllers import Client, Endpoint, RedfishControllers
from ordnung.core.components import Server
from ordnung.engine.survey import Surveyed
from ordnung.engine.survey import survey as run_survey
from ordnung.fieldkit.password import read_password
from ordnung.fieldkit.show import as_json, print_json, print_table
from ordnung.formats.readings import server_entry, write_readings
from ordnung.formats.siteclock import SiteClock

UNREACHED = 3


@click.command()
@click.argument("targets", nargs=-1, required=True)
@click.option("--user", help="Of all targets given by address.")
@click.option("--password-file", type=click.Path(exists=True, path_type=Path), help="First line is the password.")
@click.option("--ca", type=click.Path(exists=True, path_type=Path), help="The authority of the controllers.")
@click.option("--pin", help="SHA-256 of the one certificate to trust, in hex.")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="Write the readings here.")
@as_json
def survey(
    targets: tuple[str, ...], user: str | None, password_file: Path | None, ca: Path | None, pin: str | None,
    output: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Read TARGETS: addresses (https://HOST:PORT), or a file that the stand-ins announced.

    Certificates are always verified, against --ca or --pin.
    """
    endpoints, announced_ca = _endpoints(targets, user, password_file, pin)
    authority = str(ca) if ca else announced_ca
    if authority is None and pin is None:
        raise click.UsageError("give --ca or --pin: certificates are always verified")
    results = asyncio.run(_survey(endpoints, authority))
    servers = [r.server or _unread(r) for r in results]
    if output:
        output.write_bytes(write_readings(servers))
    if as_json:
        print_json({"format": "ordnung.readings/1", "servers": [server_entry(s) for s in servers]})
    else:
        _print(results)
    for result in results:
        if result.error:
            click.echo(f"{result.error}. {result.error.remedy}", err=True)
    return UNREACHED if any(r.error for r in results) else 0


def _endpoints(
    targets: tuple[str, ...], user: str | None, password_file: Path | None, pin: str | None
) -> tuple[list[Endpoint], str | None]:
    endpoints: list[Endpoint] = []
    ca: str | None = None
    for target in targets:
        if target.startswith("https://"):
            if user is None or password_file is None:
                raise click.UsageError("an address needs --user and --password-file")
            password = read_password(password_file)
            endpoints.append(Endpoint(name=target, url=target, user=user, password=password, pin=pin))
        else:
            document = json.loads(Path(target).read_text())
            ca = document["ca"]
            endpoints += [
                Endpoint(name=t["name"], url=t["url"], user=t["user"], password=t["password"])
                for t in document["targets"]
            ]
    return endpoints, ca


async def _survey(endpoints: list[Endpoint], ca: str | None) -> list[Surveyed]:
    results: list[Surveyed] = []

    async def report(result: Surveyed) -> None:
        results.append(result)

    async with Client(ca) as client:
        await run_survey(endpoints, RedfishControllers(client), SiteClock(), report)
    return sorted(results, key=lambda r: r.name)


def _unread(result: Surveyed) -> Server:
    assert result.error is not None
    return Server(name=result.name, model="", unread=f"{result.error.cause}: {result.error.detail}")


def _print(results: list[Surveyed]) -> None:
    rows = [
        (r.name, r.server.model, c.slot, c.name, c.version, c.waiting, ", ".join(c.banks[1:]) or None)
        for r in results
        if r.server
        for c in r.server.components
    ]
    print_table(("server", "model", "slot", "component", "version", "waiting", "other bank"), rows)
