"""Revisions of the baseline, and drafts of the next one."""

from __future__ import annotations

from django.db import models


class Revision(models.Model):
    """One decision of the house; never changed once made.

    ``rules`` is an ``ordnung.rules/1`` document, ``follows`` a list of model, maker, catalog and issue.
    """

    number = models.PositiveIntegerField(unique=True)
    rules = models.JSONField()
    follows = models.JSONField(default=list)
    note = models.TextField(default="")
    basis = models.PositiveIntegerField(null=True)
    effect = models.JSONField(default=dict)
    made_at = models.DateTimeField()
    made_by = models.CharField(max_length=150)


class Draft(models.Model):
    """What one person is working on; kept so that nothing is lost when the page is closed."""

    person = models.CharField(max_length=150, unique=True)
    basis = models.PositiveIntegerField()
    rules = models.JSONField()
    follows = models.JSONField(default=list)
    changed_at = models.DateTimeField()


class Exclusion(models.Model):
    """A component that a person took out of the work to be done. Put back, the row stays as a record."""

    server = models.CharField(max_length=200)
    slot = models.CharField(max_length=200)
    reason = models.TextField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField()
    put_back_at = models.DateTimeField(null=True)
    put_back_by = models.CharField(max_length=150, default="")

    class Meta:
        db_table = "runs_leftout"
        constraints = [
            models.UniqueConstraint(
                fields=["server", "slot"], condition=models.Q(put_back_at=None), name="left_out_once"
            )
        ]
