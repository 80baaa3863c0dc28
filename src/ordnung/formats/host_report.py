"""Host reports, ``ordnung.host-report/1``: bytes to values and back."""

from __future__ import annotations

import datetime
from typing import Any

from ordnung.core.merge import HostDevice, HostReport
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import FormatError

_FIELDS = ("name", "version", "serial", "pci", "address", "waiting")


def parse_host_report(raw: bytes, source: str = "host report") -> HostReport:
    """The report in a file.

    Raises:
        FormatError: not valid, a time that can't be read, or it doesn't say which server it is of.
    """
    document = parse_document(raw, "host-report", source)
    system = document["system"]
    if not system.get("serial") and not system.get("uuid"):
        raise FormatError(source, "system", "neither serial nor UUID: it can't be told which server this is of")
    try:
        taken = datetime.datetime.fromisoformat(document["taken_at"])
    except ValueError:
        raise FormatError(source, "taken_at", f"{document['taken_at']} is not a time") from None
    return HostReport(
        taken_at=taken if taken.tzinfo else taken.replace(tzinfo=datetime.UTC),
        host=document["host"],
        serial=system.get("serial"),
        uuid=system.get("uuid"),
        devices=tuple(
            HostDevice(kind=item["kind"], banks=tuple(item.get("banks", ())), **_told(item))
            for item in document["devices"]
        ),
    )


def _told(item: dict[str, Any]) -> dict[str, Any]:
    return {name: item.get(name) for name in _FIELDS}


def write_host_report(report: HostReport) -> bytes:
    """The fixed spelling of a report."""
    return write_document(
        {
            "format": "ordnung.host-report/1",
            "taken_at": report.taken_at.isoformat(),
            "host": report.host,
            "system": {"serial": report.serial, "uuid": report.uuid},
            "devices": [
                {
                    "kind": d.kind,
                    **{name: value for name in _FIELDS if (value := getattr(d, name)) is not None},
                    **({"banks": list(d.banks)} if d.banks else {}),
                }
                for d in report.devices
            ],
        }
    )
