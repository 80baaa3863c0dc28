"""The command line: every command on files and live stand-ins, its exit status and its one sentence."""

from __future__ import annotations

import contextlib
import io
import json
import re
import sys

import pytest
import structlog

from ordnung.fieldkit.main import main


def run(*arguments, **environment):
    """The command as ``main`` carries it out, in this process: exit status, what it printed, its sentence."""
    out, err, code = io.StringIO(), io.StringIO(), 0
    with pytest.MonkeyPatch.context() as patch, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        patch.setattr(sys, "argv", ["ordnung", *map(str, arguments)])
        for name, value in environment.items():
            patch.setenv(name, value)
        try:
            main()
        except SystemExit as ended:
            code = ended.code or 0
    return code, out.getvalue(), err.getvalue()


@pytest.fixture(scope="module")
def floor(tmp_path_factory, mirror_folder):
    """Live stand-ins with what they announce, and one reading of them all."""
    from tests.conftest import live_floor

    folder = tmp_path_factory.mktemp("fieldkit")
    with live_floor(folder / "standins") as live:
        live.floor.mirror.folder = mirror_folder
        (folder / "floor.json").write_text(json.dumps(live.floor.announcement()))
        code, out, err = run("survey", folder / "floor.json", "-o", folder / "readings.json", "--json")
        assert code == 0, err
        live.folder, live.readings = folder, folder / "readings.json"
        assert len(json.loads(out)["servers"]) == 16
        live.catalogs = []
        for path in sorted((mirror_folder / "catalogs").glob("*.json")):
            text = path.read_text().replace("https://mirror.example/", live.floor.mirror_url)
            (folder / path.name).write_text(text)
            live.catalogs += ["--catalog", folder / path.name]
        yield live


def test_drift_and_route_tell_what_the_application_tells(floor):
    code, out, _ = run("drift", "--readings", floor.readings, *floor.catalogs, "--json")
    told = json.loads(out)
    assert code == 0 and told["totals"]["exposed"] == 18 and told["totals"]["unlisted"] == 3
    bios = next(c for c in told["components"] if (c["server"], c["slot"]) == ("surge-07", "bios"))
    assert (bios["installed"], bios["target"], bios["behind"], bios["route"]) == ("2.1.0", "3.2.0", 4, True)
    code, out, _ = run("route", "--readings", floor.readings, *floor.catalogs, "--json")
    route = next(s for s in json.loads(out)["servers"] if s["server"] == "surge-07")
    assert [r["reset"] for r in route["rounds"]] == ["controller restart", "server reboot", "server reboot"]
    assert (route["outages"], route["restarts"], route["proven"]) == (2, 1, True)
    assert run("drift", "--readings", floor.readings, *floor.catalogs, "--check")[0] == 1


def test_tables_are_for_people(floor):
    code, out, _ = run("route", "--readings", floor.readings, *floor.catalogs)
    assert code == 0 and "bios 2.1.0 → 2.4.1" in out
    code, out, _ = run("survey", floor.folder / "floor.json")
    assert code == 0 and "surge-08" in out and "2.4.1" in out


def test_a_repository_is_built_checked_and_refused_when_altered(floor, tmp_path):
    target = tmp_path / "out"
    common = ["--ca", floor.ca, "--store", tmp_path / "store", "--keys", tmp_path / "keys", "-o", target]
    built = run(
        "repository",
        "build",
        "--readings",
        floor.readings,
        *floor.catalogs,
        "--server",
        "surge-07",
        *common,
        ORDNUNG_KEY_SECRET="s",
    )
    assert built[0] == 0, built[2]
    code, out, _ = run("repository", "check", target, "--root", target / "metadata" / "1.root.json")
    assert code == 0 and "whole" in out
    stray = target / "targets" / "stray.pldm"
    stray.write_bytes(b"who put me here?")
    code, out, err = run("repository", "check", target, "--json")
    assert code == 1 and json.loads(out)["unsealed"] == ["targets/stray.pldm"] and "not part of the seal" in err
    stray.unlink()
    victim = next((target / "targets").rglob("*.pldm"))
    victim.write_bytes(victim.read_bytes()[:-1] + b"!")
    code, _, err = run("repository", "check", target)
    assert code == 1 and victim.name in err and "altered" in err


