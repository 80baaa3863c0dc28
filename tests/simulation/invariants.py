"""What must hold after any night, by the tapes and by the devices' own logs (``architecture.md``)."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence

from ordnung.core.assessment import assess_fleet
from ordnung.core.away import AwayLimits
from ordnung.core.components import take_by_image
from ordnung.core.drift import Verdict
from ordnung.core.errands import ErrandKind, Moves
from ordnung.core.rules import FIXED_RULES
from ordnung.engine import entries as e
from ordnung.engine.tape import fold
from ordnung.engine.tape_state import TapeState
from ordnung.engine.telling import tell_reason
from ordnung.standins.hardware import Hardware, writes_of
from ordnung.standins.redfish.enclosure import is_enclosed
from tests.simulation.lines import controller_of
from tests.simulation.world import House

SYSTEM = "/redfish/v1/Systems/1"

OUTAGES = ("server reboot", "power cycle")
BY_FAULT = (
    "does not follow the one that is installed",
    "the image was refused", "the signature was refused", "no room is left for an image", "it failed while writing",
    "the line broke while fetching", "the update service is not ready", "not while",
)  # fmt: skip
"""What a device may say when it refuses: only what a fault made it say, never its own rules: those mean a wrong plan."""


DENIED = (e.Reason.TASK_FAILED, e.Reason.TASK_DENIED)


def _failed(values: Sequence[e.TapeEntry]) -> list[e.WriteFailed]:
    return [value for value in values if isinstance(value, e.WriteFailed)]


async def check_server(house: House, number: str, device: Hardware) -> None:
    """The invariants of ``architecture.md`` for one server, by its tape and by the device's own log."""
    tape = house.journal.tapes[number, device.name]
    state = fold(tape)
    values = [entry.value for entry in tape]
    assert state.ended is not None and tell_reason(state.ended.reason, state.ended.facts), device.name
    what = [entry["what"] for entry in device.log]
    opens = house.windows[0][0].timestamp() if house.windows else 0.0
    assert not [e for e in device.log if e["what"] == "reset" and e["at"] < opens], "a reset before the window"
    assert "killed a write" not in what and "button pushed" not in what, device.name
    assert not any(part.dead for part in device.parts), f"{device.name}: a dead component"
    others = [entry for entry in device.log if entry["what"] == "other start" and entry["target"] != "Cd"]
    assert not others, f"{device.name}: a reboot started what somebody had chosen"
    check_out_of_disc(device, state)
    assert "set-up cut off" not in what, f"{device.name}: a reset while a partition was set up"
    set_up = [entry for entry in device.log if entry["what"] == "set-up begun"]
    assert all(entry["was"] != "ready" for entry in set_up), f"{device.name}: a whole partition was set up"
    kit = _of_kit(house, device)
    _check_writes(device, values, kit)
    _check_surprises(device, [*values, *kit])
    # Of what a kit on a disc has written, and what is told to run before it does, nothing outside knows better.
    _check_told(device, state, is_by_kit=bool(kit) and "versions early" in device.quirks)
    _check_resets(device, [*values, *kit])
    _check_neighbours(device)
    check_redundancy(device)
    # A kit whose server is rebooted under it starts anew, and can't know what it had written before.
    is_unknown = kit and "rebooted itself" in what
    # Nor can anybody where a device denies what it has written, and its inventory shows nothing of it.
    is_unknown = is_unknown or ("waiting untold" in device.quirks and any(v.reason in DENIED for v in _failed(values)))
    known = (*BY_FAULT, "waiting for a reset") if is_unknown else BY_FAULT
    for entry in device.log:
        assert entry["what"] != "refused" or any(told in entry["why"] for told in known), entry
    if state.ended.ending is e.Ending.LEVEL:
        await _check_level(house, device, state)
    still_heals = any(errand.kind is ErrandKind.HEALED for errand, _ in state.given_up)
    left_away = state.is_away or state.is_moved_off or still_heals
    assert (state.place is not None) == left_away and (state.place is None or state.place.kept), device.name


BEGUN, OVER = ("write begun", "set-up begun"), ("write done", "refused", "set up", "set-up failed")


SURPRISE = re.compile(r"([^ ;]+) changed from \S+ to \S+ though it was not touched")


def _check_surprises(device: Hardware, values: Sequence[e.TapeEntry]) -> None:
    """Nothing is called a surprise that this very run has written."""
    written = {slot for slot, _ in writes_of(device.log)}
    for ended in (v for v in values if isinstance(v, e.Ended) and v.reason is e.Reason.CHANGED):
        wrong = written & set(SURPRISE.findall(ended.facts["found"]))
        assert not wrong, f"{device.name}: {sorted(wrong)} called a surprise"


