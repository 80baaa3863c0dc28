"""CSAF 2.0 advisories, good and hostile; CycloneDX under its strict schema."""

from __future__ import annotations

import contextlib
import copy
import datetime
import json

import pytest
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from hypothesis import given
from hypothesis import strategies as st

from ordnung.core.assessment import assess_fleet
from ordnung.core.catalog import Payload
from ordnung.core.components import Component, Server
from ordnung.core.rules import FIXED_RULES
from ordnung.formats.bom import write_bom
from ordnung.formats.csaf import parse_advisory, parse_range
from ordnung.formats.errors import FormatError
from ordnung.standins.publishing import ADVISORIES, make_advisory
from tests.core.houses import DAY, catalogs, component, product, release

GOOD = make_advisory(*ADVISORIES[0])


def raw(document) -> bytes:
    return json.dumps(document).encode()


def test_an_advisory_is_read():
    found = parse_advisory(raw(GOOD))
    assert (found.id, found.publisher, found.score) == ("CRV-SA-2026-014", "Corvane", 8.1)
    first = next(s for s in found.statements if s.status == "affected")
    assert (first.name, first.vendor, first.identifiers, first.versions.bounds) == (
        "Reed 14 BIOS",
        "Corvane",
        ("CRV-R14-BIOS",),
        (("<", "3.2.0"),),
    )
    assert len(found.statements) == 6 and found.remedies[0].category == "vendor fix"


@pytest.mark.parametrize("entry", ADVISORIES, ids=[entry[0] for entry in ADVISORIES])
def test_the_made_up_advisories_are_good(entry):
    parse_advisory(raw(make_advisory(*entry)))


def changed(change):
    document = copy.deepcopy(GOOD)
    change(document)
    return document


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda d: d["document"].update(csaf_version="1.2"), "document.csaf_version"),
        (lambda d: d["document"].pop("tracking"), "'tracking' is a required property"),
        (lambda d: d["document"]["tracking"].update(current_release_date="soon"), "is not a moment"),
        (lambda d: d["vulnerabilities"][0]["product_status"]["fixed"].append("nobody"), "nobody is defined nowhere"),
        (
            lambda d: d["vulnerabilities"][0]["product_status"]["fixed"].append("CRV-R14-BIOS-affected"),
            "is said to be affected and fixed",
        ),
        (
            lambda d: d["product_tree"].update(full_product_names=[{"name": "x", "product_id": "CRV-R14-BIOS-fixed"}]),
            "is defined twice",
        ),
        (
            lambda d: d["product_tree"]["branches"][0]["branches"][0]["branches"][0].update(name="vers:/"),
            "is no range of versions",
        ),
        (lambda d: d["vulnerabilities"][0]["scores"][0]["cvss_v3"].update(baseScore=11), "baseScore"),
        (
            lambda d: d["product_tree"].update(
                relationships=[
                    {
                        "category": "installed_on",
                        "full_product_name": {"name": "x", "product_id": "y"},
                        "product_reference": "a",
                        "relates_to_product_reference": "b",
                    }
                ]
            ),
            "a is defined nowhere",
        ),
    ],
)
def test_a_bad_one_is_refused_with_its_place(change, told):
    with pytest.raises(FormatError, match="advisory") as caught:
        parse_advisory(raw(changed(change)), "advisory.json")
    assert told in str(caught.value)


def test_what_is_installed_on_something_is_still_itself():
    relation = {
        "category": "installed_on", "full_product_name": {"name": "BIOS on Reed 14", "product_id": "both"},
        "product_reference": "CRV-R14-BIOS-affected", "relates_to_product_reference": "CRV-R12-BIOS-fixed",
    }  # fmt: skip
    document = changed(
        lambda d: (
            d["product_tree"].update(relationships=[relation]),
            d["vulnerabilities"][0].update(product_status={"known_affected": ["both"]}),
        )
    )
    (statement,) = parse_advisory(raw(document)).statements
    assert statement.identifiers == ("CRV-R14-BIOS",) and statement.versions.bounds == (("<", "3.2.0"),)


def relation(name: str, of: str, on: str = "CRV-R12-BIOS-fixed"):
    return {
        "category": "installed_on", "full_product_name": {"name": name, "product_id": name}, "product_reference": of,
        "relates_to_product_reference": on,
    }  # fmt: skip


def with_relations(*relations, **status):
    return changed(
        lambda d: (
            d["product_tree"].update({"relationships": list(relations)} if relations else {}),
            d["vulnerabilities"][0].update(product_status=status),
        )
    )


def test_a_relationship_may_name_one_that_stands_later_and_none_defines_itself():
    chain = (relation("outer", "inner"), relation("inner", "CRV-R14-BIOS-affected", on="outer"))
    (statement,) = parse_advisory(raw(with_relations(*chain, known_affected=["outer"]))).statements
    assert statement.identifiers == ("CRV-R14-BIOS",)
    circle = (relation("one", "two"), relation("two", "one"))
    with pytest.raises(FormatError, match="is defined by itself"):
        parse_advisory(raw(with_relations(*circle, known_affected=["one"])))


