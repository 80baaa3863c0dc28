"""The baseline and the drift on the database: revisions, drafts, effects, folds, review, advisories, files."""

from __future__ import annotations

import csv
import io
import json

import pytest
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from ordnung.server.baselines.models import Draft, Exclusion, Revision
from ordnung.server.runs.models import Run
from tests.server.houses import FEW, Person, fill

pytestmark = pytest.mark.django_db
HOLD_NICS = {"do": "hold", "where": {"kind": "nic"}, "reason": "optics"}


@pytest.fixture
def api(web, catalogs):
    fill()
    return Person(web)


def document(*rules):
    return {"format": "ordnung.rules/1", "rules": list(rules)}


def wanted(api, *rules, **follow):
    """The rules that hold with others before them; ``follow`` names models by their last word."""
    now = api.get("baseline")["revision"]
    follows = [{**row, "issue": follow.get(row["model"].split(" ")[-1], row["issue"])} for row in now["follows"]]
    return {"rules": document(*rules, *now["rules"]["rules"]), "follows": follows}


def make(api, body, basis=1, note="because"):
    return api.post("baseline/revisions", {**body, "basis": basis, "note": note})


def test_every_house_starts_with_a_revision(api):
    told = api.get("baseline")
    assert (told["revision"]["number"], told["revision"]["made_by"], told["revision"]["frozen"]) == (
        1,
        "Ordnung",
        False,
    )
    rows = {row["model"]: row for row in told["coverage"]}
    assert rows["Corvane Reed 12"]["followed"] == "2026-09" and rows["Corvane Reed 12"]["dropped_after"] == "2026-09"
    assert rows["Corvane Reed 10"]["dropped_after"] == "2025-11" and rows["Pellam 1160"]["covered"] == []
    assert rows[""]["maker"] == "Quorrin" and rows[""]["signed_by"] == ""
    line = next(row for row in told["lines"] if row["product"] == "corvane.reed14.bios")
    assert (line["target"], line["fitted"], [i["name"] for i in line["issues"]]) == ("3.2.0", 4, ["2026-11"])
    assert {"Pellam 1160 BIOS"} <= {row["name"] for row in told["unlisted"]} and told["conflicts"] == []
    assert [rule["note"] for rule in told["rules"]] == ["", ""]


def test_a_draft_shows_its_effect_and_stores_nothing(api):
    body = wanted(api, HOLD_NICS, **{"14": "2026-03"})
    told = api.post("baseline/effect", body)
    effect = told["effect"]
    assert effect["after"]["held"] > effect["before"]["held"] and effect["fixes_lost"] != []
    assert ("corvane.reed14.bios", "3.2.0", "3.0.5") in {
        (c["product"], c["before"], c["after"]) for c in effect["changes"]
    }
    assert told["rules"][0]["decides"] > 0 and told["rules"][0]["what"] == "every NIC"
    assert next(r for r in told["coverage"] if r["model"] == "Corvane Reed 14")["followed"] == "2026-03"
    assert "3.0.5" in [row["target"] for row in told["lines"] if row["product"] == "corvane.reed14.bios"]
    assert api.get("baseline")["revision"]["number"] == 1 and Revision.objects.count() == 1


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"rules": {"format": "ordnung.rules/1", "rules": [{"do": "dance"}]}}, "rules.0.do"),
        ({"rules": {"format": "ordnung.rules/1", "rules": [{"do": "pin"}]}}, "rules.0"),
        ({"rules": {"format": "ordnung.rules/1", "rules": [{"do": "hold", "until": "2026-02-30"}]}}, "rules.0.until"),
        ({"follows": [{"model": "", "maker": "x", "catalog": "y", "issue": "z"}]}, "follows"),
        (
            {
                "follows": [
                    {"model": "Corvane Reed 12", "maker": "Corvane", "catalog": "corvane-servers", "issue": "2026-11"}
                ]
            },
            "follows",
        ),
    ],
)
def test_a_draft_that_can_not_be_says_where(api, change, field):
    status, problem = api.post("baseline/effect", {**wanted(api), **change})
    assert status in (400, 422) and problem["field"] == field


