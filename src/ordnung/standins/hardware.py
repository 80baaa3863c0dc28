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
import secrets
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from ordnung.core.versions import is_at_least, is_below
from ordnung.formats.errors import FormatError
from ordnung.formats.pldm import (
    DeviceRecord,
    Package,
    device_descriptors,
    find_record,
    parse_package,
    tell_mismatch,
)

VERIFY_SECONDS = 6.0
"""How long a device looks at an image before it begins to write."""


@dataclass
class Part:
    """One component as the hardware knows it."""

    slot: str
    kind: str
    name: str
    software_id: str
    version: str
    scheme: str = "dotted"
    listed: tuple[str, ...] = ()
    pci: str | None = None
    number: str = ""
    spare: str | None = None
    waiting: str | None = None
    waiting_activation: str | None = None
    waiting_rules: dict[str, Any] = field(default_factory=dict)
    floor: str | None = None
    generation: int = 1
    write_seconds: float = 60.0
    updateable: bool = True
    dead: bool = False
    shown: str | None = None
    shown_until: float = 0.0

    def at_least(self, version: str, bound: str) -> bool:
        return is_at_least(self.scheme, version, bound, self.listed)

    def below(self, version: str, bound: str) -> bool:
        return is_below(self.scheme, version, bound, self.listed)


@dataclass
class Task:
    """An update under way or ended; ``state`` is a Redfish TaskState."""

    id: str
    slots: list[str]
    payload: dict[str, Any]
    started: float
    state: str = "Running"
    status: str = "OK"
    phase: str = "transfer"
    phase_since: float = 0.0
    phase_seconds: float = 0.0
    percent: int = 0
    ended: float | None = None
    messages: list[tuple[str, list[str]]] = field(default_factory=list)
    version: str = ""
    activation: str = ""
    rules: dict[str, Any] = field(default_factory=dict)


@dataclass
class Fault:
    """One fault set on this device: what, on which slot if it matters, how often, how long."""

    kind: str
    slot: str | None = None
    times: int = 1
    seconds: float = 0.0
    on: str | None = None


FAULT_KINDS = ("answer lost", "version late", "image refused", "silent")


