"""``python -m ordnung.server``: a site of its own: web and engine, no stand-ins, no demo data."""

from __future__ import annotations

import ipaddress
import os
import subprocess
import sys
from pathlib import Path

import click

from ordnung.server.supervisor import Supervisor, SupervisorError, start_site


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", type=int, default=8000, show_default=True)
@click.option("--home", type=click.Path(path_type=Path), default=Path("var/site"), show_default=True)
@click.option("--ca", type=click.Path(exists=True, path_type=Path), help="The authority of the controllers.")
@click.option("--mirror-ca", type=click.Path(exists=True, path_type=Path), help="The authority of the mirrors.")
@click.option(
    "--system-authorities",
    type=click.Choice(["none", "controllers", "mirrors", "both"]),
    default="mirrors",
    show_default=True,
    help="For whom the system's authorities vouch too.",
)
@click.option(
    "--certificate",
    type=click.Path(exists=True, path_type=Path),
    help="Key and certificate to serve payloads with.",
)
@click.option(
    "--tls", type=click.Path(exists=True, path_type=Path), help="Key and certificate (PEM) to serve the site with."
)
@click.option(
    "--behind-proxy",
    type=click.IntRange(0, 5),
    default=0,
    show_default=True,
    help="How many proxies of yours stand before the site; the outermost speaks TLS.",
)
@click.option("--payload-address", default="127.0.0.1", show_default=True)
@click.option("--payload-port", type=int, default=8444, show_default=True)
@click.option("--add-person", metavar="NAME", help="Make a sign-in and end; the password is asked for.")
def main(
    host: str, port: int, home: Path, ca: Path | None, mirror_ca: Path | None, system_authorities: str,
    certificate: Path | None, tls: Path | None, behind_proxy: int, payload_address: str, payload_port: int,
    add_person: str | None,
) -> None:  # fmt: skip
    """Run Ordnung until told to stop."""
    if not (tls or behind_proxy or is_loopback(host)):
        message = f"{host} can be reached from elsewhere: passwords would go there in the clear."
        raise click.UsageError(f"{message} Give --tls FILE, or --behind-proxy N where a proxy speaks TLS.")
    home = home.resolve()
    home.mkdir(parents=True, exist_ok=True)
    environment = {
        "ORDNUNG_HOME": str(home),
        "ORDNUNG_ENGINE_READY": str(home / "engine.ready"),
        "ORDNUNG_ENGINE_TROUBLE": str(home / "engine.trouble"),
        "ORDNUNG_PAYLOAD_ADDRESS": payload_address,
        "ORDNUNG_PAYLOAD_PORT": str(payload_port),
    }
    if ca:
        environment["ORDNUNG_CA"] = str(ca.resolve())
    if mirror_ca:
        environment["ORDNUNG_MIRROR_CA"] = str(mirror_ca.resolve())
    whom = "controllers,mirrors" if system_authorities == "both" else system_authorities
    environment["ORDNUNG_SYSTEM_AUTHORITIES"] = "" if whom == "none" else whom
    if certificate:
        environment["ORDNUNG_PAYLOAD_CERTIFICATE"] = str(certificate.resolve())
    if tls or behind_proxy:
        environment |= {"ORDNUNG_SECURE": "yes", "ORDNUNG_PROXIES": str(behind_proxy)}
    if not is_loopback(host) and "ORDNUNG_HOSTS" not in os.environ:
        environment["ORDNUNG_HOSTS"] = f"127.0.0.1,localhost,{host}"
    if add_person:
        sys.exit(_add_person(environment, add_person))
    supervisor = Supervisor(home, environment)
    try:
        url = start_site(supervisor, host, port, tls.resolve() if tls else None)
        click.echo(f"Ordnung answers at {url}. Ctrl-C stops it.")
        if not _has_people(environment):
            click.echo("Nobody can sign in yet. In another terminal: ordnung serve --home ... --add-person NAME")
        supervisor.watch()
    except SupervisorError as error:
        click.echo(str(error), err=True)
        sys.exit(3)
    finally:
        supervisor.stop()


def is_loopback(host: str) -> bool:
    """Whether an address can be reached from this machine only."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _has_people(environment: dict[str, str]) -> bool:
    command = [sys.executable, "-m", "ordnung.server.manage", "shell", "--no-imports", "-c"]
    ask = "from django.contrib.auth.models import User; print(User.objects.exists())"
    answer = subprocess.run(
        [*command, ask], env={**os.environ, **environment}, capture_output=True, text=True, check=False
    )
    return "False" not in answer.stdout


def _add_person(environment: dict[str, str], name: str) -> int:
    commands = (["migrate", "--verbosity", "0"], ["add_person", name])
    for command in commands:
        done = subprocess.run(
            [sys.executable, "-m", "ordnung.server.manage", *command],
            env={**os.environ, **environment},
            check=False,
        )
        if done.returncode:
            return done.returncode
    return 0


if __name__ == "__main__":
    main()
