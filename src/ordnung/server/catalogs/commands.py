"""What people do with where catalogs come from: sources, and the keys that may sign."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.db import IntegrityError, transaction

from ordnung.formats.addresses import is_address
from ordnung.formats.signatures import read_key
from ordnung.repository import read_root
from ordnung.server.catalogs.models import Source, TrustedKey
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for


def add_source(address: str, proxy: str, maker: str, tuf_root: str) -> Source:
    """Add a mirror by its https address, or a folder on this machine by its path. It is not asked yet.

    Raises:
        Problem: the address, the proxy or the folder is not allowed, or it is a source already.
        RepositoryError: ``tuf_root`` is no root metadata.
    """
    values: dict[str, Any] = {"maker": maker, "proxy": check_proxy(proxy)}
    if address.startswith("/"):
        values |= {"kind": Source.Kind.FOLDER, "address": check_folder(address)}
    else:
        values |= {"kind": Source.Kind.MIRROR, "address": check_mirror(address, bool(tuf_root))}
    if tuf_root:
        values["root"] = tuf_root.encode()
        read_root(values["root"])
    try:
        with transaction.atomic():
            row = Source.objects.create(added_at=now(), **values)
    except IntegrityError:
        raise Problem("source-known", f"{values['address']} is a source already.", field="address") from None
    tell("sources", id=row.pk)
    return row


def check_proxy(proxy: str) -> str:
    """A proxy is an http address; raises Problem otherwise."""
    if proxy and (urlsplit(proxy).scheme != "http" or not urlsplit(proxy).hostname):
        raise Problem("bad-proxy", f"{proxy} is no proxy address: http://host:port is meant.", field="proxy")
    return proxy


def check_mirror(address: str, has_root: bool) -> str:
    """A mirror is spoken to over https only; raises Problem otherwise."""
    parts = urlsplit(address)
    if parts.scheme != "https" or not parts.hostname or parts.username:
        message = f"{address} is neither an https address nor a folder's path. Catalogs are fetched over https only."
        raise Problem("bad-source", message, field="address")
    if is_address(parts.hostname) and not settings.EGRESS.allows(parts.hostname):
        raise Problem(
            "bad-source", f"{parts.hostname} is not in the networks that this house goes out to.", field="address"
        )
    if has_root:
        return address if address.endswith("/") else address + "/"
    return address + "index.json" if address.endswith("/") else address


def check_folder(address: str) -> str:
    """A folder must lie where the house allows; raises Problem otherwise."""
    path = Path(address).resolve()
    if not any(path.is_relative_to(folder) for folder in settings.FOLDERS):
        allowed = ", ".join(str(folder) for folder in settings.FOLDERS)
        message = f"{address} lies outside the folders this house allows ({allowed})."
        raise Problem("not-allowed", message, field="address")
    if not path.is_dir():
        raise Problem("not-found", f"There is no folder {address} on the machine Ordnung runs on.", field="address")
    return str(path)


def fetch_sources(chosen: list[int] | None) -> Work:
    """Put a look at sources, all or the chosen ones, before the engine. Raises Problem when there is none."""
    known = list(Source.objects.order_by("pk").values_list("pk", flat=True))
    asked = chosen or known
    if not asked or set(asked) - set(known):
        raise Problem("not-found", "There is no such source. Add one first.", field="sources")
    title = f"Looking for catalogs at {len(asked)} source{'' if len(asked) == 1 else 's'}"
    return ask_for("catalogs", title, 0, "bytes", {"sources": asked})


def trust_key(maker: str, name: str, key: str, person: str) -> TrustedKey:
    """Trust a key for a maker: from then on nothing of that maker comes in unsigned.

    Raises:
        FormatError: it is no key.
        Problem: the name is taken.
    """
    raw = read_key(key).hex()
    try:
        with transaction.atomic():
            row = TrustedKey.objects.create(maker=maker, name=name, key=raw, added_at=now(), added_by=person)
    except IntegrityError:
        raise Problem("name-taken", f"There is a key {name} already.", field="name") from None
    tell("sources")
    return row
