"""Catalog issues, kept as the bytes that came; where they come from; the keys that may sign them."""

from __future__ import annotations

from django.db import models


class CatalogIssue(models.Model):
    """One issue. ``raw`` was read and found good before it was stored; an empty ``signed_by`` means unsigned."""

    maker = models.CharField(max_length=200)
    catalog = models.CharField(max_length=200)
    issue = models.CharField(max_length=200)
    issued = models.DateField()
    raw = models.BinaryField()
    sha256 = models.CharField(max_length=64, default="")
    signed_by = models.CharField(max_length=200, default="")
    brought_in = models.DateTimeField()
    source = models.CharField(max_length=500)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["maker", "catalog", "issue"], name="one_issue_once")]


class TrustedKey(models.Model):
    """An Ed25519 key by which a maker signs; as long as there is one, nothing of that maker comes in unsigned."""

    maker = models.CharField(max_length=200)
    name = models.CharField(max_length=200, unique=True)
    key = models.CharField(max_length=64)
    added_at = models.DateTimeField()
    added_by = models.CharField(max_length=150)


class NewestSeen(models.Model):
    """The newest issue of a catalog that was ever seen: an older one passed off as newest is refused."""

    maker = models.CharField(max_length=200)
    catalog = models.CharField(max_length=200)
    issue = models.CharField(max_length=200)
    issued = models.DateField()
    seen_at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["maker", "catalog"], name="one_newest_a_catalog")]


class Source(models.Model):
    """Where catalogs come from. ``root`` is the trusted TUF root of a source that has one."""

    class Kind(models.TextChoices):
        MIRROR = "mirror"
        FOLDER = "folder"

    kind = models.CharField(max_length=10, choices=Kind.choices)
    address = models.CharField(max_length=500, unique=True)
    proxy = models.CharField(max_length=500, default="")
    maker = models.CharField(max_length=200, default="")
    root = models.BinaryField(default=b"")
    etag = models.CharField(max_length=300, default="")
    added_at = models.DateTimeField()
    answered_at = models.DateTimeField(null=True)
    said = models.TextField(default="")
    failed_at = models.DateTimeField(null=True)
    failure = models.TextField(default="")
