"""The host interface in SMBIOS: structures made by the letter of DSP0134 and DSP0270, whole and cut short."""

from __future__ import annotations

import ipaddress

import pytest

from ordnung.fieldkit.host.interface import find_own_controller, read_interface


def record(address: str = "", port: int = 8443, host: str = "") -> bytes:
    """The data of a Redfish over IP record."""
    version = ipaddress.ip_address(address).version if address else 0
    packed = ipaddress.ip_address(address).packed.ljust(16, b"\0") if address else bytes(16)
    ours = bytes(16) + bytes([1, 1]) + bytes(32)
    service = bytes([1, {4: 1, 6: 2}.get(version, 0)]) + packed + bytes(16) + port.to_bytes(2, "little") + bytes(4)
    return ours + service + bytes([len(host)]) + host.encode()


def structure(*records: tuple[int, bytes], interface: int = 0x40, device: bytes = b"\x02" + bytes(5)) -> bytes:
    body = bytes([interface, len(device)]) + device + bytes([len(records)])
    body += b"".join(bytes([kind, len(data)]) + data for kind, data in records)
    return bytes([42, 4 + len(body), 0x2A, 0]) + body + b"strings\0\0"


@pytest.mark.parametrize(
    ("raw", "found"),
    [
        (structure((4, record("169.254.0.17"))), "https://169.254.0.17:8443"),
        (structure((4, record("fe80::1", 443))), "https://[fe80::1]:443"),
        (structure((4, record("169.254.0.17", 0))), "https://169.254.0.17:443"),
        (structure((4, record(host="own-controller.inner"))), "https://own-controller.inner:8443"),
        (structure((2, b"ipmi"), (4, record("169.254.0.17"))), "https://169.254.0.17:8443"),
        (structure((4, record("169.254.0.17")), device=b""), "https://169.254.0.17:8443"),
        (structure((4, record("0.0.0.0"))), None),
        (structure((4, record(host="no such/host"))), None),
        (structure((4, record("169.254.0.17")[:60])), None),
        (structure((2, b"ipmi")), None),
        (structure((4, record("169.254.0.17")), interface=2), None),
        (b"", None),
    ],
)
def test_where_the_own_controller_answers(raw, found):
    told = read_interface(raw)
    assert (told and told.url) == found


def test_a_structure_cut_anywhere_is_none_or_the_same():
    raw = structure((2, b"ipmi"), (4, record("169.254.0.17")))
    assert {read_interface(raw[:length]) for length in range(len(raw))} <= {None, read_interface(raw)}


def test_it_is_found_among_what_the_system_shows(tmp_path):
    assert find_own_controller(tmp_path) is None
    for name, raw in (("41-0", b"x"), ("42-0", structure((2, b"a"))), ("42-1", structure((4, record("10.0.0.5"))))):
        place = tmp_path / "firmware" / "dmi" / "entries" / name
        place.mkdir(parents=True)
        (place / "raw").write_bytes(raw)
    (tmp_path / "firmware" / "dmi" / "entries" / "42-2").mkdir()
    assert find_own_controller(tmp_path) == "https://10.0.0.5:8443"


def test_an_address_of_one_link_is_found_with_the_link(tmp_path):
    for place in ("firmware/dmi/entries/42-0", "devices/usb1/inner0", "class/net/inner0"):
        (tmp_path / place).mkdir(parents=True)
    (tmp_path / "firmware/dmi/entries/42-0/raw").write_bytes(structure((4, record("fe80::1", 443))))
    assert find_own_controller(tmp_path) == "https://[fe80::1]:443", "nobody says which link that is"
    (tmp_path / "class/net/inner0/device").symlink_to(tmp_path / "devices/usb1/inner0")
    assert find_own_controller(tmp_path) == "https://[fe80::1%25inner0]:443"
