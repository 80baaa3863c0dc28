"""What all jobs of the engine share."""

from __future__ import annotations

from dataclasses import dataclass, field

from ordnung.controllers import RedfishControllers
from ordnung.engine.ports import Journal
from ordnung.engine.world import Site
from ordnung.store import PayloadProcess


@dataclass
class EnginePorts:
    """The open connections to controllers, where they fetch payloads, the tapes, and what all runs share."""

    controllers: RedfishControllers
    payloads: PayloadProcess
    journal: Journal
    site: Site = field(default_factory=Site)
