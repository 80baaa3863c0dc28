"""Work under way, and the events by which browsers follow it."""

from __future__ import annotations

import datetime
from collections.abc import Iterable

from django.db import models

KINDS = (
    "survey", "pack", "run", "search", "reach", "catalogs", "write-out", "carry-in", "check", "look-over", "start",
)  # fmt: skip


class WorkQuerySet(models.QuerySet["Work"]):
    """Works, and how one becomes another: each step is one statement that does nothing if it is too late for it."""

    def open(self) -> WorkQuerySet:
        """Asked for, or under way."""
        return self.filter(state__in=UNDER_WAY)

    def asked(self) -> WorkQuerySet:
        """Waiting to be taken, the oldest first."""
        return self.filter(state=Work.State.ASKED).order_by("pk")

    def take(self, pk: int, at: datetime.datetime) -> bool:
        """It is under way from now on; False if another engine took it."""
        return bool(self.filter(pk=pk, state=Work.State.ASKED).update(state=Work.State.RUNNING, started_at=at))

    def take_up_again(self, pks: Iterable[int]) -> None:
        """Those that an engine left, or that broke off, are under way again."""
        self.filter(pk__in=list(pks)).update(state=Work.State.RUNNING, ended_at=None)


class Work(models.Model):
    """A long task: asked for by a person, carried out by the engine, shown at the bottom of every screen."""

    class State(models.TextChoices):
        ASKED = "asked"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"

    kind = models.CharField(max_length=20, choices=[(k, k) for k in KINDS])
    title = models.CharField(max_length=200)
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    total = models.PositiveBigIntegerField(default=0)
    done = models.PositiveBigIntegerField(default=0)
    unit = models.CharField(max_length=20, default="servers")
    note = models.TextField(default="")
    subject = models.JSONField(default=dict)
    failures = models.JSONField(default=list)
    asked_at = models.DateTimeField()
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    seen = models.BooleanField(default=False)

    objects = WorkQuerySet.as_manager()


UNDER_WAY = (Work.State.ASKED, Work.State.RUNNING)


class Event(models.Model):
    """Something worth showing at once. ``topic`` says what to look at again; old ones are pruned."""

    at = models.DateTimeField()
    topic = models.CharField(max_length=40)
    body = models.JSONField(default=dict)

    class Meta:
        indexes = [models.Index(fields=["topic", "id"])]
