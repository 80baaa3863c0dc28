"""The timetable against an independent replay, against exhaustive search, and rule by rule (T1 to T12, A1 to A37)."""

from __future__ import annotations

import dataclasses
import itertools
import random

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from ordnung.core.away import AwayPlace
from ordnung.core.catalog import Payload, Release
from ordnung.core.night.bound import find_bound
from ordnung.core.night.itinerary import plan_itinerary
from ordnung.core.night.limits import GroupLimit, NightLimits, Wave, Window
from ordnung.core.night.placing import Board, find_place
from ordnung.core.night.profile import Profile
from ordnung.core.night.timetable import plan_timetable
from tests.core.night.nights import a_duty, nights, replay

REBOOT, RESTART, CYCLE = "server reboot", "controller restart", "power cycle"


def steps_of(duty, **limits):
    return [(s.kind, s.seconds) for s in plan_itinerary(duty, NightLimits(**limits)).steps]


def starts_of(timetable):
    return {seat.server: seat.placed.starts for seat in timetable.seats}


@pytest.mark.exhaustive
@given(nights())
@settings(max_examples=250, deadline=None)
def test_a_replay_finds_every_limit_kept(night):
    duties, limits = night
    replay(plan_timetable(duties, limits, tries=6), duties, limits)


@given(nights(), st.randoms(use_true_random=False))
@settings(max_examples=40, deadline=None)
def test_shuffled_input_has_the_same_answer(night, dice):
    duties, limits = night
    shuffled = list(duties)
    dice.shuffle(shuffled)
    assert starts_of(plan_timetable(shuffled, limits, tries=4)) == starts_of(plan_timetable(duties, limits, tries=4))


@pytest.mark.exhaustive
@given(nights(most=5))
@settings(max_examples=150, deadline=None)
def test_nobody_is_left_over_who_could_be_added(night):
    duties, limits = night
    limits = dataclasses.replace(limits, waves=())
    timetable = plan_timetable(duties, limits, tries=3)
    itineraries = {d.server: plan_itinerary(d, limits) for d in duties}
    board = Board(limits, list(itineraries.values()))
    for seat in timetable.seats:
        board.take(seat.placed)
    for left in timetable.left:
        itinerary = itineraries[left.server]
        if itinerary.aways and board.used_up(itinerary.place):
            continue
        for window in limits.windows:
            assert find_place(itinerary, board, max(0.0, window.start), window.end) is None


small = st.lists(
    st.tuples(
        st.lists(st.sampled_from([20.0, 40.0]), min_size=1, max_size=2), st.sampled_from([REBOOT, REBOOT, RESTART]),
        st.sampled_from([None, "a"]), st.sampled_from([None, "K1"]),
    ),
    min_size=2, max_size=3,
)  # fmt: skip


@given(small, st.integers(1, 2), st.sampled_from([0.0, 20.0]), st.integers(1, 2))
@settings(max_examples=60, deadline=None)
def test_the_bound_is_never_above_the_optimum(servers, at_once, heal, transfers):
    assume(sum(len(writes) for writes, *_ in servers) <= 3)
    duties = [a_duty(f"s{n}", (*w, r), group=g, rack=k) for n, (w, r, g, k) in enumerate(servers)]
    limits = NightLimits(
        at_once=at_once,
        transfers=transfers,
        bytes_per_second=50 * transfers,
        groups=(GroupLimit(name="a", may_be_away=1, heal_seconds=heal),),
        racks={"K1": 1},
    )
    timetable = plan_timetable(duties, limits)
    itineraries = [plan_itinerary(d, limits) for d in duties]
    assert not _fits(itineraries, limits, timetable.bound - 0.001)


