"""Store, fetching from a lying mirror, identity, serving with ranges."""

from __future__ import annotations

import asyncio
import dataclasses
import hashlib
import ssl
import uuid
from urllib.parse import SplitResult, urlsplit

import aiohttp
import pytest

from ordnung.core.baseline import Position
from ordnung.core.catalog import Payload, Product, Release
from ordnung.core.components import Component
from ordnung.core.matching import Catalogs, Match
from ordnung.core.sheet import NamedPayload
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.pldm import DeviceRecord, compare_record, parse_package
from ordnung.formats.pldm.model import titled
from ordnung.repository import Fetcher, check_identity
from ordnung.repository.identity import SettledBy, find_fitting, open_package, refuse_foreign, settle_identity
from ordnung.standins.makers import write_mirror
from ordnung.standins.scenario import m as makers
from ordnung.store import ContentStore, PayloadServer, RepositoryError, serve
from ordnung.store.serve import Fetched

RAID = "tessaly/r9/raid-7.18.0.pldm"


@pytest.fixture
def store(tmp_path):
    return ContentStore(tmp_path / "store")


@pytest.fixture
def catalogs(mirror_folder):
    return Catalogs(tuple(parse_catalog(p.read_bytes()) for p in sorted((mirror_folder / "catalogs").glob("*.json"))))


def product(catalogs, name):
    return next(p for p in catalogs.products() if p.id == name)


def put(store, raw: bytes) -> str:
    sha256 = hashlib.sha256(raw).hexdigest()
    store.partial_path(sha256).write_bytes(raw)
    store.adopt(sha256, "x")
    return sha256


def test_the_store_takes_only_what_it_is_named_for(store):
    sha256 = put(store, b"payload")
    assert store.has(sha256) and store.path(sha256).read_bytes() == b"payload" and list(store.sums()) == [sha256]
    store.partial_path("0" * 64).write_bytes(b"else")
    with pytest.raises(RepositoryError, match="altered"):
        store.adopt("0" * 64, "x")
    assert not store.has("0" * 64) and not store.partial_path("0" * 64).exists()


class Site:
    """A mirror stand-in over real HTTPS with its payload's facts."""

    def __init__(self, live, folder):
        live.floor.mirror.folder = folder
        self.faults, self.requests = live.floor.mirror.faults, live.floor.mirror.requests
        self.base, self.ca = live.floor.mirror_url, live.ca
        raw = (folder / RAID).read_bytes()
        self.raw = raw
        self.payload = Payload(path=RAID, size=len(raw), sha256=hashlib.sha256(raw).hexdigest())


@pytest.fixture
def site(live, mirror_folder):
    return Site(live, mirror_folder)


async def no_time(_seconds):
    """Waiting between two tries takes none here."""


async def fetch(site, store, payload=None):
    seen = []
    async with Fetcher(store, site.ca, sleep=no_time) as fetcher:
        path = await fetcher.fetch(site.base, payload or site.payload, seen.append)
    return path, sum(seen)


async def test_fetching_stores_once_and_tells_every_byte(site, store):
    path, told = await fetch(site, store)
    assert path.read_bytes() == site.raw and told == site.payload.size
    asked = len(site.requests)
    await fetch(site, store)
    assert len(site.requests) == asked


async def test_a_broken_off_fetch_is_resumed(site, store):
    store.partial_path(site.payload.sha256).write_bytes(site.raw[:1000])
    path, told = await fetch(site, store)
    assert path.read_bytes() == site.raw and told == site.payload.size


@pytest.mark.parametrize(
    ("fault", "code", "told"),
    [("altered", "altered", "checksum"), ("cut short", "cut short", "bytes came"), ("dead", "unreachable", "503")],
)
async def test_a_lying_mirror_is_found_out_and_nothing_is_kept(site, store, fault, code, told):
    site.faults[RAID] = fault
    with pytest.raises(RepositoryError) as caught:
        await fetch(site, store)
    assert (caught.value.code, caught.value.file) == (code, RAID) and told in caught.value.what
    assert list(store.sums()) == []
    site.faults.clear()
    assert (await fetch(site, store))[0].read_bytes() == site.raw


