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
    if not isinstance(allowed, list):
        described = await _described(find, action)
        allowed = next((one.get("AllowableValues") for one in described if one.get("Name") == parameter), None)
    return _texts(allowed) if isinstance(allowed, list) else None


async def takes(find: Find, action: Json, parameter: str) -> bool:
    """Whether an action takes a parameter: only what describes all that it takes, and not this one, says no.

    Raises:
        ControllerError: its ActionInfo can't be read now.
    """
    described = await _described(find, action)
    return not described or any(one.get("Name") == parameter for one in described)


async def _described(find: Find, action: Json) -> list[Json]:
    return as_list((await find(as_path(action.get("@Redfish.ActionInfo"))) or {}).get("Parameters"))


def apply_times(resource: Json, of: str = "") -> tuple[str, ...] | None:
    """The apply times that may be asked for (DSP0266, "Operation apply time"); None: none may be asked for.

    Args:
        of: the property that they are told of; empty for what is told of the whole action.
    """
    told = as_dict(resource.get(f"{of}@Redfish.OperationApplyTimeSupport")).get("SupportedValues")
    return _texts(told) if isinstance(told, list) else None


def _texts(values: list[object]) -> tuple[str, ...]:
    return tuple(text for value in values if (text := as_text(value)))
