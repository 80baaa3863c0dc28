"""Values the client gives: what a controller can do, tasks, reset markers."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Reach:
    """How a controller can be fed. ``pulls`` lists protocols in upper case."""

    push_uri: str | None
    pull_target: str | None
    pulls: tuple[str, ...]
    max_image_bytes: int | None = None
    raw_push_uri: str | None = None
    """The older push: the image alone, for the controller itself."""

    def way(self, served: Collection[str] = ("HTTPS",)) -> str | None:
        """How Ordnung brings a payload; None if there is no way.

        Pull over HTTPS comes first: a whole rack fetches at its own pace. A push goes over verified TLS too
        and comes before a pull over plain HTTP; the push of a controller's own image is the last resort.

        Args:
            served: the protocols over which payloads can be fetched here.
        """
        pulls = [protocol for protocol in ("HTTPS", "HTTP") if protocol in self.pulls and protocol in served]
        if self.pull_target is None:
            pulls = []
        if "HTTPS" in pulls:
            return "pull over HTTPS"
        if self.push_uri:
            return "push"
        if "HTTP" in pulls:
            return "pull over HTTP"
        return "push" if self.raw_push_uri else None


@dataclass(frozen=True, slots=True, kw_only=True)
class TaskView:
    """An update task as the controller shows it. ``phase`` is staging, writing or ended."""

    uri: str
    state: str
    percent: int | None
    phase: str
    targets: tuple[str, ...]
    message: str
    transfer_failed: bool = False
    """The image never arrived whole: nothing was written, and it may be sent again."""

    @property
    def is_running(self) -> bool:
        """Whether the device is still at it."""
        return self.state in (
            "New",
            "Starting",
            "Running",
            "Suspended",
            "Pending",
            "Stopping",
            "Cancelling",
            "Service",
        )

    @property
    def is_done(self) -> bool:
        """Whether it ended well."""
        return self.state == "Completed"


@dataclass(frozen=True, slots=True, kw_only=True)
class Marker:
    """Tells one start of a server and of its controller from the next."""

    system: str | None
    controller: str | None
    boot: str | None

    @property
    def is_up(self) -> bool:
        """Whether the server's own system runs (a controller that doesn't tell is taken as up)."""
        return self.boot in (None, "OSRunning")
