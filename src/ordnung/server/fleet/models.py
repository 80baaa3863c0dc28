"""Servers, groups, readings."""

from __future__ import annotations

from django.db import models

from ordnung.controllers import Endpoint
from ordnung.server import vault


class Group(models.Model):
    """Servers that serve together; so many of them may be away at once."""

    name = models.CharField(max_length=200, unique=True)
    may_be_away = models.PositiveIntegerField(default=1)


class Server(models.Model):
    """One server: where it stands, how its controller is reached, what was last seen."""

    name = models.CharField(max_length=200, unique=True)
    url = models.URLField(max_length=300)
    user = models.CharField(max_length=200)
    sealed_password = models.BinaryField()
    pin = models.CharField(max_length=64, null=True)
    seen_pin = models.CharField(max_length=64, null=True)
    room = models.CharField(max_length=100, default="")
    rack = models.CharField(max_length=20, default="")
    unit = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=1)
    role = models.CharField(max_length=200, default="")
    group = models.ForeignKey(Group, null=True, on_delete=models.SET_NULL, related_name="servers")
    latest = models.ForeignKey("Reading", null=True, on_delete=models.SET_NULL, related_name="+")
    cause = models.CharField(max_length=60, null=True)
    detail = models.TextField(default="")
    failed_at = models.DateTimeField(null=True)

    def set_password(self, password: str) -> None:
        """Keep a password, encrypted."""
        self.sealed_password = vault.encrypt(password, self.name)

    def endpoint(self) -> Endpoint:
        """Where and how to sign in. Raises ValueError when the credentials can't be decrypted."""
        password = vault.decrypt(bytes(self.sealed_password), self.name)
        return Endpoint(name=self.name, url=self.url, user=self.user, password=password, pin=self.pin)


class Reading(models.Model):
    """One look at a server, kept. ``body`` is the server object of ``ordnung.readings/1``."""

    server = models.ForeignKey(Server, on_delete=models.CASCADE, related_name="readings")
    read_at = models.DateTimeField()
    body = models.JSONField()