def test_a_revision_is_made_judged_by_and_never_changed(api):
    before = api.get("site")["off"]
    made = make(api, wanted(api, HOLD_NICS))
    assert (made["number"], made["basis"], made["made_by"], made["frozen"]) == (2, 1, "technician", True)
    told = api.get("baseline")
    assert told["revision"]["number"] == 2 and told["rules"][0]["do"] == "hold"
    assert api.get("site")["off"] < before and api.get("site")["baseline"] == "Nov 2026, r2"
    panel = api.get("servers/vault-03")
    assert {part["verdict"] for part in panel["parts"] if part["kind"] == "nic"} == {"held"}
    status, problem = make(api, wanted(api))
    assert (status, problem["type"]) == (
        409,
        "ordnung:revision-moved",
    ) and "Revision 2 was made by technician" in problem["detail"]
    assert Revision.objects.get(number=1).rules["rules"][0]["where"] == {"kind": ["power"]}
    effect = Revision.objects.get(number=2).effect
    assert effect["after"]["held"] > effect["before"]["held"]


def test_a_catalog_that_comes_later_does_not_move_what_was_decided(api, mirror_folder):
    make(api, wanted(api, **{"14": "2026-09"}))
    before = api.get("exports/drift.json")
    later = json.loads((mirror_folder / "catalogs" / "corvane-servers-2026-11.json").read_text())
    later |= {"issue": "2026-12", "issued": "2026-12-02"}
    api.send("catalogs", file=("december.json", json.dumps(later).encode()))
    assert api.get("exports/drift.json") == before
    row = next(r for r in api.get("baseline")["coverage"] if r["model"] == "Corvane Reed 14")
    assert (row["followed"], row["newest"], row["chosen"]) == ("2026-09", "2026-12", True)


def test_two_revisions_are_compared_and_an_old_one_can_be_begun_from(api):
    make(api, wanted(api, HOLD_NICS, **{"14": "2026-03"}))
    told = api.get("baseline/compare?one=1&other=2")
    assert "rule added: hold nic" in told["differences"]
    assert any(d.startswith("Corvane Reed 14 follows 2026-03") for d in told["differences"])
    assert told["effect"]["changes"] and told["other"]["number"] == 2
    same = api.get("baseline/compare?one=2&other=2")
    assert same["differences"] == [] and same["effect"]["changes"] == []
    start = api.get("baseline/revisions/1")
    assert make(api, {"rules": start["rules"], "follows": start["follows"]}, basis=2)["number"] == 3
    assert api.get("baseline/compare?one=1&other=3")["effect"]["changes"] == []
    assert api.get("baseline/compare?one=1")[0] == 422 and api.get("baseline/compare?one=1&other=99")[0] == 404
    assert [r["number"] for r in api.get("baseline/revisions")] == [3, 2, 1]


def test_a_draft_is_kept_for_its_person(api):
    body = wanted(api, HOLD_NICS)
    api.put("baseline/draft", {**body, "basis": 1})
    kept = api.get("baseline")["draft"]
    assert kept["rules"]["rules"][0] == HOLD_NICS and kept["basis"] == 1
    api.delete("baseline/draft")
    assert api.get("baseline")["draft"] is None
    api.put("baseline/draft", {**body, "basis": 1})
    make(api, body)
    assert not Draft.objects.exists()


def test_drift_is_folded_with_the_odd_ones_first(api):
    told = api.get("drift")
    first = told["folds"][0]
    assert first["exposed"] >= told["folds"][1]["exposed"] and first["model"] == "Corvane Reed 14"
    assert sum(len(f["names"]) for f in told["folds"]) == len(FEW) == told["totals"]["servers"]
    assert told["models"][0]["servers"] == 4 and told["totals"]["off"] == api.get("site")["off"]
    page = api.get("drift?limit=1&offset=1")
    assert [f["signature"] for f in page["folds"]] == [told["folds"][1]["signature"]] and page["states"] == told[
        "states"
    ]


