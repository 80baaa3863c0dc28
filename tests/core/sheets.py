"""Run sheets for tests, and everything that can be changed on one."""

from __future__ import annotations

import dataclasses
import datetime

from ordnung.core.by_disc import go_by_disc
from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.route import Write
from ordnung.core.run_sheet import HandsOn, RunSheet, SheetServer, SheetWave
from ordnung.core.sheet import NamedPayload, PlannedRound, PlannedWrite

NIGHT = datetime.datetime(2026, 11, 26, 22, 0, tzinfo=datetime.UTC)


HANDS = HandsOn(slot="bios", to="2.0", when="after", what="press F")


def a_payload(**facts):
    told = {"sha256": "a" * 64, "size": 1000, "maker": "Corvane", "catalog": "c", "issue": "2026-11"}
    return NamedPayload(**{**told, **facts})


def a_server(name, to="2.0", payload=None, **facts):
    write = Write(slot="bios", product="p", source="1.0", to=to, seconds=120.0)
    step = PlannedRound(
        writes=(PlannedWrite(write=write, payload=payload or a_payload()),), reset="server reboot",
        reset_seconds=300.0, activates=(("bios", to),),
    )  # fmt: skip
    return SheetServer(**{"server": name, "group": "pair", "rack": "K1", "room": "Kelp", "rounds": (step,), **facts})


def a_sheet(*servers, **facts):
    told = {
        "baseline": 8, "waves": (SheetWave(name="canary", wait_seconds=60.0, gate="person"),),
        "windows": ((NIGHT, NIGHT + datetime.timedelta(hours=6)),),
        "limits": NightLimits(groups=(GroupLimit(name="pair", may_be_away=1, heal_seconds=60.0),), certainty=0.9),
    }  # fmt: skip
    return RunSheet(**{**told, "servers": servers or (a_server("a", wave="canary"), a_server("b")), **facts})


def _by_disc(server):
    return dataclasses.replace(server, rounds=go_by_disc(server.rounds))


CHANGES = {
    "baseline": lambda s: dataclasses.replace(s, baseline=9),
    "wait": lambda s: dataclasses.replace(s, waves=(SheetWave(name="canary", wait_seconds=61.0, gate="person"),)),
    "gate": lambda s: dataclasses.replace(s, waves=(SheetWave(name="canary", wait_seconds=60.0),)),
    "wave's time": lambda s: dataclasses.replace(s, waves=(dataclasses.replace(s.waves[0], not_before=NIGHT),)),
    "window": lambda s: dataclasses.replace(s, windows=None),
    "at once": lambda s: dataclasses.replace(s, limits=s.limits.changed(at_once=9)),
    "transfers": lambda s: dataclasses.replace(s, limits=s.limits.changed(transfers=9)),
    "speed": lambda s: dataclasses.replace(s, limits=s.limits.changed(bytes_per_second=10)),
    "group": lambda s: dataclasses.replace(s, limits=s.limits.changed(groups=(GroupLimit(name="pair"),))),
    "rack": lambda s: dataclasses.replace(s, limits=s.limits.changed(racks={"K1": 1})),
    "certainty": lambda s: dataclasses.replace(s, limits=s.limits.changed(certainty=None)),
    "disc image": lambda s: dataclasses.replace(s, disc="ab" * 32),
    "by disc": lambda s: dataclasses.replace(s, servers=(_by_disc(s.servers[0]), *s.servers[1:])),
    "added": lambda s: dataclasses.replace(s, servers=(*s.servers, a_server("c"))),
    "version": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", to="3.0"))),
    "payload": lambda s: dataclasses.replace(
        s, servers=(s.servers[0], a_server("b", payload=a_payload(sha256="b" * 64)))
    ),
    "wave": lambda s: dataclasses.replace(s, servers=(a_server("a"), s.servers[1])),
    "moved": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", rack="K2"))),
    "later": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", not_before=NIGHT))),
    "pinned": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", not_before=NIGHT, pinned=True))),
    "held": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", hold=True))),
    "overridden": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", overrides={"array": "so"}))),
    "left out": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", left_out={"nic": "spare"}))),
    "by hand": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", hands=(HANDS,)))),
    "back": lambda s: dataclasses.replace(s, servers=(s.servers[0], a_server("b", back={"bios": "1.0"}))),
}
