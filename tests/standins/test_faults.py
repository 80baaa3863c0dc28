"""Every fault of updates and resets, on the hardware model in virtual time: the device's own log is the witness."""

from __future__ import annotations

import json

import pytest

from ordnung.standins import makers as m
from ordnung.standins.faults import CHANGING, FAULTS, LASTING, QUIRKS, Fault, random_faults
from ordnung.standins.hardware import writes_of
from ordnung.standins.keeping import dump, load
from ordnung.standins.redfish import Request, Service
from ordnung.standins.resets import cut_power, reboot, restart_controller
from ordnung.standins.scenario import PLACES, demo_hardware
from tests.standins.faces import BASIC


class Time:
    def __init__(self):
        self.now = 1_000_000.0

    def __call__(self):
        return self.now


@pytest.fixture
def time():
    return Time()


@pytest.fixture
def device(time):
    return demo_hardware(time, [p for p in PLACES if p.name == "surge-03"])[0]


def put(device, kind, **facts):
    device.faults.append(Fault(kind, **facts))


def send(device, time, slot="raid-1", make=m.RAID_R9, version="7.18.0", wait=1000.0):
    task = device.open_task([slot], {})
    device.receive_image(task, m.make_package(make, make.made(version)))
    time.now += wait
    device.advance()
    return task


def ask(device, path, method="GET", body=b""):
    headers = {"authorization": BASIC, "content-type": "application/json"}
    return Service().answer(device, Request(method=method, path=path, headers=headers, body=body))


def test_a_write_that_stalls_stands_at_47_percent_for_ever(device, time):
    put(device, "task stalls", slot="raid-1")
    task = send(device, time)
    assert (task.state, task.percent) == ("Running", 47)
    time.now += 10**6
    device.advance()
    assert (task.state, task.percent) == ("Running", 47) and device.part("raid-1").waiting is None


def test_a_task_that_vanishes_is_gone_after_the_restart(device, time):
    put(device, "task vanishes")
    task = send(device, time)
    assert ask(device, f"/redfish/v1/TaskService/Tasks/{task.id}").status == 200
    restart_controller(device)
    time.now = device.away_until + 1
    assert ask(device, f"/redfish/v1/TaskService/Tasks/{task.id}").status == 404
    assert send(device, time).id != task.id, "numbers are not given twice"


def test_a_task_that_lies_says_done_and_nothing_changed(device, time):
    put(device, "task lies")
    assert send(device, time).state == "Completed"
    reboot(device)
    time.now += 1000
    device.advance()
    assert device.part("raid-1").version == "7.16.1"


def test_a_component_that_fails_while_written_ends_the_task(device, time):
    put(device, "write fails", slot="drive-00")
    task = send(device, time, "drive-00", m.DRIVE_S4, "GX03", wait=40)
    assert task.state == "Exception" and "failed while writing" in str(task.messages)
    assert device.part("drive-00").version == "GX04" and not device.part("drive-00").dead


@pytest.mark.parametrize(
    ("kind", "message"),
    [("image refused", "VerificationFailed"), ("signature refused", "VerificationFailed"), ("staging full", "TransferFailed")],
)  # fmt: skip
def test_refusals_happen_before_anything_is_written(device, time, kind, message):
    put(device, kind)
    task = send(device, time)
    assert task.state == "Exception" and message in task.messages[-1][0]
    assert writes_of(device.log) == []
    assert send(device, time).state == "Completed", "used up"


def test_a_controller_that_stays_away_and_a_start_that_hangs(device, time):
    put(device, "stays away", seconds=5000)
    restart_controller(device)
    time.now += 4000
    assert device.is_away
    time.now += 2000
    assert not device.is_away
    put(device, "boot hangs")
    reboot(device)
    time.now += 10**7
    assert device.boot_state == "MemoryInitializationStarted"
    reboot(device)
    time.now += 1000
    assert device.boot_state == "OSRunning", "another start mends it"


def test_a_power_cut_in_the_middle_of_a_write_kills_the_component(device, time):
    send(device, time, wait=30)
    cut_power(device)
    assert device.part("raid-1").dead and device.is_away and device.sessions == {}
    assert [e["kind"] for e in device.log if e["what"] == "reset"] == ["power cut"]


def test_a_power_cut_activates_what_waited(device, time):
    send(device, time)
    cut_power(device)
    time.now += 1000
    device.advance()
    assert device.part("raid-1").version == "7.18.0" and not device.part("raid-1").dead


def test_a_part_that_is_gone_is_told_no_more(device, time):
    put(device, "part gone", slot="nic-1")
    path = "/redfish/v1/UpdateService/FirmwareInventory/nic-1"
    assert ask(device, path).status == 200
    reboot(device)
    assert ask(device, path).status == 404 and device.part("nic-1").gone


def test_a_start_leaves_things_otherwise_than_they_were(device, time):
    def told() -> tuple[object, ...]:
        bodies = [json.loads(ask(device, f"/redfish/v1/{path}").body) for path in AROUND]
        return tuple(
            body[key] for body, key in zip(bodies, ("LinkStatus", "Boot", "Attributes", "Status"), strict=True)
        )

    before = told()
    for kind in CHANGING:
        put(device, kind, seconds=60)
    assert told() == before, "nothing changes before a start"
    reboot(device)
    after = told()
    assert all(a != b for a, b in zip(before, after, strict=True))
    time.now += 5000
    assert told()[0] == before[0] and told()[1:] == after[1:], "the link comes back, the rest is for a person"


