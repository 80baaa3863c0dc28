"""Nights made by chance, and the replay that looks at a timetable without knowing how it came about."""

from __future__ import annotations

from collections import defaultdict

from hypothesis import strategies as st

from ordnung.core.away import AwayPlace
from ordnung.core.catalog import Payload, Release
from ordnung.core.night.itinerary import Duty
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window, join_windows
from ordnung.core.route import Round, Route, Write

OUTAGES = {"server reboot", "power cycle"}
RESETS = OUTAGES | {"controller restart"}


def a_duty(name, *rounds, group=None, rack=None, room=None, model="m"):
    """A server whose rounds are (write seconds..., reset); a write may be a release instead of seconds."""
    built, releases = [], {}
    for number, (*writes, reset) in enumerate(rounds):
        done = []
        for place, what in enumerate(writes):
            slot, version = f"s{place}", str(number + 1)
            release = what if isinstance(what, Release) else Release(
                version=version, write_seconds=what, activation=reset or "at once", reset_seconds=100.0,
                payload=Payload(path="x", size=1000, sha256="0" * 64),
            )  # fmt: skip
            releases[slot, version] = release
            done.append(Write(slot=slot, product="p", source="0", to=version, seconds=release.write_seconds))
        active = tuple((w.slot, w.to) for w in done)
        built.append(Round(writes=tuple(done), reset=reset, activates=active))
    groups = (group,) if isinstance(group, str) else tuple(group or ())
    place = AwayPlace(server=name, groups=groups, rack=rack, room=room)
    return Duty(place=place, route=Route(rounds=tuple(built)), model=model, releases=releases)


rounds = st.tuples(
    st.lists(st.sampled_from([5.0, 30.0, 95.0]), max_size=2),
    st.sampled_from(["server reboot", "power cycle", "controller restart", None]),
).filter(lambda r: r[0] or r[1])
seconds = st.sampled_from([0.0, 0.0, 25.0, 60.0])


@st.composite
def nights(draw, most=6, windows=True):
    """(duties, limits), with everything that can be limited."""
    number = draw(st.integers(1, most))
    duties = [
        a_duty(
            f"srv-{n}", *((*w, r) for w, r in draw(st.lists(rounds, min_size=1, max_size=3))),
            group=draw(st.sampled_from([None, "a", "b", ("a", "b")])), rack=draw(st.sampled_from([None, "K1", "K2"])),
            room=draw(st.sampled_from([None, "Kelp"])),
        )
        for n in range(number)
    ]  # fmt: skip
    names = [d.server for d in duties]
    chosen = draw(st.lists(st.sampled_from(names), unique=True))
    half = len(chosen) // 2
    wave = st.builds(dict, wait_seconds=seconds, gate=st.sampled_from(["none", "none", "person"]))
    waves = draw(st.sampled_from([0, 0, 2, 3]))
    found = [
        Wave(name="one", servers=tuple(chosen[:half]), **draw(wave)),
        Wave(name="two", servers=tuple(chosen[half:]), **draw(wave)),
        Wave(name="rest", **draw(wave)),
    ][:waves]
    begin = draw(st.integers(-100, 300))
    spans = [Window(begin, begin + draw(st.integers(1, 1200))), Window(1500, 1500 + draw(st.integers(1, 900)))]
    limits = NightLimits(
        at_once=draw(st.integers(1, 4)), transfers=draw(st.integers(1, 3)), bytes_per_second=draw(st.sampled_from([None, 40])),
        groups=tuple(
            GroupLimit(
                name=name, may_be_away=draw(st.sampled_from([0, 1, 1, 2, None])), heal_seconds=draw(seconds),
                off_seconds=draw(seconds), back_seconds=draw(seconds), between=draw(st.booleans()),
            )
            for name in draw(st.sampled_from([(), ("a",), ("a", "b")]))
        ),
        racks=draw(st.sampled_from([{}, {"K1": 1}, {"K1": 2, "K2": 1}])), rooms=draw(st.sampled_from([{}, {"Kelp": 2}])),
        waves=tuple(found), windows=tuple(spans[: draw(st.integers(1, 2))]) if windows and draw(st.booleans()) else None,
        ahead=draw(st.sampled_from(["nothing", "writing"])),
        occupied=tuple(
            AwayPlace(server=draw(st.sampled_from(["elsewhere", names[0]])), groups=("a",), rack="K1", kept=True)
            for _ in range(draw(st.sampled_from([0, 0, 1])))
        ),
    )  # fmt: skip
    return duties, limits