async def test_a_mirror_that_is_not_there_or_not_trusted_is_unreachable(site, store):
    site.base = "https://127.20.99.99:1/"
    with pytest.raises(RepositoryError, match="the mirror can't be reached"):
        await fetch(site, store)


def test_a_package_is_what_the_catalog_says(mirror_folder, catalogs):
    check_identity(mirror_folder / RAID, product(catalogs, "tessaly.r9"), "7.18.0", RAID)


@pytest.mark.parametrize(
    ("name", "version", "told"),
    [
        ("corvane.reed14.bios", "3.2.0", "the package is for TSY-R9, not for Reed 14 BIOS"),
        ("quorrin.q25", "24.2.8", "the package is for TSY-R9"),
        ("tessaly.r9", "7.16.1", "the package carries 7.18.0, the catalog says 7.16.1"),
    ],
)
def test_a_foreign_package_is_refused(mirror_folder, catalogs, name, version, told):
    with pytest.raises(RepositoryError, match=told):
        check_identity(mirror_folder / RAID, product(catalogs, name), version, RAID)


def test_the_last_look_before_sending_is_at_the_component_itself(mirror_folder):
    package = parse_package((mirror_folder / RAID).read_bytes())
    facts = {"slot": "raid-1", "kind": "raid", "name": "R9", "version": "1"}
    assert refuse_foreign(package, Component(**facts, software_id="TSY-R9", pci=makers.RAID_R9.pci)) is None
    assert "PCI device" in refuse_foreign(package, Component(**facts, software_id="TSY-R9", pci="ffe2:0091:ffe2:0001"))
    assert "TSY-R9" in refuse_foreign(package, Component(**facts, software_id="ELSE", pci=makers.RAID_R9.pci))
    assert refuse_foreign(package, Component(**facts, software_id="TSY-R9")) is not None


@pytest.fixture
async def serving(live, store):
    """A payload server, what it told, and the address of a payload too large to lie in buffers."""
    told: list[Fetched] = []
    sha256 = put(store, bytes(40_000_000))
    server = PayloadServer(store, b"secret", told.append)
    await server.start("127.20.100.2", 0, live.floor.authority.issue("127.20.100.2", "payloads"))
    server.allow("7", ["surge-01"], [sha256])
    yield told, urlsplit(server.uri("7", "surge-01", sha256, "HTTP"))
    await server.stop()


async def begin(url: SplitResult) -> tuple[asyncio.StreamReader, asyncio.StreamWriter, bytes]:
    reader, writer = await asyncio.open_connection(url.hostname, url.port)
    writer.write(f"GET {url.path} HTTP/1.1\r\nHost: {url.netloc}\r\n\r\n".encode())
    return reader, writer, await reader.readline()


async def test_who_takes_nothing_is_hung_up_on(serving, monkeypatch):
    told, url = serving
    monkeypatch.setattr(serve, "BEGIN_S", 0.2)
    monkeypatch.setattr(serve, "SLOWEST", 10**12)
    _, writer, status = await begin(url)
    assert b"200" in status
    await asyncio.sleep(0.6)
    assert [one.whole for one in told] == [False]
    writer.close()


async def test_who_asks_for_nothing_is_hung_up_on(live, store, monkeypatch):
    monkeypatch.setattr(serve, "SILENT_S", 0.2)
    sha256, server = put(store, b"a payload"), PayloadServer(store, b"secret")
    await server.start("127.20.100.2", 0, live.floor.authority.issue("127.20.100.2", "payloads"))
    server.allow("7", ["surge-01"], [sha256])
    url = urlsplit(server.uri("7", "surge-01", sha256, "HTTP"))
    silent, writer = await asyncio.open_connection(url.hostname, url.port)
    writer.write(b"GET / HTTP/1.1\r\nHost:")
    heard, kept, _ = await begin(url)
    assert await silent.read() == b"", "hung up on"
    await heard.readuntil(b"\r\n\r\n")
    assert await heard.readexactly(9) == b"a payload"
    kept.write(f"GET {url.path} HTTP/1.1\r\nHost: {url.netloc}\r\n\r\n".encode())
    assert b"200" in await heard.readline(), "who has asked before may ask again"
    writer.close(), kept.close()
    await server.stop()


