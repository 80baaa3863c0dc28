"""The Redfish client: trust, sessions, survey, update, tasks, resets. The only door to a device."""

from ordnung.controllers.client import Client, Endpoint, Limits
from ordnung.controllers.controller import RedfishController, RedfishControllers
from ordnung.controllers.errors import (
    CAUSES,
    AnotherServerError,
    ControllerError,
    LostAnswerError,
    UnknownParameterError,
)
from ordnung.controllers.reset import ResetOffer
from ordnung.controllers.types import AT_RESET, Accepted, Aim, Marker, Outcome, Reach, TaskView, Word

__all__ = [
    "AT_RESET",
    "CAUSES",
    "Accepted",
    "Aim",
    "AnotherServerError",
    "Client",
    "ControllerError",
    "Endpoint",
    "Limits",
    "LostAnswerError",
    "Marker",
    "Outcome",
    "Reach",
    "RedfishController",
    "RedfishControllers",
    "ResetOffer",
    "TaskView",
    "UnknownParameterError",
    "Word",
]
