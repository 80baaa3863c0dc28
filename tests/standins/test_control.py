"""The control port and the command line: faults, power cuts, moves; SSDP; many stand-ins in one process."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
import urllib.error
import urllib.request

import pytest

from ordnung.controllers.ssdp import read_answer, search
from ordnung.formats.siteclock import start_clock
from ordnung.standins.faults import Fault
from ordnung.standins.ssdp import Announcer
from tests.journeys.site import control, free_port
from tests.standins.faces import Https


def test_faults_are_set_shown_and_cleared(live):
    base = live.floor.control_url
    assert control(base, "/servers/surge-02/faults", {"kind": "image refused", "slot": "bios"}) == {"faults": ["image refused"]}  # fmt: skip
    control(base, "/servers/surge-02/faults", {"kind": "busy", "seconds": 1})
    assert [f.kind for f in live.device("surge-02").faults] == ["image refused", "busy"]
    assert control(base, "/servers/surge-02/faults?kind=busy", method="DELETE") == {"faults": ["image refused"]}
    for body in ({"kind": "no such fault"}, {"odd": 1}):
        with pytest.raises(urllib.error.HTTPError):
            control(base, "/servers/surge-02/faults", body)
    told = control(base, "/servers/surge-02/log")
    assert told["versions"]["bios"] == "3.2.0" and told["dead"] == []
    given = control(base, "/faults/random", {"seed": 3, "count": 1})["faults"]
    assert len(given) == 16 and all(given.values())


def test_refused_means_that_nobody_listens(live):
    base = live.floor.control_url
    control(base, "/servers/surge-02/faults", {"kind": "refused"})
    with pytest.raises(urllib.error.URLError, match="refused"):
        Https(live, "surge-02").ask("GET", "/redfish/v1")
    control(base, "/servers/surge-02/faults", method="DELETE")
    assert Https(live, "surge-02").ask("GET", "/redfish/v1")[0] == 200


def test_a_power_cut_a_move_and_manners(live):
    base = live.floor.control_url
    control(base, "/servers/surge-02/power-cut", {})
    assert live.device("surge-02").is_away
    live.device("surge-02").away_until = 0
    control(base, "/servers/surge-02/move", {"address": "127.20.9.9"})
    assert live.floor.urls["surge-02"].startswith("https://127.20.9.9:")
    with pytest.raises(urllib.error.HTTPError):
        control(base, "/servers/surge-02/move", {"address": "10.0.0.1"})
    assert control(base, "/servers/surge-02/quirks", {"quirks": ["paged"]}) == {"quirks": ["paged"]}
    with pytest.raises(urllib.error.HTTPError):
        control(base, "/servers/surge-02/quirks", {"quirks": ["polite"]})


def command(live, *arguments):
    line = [sys.executable, "-m", "ordnung.fieldkit.main", "fault", *arguments, "--control", live.floor.control_url]
    return subprocess.run(line, capture_output=True, text=True, check=False)


def test_the_command_line_sets_faults_too(live):
    assert json.loads(command(live, "surge-02", "busy", "--seconds", "3").stdout) == {"faults": ["busy"]}
    assert live.device("surge-02").faults == [Fault("busy", seconds=3.0)]
    assert command(live, "surge-02", "--clear").returncode == 0 and live.device("surge-02").faults == []
    assert command(live, "surge-02", "nonsense").returncode == 2
    assert "a volume rebuilds" in command(live, "x", "--list").stdout


async def test_a_search_finds_each_service_once():
    port = free_port()
    uuids = [f"6f0a1d1e-52c1-4f0b-9e0a-0d0c1f0e{n:04x}" for n in range(300)]
    announcer = Announcer(port, lambda: [(uuid, f"https://127.20.1.1:{9000 + n}/redfish/v1/") for n, uuid in enumerate(uuids)])  # fmt: skip
    await announcer.start()
    try:
        found = await search("127.0.0.1", 0.6, port)
    finally:
        announcer.stop()
    assert sorted(told.uuid for told in found) == uuids and found[0].url.startswith("https://127.20.1.1:")


GOOD = b"HTTP/1.1 200 OK\r\nUSN: uuid:6f0a1d1e-52c1-4f0b-9e0a-0d0c1f0e0001::urn:dmtf-org:service:redfish-rest:1\r\nAL: https://10.0.0.1/redfish/v1/\r\n\r\n"  # fmt: skip


@pytest.mark.parametrize(
    ("raw", "counts"),
    [
        (GOOD, True),
        (GOOD.replace(b"200 OK", b"500 No"), False),
        (GOOD.replace(b"https", b"http"), False),
        (GOOD.replace(b"/redfish/v1/", b"/other"), False),
        (GOOD.replace(b"redfish-rest", b"printer"), False),
        (b"\xff\xfe", False),
        (b"", False),
    ],
)
def test_only_answers_of_redfish_services_count(raw, counts):
    assert (read_answer(raw) is not None) == counts


def test_stand_ins_started_again_are_where_they_were(tmp_path):
    """A demo started again resumed its runs at addresses where nobody was."""
    from ordnung.standins.floor import Floor, FloorSettings
    from ordnung.standins.scenario import RACK_K1, demo_hardware

    async def life():
        clock = start_clock(60)
        floor = Floor(
            demo_hardware(clock.seconds, RACK_K1[:2]), FloorSettings(folder=tmp_path, port=0, keep=True), clock
        )
        await floor.start()
        urls = {**floor.urls, "mirror": floor.mirror_url, "depot": floor.depot_url, "desk": floor.desk_url}
        await floor.stop()
        return urls

    assert asyncio.run(life()) == asyncio.run(life())


def test_the_control_port_is_there_only_for_those_it_was_announced_to_and_by_its_address(live):
    whole = live.floor.control_url
    base = whole.rpartition("/")[0]

    def status(url, **headers):
        try:
            with urllib.request.urlopen(urllib.request.Request(url, headers=headers)) as answer:
                return answer.status
        except urllib.error.HTTPError as error:
            return error.code

    assert status(f"{whole}/servers") == 200
    assert status(f"{base}/servers") == status(f"{base}/guessed/servers") == 404
    assert status(f"{whole}/servers", Host="rebound.example") == 403
