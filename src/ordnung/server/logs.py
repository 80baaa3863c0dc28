"""What Ordnung writes down of itself: a line of JSON each, without secrets; tracebacks tell no values."""

from __future__ import annotations

import logging
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

from ordnung.formats.text import clean
from ordnung.server.secret_names import SECRET

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


def configure_logs(level: int = logging.WARNING) -> None:
    """Structured logs for this process, its libraries' included."""
    structlog.configure(
        processors=[*_STEPS, redact, structlog.processors.JSONRenderer()],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=_STEPS,
            processors=[
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                redact,
                structlog.processors.JSONRenderer(),
            ],
        )
    )
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(level)
