"""``ordnung level``: one server from a sealed repository, over live stand-ins; killed, stopped, asked, put back."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
import pty
import random
import re
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from ordnung.core.rules import FIXED_RULES
from ordnung.engine.journal_lines import OpenedRun
from ordnung.fieldkit.journal import FileJournal
from ordnung.fieldkit.one_server import GOOD
from ordnung.formats.order import Order, parse_order, write_order
from ordnung.formats.rules import rules_document
from ordnung.formats.siteclock import SETTING, SiteClock
from ordnung.repository import look_at, open_carrier
from ordnung.standins.hardware import writes_of
from tests.conftest import live_floor
from tests.fieldkit.house import read_house
from tests.fieldkit.test_commands import build, run
from tests.fieldkit.test_interface import record, structure

ONE = "surge-07"


@pytest.fixture(scope="module")
def packed(tmp_path_factory, mirror_folder):
    """Live stand-ins, and a repository for all of them sealed from their mirror."""
    folder = tmp_path_factory.mktemp("level")
    with live_floor(folder / "standins") as live:
        read_house(live, folder, mirror_folder)
        live.place = folder / "repository"
        build(live, folder, live.place, servers=())
        live.keys = json.loads(run("repository", "check", live.place, "--json")[1])["root_key"]
        (folder / "password").write_text(live.device(ONE).password + "\n")
        live.password = folder / "password"
        yield live


def arguments(live, work, *more, name=ONE):
    return [
        "level", "--controller", live.floor.urls[name], "--user", live.device(name).user,
        "--password-file", live.password, "--ca", live.ca, "--repository", live.place, "--trust", live.keys,
        "--work", work, *more,
    ]  # fmt: skip


def level(live, work, *more, **changes):
    return run(*arguments(live, work, *more, **changes), **{SETTING: live.clock.setting()})


def events(out):
    return [json.loads(line) for line in out.splitlines()]


def versions(live, name=ONE):
    return {part.slot: part.version for part in live.device(name).parts}


def test_a_server_is_brought_level_over_its_reboots(packed, tmp_path):
    log = packed.device(ONE).log
    code, out, err = level(packed, tmp_path, "--dry-run")
    assert code == 0, err
    assert "bios 2.1.0 → 2.4.1" in out and "fewer resets are not possible" in out
    code, out, err = level(packed, tmp_path)
    assert code == 2 and "nobody is at a terminal to agree: say --yes" in err and not writes_of(log)
    code, out, err = level(packed, tmp_path, "--yes", "--except", "drive")
    assert code == 0, out + err
    assert "is level: " in out and "confirmed by reading: bios 3.2.0" in out
    writes = writes_of(log)
    assert len(writes) == len(set(writes)) > 3 and versions(packed)["bios"] == "3.2.0"
    code, out, _ = level(packed, tmp_path, "--yes", "--except", "drive")
    assert (code == 0 and "left to do" in out) or "Nothing to send" in out
    assert writes_of(log) == writes


def test_what_a_run_did_is_put_back_by_its_journal(packed, tmp_path):
    name = "surge-03"
    before = versions(packed, name)
    assert level(packed, tmp_path, "--put-back", name=name)[2].startswith("Error: No run in")
    code, out, err = level(packed, tmp_path, "--yes", "--json", name=name)
    told = events(out)
    assert code == 0 and [told[0]["event"], told[-1]["event"], told[-1]["ending"]] == ["plan", "end", "level"], err
    assert {e["slot"] for e in told[0]["rounds"][0]["writes"]} == {"raid-1"} and told[0]["proven"]
    steps = [e for e in told if e["event"] == "step"]
    assert any(e["percent"] for e in steps) and steps[0]["left_seconds"] >= 0
    assert {e["kind"] for e in told if e["event"] == "entry"} >= {"write intent", "reset intent", "confirmed"}
    assert versions(packed, name)["raid-1"] == "7.18.0"
    code, out, err = level(packed, tmp_path, "--put-back", "--yes", name=name)
    assert code == 0 and "raid-1 7.18.0 → 7.16.1" in out and "is put back" in out, out + err
    assert versions(packed, name) == before


def test_only_what_was_wanted(packed, tmp_path):
    code, _, err = level(packed, tmp_path, "--only", "colour", "--dry-run", name="surge-06")
    assert code == 2 and "colour: neither a kind of component nor a slot" in err
    for more, slots in ((["--only", "nic"], {"nic-1"}), (["--except", "nic-1"], {"raid-1"})):
        code, out, _ = level(packed, tmp_path, *more, "--dry-run", "--json", name="surge-06")
        plan = events(out)[0]
        assert code == 0 and {write["slot"] for step in plan["rounds"] for write in step["writes"]} == slots
        assert set(plan["stays"]) == {"nic-1", "raid-1"} - slots


def test_what_the_repository_lacks_stays_and_the_rest_goes_on(packed, tmp_path):
    build(packed, tmp_path, tmp_path / "small", "--leave-out", "kind=raid", servers=("--server", "surge-06"))
    keys = json.loads(run("repository", "check", tmp_path / "small", "--json")[1])["root_key"]
    more = ["--repository", tmp_path / "small", "--trust", keys, "--dry-run", "--json"]
    code, out, err = level(packed, tmp_path / "w", *more, name="surge-06")
    plan = events(out)[0]
    assert code == 0 and plan["stays"] == {"raid-1": "7.18.0 is not in this repository"}, err
    assert {write["slot"] for step in plan["rounds"] for write in step["writes"]} == {"nic-1"}


@pytest.mark.parametrize(
    ("more", "told"),
    [
        (["--here"], "say either --controller or --here"), (["--serve", "127.20.1.1"], "--serve and --certificate go"),
        (["--trust", "0" * 64], "which nobody here has confirmed"), (["--override", "health"], "why it may be overridden"),
        (["--put-back"], "No run in"),
    ],
)  # fmt: skip
def test_what_makes_no_sense_is_refused_before_anything_is_sent(packed, tmp_path, more, told):
    code, out, err = level(packed, tmp_path, *more, name="surge-06")
    assert code in (1, 2) and told in err, out + err
    assert not writes_of(packed.device("surge-06").log)


def test_a_controller_that_can_t_be_reached_is_named(packed, tmp_path):
    more = ["--controller", "https://127.20.99.99:1", "--dry-run"]
    code, _, err = level(packed, tmp_path, *more)
    assert code == 3 and "127.20.99.99" in err


def test_rules_that_go_by_names_want_the_name(packed, tmp_path):
    rules = tmp_path / "rules.json"
    hold = {"do": "hold", "where": {"server": "surge-06"}, "reason": "under repair", "author": "lead"}
    rules.write_text(json.dumps({"format": "ordnung.rules/1", "rules": [hold]}))
    build(packed, tmp_path, tmp_path / "ruled", "--rules", rules, servers=())
    keys = json.loads(run("repository", "check", tmp_path / "ruled", "--json")[1])["root_key"]
    more = ["--repository", tmp_path / "ruled", "--trust", keys, "--dry-run"]
    code, _, err = level(packed, tmp_path / "w", *more, name="surge-06")
    assert code == 2 and "go by server: say --name" in err
    code, out, err = level(packed, tmp_path / "w", *more, "--name", "surge-06", name="surge-06")
    assert code == 0 and "Nothing" in out, "all of it is held"


def test_other_rules_than_the_repositorys_own_may_hold_and_a_run_is_gone_on_with_by_its_own(packed, tmp_path):
    rules, name = tmp_path / "mine.json", "surge-06"
    hold = {"do": "hold", "where": {"kind": "raid"}, "reason": "until the new driver", "author": "lead"}
    rules.write_text(json.dumps({"format": "ordnung.rules/1", "rules": [hold]}))
    code, out, err = level(packed, tmp_path / "w", "--rules", rules, "--dry-run", "--json", name=name)
    assert code == 0, err
    assert {write["slot"] for step in events(out)[0]["rounds"] for write in step["writes"]} == {"nic-1"}
    rules.write_text("{}")
    code, _, err = level(packed, tmp_path / "w", "--rules", rules, "--dry-run", name=name)
    assert code != 0 and "mine.json" in err
    with open_carrier(packed.place) as carrier:
        packing = look_at(carrier, None, allow_expired=True).packing_sum
    opened = OpenedRun(
        run="1", server=urlsplit(packed.floor.urls[name]).hostname, at=packed.clock.now(), repository="all", edition=1,
        packing=packing, rules="ab" * 32,
    )  # fmt: skip
    (tmp_path / "v").mkdir()
    with FileJournal(tmp_path / "v" / "journal.jsonl", packed.clock) as journal:
        journal.open_run(opened)
    with FileJournal(tmp_path / "v" / "journal.jsonl", packed.clock) as journal:
        assert journal.runs == [opened]
    code, _, err = level(packed, tmp_path / "v", "--yes", name=name)
    assert code == 1 and "by the rules with SHA-256 abab" in err and "go on by those" in err


def write_orders(live, folder, name, **changes):
    """An order for all that a repository has for a server, as the site would give it."""
    code, out, err = level(live, folder / "plan", "--dry-run", "--json", name=name)
    assert code == 0, err
    device = live.device(name)
    writes = [w for step in events(out)[0]["rounds"] for w in step["writes"]]
    order = Order(
        run="run 3 of Lowmere", server=name, uuid=device.uuid, serial=device.serial, rules=rules_document(FIXED_RULES),
        writes=tuple((w["slot"], w["sha256"]) for w in writes if w["slot"] != "raid-1"),
    )  # fmt: skip
    place = folder / "order.json"
    place.write_bytes(write_order(dataclasses.replace(order, **changes)))
    return place


def test_an_order_is_done_on_its_server_unasked_and_nothing_else(packed, tmp_path):
    name = "surge-06"
    order = write_orders(packed, tmp_path, name)
    code, out, err = level(packed, tmp_path / "other", "--order", order, name="surge-08")
    assert code == 1 and "The order is for surge-06" in err and "Nothing was sent" in err
    assert not writes_of(packed.device("surge-08").log)
    code, out, err = level(packed, tmp_path / "w", "--order", order, name=name)
    assert code == 0, out + err
    written = {slot for slot, _ in writes_of(packed.device(name).log)}
    assert written == {slot for slot, _ in parse_order(order.read_bytes()).writes}, "raid-1 was not ordered"
    code, out, _ = level(packed, tmp_path / "again", "--order", order, name=name)
    assert code == 0 and "Nothing to send." in out
    word = next(one.context for one in packed.device(name).sessions.values() if " idle " in one.context)
    assert "raid-1 stays: " in word, "whoever ordered it finds out why nothing was done"
    code, _, err = level(packed, tmp_path / "w", "--order", order, "--only", "bios", name=name)
    assert code == 2 and "--order says what is done" in err


def test_what_is_not_the_payload_that_was_ordered_is_not_sent(packed, tmp_path):
    name = "surge-08"
    order = write_orders(packed, tmp_path, name)
    writes = tuple((slot, "ab" * 32) for slot, _ in parse_order(order.read_bytes()).writes)
    order = write_orders(packed, tmp_path, name, writes=writes)
    code, out, err = level(packed, tmp_path / "w", "--order", order, name=name)
    assert code == 1 and "not what was approved" in out + err and not writes_of(packed.device(name).log)
    (word,) = [one.context for one in packed.device(name).sessions.values() if one.context]
    begins = f"ordnung.word/1 {parse_order(order.read_bytes()).mark} idle {name} is "
    assert word.startswith(begins) and "not what was approved" in word, "whoever ordered it finds out why"


def spawn(live, work, *more, name, stdin=None):
    command = [sys.executable, "-m", "ordnung.fieldkit.main", *map(str, arguments(live, work, *more, name=name))]
    environment = {**os.environ, SETTING: live.clock.setting()}
    return subprocess.Popen(
        command, env=environment, stdin=stdin, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )  # fmt: skip


def test_killed_at_any_moment_it_goes_on_and_sends_nothing_twice(packed, tmp_path):
    name, chance = "surge-09", random.Random(7)
    for _ in range(4):
        process = spawn(packed, tmp_path, "--yes", name=name)
        entries = 0
        until = chance.randint(3, 14)
        for line in process.stdout:
            entries += bool(re.match(r"\d\d:", line))
            if entries >= until:
                break
        time.sleep(chance.random() / 5)
        process.kill()
        process.communicate()
    code, out, err = level(packed, tmp_path, "--yes", name=name)
    assert code == 0, out + err
    writes = writes_of(packed.device(name).log)
    assert len(writes) == len(set(writes)) > 0
    with FileJournal(tmp_path / "journal.jsonl", SiteClock()) as journal:
        (opened,) = journal.runs[:1]
        ended = journal.state(opened.run, opened.server).ended
        assert ended is not None and ended.ending in GOOD


def test_an_interrupt_stops_before_the_next_step_and_cuts_nothing_short(packed, tmp_path):
    name = "surge-04"
    packed.device(name).quirks = frozenset({"waiting untold"})
    process = spawn(packed, tmp_path, "--yes", name=name)
    for line in process.stdout:
        if "writing" in line:
            process.send_signal(signal.SIGINT)
            break
    out, _ = process.communicate(timeout=60)
    assert process.returncode == 1 and "Stopping before the next step" in out and "is stopped" in out
    log = packed.device(name).log
    assert not any(entry["what"] == "dead" for entry in log)
    code, out, err = level(packed, tmp_path, "--yes", name=name)
    assert code == 0 and "is level" in out, out + err
    assert len(writes_of(log)) == len(set(writes_of(log))), "what waits is known by the journal, and not written again"


def test_a_second_interrupt_ends_it_at_once_and_it_goes_on_where_it_was(packed, tmp_path):
    name = "surge-08"
    process = spawn(packed, tmp_path, "--yes", name=name)
    for line in process.stdout:
        if "writing" in line:
            process.send_signal(signal.SIGINT)
            time.sleep(0.2)
            process.send_signal(signal.SIGINT)
            break
    out, _ = process.communicate(timeout=60)
    assert process.returncode == 130 and "Ended at once." in out and "Traceback" not in out
    code, out, err = level(packed, tmp_path, "--dry-run", name=name)
    assert code == 1 and "has not ended; without --dry-run it is gone on with" in out, out + err
    code, out, err = level(packed, tmp_path, "--yes", name=name)
    assert code == 0 and "Going on with the run of" in out, out + err
    writes = writes_of(packed.device(name).log)
    assert len(writes) == len(set(writes)) > 0


def test_a_controller_that_lets_nobody_in_with_its_new_image_is_settled_at_the_terminal(packed, tmp_path):
    """Its certificate is not the authority's any more, and its accounts are as it was delivered."""
    name = "gauge-02"
    device = packed.device(name)
    device.quirks, device.self_signed = frozenset({"certificate anew", "accounts anew"}), True
    hand, theirs = pty.openpty()
    process = spawn(packed, tmp_path, "--yes", name=name, stdin=theirs)
    told, kept = [], packed.password.read_text()
    try:
        for line in process.stdout:
            told.append(line)
            if "A yes reads the present password" in line:
                packed.password.write_text(device.password + "\n")
            if "[y/n]" in line:
                os.write(hand, b"y\n")
        assert process.wait() == 0, "".join(told)
    finally:
        packed.password.write_text(kept)
    assert any("Its certificate has the SHA-256" in line for line in told)
    assert [line for line in told if "the person here answered: that is settled" in line]
    writes = writes_of(device.log)
    assert len(writes) == len(set(writes)) > 0