@pytest.mark.parametrize(
    ("query", "names"),
    [
        ("model=Corvane Heath 24", {"vault-03"}),
        ("servers=surge-03,vault-03", {"surge-03", "vault-03"}),
        ("verdict=pending", {"surge-08"}),
        ("product=corvane.reed14.bios&on=2.1.0", {"surge-03", "surge-07", "surge-08", "surge-09"}),
        ("product=corvane.reed14.bios&on=2.1.0.0&verdict=pending", {"surge-08"}),
        ("kind=store", set()),
        ("room=Hill annex|Slate&only=drift", None),
        ("importance=security&score=9", None),
        ("score=nonsense", set(FEW)),
        ("verdict=dancing", set()),
    ],
)  # fmt: skip
def test_drift_is_narrowed(api, query, names):
    found = {name for fold in api.get(f"drift?{query}")["folds"] for name in fold["names"]}
    if query.startswith("product=corvane.reed14.bios&on=2.1.0") and names is not None:
        expected = {
            r["server"]
            for r in api.get("exports/drift.json")["components"]
            if r["product"] == "corvane.reed14.bios"
            and r["installed"] == "2.1.0"
            and ("pending" not in query or r["verdict"] == "pending")
        }
        assert found == expected != set()
    elif names is None:
        rows = api.get(f"exports/drift.json?{query}")["components"]
        assert {r["server"] for r in rows} == found
    else:
        assert found == names


def test_the_command_line_and_the_application_agree(api, tmp_path, mirror_folder):
    from tests.fieldkit.test_commands import run

    make(
        api,
        wanted(
            api,
            HOLD_NICS,
            {
                "do": "pin",
                "where": {"product": "corvane.reed14.bios", "server": ["surge-07", "surge-09"]},
                "version": "2.6.0",
                "reason": "x",
            },
        ),
    )
    told = api.get("exports/drift.json")
    (tmp_path / "readings.json").write_bytes(api.web.get("/api/v1/exports/readings.json").content)
    (tmp_path / "rules.json").write_text(json.dumps(api.get("baseline")["revision"]["rules"]))
    arguments = [
        argument for path in sorted((mirror_folder / "catalogs").glob("*.json")) for argument in ("--catalog", path)
    ]
    code, out, err = run(
        "drift", "--readings", tmp_path / "readings.json", "--rules", tmp_path / "rules.json", *arguments, "--json"
    )
    assert code == 0, err
    assert json.loads(out) == told and len(told["components"]) > 100
    table = list(csv.DictReader(io.StringIO(api.web.get("/api/v1/exports/drift.csv").content.decode())))
    assert [(r["server"], r["slot"], r["verdict"]) for r in table] == [
        (c["server"], c["slot"], c["verdict"]) for c in told["components"]
    ]


def test_the_release_line_joins_issues_and_counts_who_is_where(api):
    told = api.get("products/corvane.reed12.bmc/line")
    by_version = {r["version"]: r for r in told["releases"]}
    assert by_version["2.75.3"]["fixes"][0]["id"] == "CRV-SA-2026-011" and by_version["2.80.0"]["is_target"]
    assert [i["name"] for i in by_version["2.80.0"]["issues"]] == ["Corvane 2026-09"]
    make(
        api,
        wanted(api, {"do": "pin", "where": {"product": "corvane.reed14.bios"}, "version": "2.6.0", "reason": "x"}),
    )
    told = api.get("products/corvane.reed14.bios/line")
    assert [r["version"] for r in told["releases"] if r["is_beyond"]] == ["3.0.5", "3.2.0"]
    assert sum(r["components"] for r in told["releases"]) == 4
    assert api.get("products/nothing/line")[0] == 404


def test_what_is_taken_out_is_remembered_and_left_out_everywhere(api):
    told = api.get("review?servers=surge-07,surge-09")
    step = next(s for s in told["steps"] if s["product"] == "corvane.reed14.bios")
    assert (step["before"], step["via"], step["after"]) == ("2.1.0", ["2.4.1"], "3.2.0") and told["cost"]["reboots"] > 0
    assert api.post("left-out", {"places": step["places"], "reason": " "})[1]["type"] == "ordnung:no-reason"
    assert api.post("left-out", {"places": [{"server": "surge-07", "slot": "nowhere"}], "reason": "x"})[0] == 404
    api.post("left-out", {"places": step["places"], "reason": "forecast runs tonight"})
    rest = api.get("review?servers=surge-07,surge-09")
    assert "corvane.reed14.bios" not in {s["product"] for s in rest["steps"]}
    assert {(o["server"], o["slot"], o["reason"], o["by"]) for o in rest["left_out"]} == {
        (p["server"], p["slot"], "forecast runs tonight", "technician") for p in step["places"]
    }
    assert "corvane.reed14.bios" not in {
        line["product"] for line in api.post("packing", {"servers": ["surge-07"]})["lines"]
    }
    run = api.post("runs", {"servers": ["surge-07"]})
    assert "corvane.reed14.bios" not in json.dumps(run["servers"]) and run["revision"] == 1
    row = Run.objects.get(pk=run["id"]).servers.get()
    assert row.left_out == {step["places"][0]["slot"]: "forecast runs tonight"}
    api.post("left-out/put-back", {"places": step["places"]})
    assert "corvane.reed14.bios" in {s["product"] for s in api.get("review?servers=surge-07")["steps"]}
    assert Exclusion.objects.filter(put_back_by="technician").count() == len(step["places"])


