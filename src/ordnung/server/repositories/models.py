"""Repositories, what is packed in them, where it comes from, what was written out and carried in."""

from __future__ import annotations

import uuid
from collections.abc import Collection
from typing import Any

from django.db import models


def new_series() -> str:
    """The name of a new series of editions."""
    return uuid.uuid4().hex


class RepositoryQuerySet(models.QuerySet["Repository"]):
    """Repositories, and how one becomes another."""

    def sealed(self) -> RepositoryQuerySet:
        """Those that are whole and sealed."""
        return self.filter(state=Repository.State.SEALED)

    def sealed_here(self) -> RepositoryQuerySet:
        """Those that this site sealed itself."""
        return self.sealed().filter(carried_from="")

    def fail(self, pk: int, message: str) -> None:
        """Its packing ended without all it needs."""
        self.filter(pk=pk).update(state=Repository.State.INCOMPLETE, message=message)

    def await_signatures(self, pk: int) -> None:
        """It is drafted; others have to sign before it is sealed."""
        self.filter(pk=pk).update(state=Repository.State.SIGNING)

    def seal(self, pk: int, **seal: Any) -> None:
        """It is sealed: until when, by which keys, over which packing list."""
        self.filter(pk=pk).update(state=Repository.State.SEALED, message="", **seal)

    def take_over(self, pk: int, waiting: Collection[str], **values: Any) -> None:
        """It was carried in: whole, or waiting for what lies on other media."""
        state = Repository.State.WAITING if waiting else Repository.State.SEALED
        self.filter(pk=pk).update(state=state, waiting=sorted(waiting), **values)


class Repository(models.Model):
    """An offline repository for chosen servers: one edition of a series.

    ``waiting`` lists targets on media that were not brought yet; ``left_out`` what trims took out.
    """

    class State(models.TextChoices):
        PACKING = "packing"
        SIGNING = "signing"
        SEALED = "sealed"
        WAITING = "waiting"
        INCOMPLETE = "incomplete"

    name = models.CharField(max_length=200)
    series = models.CharField(max_length=32, default=new_series)
    edition = models.PositiveIntegerField(default=1)
    state = models.CharField(max_length=12, choices=State.choices, default=State.PACKING)
    servers = models.JSONField(default=list)
    trims = models.JSONField(default=list)
    left_out = models.JSONField(default=list)
    capacity = models.PositiveBigIntegerField(null=True)
    boots = models.BooleanField(default=False)
    """Whether the boot system lies in it: a disc image of it boots by itself."""
    media = models.PositiveIntegerField(default=1)
    made_at = models.DateTimeField()
    made_by = models.CharField(max_length=150, default="")
    expires = models.DateTimeField(null=True)
    root_key = models.CharField(max_length=2000, default="")
    root_version = models.PositiveIntegerField(default=1)
    packing_sum = models.CharField(max_length=64, default="")
    message = models.TextField(default="")
    revision = models.PositiveIntegerField(default=1)
    carried_from = models.CharField(max_length=500, default="")
    carried_at = models.DateTimeField(null=True)
    waiting = models.JSONField(default=list)
    rules = models.JSONField(null=True)
    follows = models.JSONField(default=list)
    checked_at = models.DateTimeField(null=True)
    checked = models.TextField(default="")
    check_failed = models.BooleanField(default=False)

    objects = RepositoryQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["series", "edition"], name="one_edition_once")]

    @property
    def owner(self) -> str:
        """How the content store knows it."""
        return f"repository-{self.pk}"


class LineQuerySet(models.QuerySet["Line"]):
    """Payloads of packing lists."""

    def packed(self) -> LineQuerySet:
        """Those that are in the store, identified."""
        return self.filter(state="packed")


class Line(models.Model):
    """One payload of a packing list, why it is there and how far it is."""

    repository = models.ForeignKey(Repository, on_delete=models.CASCADE, related_name="lines")
    product = models.CharField(max_length=200)
    name = models.CharField(max_length=200)
    kind = models.CharField(max_length=20)
    version = models.CharField(max_length=200)
    size = models.PositiveBigIntegerField(default=0)
    sha256 = models.CharField(max_length=64, default="", db_index=True)
    reasons = models.JSONField(default=list)
    servers = models.JSONField(default=list)
    state = models.CharField(max_length=10, default="waiting")
    bytes = models.PositiveBigIntegerField(default=0)
    unsigned = models.BooleanField(default=False)
    """Whether the catalog issue that names it is unsigned: its checksum is then nobody's word."""
    signer = models.CharField(max_length=200, default="")
    """The trusted key that signed the payload itself."""
    generation = models.PositiveIntegerField(null=True)
    form = models.CharField(max_length=10, default="pldm")
    medium = models.PositiveIntegerField(default=1)
    message = models.TextField(default="")

    objects = LineQuerySet.as_manager()


class WrittenOutQuerySet(models.QuerySet["WrittenOut"]):
    """What was written out, and how it ends."""

    def finish(self, pk: int, **values: Any) -> None:
        """It lies there: so many files and bytes, with this checksum."""
        self.filter(pk=pk).update(state=WrittenOut.State.DONE, **values)

    def fail(self, pk: int, message: str) -> None:
        """It could not be written; what lies there is of no use."""
        self.filter(pk=pk).update(state=WrittenOut.State.FAILED, message=message)