@pytest.mark.parametrize("said", ["known_affected", "known_not_affected"])
def test_what_is_recommended_contradicts_nothing_and_says_nothing_where_something_else_is_said(said):
    both = with_relations(**{said: ["CRV-R14-BIOS-affected"], "recommended": ["CRV-R14-BIOS-affected"]})
    (statement,) = parse_advisory(raw(both)).statements
    assert statement.status == said.removeprefix("known_").replace("_", " ")
    alone = with_relations(recommended=["CRV-R14-BIOS-fixed"], known_affected=["CRV-R14-BIOS-affected"])
    assert {s.status for s in parse_advisory(raw(alone)).statements} == {"affected", "fixed"}
    with pytest.raises(FormatError, match=r"recommended\.0.*nobody is defined nowhere"):
        parse_advisory(raw(with_relations(recommended=["nobody"])))


def test_moments_with_small_letters_who_may_see_it_and_what_a_remedy_takes_are_kept():
    def change(document):
        head, (first, *_) = document["document"], document["vulnerabilities"]
        head["tracking"]["current_release_date"] = "2026-10-07t08:00:00z"
        head["distribution"] = {"tlp": {"label": "AMBER"}}
        first["remediations"] = [
            {"category": "vendor_fix", "details": "Update.", "url": "https://corvane.example/fix", "restart_required": {"category": "machine"}},
            {"category": "workaround", "details": "Wait.", "url": "javascript:alert(1)", "restart_required": {"category": "none"}},
        ]  # fmt: skip

    found = parse_advisory(raw(changed(change)))
    assert found.released.isoformat() == "2026-10-07T08:00:00+00:00" and found.tlp == "AMBER"
    told = [(r.url, r.restart) for r in found.remedies]
    assert told == [("https://corvane.example/fix", "of the server"), ("", "")]


def places(value, path=()):
    yield path
    for key, child in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
        yield from places(child, (*path, key))


junk = (
    st.none()
    | st.booleans()
    | st.integers()
    | st.text(max_size=6)
    | st.lists(st.none(), max_size=2)
    | st.just({})
    | st.just({"name": {}})
)


@given(st.data())
def test_one_value_exchanged_for_junk(data):
    document = copy.deepcopy(GOOD)
    *path, last = data.draw(st.sampled_from([p for p in places(GOOD) if p]))
    inside = document
    for key in path:
        inside = inside[key]
    inside[last] = data.draw(junk)
    with contextlib.suppress(FormatError):
        parse_advisory(raw(document), "file")


@given(st.binary(max_size=200))
def test_bytes_that_are_no_advisory(data):
    with pytest.raises(FormatError):
        parse_advisory(data)


@given(st.text(max_size=30))
def test_a_range_is_read_or_is_none(text):
    found = parse_range(text)
    assert found is None or all(mark in ("=", "!=", "<", "<=", ">", ">=") and bound for mark, bound in found.bounds)


def test_branches_without_end_are_refused():
    branch: dict = {"category": "vendor", "name": "x"}
    for _ in range(40):
        branch = {"category": "vendor", "name": "x", "branches": [branch]}
    with pytest.raises(FormatError):
        parse_advisory(raw(changed(lambda d: d["product_tree"].update(branches=[branch]))))


BIOS = product("bios", release("1.0", payload=Payload(path="a", size=1, sha256="ab" * 32)), release("2.0"))
MOMENT = datetime.datetime(2026, 11, 23, 2, 0, tzinfo=datetime.UTC)
strict = JsonStrictValidator(SchemaVersion.V1_6)


def bom(*servers: Server) -> dict:
    text = write_bom(assess_fleet(servers, catalogs(BIOS), FIXED_RULES, DAY), MOMENT)
    assert strict.validate_str(text.decode()) is None
    return json.loads(text)


def test_a_bill_of_materials_names_firmware_makers_and_hashes():
    stray = Component(slot="n1", kind="nic", name="Stray", version=None)
    told = bom(
        Server(
            name="surge-01",
            model="Reed 14",
            serial="CRV14-0001",
            read_at=MOMENT,
            components=(component("bios", "bios", "1.0"), stray),
        )
    )
    (device,) = told["components"]
    firmware = {c["name"]: c for c in device["components"]}
    assert device["type"] == "device" and {c["type"] for c in firmware.values()} == {"firmware"}
    assert firmware["bios"]["version"] == "1.0" and firmware["bios"]["manufacturer"] == {"name": "Corvane"}
    assert firmware["bios"]["hashes"] == [{"alg": "SHA-256", "content": "ab" * 32}]
    assert "version" not in firmware["Stray"] and "hashes" not in firmware["Stray"]


def test_the_same_fleet_gives_the_same_bytes_and_a_change_another_number():
    servers = [Server(name=f"s{n}", model="m", components=(component("b", "bios", "1.0"),)) for n in range(3)]
    one, again = (write_bom(assess_fleet(servers, catalogs(BIOS), FIXED_RULES, DAY), MOMENT) for _ in range(2))
    assert one == again
    assert bom(*servers)["serialNumber"] != bom(servers[0])["serialNumber"]


names = st.text(min_size=1, max_size=10).filter(str.strip)


@given(st.lists(st.tuples(names, names, st.none() | names), max_size=4, unique_by=lambda t: t[0]))
def test_any_names_make_a_valid_bill(rows):
    parts = tuple(Component(slot=slot, kind="nic", name=name, version=version) for slot, name, version in rows)
    bom(Server(name="s", model="m", components=parts))
