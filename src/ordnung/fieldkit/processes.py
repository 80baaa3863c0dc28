"""Commands that start processes. They hand over to modules that the field kit itself does not import."""

from __future__ import annotations

import os
import sys

import click

PASS_ON = {"ignore_unknown_options": True, "allow_extra_args": True, "help_option_names": []}


def _become(module: str, arguments: list[str]) -> None:
    os.execv(sys.executable, [sys.executable, "-m", module, *arguments])  # noqa: S606  our own module


@click.command(context_settings=PASS_ON, add_help_option=False)
@click.pass_context
def demo(context: click.Context) -> None:
    """Stand-ins, web and engine with the demo data."""
    _become("ordnung.demo", context.args)


@click.command(context_settings=PASS_ON, add_help_option=False)
@click.pass_context
def serve(context: click.Context) -> None:
    """Web and engine of a site."""
    _become("ordnung.server", context.args)


@click.command(context_settings=PASS_ON, add_help_option=False)
@click.pass_context
def standins(context: click.Context) -> None:
    """Simulated servers on loopback addresses."""
    _become("ordnung.standins", context.args)


@click.command(context_settings=PASS_ON, add_help_option=False)
@click.pass_context
def fault(context: click.Context) -> None:
    """Set and clear faults of running stand-ins."""
    _become("ordnung.standins.fault", context.args)
