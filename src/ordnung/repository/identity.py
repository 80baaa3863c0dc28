"""Is a payload what the catalog says it is? Asked before it is packed and again before it is sent."""

from __future__ import annotations

from pathlib import Path

from ordnung.core.catalog import Product
from ordnung.core.components import Component
from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    PCI_VENDOR,
    DeviceRecord,
    Package,
    device_descriptors,
    find_record,
    parse_package,
    tell_mismatch,
)
from ordnung.repository.errors import RepositoryError


def check_identity(path: Path, product: Product, version: str, name: str) -> Package:
    """The package, once it is sure that it carries ``version`` of ``product``.

    Raises:
        RepositoryError: it can't be read, is for another device, or carries another version.
    """
    package = read_package(path, name)
    if not any(_is_for(record, product) for record in package.devices):
        told = ", ".join(sorted({str(r.rules().get("software_id", "an unnamed device")) for r in package.devices}))
        raise RepositoryError("foreign", name, f"the package is for {told}, not for {product.name}")
    if not any(product.key(image.version) == product.key(version) for image in package.images):
        told = ", ".join(image.version for image in package.images) or "nothing"
        raise RepositoryError("foreign", name, f"the package carries {told}, the catalog says {version}")
    return package


def read_package(path: Path, name: str) -> Package:
    """A package from a file; its faults as a RepositoryError that names the file."""
    try:
        return parse_package(path.read_bytes(), name)
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
