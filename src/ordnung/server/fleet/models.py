"""Servers, groups, readings, host reports, searches."""

from __future__ import annotations

import datetime
import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import models

from ordnung.controllers import Endpoint
from ordnung.core.waiting import Left
from ordnung.server import vault
from ordnung.server.house.models import Hook

HELPERS = ("", "person", "hook")


class Group(models.Model):
    """Servers that serve together; so many of them may be away at once."""

    name = models.CharField(max_length=200, unique=True)
    may_be_away = models.PositiveIntegerField(default=1)
    heal_seconds = models.PositiveIntegerField(default=0)
    """How long one that is back still counts: until what the group holds is whole again (``night.md`` T5)."""
    mover = models.CharField(max_length=10, default="", choices=[(w, w) for w in HELPERS])
    """Who moves work off its servers before they go away, and back: nobody needs to, a person, or the hook (P1)."""
    healer = models.CharField(max_length=10, default="", choices=[(w, w) for w in HELPERS])
    """Who says that the group is whole again: nobody, the time above tells; a person, or the hook."""
    hook = models.ForeignKey(Hook, null=True, on_delete=models.PROTECT, related_name="groups")
    off_seconds = models.PositiveIntegerField(default=0)
    back_seconds = models.PositiveIntegerField(default=0)
    """How long moving off and taking back take, for planning (T4)."""
    between = models.BooleanField(default=False)
    """Whether its servers come back between rounds (T4)."""

    def __str__(self) -> str:
        return self.name


class Server(models.Model):
    """One server: where it stands, how its controller is reached, what was last seen.

    ``lost`` lists what vanished and nobody has looked at yet; ``probes`` what arrived from its controller.
    """

    name = models.CharField(max_length=200, unique=True)
    url = models.URLField(max_length=300)
    user = models.CharField(max_length=200)
    sealed_password = models.BinaryField()
    cleared = models.CharField(max_length=200, default="", blank=True)
    """Why no password is kept any more."""
    moved_by = models.CharField(max_length=150, default="", blank=True)
    """Who last changed its address."""
    pin = models.CharField(max_length=64, null=True)
    seen_pin = models.CharField(max_length=64, null=True)
    seen_uuid = models.CharField(max_length=500, null=True)
    seen_serial = models.CharField(max_length=500, null=True)
    """What told itself another server than the one known, until a person has looked."""
    system = models.CharField(max_length=500, null=True)
    """The path of its own system, where its controller serves several."""
    uuid = models.CharField(max_length=500, null=True, db_index=True)
    serial = models.CharField(max_length=500, null=True, db_index=True)
    room = models.CharField(max_length=100, default="")
    rack = models.CharField(max_length=20, default="")
    unit = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=1)
    role = models.CharField(max_length=200, default="")
    tags = models.JSONField(default=list)
    group = models.ForeignKey(Group, null=True, on_delete=models.SET_NULL, related_name="servers")
    latest = models.ForeignKey("Reading", null=True, on_delete=models.SET_NULL, related_name="+")
    report = models.ForeignKey("Report", null=True, on_delete=models.SET_NULL, related_name="+")
    lost = models.JSONField(default=list)
    left = models.JSONField(default=list)
    """What runs have left waiting in it for a reset (``core.waiting``); by itself a controller may not tell that."""
    by_image_at = models.CharField(max_length=200, default="")
    """The version of its controller at which that refused an update for naming what it is for; empty: it did not."""
    probes = models.JSONField(default=dict)
    probed_at = models.DateTimeField(null=True)
    cause = models.CharField(max_length=60, null=True)
    detail = models.TextField(default="")
    failed_at = models.DateTimeField(null=True)

    FAILURE = ("cause", "detail", "failed_at", "seen_pin", "seen_uuid", "seen_serial")
    """Why the last look failed, and what was shown instead."""

    @property
    def left_writes(self) -> tuple[Left, ...]:
        """What waits in it for a reset, as runs have left it."""
        return tuple(Left(**write) for write in self.left)

    def forget_failure(self) -> None:
        """It was read, or a person has settled what was in the way."""
        self.cause, self.detail, self.failed_at = None, "", None
        self.seen_pin, self.seen_uuid, self.seen_serial = None, None, None

    def set_password(self, password: str) -> None:
        """Keep a password, encrypted."""
        self.sealed_password, self.cleared = vault.encrypt(password, "server", self.name), ""

    def clear_password(self, why: str) -> None:
        """Keep no password any more, and say why: it is asked for again before anything is sent there."""
        self.sealed_password, self.cleared = b"", why

    def _known_by(self) -> dict[str, str | None]:
        """What tells it from others. Before its first reading that may be what a list said, or its controller's own."""
        return {"uuid": self.uuid, "serial": self.serial} if self.latest_id is not None else {}

    def endpoint(self) -> Endpoint:
        """Where and how to sign in; where there is no password that can be read, ``withheld`` says why."""
        password, withheld = "", self.cleared or ("" if self.sealed_password else "no password is kept for it")
        if not withheld:
            try:
                password = vault.decrypt(bytes(self.sealed_password), "server", self.name)
            except ValueError as error:
                withheld = str(error)
        return Endpoint(
            name=self.name, url=self.url, user=self.user, password=password, pin=self.pin, system=self.system,
            withheld=withheld, **self._known_by(),
        )  # fmt: skip


