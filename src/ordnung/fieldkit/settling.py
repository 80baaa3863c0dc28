"""How the controller of a kit's one server is reached, and what the person there settles when it lets nobody in."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import click

from ordnung.controllers import ControllerError, Endpoint
from ordnung.engine.ports import KnownAccess
from ordnung.fieldkit.console import ConsolePorts
from ordnung.fieldkit.password import read_password

CREDENTIALS = ("signed out", "password to be changed")
"""Causes that another password mends."""


class ConsoleAccess:
    """The engine's port: as the command said, and as the person there has settled since.

    Where nobody can be asked, the run ends, and is started again with what holds by then.
    """

    def __init__(self, endpoint: Endpoint, password_file: Path, ports: ConsolePorts, *, asks: bool) -> None:
        self._endpoint, self._password_file, self._ports, self._asks = endpoint, password_file, ports, asks
        self._yeses = 0

    async def known(self, server: str) -> KnownAccess | None:
        """As it is known by now; another one with each yes."""
        return KnownAccess(endpoint=self._endpoint, mark=str(self._yeses)) if self._asks else None

    async def keep_out(self, server: str, error: ControllerError) -> None:
        """Show whatever the person needs to settle it; a *yes* to the question that follows does."""
        if error.seen is not None:
            then = "A yes accepts it." if self._asks else "Compared at the server, it is taken with --pin."
            self._ports.screen.say(f"Its certificate has the SHA-256 {error.seen}. {then}")
        elif error.cause in CREDENTIALS and self._asks:
            self._ports.screen.say(f"A yes reads the present password from {self._password_file}.")
        self._ports.settle = lambda: self._settle(error)

    async def settled_by(self, server: str) -> str:
        """Nobody else is here; what they have settled is not settled by a yes to something else."""
        self._ports.settle = None
        return "the person here"

    def _settle(self, error: ControllerError) -> None:
        if error.seen is not None:
            self._endpoint = dataclasses.replace(self._endpoint, pin=error.seen)
        elif error.cause in CREDENTIALS:
            try:
                password = read_password(self._password_file)
            except (OSError, click.UsageError) as why:
                self._ports.screen.say(str(why))
                return
            self._endpoint = dataclasses.replace(self._endpoint, password=password)
        self._yeses += 1