def test_another_server_that_answers_in_the_middle_is_noticed_and_left_alone(packed, tmp_path):
    name = "gauge-01"
    device, told = packed.device(name), []
    own, process = device.serial, spawn(packed, tmp_path, "--yes", name=name, stdin=subprocess.DEVNULL)
    for line in process.stdout:
        told.append(line)
        if "written, by its task" in line:
            device.serial = "ANOTHER-1"
    device.serial = own
    assert process.wait() == 1 and f"serial ANOTHER-1, known is {own}" in "".join(told), "".join(told)
    assert len(writes_of(device.log)) == 1 and not [entry for entry in device.log if entry["what"] == "reset"]


def test_another_server_at_the_same_address_is_not_taken_for_it(packed, tmp_path):
    """The inner address of a controller is alike in all servers: a stick that is moved must notice."""
    process = spawn(packed, tmp_path, "--yes", "--name", "here", name="gauge-03")
    for line in process.stdout:
        if "writing" in line:
            process.kill()
            break
    process.communicate()
    before = writes_of(packed.device("gauge-04").log)
    code, out, err = level(packed, tmp_path, "--yes", "--name", "here", name="gauge-04")
    assert code == 1 and "Another server answers at" in err and "Nothing was sent." in err, out + err
    assert writes_of(packed.device("gauge-04").log) == before
    assert level(packed, tmp_path, "--yes", "--name", "here", name="gauge-03")[0] == 0
    code, _, err = level(packed, tmp_path, "--put-back", "--name", "here", name="gauge-04")
    assert code == 1 and "Another server answers at" in err