def _fits(itineraries, limits, horizon):
    """Whether all can be done by then: every start of every stretch tried, on a raster of twenty seconds."""
    stretches = [(i, n) for i in itineraries for n in range(len(i.stretches))]
    usage = {key: [] for key in ("at once", "link", "group", "rack")}

    def free(key, span, allowed):
        inside = [s for s in usage[key] if s[0] < span[1] and span[0] < s[1]]
        points = [span[0], *(a for a, _ in inside if a >= span[0])]
        return all(sum(a <= p < b for a, b in inside) < allowed for p in points)

    def go(place, before):
        if place == len(stretches):
            return True
        itinerary, number = stretches[place]
        stretch = itinerary.stretches[number]
        at = before if number else 0.0
        while at + sum(s.seconds for s in itinerary.stretches[number:]) <= horizon:
            spans = [
                ("at once", (at, at + stretch.seconds), limits.at_once),
                ("link", (at, at + stretch.staging), limits.transfers),
            ]
            if stretch.opens is not None:
                away = (at + stretch.opens, at + stretch.seconds)
                if itinerary.place.groups:
                    spans.append(("group", (away[0], away[1] + limits.groups[0].heal_seconds), 1))
                if itinerary.place.rack:
                    spans.append(("rack", away, 1))
            if all(free(*span) for span in spans):
                for key, span, _ in spans:
                    usage[key].append(span)
                if go(place + 1, at + stretch.seconds):
                    return True
                for key, span, _ in spans:
                    usage[key].remove(span)
            at += 20.0
        return False

    return go(0, 0.0)


def test_every_round_ends_with_a_check_and_unknown_times_are_assumed():
    unknown = Release(version="1")
    duty = a_duty("s", (unknown, None), (RESTART,), (30.0, REBOOT))
    itinerary = plan_itinerary(duty, NightLimits())
    assert [(s.kind, s.seconds, s.assumed) for s in itinerary.steps] == [
        ("staging", 15.0, True), ("writing", 120.0, True), ("checking", 20.0, False),
        (RESTART, 120.0, True), ("checking", 20.0, False),
        ("staging", 15.0, True), ("writing", 30.0, False), (REBOOT, 100.0, False), ("checking", 20.0, False),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("size", "transfers", "rate", "seconds"),
    [
        (1000, 4, 1000, 5.0),
        (12_500_001, 4, 12_500_000, 5.0),
        (25_000_000, 4, 12_500_000, 8.0),
        (25_000_001, 4, 12_500_000, 9.0),
    ],
)
def test_staging_takes_the_shared_link(size, transfers, rate, seconds):
    release = Release(version="1", write_seconds=1.0, payload=Payload(path="x", size=size, sha256=""))
    assert steps_of(a_duty("s", (release, None)), transfers=transfers, bytes_per_second=rate)[0] == ("staging", seconds)


def test_a_reset_takes_the_longest_of_all_it_makes_active_and_an_unknown_one_counts_as_usual():
    quick, unknown = (
        Release(version="1", write_seconds=1.0, reset_seconds=10.0),
        Release(version="1", write_seconds=1.0),
    )
    assert steps_of(a_duty("s", (quick, REBOOT)))[2] == (REBOOT, 10.0)
    assert steps_of(a_duty("s", (quick, unknown, REBOOT)))[4] == (REBOOT, 300.0)
    assert steps_of(a_duty("s", (quick, unknown, RESTART)))[4] == (RESTART, 120.0)


PAIR = GroupLimit(name="pair", may_be_away=1, off_seconds=60.0, back_seconds=30.0)


def test_moving_off_stands_right_before_the_first_outage_and_taking_back_at_the_end():
    duty = a_duty("s", (5.0, RESTART), (5.0, REBOOT), (5.0, REBOOT), group="pair")
    kinds = [kind for kind, _ in steps_of(duty, groups=(PAIR,))]
    assert kinds == [
        "staging", "writing", RESTART, "checking", "staging", "writing", "moving off", REBOOT, "checking",
        "staging", "writing", REBOOT, "checking", "taking back",
    ]  # fmt: skip