class ComponentState(models.Model):
    """One state of one component, stored once however many readings saw it."""

    digest = models.CharField(max_length=64, unique=True)
    body = models.JSONField()


class Reading(models.Model):
    """One look at a server, kept: ``head`` is the server object of ``ordnung.readings/1`` without its components,
    ``parts`` the ids of their states in order. ``changes`` counts the differences to the reading before.
    """

    server = models.ForeignKey(Server, on_delete=models.CASCADE, related_name="readings")
    read_at = models.DateTimeField()
    head = models.JSONField()
    parts = models.JSONField(default=list)
    changes = models.PositiveIntegerField(default=0)

    class Meta:
        indexes = [models.Index(fields=["server", "-read_at"])]


class Report(models.Model):
    """A host report of a server: ``body`` is the document as it was brought in."""

    server = models.ForeignKey(Server, on_delete=models.CASCADE, related_name="reports")
    taken_at = models.DateTimeField()
    added_at = models.DateTimeField()
    body = models.JSONField()


class SelectionQuerySet(models.QuerySet["Selection"]):
    """Kept selections, and how they are forgotten."""

    def forget(self, *, before: datetime.datetime, beyond: int) -> None:
        """Forget those last used before a time, and of the rest all but the ``beyond`` used last."""
        self.filter(used_at__lt=before).delete()
        self.exclude(pk__in=self.order_by("-used_at", "-pk").values("pk")[:beyond]).delete()


class Selection(models.Model):
    """Servers that somebody chose, by the short name under which addresses speak of them."""

    name = models.CharField(max_length=24, unique=True)
    servers = models.JSONField()
    used_at = models.DateTimeField(db_index=True)

    objects = SelectionQuerySet.as_manager()


class Search(models.Model):
    """A look for servers to be added: a preview, nothing of the house changes by it."""

    asked_at = models.DateTimeField()
    what = models.CharField(max_length=300)
    user = models.CharField(max_length=200, default="")
    sealed_password = models.BinaryField(default=b"")
    is_done = models.BooleanField(default=False)
    is_listening = models.BooleanField(default=False)

    def set_password(self, password: str) -> None:
        """Keep the password to look with, encrypted; none for an empty one."""
        self.sealed_password = vault.encrypt(password, "search", str(self.asked_at)) if password else b""

    def password(self) -> str:
        """The password to look with; empty when none is kept. Raises ValueError when it can't be read."""
        return vault.decrypt(bytes(self.sealed_password), "search", str(self.asked_at)) if self.sealed_password else ""


