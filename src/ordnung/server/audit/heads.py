"""Sign the newest link with the site's own key and give it out: a trail that is cut behind it no longer leads there.

The key is made once, in a file of mode 0600 beside the database. What is given out lies in ``audit/`` of the site's
home, a file for each head, and on the page; whoever keeps a copy elsewhere can hold the trail to it.
"""

from __future__ import annotations

import datetime
import json
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from django.conf import settings
from django.db import transaction

from ordnung.formats.audit import Head, head_bytes, head_row
from ordnung.server.audit.models import TrailEntry, TrailHead
from ordnung.server.clock import now
from ordnung.server.vault import write_private

EVERY = datetime.timedelta(days=1)


def site_key() -> Ed25519PrivateKey:
    """The key that signs heads, made on first use."""
    path: Path = settings.HOME / "audit.key"
    if not path.exists():
        made = Ed25519PrivateKey.generate().private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption())
        write_private(path, made.hex(), fresh=True)  # web and engine may both be the first
    return Ed25519PrivateKey.from_private_bytes(bytes.fromhex(path.read_text().strip()))


def public_half(key: Ed25519PrivateKey) -> str:
    """The public half of a key, in hex."""
    return key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()


def sign_head(why: str) -> Head | None:
    """Sign the newest link, unless it is signed already or there is none; the head as it was given out."""
    with transaction.atomic():
        last = TrailEntry.objects.order_by("-number").first()
        if last is None or TrailHead.objects.filter(number=last.number).exists():
            return None
        key, at = site_key(), now()
        signature = key.sign(head_bytes(last.number, at, last.link)).hex()
        row = TrailHead.objects.create(
            number=last.number, at=at, link=last.link, key=public_half(key), signature=signature, why=why
        )
    _give_out(row.head())
    return row.head()


def sign_daily() -> Head | None:
    """Sign the newest link when the last head is a day old."""
    last = TrailHead.objects.order_by("-number").first()
    return sign_head("daily") if last is None or now() - last.at >= EVERY else None


def _give_out(head: Head) -> None:
    folder: Path = settings.HOME / "audit"
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    (folder / f"head-{head.number:09d}.json").write_text(json.dumps(head_row(head), indent=2) + "\n")
