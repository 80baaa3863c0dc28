"""How the controllers of a run are reached, as the house knows it by now, and what keeps the run out of them."""

from __future__ import annotations

import hashlib

from ordnung.controllers import ControllerError
from ordnung.engine.ports import KnownAccess
from ordnung.server.audit.models import TrailEntry
from ordnung.server.audit.trail import subject
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import store_failure
from ordnung.server.runs.records import ask_records

SETTLING = (
    "accept a certificate",
    "accept certificates",
    "accept another board",
    "set credentials",
    "change a server",
    "add servers found",
)
"""Commands by which a server is let be spoken to again (``rights.commands``)."""


class FleetAccess:
    """The engine's port on the fleet: whatever is accepted or entered, wherever on the screens, counts at once."""

    async def known(self, server: str) -> KnownAccess | None:
        """As it is known by now; a password that is entered again is another one, and so is one that has read it."""
        return await ask_records(self._known, server)

    def _known(self, server: str) -> KnownAccess:
        row = Server.objects.get(name=server)
        kept = [bytes(row.sealed_password), row.url, row.user, row.pin, row.uuid, row.serial, row.cause is None]
        return KnownAccess(endpoint=row.endpoint(), mark=hashlib.sha256(repr(kept).encode()).hexdigest())

    async def keep_out(self, server: str, error: ControllerError) -> None:
        """Kept as after a survey that failed: a person sees it there, and can settle it."""
        await ask_records(store_failure, server, error)

    async def settled_by(self, server: str) -> str:
        """Whoever stands on the audit trail with the last of the commands that settle it."""
        return await ask_records(self._settled_by, server)

    def _settled_by(self, server: str) -> str:
        about = TrailEntry.objects.filter(subjects__contains=subject("server", server), result="done")
        return about.filter(command__in=SETTLING).order_by("-number").values_list("who", flat=True).first() or ""
