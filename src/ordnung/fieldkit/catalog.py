"""``ordnung catalog check|from-folder|diff``."""

from __future__ import annotations

import dataclasses
import datetime
from pathlib import Path

import click

from ordnung.core.catalog import Issue
from ordnung.core.releases import compare_issues
from ordnung.fieldkit.inputs import read_issue
from ordnung.fieldkit.show import as_json, print_json, print_table
from ordnung.formats.catalog import write_catalog
from ordnung.formats.errors import FormatError
from ordnung.formats.folder_catalog import Heading, build_catalog
from ordnung.formats.signatures import find_signer, read_key, read_signature

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def catalog() -> None:
    """Catalogs: makers' lists of releases."""


@catalog.command()
@click.argument("file", type=_FILE)
@click.option("--key", help="The maker's Ed25519 public key, hex or base64: FILE.sig must be its signature.")
@as_json
def check(file: Path, key: str | None, as_json: bool) -> int:
    """Read FILE whole (plain, gzip or zstd); say what it holds, or every fault with its place."""
    try:
        issue = read_issue(file)
    except FormatError as error:
        for fault in error.faults[1:]:
            click.echo(f"{file.name}: {fault.place}: {fault.what}", err=True)
        raise
    signed = _check_signature(file, key) if key else None
    warnings = find_disorder(issue)
    if as_json:
        products = {p.id: list(p.listed) for p in issue.products}
        summary = {"catalog": issue.catalog, "issue": issue.issue, "products": products, "warnings": warnings}
        print_json({**summary, "signed": signed})
    else:
        releases = sum(len(p.releases) for p in issue.products)
        click.echo(f"{issue.maker} {issue.catalog} {issue.issue}: {len(issue.products)} products, {releases} releases")
    for warning in warnings:
        click.echo(warning, err=True)
    if signed is False:
        click.echo(f"{file.name}: not signed by that key", err=True)
    return 1 if signed is False else 0


def _check_signature(file: Path, key: str) -> bool:
    beside = file.with_name(file.name + ".sig")
    if not beside.is_file():
        return False
    signature = read_signature(beside.read_bytes(), beside.name)
    return find_signer(file.read_bytes(), signature, {"key": read_key(key)}) is not None


def find_disorder(issue: Issue) -> list[str]:
    """Products whose list disagrees with their scheme's order, and versions that don't parse (V10, V12)."""
    found = []
    for product in issue.products:
        parsed = [v for v in product.listed if product.key(v) is not None]
        if parsed != [r.version for r in product.ordered]:
            found.append(f"{product.id}: the releases are not listed oldest first by the {product.scheme} scheme")
        found += [
            f"{product.id}: {v} does not parse as {product.scheme}" for v in product.listed if product.key(v) is None
        ]
    return found


@catalog.command("from-folder")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option("--maker", required=True)
@click.option("--catalog", "name", help="By default MAKER-folder, in small letters.")
@click.option("--issued", type=click.DateTime(["%Y-%m-%d"]), required=True, help="The day that counts as its date.")
@click.option("--issue", help="By default the date.")
@click.option("--base", default="", help="Where the payloads are fetched from; by default the folder itself.")
@click.option("-o", "--output", type=click.Path(dir_okay=False, path_type=Path), help="By default standard output.")
def from_folder(
    folder: Path, maker: str, name: str | None, issued: datetime.datetime, issue: str | None, base: str,
    output: Path | None,
) -> int:  # fmt: skip
    """Build a catalog from the firmware packages in FOLDER, by what they say of themselves.

    PLDM packages tell product, version and rules in their device data; other files need a
    side-car NAME.json beside them.
    """
    day = issued.date()
    heading = Heading(
        maker=maker,
        catalog=name or f"{maker.lower()}-folder",
        issue=issue or day.isoformat(),
        issued=day,
        base=base or f"file://{folder.resolve()}/",
    )
    raw = write_catalog(build_catalog(folder, heading))
    if output is None:
        click.echo(raw.decode(), nl=False)
    else:
        output.write_bytes(raw)
    return 0


@catalog.command()
@click.argument("old", type=_FILE)
@click.argument("new", type=_FILE)
@as_json
def diff(old: Path, new: Path, as_json: bool) -> int:
    """What NEW adds, drops and changes against OLD: models, products, releases."""
    changes = compare_issues(read_issue(old), read_issue(new))
    if as_json:
        print_json({"changes": [dataclasses.asdict(change) for change in changes]})
    else:
        print_table(("change", "what", "name", "detail"), [(c.change, c.what, c.name, c.detail) for c in changes])
    return 0
