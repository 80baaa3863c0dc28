"""What all jobs of the engine share."""

from __future__ import annotations

from dataclasses import dataclass

from ordnung.controllers import RedfishControllers
from ordnung.repository import PayloadServer


@dataclass
class Shop:
    """The open connections to controllers, and where they fetch payloads."""

    controllers: RedfishControllers
    payloads: PayloadServer
