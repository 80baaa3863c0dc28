"""What runs on a disc that boots by itself: what it asks, where it keeps its journal, how it finds its controller."""

from __future__ import annotations

import datetime
import json
import os
import pty
import struct
import sys
import threading
from pathlib import Path

import pytest

from ordnung.fieldkit.disc.access import Access, keep_access, read_access
from ordnung.fieldkit.disc.consoles import share, spell
from ordnung.fieldkit.disc.keeping import FAT32, Kept, keep
from ordnung.fieldkit.disc.network import bring_up_all, bring_up_own
from ordnung.fieldkit.disc.session import Session
from ordnung.fieldkit.host.bootstrap import Handed, bootstrap
from ordnung.fieldkit.host.interface import Assignment, HostInterface
from ordnung.formats.order import parse_order, write_order
from ordnung.repository import write_as
from tests.disc.inner_link import MAC, host_interface
from tests.formats.test_order import ORDER
from tests.repository.sealing import PAYLOADS, open_book, seal

OWN = HostInterface(url="https://169.254.0.17:443", mac=MAC, bootstraps=True)
PIN = "ab" * 32


class Aisle:
    """A machine that plays along: what is told of it, what was asked of it, what a person types."""

    def __init__(
        self, disc, folder, answers=(), *, own=None, handed=None, given=(), why_not="", codes=(0,), order=None
    ):
        self.disc, self.given = disc, frozenset(given)
        self.kept = Kept(folder, why_not)
        self.own, self.user, self.codes = own, handed, list(codes)
        self.answers, self.said, self.ran, self.secrets, self.left = list(answers), [], [], [], ""
        self.pin, self.is_up = PIN, True
        self.ordered, self.orders = order, []

    def keep(self):
        return self.kept

    def order(self):
        return self.ordered

    def own_controller(self):
        return self.own

    def lead_to(self, interface):
        return interface.url if self.is_up else ""

    def handed(self):
        return self.user

    def bring_up(self):
        return True

    def certificate(self, url):
        if self.pin is None:
            raise ConnectionRefusedError(111, "Connection refused")
        return self.pin

    def ordnung(self, arguments):
        self.ran.append(list(arguments))
        if "--order" in arguments:
            self.orders.append(parse_order(Path(option(arguments, "--order")).read_bytes()))
        if "--password-file" in arguments:
            self.secrets.append(Path(arguments[arguments.index("--password-file") + 1]).read_text())
        return self.codes.pop(0) if len(self.codes) > 1 else self.codes[0]

    def leave(self, how):
        self.left = how

    def type(self, question):
        self.said.append(question)
        return self.answers.pop(0)

    def run(self):
        return Session(self, self.said.append, self.type, self.type).run()

    @property
    def text(self):
        return "\n".join(self.said)


@pytest.fixture(scope="module")
def disc(tmp_path_factory):
    folder = tmp_path_factory.mktemp("disc")
    return write_as("folder", seal(folder, open_book(folder)), folder / "mounted").path


def option(arguments, name):
    return arguments[arguments.index(name) + 1]


def test_no_question_where_the_controller_hands_out_a_user(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["o"], own=OWN, handed=Handed("kit", "secret", PIN), given=["unasked"])
    assert aisle.run() == 0 and aisle.left == "poweroff" and aisle.said.count("> ") == 1
    (level,) = aisle.ran
    assert option(level, "--controller") == OWN.url and option(level, "--pin") == PIN and "--yes" in level
    assert option(level, "--trust") in aisle.text and "--in-place" in level and "--expired" not in level
    assert aisle.secrets == ["secret\n"] and "secret" not in aisle.text
    assert "Nothing is left to do" in aisle.text and read_access(tmp_path) is None


def test_an_order_is_carried_out_without_a_question(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["o"], own=OWN, handed=Handed("kit", "secret", PIN), order=write_order(ORDER))
    assert aisle.run() == 0 and aisle.said.count("> ") == 1
    assert aisle.orders == [ORDER] and "--yes" not in aisle.ran[0]
    assert "Ordered by run 12 of Lowmere: 2 writes on surge-07, without asking." in aisle.text