def build(floor, tmp_path, output, *more, servers=("--server", "surge-07")):
    """A repository, by default for surge-07, from the stand-ins' mirror."""
    common = ["--ca", floor.ca, "--store", tmp_path / "store", "--keys", tmp_path / "keys", "-o", output]
    told = run(
        "repository", "build", "--readings", floor.readings, *floor.catalogs, *servers, *common, *more,
        ORDNUNG_KEY_SECRET="s",
    )  # fmt: skip
    assert told[0] == 0, told[2]
    return told


def test_a_repository_goes_out_as_any_shape_and_in_again(floor, tmp_path):
    build(floor, tmp_path, tmp_path / "one.tar.zst", "--as", "tar.zst")
    code, out, _ = build(floor, tmp_path, tmp_path / "two.iso", "--as", "iso", "--leave-out", "kind=drive", "--json")
    assert code == 0 and json.loads(out)["written"][0]["sha256"]
    code, out, _ = run("repository", "diff", tmp_path / "one.tar.zst", tmp_path / "two.iso", "--json")
    changes = json.loads(out)["changes"]
    assert code == 1 and {c["change"] for c in changes} == {"dropped"} and all("Brevik" in c["name"] for c in changes)
    far = ["--store", tmp_path / "far"]
    code, _, err = run("repository", "carry-in", tmp_path / "one.tar.zst", *far)
    assert code == 1 and "nobody here has confirmed" in err and not (tmp_path / "far" / "content").exists()
    code, _, err = run("repository", "carry-in", tmp_path / "one.tar.zst", *far, "--trust", "0" * 64)
    assert code == 1 and "nobody here has confirmed" in err
    keys = json.loads(run("repository", "check", tmp_path / "one.tar.zst", "--json")[1])["root_key"]
    code, out, _ = run("repository", "carry-in", tmp_path / "one.tar.zst", *far, "--trust", keys, "-o", tmp_path / "documents", "--json")  # fmt: skip
    assert code == 0 and json.loads(out)["waiting"] == [] and list((tmp_path / "documents" / "catalogs").iterdir())
    code, out, _ = run("repository", "fsck", "--store", tmp_path / "far")
    assert code == 0 and "0 that nobody holds" in out
    victim = next(p for p in (tmp_path / "far" / "content").rglob("*") if p.is_file())
    victim.chmod(0o644)
    victim.write_bytes(b"!")
    code, _, err = run("repository", "fsck", "--store", tmp_path / "far", "--repair")
    assert code == 1 and f"altered: {victim.name}" in err
    assert run("repository", "fsck", "--store", tmp_path / "far")[0] == 0


def test_a_repository_is_spread_over_media_and_says_what_a_trim_costs(floor, tmp_path):
    _, out, err = build(
        floor,
        tmp_path,
        tmp_path / "part.tar",
        "--as",
        "tar",
        "--medium",
        "230000",
        "--leave-out",
        "kind=drive",
        servers=(),
    )
    assert "stays (its target" in err, out
    places = sorted(tmp_path.glob("part-*-of-*.tar"))
    assert len(places) > 1, out
    assert all(p.stat().st_size < 230_000 for p in places)
    keys = re.search(r"--trust (\w+)", run("repository", "carry-in", places[0], "--store", tmp_path / "far")[2])[1]
    for number, place in enumerate(places, start=1):
        code, out, _ = run("repository", "carry-in", place, "--store", tmp_path / "far", "--trust", keys)
        assert code == 0 and ("still to come" in out) == (number < len(places))


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["--leave-out", "colour=red"], "write one of kind, product"), (["--medium", "floppy"], "bytes, or one of cd, dvd"),
        (["--medium", "100000"], "doesn't fit|the medium takes"),
    ],
)  # fmt: skip
def test_wishes_that_make_no_sense_are_refused(floor, tmp_path, arguments, told):
    code, _, err = run(
        "repository", "build", "--readings", floor.readings, *floor.catalogs, "--server", "surge-07", "--ca", floor.ca,
        "--store", tmp_path / "s", "--keys", tmp_path / "k", "-o", tmp_path / "o", *arguments, ORDNUNG_KEY_SECRET="s",
    )  # fmt: skip
    assert code in (1, 2) and re.search(told, err)


