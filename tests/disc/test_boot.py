"""Discs that boot by themselves, in emulated servers whose controllers are stand-ins."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import ssl
import subprocess
import time
from pathlib import Path

import pytest

from ordnung.core.rules import FIXED_RULES
from ordnung.engine.journal_lines import read_journal
from ordnung.formats.host_report import parse_host_report
from ordnung.formats.order import Order, tail_of, write_order
from ordnung.formats.rules import rules_document
from ordnung.repository import first_root, look_at, open_carrier
from ordnung.standins.hardware import writes_of
from tests.conftest import live_floor
from tests.disc.emulated import GATEWAY, Emulated, Follower, Passage
from tests.disc.inner_link import MAC, OuterController, host_interface
from tests.fieldkit.house import read_house
from tests.fieldkit.test_commands import build

BASE = Path(__file__).parents[2] / "var" / "boot-base"
ONE = "surge-07"
CARD = ("-nic", "user,model=e1000e")
soak = pytest.mark.skipif("ORDNUNG_DISCS" not in os.environ, reason="minutes each, under emulation: make soak")


@pytest.fixture(scope="module")
def bootable(tmp_path_factory, mirror_folder):
    """Live stand-ins at 60 times real speed, and a disc for one of them that boots."""
    folder = tmp_path_factory.mktemp("disc")
    with live_floor(folder / "standins", 60.0) as live:
        read_house(live, folder, mirror_folder)
        live.folder, live.image = folder, folder / "disc.iso"
        build(live, folder, live.image, "--as", "iso", "--boot", BASE, servers=())
        yield live


def sign_in(emulated: Emulated, live, port: int, *, keep: str = "") -> None:
    """Answer what the kit asks where no inner link leads to the controller."""
    emulated.answer("Address of this server's controller: ", f"{GATEWAY}:{port}")
    emulated.answer(r"this server's controller\? \[y/n\] ", "y")
    emulated.answer("User of the controller: ", live.device(ONE).user)
    emulated.answer("Password: ", live.device(ONE).password)
    if keep:
        emulated.answer(r"after each reset\? \[y/n\] ", keep)


def test_a_disc_boots_finds_what_to_do_and_asks(bootable, tmp_path):
    with Passage(bootable, ONE) as passage, Emulated(tmp_path, "-cdrom", bootable.image, *CARD) as emulated:
        emulated.expect("never writes to the drives of this server")
        emulated.expect("a disc can't be written to")
        sign_in(emulated, bootable, passage.port)
        emulated.expect(r"bios 2\.1\.0 . 2\.4\.1")
        emulated.expect("2 outages, 1 controller restart")
        emulated.answer(r"Begin\? \[y/n\]", "n")
        emulated.expect("Nothing was sent")
        emulated.expect("power it off")
        emulated.order("system_powerdown")  # the power button, which a controller presses for a graceful restart
        assert emulated.process.wait(60) == 0
    assert writes_of(bootable.device(ONE).log) == []


def as_stick(image: Path, folder: Path) -> Path:
    """The image on a stick that is larger."""
    stick = folder / "stick.img"
    shutil.copy(image, stick)
    with stick.open("r+b") as file:
        file.truncate(512 * 2**20)
    return stick


def usb(stick: Path) -> list[str]:
    return [
        "-drive",
        f"if=none,id=stick,format=raw,file={stick}",
        "-device",
        "qemu-xhci",
        "-device",
        "usb-storage,drive=stick,bootindex=0",
    ]


@soak
def test_a_stick_goes_on_over_the_reboots_until_nothing_is_left(bootable, tmp_path):
    stick = as_stick(bootable.image, tmp_path)
    drive = tmp_path / "drive.img"
    drive.write_bytes(b"theirs" * 1_000_000)
    others = ["-drive", f"if=virtio,format=raw,file={drive}"]
    with Passage(bootable, ONE) as passage, Emulated(tmp_path, *usb(stick), *others, *CARD) as emulated:
        emulated.expect("The journal is on this stick")
        sign_in(emulated, bootable, passage.port, keep="y")
        with Follower(bootable.device(ONE), emulated) as follower:
            emulated.answer(r"Begin\? \[y/n\]", "y")
            emulated.expect("Going on with the run")
            emulated.expect("Going on with the run")
            emulated.expect("Nothing is left to do here", 400)
        assert follower.resets == 2
        emulated.answer("> ", "o")
        emulated.process.wait(60)
    writes = writes_of(bootable.device(ONE).log)
    assert len(writes) == len(set(writes))
    assert drive.read_bytes() == b"theirs" * 1_000_000
    journal = journal_on(stick, tmp_path)
    assert len(journal) == 1


@soak
def test_a_stick_reports_what_drives_say_of_themselves(bootable, tmp_path):
    """A SATA drive's revision is longer than INQUIRY has room for; an NVMe drive is asked for its firmware slots."""
    stick, drives = as_stick(bootable.image, tmp_path), []
    for kind in ("ide-hd,ver=ABCD1234", "nvme,serial=NVME-1"):
        blank = tmp_path / f"{kind[:4]}.img"
        blank.write_bytes(b"theirs" * 100_000)
        drives += ["-drive", f"if=none,id={kind[:4]},format=raw,file={blank}", "-device", f"{kind},drive={kind[:4]}"]
    with Emulated(tmp_path, *usb(stick), *drives, "-smbios", "type=1,serial=CRV14-0099", "-nic", "none") as emulated:
        emulated.expect("executed automatically in 3s")
        emulated.type("\x1b[B\x1b[B")  # the third choice: only report
        emulated.expect("It is kept on this stick as host-report.json")
        emulated.answer("> ", "o")
        emulated.process.wait(60)
    report = parse_host_report(kept_on(stick, tmp_path, "host-report.json"))
    assert report.serial == "CRV14-0099"
    found = {device.serial or device.name: device for device in report.devices if device.kind == "drive"}
    assert "ABCD1234" in {device.version for device in found.values()}
    assert found["NVME-1"].version and len(found) == 2, "the stick itself is no part of the server"
    assert [path.read_bytes() for path in tmp_path.glob("*.img") if path.stat().st_size == 600_000] == [
        b"theirs" * 100_000
    ] * 2