def test_an_order_that_can_t_be_read_leaves_it_to_a_person(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["o"], own=OWN, handed=Handed("kit", "secret", PIN), order=b"{}")
    aisle.run()
    assert "The order on this disc can't be used." in aisle.text and aisle.orders == []
    assert "--yes" not in aisle.ran[0], "it asks before it writes"


def test_a_person_says_where_the_controller_is_and_is_asked_once(disc, tmp_path):
    answers = ["10.0.3.7:8443", "y", "admin", "pass", "y", "o"]
    aisle = Aisle(disc, tmp_path, answers, codes=[1])
    aisle.run()
    assert option(aisle.ran[0], "--controller") == "https://10.0.3.7:8443" and "--yes" not in aisle.ran[0]
    assert PIN in aisle.text and "Not everything is done" in aisle.text
    after_reset = Aisle(disc, tmp_path, ["o"])
    after_reset.run()
    assert option(after_reset.ran[0], "--user") == "admin" and option(after_reset.ran[0], "--pin") == PIN
    assert after_reset.secrets == ["pass\n"] and read_access(tmp_path) is None, "level: nothing stays on the stick"


def test_nothing_is_kept_that_nobody_wants_kept(disc, tmp_path):
    Aisle(disc, tmp_path, ["10.0.3.7", "y", "admin", "pass", "n", "o"], codes=[1]).run()
    assert read_access(tmp_path) is None
    memory = Aisle(
        disc, tmp_path, ["10.0.3.7", "y", "admin", "pass", "o"], why_not="a disc can't be written to", codes=[1]
    )
    memory.run()
    assert "Nothing is kept over a reset: a disc can't be written to." in memory.text and read_access(tmp_path) is None


def test_a_certificate_that_is_not_the_right_one_ends_it_before_anything_is_sent(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["ftp://x", "10.0.3.7", "n", "o"])
    aisle.run()
    assert aisle.ran == [] and "does not answer" in aisle.text and "An address such as" in aisle.text
    silent = Aisle(disc, tmp_path, ["10.0.3.7", "o"])
    silent.pin = None
    silent.run()
    assert silent.ran == [] and "Connection refused" in silent.text


def test_an_inner_link_that_does_not_come_up_is_said_and_the_address_asked_for(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["10.0.3.7", "y", "admin", "pass", "n", "o"], own=OWN)
    aisle.is_up = False
    aisle.run()
    assert f"an inner link to {OWN.url}, but it does not come up" in aisle.text
    assert option(aisle.ran[0], "--controller") == "https://10.0.3.7"


def test_without_a_user_handed_out_only_that_is_asked(disc, tmp_path):
    aisle = Aisle(disc, tmp_path, ["admin", "pass", "n", "o"], own=OWN)
    aisle.run()
    assert option(aisle.ran[0], "--controller") == OWN.url and option(aisle.ran[0], "--user") == "admin"


def test_the_menu_reads_again_puts_back_forgets_and_reports(disc, tmp_path):
    answers = ["b", "h", "?", "c", "r"]
    aisle = Aisle(disc, tmp_path, answers, own=OWN, handed=Handed("kit", "secret", PIN))
    aisle.run()
    assert [a[0] for a in aisle.ran] == ["level", "level", "host-report", "level"] and aisle.left == "reboot"
    assert "--put-back" in aisle.ran[1] and "--yes" not in aisle.ran[1]
    assert "It is kept on this stick as host-report.json." in aisle.text


def test_to_report_only_nothing_of_the_repository_is_needed(tmp_path):
    (tmp_path / "empty").mkdir()
    aisle = Aisle(tmp_path / "empty", tmp_path, ["a", "o"], given=["report"])
    aisle.run()
    assert [a[0] for a in aisle.ran] == ["host-report"] and "put back" not in aisle.text
    broken = Aisle(tmp_path / "empty", tmp_path, ["o"])
    broken.run()
    assert broken.ran == [] and "can't be used" in broken.text


