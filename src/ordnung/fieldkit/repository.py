"""``ordnung repository build|check``."""

from __future__ import annotations

import asyncio
import datetime
from dataclasses import asdict
from pathlib import Path

import click

from ordnung.core.matching import Catalogs
from ordnung.core.packing import Packed, plan_packing
from ordnung.engine.pack import PackedState, fetch_all, write_repository
from ordnung.fieldkit.inputs import load_house
from ordnung.fieldkit.show import as_json, print_json
from ordnung.repository import ContentStore, Fetcher, check_repository, open_keys

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def repository() -> None:
    """Offline repositories."""


@repository.command()
@click.option("--readings", type=_FILE, required=True)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True, required=True)
@click.option("--rules", type=_FILE)
@click.option("--server", "names", multiple=True, help="Only these servers.")
@click.option("--ca", type=_FILE, help="The authority of the mirrors, if it is not a public one.")
@click.option("--store", type=click.Path(path_type=Path), default=Path("var/store"), show_default=True)
@click.option("--keys", type=click.Path(path_type=Path), default=Path("var/keys"), show_default=True)
@click.option(
    "--key-secret",
    envvar="ORDNUNG_KEY_SECRET",
    required=True,
    help="Encrypts the seal's keys; or in the environment.",
)
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True)
@as_json
def build(
    readings: Path, catalogs: tuple[Path, ...], rules: Path | None, names: tuple[str, ...], ca: Path | None,
    store: Path, keys: Path, key_secret: str, output: Path, as_json: bool,
) -> int:  # fmt: skip
    """Pack what the servers of a readings file need and write it out under seal."""
    standings, found = load_house(readings, catalogs, rules)
    packed = plan_packing([s for s in standings if not names or s.server.name in names])
    if not packed:
        click.echo("These servers need nothing: all are level, held or without a route.", err=True)
        return 1
    good, refused = asyncio.run(_fetch(packed, ContentStore(store), str(ca) if ca else None))
    if refused:
        for line in refused:
            click.echo(line.message, err=True)
        click.echo(f"{len(refused)} of {len(packed)} payloads were refused; nothing was sealed.", err=True)
        return 1
    return _seal(output, good, found, keys, key_secret, as_json)


async def _fetch(
    packed: tuple[Packed, ...], store: ContentStore, ca: str | None
) -> tuple[list[tuple[Packed, Path]], list[PackedState]]:
    refused: list[PackedState] = []

    async def told(state: PackedState) -> None:
        if state.state == "refused":
            refused.append(state)

    async with Fetcher(store, ca) as fetcher:
        return await fetch_all(packed, fetcher, told), refused


def _seal(
    output: Path, good: list[tuple[Packed, Path]], found: Catalogs, keys: Path, secret: str, as_json: bool
) -> int:
    signers = open_keys(keys, secret.encode())
    output.parent.mkdir(parents=True, exist_ok=True)
    expires = write_repository(output, good, found.issues, signers, datetime.datetime.now(datetime.UTC))
    result = {"payloads": len(good), "expires": expires.isoformat(), "root_key": signers.fingerprint}
    if as_json:
        print_json(result)
    else:
        click.echo(
            f"{len(good)} payloads in {output}, sealed until {expires:%d %b %Y} by root key {signers.fingerprint}"
        )
    return 0


@repository.command()
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option("--root", type=_FILE, help="The root metadata you trust; without it the folder's own is taken.")
@as_json
def check(folder: Path, root: Path | None, as_json: bool) -> int:
    """Verify FOLDER end to end: every signature, length and checksum, and that the seal has not expired."""
    checked = check_repository(folder, root.read_bytes() if root else None)
    if as_json:
        print_json({**asdict(checked), "expires": checked.expires.isoformat()})
        return 0
    click.echo(f"{checked.files} files, {checked.bytes} bytes, whole; sealed until {checked.expires:%d %b %Y}")
    if root is None:
        click.echo(f"The seal's root key is {checked.root_key}: compare it with the one shown where it was packed.")
    for name in checked.unsealed:
        click.echo(f"{name} lies there but is not part of the seal", err=True)
    return 0