async def test_one_address_has_so_many_requests_at_once_and_no_more(serving):
    _, url = serving
    lines = [await begin(url) for _ in range(serve.AT_ONCE_AN_ADDRESS + 1)]
    assert [b"200" in status for *_, status in lines] == [True] * serve.AT_ONCE_AN_ADDRESS + [False]
    assert b"503" in lines[-1][2]
    for _, writer, _ in lines:
        writer.transport.abort()
    await asyncio.sleep(0.1)
    _, writer, status = await begin(url)
    assert b"200" in status, "whoever went away no longer counts"
    writer.transport.abort()


async def test_serving_obeys_ranges_and_closes_with_the_run(live, store):
    sha256 = put(store, bytes(range(256)) * 40)
    server = PayloadServer(store, b"secret")
    await server.start("127.20.100.2", 0, live.floor.authority.issue("127.20.100.2", "payloads"))
    context = ssl.create_default_context(cafile=live.ca)
    try:
        async with aiohttp.ClientSession() as http:

            async def get(headers=None):
                async with http.get(server.uri("7", "surge-01", sha256), ssl=context, headers=headers) as answer:
                    return answer.status, await answer.read()

            assert (await get())[0] == 404
            server.allow("7", ["surge-01"], [sha256])
            assert await get() == (200, bytes(range(256)) * 40)
            assert await get({"Range": "bytes=256-259"}) == (206, b"\0\1\2\3")
            assert PayloadServer(store, b"secret").token("7", "a") == server.token("7", "a") != server.token("7", "b")
            server.close_run("7")
            assert (await get())[0] == 404
    finally:
        await server.stop()


def test_the_mirror_is_the_same_each_time(tmp_path):
    small = (makers.SUPPLY_800,)
    old, makers.ISSUES = makers.ISSUES, ()
    try:
        for name in ("a", "b"):
            write_mirror(tmp_path / name, "https://x/", small)
    finally:
        makers.ISSUES = old
    one, two = (sorted((tmp_path / n).rglob("*.pldm")) for n in ("a", "b"))
    assert [p.read_bytes() for p in one] == [p.read_bytes() for p in two] != []


def test_a_makers_signature_is_asked_for_where_its_key_is_trusted(catalogs):
    from ordnung.repository import check_payload_signature
    from ordnung.standins.publishing import public_key

    payload = product(catalogs, "corvane.reed14.bios").find("3.2.0").payload
    corvane, other = bytes.fromhex(public_key("Corvane")), bytes.fromhex(public_key("Quorrin"))
    assert payload.generation == 2 and len(payload.signature) == 128
    assert check_payload_signature(payload, "bios", {"key 2025": corvane, "old": other}) == "key 2025"
    assert check_payload_signature(payload, "bios", {}) == "", "no key is trusted: nothing to compare with"
    unsigned = product(catalogs, "quorrin.q25").find("24.2.8").payload
    assert check_payload_signature(unsigned, "nic", {"key": other}) == ""
    with pytest.raises(RepositoryError) as caught:
        check_payload_signature(payload, "bios 3.2.0", {"other": other})
    assert caught.value.code == "unsigned" and "by none of other" in caught.value.what


def test_a_package_of_another_signature_generation_is_refused(mirror_folder, catalogs):
    import dataclasses

    bios = product(catalogs, "corvane.reed14.bios")
    path = "corvane/reed14/bios/bios-3.2.0.pldm"
    check_identity(mirror_folder / path, bios, "3.2.0", path)
    lying = tuple(
        dataclasses.replace(r, payload=dataclasses.replace(r.payload, generation=1)) if r.version == "3.2.0" else r
        for r in bios.releases
    )
    with pytest.raises(RepositoryError, match="signed in generation 2, the catalog says 1"):
        check_identity(mirror_folder / path, dataclasses.replace(bios, releases=lying), "3.2.0", path)


