"""What is remembered of people beside their accounts."""

from __future__ import annotations

from django.db import models


class KeptAnswer(models.Model):
    """How a request with a key of its own was answered, for when it comes again. No status: not answered yet."""

    person = models.CharField(max_length=150)
    key = models.CharField(max_length=100)
    asked = models.CharField(max_length=64)
    """A keyed checksum over method, address and body."""
    status = models.PositiveSmallIntegerField(null=True)
    body = models.BinaryField(default=b"")
    kind = models.CharField(max_length=100, default="")
    at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["person", "key"], name="one_answer_a_key")]
