"""Work under way, and the events by which browsers follow it."""

from __future__ import annotations

from django.db import models

KINDS = (
    "survey", "pack", "run", "search", "reach", "catalogs", "write-out", "carry-in", "check", "look-over",
)  # fmt: skip


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


class Event(models.Model):
    """Something worth showing at once. ``topic`` says what to look at again; old ones are pruned."""

    at = models.DateTimeField()
    topic = models.CharField(max_length=40)
    body = models.JSONField(default=dict)

    class Meta:
        indexes = [models.Index(fields=["topic", "id"])]