def test_an_opaque_file_is_what_its_catalog_says_and_nothing_more(tmp_path, catalogs):
    import dataclasses

    bios = product(catalogs, "corvane.reed14.bios")
    opaque = tuple(dataclasses.replace(r, payload=dataclasses.replace(r.payload, form="opaque")) for r in bios.releases)
    (tmp_path / "blob.bin").write_bytes(b"\x7fELF, or whatever it is")
    assert check_identity(tmp_path / "blob.bin", dataclasses.replace(bios, releases=opaque), "3.2.0", "blob") is None
    with pytest.raises(RepositoryError, match="not a PLDM firmware package"):
        check_identity(tmp_path / "blob.bin", bios, "3.2.0", "blob")


async def until_told(told, count):
    """A controller may have all its bytes a moment before the server has noted it."""
    async with asyncio.timeout(10):
        while len(told) < count:
            await asyncio.sleep(0.005)


async def test_a_rack_fetches_at_once_over_both_protocols_and_each_is_told(live, store):
    raw = bytes(range(256)) * 4000
    sha256 = put(store, raw)
    told = []
    server = PayloadServer(store, b"secret", told.append)
    await server.start("127.20.100.2", 0, live.floor.authority.issue("127.20.100.2", "payloads"))
    context = ssl.create_default_context(cafile=live.ca)
    servers = [f"surge-{n:02}" for n in range(1, 25)]
    server.allow("7", servers, [sha256])
    try:
        async with aiohttp.ClientSession() as http:

            async def get(name, protocol, **headers):
                uri = server.uri("7", name, sha256, protocol)
                async with http.get(uri, ssl=context, headers=headers) as answer:
                    return answer.status, await answer.read(), answer.headers.get("ETag")

            found = await asyncio.gather(*(get(n, ("HTTPS", "HTTP")[i % 2]) for i, n in enumerate(servers)))
            assert {(status, body) for status, body, _ in found} == {(200, raw)}
            await until_told(told, 24)
            assert {(f.server, f.protocol, f.bytes, f.whole) for f in told} == {
                (n, ("HTTPS", "HTTP")[i % 2], len(raw), True) for i, n in enumerate(servers)
            }
            tag = found[0][2]
            assert (await get("surge-01", "HTTPS", **{"If-None-Match": tag}))[0] == 304
            assert (await get("surge-01", "HTTP", Range="bytes=5-9"))[:2] == (206, raw[5:10])
            await until_told(told, 25)
            assert (told[-1].start, told[-1].bytes) == (5, 5)
            async with http.get(server.uri("7", "surge-99", sha256, "HTTP")) as answer:
                assert answer.status == 404, "a server that is not in the run has no path"
    finally:
        await server.stop()


# Identity as makers really tell it


def record(*descriptors, data=b""):
    return DeviceRecord(descriptors=descriptors, images=(0,), version="1", data=data)


CARD = Component(
    slot="a", kind="nic", name="Card", version="1", software_id="SW-1", pci="ffe3:0025:ffe3:0001", part="P-25",
    uuid="11111111-aaaa-4000-8000-000000000001", maker="Quorrin", product="Q25",
)  # fmt: skip
LE = lambda text: int(text, 16).to_bytes(2, "little")  # noqa: E731


