"""The house's settings, one row, and its maintenance windows."""

from __future__ import annotations

import datetime

from django.db import models

from ordnung.core.night.limits import TRANSFERS
from ordnung.core.night.recurring import WindowRule
from ordnung.server import vault


class House(models.Model):
    """What holds for every run. There is one row; ``house.settings.house`` makes it when it is first asked for."""

    zone = models.CharField(max_length=100, default="UTC")
    at_once = models.PositiveIntegerField(null=True)
    """None: as the installation says."""
    transfers = models.PositiveIntegerField(default=TRANSFERS)
    bytes_per_second = models.PositiveBigIntegerField(null=True)
    racks = models.JSONField(default=dict)
    rooms = models.JSONField(default=dict)
    certainty = models.FloatField(default=0.9)
    approval = models.BooleanField(default=False)
    """Whether a sheet has to be approved by a second person before it may start (P4)."""
    starter_apart = models.BooleanField(default=False)
    """Whether whoever starts a run may be neither its drafter nor its approver."""
    remedies = models.JSONField(default=dict)
    """By remedy (``engine.entries.Remedy``) whether it is tried by itself, asked for, or never tried; what is not
    there is as usual (N6.5).
    """
    remedy_exceptions = models.JSONField(default=list)
    """Where it is otherwise for a model or a kind of component: the first that fits holds."""
    stop_share = models.PositiveIntegerField(default=25)
    """If more than so many in a hundred of a wave fail, the rest does not start until a person says so (N6.5)."""
    patience_minutes = models.PositiveIntegerField(default=60)
    """How long a server waits for a hook or for a person's tick, with its turn kept (P1)."""
    reading_hours = models.PositiveIntegerField(default=24)
    """How old a reading may be without being remarked on when a sheet is made."""


class Hook(models.Model):
    """Where the house's own tools are asked: its scheduler of workloads, and whoever is called for help (P1, P6).

    ``sealed_secret`` signs what is sent, and is shown only when it is made. ``told`` is what its last answer was.
    """

    name = models.CharField(max_length=100, unique=True)
    url = models.URLField(max_length=500)
    sealed_secret = models.BinaryField()
    calls = models.BooleanField(default=False)
    """Whether it is called when something needs a person."""
    asked_at = models.DateTimeField(null=True)
    answered_at = models.DateTimeField(null=True)
    told = models.TextField(default="")

    class Meta:
        ordering = ["name"]

    def set_secret(self, secret: str) -> None:
        """Keep the secret, encrypted."""
        self.sealed_secret = vault.encrypt(secret, "hook", self.name)

    def secret(self) -> str:
        """The secret. Raises ValueError when it can't be read."""
        return vault.decrypt(bytes(self.sealed_secret), "hook", self.name)

    def __str__(self) -> str:
        return self.name


class MaintenanceWindow(models.Model):
    """A window, by the wall clock of the house's zone; the fields are those of ``WindowRule``."""

    name = models.CharField(max_length=100, unique=True)
    first = models.DateField()
    opens = models.TimeField()
    closes = models.TimeField()
    nights = models.PositiveSmallIntegerField(default=1)
    rule = models.CharField(max_length=200, default="")
    without = models.JSONField(default=list)

    class Meta:
        ordering = ["name"]

    def value(self) -> WindowRule:
        """The window as the core knows it."""
        return WindowRule(
            name=self.name, first=self.first, opens=self.opens, closes=self.closes, nights=self.nights, rule=self.rule,
            without=frozenset(datetime.date.fromisoformat(day) for day in self.without),
        )  # fmt: skip