def test_a_key_elsewhere_signs_a_root(floor, tmp_path):
    code, out, _ = run("seal", "key", "-o", tmp_path / "far.pem", ORDNUNG_KEY_SECRET="far")
    assert code == 0 and re.fullmatch(r"[0-9a-f]{64}\n", out) and (tmp_path / "far.pem").stat().st_mode & 0o077 == 0
    assert run("seal", "key", "-o", tmp_path / "far.pem", ORDNUNG_KEY_SECRET="far")[0] == 2
    build(floor, tmp_path, tmp_path / "out")
    root = tmp_path / "out" / "metadata" / "1.root.json"
    arguments = ["seal", "sign", root, "--key", tmp_path / "far.pem", "-o", tmp_path / "signed.json", "--yes"]
    code, out, _ = run(*arguments, ORDNUNG_KEY_SECRET="far")
    assert code == 0 and "root metadata, version 1" in out
    assert len(json.loads((tmp_path / "signed.json").read_text())["signatures"]) == 2
    code, _, err = run(*arguments, ORDNUNG_KEY_SECRET="wrong")
    assert code == 1 and "another password" in err
    code, _, err = run("seal", "sign", floor.readings, *arguments[3:], ORDNUNG_KEY_SECRET="far")
    assert code == 1 and "no metadata to be signed" in err


def test_a_lying_mirror_leaves_nothing_sealed(floor, tmp_path):
    floor.floor.mirror.faults["tessaly/r9/raid-7.18.0.pldm"] = "altered"
    try:
        common = ["--ca", floor.ca, "--store", tmp_path / "s", "--keys", tmp_path / "k", "-o", tmp_path / "out"]
        code, _, err = run(
            "repository",
            "build",
            "--readings",
            floor.readings,
            *floor.catalogs,
            "--server",
            "surge-03",
            *common,
            ORDNUNG_KEY_SECRET="s",
        )
    finally:
        floor.floor.mirror.faults.clear()
    assert code == 1 and "raid-7.18.0.pldm: its checksum is" in err and not (tmp_path / "out").exists()


def test_packages(floor, mirror_folder, tmp_path):
    good = mirror_folder / "tessaly/r9/raid-7.18.0.pldm"
    code, out, _ = run("package", "show", good, "--json")
    assert code == 0 and json.loads(out)["devices"][0]["rules"]["software_id"] == "TSY-R9"
    bad = tmp_path / "bad.pldm"
    bad.write_bytes(good.read_bytes()[:-1] + b"!")
    code, _, err = run("package", "show", bad)
    assert code == 1 and "PLDMFWPackagePayloadChecksum" in err
    assert run("package", "check", bad)[0] == 1
    code, out, _ = run("package", "check", good)
    assert code == 0 and "is whole: 1 image, signature generation 1" in out
    code, out, _ = run("package", "show", good)
    assert code == 0 and "PCI vendor ffe2" in out
    check = ["package", "check", good, *floor.catalogs, "--release", "3.2.0", "--product", "corvane.reed14.bios"]
    code, _, err = run(*check)
    assert code == 1 and "the package is for TSY-R9, not for Reed 14 BIOS" in err


