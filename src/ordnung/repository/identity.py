"""Is a payload what the catalog says it is? Asked before it is packed and again before it is sent."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ordnung.core.catalog import Payload, Product
from ordnung.core.components import Component
from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    PCI_VENDOR,
    DeviceRecord,
    Package,
    device_descriptors,
    find_record,
    read_package,
    tell_mismatch,
)
from ordnung.formats.signatures import find_signer, signed_digest
from ordnung.repository.errors import RepositoryError


def check_identity(path: Path, product: Product, version: str, name: str) -> Package | None:
    """The package, once it is sure that it carries ``version`` of ``product``; None for an opaque file.

    Of an opaque file only the catalog (made from its side-car) tells what it is: its length and its
    checksum are all there is to check, and the store has checked them.

    Raises:
        RepositoryError: it can't be read, is for another device, or carries another version.
    """
    release = product.find(version)
    if release is not None and release.payload is not None and release.payload.form == "opaque":
        return None
    package = open_package(path, name)
    if not any(_is_for(record, product) for record in package.devices):
        told = ", ".join(sorted({str(r.rules().get("software_id", "an unnamed device")) for r in package.devices}))
        raise RepositoryError("foreign", name, f"the package is for {told}, not for {product.name}")
    if not any(product.key(image.version) == product.key(version) for image in package.images):
        told = ", ".join(image.version for image in package.images) or "nothing"
        raise RepositoryError("foreign", name, f"the package carries {told}, the catalog says {version}")
    stated = release.payload.generation if release is not None and release.payload is not None else None
    if stated is not None and stated != package.generation:
        told = f"the package is signed in generation {package.generation}, the catalog says {stated}"
        raise RepositoryError("foreign", name, told)
    return package


def check_payload_signature(payload: Payload, name: str, keys: Mapping[str, bytes]) -> str:
    """The name of the trusted key that signed a payload's checksum; empty when it isn't signed, or no key is trusted.

    Raises:
        RepositoryError: it is signed, but not by a key this house trusts for its maker.
    """
    if not payload.signature or not keys:
        return ""
    signer = find_signer(signed_digest(payload.sha256), bytes.fromhex(payload.signature), keys)
    if signer is None:
        told = f"its signature was made by none of {', '.join(keys)}"
        raise RepositoryError("unsigned", name, told)
    return signer


def open_package(path: Path, name: str) -> Package:
    """A package from a file; its faults as a RepositoryError that names the file."""
    try:
        return read_package(path, name)
    except FormatError as error:
        raise RepositoryError("broken", name, f"{error.place}: {error.what}") from None


def _is_for(record: DeviceRecord, product: Product) -> bool:
    told = record.rules().get("software_id")
    vendor = next((value for kind, value in record.descriptors if kind == PCI_VENDOR), None)
    for entry in product.fits:
        if "software_id" in entry and entry["software_id"] != told:
            continue
        pattern = entry.get("pci", "*").split(":")[0]
        if vendor is not None and pattern != "*" and int(pattern, 16) != int.from_bytes(vendor, "little"):
            continue
        if "software_id" in entry or vendor is not None:
            return True
    return False


def refuse_foreign(package: Package, component: Component) -> str | None:
    """Why a package must not be sent to this very component, or None (N4.3, safety first)."""
    record = find_record(package, device_descriptors(component.software_id, component.pci))
    if record is None:
        own = device_descriptors(component.software_id, component.pci)
        return tell_mismatch(package, own)
    told = record.rules().get("software_id")
    if told is not None and component.software_id is not None and told != component.software_id:
        return f"the package is for {told}, the component is {component.software_id}"
    return None
