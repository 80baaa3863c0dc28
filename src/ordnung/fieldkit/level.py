"""``ordnung level``: bring one server level from a repository, over as many resets as it takes, without a site."""

from __future__ import annotations

import asyncio
import os
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit

import click

from ordnung.controllers import Endpoint
from ordnung.fieldkit.console import EventScreen, Keyboard, LiveScreen, PlainScreen, Screen
from ordnung.fieldkit.host.interface import find_own_controller
from ordnung.fieldkit.journal import FileJournal, JournalBusyError
from ordnung.fieldkit.kit import KitBaseline, Wanted, names_needed, unpack_kit
from ordnung.fieldkit.one_server import Job, bring_level, what_to_put_back
from ordnung.fieldkit.password import read_password
from ordnung.fieldkit.show import as_json
from ordnung.fieldkit.trust import trusted_root
from ordnung.formats.documents import write_document
from ordnung.formats.order import parse_order
from ordnung.formats.siteclock import SETTING, parse_clock
from ordnung.repository import look_at, open_carrier
from ordnung.store import ContentStore, LinkedStore

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)

INTERRUPTED = 130


def _overrides(_context: object, _option: object, values: tuple[str, ...]) -> dict[str, str]:
    found = {}
    for value in values:
        check, _, why = value.partition("=")
        if not check or not why.strip():
            raise click.BadParameter(f"{value}: write the check, an equals sign and why it may be overridden")
        found[check] = why.strip()
    return found