def test_a_group_may_come_back_between_rounds():
    both = (dataclasses.replace(PAIR, between=True), GroupLimit(name="big", off_seconds=90.0, between=True))
    duty = a_duty("s", (5.0, REBOOT), (5.0, REBOOT), group=("pair", "big"))
    itinerary = plan_itinerary(duty, NightLimits(groups=both))
    assert len(itinerary.aways) == 2
    assert [s.seconds for s in itinerary.steps if s.kind == "moving off"] == [90.0, 90.0]
    one = (both[0], dataclasses.replace(both[1], between=False))
    assert len(plan_itinerary(duty, NightLimits(groups=one)).aways) == 1


def test_a_server_that_is_never_away_is_not_moved_off():
    duty = a_duty("s", (5.0, RESTART), group="pair")
    assert "moving off" not in [kind for kind, _ in steps_of(duty, groups=(PAIR,))]


def test_a_pair_goes_one_after_the_other_and_prepares_meanwhile():
    duties = [a_duty(n, (600.0, REBOOT), group="pair") for n in ("g1", "g2")]
    limits = NightLimits(groups=(GroupLimit(name="pair", may_be_away=1),))
    first, second = plan_timetable(duties, limits).seats
    assert second.placed.aways[0][0] == first.placed.aways[0][1]
    assert second.placed.begins < first.placed.end


def test_a_ring_heals_before_the_next_goes():
    duties = [a_duty(n, (5.0, REBOOT), group="ring") for n in ("v1", "v2")]
    first, second = plan_timetable(
        duties, NightLimits(groups=(GroupLimit(name="ring", may_be_away=1, heal_seconds=500.0),))
    ).seats
    assert second.placed.aways[0][0] == first.placed.aways[0][1] + 500.0


def test_own_healing_keeps_nobody_from_going_away_again():
    ring = GroupLimit(name="ring", may_be_away=1, heal_seconds=500.0, between=True)
    (seat,) = plan_timetable(
        [a_duty("v", (5.0, REBOOT), (5.0, REBOOT), group="ring")], NightLimits(groups=(ring,))
    ).seats
    assert seat.placed.end == seat.placed.itinerary.seconds


def test_waves_wait_and_what_is_ahead_does_not():
    duties = [a_duty(n, (200.0, REBOOT)) for n in ("a", "b")]
    waves = (Wave(name="canary", servers=("a",), wait_seconds=1000.0), Wave(name="rest"))
    first, second = plan_timetable(duties, NightLimits(waves=waves)).seats
    assert (first.wave, second.wave) == ("canary", "rest")
    assert second.placed.begins == first.placed.end + 1000.0 and second.placed.starts[0] == second.placed.begins
    _, second = plan_timetable(duties, NightLimits(waves=waves, ahead="writing")).seats
    assert second.placed.starts[0] == 0.0 and second.placed.begins == first.placed.end + 1000.0
    assert second.placed.itinerary.steps[second.placed.itinerary.ahead].kind == REBOOT


@pytest.mark.parametrize("facts", [{"activation": "at once"}, {"alone": True}])
def test_what_is_active_at_once_or_alone_is_never_ahead(facts):
    release = Release(version="1", write_seconds=10.0, **facts)
    assert plan_itinerary(a_duty("s", (release, 30.0, REBOOT)), NightLimits(ahead="writing")).ahead == 0


def test_what_does_not_fit_is_left_over_whole_with_its_reason():
    duties = [a_duty("long", (3000.0, REBOOT)), a_duty("short", (60.0, REBOOT))]
    timetable = plan_timetable(duties, NightLimits(windows=(Window(0.0, 1860.0),)))
    assert [(o.server, o.reason) for o in timetable.left] == [("long", "needs 53 min, 31 are left")]
    assert [s.server for s in timetable.seats] == ["short"]


