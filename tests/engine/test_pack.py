"""Packing: what is good is sealed, what lies is refused by name, and the list travels with the payloads."""

from __future__ import annotations

import dataclasses
import datetime

import pytest

from ordnung.core.assessment import assess_fleet
from ordnung.core.catalog import Wrapping
from ordnung.core.components import Component, Server
from ordnung.core.matching import Catalogs
from ordnung.core.packing import plan_packing
from ordnung.core.rules import FIXED_RULES
from ordnung.engine.compose import CatalogFile, Documents, Heading, compose
from ordnung.engine.pack import fetch_all
from ordnung.formats.catalog import parse_catalog, write_catalog
from ordnung.formats.packing import parse_packing, write_packing
from ordnung.repository import Fetcher
from ordnung.standins.makers import RAID_R9
from ordnung.store import ContentStore

NOW = datetime.datetime.now(datetime.UTC)


@pytest.fixture
def packed(live, mirror_folder):
    """The packing list of one server, from the live mirror."""
    live.floor.mirror.folder = mirror_folder
    issues = [parse_catalog(p.read_bytes()) for p in sorted((mirror_folder / "catalogs").glob("*.json"))]
    catalogs = Catalogs(tuple(dataclasses.replace(i, base=live.floor.mirror_url) for i in issues))
    part = Component(slot="raid-1", kind="raid", name="R9", software_id="TSY-R9", version="7.16.1", pci=RAID_R9.pci)
    server = Server(name="surge-03", model="Corvane Reed 14", components=(part,))
    return plan_packing(assess_fleet([server], catalogs, FIXED_RULES, NOW.date())), catalogs.issues


async def no_time(_seconds):
    """Waiting between two tries takes none here."""


async def fetch(live, tmp_path, packed):
    told = []

    async def tell(state):
        told.append(state)

    async with Fetcher(ContentStore(tmp_path / "store"), live.ca, sleep=no_time) as fetcher:
        return await fetch_all(packed, fetcher, tell), told


async def test_a_good_list_is_fetched_and_sealed(live, tmp_path, packed):
    lines, issues = packed
    good, told = await fetch(live, tmp_path, lines)
    assert [(line.release.version, line.reasons) for line, _ in good] == [
        ("7.16.1", ("way back",)),
        ("7.18.0", ("target",)),
    ]
    assert [t.state for t in told if t.state != "fetching"] == ["packed", "packed"]
    documents = Documents(catalogs=[file_of(issue) for issue in issues], rules=b"{}")
    store = ContentStore(tmp_path / "store")
    heading = Heading(
        name="annex", series="0" * 32, edition=3, made_at=NOW, made_by="lead", revision=2, servers=("surge-03",)
    )
    composed = compose([line for line, _ in good], documents, heading, store)
    assert parse_packing(write_packing(composed.packing)) == composed.packing
    assert [p.servers for p in composed.packing.payloads] == [("surge-03",), ("surge-03",)]
    assert {c.path for c in composed.contents} == {
        "payloads/tessaly.r9/raid-7.16.1.pldm", "payloads/tessaly.r9/raid-7.18.0.pldm", "packing.json", "rules.json",
        *(f"catalogs/{i.catalog}-{i.issue}.json" for i in issues),
    }  # fmt: skip
    again = compose([line for line, _ in good], documents, heading, store)
    assert again.packing == composed.packing and again.contents == composed.contents


def file_of(issue):
    return CatalogFile(maker=issue.maker, catalog=issue.catalog, issue=issue.issue, raw=write_catalog(issue))


@pytest.mark.parametrize("fault", ["altered", "cut short", "dead"])
async def test_one_that_lies_is_refused_and_the_other_kept(live, tmp_path, packed, fault):
    live.floor.mirror.faults["tessaly/r9/raid-7.18.0.pldm"] = fault
    good, told = await fetch(live, tmp_path, packed[0])
    assert [line.release.version for line, _ in good] == ["7.16.1"]
    (refused,) = [t for t in told if t.state == "refused"]
    assert refused.version == "7.18.0" and "raid-7.18.0.pldm" in refused.message


@pytest.mark.parametrize(
    ("bearers", "why"), [((), "names no payload"), (("host", "disc"), "the catalog has it for disc and host alone")]
)
async def test_a_release_without_a_payload_for_controllers_is_named_missing(live, tmp_path, packed, bearers, why):
    """N2.8: nobody picks the wrong wrapping, and where the right one is missing it is said."""
    (line,) = packed[0][:1]
    wrappings = tuple(Wrapping(bearer=bearer, payload=line.release.payload) for bearer in bearers)
    lacking = dataclasses.replace(line.release, payload=None, wrappings=wrappings)
    good, told = await fetch(live, tmp_path, [dataclasses.replace(line, release=lacking)])
    assert good == [] and why in told[0].message


async def test_a_package_for_another_device_is_refused(live, tmp_path, packed, mirror_folder):
    """The catalog's checksum is right, but the package behind it is another maker's."""
    import hashlib

    other = "quorrin/q25/nic-24.2.8.pldm"
    raw = (mirror_folder / other).read_bytes()
    line = packed[0][1]
    payload = dataclasses.replace(
        line.release.payload, path=other, size=len(raw), sha256=hashlib.sha256(raw).hexdigest()
    )
    wrong = dataclasses.replace(line, release=dataclasses.replace(line.release, payload=payload))
    good, told = await fetch(live, tmp_path, [wrong])
    assert good == [] and "the package is for QUO-Q25, not for Tessaly R9 RAID" in told[-1].message