def test_a_seal_that_ended_is_gone_on_with_only_if_somebody_says_so(tmp_path):
    place = write_as("folder", seal(tmp_path, open_book(tmp_path), days=-3), tmp_path / "old").path
    no = Aisle(place, tmp_path, ["n", "o"], own=OWN, handed=Handed("kit", "secret", PIN))
    no.run()
    assert no.ran == [] and f"{datetime.datetime.now(datetime.UTC):%d %b %Y}" in no.text
    yes = Aisle(place, tmp_path, ["y", "o"], own=OWN, handed=Handed("kit", "secret", PIN))
    yes.run()
    assert "--expired" in yes.ran[0]


def test_what_the_house_calls_it_is_asked_where_its_rules_go_by_names(tmp_path):
    rules = json.dumps(
        {"format": "ordnung.rules/1", "rules": [{"do": "hold", "where": {"server": "surge-*"}, "reason": "frozen"}]}
    )
    files = {**PAYLOADS, "rules/house.json": rules.encode()}
    place = write_as(
        "folder", seal(tmp_path, open_book(tmp_path), files, rules="rules/house.json"), tmp_path / "ruled"
    ).path
    aisle = Aisle(place, tmp_path, ["surge-07", "o"], own=OWN, handed=Handed("kit", "secret", PIN))
    aisle.run()
    assert "--name=surge-07" in aisle.ran[0], aisle.text


# Where the journal is kept.