def test_a_window_that_is_taken_up_by_others_is_said():
    duties = [a_duty(n, (600.0, REBOOT)) for n in ("a", "b")]
    timetable = plan_timetable(duties, NightLimits(at_once=1, windows=(Window(0.0, 1200.0),)))
    assert [o.reason for o in timetable.left] == ["needs 13 min, 7 are left"]


def test_windows_that_touch_are_one_and_one_that_is_over_is_none():
    duty = a_duty("s", (600.0, REBOOT))
    touching = NightLimits(windows=(Window(500.0, 900.0), Window(-100.0, 500.0)))
    assert plan_timetable([duty], touching).seats[0].placed.begins == 0.0
    over = plan_timetable([duty], NightLimits(windows=(Window(-900.0, 0.0),)))
    assert over.left[0].reason == "needs 13 min, no window is left"


def test_who_waits_for_a_wave_that_was_not_whole_is_left_over_too():
    duties = [a_duty("a", (3000.0, REBOOT)), a_duty("b", (60.0, REBOOT))]
    waves = (Wave(name="one", servers=("a",), gate="person"), Wave(name="two"))
    held = plan_timetable(duties, NightLimits(waves=waves, windows=(Window(0.0, 900.0),)))
    assert {o.server: o.reason for o in held.left}["b"] == "waits for a"
    free = (dataclasses.replace(waves[0], gate="none"), waves[1])
    assert [s.server for s in plan_timetable(duties, NightLimits(waves=free, windows=(Window(0.0, 900.0),))).seats] == [
        "b"
    ]


def test_a_wave_with_nothing_to_do_is_passed_over_and_who_is_in_none_is_left_over():
    waves = (Wave(name="level", servers=("idle",), wait_seconds=900.0), Wave(name="one", servers=("a",)))
    timetable = plan_timetable(
        [a_duty("idle"), a_duty("a", (5.0, None)), a_duty("b", (5.0, None))], NightLimits(waves=waves)
    )
    assert timetable.seats[0].placed.begins == 0.0
    assert [(o.server, o.reason) for o in timetable.left] == [("b", "in no wave")]


def test_a_limit_that_is_used_up_leaves_over_whom_it_concerns_and_nobody_else():
    duties = [a_duty("g2", (5.0, REBOOT), group="pair"), a_duty("g3", (5.0, RESTART), group="pair")]
    gone = AwayPlace(server="g1", groups=("pair",), kept=True)
    limits = NightLimits(groups=(GroupLimit(name="pair", may_be_away=1),), occupied=(gone,))
    timetable = plan_timetable(duties, limits)
    assert [(o.server, o.reason) for o in timetable.left] == [("g2", "group pair allows 1 away: g1 is left away")]
    own = plan_timetable([a_duty("g1", (5.0, REBOOT), group="pair")], limits)
    assert [s.server for s in own.seats] == ["g1"]


def test_nothing_to_do_is_a_timetable_of_nothing():
    timetable = plan_timetable([a_duty("level")], NightLimits())
    assert (timetable.seats, timetable.left, timetable.makespan, timetable.bound, timetable.ratio) == (
        (),
        (),
        0.0,
        0.0,
        1.0,
    )


@pytest.mark.exhaustive
def test_fifty_nights_come_near_to_their_bound():
    dice, ratios = random.Random(7), []
    for _ in range(50):
        duties = [
            a_duty(
                f"s{n:02}",
                *((*[float(dice.randrange(30, 600, 10)) for _ in range(dice.randint(1, 3))], dice.choice([REBOOT, RESTART])) for _ in range(dice.randint(1, 3))),
                group=dice.choice([None, "ring", f"pair {n // 2}"]),
            )
            for n in range(24)
        ]  # fmt: skip
        pairs = [GroupLimit(name=f"pair {n}", may_be_away=1) for n in range(12)]
        groups = (*pairs, GroupLimit(name="ring", may_be_away=2, heal_seconds=60.0))
        ratios.append(plan_timetable(duties, NightLimits(groups=groups), tries=20).ratio)
    assert sorted(ratios)[25] <= 1.05 and max(ratios) <= 1.15