SENT = ("update asked", "reset", "set-up begun", "media inserted")


def _check_told(device: Hardware, state: TapeState, *, is_by_kit: bool) -> None:
    """What a person is told at the end is so, by the device."""
    assert state.ended is not None
    reason, facts = state.ended.reason, state.ended.facts
    told = tell_reason(reason, facts).lower()
    if re.search("nothing was sent(?! to it)", told) and reason is not e.Reason.KIT_SAID:
        sent = [entry["what"] for entry in device.log if entry["what"] in SENT]
        assert not sent, f"{device.name}: {told}, but {sent}"
    if not is_by_kit:
        _check_waiting(device, state)
    if reason is e.Reason.TASK_FAILED and (part := device.part(facts["slot"])) is not None and part.kind != "store":
        is_hidden = "waiting untold" in device.quirks  # a device may deny what it has written, and show nothing of it
        waits = not is_hidden and part.waiting == facts["to"]
        shown = {part.version.strip(), (part.shown or "").strip()}  # it may have shown late what it had denied
        assert facts["source"] in shown and not waits, f"{device.name}: {told}"
    if reason is e.Reason.PUT_BACK and state.before is not None:
        known = {one.slot: one.version for one in state.before.components}
        for part in (part for part in device.parts if part.slot in state.touched and part.kind != "store"):
            assert part.version == known[part.slot] and part.waiting is None, f"{device.name}: {part.slot} is not back"


def _check_waiting(device: Hardware, state: TapeState) -> None:
    """What it was written and is not active yet is told at the end, whether or not its controller shows it."""
    assert state.ended is not None
    told = " ".join(state.ended.facts.get(name, "") for name in ("waits", "what", "how", "staged"))
    mine = {(slot, version) for slot, version in writes_of(device.log)} & state.said_written
    for part in (part for part in device.parts if (part.slot, part.waiting) in mine):
        assert f"{part.slot} {part.waiting}" in told, f"{device.name}: {part.slot} waits, untold"


def _check_writes(device: Hardware, values: Sequence[e.TapeEntry], kit: Sequence[e.TapeEntry]) -> None:
    begun = [entry["what"] for entry in device.log if entry["what"] in (*BEGUN, *OVER)]
    for one, two in itertools.pairwise(begun):
        assert one not in BEGUN or two not in BEGUN, f"{device.name}: two writes at once"
    writes = writes_of(device.log)
    # One more for each remedy, after the device has said that the one before was not written.
    tried = [v.slot for v in (*values, *kit) if isinstance(v, e.Troubled)]
    # A kit on a disc has no journal over a reset: what was said to be written and is not shown it writes once more.
    more = max(0, sum(isinstance(v, e.PlaceTaken) for v in kit) - 1)
    for slot, version in set(writes):
        assert writes.count((slot, version)) <= 1 + more + tried.count(slot), f"{device.name}: written twice {writes}"
    kinds = [v.remedy for v in values if isinstance(v, e.Remedied)]
    assert len(kinds) == len(set(kinds)), f"{device.name}: {kinds}"
    sent = [v.planned.write for v in (*values, *kit) if isinstance(v, e.WriteIntent)]
    kept = [write for v in values if isinstance(v, e.LeftBefore) for write in v.writes]  # by an earlier run's word
    intended = {(write.slot, write.to) for write in (*sent, *kept)}
    ordered = {(p.write.slot, p.write.to) for v in values if isinstance(v, e.Plan) for s in v.rounds for p in s.writes}
    assert not kit or set(writes) <= ordered, f"{device.name}: written by the kit, never ordered"
    assert set(writes) <= intended, f"{device.name}: written, never intended"


def _check_resets(device: Hardware, values: Sequence[e.TapeEntry]) -> None:
    asked = [str(v.kind) for v in values if isinstance(v, e.ResetIntent)]
    unsent = sum(isinstance(v, e.ResetUnsent) for v in values)
    done = [entry["kind"] for entry in device.log if entry["what"] == "reset"]
    itself = sum(entry["what"] in ("rebooted itself", "restarted itself") for entry in device.log)
    assert len(done) <= len(asked) - unsent, f"{device.name}: {done} done, {asked} asked, {unsent} of them not sent"
    back = sum(isinstance(v, e.Back) for v in values)
    assert back <= len(done) + itself, f"{device.name}: back {back} times after {len(done)} resets"


def check_redundancy(device: Hardware) -> None:
    """No drive is written while one is gone from its volume, and no supply while another carries nothing."""
    kinds = [("drive", "drive dropped out"), ("power", "supply away")]
    for kind, what in kinds[:1] if "no optional" in device.quirks else kinds:  # of its supplies that one tells nothing
        slots = {part.slot for part in device.parts if part.kind == kind}
        away = [(entry["at"], entry["until"]) for entry in device.log if entry["what"] == what]
        begun = [entry["at"] for entry in device.log if entry["what"] == "write begun" and slots & set(entry["slots"])]
        assert not [at for at in begun if any(since < at < until for since, until in away)], f"{device.name}: {kind}"