AROUND = ("Chassis/1/NetworkAdapters/nic-1/Ports/1", "Systems/1", "Systems/1/Bios", "Systems/1/Storage/1/Volumes/1")


def test_someone_elses_job_bars_updates(device):
    put(device, "job pending")
    body = b'{"ImageURI": "https://127.0.0.1/x", "Targets": ["/redfish/v1/UpdateService/FirmwareInventory/raid-1"]}'
    reply = ask(device, "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate", "POST", body)
    assert reply.status == 409 and ask(device, "/redfish/v1/TaskService/Tasks/job-1").status == 200
    assert device.tasks == []


def test_without_the_licence_nothing_can_be_pushed(device):
    put(device, "licence missing")
    assert b"MultipartHttpPushUri" not in ask(device, "/redfish/v1/UpdateService").body
    assert ask(device, "/redfish/v1/UpdateService/update-multipart", "POST").status == 403


def test_the_oldest_take_their_own_image_and_nothing_else(time):
    old = demo_hardware(time, [p for p in PLACES if p.name == "sump-01"])[0]
    task = send(old, time, "raid-1", m.RAID_R9, "7.18.0")
    assert task.state == "Exception" and "before the controller itself" in str(task.messages)
    headers = {"authorization": BASIC, "content-type": "application/octet-stream"}
    image = m.make_package(m.REED10_BMC, m.REED10_BMC.made("1.30.0"))
    request = Request(method="POST", path="/redfish/v1/UpdateService/update", headers=headers, body=image)
    assert Service().answer(old, request).status == 202 and old.generation == "oldest"
    time.now += 1000
    old.advance()
    restart_controller(old)
    time.now += 1000
    old.advance()
    assert old.generation == "middle" and send(old, time).state == "Completed"


@pytest.mark.parametrize("kind", ["array rebuilding", "feed lost", "clock wrong"])
def test_states_of_the_server_show_in_its_resources(device, kind):
    paths = {
        "array rebuilding": "/redfish/v1/Systems/1/Storage/1/Volumes/1",
        "feed lost": "/redfish/v1/Chassis/1/PowerSubsystem/PowerSupplies/psu-2",
        "clock wrong": "/redfish/v1/Managers/1",
    }
    before = ask(device, paths[kind]).body
    put(device, kind, seconds=-9999)
    assert ask(device, paths[kind]).body != before


def test_random_faults_follow_their_seed_and_end_by_themselves():
    kinds = [[f.kind for f in random_faults(seed, 20)] for seed in (1, 1, 2)]
    assert kinds[0] == kinds[1] != kinds[2]
    assert not set(kinds[0] + kinds[2]) & LASTING and set(kinds[0]) <= set(FAULTS)
    with pytest.raises(ValueError, match="kind is one of"):
        Fault("gremlins")
    assert all(words for words in (*FAULTS.values(), *QUIRKS.values()))


def test_state_outlives_the_process(device, time):
    import json

    device.accounts["1"].password = "another one"
    send(device, time, wait=30)
    kept = json.loads(json.dumps(dump(device)))
    again = demo_hardware(time, [p for p in PLACES if p.name == "surge-03"])[0]
    load(again, kept)
    assert again.password == "another one" and again.running_task().id == device.running_task().id
    assert dump(again) == dump(device)


MANAGER, BIOS = "/redfish/v1/Managers/1", "/redfish/v1/Systems/1/Bios"
IMAGES = "/redfish/v1/UpdateService/FirmwareInventory"


def choose(device, owner, image):
    body = json.dumps({"Links": {"ActiveSoftwareImage": {"@odata.id": f"{IMAGES}/{image}"}}}).encode()
    return ask(device, owner, "PATCH", body)


def active(device, owner):
    return json.loads(ask(device, owner).body)["Links"]["ActiveSoftwareImage"]["@odata.id"].rsplit("/", 1)[-1]


def test_the_other_bank_is_started_from_with_the_reset_that_suits_it(device, time):
    part = device.part("bios")
    part.spare, was = "2.4.1", part.version
    assert choose(device, BIOS, "bios.standby").status == 200 and active(device, BIOS) == "bios.standby"
    restart_controller(device)
    time.now += 1000
    device.advance()
    assert part.version == was, "a restart of the controller is not its reset"
    reboot(device)
    time.now += 1000
    device.advance()
    assert (part.version, part.spare) == ("2.4.1", was) and active(device, BIOS) == "bios"


def test_a_choice_is_taken_back_as_it_was_made(device, time):
    assert choose(device, MANAGER, "bmc.standby").status == 200 and choose(device, MANAGER, "bmc").status == 200
    was = device.part("bmc").version
    restart_controller(device)
    time.now += 1000
    device.advance()
    assert device.part("bmc").version == was


def test_no_bank_is_chosen_that_is_not_there_or_below_the_floor(device):
    assert choose(device, MANAGER, "nic-1").status == 400
    device.part("bmc").spare, device.part("bmc").floor = "1.0.0", "5.0.0"
    assert choose(device, MANAGER, "bmc.standby").status == 400
    device.part("bmc").spare = None
    assert choose(device, MANAGER, "bmc.standby").status == 400 and active(device, MANAGER) == "bmc"
