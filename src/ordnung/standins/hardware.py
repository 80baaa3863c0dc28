"""The hardware model of one server: components with banks, a controller, resets, tasks, a log.

Nothing here waits or talks: every call first brings the model up to the present (``advance``) and
then acts. The device enforces what the *package* says (its device data), never a catalog:

- a write is checked on arrival (checksums, descriptors, direct_from, needs, floor, signature);
- it takes time, and what it wrote becomes active by the right reset only;
- one write at a time; a reset during a write leaves the component dead;
- everything done to the device is in ``log``, the witness of the tests.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    Package,
    device_descriptors,
    find_record,
    parse_package,
)
from ordnung.standins import banks, partitions, renewal, resets, staging, virtual_host, waking
from ordnung.standins.faults import Fault
from ordnung.standins.objections import find_objection, find_targets
from ordnung.standins.parts import Account, Part, Task
from ordnung.standins.sessions import SignedIn
from ordnung.standins.surroundings import Surroundings
from ordnung.standins.virtual_host import Host

VERIFY_SECONDS = 6.0
"""How long a device looks at an image before it begins to write."""
STALLED = 47
"""Where a write that stalls stands, in percent."""


_REFUSALS = (
    ("image refused", "VerificationFailed", "the image was refused"),
    ("signature refused", "VerificationFailed", "the signature was refused"),
    ("staging full", "TransferFailed", "no room is left for an image"),
)


@dataclass
class Hardware:
    """One server. ``now`` gives the present in the stand-ins' seconds."""

    name: str
    model: str
    serial: str
    uuid: str
    generations: tuple[tuple[str, str], ...]
    """What its controller can do from which version of its own on, oldest first: (version, generation)."""
    accounts: dict[str, Account]
    """By id; "1" is the one people use."""
    parts: list[Part]
    now: Callable[[], float]
    rack: str = ""
    unit: int = 0
    restart_seconds: float = 90.0
    reboot_seconds: float = 240.0
    late_seconds: float = 0.0
    away_until: float = 0.0
    boot_until: float = 0.0
    controller_reset_at: float = 0.0
    system_reset_at: float = 0.0
    coming: list[tuple[float, str]] = field(default_factory=list)
    tasks: list[Task] = field(default_factory=list)
    faults: list[Fault] = field(default_factory=list)
    quirks: frozenset[str] = frozenset()
    sessions: dict[str, SignedIn] = field(default_factory=dict)
    """By token."""
    patched: dict[str, dict[str, Any]] = field(default_factory=dict)
    """What clients changed, by the resource's path."""
    subscriptions: dict[str, dict[str, Any]] = field(default_factory=dict)
    events: list[dict[str, Any]] = field(default_factory=list)
    media: dict[str, Any] = field(default_factory=dict)
    host: Host | None = None
    """Who plays what runs on a disc that it is started from."""
    starts_disc: bool = False
    """Whether the start under way goes to a disc."""
    starts_option: str | None = None
    """The boot option that its last start was sent to, where it was: what runs from there."""
    runs_disc: bool = False
    """Whether what runs on it was started from a disc."""
    beside: Hardware | None = None
    """Another system behind the same controller, and the other way round."""
    is_second: bool = False
    """Whether the controller that it shares is told with the other one."""
    asset_tag: str = ""
    self_signed: bool = False
    certificate: tuple[str, str, str] | None = None
    """Its HTTPS certificate: PEM, valid from, valid to."""
    certificates: int = 0
    """How often it has made its certificate anew by itself."""
    show_certificate: Callable[[Hardware], None] | None = None
    """Puts another certificate on its listener, where it has one."""
    certificate_days: int = 3650
    same_certificate: bool = False
    """Whether it shows the certificate that its maker puts into every controller."""
    surroundings: Surroundings = field(default_factory=Surroundings)
    task_count: int = 0
    log: list[dict[str, Any]] = field(default_factory=list)

    # Who and what

    @property
    def user(self) -> str:
        """The user name people use."""
        return self.accounts["1"].user

    @property
    def password(self) -> str:
        """Its password."""
        return self.accounts["1"].password

    @password.setter
    def password(self, value: str) -> None:
        self.accounts["1"].password = value

    @property
    def generation(self) -> str:
        """oldest, middle or newest: follows from the version its controller runs."""
        own = next(part for part in self.parts if part.kind == "controller")
        return [name for bound, name in self.generations if not bound or own.at_least(own.version, bound)][-1]

    @property
    def skew(self) -> float:
        """Seconds its clock is ahead."""
        return sum(fault.seconds for fault in self.faults if fault.kind == "clock wrong") + waking.tell_skew(self)

    def has_fault(self, kind: str) -> bool:
        """Whether a fault is set now."""
        return any(fault.kind == kind for fault in self.faults)

    @property
    def seen(self) -> list[Part]:
        """The parts the controller sees now."""
        found = [part for part in waking.listed(self) if not part.gone and not part.hidden]
        return list(filter(self._owns, found)) if self.is_second else found

    def _owns(self, part: Part) -> bool:
        return not (self.is_second and part.kind == "controller")

    # Looking

    def part(self, slot: str) -> Part | None:
        """The part in a slot, or None."""
        return next((part for part in self.parts if part.slot == slot), None)

    def shown_version(self, part: Part) -> str | None:
        """The version the controller tells: behind the true one, or before it; None while it has not asked for it."""
        if not waking.has_read_versions(self, part):
            return None
        if "versions early" in self.quirks and part.waiting is not None:
            return part.waiting
        return part.shown if part.shown is not None and self.now() < part.shown_until else part.version

    @property
    def is_away(self) -> bool:
        """Whether the controller does not answer now."""
        self.advance()
        return self.now() < self.away_until or self.has_fault("silent")

    @property
    def boot_state(self) -> str:
        """The Redfish BootProgress.LastState."""
        left = self.boot_until - self.now()
        if self.boot_until > self.system_reset_at + resets.HANGING:
            return "MemoryInitializationStarted"
        if left <= 0 and "start told to its hardware" in self.quirks:
            return "SystemHardwareInitializationComplete"
        if left <= 0:
            is_elsewhere = self.runs_disc or self.starts_disc or self.starts_option is not None
            return "OSBootStarted" if is_elsewhere or "start half told" in self.quirks else "OSRunning"
        return (
            "SystemHardwareInitializationComplete" if left < self.reboot_seconds / 2 else "MemoryInitializationStarted"
        )

    def running_task(self) -> Task | None:
        """The write under way, if there is one."""
        self.advance()
        return next((task for task in self.tasks if task.state == "Running"), None)

    def note(self, what: str, **facts: Any) -> None:
        """Write into the device's own log."""
        self.log.append({"at": self.now(), "what": what, **facts})

    def take_fault(self, kind: str, slot: str | None = None, on: str | None = None) -> Fault | None:
        """Use up one occurrence of a fault, if it is set for this slot (None: whatever slot) and occasion."""
        for fault in self.faults:
            if fault.kind == kind and (slot is None or fault.slot in (None, slot)) and fault.on in (None, on):
                fault.times -= 1
                if fault.times <= 0:
                    self.faults.remove(fault)
                return fault
        return None

    # Time

    def advance(self) -> None:
        """Bring tasks and resets up to the present."""
        for task in self.tasks:
            if task.state == "Running" and task.phase != "transfer":
                self._advance_task(task)
        while self.coming and self.coming[0][0] <= self.now():
            when, kind = self.coming.pop(0)
            if kind == resets.UP:
                self.log.append({"at": when, "what": "system up"})
                virtual_host.comes_up(self)
            elif kind in resets.RESETS:
                resets.RESETS[kind](self)
            else:
                self._activate(kind)

    def schedule(self, at: float, kind: str) -> None:
        """Something comes to pass by itself at a time: a start ends, a late reset, what a reset makes active."""
        self.coming.append((at, kind))
        self.coming.sort()

    def _advance_task(self, task: Task) -> None:
        gone = self.now() - task.phase_since
        if task.phase == "set up":
            partitions.advance(self, task, gone)
            return
        if task.phase == "verify" and gone >= VERIFY_SECONDS and staging.is_kept(self, task):
            staging.keep(self, task)
        elif task.phase == "verify" and gone >= VERIFY_SECONDS:
            task.phase, task.phase_since = "write", task.phase_since + VERIFY_SECONDS
            task.messages.append(("Update.1.0.InstallingOnComponent", [task.version, ", ".join(task.slots)]))
            self.note("write begun", slots=task.slots, version=task.version, task=task.id)
            gone = self.now() - task.phase_since
        if task.phase != "write":
            return
        percent = min(99, int(100 * max(0.0, gone) / max(task.phase_seconds, 0.001)))
        if task.stalls and percent >= STALLED:
            task.percent = STALLED
            return
        task.percent = percent
        if percent >= 60 and self.take_fault("write fails", task.slots[0]):
            self.fail_task(
                task, "Update.1.0.ApplyFailed", [task.version, ", ".join(task.slots)], "it failed while writing"
            )
            if task.at_reset:
                staging.go_on(self, task)
        elif gone >= task.phase_seconds:
            self._finish_write(task)

    def _finish_write(self, task: Task) -> None:
        task.percent, task.state, task.ended = 100, "Completed", self.now()
        for slot in task.slots:
            part = self.part(slot)
            assert part is not None
            if task.lies:
                continue
            part.waiting, part.waiting_rules, part.waiting_activation = (
                task.version,
                task.rules,
                task.activation,
            )
            if part.spare is not None:
                part.spare = task.version
        self.note("write done", slots=task.slots, version=task.version, task=task.id)
        slots = ", ".join(task.slots)
        end = ("Update.1.0.AwaitToActivate", [task.version, slots])
        if task.activation == "at once" or task.at_reset:
            self._activate(task.activation)
            self._drop_out(task)
            end = ("Update.1.0.UpdateSuccessful", [slots, task.version])
        if self.take_fault("task denies", task.slots[0]):
            task.state, task.status, end = "Exception", "Critical", ("Update.1.0.ApplyFailed", [task.version, slots])
        elif task.activation != "at once" and not task.at_reset and "open until reset" in self.quirks:
            staging.leave_open(self, task)
        task.messages.append(end)
        if task.at_reset:
            staging.go_on(self, task)
        if task.activation == "controller restart" and "restarts itself" in self.quirks:
            resets.restart_by_itself(self)
        elif task.activation == "server reboot" and not task.at_reset and "reboots itself" in self.quirks:
            resets.reboot_by_itself(self)

    def _drop_out(self, task: Task) -> None:
        """What starts with its new image at once is away for a while: a drive from its volume, a supply from its load."""
        for supply in (part for slot in task.slots if (part := self.part(slot)) is not None and part.kind == "power"):
            if (late := self.take_fault("supply starts late", supply.slot)) is not None:
                supply.away_until = self.now() + late.seconds
                self.note("supply away", slots=[supply.slot], until=supply.away_until)
        drives = [slot for slot in task.slots if (part := self.part(slot)) is not None and part.kind == "drive"]
        dropped = self.take_fault("drive drops out", drives[0]) if drives else None
        if dropped is not None:
            self.surroundings.degraded_until = self.now() + dropped.seconds
            self.note("drive dropped out", slots=drives, until=self.surroundings.degraded_until)

    def _activate(self, kind: str) -> None:
        for part in filter(self._owns, self.parts):
            if kind in ("power cycle", "controller restart") and banks.save(part):
                self.note("saved by its second bank", slot=part.slot, version=part.version)
            if (before := banks.start(part, kind)) is not None:
                self.note("activated", slot=part.slot, version=part.version, before=before, by=f"{kind}, other bank")
        for part in self.parts:
            if part.waiting is None or kind not in ("power cycle", part.waiting_activation) or not self._owns(part):
                continue
            old = part.version
            part.version, part.waiting = part.waiting, None
            part.store = part.store and "ready"
            part.in_second ^= part.spare is not None
            part.spare = old if part.spare is not None else None
            floor = part.waiting_rules.get("floor_after")
            if floor and (part.floor is None or part.at_least(floor, part.floor)):
                part.floor = floor
            part.generation = max(part.generation, int(part.waiting_rules.get("brings_generation", 0)))
            self.surroundings.settings.update(part.waiting_rules.get("sets", {}))
            part.waiting_rules, part.waiting_activation = {}, None
            late = self.take_fault("version late", part.slot)
            seconds = late.seconds if late else self.late_seconds if kind != "at once" else 0.0
            if seconds:
                part.shown, part.shown_until = old, max(self.now(), self.away_until) + seconds
            self.note("activated", slot=part.slot, version=part.version, before=old, by=kind)
            if part.kind == "controller":
                renewal.make_anew(self)
        staging.close(self)

    # Acting

    def open_task(self, slots: list[str], payload: dict[str, Any]) -> Task:
        """Take an update request on; the image may still be on its way."""
        self.task_count += 1
        task = Task(id=str(self.task_count), slots=slots, payload=payload, started=self.now())
        task.messages.append(("Update.1.0.TransferringToComponent", ["image", ", ".join(slots)]))
        self.tasks.append(task)
        self.note("update asked", slots=slots, task=task.id)
        return task

    def fail_task(self, task: Task, message: str, args: list[str], why: str) -> None:
        """End a task as failed."""
        task.state, task.status, task.ended = "Exception", "Critical", self.now()
        task.messages.append((message, [*args, why]))
        self.note("refused", slots=task.slots, why=why, task=task.id)

    def receive_image(self, task: Task, raw: bytes) -> None:
        """The image arrived: check it, then begin to write or refuse it."""
        if task.state != "Running":
            return
        if not task.slots:
            task.slots = find_targets(self, raw)
        where = ", ".join(task.slots)
        for kind, message, reason in _REFUSALS:
            if self.take_fault(kind, task.slots[0] if task.slots else None):
                self.fail_task(task, f"Update.1.0.{message}", ["image", where], reason)
                return
        mood = self._mood(task.slots)
        if mood:
            self.fail_task(task, "Update.1.0.VerificationFailed", ["image", where], mood)
            return
        try:
            package = parse_package(raw, "image")
        except FormatError as error:
            self.fail_task(task, "Update.1.0.VerificationFailed", ["image", where], str(error))
            return
        for slot in task.slots:
            why = find_objection(self, slot, package)
            if why is not None:
                self.fail_task(task, "Update.1.0.VerificationFailed", [package.version, where], why)
                return
        if not task.slots:
            self.fail_task(task, "Update.1.0.NoTargetsDetermined", ["image"], "nothing here takes it")
            return
        self._begin_write(task, package)

    def _mood(self, slots: Sequence[str]) -> str:
        """Why it takes no image just now for reasons of its own, which a practised person knows how to meet."""
        if self.has_fault("wants a restart"):
            return "the update service is not ready"
        others = [part.slot for part in self.parts if part.waiting is not None and part.slot not in slots]
        if others and self.has_fault("refuses company"):
            return f"not while {others[0]} waits"
        return ""

    def _begin_write(self, task: Task, package: Package) -> None:
        part = self.part(task.slots[0])
        assert part is not None
        record = find_record(package, device_descriptors(part.software_id, part.pci))
        assert record is not None
        image = package.images[record.images[0]]
        task.version, task.rules = image.version, record.rules()
        task.activation = (image.activations() or ("power cycle",))[0]
        if part.kind == "power" and "supplies at once" in self.quirks:
            task.activation = "at once"
        task.phase, task.phase_since, task.phase_seconds = "verify", self.now(), part.write_seconds
        task.stalls = self.take_fault("task stalls", part.slot) is not None
        task.lies = self.take_fault("task lies", part.slot) is not None
        if self.runs_disc and self.take_fault("media lost"):
            virtual_host.loses_disc(self)
        task.messages.append(("Update.1.0.VerifyingAtComponent", [task.version, ", ".join(task.slots)]))


def moment(seconds: float) -> str:
    """A time of the stand-ins' clock as Redfish spells it."""
    return datetime.datetime.fromtimestamp(seconds, datetime.UTC).isoformat(timespec="milliseconds")


def writes_of(log: Sequence[dict[str, Any]]) -> list[tuple[str, str]]:
    """(slot, version) of every write that a log says was begun, in order."""
    return [(slot, entry["version"]) for entry in log if entry["what"] == "write begun" for slot in entry["slots"]]
