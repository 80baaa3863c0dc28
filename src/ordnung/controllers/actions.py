"""What an action takes, and when: by the annotations beside it, or by its ActionInfo (DSP0266, "Actions")."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from ordnung.controllers.answers import Json, as_dict, as_list, as_path, as_text

Find = Callable[[str | None], Awaitable[Json | None]]
"""Reads a resource that need not be there."""


async def allowed_values(find: Find, action: Json, parameter: str) -> tuple[str, ...] | None:
    """The values that a parameter of an action takes; None where the service does not tell.

    Raises:
        ControllerError: its ActionInfo can't be read now.
    """
    allowed = action.get(f"{parameter}@Redfish.AllowableValues")
    if isinstance(allowed, list):
        return _texts(allowed)
    info = await find(as_path(action.get("@Redfish.ActionInfo")))
    for described in as_list((info or {}).get("Parameters")):
        values = described.get("AllowableValues")
        if described.get("Name") == parameter and isinstance(values, list):
            return _texts(values)
    return None


def apply_times(resource: Json, of: str = "") -> tuple[str, ...] | None:
    """The apply times that may be asked for (DSP0266, "Operation apply time"); None: none may be asked for.

    Args:
        of: the property that they are told of; empty for what is told of the whole action.
    """
    told = as_dict(resource.get(f"{of}@Redfish.OperationApplyTimeSupport")).get("SupportedValues")
    return _texts(told) if isinstance(told, list) else None


def _texts(values: list[object]) -> tuple[str, ...]:
    return tuple(text for value in values if (text := as_text(value)))
