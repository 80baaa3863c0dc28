"""The password of a controller, from a file: never among the arguments, where others see it."""

from __future__ import annotations

from pathlib import Path

import click


def read_password(path: Path) -> str:
    """The first line of a file. Raises UsageError: it is empty, or no text."""
    try:
        first = path.read_text().partition("\n")[0].removesuffix("\r")
    except UnicodeDecodeError:
        raise click.UsageError(f"{path}: no text; its first line is to be the password") from None
    if not first:
        raise click.UsageError(f"{path}: its first line is empty; it is to be the password")
    return first