@soak
@pytest.mark.parametrize("seed", range(3))
def test_a_stick_whose_server_loses_power_at_any_moment_goes_on(bootable, tmp_path, seed):
    """QEMU is killed as a power cut would: what was not synced to the stick is gone; the device goes on meanwhile."""
    chance, name = random.Random(seed), ("surge-09", "surge-10", "surge-04")[seed]
    device = bootable.device(name)
    stick = as_stick(bootable.image, tmp_path)
    with Passage(bootable, name) as passage:
        for cut in (True, True, True, False):
            with Emulated(tmp_path, *usb(stick), *CARD) as emulated, Follower(device, emulated):
                emulated.expect("The journal is on this stick")
                if (
                    emulated.expect("Address of this server's controller: |Going on with|Begin")
                    .group()
                    .startswith("Addr")
                ):
                    emulated.type(f"{GATEWAY}:{passage.port}")
                    emulated.answer(r"this server's controller\? \[y/n\] ", "y")
                    emulated.answer("User of the controller: ", device.user)
                    emulated.answer("Password: ", device.password)
                    emulated.answer(r"after each reset\? \[y/n\] ", "y")
                    emulated.answer(r"Begin\? \[y/n\]", "y")
                if not cut:
                    emulated.expect("Nothing is left to do here", 600)
                    break
                time.sleep(chance.uniform(1, 25))
    writes = writes_of(device.log)
    assert len(writes) == len(set(writes)) > 0
    assert not any(entry["what"] == "dead" for entry in device.log)


def uefi(folder: Path, kind: str) -> list[str]:
    """Firmware by UEFI; of the kind ``ms`` it starts nothing that is not signed (Secure Boot)."""
    variables = folder / "variables.fd"
    shutil.copy(f"/usr/share/OVMF/OVMF_VARS_4M{kind}.fd", variables)
    code = f"/usr/share/OVMF/OVMF_CODE_4M{'.secboot' if kind else ''}.fd"
    guarded = ["-machine", "q35,smm=on", "-global", "driver=cfi.pflash01,property=secure,value=on"] if kind else []
    drives = [f"if=pflash,format=raw,readonly=on,file={code}", f"if=pflash,format=raw,file={variables}"]
    return [*guarded, *(word for drive in drives for word in ("-drive", drive))]


