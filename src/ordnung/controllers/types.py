"""Values the client gives: what a controller can do, tasks, and by what one start is told from the next."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from enum import StrEnum

from ordnung.core.facts import AT_REST, FIRMWARE_DONE, PASSING


@dataclass(frozen=True, slots=True, kw_only=True)
class Word:
    """What was left with a controller for whoever else signs in."""

    text: str
    is_idle: bool
    """Nothing that whoever left it has asked for is under way, for certain."""


AT_RESET = "OnReset"
"""The apply time (DSP0266, "Operation apply time") of an image that the device keeps and writes with a reset."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Reach:
    """How a controller can be fed. ``pulls`` lists protocols in upper case; None where it fetches and does not tell
    over what. ``pull_times`` and ``push_times`` are the apply times that may be asked for; None: none may.
    ``targets`` are the resources that an update may name as what is to be written; None where that is not told, empty
    where a pull may name none.
    """

    push_uri: str | None
    pull_target: str | None
    pulls: tuple[str, ...] | None
    max_image_bytes: int | None = None
    raw_push_uri: str | None = None
    """The older push: the image alone."""
    pull_times: tuple[str, ...] | None = None
    push_times: tuple[str, ...] | None = None
    targets: tuple[str, ...] | None = None

    def way(self, served: Collection[str] = ("HTTPS",), spent: Collection[str] = ()) -> str | None:
        """How Ordnung brings a payload; None if there is no way.

        Pull over HTTPS comes first, where it can name what is meant: a whole rack fetches at its own pace. A push
        goes over verified TLS too and comes before a pull over plain HTTP, and before one over what nobody told; the
        push of an image alone is the last resort.

        Args:
            served: the protocols over which payloads can be fetched here.
            spent: ways that were tried and did not work.
        """
        return next((way for way in self._ways(served) if way not in spent), None)

    def _ways(self, served: Collection[str]) -> Iterator[str]:
        told = self.pulls or ()
        pulls = [protocol for protocol in ("HTTPS", "HTTP") if protocol in told and protocol in served]
        if self.pull_target is None:
            pulls = []
        names_at_push = self.push_uri is not None and self.targets == ()
        if names_at_push:
            yield "push"
        if "HTTPS" in pulls:
            yield "pull over HTTPS"
        if self.push_uri and not names_at_push:
            yield "push"
        if "HTTP" in pulls:
            yield "pull over HTTP"
        if self.pulls is None and self.pull_target is not None and "HTTPS" in served:
            yield "pull over HTTPS"
        if self.raw_push_uri and not self.push_uri:
            yield "push"

    def with_reset(self) -> Reach:
        """The same, asked for nothing but to write with the reset, where that may be asked for."""
        pull = (AT_RESET,) if AT_RESET in (self.pull_times or ()) else self.pull_times
        push = (AT_RESET,) if AT_RESET in (self.push_times or ()) else self.push_times
        return dataclasses.replace(self, pull_times=pull, push_times=push)

    def apply_time(self, way: str) -> str | None:
        """The apply time to ask for: at once, else with the reset; None asks for none.

        Raises:
            ValueError: it offers nothing but times at which Ordnung lets nothing be written; says which.
        """
        times = self.pull_times if way.startswith("pull") else self.push_times
        if times is None:
            return None
        for time in ("Immediate", AT_RESET):
            if time in times:
                return time
        raise ValueError(", ".join(times) or "none")


@dataclass(frozen=True, slots=True, kw_only=True)
class Aim:
    """What an update names as what is to be written: ``target``, empty where nothing can be named."""

    target: str
    is_sure: bool
    """Whether nothing else can be written by it; else the controller decides by the image."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Accepted:
    """A controller took a request on. It may have named a task, its monitor, both or neither; ``finished``: it
    answered that the work is done already.
    """

    task: str | None = None
    monitor: str | None = None
    finished: bool = False
    message: str = ""


class Outcome(StrEnum):
    """What a task says of its work. Silence is never success (DSP0266, "Asynchronous operations")."""

    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    STAGED = "staged"
    """It waits for the reset, and says so: what is left of it is done with that."""
    UNTOLD = "untold"
    """It has ended or vanished, or does not say in words we know: what the device holds decides."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TaskView:
    """A task as the controller shows it. ``phase`` is staging or writing; ``state`` its own word for it."""

    uri: str
    outcome: Outcome
    state: str = ""
    name: str = ""
    percent: int | None = None
    phase: str = "staging"
    targets: tuple[str, ...] = ()
    message: str = ""
    transfer_failed: bool = False
    """The image never arrived whole: nothing was written, and it may be sent again."""
    job: str | None = None
    """The job that it says it has turned into: how that ends is how it ends."""
    is_update: bool = False
    """Whether it says itself that it is one of the update service's."""

    @property
    def is_running(self) -> bool:
        """Whether the device may still be at it, or will be."""
        return self.outcome in (Outcome.RUNNING, Outcome.STAGED)

    @property
    def has_not_begun(self) -> bool:
        """Whether it has been taken on and nothing of it is being done (TaskState, Task schema)."""
        return self.state in ("New", "Pending")


@dataclass(frozen=True, slots=True, kw_only=True)
class Marker:
    """Tells one start of a server and of its controller from the next, by whatever the controller tells of it.

    ``system`` and ``controller`` are their LastResetTime, ``boot`` and ``boot_at`` the BootProgress and its time,
    ``power`` the PowerState, ``uptime_s`` the seconds the controller's service has been up. Each may be untold.
    """

    system: str | None = None
    controller: str | None = None
    boot: str | None = None
    boot_at: str | None = None
    power: str | None = None
    uptime_s: int | None = None

    @property
    def is_starting(self) -> bool:
        """Whether it is certain that the server is being switched, or its firmware at work on a start."""
        return self.power in PASSING or (self.power in (None, "On") and self.boot not in AT_REST)

    def is_up(self, before: Marker | None = None) -> bool:
        """Whether the server's own system runs, as far as its controller tells (one that doesn't is taken as up).

        Args:
            before: how it stood before a reset. ``OSRunning`` has to be told by the system itself, and many don't: a
                start that was told no further than to the end of its firmware then is told no further now.
        """
        is_half_told = before is not None and before.boot == self.boot and self.boot in FIRMWARE_DONE
        return self.power in (None, "On") and (self.boot in (None, "None", "OSRunning") or is_half_told)