def test_a_catalog_cut_in_half(floor, mirror_folder, tmp_path):
    half = tmp_path / "half.json"
    raw = (mirror_folder / "catalogs/corvane-servers-2026-11.json").read_bytes()
    half.write_bytes(raw[: len(raw) // 2])
    code, _, err = run("drift", "--readings", floor.readings, "--catalog", half)
    assert code == 1 and err.startswith("half.json: line ") and "cut short" in err
    assert run("catalog", "check", half)[0] == 1
    assert run("catalog", "check", mirror_folder / "catalogs/corvane-servers-2026-11.json")[0] == 0


def test_unreachable_wrong_password_and_changed_certificate(floor, tmp_path):
    secret = tmp_path / "password"
    secret.write_text("wrong\n")
    url = floor.floor.urls["surge-01"]
    common = ["--user", "ordnung", "--password-file", secret]
    for target, how, told in (
        (url, ["--ca", floor.ca], "signed out: it refused user ordnung"),
        ("https://127.20.77.77:8443", ["--ca", floor.ca], "refused: the connection was refused"),
        (url, ["--pin", "ab" * 32], "certificate changed"),
    ):
        code, _, err = run("survey", target, *common, *how)
        assert code == 3 and told in err and "wrong" not in err.replace("is wrong", "")
    assert run("survey", url, *common)[0] == 2


@pytest.mark.parametrize(("raw", "told"), [(b"", "is empty"), (b"\nsecond", "is empty"), (b"\xff\xfe", "no text")])
def test_a_password_file_without_a_password_is_said(floor, tmp_path, raw, told):
    secret = tmp_path / "password"
    secret.write_bytes(raw)
    code, _, err = run("survey", floor.floor.urls["surge-01"], "--user", "ordnung", "--password-file", secret)
    assert code == 2 and told in err


def test_an_error_of_ours_is_told_with_its_place_and_without_the_password(floor, tmp_path, monkeypatch):
    secret = tmp_path / "password"
    secret.write_text("kelp-and-slate\n")

    def breaks(_, endpoint):
        known = {"UserName": endpoint.user, "Password": endpoint.password}
        raise KeyError(len(known))

    monkeypatch.setattr("ordnung.controllers.RedfishControllers.open", breaks)
    structlog.reset_defaults()  # as in a process that has only begun
    url = floor.floor.urls["surge-01"]
    code, out, err = run("survey", url, "--user", "ordnung", "--password-file", secret, "--ca", floor.ca)
    assert code == 3 and "our error" in err and "in breaks" in err and "KeyError: 2" in err
    assert "kelp" not in out + err and "\u2502" not in err


def test_every_command_is_in_the_docs():
    from pathlib import Path

    page = (Path(__file__).parents[2] / "docs" / "command-line.md").read_text()
    from ordnung.fieldkit.main import cli

    for name in cli.list_commands(None):
        names = [f"{name} {sub}" for sub in getattr(cli.get_command(None, name), "commands", {})] or [name]
        for full in names:
            assert f"ordnung {full}" in page, full


def test_there_is_no_such_command():
    code, _, err = run("levle")
    assert code == 2 and "No such command 'levle'" in err


def test_two_builds_within_a_minute_are_two_editions(tmp_path):
    """Editions were the minute's number: the site refused the second, the stock client missed its files."""
    from ordnung.repository.editions import next_edition

    assert [next_edition(tmp_path / "keys", "a" * 32) for _ in range(3)] == [1, 2, 3]
    assert next_edition(tmp_path / "keys", "b" * 32) == 1


def test_names_are_data_in_a_printed_table(capsys):
    """A name in brackets crashed the table; control characters reached the terminal."""
    from ordnung.fieldkit.show import print_table

    print_table(("name",), [["[bold]R9[/]"], ["[/wrong"], ["a\x1b[2Jb\tc"], [None]])
    told = capsys.readouterr().out
    assert "[bold]R9[/]" in told and "[/wrong" in told and "\x1b" not in told and "a\ufffd[2Jb c" in told


def test_an_audit_trail_is_checked_wherever_it_was_taken_along_to(tmp_path):
    from ordnung.formats.audit import head_row, write_trail
    from tests.formats.test_audit import ENTRIES, KEY, WHOLE, public, sign

    trail, head = tmp_path / "audit.json", tmp_path / "head.json"
    trail.write_bytes(write_trail(WHOLE))
    head.write_text(json.dumps(head_row(sign(ENTRIES[5]))))
    code, out, _ = run("audit", "verify", trail)
    assert code == 0 and out.startswith("6 entries, 2 heads") and public(KEY) in out and "compare it" in out
    code, out, _ = run("audit", "verify", trail, "--key", public(KEY), "--head", head)
    assert code == 0 and "compare it" not in out
    trail.write_bytes(trail.read_bytes().replace(b'"who": "lead"', b'"who": "none"', 1))
    code, out, _ = run("audit", "verify", trail, "--json")
    assert code == 1 and json.loads(out)["faults"][0] == {"number": 1, "what": "it was changed after it was written"}
    head.write_text("{}")
    code, _, err = run("audit", "verify", trail, "--head", head)
    assert code == 1 and "head.json" in err
    assert run("audit", "verify", tmp_path / "none.json")[0] == 2
