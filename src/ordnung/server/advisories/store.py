"""Keep advisories and give them out as the core knows them."""

from __future__ import annotations

import threading

from ordnung.core.advisories import Advisory
from ordnung.formats.csaf import parse_advisory
from ordnung.server.advisories.models import AdvisoryFile
from ordnung.server.apart import apart
from ordnung.server.audit.recording import record, recorded
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell

_lock = threading.Lock()
_parsed: dict[int, tuple[bytes, Advisory]] = {}


def bring_in_advisory(raw: bytes, source: str) -> tuple[Advisory, str]:
    """Store one advisory; returns it and whether it is ``new``, ``known`` or ``renewed``.

    Raises:
        FormatError: it is not a whole, valid CSAF 2.0 document.
        Problem: a newer version of it is here. Whatever is raised, nothing stored changes.
    """
    advisory = apart(parse_advisory, source, raw, source)
    values = {
        "version": advisory.version, "released": advisory.released, "raw": raw, "source": source[:500],
        "brought_in": now(),
    }  # fmt: skip
    with recorded():
        record(on={"advisory": advisory.id}, after={"version": advisory.version, "source": source})
        known = AdvisoryFile.objects.filter(publisher=advisory.publisher, name=advisory.id).first()
        if known is None:
            AdvisoryFile.objects.create(publisher=advisory.publisher, name=advisory.id, **values)
        elif bytes(known.raw) == raw:
            return advisory, "known"
        elif (advisory.released, _number(advisory.version)) < (known.released, _number(known.version)):
            message = f"{advisory.id} is here in version {known.version} of {known.released:%d %b %Y}, which is newer."
            raise Problem("older", f"{source}: {message} It stays.", status=409)
        else:
            AdvisoryFile.objects.filter(pk=known.pk).update(**values)
        tell("advisories")
    return advisory, "new" if known is None else "renewed"


def _number(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("-")[0].split("+")[0].split(".") if part.isdigit())


def load_advisories() -> list[tuple[AdvisoryFile, Advisory]]:
    """All advisories, the newest first; each is parsed once a process."""
    found = []
    for row in AdvisoryFile.objects.order_by("-released", "name"):
        raw = bytes(row.raw)
        with _lock:
            if row.pk not in _parsed or _parsed[row.pk][0] != raw:
                _parsed[row.pk] = (raw, parse_advisory(raw, row.source))
            found.append((row, _parsed[row.pk][1]))
    return found


def find_advisory(name: str) -> Advisory:
    """An advisory by its id. Raises Problem when there is none."""
    row = AdvisoryFile.objects.filter(name=name).first()
    if row is None:
        raise Problem("not-found", f"There is no advisory {name} here.", status=404, field="advisory")
    return parse_advisory(bytes(row.raw), row.source)
