"""What Ordnung writes down of itself: a line of JSON each, without secrets; tracebacks tell no values."""

from __future__ import annotations

import contextlib
import logging
import sys
from collections.abc import MutableMapping
from typing import Any, TextIO, cast

import structlog

from ordnung.formats.secret_names import SECRET
from ordnung.formats.text import clean

_STEPS: list[Any] = [
    structlog.contextvars.merge_contextvars,
    structlog.stdlib.add_log_level,
    structlog.processors.TimeStamper(fmt="iso", utc=True),
    structlog.processors.StackInfoRenderer(),
    structlog.processors.format_exc_info,
]


def redact(_: Any, __: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """Values under names of secrets are never written, and no text steers a terminal."""
    for name, value in event.items():
        if name.lower() in SECRET:
            event[name] = "given"
        elif isinstance(value, str) and name not in ("exception", "stack"):
            event[name] = clean(value)
    return event


class Lines:
    """Where lines go. One that finds no room is lost: what was about to be logged goes on."""

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def write(self, text: str) -> None:
        """Add some text."""
        with contextlib.suppress(OSError):
            self.stream.write(text)

    def flush(self) -> None:
        """Let it be read."""
        with contextlib.suppress(OSError):
            self.stream.flush()


def configure_logs(level: int = logging.WARNING, *, for_people: bool = False) -> None:
    """Structured logs for this process, its libraries' included, on its standard error.

    Every process of ours that may log calls it first: as it comes, structlog draws a traceback with the values of all
    that the failing functions knew, passwords among them. ``for_people``: plain text, for who sits at the terminal.
    """
    lines = cast(TextIO, Lines(sys.stderr))
    last: Any = structlog.dev.ConsoleRenderer(colors=False) if for_people else structlog.processors.JSONRenderer()
    structlog.configure(
        processors=[*_STEPS, redact, last],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(lines),
    )
    handler = logging.StreamHandler(lines)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=_STEPS,
            processors=[
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                redact,
                last,
            ],
        )
    )
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(level)
