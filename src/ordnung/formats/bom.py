"""Bills of materials in CycloneDX 1.6: the firmware of a server or a fleet, for other people's tools."""

from __future__ import annotations

import datetime
import uuid
from collections.abc import Sequence

from cyclonedx.model import HashAlgorithm, HashType, Property
from cyclonedx.model.bom import Bom, BomMetaData
from cyclonedx.model.component import Component as Entry
from cyclonedx.model.component import ComponentType
from cyclonedx.model.contact import OrganizationalEntity
from cyclonedx.model.tool import ToolRepository
from cyclonedx.output.json import JsonV1Dot6

from ordnung.core.assessment import Standing
from ordnung.core.baseline import Position

_SPACE = uuid.UUID("6f1b0c7e-3d55-5a57-9d0a-0f6d5d8c2b11")
"""The name space of our serial numbers: the same fleet in the same state has the same number."""


def write_bom(standings: Sequence[Standing], moment: datetime.datetime) -> bytes:
    """One document: a component of type ``device`` per server, its firmware nested in it.

    Versions that could not be read are left out of ``version`` and said so in a property. A hash is
    that of the maker's payload, where the catalog knows the version that runs.
    """
    devices = [_device(standing) for standing in standings]
    state = "\n".join(
        f"{s.server.name} {p.component.slot} {p.component.version}" for s in standings for p in s.positions
    )
    bom = Bom(
        serial_number=uuid.uuid5(_SPACE, state),
        metadata=BomMetaData(
            timestamp=moment,
            tools=ToolRepository(components=[Entry(name="Ordnung", type=ComponentType.APPLICATION)]),
        ),
        components=devices,
    )
    return JsonV1Dot6(bom).output_as_string(indent=2).encode() + b"\n"


def _device(standing: Standing) -> Entry:
    server = standing.server
    values = {"model": server.model, "serial": server.serial, "group": server.group, "unread": server.unread}
    if server.read_at is not None:
        values["read at"] = server.read_at.isoformat()
    return Entry(
        type=ComponentType.DEVICE,
        name=server.name,
        bom_ref=f"server/{server.name}",
        properties=_properties(values),
        components=[_firmware(server.name, position) for position in standing.positions],
    )


def _firmware(server: str, position: Position) -> Entry:
    component, product, issue = position.component, position.product, position.match.issue
    release = product.find(component.version) if product and component.version else None
    hashes = []
    if release is not None and release.payload is not None:
        hashes = [HashType(alg=HashAlgorithm.SHA_256, content=release.payload.sha256)]
    values = {
        "slot": component.slot,
        "kind": component.kind,
        "product": product.id if product else None,
        "waiting": component.waiting if component.has_waiting else None,
        "serial": component.serial,
        "unread": "yes" if component.version is None else None,
    }
    return Entry(
        type=ComponentType.FIRMWARE,
        name=product.name if product else component.name,
        version=component.version,
        bom_ref=f"server/{server}/{component.slot}",
        manufacturer=OrganizationalEntity(name=issue.maker) if issue else None,
        hashes=hashes,
        properties=_properties(values),
    )


def _properties(values: dict[str, str | None]) -> list[Property]:
    return [Property(name=f"ordnung:{key.replace(' ', '-')}", value=value) for key, value in values.items() if value]
