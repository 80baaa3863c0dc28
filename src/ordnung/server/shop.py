"""What all jobs of the engine share."""

from __future__ import annotations

from dataclasses import dataclass, field

from ordnung.controllers import RedfishControllers
from ordnung.engine.world import Site
from ordnung.repository import PayloadServer
from ordnung.server.runs.journal import DatabaseJournal


@dataclass
class Shop:
    """The open connections to controllers, where they fetch payloads, the tapes, and what all runs share."""

    controllers: RedfishControllers
    payloads: PayloadServer
    journal: DatabaseJournal = field(default_factory=DatabaseJournal)
    site: Site = field(default_factory=Site)
