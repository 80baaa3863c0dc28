"""``ordnung package show|check``: look into a PLDM package."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

from ordnung.fieldkit.inputs import load_catalogs
from ordnung.fieldkit.show import as_json, print_json
from ordnung.formats.pldm import (
    ACTIVATION_NAMES,
    DESCRIPTOR_NAMES,
    DEVICE_OPTIONS,
    IMAGE_OPTIONS,
    DeviceRecord,
    DownstreamRecord,
    Image,
    Package,
    read_package,
    spell_descriptor,
)
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
    row = package_row(read_package(file))
    if as_json:
        print_json(row)
        return 0
    click.echo(f"{file.name}: PLDM header revision {row['revision']}, version {row['version']}, {row['size']} bytes")
    for word, records in (("for", row["devices"]), ("and, behind it, for", row["downstream"])):
        for device in records:
            message = ", ".join(f"{d['type']} {d['text']}" for d in device["descriptors"])
            click.echo(f"  {word} {device['rules'].get('software_id', 'a device')} ({message})")
    for image in row["images"]:
        ways = " or ".join(image["activations"]) or ", ".join(image["activation_methods"]) or "an unknown reset"
        click.echo(f"  carries {image['version']}, {image['size']} bytes, active by {ways}")
    if row["trailing"]:
        click.echo(f"  {row['trailing']} bytes follow the last image")
    return 0


@package.command()
@click.argument("file", type=_FILE)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True)
@click.option("--product")
@click.option("--release", "version")
def check(file: Path, catalogs: tuple[Path, ...], product: str | None, version: str | None) -> int:
    """Check that FILE is whole; with a catalog, that it is what the catalog says: the right device and version."""
    found = read_package(file)
    if not catalogs:
        images = len(found.images)
        click.echo(
            f"{file.name} is whole: {images} image{'' if images == 1 else 's'}, signature generation {found.generation}"
        )
        return 0
    if product is None or version is None:
        raise click.UsageError("with --catalog, say which --product and --release it should be")
    listed = next((p for p in load_catalogs(catalogs).products() if p.id == product), None)
    if listed is None:
        raise click.UsageError(f"no catalog given lists {product}")
    check_identity(file, listed, version, file.name)
    click.echo(f"{file.name} is {listed.name} {version}")
    return 0


def package_row(package: Package) -> dict[str, Any]:
    """A package as the JSON of the command line has it."""
    return {
        "revision": package.revision,
        "version": package.version,
        "released": package.released.isoformat() if package.released else None,
        "size": package.size,
        "header_size": package.header_size,
        "trailing": package.trailing,
        "signature_generation": package.generation,
        "devices": [{**_record(record), "version": record.version} for record in package.devices],
        "downstream": [
            {**_record(record), "least_version": record.least_version, "least_stamp": record.least_stamp}
            for record in package.downstream
        ],
        "images": [_image(image) for image in package.images],
    }


def _record(record: DeviceRecord | DownstreamRecord) -> dict[str, Any]:
    return {
        "descriptors": [
            {
                "type": DESCRIPTOR_NAMES.get(kind, f"{kind:#06x}"),
                "value": value.hex(),
                "text": spell_descriptor(kind, value),
            }
            for kind, value in record.descriptors
        ],
        "images": list(record.images),
        "options": _bits(record.options, DEVICE_OPTIONS),
        "rules": record.rules(),
        "data": record.data.hex(),
        "reference_manifest": record.manifest.hex(),
    }


def _image(image: Image) -> dict[str, Any]:
    return {
        "version": image.version,
        "classification": image.classification,
        "identifier": image.identifier,
        "comparison_stamp": image.stamp,
        "options": _bits(image.options, IMAGE_OPTIONS),
        "offset": image.offset,
        "size": image.size,
        "activations": list(image.activations()),
        "activation_methods": _bits(image.activation, ACTIVATION_NAMES),
        "opaque": image.opaque.hex(),
    }


def _bits(value: int, names: Mapping[int, str]) -> list[str]:
    return [names.get(bit, f"bit {bit}") for bit in range(32) if value >> bit & 1]