def test_a_run_keeps_the_baseline_it_was_planned_by(api):
    run = api.post("runs", {"servers": ["surge-07"]})
    make(api, wanted(api, HOLD_NICS))
    row = Run.objects.get(pk=run["id"])
    assert row.revision == 1 and len(row.rules["rules"]) == 2
    assert {
        "model": "Corvane Reed 14",
        "maker": "Corvane",
        "catalog": "corvane-servers",
        "issue": "2026-11",
    } in row.follows
    assert api.post("runs", {"servers": ["surge-09"]})["revision"] == 2


@pytest.fixture
def advisories(api, mirror_folder):
    for path in sorted((mirror_folder / "advisories").glob("*.json")):
        assert api.send("advisories", file=(path.name, path.read_bytes()))["state"] == "new"
    return {row["id"]: row for row in api.get("advisories")}


def test_who_is_affected_by_an_advisory_and_what_ends_it(api, advisories):
    bios = advisories["CRV-SA-2026-014"]
    exposed = {r["server"] for r in api.get("exports/drift.json")["components"] if "CRV-SA-2026-014" in r["fixes"]}
    shown = {n for f in api.get("drift?advisory=CRV-SA-2026-014")["folds"] for n in f["names"]}
    assert shown == exposed and bios["affected"] == len(exposed) > 0
    assert {
        c["ends"] for c in bios["concerns"] if c["product"] == "corvane.reed14.bios" and c["status"] == "affected"
    } == {"3.2.0"}
    foreign = advisories["CRV-SA-2026-009"]
    assert foreign["affected"] == 0 and foreign["reason"] == "no catalog here lists Marsh 20 controller"
    assert api.get("drift?advisory=nothing")[0] == 404


def test_an_advisory_is_renewed_by_a_newer_version_only(api, advisories, mirror_folder):
    raw = json.loads((mirror_folder / "advisories" / "crv-sa-2026-014.json").read_text())
    raw["document"]["tracking"] |= {"version": "2", "current_release_date": "2026-11-20T09:00:00Z"}
    assert api.send("advisories", file=("a.json", json.dumps(raw).encode()))["state"] == "renewed"
    assert api.send("advisories", file=("a.json", json.dumps(raw).encode()))["state"] == "known"
    old = (mirror_folder / "advisories" / "crv-sa-2026-014.json").read_bytes()
    status, problem = api.send("advisories", file=("a.json", old))
    assert (status, problem["type"]) == (409, "ordnung:older") and "version 2" in problem["detail"]
    raw["document"]["csaf_version"] = "1.0"
    raw["document"].pop("title")
    assert len(api.send("advisories", file=("a.json", json.dumps(raw).encode()))[1]["faults"]) == 2


def test_the_bill_of_materials_is_valid_and_as_narrow_as_the_view(api, monkeypatch):
    answer = api.web.get("/api/v1/exports/firmware.cdx.json?servers=surge-07")
    assert answer["Content-Type"] == "application/vnd.cyclonedx+json; version=1.6"
    assert JsonStrictValidator(SchemaVersion.V1_6).validate_str(answer.content.decode()) is None
    (device,) = json.loads(answer.content)["components"]
    assert device["name"] == "surge-07" and len(device["components"]) == len(api.get("servers/surge-07")["parts"])
    monkeypatch.setattr("ordnung.server.api.drift.MOST_IN_BOM", 3)
    assert api.get("exports/firmware.cdx.json")[1]["type"] == "ordnung:too-many"