def test_the_order_of_waves_bears_many_servers():
    duties = [a_duty(f"s{n}", (float(30 + n), REBOOT), group="a") for n in range(12)]
    waves = tuple(
        Wave(name=str(w), servers=tuple(f"s{n}" for n in range(4 * w, 4 * w + 4)), wait_seconds=60.0) for w in range(3)
    )
    limits = NightLimits(groups=(GroupLimit(name="a", may_be_away=2),), waves=waves)
    timetable = plan_timetable(duties, limits)
    replay(timetable, duties, limits)
    assert timetable.ratio <= 1.05
    ends = [max(s.placed.end for s in timetable.seats if s.wave == w.name) for w in waves]
    assert all(b > a for a, b in itertools.pairwise(ends))


@given(
    st.integers(1, 3), st.lists(st.tuples(st.integers(0, 40), st.integers(0, 12)), max_size=14),
    st.integers(0, 50), st.integers(1, 9), st.integers(0, 6),
)  # fmt: skip
def test_a_profile_finds_room_where_counting_finds_it(capacity, wanted, at, seconds, least):
    least = min(least, seconds)
    profile, taken = Profile(capacity, least), []

    def room(start, end):
        return all(sum(a <= p < b for a, b in taken) < capacity for p in range(start, end))

    for start, length in wanted:
        if length >= least and room(start, start + length):
            profile.free_from(start, max(1, length))
            profile.take(start, start + length)
            taken.append((start, start + length))
    expected = next(t for t in range(at, 200) if room(t, t + seconds))
    assert profile.free_from(at, seconds) == profile.copy().free_from(at, seconds) == expected
    assert (profile.clash(at, at + seconds) is None) == room(at, at + seconds)


def test_a_wait_for_the_link_while_away_is_part_of_the_time_away():
    duty = a_duty("s", (5.0, REBOOT), (5.0, REBOOT), group="pair")
    limits = NightLimits(transfers=1, groups=(GroupLimit(name="pair", may_be_away=1),))
    itinerary = plan_itinerary(duty, limits)
    board = Board(limits, [itinerary])
    board.link.take(140.0, 200.0)
    assert find_place(itinerary, board, 0.0, 300.0) is None
    assert find_place(itinerary, board, 0.0, 340.0).end == 340.0
    ((pair, _),) = board.held_by(duty.place)
    pair.take(300.0, 400.0)
    assert find_place(itinerary, board, 0.0, 1e9).aways == ((400.0, 660.0),)
    alone = NightLimits(transfers=1, at_once=1)
    board = Board(alone, [itinerary])
    board.link.take(140.0, 200.0)
    board.at_once.take(300.0, 400.0)
    assert find_place(itinerary, board, 0.0, 1e9).aways == ((420.0, 680.0),)


def test_one_that_would_fit_but_for_its_waits_is_told_so():
    large, small = (Payload(path="x", size=size, sha256="") for size in (200_000, 5_000))
    duties = [
        a_duty(n, *[(*[Release(version="1", write_seconds=30.0, reset_seconds=100.0, payload=p)] * 2, REBOOT)])
        for n, p in (("a", large), ("b", small))
    ]
    limits = NightLimits(transfers=1, bytes_per_second=1000, windows=(Window(0.0, 580.0),))
    timetable = plan_timetable(duties, limits, tries=0)
    assert [(o.server, o.reason) for o in timetable.left] == [("b", "needs 7 min with its waits, 6 are left")]


def test_a_bound_never_goes_beyond_the_windows_there_are():
    itinerary = plan_itinerary(a_duty("s", (600.0, REBOOT)), NightLimits())
    assert find_bound([([itinerary], 0.0)], NightLimits(), (Window(0.0, 100.0),)) == itinerary.seconds