AROUND = ("enclosure cycled", "enclosure manager restarted")
"""What is done to all servers in an enclosure, by a device's own log."""


def _check_neighbours(device: Hardware) -> None:
    """What belongs to all in an enclosure is neither reset nor written."""
    assert not [entry["what"] for entry in device.log if entry["what"] in AROUND], f"{device.name}: its neighbours too"
    shared = {part.slot for part in device.parts if part.kind == "power"} if is_enclosed(device) else set()
    assert not shared & {slot for slot, _ in writes_of(device.log)}, f"{device.name}: what is shared was written"


async def _check_level(house: House, device: Hardware, state: TapeState) -> None:
    device.faults = [fault for fault in device.faults if fault.kind == "version untold"]
    reading = await controller_of(device).read(house.clock.now)
    is_by_image = state.latest is not None and any(part.by_image for part in state.latest.components)
    if state.no_targets_at is not None or is_by_image:  # as the site knows it; a licence may have come back since
        reading = take_by_image(reading)
    (standing,) = assess_fleet([reading], house.catalogs, FIXED_RULES, house.clock.now().date())
    left = {drift.verdict for drift in standing.drift}
    fine = {Verdict.LEVEL, Verdict.HELD, Verdict.AHEAD, Verdict.UNLISTED, Verdict.STRANDED}
    fine |= {Verdict.UNREAD} if device.faults else set()
    assert left <= fine, f"{device.name} is called level: {left - fine}"


def check_home(house: House, number: str, device: Hardware) -> None:
    """The work is back where it was, or the server is marked and keeps its place."""
    state = house.journal.states[number, device.name]
    if house.desk.where.get(device.name, "here") != "here":
        assert state.is_moved_off and state.place is not None and state.place.kept, f"{device.name}: work elsewhere"


def check_desk(house: House, device: Hardware, moves: Moves) -> None:
    """No outage while its work was there, by the desk's own log and the device's."""
    if not moves.off:
        return
    ordered = [entry for entry in house.desk.log if entry["server"] == device.name and entry["what"] != "refused"]
    for reset in (entry for entry in device.log if entry["what"] == "reset" and entry["kind"] in OUTAGES):
        before = [entry for entry in ordered if entry["at"] <= reset["at"]]
        last = next((x for x in reversed(before) if x["order"] != "group.healed"), None)
        assert last is not None and (last["what"], last["order"]) == ("done", "work.move-off"), (device.name, last)


def check_limits(devices: Sequence[Hardware], groups: dict[str, str], limits: AwayLimits) -> None:
    """Never more away than a group allows at any moment, by the devices' own logs."""
    moments: list[tuple[float, int, str, str]] = []
    for device in devices:
        device.advance()
        away = False
        for entry in device.log:
            if entry["what"] == "reset" and entry["kind"] in OUTAGES and not away:
                moments.append((entry["at"], 1, groups[device.name], device.name))
                away = True
            elif entry["what"] == "system up" and away:
                moments.append((entry["at"], 0, groups[device.name], device.name))
                away = False
    now: dict[str, set[str]] = {}
    for _, begins, group, name in sorted(moments):
        members = now.setdefault(group, set())
        (members.add if begins else members.discard)(name)
        allowed = limits.groups.get(group)
        assert allowed is None or len(members) <= allowed, f"{sorted(members)} of {group} are away together"


def _of_kit(house: House, device: Hardware) -> list[e.TapeEntry]:
    """What the field kit has put on its own tapes, where a night went by disc."""
    return house.kits.values(device.name) if house.by_disc else []


def check_out_of_disc(device: Hardware, state: TapeState) -> None:
    """Its own system runs, and no start goes to a disc of ours, unless it is told that it may."""
    if state.in_disc:
        assert state.ended is not None and "disc" in state.ended.facts, f"{device.name}: a disc is left in, untold"
        return
    boot = device.patched.get(SYSTEM, {}).get("Boot", {})
    assert not device.media and not device.runs_disc, f"{device.name}: a disc is left in"
    assert boot.get("BootSourceOverrideTarget", "None") != "Cd", f"{device.name}: its starts go to a disc"


def check_nobody_reset(house: House) -> None:
    """No run that leaves its reboots takes a system out of service."""
    for tape in house.journal.tapes.values():
        resets = [entry.value.kind for entry in tape if isinstance(entry.value, e.ResetIntent)]
        assert set(resets) <= {e.ResetKind.CONTROLLER_RESTART}, resets