COMMANDS = (
    "from ordnung.fieldkit.main import cli; import ordnung.controllers;"
    "[cli.get_command(None, name) for name in cli.list_commands(None)];"
)
ON_DISC = (
    "from ordnung.fieldkit.main import cli; import ordnung.fieldkit.disc.machine, ordnung.fieldkit.disc.session;"
    "[cli.get_command(None, name) for name in ('level', 'host-report')];"
)


@pytest.mark.parametrize(
    ("loads", "lock"), [(COMMANDS, "requirements-kit.lock"), (ON_DISC, "requirements-disc.lock")], ids=["kit", "disc"]
)
def test_the_kit_needs_nothing_of_the_site(loads, lock):
    """Every package that is loaded is in its own lock; what a package takes where it finds it is not.

    An order behind a disc once took a package to be read that no disc has: nothing started on it any more.
    """
    script = (
        f"import sys, json; {loads}"
        "from importlib.metadata import packages_distributions as d;"
        "known = d(); tops = {m.split('.')[0] for m in sys.modules};"
        "print(json.dumps(sorted({x for top in tops for x in known.get(top, [])})))"
    )
    loaded = json.loads(subprocess.run([sys.executable, "-c", script], capture_output=True, check=True).stdout)
    text = (Path(__file__).parents[2] / lock).read_text()
    locked = set(re.findall(r"^([a-z0-9._-]+)==", text, re.MULTILINE))
    taken_where_found = {"ordnung", "setuptools", "greenlet", "charset-normalizer"}
    assert {name.lower().replace("_", "-") for name in loaded} - locked <= taken_where_found
    assert not any("django" in name for name in locked)


