"""How the made-up makers publish: an index per maker, signatures (Corvane only), advisories in CSAF 2.0."""

from __future__ import annotations

import datetime
import hashlib
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from ordnung.formats.documents import write_document
from ordnung.formats.offers import Offer, write_index
from ordnung.formats.signatures import signed_digest

SIGNER = "Corvane catalog key 2025"
SIGNING = ("Corvane",)
"""Makers that sign what they publish."""


def signing_key(maker: str) -> Ed25519PrivateKey:
    """The key of a made-up maker: always the same, worth nothing."""
    return Ed25519PrivateKey.from_private_bytes(hashlib.sha256(f"made-up key of {maker}".encode()).digest())


def public_key(maker: str) -> str:
    """Its public half in hex, as a maker would print it."""
    raw = serialization.Encoding.Raw, serialization.PublicFormat.Raw
    return signing_key(maker).public_key().public_bytes(*raw).hex()


def publish(folder: Path, catalogs: Sequence[Path]) -> None:
    """Write an index per maker beside the catalogs' folder, signatures and the advisories."""
    offers: dict[str, list[Offer]] = {}
    for path in catalogs:
        raw = path.read_bytes()
        asked = json.loads(raw)
        offer = Offer(
            maker=asked["maker"], catalog=asked["catalog"], issue=asked["issue"],
            issued=datetime.date.fromisoformat(asked["issued"]), path=f"catalogs/{path.name}", size=len(raw),
            sha256=hashlib.sha256(raw).hexdigest(),
        )  # fmt: skip
        offers.setdefault(asked["maker"], []).append(offer)
        sign(path, asked["maker"])
    for maker, mine in offers.items():
        (folder / f"{maker.lower()}-index.json").write_bytes(write_index(mine))
    (folder / "advisories").mkdir(exist_ok=True)
    for entry in ADVISORIES:
        (folder / "advisories" / f"{entry[0].lower()}.json").write_bytes(write_document(make_advisory(*entry)))


def payload_signature(maker: str, sha256: str, generation: int) -> dict[str, Any] | None:
    """The maker's signature over a payload's checksum, as its catalog prints it; None where the maker signs nothing."""
    if maker not in SIGNING:
        return None
    return {"generation": generation, "value": signing_key(maker).sign(signed_digest(sha256)).hex()}


def sign(path: Path, maker: str) -> None:
    """Put the detached signature beside a file, if the maker signs."""
    if maker in SIGNING:
        path.with_name(path.name + ".sig").write_bytes(signing_key(maker).sign(path.read_bytes()).hex().encode())


Named = tuple[str, str, str]
"""(product name, number by which it can be told, the first version that is fixed)."""
ADVISORIES: tuple[tuple[str, str, str, float, str, tuple[Named, ...], str], ...] = (
    (
        "CRV-SA-2026-014", "Corvane", "Boot variable handling in BIOS", 8.1, "2026-10-07",
        (("Reed 14 BIOS", "CRV-R14-BIOS", "3.2.0"), ("Reed 12 BIOS", "CRV-R12-BIOS", "1.56.0"), ("Heath 24 BIOS", "CRV-H24-BIOS", "2.6.0")),
        "A local administrator can run code before the operating system starts.",
    ),
    (
        "CRV-SA-2026-011", "Corvane", "Session tokens of the management controller", 9.0, "2026-09-23",
        (("Reed 14 controller", "CRV-R14-BMC", "5.30.0"), ("Reed 12 controller", "CRV-R12-BMC", "2.75.3"), ("Heath 24 controller", "CRV-H24-BMC", "4.12.0")),
        "Someone on the management network can guess the token of another's session.",
    ),
    (
        "QUO-SA-2026-003", "Quorrin", "Crafted frame stops the card", 7.4, "2026-05-12",
        (("Q25, 2 ports", "QUO-Q25", "24.2.8"),),
        "A frame from the same network segment stops the card until the server is restarted.",
    ),
    (
        "CRV-SA-2026-009", "Corvane", "Fan control in Marsh 20", 4.3, "2026-08-11",
        (("Marsh 20 controller", "CRV-M20-BMC", "1.4.0"),),
        "Fans can be stopped by someone with an operator's account.",
    ),
)  # fmt: skip


def make_advisory(
    name: str, maker: str, title: str, score: float, released: str, products: Sequence[Named], summary: str
) -> dict[str, Any]:
    """One advisory as its maker publishes it."""
    moment = f"{released}T09:00:00Z"
    branches, affected, fixed = [], [], []
    for product, number, first in products:
        low, high = f"{number}-affected", f"{number}-fixed"
        affected.append(low)
        fixed.append(high)
        helper = {"model_numbers": [number]}
        branches.append(
            {
                "category": "product_name", "name": product,
                "branches": [
                    {"category": "product_version_range", "name": f"vers:generic/<{first}", "product": {
                        "name": f"{maker} {product} before {first}", "product_id": low, "product_identification_helper": helper}},
                    {"category": "product_version_range", "name": f"vers:generic/>={first}", "product": {
                        "name": f"{maker} {product} from {first} on", "product_id": high, "product_identification_helper": helper}},
                ],
            }
        )  # fmt: skip
    vector = {
        "version": "3.1",
        "vectorString": "CVSS:3.1/AV:A/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H",
        "baseScore": score,
        "baseSeverity": _severity(score),
    }
    return {
        "document": {
            "category": "csaf_security_advisory", "csaf_version": "2.0", "title": title,
            "publisher": {"category": "vendor", "name": maker, "namespace": f"https://{maker.lower()}.example"},
            "notes": [{"category": "summary", "text": summary}],
            "tracking": {
                "id": name, "status": "final", "version": "1", "current_release_date": moment, "initial_release_date": moment,
                "revision_history": [{"date": moment, "number": "1", "summary": "First published."}],
            },
        },
        "product_tree": {"branches": [{"category": "vendor", "name": maker, "branches": branches}]},
        "vulnerabilities": [
            {
                "title": title,
                "product_status": {"known_affected": affected, "fixed": fixed},
                "scores": [{"products": affected, "cvss_v3": vector}],
                "remediations": [
                    {"category": "vendor_fix", "details": f"Install {product} {first} or later.", "product_ids": [low]}
                    for (product, _, first), low in zip(products, affected, strict=True)
                ],
            }
        ],
    }  # fmt: skip


def _severity(score: float) -> str:
    return "CRITICAL" if score >= 9 else "HIGH" if score >= 7 else "MEDIUM"
