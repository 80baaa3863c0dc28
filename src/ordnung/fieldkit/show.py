"""Printing for people and for programs."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from typing import Any

import click
from rich.console import Console
from rich.table import Table
from rich.text import Text

from ordnung.formats.text import clean

as_json = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


def print_json(value: Any) -> None:
    """JSON on standard output, always spelled the same."""
    click.echo(json.dumps(value, indent=2, ensure_ascii=False))


def print_line(value: Any) -> None:
    """One JSON value on one line, at once: for what goes on for a while."""
    click.echo(json.dumps(value, ensure_ascii=False))
    sys.stdout.flush()


def print_table(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """A plain table; nothing is cut off when the output is not a terminal.

    Cells are data, never markup: a name in brackets is printed as it is, and no control character reaches a terminal.
    """
    table = Table(box=None, header_style="bold", pad_edge=False)
    for column in columns:
        table.add_column(column, overflow="fold")
    for row in rows:
        table.add_row(*(Text("–" if cell is None else clean(str(cell))) for cell in row))
    console = Console(highlight=False)
    Console(highlight=False, width=None if console.is_terminal else 240).print(table)
