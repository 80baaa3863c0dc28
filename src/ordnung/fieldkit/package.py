"""``ordnung package show|check``: look into a PLDM package."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ordnung.fieldkit.inputs import load_catalogs
from ordnung.fieldkit.show import as_json, print_json
from ordnung.formats.pldm import DESCRIPTOR_NAMES, Package, parse_package
from ordnung.repository import check_identity

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group()
def package() -> None:
    """Firmware packages (PLDM)."""


@package.command()
@click.argument("file", type=_FILE)
@as_json
def show(file: Path, as_json: bool) -> int:
    """Say what FILE carries and for whom; its checksums and lengths are verified."""
    row = package_row(parse_package(file.read_bytes(), file.name))
    if as_json:
        print_json(row)
        return 0
    click.echo(f"{file.name}: PLDM header revision {row['revision']}, version {row['version']}, {row['size']} bytes")
    for device in row["devices"]:
        told = ", ".join(f"{d['type']} {d['value']}" for d in device["descriptors"])
        click.echo(f"  for {device['rules'].get('software_id', 'a device')} ({told})")
    for image in row["images"]:
        click.echo(
            f"  carries {image['version']}, {image['size']} bytes, active by {' or '.join(image['activations'])}"
        )
    return 0


@package.command()
@click.argument("file", type=_FILE)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True, required=True)
@click.option("--product", required=True)
@click.option("--release", "version", required=True)
def check(file: Path, catalogs: tuple[Path, ...], product: str, version: str) -> int:
    """Check that FILE is what a catalog says: the right device, the right version."""
    found = next((p for p in load_catalogs(catalogs).products() if p.id == product), None)
    if found is None:
        raise click.UsageError(f"no catalog given lists {product}")
    check_identity(file, found, version, file.name)
    click.echo(f"{file.name} is {found.name} {version}")
    return 0


def package_row(package: Package) -> dict[str, Any]:
    """A package as the JSON of the command line has it."""
    return {
        "revision": package.revision,
        "version": package.version,
        "released": package.released.isoformat() if package.released else None,
        "size": package.size,
        "header_size": package.header_size,
        "devices": [
            {
                "version": record.version,
                "descriptors": [
                    {"type": DESCRIPTOR_NAMES.get(kind, f"{kind:#06x}"), "value": value.hex()}
                    for kind, value in record.descriptors
                ],
                "images": list(record.images),
                "rules": record.rules(),
            }
            for record in package.devices
        ],
        "images": [
            {
                "version": image.version,
                "identifier": image.identifier,
                "offset": image.offset,
                "size": image.size,
                "activations": list(image.activations()),
            }
            for image in package.images
        ],
    }