class SearchRowQuerySet(models.QuerySet["SearchRow"]):
    """Rows of a search, and how one comes from looked for to found."""

    def unanswered(self) -> SearchRowQuerySet:
        """Those that were not looked at yet."""
        return self.filter(state=SearchRow.State.ASKED)

    def addable(self) -> SearchRowQuerySet:
        """Those that a person may take into the house."""
        return self.filter(state__in=SearchRow.ADDABLE)

    def find_nobody(self, detail: str) -> None:
        """Nothing answered there as a server."""
        self.update(state=SearchRow.State.NOBODY, detail=detail)

    def find_double(self, detail: str) -> None:
        """They are servers that stand in another row too: one row is enough."""
        self.addable().update(state=SearchRow.State.DOUBLE, detail=detail)


class SearchRow(models.Model):
    """One address of a search and what answered there. ``facts`` are what the list said of the server."""

    class State(models.TextChoices):
        ASKED = "asked"
        NEW = "new"
        KNOWN = "known"
        MOVED = "moved"
        UNCERTAIN = "uncertain"
        DOUBLE = "double"
        NOBODY = "nobody"
        WRONG_ROW = "wrong row"

    ADDABLE = (State.NEW, State.MOVED)

    search = models.ForeignKey(Search, on_delete=models.CASCADE, related_name="rows")
    url = models.CharField(max_length=300)
    line = models.PositiveIntegerField(default=0)
    facts = models.JSONField(default=dict)
    faults = models.JSONField(default=list)
    state = models.CharField(max_length=20, choices=State.choices, default=State.ASKED)
    detail = models.TextField(default="")
    pin = models.CharField(max_length=64, null=True)
    vouched = models.BooleanField(default=False)
    uuid = models.CharField(max_length=500, null=True)
    serial = models.CharField(max_length=500, null=True)
    model = models.CharField(max_length=500, null=True)
    host_name = models.CharField(max_length=500, null=True)
    system = models.CharField(max_length=500, null=True)
    """The path of its own system, where the controller at this address serves several."""
    known = models.CharField(max_length=200, null=True)
    added = models.CharField(max_length=200, null=True)

    objects = SearchRowQuerySet.as_manager()

    def refuse(self, fault: str = "") -> None:
        """It is not looked at: the list is wrong about it, or it lies where the house does not go."""
        self.faults = [*self.faults, fault] if fault else self.faults
        self.state = SearchRow.State.WRONG_ROW


def keep_states(entries: Sequence[Mapping[str, Any]]) -> list[int]:
    """Keep component states; returns their ids in order. What is known already is not written again."""
    raws = [json.dumps(entry, sort_keys=True, ensure_ascii=False) for entry in entries]
    digests = [hashlib.sha256(raw.encode()).hexdigest() for raw in raws]
    new = [ComponentState(digest=d, body=e) for d, e in dict(zip(digests, entries, strict=True)).items()]
    ids = dict(ComponentState.objects.filter(digest__in=digests).values_list("digest", "pk"))
    missing = [state for state in new if state.digest not in ids]
    if missing:
        ComponentState.objects.bulk_create(missing, ignore_conflicts=True)
        ids = dict(ComponentState.objects.filter(digest__in=digests).values_list("digest", "pk"))
    return [ids[digest] for digest in digests]


def load_entries(readings: Sequence[Reading]) -> dict[int, dict[str, Any]]:
    """The server objects of readings by their id, whole again: one query however many."""
    keys = {pk for reading in readings for pk in reading.parts}
    states = ComponentState.objects.values_list("pk", "body")
    found = dict(states if len(keys) > MANY else states.filter(pk__in=keys))
    return {r.pk: {**r.head, "components": [found.get(pk) for pk in r.parts]} for r in readings}


MANY = 20_000
"""From so many on all states are loaded at once: SQLite takes no longer lists of ids (32,766)."""
