"""The audit trail as rows: added to, never changed. The database itself refuses the rest (see the first migration)."""

from __future__ import annotations

from django.db import models

from ordnung.formats.audit import AuditEntry, Head


class TrailEntry(models.Model):
    """One entry; ``subjects`` holds what it is about, a line each, for finding it again."""

    number = models.PositiveBigIntegerField(primary_key=True)
    at = models.DateTimeField(db_index=True)
    who = models.CharField(max_length=200, db_index=True)
    where = models.CharField(max_length=100)
    command = models.CharField(max_length=100)
    on = models.JSONField(default=dict)
    asked = models.JSONField(default=dict)
    before = models.JSONField(default=dict)
    after = models.JSONField(default=dict)
    result = models.CharField(max_length=10)
    detail = models.CharField(max_length=2000, blank=True)
    previous = models.CharField(max_length=64)
    link = models.CharField(max_length=64)
    subjects = models.TextField(blank=True)

    class Meta:
        ordering = ["number"]

    def entry(self) -> AuditEntry:
        """The entry as its chain is made of it."""
        return AuditEntry(
            number=self.number, at=self.at, who=self.who, where=self.where, command=self.command, on=self.on,
            asked=self.asked, before=self.before, after=self.after, result=self.result, detail=self.detail,
            previous=self.previous, link=self.link,
        )  # fmt: skip


class TrailHead(models.Model):
    """A link that was signed when it was the newest."""

    number = models.PositiveBigIntegerField(primary_key=True)
    at = models.DateTimeField()
    link = models.CharField(max_length=64)
    key = models.CharField(max_length=64)
    signature = models.CharField(max_length=128)
    why = models.CharField(max_length=100)

    class Meta:
        ordering = ["number"]

    def head(self) -> Head:
        """The head as it is given out."""
        return Head(number=self.number, at=self.at, link=self.link, key=self.key, signature=self.signature)
