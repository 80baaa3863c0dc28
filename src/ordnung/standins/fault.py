"""``python -m ordnung.standins.fault``: set and clear faults of running stand-ins from the command line."""

from __future__ import annotations

import json
import sys
import urllib.error
import urllib.parse
import urllib.request

import click

from ordnung.standins.faults import FAULTS, QUIRKS


def _list(_: click.Context, __: click.Parameter, value: bool) -> None:
    if value:
        for kind, text in {**FAULTS, **QUIRKS}.items():
            click.echo(f"{kind:<20} {text}")
        raise click.exceptions.Exit


@click.command()
@click.argument("server")
@click.argument("kind", required=False)
@click.option("--control", required=True, help="The control port, as the stand-ins announce it.")
@click.option("--slot")
@click.option("--times", type=int, default=1, show_default=True)
@click.option("--seconds", type=float, default=0.0)
@click.option("--on")
@click.option("--clear", is_flag=True, help="Clear this kind, or all.")
@click.option("--power-cut", is_flag=True, help="The feed fails, now.")
@click.option("--list", is_flag=True, is_eager=True, expose_value=False, callback=_list, help="All kinds, in words.")
def main(
    server: str, kind: str | None, control: str, slot: str | None, times: int, seconds: float, on: str | None,
    clear: bool, power_cut: bool,
) -> None:  # fmt: skip
    """Set a fault on a stand-in, clear it, or cut its power."""
    base = f"{control.rstrip('/')}/servers/{urllib.parse.quote(server)}"
    if power_cut:
        answer = _ask("POST", f"{base}/power-cut", {})
    elif clear:
        answer = _ask("DELETE", f"{base}/faults" + (f"?kind={urllib.parse.quote(kind)}" if kind else ""), None)
    elif kind is None:
        raise click.UsageError("name a kind of fault, --clear or --power-cut")
    else:
        body = {"kind": kind, "slot": slot, "times": times, "seconds": seconds, "on": on}
        answer = _ask("POST", f"{base}/faults", body)
    click.echo(json.dumps(answer))


def _ask(method: str, url: str, body: object) -> object:
    data = json.dumps(body).encode() if body is not None else None
    request = urllib.request.Request(url, data, {"Content-Type": "application/json"}, method=method)  # noqa: S310
    try:
        with urllib.request.urlopen(request, timeout=10) as answer:  # noqa: S310  # the control port is a plain address
            return json.loads(answer.read())
    except urllib.error.HTTPError as error:
        click.echo(error.read().decode().strip(), err=True)
        sys.exit(2)
    except (urllib.error.URLError, ValueError) as error:
        click.echo(f"The stand-ins don't answer at {url}: {error}", err=True)
        sys.exit(3)


if __name__ == "__main__":
    main()