@pytest.mark.parametrize(
    ("descriptors", "agreement"),
    [
        ([(0x0000, LE("ffe3")), (0x0100, LE("0025"))], "fits"),
        ([(0x0000, LE("ffe3")), (0x0100, LE("0025")), (0x0101, LE("ffe3")), (0x0102, LE("0002"))], "for another device"),
        ([(0x0000, LE("ffe3"))], "nothing to compare"),  # its maker alone names no device
        ([(0x0000, LE("ffe4"))], "for another device"),
        ([(0x0001, b"\x01\x02\x03\x04")], "nothing to compare"),
        ([(0x0001, b"\x01\x02\x03\x04"), (0xFFFF, titled("SoftwareId", b"SW-1"))], "fits"),
        ([(0x0001, b"\x01\x02\x03\x04"), (0xFFFF, titled("Software ID", b"SW-2"))], "for another device"),
        ([(0x0001, b"\x01\x02\x03\x04"), (0xFFFF, titled("Colour", b"red"))], "nothing to compare"),
        ([(0x0002, uuid.UUID("11111111-aaaa-4000-8000-000000000001").bytes)], "fits"),
        ([(0x0002, uuid.UUID(int=7).bytes)], "for another device"),
        ([(0x0003, b"\x01\x02\x03"), (0x0104, b"\x01\x02\x03\x04")], "nothing to compare"),
        ([(0x0005, b"\x01\x02\x03")], "nothing to compare"),
        ([(0x0006, b"QUORRIN "), (0x0108, b"Q25             ")], "fits"),
        ([(0x0006, b"OTHER   "), (0x0108, b"Q26             ")], "for another device"),
        ([(0x0006, b"OTHER   ")], "nothing to compare"),
        ([(0x0001, b"\x01\x02\x03\x04"), (0x0107, b"P-25      ")], "fits"),
        ([(0xFFFF, b"\x01\xff")], "nothing to compare"),
        ([], "nothing to compare"),
    ],
)  # fmt: skip
def test_descriptors_are_compared_with_every_identifier_a_reading_has(descriptors, agreement):
    assert compare_record(record(*descriptors), CARD).agreement == agreement


@pytest.mark.parametrize(
    ("descriptors", "signed_by", "told"),
    [
        ([(0x0000, LE("ffe3")), (0x0100, LE("0025"))], "", SettledBy.DESCRIPTORS),
        ([(0x0001, b"\x01\x02\x03\x04")], "key", SettledBy.CHECKSUM),
        ([(0x0001, b"\x01\x02\x03\x04")], "", "no signed catalog vouches"),
        ([(0x0100, LE("0026"))], "key", "the package is for PCI device 0026, the device has 0025"),
    ],
)
def test_where_nothing_compares_a_signed_catalogs_checksum_settles_it(mirror_folder, descriptors, signed_by, told):
    package = dataclasses.replace(open_package(mirror_folder / RAID, RAID), devices=(record(*descriptors),))
    version = package.images[0].version
    raid = Product("p", "P", "raid", "dotted", (), (Release(version=version),))
    payload = NamedPayload(sha256="a", size=1, maker="M", catalog="c", issue="i", signed_by=signed_by)
    found = settle_identity(package, payload, raid, version, CARD)
    assert found == told or (isinstance(found, str) and told in found)
    other = settle_identity(package, payload, raid, "9.9", CARD)
    assert isinstance(other, str) and not isinstance(other, SettledBy)
    opaque = settle_identity(None, payload, raid, version, CARD)
    assert (opaque is SettledBy.CHECKSUM) == bool(signed_by)


FITS, OTHER = [(0x0000, LE("ffe3")), (0x0100, LE("0025"))], [(0x0000, LE("ffe3")), (0x0100, LE("0026"))]
SAME, ANOTHER = (Product(name, name, "nic", "dotted", (), (Release(version="1"),)) for name in "pq")


@pytest.mark.parametrize(
    ("descriptors", "product", "facts", "found"),
    [
        (FITS, SAME, {}, True),
        (OTHER, SAME, {}, True),
        (FITS, None, {}, True),
        (FITS, ANOTHER, {}, True),
        (OTHER, ANOTHER, {}, False),
        (FITS, None, {"pci": "ffe3:0026:ffe3:0001"}, False),
        (None, ANOTHER, {}, False),
        (None, None, {}, True),
        (None, None, {"kind": "drive"}, False),
        ([], None, {}, True),
        ([], ANOTHER, {}, False),
    ],
)  # fmt: skip
def test_what_a_payload_may_be_for_besides(mirror_folder, descriptors, product, facts, found):
    """A file in its maker's own form tells nothing, a package by what it compares with."""
    package = None
    if descriptors is not None:
        devices = (record(*descriptors),) if descriptors else ()
        package = dataclasses.replace(open_package(mirror_folder / RAID, RAID), devices=devices)
    own = Position(CARD, Match(SAME), None)
    other = Position(dataclasses.replace(CARD, slot="b", **facts), Match(product), None)
    assert find_fitting([own, other], "a", package) == (("b",) if found else ())
