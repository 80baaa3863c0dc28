"""Runs, the servers in them, and the tapes."""

from __future__ import annotations

import datetime

from django.db import models
from django.db.models import Q

from ordnung.server.fleet.models import Server
from ordnung.server.repositories.models import Repository, WrittenOut


class RunQuerySet(models.QuerySet["Run"]):
    """Runs, and how one becomes another: each step is one statement that does nothing if it is too late for it."""

    def start(self, pk: int, person: str, at: datetime.datetime) -> bool:
        """A draft is under way from now on; False if it is no draft any more."""
        draft = self.filter(pk=pk, state=Run.State.DRAFT)
        return bool(draft.update(state=Run.State.RUNNING, started_at=at, started_by=person))

    def give_order(self, pk: int, order: str) -> bool:
        """Hold, go on or stop; False if it is not under way, or was told to stop: that can't be taken back."""
        return bool(self.filter(pk=pk, state=Run.State.RUNNING).exclude(order="stop").update(order=order))

    def end(self, pk: int, at: datetime.datetime) -> bool:
        """All its servers have ended; False if that was known already."""
        return bool(self.filter(pk=pk, state=Run.State.RUNNING).update(state=Run.State.ENDED, ended_at=at))


class Run(models.Model):
    """A run sheet and, once started, the run."""

    class State(models.TextChoices):
        DRAFT = "draft"
        RUNNING = "running"
        ENDED = "ended"

    name = models.CharField(max_length=200)
    state = models.CharField(max_length=10, choices=State.choices, default=State.DRAFT)
    order = models.CharField(max_length=10, default="go", choices=[(o, o) for o in ("go", "hold", "stop")])
    takes_back = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="taken_back_by")
    drafted_at = models.DateTimeField()
    drafted_by = models.CharField(max_length=150)
    started_at = models.DateTimeField(null=True)
    started_by = models.CharField(max_length=150, default="")
    ended_at = models.DateTimeField(null=True)
    planned_seconds = models.FloatField(default=0)
    bound_seconds = models.FloatField(default=0)
    revision = models.PositiveIntegerField(default=1)
    rules = models.JSONField(default=dict)
    follows = models.JSONField(default=list)
    """The baseline it was planned by, spelled out: what comes in later does not move a run under way."""
    repository = models.ForeignKey(Repository, null=True, on_delete=models.SET_NULL, related_name="+")
    source = models.CharField(max_length=300, default="from the store")
    """Where its payloads come from: a repository with its edition, or the store."""
    waves = models.JSONField(default=list)
    """In order: name, seconds that are waited after it, gate; who goes with it stands with each server (T7)."""
    opened = models.JSONField(default=dict)
    """Waves after which a person let it go on, with who and when."""
    windows = models.JSONField(default=list)
    """Start and end of each window, instants; none: at any time (T9)."""
    certainty = models.FloatField(null=True)
    """How surely a server has to be back in its window; None without windows (F4)."""
    lanes_from = models.DateTimeField(null=True)
    """The moment from which the lanes' seconds count, on a draft; once started they count from the start."""
    ahead = models.CharField(max_length=10, default="nothing")
    """What may be done before the window and the wave: nothing, or ``writing`` of the first round (T8)."""
    unattended = models.BooleanField(default=False)
    """Whether its reboots are left to whenever they come: it resets no system (P5)."""
    disc = models.ForeignKey(WrittenOut, null=True, on_delete=models.SET_NULL, related_name="+")
    """The disc image by which all of it is brought, by the field kit that starts from it; None: by no disc."""
    foretold = models.JSONField(null=True)
    """By when, in seconds from the start, half, nine in ten and 99 in 100 were to be done, as foretold at the start."""

    objects = RunQuerySet.as_manager()


