"""Catalog issues, kept as the bytes that came."""

from __future__ import annotations

from django.db import models


class CatalogIssue(models.Model):
    """One issue. ``raw`` was read and found good before it was stored."""

    maker = models.CharField(max_length=200)
    catalog = models.CharField(max_length=200)
    issue = models.CharField(max_length=200)
    issued = models.DateField()
    raw = models.BinaryField()
    brought_in = models.DateTimeField()
    source = models.CharField(max_length=500)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["maker", "catalog", "issue"], name="one_issue_once")]