@soak
@pytest.mark.parametrize("kind", ["", ".ms"])
@pytest.mark.parametrize("medium", ["disc", "stick"])
def test_it_starts_by_uefi_with_and_without_secure_boot(bootable, tmp_path, kind, medium):
    stick = usb(as_stick(bootable.image, tmp_path)) if medium == "stick" else ["-cdrom", str(bootable.image)]
    with Emulated(tmp_path, *uefi(tmp_path, kind), *stick, "-nic", "none") as emulated:
        emulated.expect("never writes to the drives of this server")
        emulated.expect("The journal is on this stick" if medium == "stick" else "a disc can't be written to")
        emulated.expect("No network card was given an address")


@soak
@pytest.mark.parametrize("by", ["menu", "order"])
def test_without_a_question_where_the_controller_hands_out_a_user(bootable, tmp_path, by):
    """The inner link by SMBIOS, the user and the certificate's fingerprint over IPMI; on a disc, so that nothing is kept.

    What it may do is chosen at each start, or ordered behind the image, as a run by virtual media does.
    """
    name = "surge-08" if by == "menu" else "surge-09"
    device = bootable.device(name)
    image = bootable.image if by == "menu" else ordered(bootable, tmp_path, name)
    with Passage(bootable, name) as passage:
        shown = ssl.get_server_certificate(("127.0.0.1", passage.port))
        pin = hashlib.sha256(ssl.PEM_cert_to_DER_cert(shown)).hexdigest()
        (tmp_path / "type42").write_bytes(host_interface(passage.port, bootstraps=True))
        outer = OuterController(tmp_path / "ipmi.sock", device.user, device.password, pin)
        link = [
            "-smbios", f"file={tmp_path / 'type42'}", "-netdev", "user,id=own", "-device", "qemu-xhci",
            "-device", f"usb-net,netdev=own,mac={MAC}", "-chardev", f"socket,id=ipmi,path={tmp_path / 'ipmi.sock'},reconnect=1",
            "-device", "ipmi-bmc-extern,id=bmc,chardev=ipmi", "-device", "isa-ipmi-kcs,bmc=bmc",
        ]  # fmt: skip
        with Emulated(tmp_path, "-cdrom", image, *link) as emulated:
            begin(emulated, by)
            with Follower(device, emulated) as follower:
                for _ in range(2):
                    begin(emulated, by, 400)
                emulated.expect("Nothing is left to do here", 400)
            assert follower.resets == 2
        outer.close()
    writes = writes_of(device.log)
    assert len(writes) == len(set(writes)) > 0


def begin(emulated: Emulated, by: str, limit_s: float = 120) -> None:
    """From one start to the first reading without a question."""
    emulated.expect("executed automatically in 3s", limit_s)
    if by == "menu":
        emulated.type("\x1b[B")  # the second choice: without asking
    if by == "order":
        emulated.expect("Ordered by run 3 of Lowmere", 400)
    emulated.expect("It hands out a user for this kit", 400)


def ordered(live, folder: Path, name: str) -> Path:
    """The image with an order for one server behind it."""
    with open_carrier(live.image) as carrier:
        packing = look_at(carrier, first_root(carrier), allow_expired=True).packing
    device = live.device(name)
    order = Order(
        run="run 3 of Lowmere", server=name, uuid=device.uuid, serial=device.serial, rules=rules_document(FIXED_RULES),
        writes=tuple((slot, payload.sha256) for slot in sorted(part.slot for part in device.parts) for payload in packing.payloads),
    )  # fmt: skip
    image = folder / "ordered.iso"
    image.write_bytes(live.image.read_bytes() + tail_of(write_order(order)))
    return image


def kept_on(stick: Path, folder: Path, what: str) -> bytes:
    """A file on a stick, read as anybody's computer would: from a FAT file system in its third partition."""
    raw = stick.read_bytes()
    begin, count = (int.from_bytes(raw[446 + 32 + at : 446 + 32 + at + 4], "little") for at in (8, 12))
    part = folder / "log.img"
    part.write_bytes(raw[begin * 512 : (begin + count) * 512])
    names = subprocess.run(["mdir", "-b", "-/", "-i", part, "::"], check=True, capture_output=True, text=True).stdout
    (place,) = [line for line in names.splitlines() if line.endswith(what)]
    return subprocess.run(["mtype", "-i", part, place], check=True, capture_output=True).stdout


def journal_on(stick: Path, folder: Path) -> list[str]:
    """The runs in the journal on a stick."""
    found = kept_on(stick, folder, "journal.jsonl")
    return [opened.run for opened in read_journal(found, "journal.jsonl").runs]