def test_payloads_are_used_where_they_lie_and_nothing_is_copied(packed, tmp_path):
    code, out, err = level(packed, tmp_path, "--in-place", "--yes", name="surge-09")
    assert code == 0, out + err
    assert not (tmp_path / "payloads").exists()
    writes = writes_of(packed.device("surge-09").log)
    assert len(writes) == len(set(writes)) > 0
    archive = tmp_path / "no.tar"
    archive.write_bytes(b"")
    code, _, err = run(*[archive if a == packed.place else a for a in arguments(packed, tmp_path, "--in-place")])
    assert code == 2 and "a folder, or a disc that is mounted" in err


def test_what_is_said_last_stays_on_the_terminal(packed, tmp_path):
    """The live screen goes when the command ends; what it said must not go with it."""
    hand, theirs = pty.openpty()
    words = [str(word) for word in arguments(packed, tmp_path, name="surge-10")]
    environment = {**os.environ, SETTING: packed.clock.setting()}
    process = subprocess.Popen(
        [sys.executable, "-m", "ordnung.fieldkit.main", *words],
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        env=environment,
    )
    os.close(theirs)
    shown = b""
    while b"Begin?" not in shown:
        shown += os.read(hand, 4096)
    os.write(hand, b"n\n")
    with contextlib.suppress(OSError):
        while piece := os.read(hand, 4096):
            shown += piece
    assert process.wait(30) == 1 and b"Nothing was sent." in shown
    os.close(hand)