class RunServerQuerySet(models.QuerySet["RunServer"]):
    """Servers of runs."""

    def answer_question(self, pk: int, answer: str, person: str) -> bool:
        """Answer what is asked; False if nothing is asked (any more), or it is answered."""
        asked = self.filter(pk=pk, answer="").exclude(question="")
        return bool(asked.update(answer=answer, answered_by=person))

    def tick(self, pk: int, key: str, person: str, note: str) -> bool:
        """Tick what is asked for; False if something else is by now, or it is ticked."""
        asked = self.filter(pk=pk, ticked_by="", errand_key=key).exclude(errand=None)
        return bool(asked.update(ticked_by=person, tick_note=note))


class RunServer(models.Model):
    """One server of a run. ``active`` guards that a server is in one running run only.

    ``ended``, ``reason`` and ``active`` follow from its tape, written with each entry and rebuilt when they differ
    (``runs.derived``); ``state``, ``detail`` and ``percent`` are what is shown while it is under way.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="servers")
    server = models.ForeignKey(Server, on_delete=models.PROTECT, related_name="run_places")
    place = models.PositiveIntegerField()
    group = models.CharField(max_length=200, default="")
    back = models.JSONField(null=True)
    rounds = models.JSONField(default=list)
    stranded = models.JSONField(default=list)
    lane = models.JSONField(default=list)
    wave = models.CharField(max_length=100, default="")
    not_before = models.DateTimeField(null=True)
    """A person's wish (T11): it begins no earlier, or, ``pinned``, was laid out to begin just then."""
    pinned = models.BooleanField(default=False)
    hold = models.BooleanField(default=False)
    """A person lets it begin or go on."""
    ends = models.CharField(max_length=10, default="")
    """What a person has ordered under way that ends it: stop or leave out (``core.orders``)."""
    needs_seconds = models.FloatField(default=0)
    """How long it takes as surely as the sheet asks for, without its waits."""
    waits = models.JSONField(default=list)
    """The gaps of its lane, seconds like those of the lane, each with what it waits for."""
    proven = models.BooleanField(default=True)
    """Whether no route with fewer resets is possible; false where the search was cut short."""
    gap = models.PositiveIntegerField(default=0)
    """By how many outages it may be above the fewest possible, where that is not proven."""
    identities = models.JSONField(default=dict)
    """By payload and slot, what makes it sure that it is for that component, or why it is not."""
    left_out = models.JSONField(default=dict)
    """Slots that were taken out when the sheet was drafted, with their reasons."""
    hands = models.JSONField(default=list)
    """Steps that need a person at the server: slot, version, before or after, what to do (P3)."""
    overrides = models.JSONField(default=dict)
    """Checks that a person has overridden for this server, with the reason and who gave it."""
    stopping = models.CharField(max_length=40, default="")
    """The check that is expected to stop it, where a person may override that."""
    question = models.TextField(default="")
    """What a person is asked while the server waits; follows from its tape."""
    question_kind = models.CharField(max_length=20, default="")
    """Which of the questions there are (``engine.entries.Question``): by it what may be answered."""
    answer = models.CharField(max_length=10, default="")
    answered_by = models.CharField(max_length=150, default="")
    errand = models.JSONField(null=True)
    """What is asked for outside while it waits (``core.errands``), with the hook's name and since when; follows from
    its tape, as ``errand_key`` does, by which an answer is for this very one.
    """
    errand_key = models.CharField(max_length=300, default="")
    ticked_by = models.CharField(max_length=150, default="")
    tick_note = models.CharField(max_length=500, default="")
    active = models.BooleanField(default=False)
    state = models.CharField(max_length=20, default="waiting")
    detail = models.TextField(default="")
    percent = models.PositiveIntegerField(null=True)
    since = models.DateTimeField(null=True)
    ended = models.CharField(max_length=20, default="")
    reason = models.TextField(default="")

    objects = RunServerQuerySet.as_manager()

    class Meta:
        ordering = ["place"]
        constraints = [
            models.UniqueConstraint(fields=["server"], condition=Q(active=True), name="one_run_at_a_time"),
            models.UniqueConstraint(fields=["run", "server"], name="once_in_a_run"),
        ]


