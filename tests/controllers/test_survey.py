"""The survey against hardware models: what is read is what is there, whatever the controller's manners."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ordnung.controllers import ControllerError, Endpoint
from ordnung.controllers.survey import _partition, read_server
from ordnung.core.merge import merge_host_report
from ordnung.demo.reports import write_reports
from ordnung.formats.host_report import parse_host_report
from ordnung.formats.readings import parse_readings, write_readings
from ordnung.standins.faults import QUIRKS
from ordnung.standins.models import MODELS
from ordnung.standins.scenario import PLACES, demo_hardware, random_places
from tests.simulation.lines import controller_of

NOW = datetime.datetime(2026, 11, 23, 1, 0, tzinfo=datetime.UTC)
BY_NAME = {place.name: place for place in PLACES}


def seconds() -> float:
    return NOW.timestamp()


def read(device):
    return asyncio.run(controller_of(device).read(lambda: NOW))


def read_line(line):
    return asyncio.run(read_server(line, Endpoint(name="x", url="https://x", user="", password=""), lambda: NOW))


def story(name):
    return demo_hardware(seconds, [BY_NAME[name]])[0]


def known(part, device) -> dict:
    """What an exact reading says of a part."""
    plain, old = "no optional" in device.quirks, device.generation == "oldest"
    listed = part.kind != "store" and not (old and part.kind not in ("bios", "controller"))
    version = (part.version or None) if part.store in (None, "ready") else None
    if "no drive revision" in device.quirks and part.kind == "drive" and old:
        version = None
    facts = {
        "slot": part.slot,
        "kind": part.kind,
        "version": version,
        "waiting": part.waiting if listed else None,
        "software_id": part.software_id if listed or part.kind == "store" else None,
        "updateable": part.kind == "controller" if old else True,
        "pci": None if plain or part.kind not in ("raid", "nic") else part.pci,
    }
    banks = [v for v in (part.version, part.spare) if v] if listed else [version] if version else []
    return facts | {"banks": tuple(banks) if part.kind != "store" else ()}


def expected(device) -> list[dict]:
    plain, old = "no optional" in device.quirks, device.generation == "oldest"
    seen = [part for part in device.seen if not (old and plain and part.kind == "power")]
    # The oldest list neither backplanes nor anything else that no resource stands for.
    return sorted(
        (known(part, device) for part in seen if not (old and part.kind == "backplane")), key=lambda f: f["slot"]
    )


def told(server) -> list[dict]:
    names = ("slot", "kind", "version", "waiting", "software_id", "updateable", "pci", "banks")
    return sorted(({n: getattr(c, n) for n in names} for c in server.components), key=lambda f: f["slot"])


@pytest.mark.exhaustive
@given(seed=st.integers(0, 10**6), quirks=st.sets(st.sampled_from(sorted(QUIRKS)), max_size=3))
def test_a_reading_of_a_random_stand_in_is_its_hardware(seed, quirks):
    (place,) = random_places(1, seed, MODELS)
    (device,) = demo_hardware(seconds, [dataclasses.replace(place, quirks=frozenset(quirks))])
    server = read(device)
    uuid = "00000000-0000-0000-0000-000000000000" if "zero uuid" in quirks else device.uuid
    assert (server.model, server.serial, server.uuid, server.tag) == (device.model, device.serial, uuid, device.asset_tag)  # fmt: skip
    assert told(server) == expected(device)
    assert server.facts.expands == (device.generation == "newest" and "expand broken" not in quirks)


@pytest.mark.exhaustive
@pytest.mark.parametrize("quirk", QUIRKS)
@pytest.mark.parametrize("name", ["surge-07", "gauge-01", "watch-03", "sump-01", "vault-03"])
def test_each_manner_of_real_controllers_is_borne(quirk, name):
    (device,) = demo_hardware(seconds, [dataclasses.replace(BY_NAME[name], quirks=frozenset({quirk}))])
    assert told(read(device)) == expected(device)


def test_six_equal_cards_are_six_components_and_one_lags():
    cards = [c for c in read(story("vault-03")).components if c.kind == "nic"]
    assert len(cards) == 6 and len({c.slot for c in cards}) == 6 and len({c.serial for c in cards}) == 6
    assert [c.slot for c in cards if c.version == "24.1.3"] == ["nic-5"]


def test_two_of_eight_drives_lag():
    drives = [c for c in read(story("surge-07")).components if c.kind == "drive"]
    assert sorted(c.version for c in drives) == ["GX02", "GX02", *["GX04"] * 6]


def test_a_written_release_that_waits_is_told():
    bios = read(story("surge-08")).component("bios")
    assert (bios.version, bios.waiting, bios.banks) == ("2.1.0", "2.4.1", ("2.1.0", "2.4.1"))


def test_the_oldest_say_little_until_their_controller_is_updated():
    device = story("sump-01")
    before = read(device)
    assert [c.slot for c in before.components if c.updateable] == ["bmc"]
    assert before.facts.push == "own" and before.facts.pulls == ()
    device.part("bmc").version = "1.30.0"
    after = read(device)
    assert all(c.updateable for c in after.components) and after.facts.pulls == ("HTTP",)
    assert {c.slot for c in after.components} == {c.slot for c in before.components}, (
        "the same components, known better"
    )


def test_partitions_of_a_flash_store_are_components():
    for name, states in (("watch-03", [None] * 3), ("watch-05", ["blank"] * 3), ("watch-07", [None, "damaged", None])):
        stores = [c for c in read(story(name)).components if c.kind == "store"]
        assert [c.state for c in stores] == states, name
        assert all((c.version is None) == (c.state is not None) == c.is_empty for c in stores)
        assert all(c.can_set_up for c in stores)


def test_a_partition_that_is_switched_off_is_no_damaged_one():
    body = {"Id": "diag", "Version": "5.1", "Status": {"State": "Disabled", "Health": "OK"}}
    assert _partition(body, "diag", None).state is None


def test_the_state_of_a_service_partition_is_that_of_no_array():
    facts = read(story("watch-07")).facts
    assert facts.arrays_broken == () and [name for name, _ in facts.volumes] == ["Volume 1"]


def test_what_the_controller_does_not_see_is_not_told():
    device = story("watch-06")
    assert device.part("nic-2").hidden and read(device).component("nic-2") is None


@pytest.mark.parametrize("name", ["vault-03", "watch-02", "watch-05", "gauge-11", "chart-14", "sump-01", "surge-08"])
def test_a_reading_survives_writing_and_reading(name):
    server = read(story(name))
    assert parse_readings(write_readings([server])) == (server,)


def test_a_host_report_of_the_demo_fills_in_what_the_controller_hides(tmp_path):
    (path,) = write_reports(tmp_path, NOW)
    server = read(story("watch-06"))
    merged = merge_host_report(server, parse_host_report(path.read_bytes()))
    assert parse_host_report(path.read_bytes()).is_of(server)
    added = [c for c in merged.components if c.origin == "host report"]
    assert [c.name for c in added] == ["Unmarked N10, 4 ports"]
    assert (
        all(c.reported is None for c in merged.components) and sum(c.origin == "both" for c in merged.components) == 5
    )


# A hostile or broken controller


class Scripted:
    """Answers from a table; everything else is missing."""

    def __init__(self, table):
        self.table = table

    def bears_more(self):
        pass

    async def find(self, path):
        return self.table.get(path.rstrip("/")) if path else None


ROOT = {"Systems": {"@odata.id": "/s"}, "RedfishVersion": "1.0", "UpdateService": {"@odata.id": "/u"}}


def scripted(**more):
    table = {"/redfish/v1": ROOT, "/u": {"FirmwareInventory": {"@odata.id": "/f"}}}
    table |= {"/s": {"Members": [{"@odata.id": "/s/1"}]}, "/s/1": {"@odata.id": "/s/1"}}
    return Scripted(table | {path.replace("_", "/"): body for path, body in more.items()})


def test_a_bare_service_is_read_as_what_it_is():
    server = read_line(scripted())
    assert server.model == "" and [c.slot for c in server.components] == ["bios"]


def test_one_without_a_system_is_no_server():
    """It was read as a server with a BIOS of no version, while its controller was not awake yet."""
    with pytest.raises(ControllerError, match="it tells of no system"):
        read_line(scripted(_s={"Members": []}))


def test_a_service_that_is_none_is_not_redfish():
    for table in ({}, {"/redfish/v1": {"hello": 1}}):
        with pytest.raises(ControllerError) as caught:
            read_line(Scripted(table))
        assert caught.value.cause == "not Redfish"


def test_two_entries_of_one_id_are_two_components():
    entries = [{"@odata.id": f"/f/{n}", "Id": f"card {n}", "Name": "Card", "Version": "1"} for n in (1, 2)]
    entries[1]["Id"] = "card 1"
    folder = {"Members": [{"@odata.id": "/f/1"}, {"@odata.id": "/f/2"}]}
    line = scripted(_f=folder, _f_1=entries[0], _f_2=entries[1])
    server = read_line(line)
    assert len({c.slot for c in server.components}) == len(server.components)


def test_a_collection_that_leads_in_circles_ends():
    folder = {"Members": [], "Members@odata.nextLink": "/f"}
    assert read_line(scripted(_f=folder)).components


def test_a_service_without_an_update_service_is_read_by_its_tree():
    root = {"Systems": {"@odata.id": "/s"}, "RedfishVersion": "1.0"}
    system = {"@odata.id": "/s/1", "Id": "1", "Model": "Open", "BiosVersion": "7"}
    table = {"/redfish/v1": root, "/s": {"Members": [{"@odata.id": "/s/1"}]}, "/s/1": system}
    server = read_line(Scripted(table))
    assert (server.model, server.component("bios").version) == ("Open", "7")


def test_members_that_stand_inline_are_read_as_given():
    entries = [{"Id": "fw1", "Name": "Card", "Version": "1"}, {"Id": "fw2", "Name": "Card", "Version": "2"}]
    server = read_line(scripted(_f={"Members": entries}))
    assert [(c.slot, c.version) for c in server.components if c.slot.startswith("fw")] == [("fw1", "1"), ("fw2", "2")]


shapes = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(
        ["@odata.id", "Members", "Id", "Version", "Status", "State", "RelatedItem", "Links", "Drives", "Controllers", "Operations"]
    ), inner, max_size=4),
    max_leaves=12,
)  # fmt: skip


@pytest.mark.exhaustive
@given(st.dictionaries(st.sampled_from(["/s", "/u", "/f", "/c", "/m"]), st.dictionaries(
    st.sampled_from(["Members", "FirmwareInventory", "Actions", "Storage", "Bios", "Id", "Version", "Status", "DateTime"]), shapes, max_size=5,
)))  # fmt: skip
def test_whatever_a_controller_answers_is_a_reading_or_a_controller_error(table):
    root = {**ROOT, "Chassis": {"@odata.id": "/c"}, "Managers": {"@odata.id": "/m"}}
    with contextlib.suppress(ControllerError):
        read_line(Scripted({"/redfish/v1": root, "/u": {}, **table}))
