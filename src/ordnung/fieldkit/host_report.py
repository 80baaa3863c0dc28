"""``ordnung host-report``: run inside a server's own system, writes what it finds."""

from __future__ import annotations

import datetime
import json
from pathlib import Path

import click

from ordnung.fieldkit.host import look_at_host
from ordnung.fieldkit.show import as_json, print_json, print_table
from ordnung.formats.host_report import write_host_report


@click.command("host-report")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="Write the report here.")
@click.option(
    "--sysfs", type=click.Path(exists=True, path_type=Path), default=Path("/sys"), show_default=True, hidden=True
)
@as_json
def host_report(output: Path | None, sysfs: Path, as_json: bool) -> int:
    """Tell this machine's BIOS, drives, network cards and storage adapters, from /sys and what they answer.

    Nothing is changed and no other program is needed. Serial and UUID of the machine need root.
    """
    report = look_at_host(datetime.datetime.now(datetime.UTC), sysfs)
    raw = write_host_report(report)
    if output:
        output.write_bytes(raw)
    if as_json:
        print_json(json.loads(raw))
    else:
        rows = [(d.kind, d.name, d.version, d.waiting, d.serial, d.pci, d.address) for d in report.devices]
        print_table(("kind", "device", "version", "waits for a reset", "serial", "PCI ids", "PCI address"), rows)
    if not report.serial and not report.uuid:
        message = "This machine told neither serial nor UUID (root may be needed): no server can be found for it."
        click.echo(message, err=True)
        return 1
    return 0
