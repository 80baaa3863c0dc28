"""What the engine asks of the database, where that can fail for a while: no room, a lock, a disk that fails."""

from __future__ import annotations

from collections.abc import Callable
from typing import ParamSpec, TypeVar

from asgiref.sync import sync_to_async
from django.db import OperationalError, connection

from ordnung.engine.ports import RecordsOutError

P = ParamSpec("P")
T = TypeVar("T")


async def ask_records(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """What a function answers that reads or writes rows.

    Raises:
        RecordsOutError: the database can't be read or written just now.
    """
    return await sync_to_async(_tried)(function, *args, **kwargs)


def _tried(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    try:
        return function(*args, **kwargs)
    except OperationalError as error:
        if not connection.in_atomic_block:
            connection.close()  # a line on which a commit failed is not gone on with
        raise RecordsOutError(str(error)) from error


def are_records_out(error: BaseException) -> bool:
    """Whether this, or one of those it is made of, is that the database can't be read or written just now."""
    if isinstance(error, BaseExceptionGroup):
        return any(are_records_out(one) for one in error.exceptions)
    return isinstance(error, OperationalError | RecordsOutError)
