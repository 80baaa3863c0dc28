"""A catalog from a folder of firmware packages, by what the packages say of themselves (N2.3).

PLDM packages (``*.pldm``) tell product, version and rules in their device data. Any other file needs a
side-car: ``NAME.json`` beside ``NAME``, ``ordnung.side-car/1``. Side-cars may also stand beside PLDM
packages; what they say comes first.
"""

from __future__ import annotations

import datetime
import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ordnung.core.catalog import Issue
from ordnung.core.versions import SCHEMES, version_key
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.documents import parse_document, write_document
from ordnung.formats.errors import Fault, FormatError
from ordnung.formats.pldm import Package, read_package

MAX_FILES = 5000
MAX_PACKAGE = 8 * 2**30
_KINDS = {  # DSP0267 table "ComponentClassification", as far as it tells our kinds apart
    0x000B: "bios", 0x000D: "store", 0x0010: "logic",
}  # fmt: skip
_SAFE = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]*(/[A-Za-z0-9][A-Za-z0-9._+-]*)*")


@dataclass(frozen=True, slots=True, kw_only=True)
class Heading:
    """What no package tells: whose catalog this is, and which issue of it."""

    maker: str
    catalog: str
    issue: str
    issued: datetime.date
    base: str = ""


def build_catalog(folder: Path, heading: Heading) -> Issue:
    """One issue from all packages below a folder; side-cars and packages that can't be read are all named.

    Raises:
        FormatError: nothing usable is there, or something is broken; every fault with its file.
    """
    faults: list[Fault] = []
    products: dict[str, dict[str, Any]] = {}
    for path in _files(folder, faults):
        name = path.relative_to(folder).as_posix()
        try:
            product, release = _read(path, name)
        except FormatError as error:
            faults += [Fault(f"{name} {fault.place}".strip(), fault.what) for fault in error.faults]
            continue
        known = products.setdefault(product["id"], {**product, "releases": []})
        known["releases"].append(release)
    if not products and not faults:
        faults.append(Fault("", "no firmware package lies there, and no file with a side-car"))
    if faults:
        raise FormatError.of(str(folder), faults)
    document = {
        "format": "ordnung.catalog/1", "maker": heading.maker, "catalog": heading.catalog, "issue": heading.issue,
        "issued": heading.issued.isoformat(), "base": heading.base,
        "products": [_ordered(product) for _, product in sorted(products.items())],
    }  # fmt: skip
    return parse_catalog(write_document(document), str(folder))


def _files(folder: Path, faults: list[Fault]) -> Iterator[Path]:
    found = sorted(p for p in folder.rglob("*") if p.is_file())
    if len(found) > MAX_FILES:
        raise FormatError(str(folder), "", f"more than {MAX_FILES} files lie there")
    for path in found:
        name = path.relative_to(folder).as_posix()
        if not path.resolve().is_relative_to(folder.resolve()):
            faults.append(Fault(name, "leads out of the folder"))
        elif path.suffix == ".pldm" or path.with_name(path.name + ".json").is_file():
            if _SAFE.fullmatch(name) is None:
                faults.append(Fault(name, "the name has signs that a payload path can't have"))
            elif path.stat().st_size > MAX_PACKAGE:
                faults.append(Fault(name, f"larger than {MAX_PACKAGE // 2**30} GiB"))
            else:
                yield path


def _read(path: Path, name: str) -> tuple[dict[str, Any], dict[str, Any]]:
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    payload: dict[str, Any] = {"path": name, "size": path.stat().st_size, "sha256": digest}
    side = path.with_name(path.name + ".json")
    side_car = parse_document(side.read_bytes(), "side-car", side.name) if side.is_file() else None
    if path.suffix != ".pldm":
        assert side_car is not None
        return side_car["product"], {**side_car["release"], "payload": {**payload, "form": "opaque"}}
    product, release = _describe(read_package(path, name), name)
    if side_car is not None:
        product, release = {**product, **side_car["product"]}, {**release, **side_car["release"]}
    return product, {**release, "payload": payload}


def _describe(package: Package, name: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """Product and release by the first device record's data and the first image."""
    rules = next((record.rules() for record in package.devices if record.rules()), {})
    software, image = rules.get("software_id"), next(iter(package.images), None)
    if not isinstance(software, str) or image is None:
        raise FormatError(name, "device data", "it does not say which software it is: a side-car must")
    version = str(rules.get("version", image.version))
    product = {
        "id": software.lower(),
        "name": str(rules.get("name", software)),
        "kind": str(rules.get("kind", _KINDS.get(image.classification, "other"))),
        "fits": [{"software_id": software}],
    }
    release: dict[str, Any] = {"version": version}
    if package.released is not None:
        release["released"] = package.released.date().isoformat()
    if image.activations():
        release["activation"] = image.activations()[-1]
    for key in ("direct_from", "floor_after", "importance", "notes"):
        if isinstance(rules.get(key), str):
            release[key] = rules[key]
    if rules.get("alone") is True:
        release["alone"] = True
    if isinstance(rules.get("needs"), list):
        release["needs"] = [_need(need) for need in rules["needs"] if isinstance(need, dict)]
    return product, release


def _need(need: dict[str, Any]) -> dict[str, Any]:
    """A need in device data names its product by software id; here products are called by it."""
    product = str(need.get("software_id") or need.get("product", "")).lower()
    return {"product": product, **{k: need[k] for k in ("at_least", "below") if isinstance(need.get(k), str)}}


def _ordered(product: dict[str, Any]) -> dict[str, Any]:
    """Oldest first: by the scheme that all versions parse in, else as listed by date of release."""
    versions = [str(release["version"]) for release in product["releases"]]
    schemes = [product["scheme"]] if "scheme" in product else [s for s in SCHEMES if s != "listed"]
    scheme = next((s for s in schemes if s != "listed" and all(version_key(s, v) for v in versions)), "listed")

    def key(release: dict[str, Any]) -> Any:
        if scheme == "listed":
            return (release.get("released", ""), str(release["version"]))
        return version_key(scheme, str(release["version"]))

    return {**product, "scheme": scheme, "releases": sorted(product["releases"], key=key)}