def test_here_is_the_controller_that_this_machine_tells_of(packed, tmp_path):
    """The whole command, over a host interface in SMBIOS that leads to a stand-in."""
    parts = urlsplit(packed.floor.urls["surge-09"])
    entry = tmp_path / "sys" / "firmware" / "dmi" / "entries" / "42-0"
    entry.mkdir(parents=True)
    (entry / "raw").write_bytes(structure((4, record(parts.hostname, parts.port))))
    words = arguments(packed, tmp_path / "work", "--here", "--sysfs", tmp_path / "sys", "--dry-run", name="surge-09")
    words = [word for word in words if word not in ("--controller", packed.floor.urls["surge-09"])]
    code, out, err = run(*words, **{SETTING: packed.clock.setting()})
    assert code == 0 and (parts.hostname in out or "Nothing is left to do" in out), out + err
    (entry / "raw").write_bytes(b"")
    code, _, err = run(*words)
    assert code == 1 and "tells of no host interface" in err
    code, _, err = run(*words, "--controller", "https://10.0.0.1")
    assert code == 2 and "either --controller or --here" in err


def test_what_a_controller_fetches_is_served_from_here_and_from_nowhere_after(packed, tmp_path):
    certificate = packed.floor.authority.issue("127.20.100.4", "field kit")
    told = ("--serve", "127.20.100.4", "--certificate", certificate, "--yes", "--json")
    code, out, err = level(packed, tmp_path, *told, name="surge-06")
    assert code == 0, out + err
    ways = {e["body"]["way"] for e in events(out) if e["event"] == "entry" and e["kind"] == "write intent"}
    assert ways == {"pull over HTTPS"}
    with pytest.raises(OSError, match="refused"):
        socket.create_connection(("127.20.100.4", 443), 1)
    code, _, err = level(packed, tmp_path, "--serve", "127.20.100.4", name="surge-06")
    assert code == 2 and "go together" in err