@click.command()
@click.option("--controller", metavar="URL", help="Its management controller: https://HOST[:PORT].")
@click.option("--here", is_flag=True, help="The controller of the server that this runs on, over its own inner link.")
@click.option("--sysfs", type=click.Path(path_type=Path), default=Path("/sys"), hidden=True, help="For --here.")
@click.option("--repository", "place", type=click.Path(exists=True, path_type=Path), required=True)
@click.option("--root", type=_FILE, help="The root metadata you trust.")
@click.option("--trust", default="", metavar="KEYS", help="The root keys' ids, compared where it was packed.")
@click.option("--expired", is_flag=True, help="Take it although its seal has expired.")
@click.option("--user", required=True)
@click.option("--password-file", type=_FILE, required=True, help="First line is the password.")
@click.option("--ca", type=_FILE, help="The authority of the controllers.")
@click.option("--pin", help="SHA-256 of the one certificate to trust, in hex.")
@click.option("--system", help="The path of its own system, where a controller serves several.")
@click.option("--order", "ordered", type=_FILE, help="Do what this order says, on the server that it names, unasked.")
@click.option("--rules", type=_FILE, help="House rules instead of those that lie in the repository.")
@click.option("--name", default="", help="What the house calls this server, where its rules go by names.")
@click.option("--group", default="", help="Its group, where the house's rules go by groups.")
@click.option("--only", multiple=True, metavar="KIND|SLOT", help="Nothing but these.")
@click.option("--except", "but", multiple=True, metavar="KIND|SLOT", help="All but these.")
@click.option("--override", "overrides", multiple=True, callback=_overrides, metavar="CHECK=WHY")
@click.option("--put-back", is_flag=True, help="Take back what the last run in this journal changed.")
@click.option("--serve", metavar="ADDRESS", help="Let the controller fetch payloads from here; needs --certificate.")
@click.option("--certificate", type=_FILE, help="For --serve: certificate and key in one file.")
@click.option(
    "--work", type=click.Path(file_okay=False, path_type=Path), default=Path("ordnung-level"), show_default=True,
    help="Where the journal and the payloads are kept.",
)  # fmt: skip
@click.option("--on-disc", is_flag=True, hidden=True, help="It runs on the very server, started from a disc or stick.")
@click.option("--in-place", is_flag=True, help="Use payloads where they lie, on a medium that stays.")
@click.option("--dry-run", is_flag=True, help="Show what would be done, and what it costs; send nothing.")
@click.option("--yes", is_flag=True, help="Begin without asking.")
@as_json
def level(
    controller: str | None, here: bool, sysfs: Path, place: Path, root: Path | None, trust: str, expired: bool,
    user: str, password_file: Path, ca: Path | None, pin: str | None, system: str | None, rules: Path | None,
    ordered: Path | None, name: str, group: str,
    only: tuple[str, ...], but: tuple[str, ...], overrides: dict[str, str], put_back: bool, serve: str | None,
    certificate: Path | None, work: Path, on_disc: bool, in_place: bool, dry_run: bool, yes: bool, as_json: bool,
) -> int:  # fmt: skip
    """Bring one server level from a sealed repository: read, plan, write, reset, read again, until nothing is left.

    Killed at any moment and started again with the same --work, it goes on where it was and sends nothing twice.
    """
    url = _controller(controller, here, sysfs)
    if ca is None and pin is None:
        raise click.UsageError("give --ca or --pin: certificates are always verified")
    if ordered is not None and (rules is not None or only or but or put_back):
        raise click.UsageError("--order says what is done: not with --rules, --only, --except or --put-back")
    if (serve is None) != (certificate is None):
        raise click.UsageError("--serve and --certificate go together")
    work.mkdir(parents=True, exist_ok=True)
    store = click.get_current_context().with_resource(_open_store(place, work, in_place=in_place))
    with open_carrier(place) as carrier:
        arrived = look_at(carrier, root.read_bytes() if root else trusted_root(carrier, trust), allow_expired=expired)
        kit = unpack_kit(carrier, arrived, store)
    if rules is not None:
        kit = kit.ruled_by(rules.read_bytes(), rules.name)
    order = parse_order(ordered.read_bytes(), ordered.name) if ordered is not None else None
    if order is not None:
        kit = kit.ruled_by(write_document(dict(order.rules)), "the rules of the order")
        name, group, yes = order.server, order.group, True
        overrides, only = {**order.overrides, **overrides}, tuple({slot for slot, _ in order.writes})
    if missing := [key for key in names_needed(kit.rules) if not {"server": name, "group": group}[key]]:
        words = " and ".join(f"--{'name' if key == 'server' else key}" for key in missing)
        whose = "the rules in this repository" if rules is None else rules.name
        raise click.UsageError(f"{whose} go by {' and '.join(missing)}: say {words}")
    password = read_password(password_file)
    endpoint = Endpoint(name=name or _host(url), url=url, user=user, password=password, pin=pin, system=system)
    clock, keyboard = parse_clock(os.environ.get(SETTING)), Keyboard()
    screen: Screen = EventScreen() if as_json else PlainScreen()
    if not as_json and sys.stdout.isatty():
        screen = LiveScreen(f"{endpoint.name} from {kit.packing.name}, edition {kit.packing.edition}")
    wanted = Wanted(only=frozenset(only), but=frozenset(but), hands=keyboard.is_there and order is None)
    try:
        with FileJournal(work / "journal.jsonl", clock) as journal:
            baseline = KitBaseline(kit=kit, clock=clock, wanted=wanted, group=group or None)
            job = Job(
                endpoint=endpoint, password_file=password_file, kit=kit, journal=journal, baseline=baseline,
                clock=clock, screen=screen,
                keyboard=keyboard, folder=work, overrides=overrides, yes=yes, dry_run=dry_run, as_json=as_json,
                order=order, on_disc=on_disc,
                serve=(serve, certificate) if serve and certificate else None,
            )  # fmt: skip
            if put_back:
                job.back = what_to_put_back(job)
            return asyncio.run(bring_level(job, str(ca) if ca else None))
    except asyncio.CancelledError:
        click.echo("Ended at once. What the device does goes on; started again, this goes on where it was.", err=True)
        return INTERRUPTED
    except JournalBusyError as error:
        raise click.ClickException(str(error)) from None


@contextmanager
def _open_store(place: Path, work: Path, *, in_place: bool) -> Iterator[ContentStore]:
    """Where payloads are kept: copied beside the journal, or links to where they lie, as long as this runs."""
    if not in_place:
        yield ContentStore(work / "payloads")
        return
    if not place.is_dir():
        raise click.UsageError("--in-place is for a folder, or a disc that is mounted")
    with tempfile.TemporaryDirectory(prefix="ordnung-level-") as folder:
        yield LinkedStore(Path(folder))


def _controller(controller: str | None, here: bool, sysfs: Path) -> str:
    if (controller is None) == (not here):
        raise click.UsageError("say either --controller or --here")
    if controller is not None:
        if not controller.startswith("https://"):
            raise click.UsageError("--controller is an https address")
        return controller
    found = find_own_controller(sysfs)
    if found is None:
        message = "this machine tells of no host interface of Redfish (SMBIOS type 42); give --controller"
        raise click.ClickException(message)
    return found


def _host(url: str) -> str:
    parts = urlsplit(url)
    return parts.hostname or url
