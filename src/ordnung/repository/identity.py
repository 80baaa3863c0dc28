"""Is a payload what the catalog says it is? Asked before it is packed and again before it is sent."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from pathlib import Path

from ordnung.core.baseline import Position
from ordnung.core.catalog import Payload, Product
from ordnung.core.components import Component
from ordnung.core.sheet import NamedPayload
from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    DESCRIPTOR_NAMES,
    PCI_VENDOR,
    Agreement,
    DeviceRecord,
    Package,
    compare_record,
    compare_records,
    read_package,
    spell_descriptor,
)
from ordnung.formats.signatures import find_signer, signed_digest
from ordnung.store.errors import RepositoryError


class SettledBy(StrEnum):
    """What makes it sure that a payload is for a component."""

    DESCRIPTORS = "its descriptors"
    CHECKSUM = "the catalog's checksum"


def check_identity(path: Path, product: Product, version: str, name: str) -> Package | None:
    """The package, once nothing in it says that it is not ``version`` of ``product``; None for an opaque file.

    Whether it is for one very component is settled before it is sent (``settle_identity``).

    Raises:
        RepositoryError: it can't be read, is for another device, or carries another version.
    """
    release = product.find(version)
    if release is not None and release.payload is not None and release.payload.form == "opaque":
        return None
    package = open_package(path, name)
    if package.devices and all(_is_for_another(record, product) for record in package.devices):
        message = ", ".join(sorted({_names_of(record) for record in package.devices}))
        raise RepositoryError("foreign", name, f"the package is for {message}, not for {product.name}")
    why = _wrong_version(package, product, version)
    if why is not None:
        raise RepositoryError("foreign", name, why)
    stated = release.payload.generation if release is not None and release.payload is not None else None
    if stated is not None and stated != package.generation:
        message = f"the package is signed in generation {package.generation}, the catalog says {stated}"
        raise RepositoryError("foreign", name, message)
    return package


def _wrong_version(package: Package, product: Product, version: str) -> str | None:
    """Why a package can't carry a release: it names other versions. One that names none is taken at the catalog's."""
    versions = [image.version for image in package.images if image.version.strip()]
    if not versions or any(product.key(carried) == product.key(version) for carried in versions):
        return None
    return f"the package carries {', '.join(versions)}, the catalog says {version}"


def settle_identity(
    package: Package | None, payload: NamedPayload, product: Product, version: str, component: Component
) -> SettledBy | str:
    """Whether a payload may be sent to this very component (N4.3, safety first): what settles it, or why not.

    What the package says of its devices is compared with every identifier the reading has. Where nothing can be
    compared, the checksum in a signed catalog settles it, for the very product that the component was matched with.
    """
    message = "it does not say whom it is for"
    if package is not None:
        compared, record = compare_records(package.devices, component)
        if compared.agreement is Agreement.OTHER:
            return compared.message
        named = record.rules().get("software_id") if record is not None else None
        if isinstance(named, str) and component.software_id is not None and named != component.software_id:
            return f"the package is for {named}, the component is {component.software_id}"
        why = _wrong_version(package, product, version)
        if why is not None:
            return why
        if compared.agreement is Agreement.FITS:
            return SettledBy.DESCRIPTORS
        message = compared.message
    if payload.signed_by:
        return SettledBy.CHECKSUM
    return f"{message}, and no signed catalog vouches for its checksum"


def check_payload_signature(payload: Payload, name: str, keys: Mapping[str, bytes]) -> str:
    """The name of the trusted key that signed a payload's checksum; empty when it isn't signed, or no key is trusted.

    Raises:
        RepositoryError: it is signed, but not by a key this house trusts for its maker.
    """
    if not payload.signature or not keys:
        return ""
    signer = find_signer(signed_digest(payload.sha256), bytes.fromhex(payload.signature), keys)
    if signer is None:
        message = f"its signature was made by none of {', '.join(keys)}"
        raise RepositoryError("unsigned", name, message)
    return signer


def open_package(path: Path, name: str) -> Package:
    """A package from a file; its faults as a RepositoryError that names the file."""
    try:
        return read_package(path, name)
    except FormatError as error:
        raise RepositoryError("broken", name, f"{error.place}: {error.what}") from None


def _is_for_another(record: DeviceRecord, product: Product) -> bool:
    """Whether a record contradicts every way in which the catalog says a device fits this product."""
    return bool(product.fits) and all(_contradicts(record, entry) for entry in product.fits)


def _contradicts(record: DeviceRecord, entry: Mapping[str, str]) -> bool:
    named = record.rules().get("software_id")
    if isinstance(named, str) and entry.get("software_id", named) != named:
        return True
    pci = [None if piece in ("", "*") else piece for piece in entry.get("pci", "").split(":")]
    known = ":".join(piece or "*" for piece in pci) if len(pci) == 4 and None not in pci else None
    component = Component(
        slot="", kind="other", name="", version=None, software_id=entry.get("software_id"), pci=known,
        part=entry.get("part"),
    )  # fmt: skip
    if compare_record(record, component).agreement is Agreement.OTHER:
        return True
    vendor = next((value for kind, value in record.descriptors if kind == PCI_VENDOR), None)
    return vendor is not None and pci[0] is not None and int(pci[0], 16) != int.from_bytes(vendor, "little")


def _names_of(record: DeviceRecord) -> str:
    named = record.rules().get("software_id")
    if isinstance(named, str):
        return named
    return ", ".join(f"{DESCRIPTOR_NAMES.get(k, hex(k))} {spell_descriptor(k, v)}" for k, v in record.descriptors)


def refuse_foreign(package: Package, component: Component) -> str | None:
    """Why a package is not for this very component, as far as it can be told, or None."""
    compared, record = compare_records(package.devices, component)
    named = record.rules().get("software_id") if record is not None else None
    if isinstance(named, str) and component.software_id is not None and named != component.software_id:
        return f"the package is for {named}, the component is {component.software_id}"
    return None if compared.agreement is Agreement.FITS else compared.message


def find_fitting(positions: Iterable[Position], slot: str, package: Package | None) -> tuple[str, ...]:
    """The other components of a server that a payload for one of them may be for as well, by their slots.

    They are those of the same product, those whose identifiers say so, and of the same kind those of which nothing
    tells what they are. Of a file whose form only its maker knows, none but the products tell.
    """
    known = {position.component.slot: position for position in positions}
    own = known.pop(slot)
    return tuple(other for other, position in known.items() if _may_be_for(position, own, package))


def _may_be_for(other: Position, own: Position, package: Package | None) -> bool:
    if other.product is not None and own.product is not None and other.product.id == own.product.id:
        return True
    records = package.devices if package is not None else ()
    if package is None or compare_records(records, other.component)[0].agreement is Agreement.UNTOLD:
        return other.product is None and other.component.kind == own.component.kind
    return refuse_foreign(package, other.component) is None