def a_stick(tmp_path, *, usb=True, size=256 * 2**20, read_only="0", partition=False, name="sdb"):
    """A stick as a file, and what sysfs would tell of it; the image takes its first 40 MiB."""
    device = tmp_path / name
    record = bytearray(512)
    struct.pack_into("<B3sB3sII", record, 446, 0x80, b"", 0, b"", 0, 40 * 2048)
    record[510:512] = b"\x55\xaa"
    device.write_bytes(bytes(record))
    os.truncate(device, size)
    sysfs = tmp_path / "sys"
    block = sysfs / "devices" / ("pci0/usb2/2-1" if usb else "pci0/ata1") / "block" / name
    block.mkdir(parents=True)
    (block / "size").write_text(str(size // 512))
    (block / "ro").write_text(read_only)
    if partition:
        (block / "partition").write_text("1")
    (sysfs / "class" / "block").mkdir(parents=True)
    (sysfs / "class" / "block" / name).symlink_to(block)
    return device, sysfs


class Programs:
    def __init__(self, *fails):
        self.ran, self.fails = [], fails

    def __call__(self, command):
        self.ran.append(list(command))
        return command[0] not in self.fails


def test_a_stick_is_given_a_partition_behind_the_image_once(tmp_path):
    device, sysfs = a_stick(tmp_path)
    before = device.read_bytes()[:446]
    programs = Programs()
    assert keep(device, tmp_path / "kept", programs, sysfs) == Kept(tmp_path / "kept")
    assert [line[0] for line in programs.ran] == ["losetup", "mkdosfs", "mount"]
    _, _, kind, _, begin, count = struct.unpack_from("<B3sB3sII", device.read_bytes(), 446 + 32)
    assert (kind, begin) == (FAT32, 40 * 2048) and begin + count == 256 * 2048
    assert device.read_bytes()[:446] == before and str(begin * 512) in programs.ran[0]
    again = Programs()
    assert keep(device, tmp_path / "kept", again, sysfs).why_not == ""
    assert [line[0] for line in again.ran] == ["losetup", "mount"], "what was kept before stays"


@pytest.mark.parametrize(
    ("changes", "why"),
    [
        ({"usb": False}, "not started from a stick"),
        ({"name": "sr0"}, "a disc can't be written to"),
        ({"read_only": "1"}, "write-protected"),
        ({"partition": True}, "in a partition of the stick"),
        ({"size": 80 * 2**20}, "no room for a journal"),
    ],
)
def test_what_is_no_stick_of_ours_is_never_written_to(tmp_path, changes, why):
    device, sysfs = a_stick(tmp_path, **changes)
    before, programs = device.read_bytes(), Programs()
    assert why in keep(device, tmp_path / "kept", programs, sysfs).why_not
    assert device.read_bytes() == before and programs.ran == [] and (tmp_path / "kept").is_dir()


def test_a_partition_that_can_t_be_used_is_said(tmp_path):
    device, sysfs = a_stick(tmp_path)
    assert "can't be written" in keep(device, tmp_path / "k", Programs("losetup"), sysfs).why_not
    assert "can't be used" in keep(device, tmp_path / "k", Programs("mount"), sysfs).why_not


# The link to the own controller.


def links(tmp_path, **cards):
    sysfs = tmp_path / "sys"
    for name, (mac, usb) in cards.items():
        place = sysfs / "devices" / ("usb1" if usb else "pci0") / name
        place.mkdir(parents=True)
        folder = sysfs / "class" / "net" / name
        folder.mkdir(parents=True)
        (folder / "address").write_text(mac + "\n")
        (folder / "carrier").write_text("1" if mac.endswith("42") else "0")
        (folder / "device").symlink_to(place)
    return sysfs


def test_the_inner_link_has_the_address_that_smbios_gives_it(tmp_path):
    sysfs, programs = links(tmp_path, eth0=("52:54:00:00:00:01", False), usb0=(MAC, True)), Programs()
    entry = sysfs / "firmware" / "dmi" / "entries" / "42-0"
    entry.mkdir(parents=True)
    (entry / "raw").write_bytes(host_interface(8443, bootstraps=True))
    from ordnung.fieldkit.host.interface import find_host_interface

    found = find_host_interface(sysfs)
    assert found == HostInterface(
        url="https://10.0.2.2:8443", mac=MAC, assignment=Assignment.STATIC, own="10.0.2.15/24", bootstraps=True
    )
    assert bring_up_own(found, programs, sysfs) == found.url
    assert programs.ran == [
        ["ip", "link", "set", "usb0", "up"], ["ip", "address", "replace", "10.0.2.15/24", "dev", "usb0"],
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("interface", "command"),
    [
        (HostInterface(url="https://169.254.0.17"), "ip address replace 169.254.0.18/16 dev usb0"),
        (HostInterface(url="https://[fe80::1]"), "sleep 3"),
        (HostInterface(url="https://169.254.0.254"), "ip address replace 169.254.0.253/16 dev usb0"),
        (
            HostInterface(url="https://10.0.0.1", assignment=Assignment.DHCP),
            "udhcpc -n -q -t 4 -T 2 -s /sbin/dhcp -i usb0",
        ),
    ],
)
def test_without_a_hardware_address_the_one_link_over_usb_is_it(tmp_path, interface, command):
    sysfs, programs = links(tmp_path, eth0=("52:54:00:00:00:01", False), usb0=(MAC, True)), Programs()
    assert bring_up_own(interface, programs, sysfs) and " ".join(programs.ran[-1]) == command


def test_a_link_that_is_not_there_or_not_clear_is_left_alone(tmp_path):
    sysfs, programs = links(tmp_path, usb0=(MAC, True), usb1=("52:54:00:00:00:02", True)), Programs()
    assert not bring_up_own(HostInterface(url="https://169.254.0.17"), programs, sysfs)
    assert programs.ran == []
    assert not bring_up_own(HostInterface(url="https://inner.name", mac=MAC), programs, sysfs)


@pytest.mark.parametrize(
    ("url", "told"),
    [
        ("https://[fe80::1]:8443", "https://[fe80::1%25usb0]:8443"),
        ("https://[fd00::1]", "https://[fd00::1]"),
        ("https://169.254.0.17", "https://169.254.0.17"),
        ("https://inner.name", "https://inner.name"),
    ],
)
def test_an_address_of_one_link_is_told_with_the_link(tmp_path, url, told):
    sysfs = links(tmp_path, usb0=(MAC, True))
    assert bring_up_own(HostInterface(url=url, own="fe80::2/64"), Programs(), sysfs) == told


def test_a_controller_that_tells_the_address_of_its_own_end_is_found_over_usb(tmp_path):
    sysfs, programs = links(tmp_path, eth0=("52:54:00:00:00:01", False), usb0=(MAC, True)), Programs()
    assert bring_up_own(HostInterface(url="https://169.254.0.17", mac="00:00:00:00:00:09"), programs, sysfs)
    assert programs.ran[-1][-1] == "usb0"


def test_every_card_with_a_cable_asks_for_an_address(tmp_path):
    sysfs, programs = links(tmp_path, eth0=("52:54:00:00:00:42", False), eth1=("52:54:00:00:00:03", False)), Programs()
    assert bring_up_all(programs, sysfs, lambda _: None)
    assert [line[-1] for line in programs.ran if line[0] == "udhcpc"] == ["eth0"]
    (sysfs / "class" / "net" / "eth0" / "carrier").write_text("0")
    slept = []
    assert not bring_up_all(Programs(), sysfs, slept.append) and sum(slept) == 6


# The user that the controller hands out.


def credentials(user=b"kit-1", password=b"s3cret"):
    return bytes([0, 0x52]) + user.ljust(16, b"\0") + password.ljust(16, b"\0")


@pytest.mark.parametrize(
    ("answer", "proof", "found"),
    [
        (credentials(), bytes([0, 0x52, 1]) + b"\xab" * 32, Handed("kit-1", "s3cret", PIN)),
        (credentials(), bytes([0xC1]), Handed("kit-1", "s3cret", "")),
        (credentials(), bytes([0, 0x52, 2]) + b"\xab" * 48, Handed("kit-1", "s3cret", "")),
        (bytes([0x80]), b"", None),
        (credentials()[:20], b"", None),
        (credentials(user=b""), b"", None),
        (credentials(password=b"\xff\xfe"), b"", None),
        (b"", b"", None),
    ],
)
def test_a_user_is_taken_from_an_answer_by_the_letter_only(answer, proof, found):
    told = bootstrap(lambda _netfn, command, _data: answer if command == 2 else proof)
    assert told == found and "s3cret" not in repr(told)


def test_without_ipmi_there_is_none():
    def silent(*_):
        raise TimeoutError

    assert bootstrap(silent) is None


def test_what_was_kept_by_another_is_not_taken(tmp_path):
    keep_access(tmp_path, Access(url="https://a", user="u", password="p", pin=PIN))
    assert read_access(tmp_path).user == "u" and (tmp_path / "access.json").stat().st_mode & 0o077 == 0
    (tmp_path / "access.json").write_text('{"url": 1}')
    assert read_access(tmp_path) is None


# The consoles.


def test_all_consoles_show_the_same_and_any_may_be_typed_at(tmp_path):
    ends, names = zip(*(pty.openpty() for _ in range(2)), strict=True)
    consoles = [Path(os.ttyname(name)) for name in names]
    told = "import os; print(os.get_terminal_size()); print('got', input('name: '))"
    codes = []
    thread = threading.Thread(
        target=lambda: codes.append(share([sys.executable, "-c", told], [*consoles, tmp_path / "none"]))
    )
    thread.start()
    shown = [b"", b""]
    read_until(ends[0], shown, 0, b"name: ")
    os.write(ends[1], b"second\r")
    read_until(ends[0], shown, 0, b"got second")
    read_until(ends[1], shown, 1, b"got second")
    thread.join(20)
    assert codes == [0] and b"columns=80, lines=25" in shown[0]
    for end in (*ends, *names):
        os.close(end)


def test_a_screen_is_shown_signs_that_it_has():
    told = "bios 2.1.0 → 2.4.1, 169a3d88… – “ok” ×2 █░ \x1b[1mé\x1b[0m 漢\r\n"
    assert spell(told) == 'bios 2.1.0 → 2.4.1, 169a3d88. - "ok" x2 █░ \x1b[1mé\x1b[0m ?\r\n'


def read_until(end, shown, number, wanted):
    while wanted not in shown[number]:
        shown[number] += os.read(end, 4096)
