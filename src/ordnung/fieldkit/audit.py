"""``ordnung audit verify``: whether an audit trail is whole, wherever it was taken along to."""

from __future__ import annotations

import json
from pathlib import Path

import click

from ordnung.formats.audit import Head, check_trail, parse_head, parse_trail
from ordnung.formats.documents import load_json
from ordnung.formats.errors import FormatError

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def audit() -> None:
    """The audit trail of a site, as it was exported."""


@audit.command()
@click.argument("file", type=_FILE)
@click.option("--key", help="The site's public key in hex, as it was given out.")
@click.option("--head", "heads", type=_FILE, multiple=True, help="A head that was given out earlier; repeat it.")
@click.option("--json", "as_json", is_flag=True)
def verify(file: Path, key: str | None, heads: tuple[Path, ...], as_json: bool) -> int:
    """Check every link of FILE and every head; say where it was changed, cut or moved."""
    trail = parse_trail(file.read_bytes(), file.name)
    known = [_read_head(path) for path in heads]
    faults = check_trail(trail, key, known)
    signer = key or next((head.key for head in (*known, *trail.heads)), None)
    if as_json:
        rows = [{"number": fault.number, "what": fault.what} for fault in faults]
        body = {"entries": len(trail.entries), "heads": len(trail.heads), "key": signer, "faults": rows}
        click.echo(json.dumps(body, indent=2))
    else:
        _tell(len(trail.entries), len(trail.heads) + len(known), signer, key is not None or bool(known))
        for fault in faults:
            click.echo(f"entry {fault.number}: {fault.what}")
    return 1 if faults else 0


def _tell(entries: int, heads: int, signer: str | None, is_known: bool) -> None:
    click.echo(f"{entries} entries, {heads} heads")
    if signer is None:
        click.echo("No head was signed: entries at the end could have been cut off unseen.")
    elif not is_known:
        click.echo(f"The key is the trail's own, {signer}: compare it with what the site gave out (--key).")


def _read_head(path: Path) -> Head:
    row = load_json(path.read_bytes(), path.name)
    try:
        return parse_head(row, path.name)
    except (KeyError, TypeError):
        raise FormatError(path.name, "", "not a head of an audit trail") from None
