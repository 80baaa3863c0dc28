"""PLDM firmware update packages (DSP0267), header revisions 1 to 4: read, written, matched with devices."""

from ordnung.formats.pldm.compare import Agreement, Compared, compare_record, compare_records
from ordnung.formats.pldm.match import Mismatch, find_record, tell_mismatch
from ordnung.formats.pldm.model import (
    ACTIVATION_BITS,
    ACTIVATION_NAMES,
    DESCRIPTOR_NAMES,
    DEVICE_OPTIONS,
    IDENTIFIERS,
    IMAGE_OPTIONS,
    PCI_VENDOR,
    Descriptor,
    DeviceRecord,
    DownstreamRecord,
    Image,
    Package,
    device_descriptors,
    spell_descriptor,
)
from ordnung.formats.pldm.read import parse_package, read_package
from ordnung.formats.pldm.write import NewImage, write_package

__all__ = [
    "ACTIVATION_BITS",
    "ACTIVATION_NAMES",
    "DESCRIPTOR_NAMES",
    "DEVICE_OPTIONS",
    "IDENTIFIERS",
    "IMAGE_OPTIONS",
    "PCI_VENDOR",
    "Agreement",
    "Compared",
    "Descriptor",
    "DeviceRecord",
    "DownstreamRecord",
    "Image",
    "Mismatch",
    "NewImage",
    "Package",
    "compare_record",
    "compare_records",
    "device_descriptors",
    "find_record",
    "parse_package",
    "read_package",
    "spell_descriptor",
    "tell_mismatch",
    "write_package",
]
