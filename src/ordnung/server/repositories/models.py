"""Repositories and what is packed in them."""

from __future__ import annotations

from django.db import models


class Repository(models.Model):
    """An offline repository for chosen servers."""

    class State(models.TextChoices):
        PACKING = "packing"
        SEALED = "sealed"
        INCOMPLETE = "incomplete"

    name = models.CharField(max_length=200)
    state = models.CharField(max_length=12, choices=State.choices, default=State.PACKING)
    servers = models.JSONField(default=list)
    folder = models.CharField(max_length=500, default="")
    made_at = models.DateTimeField()
    expires = models.DateTimeField(null=True)
    root_key = models.CharField(max_length=200, default="")
    message = models.TextField(default="")
    revision = models.PositiveIntegerField(default=1)


class Line(models.Model):
    """One payload of a packing list, why it is there and how far it is."""

    repository = models.ForeignKey(Repository, on_delete=models.CASCADE, related_name="lines")
    product = models.CharField(max_length=200)
    name = models.CharField(max_length=200)
    kind = models.CharField(max_length=20)
    version = models.CharField(max_length=200)
    size = models.PositiveBigIntegerField(default=0)
    sha256 = models.CharField(max_length=64, default="")
    reasons = models.JSONField(default=list)
    servers = models.JSONField(default=list)
    state = models.CharField(max_length=10, default="waiting")
    bytes = models.PositiveBigIntegerField(default=0)
    unsigned = models.BooleanField(default=False)
    """Whether the catalog issue that names it is unsigned: its checksum is then nobody's word."""
    message = models.TextField(default="")