class SheetRevision(models.Model):
    """A sheet as it stood after each change while it was a draft: ``body`` is its document (``formats.sheet``)."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    at = models.DateTimeField()
    by = models.CharField(max_length=150)
    what = models.CharField(max_length=300)
    sha256 = models.CharField(max_length=64)
    body = models.JSONField()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["run", "number"], name="one_revision_a_number")]


class SheetApproval(models.Model):
    """A person has approved a revision of a sheet, signed with the site's key (P4)."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="approvals")
    revision = models.ForeignKey(SheetRevision, on_delete=models.CASCADE, related_name="+")
    by = models.CharField(max_length=150)
    at = models.DateTimeField()
    key = models.CharField(max_length=64)
    signature = models.CharField(max_length=128)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["revision", "by"], name="once_a_revision")]


class KeptDuration(models.Model):
    """How long one write or reset really took (N8.3): by it later ones are foretold (F1).

    Follows from the tape of a server that ended; ``run`` None: brought in from elsewhere.
    """

    run = models.ForeignKey(Run, null=True, on_delete=models.CASCADE, related_name="+")
    server = models.CharField(max_length=200)
    seq = models.PositiveIntegerField()
    """The entry with which it was over."""
    at = models.DateTimeField()
    model = models.CharField(max_length=200)
    kind = models.CharField(max_length=30)
    product = models.CharField(max_length=200, default="")
    version = models.CharField(max_length=200, default="")
    seconds = models.FloatField()
    failed = models.BooleanField(default=False)

    class Meta:
        indexes = [models.Index(fields=["model", "kind"])]
        constraints = [models.UniqueConstraint(fields=["run", "server", "seq"], name="kept_once")]


class DriftDay(models.Model):
    """How the servers of a model stood on a day: of how many something was off the baseline, how many were exposed."""

    day = models.DateField()
    model = models.CharField(max_length=200)
    servers = models.PositiveIntegerField()
    off = models.PositiveIntegerField()
    exposed = models.PositiveIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["day", "model"], name="one_day_a_model")]


class CallNote(models.Model):
    """What became of a call for a person (``runs.calls``): told to the house's hook, and seen by somebody."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="+")
    call = models.CharField(max_length=400)
    told_at = models.DateTimeField(null=True)
    seen_by = models.CharField(max_length=150, default="")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "call"], name="one_note_a_call")]


class TapeEntry(models.Model):
    """One entry of a tape. Only ever added; the unique number is what keeps two engines apart."""

    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="entries")
    server = models.CharField(max_length=200)
    seq = models.PositiveIntegerField()
    at = models.DateTimeField()
    version = models.PositiveSmallIntegerField(default=2)
    kind = models.CharField(max_length=30)
    body = models.JSONField()

    class Meta:
        ordering = ["seq"]
        constraints = [models.UniqueConstraint(fields=["run", "server", "seq"], name="one_entry_a_number")]


class AwayLease(models.Model):
    """A server has a place of the site's limits: it is away because of us, or about to be (``night.md`` T5).

    Follows from its tape, written with the entry that takes the place; it goes when the tape gives the place back.
    ``kept``: its run ended while it was away, and no reading has proved it back. ``doubt`` says why the last did not.
    """

    server = models.OneToOneField(Server, on_delete=models.PROTECT, related_name="lease")
    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="leases")
    groups = models.JSONField(default=list)
    rack = models.CharField(max_length=100, null=True)
    room = models.CharField(max_length=100, null=True)
    outage = models.BooleanField()
    ahead = models.BooleanField(default=False)
    """Only what waits for a reset is written, before its turn (T8)."""
    heals = models.BooleanField(default=False)
    """It is back; only its groups count it until they are whole again (A13)."""
    kept = models.BooleanField(default=False)
    since = models.DateTimeField()
    doubt = models.TextField(default="")