@dataclass
class Hardware:
    """One server. ``now`` gives the present in the stand-ins' seconds."""

    name: str
    model: str
    serial: str
    uuid: str
    generation: str
    user: str
    password: str
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
    sessions: dict[str, str] = field(default_factory=dict)
    log: list[dict[str, Any]] = field(default_factory=list)

    # Looking

    def part(self, slot: str) -> Part | None:
        """The part in a slot, or None."""
        return next((part for part in self.parts if part.slot == slot), None)

    def shown_version(self, part: Part) -> str:
        """The version the controller tells, which may lag behind the true one."""
        return part.shown if part.shown is not None and self.now() < part.shown_until else part.version

    @property
    def is_away(self) -> bool:
        """Whether the controller does not answer now."""
        self.advance()
        return self.now() < self.away_until or any(f.kind == "silent" for f in self.faults)

    @property
    def boot_state(self) -> str:
        """The Redfish BootProgress.LastState."""
        left = self.boot_until - self.now()
        if left <= 0:
            return "OSRunning"
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
        """Use up one occurrence of a fault, if it is set for this slot and occasion."""
        for fault in self.faults:
            if fault.kind == kind and fault.slot in (None, slot) and fault.on in (None, on):
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
            _, kind = self.coming.pop(0)
            self._activate(kind)

    def _advance_task(self, task: Task) -> None:
        gone = self.now() - task.phase_since
        if task.phase == "verify" and gone >= VERIFY_SECONDS:
            task.phase, task.phase_since = "write", task.phase_since + VERIFY_SECONDS
            task.messages.append(("Update.1.0.InstallingOnComponent", [task.version, ", ".join(task.slots)]))
            self.note("write begun", slots=task.slots, version=task.version, task=task.id)
            gone = self.now() - task.phase_since
        if task.phase == "write":
            task.percent = min(99, int(100 * gone / max(task.phase_seconds, 0.001)))
            if gone >= task.phase_seconds:
                self._finish_write(task)

    def _finish_write(self, task: Task) -> None:
        task.percent, task.state, task.ended = 100, "Completed", self.now()
        for slot in task.slots:
            part = self.part(slot)
            assert part is not None
            part.waiting, part.waiting_rules, part.waiting_activation = (
                task.version,
                task.rules,
                task.activation,
            )
            if part.spare is not None:
                part.spare = task.version
        self.note("write done", slots=task.slots, version=task.version, task=task.id)
        if task.activation == "at once":
            self._activate("at once")
            task.messages.append(("Update.1.0.UpdateSuccessful", [", ".join(task.slots), task.version]))
        else:
            task.messages.append(("Update.1.0.AwaitToActivate", [task.version, ", ".join(task.slots)]))

    def _activate(self, kind: str) -> None:
        for part in self.parts:
            if part.waiting is None or kind not in ("power cycle", part.waiting_activation):
                continue
            old = part.version
            part.version, part.waiting = part.waiting, None
            part.spare = old if part.spare is not None else None
            floor = part.waiting_rules.get("floor_after")
            if floor and (part.floor is None or part.at_least(floor, part.floor)):
                part.floor = floor
            part.generation = max(part.generation, int(part.waiting_rules.get("brings_generation", 0)))
            part.waiting_rules, part.waiting_activation = {}, None
            late = self.take_fault("version late", part.slot)
            seconds = late.seconds if late else self.late_seconds if kind != "at once" else 0.0
            if seconds:
                part.shown, part.shown_until = old, max(self.now(), self.away_until) + seconds
            self.note("activated", slot=part.slot, version=part.version, before=old, by=kind)

    # Acting

    def open_task(self, slots: list[str], payload: dict[str, Any]) -> Task:
        """Take an update request on; the image may still be on its way."""
        task = Task(id=str(len(self.tasks) + 1), slots=slots, payload=payload, started=self.now())
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
        where = ", ".join(task.slots)
        if self.take_fault("image refused", task.slots[0] if task.slots else None):
            self.fail_task(task, "Update.1.0.VerificationFailed", ["image", where], "the image was refused")
            return
        try:
            package = parse_package(raw, "image")
        except FormatError as error:
            self.fail_task(task, "Update.1.0.VerificationFailed", ["image", where], str(error))
            return
        for slot in task.slots:
            why = self._objection(slot, package)
            if why is not None:
                self.fail_task(task, "Update.1.0.VerificationFailed", [package.version, where], why)
                return
        self._begin_write(task, package)

    def _begin_write(self, task: Task, package: Package) -> None:
        part = self.part(task.slots[0])
        assert part is not None
        record = find_record(package, device_descriptors(part.software_id, part.pci))
        assert record is not None
        image = package.images[record.images[0]]
        task.version, task.rules = image.version, record.rules()
        task.activation = (image.activations() or ("power cycle",))[0]
        task.phase, task.phase_since, task.phase_seconds = "verify", self.now(), part.write_seconds
        task.messages.append(("Update.1.0.VerifyingAtComponent", [task.version, ", ".join(task.slots)]))

    def _objection(self, slot: str, package: Package) -> str | None:
        """Why this device won't take a package for a slot, by the package's own rules."""
        part = self.part(slot)
        if part is None or part.dead or not part.updateable:
            return f"{slot} can't be updated"
        own = device_descriptors(part.software_id, part.pci)
        record = find_record(package, own)
        if record is None:
            return tell_mismatch(package, own)
        return self._rule_objection(part, record, package.images[record.images[0]].version)

    def _rule_objection(self, part: Part, record: DeviceRecord, version: str) -> str | None:
        rules = record.rules()
        if rules.get("software_id", part.software_id) != part.software_id:
            return f"the image is for {rules['software_id']}, this is {part.software_id}"
        if part.waiting is not None:
            return f"{part.slot} has {part.waiting} waiting for a reset"
        if int(rules.get("signature_generation", 1)) > part.generation:
            return f"{part.slot} can't check a signature of generation {rules['signature_generation']}"
        direct = rules.get("direct_from")
        if direct and not part.at_least(part.version, direct):
            return f"{part.slot} is at {part.version}; {version} can be written from {direct} on"
        if part.floor and part.below(version, part.floor):
            return f"{part.slot} takes nothing below {part.floor}"
        for need in rules.get("needs", ()):
            for other in self.parts:
                if other.software_id == need["software_id"] and not other.at_least(other.version, need["at_least"]):
                    return f"{version} needs {other.name} {need['at_least']}, it has {other.version}"
        return None

    def restart_controller(self) -> None:
        """Manager.Reset: the controller is away for a time, sessions are gone."""
        self._cut_writes("controller restart")
        self.away_until = self.controller_reset_at = self.now() + self.restart_seconds
        self.sessions.clear()
        self.note("reset", kind="controller restart")
        self._schedule(self.away_until - 1, "controller restart")

    def reboot(self) -> None:
        """ComputerSystem.Reset: new BIOS and cards come up with the next start."""
        self._cut_writes("server reboot")
        self.boot_until, self.system_reset_at = self.now() + self.reboot_seconds, self.now()
        self.note("reset", kind="server reboot")
        self._schedule(self.now() + self.reboot_seconds * 0.6, "server reboot")

    def power_cycle(self) -> None:
        """Chassis.Reset PowerCycle: everything goes dark, the controller too."""
        self._cut_writes("power cycle")
        self.away_until = self.controller_reset_at = self.now() + self.restart_seconds
        self.boot_until, self.system_reset_at = self.away_until + self.reboot_seconds, self.now()
        self.sessions.clear()
        self.note("reset", kind="power cycle")
        self._schedule(self.away_until - 1, "power cycle")

    def _schedule(self, at: float, kind: str) -> None:
        self.coming.append((at, kind))
        self.coming.sort()

    def _cut_writes(self, by: str) -> None:
        task = self.running_task()
        if task is None:
            return
        task.state, task.status, task.ended = "Exception", "Critical", self.now()
        if task.phase == "write":
            for slot in task.slots:
                part = self.part(slot)
                assert part is not None
                part.dead = True
            self.note("killed a write", slots=task.slots, by=by)

    # Sessions

    def sign_in(self, user: str, password: str) -> tuple[str, str] | None:
        """A new session as (id, token), or None when the credentials are wrong."""
        if not self.check_password(user, password):
            self.note("sign-in refused", user=user)
            return None
        number, token = secrets.token_hex(4), secrets.token_urlsafe(24)
        self.sessions[token] = number
        return number, token

    def check_password(self, user: str, password: str) -> bool:
        """Whether the credentials are right."""
        return secrets.compare_digest(f"{user}\0{password}", f"{self.user}\0{self.password}")

    # Keeping

    def dump(self) -> dict[str, Any]:
        """The state that outlives the process, as JSON."""
        return {
            "parts": [asdict(part) for part in self.parts],
            "tasks": [asdict(task) for task in self.tasks],
            "log": self.log,
            "password": self.password,
            "coming": self.coming,
            "away_until": self.away_until,
            "boot_until": self.boot_until,
            "controller_reset_at": self.controller_reset_at,
            "system_reset_at": self.system_reset_at,
        }

    def load(self, state: dict[str, Any]) -> None:
        """Take a kept state on again."""
        self.parts = [Part(**{**part, "listed": tuple(part["listed"])}) for part in state["parts"]]
        self.tasks = [
            Task(**{**task, "messages": [(m, list(a)) for m, a in task["messages"]]}) for task in state["tasks"]
        ]
        self.log, self.password = state["log"], state["password"]
        self.coming = [(at, kind) for at, kind in state["coming"]]
        self.away_until, self.boot_until = state["away_until"], state["boot_until"]
        self.controller_reset_at, self.system_reset_at = (
            state["controller_reset_at"],
            state["system_reset_at"],
        )
        for task in self.tasks:
            if task.state == "Running" and task.phase == "transfer":
                self.fail_task(task, "Update.1.0.TransferFailed", ["image", ", ".join(task.slots)], "cut off")


def moment(seconds: float) -> str:
    """A time of the stand-ins' clock as Redfish spells it."""
    return datetime.datetime.fromtimestamp(seconds, datetime.UTC).isoformat(timespec="milliseconds")


def writes_of(log: Sequence[dict[str, Any]]) -> list[tuple[str, str]]:
    """(slot, version) of every write that a log says was begun, in order."""
    return [(slot, entry["version"]) for entry in log if entry["what"] == "write begun" for slot in entry["slots"]]
