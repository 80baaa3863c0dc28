"""``ordnung timetable`` on files: what it answers, what it refuses, and that nothing unknown is taken."""

from __future__ import annotations

import json

import pytest

from tests.fieldkit.test_commands import run

CATALOG = {
    "format": "ordnung.catalog/1", "maker": "Corvane", "catalog": "c", "issue": "2026-11", "issued": "2026-11-04",
    "products": [{
        "id": "bios", "name": "BIOS", "kind": "bios", "scheme": "dotted", "fits": [{"software_id": "B"}],
        "releases": [
            {"version": "1.0"},
            {"version": "2.0", "activation": "server reboot", "write_seconds": 100, "reset_seconds": 200,
             "payload": {"path": "b.pldm", "size": 25_000_000, "sha256": "0" * 64}},
        ],
    }],
}  # fmt: skip


def a_server(name, **facts):
    component = {"slot": "bios", "kind": "bios", "name": "BIOS", "software_id": "B", "version": "1.0"}
    return {"name": name, "model": "m", "read_at": "2026-11-23T07:00:00Z", "components": [component], **facts}


@pytest.fixture
def files(tmp_path):
    servers = [a_server("g1", group="pair", rack="K1", room="Kelp"), a_server("g2", group="pair"), a_server("s1")]
    level = a_server("level")
    level["components"][0]["version"] = "2.0"
    readings = {"format": "ordnung.readings/1", "servers": [*servers, level]}
    (tmp_path / "r.json").write_text(json.dumps(readings))
    (tmp_path / "c.json").write_text(json.dumps(CATALOG))
    return tmp_path


def timetable(files, *more, **limits):
    named = []
    if limits:
        (files / "l.json").write_text(json.dumps({"format": "ordnung.limits/1", **limits}))
        named = ["--limits", files / "l.json"]
    return run("timetable", "--readings", files / "r.json", "--catalog", files / "c.json", *named, *more)


PAIR = {"name": "pair", "may_be_away": 1}


def test_steps_away_and_bound_are_told_in_seconds_from_the_start(files):
    code, out, _ = timetable(files, "--json", groups=[PAIR], bytes_per_second=12_500_000, start="2026-11-24T22:00:00Z")
    told = json.loads(out)
    assert code == 0 and told["start"] == "2026-11-24T22:00:00Z" and told["forecast"] is None and told["left"] == []
    first = next(s for s in told["servers"] if s["server"] == "g1")
    assert first["steps"][0] == {
        "kind": "staging", "slot": "bios", "to": "2.0", "ahead": False, "start": 0.0, "end": 8.0,
    }  # fmt: skip
    assert [s["kind"] for s in first["steps"]] == ["staging", "writing", "server reboot", "checking"]
    assert first["away"] == [[108.0, 328.0]] and first["wave"] is None
    assert sorted(s["server"] for s in told["servers"]) == ["g1", "g2", "s1"]
    assert (told["makespan"], told["bound"], told["ratio"]) == (548.0, 548.0, 1.0)


def test_windows_waves_ahead_and_forecast(files):
    window = {"start": "2026-11-24T22:00:00+01:00", "end": "2026-11-24T22:11:00+01:00"}
    waves = [{"name": "canary", "servers": ["s1"], "wait_seconds": 60}, {"name": "rest", "servers": "rest"}]
    code, out, _ = timetable(
        files,
        "--json",
        "--samples",
        "200",
        groups=[PAIR],
        windows=[window],
        waves=waves,
        ahead="writing",
        certainty=0.9,
    )
    told = json.loads(out)
    assert code == 0 and told["start"] == "2026-11-24T21:00:00Z"
    assert {s["server"]: s["wave"] for s in told["servers"]}["s1"] == "canary"
    assert any("90 % are asked for" in left["reason"] for left in told["left"])
    found = told["forecast"]
    assert found["samples"] == 200 and found["seed"] == 0 and found["end"]["p50"] <= found["end"]["p99"]
    assert all(s["in_time"] >= 0.9 for s in found["servers"])


def test_people_read_it_as_a_table(files):
    code, out, _ = timetable(files, "--samples", "50", groups=[PAIR], occupied=[{"server": "g1"}])
    assert code == 0 and "g2 is left over: group pair allows 1 away: g1 is left away" in out
    assert "done with even chance by +0:" in out and "no timetable can take less than" in out
    _, out, _ = timetable(files, "--samples", "50", groups=[PAIR], start="2026-11-24T22:00:00Z")
    assert "24 Nov 22:" in out and "what delays most: group pair" in out
    assert timetable(files)[0] == 0


@pytest.mark.parametrize(
    ("limits", "told"),
    [
        ({"at_once": 0}, "at_once"),
        ({"transfers": 0}, "transfers"),
        ({"speed": 1}, "speed"),
        ({"ahead": "all"}, "ahead"),
        ({"windows": []}, "windows"),
        ({"groups": [PAIR, PAIR]}, "group pair stands twice"),
        ({"waves": [{"name": "a", "servers": "rest"}, {"name": "b", "servers": "rest"}]}, "two waves take the rest"),
        ({"waves": [{"name": "a", "servers": ["g1"]}, {"name": "b", "servers": ["g1"]}]}, "server g1 stands twice"),
        ({"waves": [{"name": "a", "servers": ["nobody"]}]}, "nobody is not in the readings"),
        ({"windows": [{"start": "2026-11-24T22:00:00Z", "end": "2026-11-24T21:00:00Z"}]}, "ends before it starts"),
        ({"windows": [{"start": "2026-11-24T22:00:00", "end": "2026-11-24T23:00:00Z"}]}, "does not say its zone"),
        ({"start": "tonight"}, "tonight is not a time"),
    ],
)
def test_what_is_not_understood_is_refused_with_one_sentence(files, limits, told):
    code, out, err = timetable(files, **limits)
    assert code == 2 and out == "" and told in err and len(err.strip().splitlines()) == 1


def test_one_that_is_named_twice_as_away_counts_once(files):
    twice = [{"server": "elsewhere", "group": "pair"}, {"server": "elsewhere", "group": "pair", "rack": "K1"}]
    code, out, _ = timetable(
        files, "--json", groups=[{"name": "pair", "may_be_away": 2}], racks={"K1": 1}, occupied=twice
    )
    told = json.loads(out)
    assert code == 0 and [left["server"] for left in told["left"]] == ["g1"]
    assert told["ratio"] >= 1