def replay(timetable, duties, limits):
    """Every limit is kept and nothing is lost; asserts."""
    by_name = {d.server: d for d in duties}
    placed, left = {s.server: s for s in timetable.seats}, {o.server: o for o in timetable.left}
    assert not placed.keys() & left.keys()
    assert placed.keys() | left.keys() == {d.server for d in duties if d.route.rounds}
    usage = defaultdict(list)
    for seat in timetable.seats:
        _look_at_one(seat, by_name[seat.server], limits, usage)
    for key, (allowed, spans) in _limits(usage, limits).items():
        assert _most(spans) <= allowed, (key, allowed, spans)
    _look_at_waves(timetable, limits)
    assert timetable.bound <= timetable.makespan


def _look_at_one(seat, duty, limits, usage):
    starts, steps = seat.placed.starts, seat.placed.itinerary.steps
    ends = [a + s.seconds for a, s in zip(starts, steps, strict=True)]
    ahead = seat.placed.itinerary.ahead
    told = [(s.slot, s.to) for s in steps if s.kind == "writing"]
    assert told == [(w.slot, w.to) for w in duty.route.writes]
    assert [s.kind for s in steps if s.kind in RESETS] == [r.reset for r in duty.route.rounds if r.reset]
    for n in range(1, len(steps)):
        gap = starts[n] - ends[n - 1]
        assert gap >= 0
        if gap:
            assert steps[n].kind == "staging" or n <= ahead
    groups = [limits.group(name) for name in duty.place.groups]
    between = bool(groups) and all(g.between for g in groups)
    aways = _aways(starts, ends, steps, between)
    assert list(seat.placed.aways) == aways
    main = list(zip(starts, ends, strict=True))[ahead:]
    for number, (a, b) in enumerate(main):
        nxt = main[number + 1][0] if number + 1 < len(main) else b
        in_outage = any(x <= b < y for x, y in aways)
        usage["at once"].append((a, nxt if in_outage or nxt == b else b))
    for (a, b), step in zip(zip(starts, ends, strict=True), steps, strict=True):
        if step.kind == "staging":
            usage["link"].append((a, b))
    for a, b in list(zip(starts, ends, strict=True))[:ahead]:
        usage["at once"].append((a, b))
    if limits.windows is not None:
        windows = join_windows(limits.windows)
        assert any(w.start <= main[0][0] and main[-1][1] <= w.end for w in windows)
    if any(p.server == seat.server for p in limits.occupied):
        return
    for group in duty.place.groups:
        heal = limits.group(group).heal_seconds
        usage["group", group] += _union([(a, b + heal) for a, b in aways])
    usage["rack", duty.place.rack] += aways
    usage["room", duty.place.room] += aways


def _aways(starts, ends, steps, between):
    """When it is away, by T4 and A2, from the steps alone."""
    found, gone = [], None
    for n, step in enumerate(steps):
        if gone is None and (step.kind == "moving off" or step.kind in OUTAGES):
            gone = starts[n]
        closes = step.kind == "checking" and (n + 1 == len(steps) or steps[n + 1].kind != "taking back")
        if gone is not None and (step.kind == "taking back" or closes) and (between or n == len(steps) - 1):
            found.append((gone, ends[n]))
            gone = None
    return found


def _union(spans):
    joined = []
    for a, b in spans:
        if joined and a <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(b, joined[-1][1]))
        else:
            joined.append((a, b))
    return joined


def _limits(usage, limits):
    always = [(float("-inf"), float("inf"))]
    found = {"at once": (limits.at_once, usage["at once"]), "link": (limits.transfers, usage["link"])}
    asked = {("group", g.name): g.may_be_away for g in limits.groups if g.may_be_away is not None}
    asked |= {("rack", k): n for k, n in limits.racks.items()} | {("room", k): n for k, n in limits.rooms.items()}
    for (kind, name), allowed in asked.items():
        held = {p.server for p in limits.occupied if name in p.names(kind)}
        spans = usage[kind, name]
        if spans:
            found[kind, name] = (allowed, spans + always * len(held))
    return found


def _most(spans):
    events = sorted(
        [(a, 1) for a, b in spans if a < b] + [(b, -1) for a, b in spans if a < b], key=lambda e: (e[0], e[1])
    )
    most = now = 0
    for _, change in events:
        now += change
        most = max(most, now)
    return most


def _look_at_waves(timetable, limits):
    ends, barred = 0.0, None
    for wave in limits.waves:
        inside = [s for s in timetable.seats if s.wave == wave.name]
        for seat in inside:
            assert barred is None and seat.placed.begins >= ends
        named = {o.server for o in timetable.left if wave.servers is None or o.server in wave.servers}
        members = named & set(wave.servers) if wave.servers is not None else set()
        if inside or members:
            ends = max([ends, *(s.placed.end for s in inside)]) + wave.wait_seconds
        if members and wave.holds and barred is None:
            barred = min(members)
