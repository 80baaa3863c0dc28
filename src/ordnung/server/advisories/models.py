"""Advisories, kept as the bytes that came."""

from __future__ import annotations

from django.db import models


class AdvisoryFile(models.Model):
    """One version of one advisory; a newer version takes the place of an older one."""

    name = models.CharField(max_length=200)
    publisher = models.CharField(max_length=500)
    version = models.CharField(max_length=100)
    released = models.DateTimeField()
    raw = models.BinaryField()
    source = models.CharField(max_length=500)
    brought_in = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["publisher", "name"], name="one_advisory_once")]
