"""Every reader, fed with files that differ from good ones: each is read, or refused in the format's own error.

Some hundred a reader here; ``make soak`` has many more. A failure names the case: reader, sample and number.
"""

from __future__ import annotations

import json
import os
import random
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard

from ordnung.formats.addresses import parse_addresses
from ordnung.formats.audit import parse_trail, write_trail
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.compressed import unpack
from ordnung.formats.csaf import parse_advisory
from ordnung.formats.documents import load_json
from ordnung.formats.errors import FormatError
from ordnung.formats.host_report import parse_host_report
from ordnung.formats.offers import parse_index
from ordnung.formats.packing import parse_packing, write_packing
from ordnung.formats.pldm import parse_package
from ordnung.formats.readings import parse_readings
from ordnung.formats.record import parse_record, sign_record, write_record
from ordnung.formats.rules import parse_rules
from ordnung.formats.server_list import parse_server_list
from ordnung.formats.text import clean
from ordnung.standins import makers
from tests.core.records import a_record
from tests.formats.mutations import budget, spoil_bytes, spoil_document
from tests.formats.test_audit import Trail, chain, sign
from tests.formats.test_hostile import GOOD
from tests.formats.test_record import KEY
from tests.repository.sealing import PAYLOADS, packing_of

TIMES = 10 * int(os.environ.get("ORDNUNG_FUZZ", "1"))
REPORT = {
    "format": "ordnung.host-report/1", "taken_at": "2026-11-23T07:41:12Z",
    "host": "surge-07", "system": {"serial": "CRV14-0007", "uuid": "11111111-aaaa-4000-8000-000000000001"},
    "devices": [{"kind": "nic", "name": "N", "version": "1.0", "pci": "ffe3:0025:ffe3:0001", "address": "0000:3b:00.0"}],
}  # fmt: skip
LIST = 'address,name,rack,unit,room,group\n10.0.0.7,surge-01,K1,4,hall,pair\n"10.0.0.8:8443","a ""b""",K1,5,,\n'


def documents(mirror: Path) -> list[tuple[str, Callable[[bytes, str], object], bytes]]:
    """A reader's name, the reader, and a good file of each kind."""
    trail = chain(4)
    samples: list[tuple[str, Callable[[bytes, str], object], bytes]] = [
        ("readings", parse_readings, json.dumps(GOOD["readings"]).encode()),
        ("rules", parse_rules, json.dumps(GOOD["rules"]).encode()),
        ("host report", parse_host_report, json.dumps(REPORT).encode()),
        ("packing list", parse_packing, write_packing(packing_of(PAYLOADS, 1))),
        ("trail", parse_trail, write_trail(Trail(site="s", entries=trail, heads=(sign(trail[-1]),)))),
    ]
    samples.append(("record", parse_record, write_record(sign_record("s", a_record(), KEY))))
    samples += [("catalog", parse_catalog, p.read_bytes()) for p in sorted((mirror / "catalogs").glob("*-2026-*.json"))]
    samples += [("advisory", parse_advisory, p.read_bytes()) for p in sorted((mirror / "advisories").glob("*.json"))]
    return [*samples, ("index", parse_index, (mirror / "corvane-index.json").read_bytes())]


def check(name: str, number: int, read: Callable[[bytes, str], object], raw: bytes) -> bool:
    """Whether it was read; anything but a refusal in the format's own words is a failure."""
    try:
        with budget():
            read(raw, "file")
    except FormatError as error:
        told = str(error)
    except Exception as error:
        raise AssertionError(f"{name}, case {number}: {type(error).__name__}: {error}") from error
    else:
        return True
    assert clean(told) == told, f"{name}, case {number}: {told!r}"
    return False


def test_documents(mirror_folder):
    for name, read, raw in documents(mirror_folder):
        read(raw, "file")
        good, chance = load_json(raw, "file"), random.Random(name)
        came = [check(name, number, read, spoil_document(good, chance)) for number in range(TIMES)]
        assert not all(came), f"{name}: nothing was ever refused"


PACKAGES = [
    makers.make_package(make, made) for make in (makers.SUPPLY_800, makers.NIC_Q25, makers.HEATH24_PLANE)
    for made in make.releases[:1]
]  # fmt: skip


def sum_again(raw: bytes) -> bytes:
    """With the checksum of its header made right again (DSP0267, package header): else nothing behind it is looked at."""
    size = int.from_bytes(raw[17:19], "little")
    if not 23 < size <= len(raw):
        return raw
    end = size - (8 if raw[16] >= 4 else 4)
    return raw[:end] + zlib.crc32(raw[:end]).to_bytes(4, "little") + raw[end + 4 :]


def test_packages():
    for which, raw in enumerate(PACKAGES):
        parse_package(raw, "file")
        size, chance = int.from_bytes(raw[17:19], "little"), random.Random(which)
        for number in range(TIMES * 3):
            spoiled = spoil_bytes(raw[: size + 2000], chance, lambda: chance.randrange(size))  # noqa: B023
            check("package", number, parse_package, sum_again(spoiled) if chance.random() < 0.8 else spoiled)


def test_tables_and_addresses():
    chance = random.Random(7)
    for number in range(TIMES * 2):
        raw = spoil_bytes(LIST.encode(chance.choice(("utf-8", "utf-16", "cp1252"))), chance)
        check("server list", number, parse_server_list, raw)
        text = spoil_bytes(b"10.0.0.7-40, bmc-07.example:8443\n[fe80::1]:443;10.0.0.0/24", chance).decode("latin-1")
        check("addresses", number, lambda _, source: parse_addresses(text, source), b"")  # noqa: B023


@pytest.mark.parametrize("pack", [zstandard.compress, lambda raw: zlib.compress(raw, wbits=31)])
def test_what_comes_packed(pack):
    packed, chance = pack(json.dumps(GOOD["catalog"]).encode() * 50), random.Random(3)
    for number in range(TIMES * 2):
        check("packed", number, unpack, spoil_bytes(packed, chance))
