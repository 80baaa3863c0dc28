"""Values the client gives: what a controller can do, tasks, reset markers."""

from __future__ import annotations

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

    def way(self, serves: bool = True) -> str | None:
        """How Ordnung brings a payload: pull over HTTPS if it serves payloads, else push; None if neither."""
        if serves and self.pull_target and "HTTPS" in self.pulls:
            return "pull"
        return "push" if self.push_uri or self.raw_push_uri else None


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
