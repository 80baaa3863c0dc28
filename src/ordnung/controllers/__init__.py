"""The Redfish client: trust, sessions, survey, update, tasks, resets. The only door to a device."""

from ordnung.controllers.client import Client, Endpoint, Limits
from ordnung.controllers.controller import RedfishController, RedfishControllers
from ordnung.controllers.errors import CAUSES, ControllerError, LostAnswerError
from ordnung.controllers.types import Marker, Reach, TaskView

__all__ = [
    "CAUSES",
    "Client",
    "ControllerError",
    "Endpoint",
    "Limits",
    "LostAnswerError",
    "Marker",
    "Reach",
    "RedfishController",
    "RedfishControllers",
    "TaskView",
]