class WrittenOut(models.Model):
    """A repository written out: as what, where, and what came of it."""

    class State(models.TextChoices):
        WRITING = "writing"
        DONE = "done"
        FAILED = "failed"

    repository = models.ForeignKey(Repository, on_delete=models.CASCADE, related_name="written")
    shape = models.CharField(max_length=10)
    medium = models.PositiveIntegerField(default=0)
    """Which of several media; 0 when all is in one."""
    since = models.PositiveIntegerField(null=True)
    """The edition that is at the far end already: only what it lacks is written."""
    place = models.CharField(max_length=1000)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WRITING)
    files = models.PositiveIntegerField(default=0)
    size = models.PositiveBigIntegerField(default=0)
    sha256 = models.CharField(max_length=64, default="")
    message = models.TextField(default="")
    asked_at = models.DateTimeField()
    asked_by = models.CharField(max_length=150)

    objects = WrittenOutQuerySet.as_manager()


class TrustedRoot(models.Model):
    """A root whose repositories are accepted here; ``root`` is renewed by what it signed itself."""

    name = models.CharField(max_length=200)
    keys = models.CharField(max_length=2000, unique=True)
    """The ids of the first root's keys, by which people compared it."""
    root = models.BinaryField()
    version = models.PositiveIntegerField()
    makers = models.JSONField(default=list)
    """The makers it vouches for: those whose catalogs were in what it was trusted with."""
    added_at = models.DateTimeField()
    added_by = models.CharField(max_length=150)


class Upload(models.Model):
    """A file on its way here from a browser, in pieces; killed or cut off, it is gone on with."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    name = models.CharField(max_length=300)
    size = models.PositiveBigIntegerField()
    person = models.CharField(max_length=150)
    begun_at = models.DateTimeField()


class ArrivalQuerySet(models.QuerySet["Arrival"]):
    """What was carried in, and how it ends."""

    def checking(self) -> ArrivalQuerySet:
        """Those that are just being carried in."""
        return self.filter(state=Arrival.State.CHECKING)

    def refuse(self, pk: int, code: str, message: str) -> None:
        """It was refused; nothing of it was taken."""
        self.filter(pk=pk).update(state=Arrival.State.REFUSED, code=code, message=message)

    def finish(self, pk: int, *, waits: bool, **values: Any) -> None:
        """It was taken, whole or but for what lies on other media."""
        self.filter(pk=pk).update(state=Arrival.State.WAITING if waits else Arrival.State.DONE, **values)


class Arrival(models.Model):
    """Something carried in: from where, by whom, and what came of it. Refusals are kept."""

    class State(models.TextChoices):
        CHECKING = "checking"
        DONE = "done"
        WAITING = "waiting"
        REFUSED = "refused"

    place = models.CharField(max_length=1000)
    name = models.CharField(max_length=300)
    state = models.CharField(max_length=10, choices=State.choices, default=State.CHECKING)
    code = models.CharField(max_length=30, default="")
    message = models.TextField(default="")
    root_key = models.CharField(max_length=2000, default="")
    """The keys that sealed it, to be compared when they are not trusted yet."""
    trust = models.CharField(max_length=2000, default="")
    """The keys that a person compared and trusts from now on."""
    expired_reason = models.CharField(max_length=500, default="")
    """Why a person takes it although its seal has expired."""
    repository = models.ForeignKey(Repository, on_delete=models.SET_NULL, null=True, related_name="arrivals")
    new_files = models.PositiveIntegerField(default=0)
    new_bytes = models.PositiveBigIntegerField(default=0)
    known_files = models.PositiveIntegerField(default=0)
    asked_at = models.DateTimeField()
    asked_by = models.CharField(max_length=150)

    objects = ArrivalQuerySet.as_manager()


class FetchPlace(models.Model):
    """Where payloads can be had beside a catalog's own base; one that lied is put aside until trusted again."""

    base = models.CharField(max_length=500, unique=True)
    proxy = models.CharField(max_length=500, default="")
    added_at = models.DateTimeField()
    added_by = models.CharField(max_length=150)
    answered_at = models.DateTimeField(null=True)
    aside = models.TextField(default="")
    aside_at = models.DateTimeField(null=True)


class FetchLimit(models.Model):
    """How much of the line fetching may take, in bytes a second; 0 is no limit. There is one row."""

    bytes_per_s = models.PositiveBigIntegerField(default=0)


class PayloadFetch(models.Model):
    """A controller fetched a payload from here."""

    run = models.PositiveBigIntegerField()
    server = models.CharField(max_length=200)
    sha256 = models.CharField(max_length=64, db_index=True)
    protocol = models.CharField(max_length=5)
    address = models.CharField(max_length=60)
    start = models.PositiveBigIntegerField(default=0)
    bytes = models.PositiveBigIntegerField()
    whole = models.BooleanField()
    at = models.DateTimeField()


class SeriesSeen(models.Model):
    """The newest edition of a series that was ever here: what is older is refused, also when that was deleted."""

    series = models.CharField(max_length=32, primary_key=True)
    edition = models.PositiveIntegerField()
    packing_sum = models.CharField(max_length=64)


def see_edition(series: str, edition: int, packing_sum: str) -> None:
    """Remember an edition if none of its series that is as new was seen."""
    seen, is_new = SeriesSeen.objects.get_or_create(
        series=series, defaults={"edition": edition, "packing_sum": packing_sum}
    )
    if not is_new and seen.edition < edition:
        seen.edition, seen.packing_sum = edition, packing_sum
        seen.save()
