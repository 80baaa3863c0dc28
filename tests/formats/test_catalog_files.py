"""How catalogs arrive: compressed, signed, as an index, as a folder of packages; every fault of a file at once."""

from __future__ import annotations

import contextlib
import datetime
import gzip
import json

import pytest
import zstandard
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from ordnung.formats.catalog import parse_catalog, write_catalog
from ordnung.formats.compressed import unpack
from ordnung.formats.errors import FormatError
from ordnung.formats.folder_catalog import Heading, build_catalog
from ordnung.formats.offers import Offer, newest_of, parse_index, write_index
from ordnung.formats.signatures import find_signer, read_key, read_signature
from ordnung.standins import makers

PACKERS = {"plain": bytes, "gzip": gzip.compress, "zstd": zstandard.ZstdCompressor().compress}


@pytest.mark.parametrize("pack", PACKERS.values(), ids=PACKERS)
@given(raw=st.binary(max_size=2000).filter(lambda b: not b.startswith((b"\x1f\x8b", b"\x28\xb5\x2f\xfd"))))
def test_what_is_packed_comes_out(pack, raw):
    assert unpack(pack(raw), "file") == raw


@pytest.mark.parametrize("pack", [gzip.compress, zstandard.ZstdCompressor().compress], ids=["gzip", "zstd"])
def test_a_bomb_is_not_unpacked_further(pack):
    with pytest.raises(FormatError, match="larger than 1 MiB when unpacked"):
        unpack(pack(bytes(64 * 2**20)), "bomb", 2**20)


@pytest.mark.parametrize(
    "pack", [gzip.compress, zstandard.ZstdCompressor(write_checksum=True).compress], ids=["gzip", "zstd"]
)
@given(data=st.data())
def test_a_cut_or_altered_one_is_refused(pack, data):
    raw = b"a catalog " * 40
    packed = pack(raw)
    with pytest.raises(FormatError, match="file"):
        unpack(packed[: data.draw(st.integers(5, len(packed) - 1))], "file")
    place = data.draw(st.integers(4, len(packed) - 1))
    altered = packed[:place] + bytes([packed[place] ^ data.draw(st.integers(1, 255))]) + packed[place + 1 :]
    # A flipped bit in a header field that means nothing (time, flags) may go unnoticed; other contents never.
    with contextlib.suppress(FormatError):
        assert unpack(altered, "file") == raw


def test_what_follows_the_gzip_data_is_refused():
    with pytest.raises(FormatError, match="something follows"):
        unpack(gzip.compress(b"x") + b"y", "file")


KEY = Ed25519PrivateKey.from_private_bytes(bytes(range(32)))
PUBLIC = KEY.public_key().public_bytes_raw()


def test_a_signature_counts_for_the_very_bytes_and_a_trusted_key():
    good, keys = (
        KEY.sign(b"catalog"),
        {"other": Ed25519PrivateKey.generate().public_key().public_bytes_raw(), "maker": PUBLIC},
    )
    assert find_signer(b"catalog", good, keys) == "maker"
    assert (
        find_signer(b"catalog ", good, keys) is None and find_signer(b"catalog", good, {"other": keys["other"]}) is None
    )


@pytest.mark.parametrize(
    "spell",
    [bytes, lambda b: b.hex().encode(), lambda b: __import__("base64").b64encode(b) + b"\n"],
    ids=["raw", "hex", "base64"],
)
def test_signatures_and_keys_come_in_three_spellings(spell):
    assert read_signature(spell(KEY.sign(b"x")), "s") == KEY.sign(b"x")
    assert read_key(PUBLIC.hex()) == PUBLIC


@pytest.mark.parametrize("raw", [b"", b"zz" * 64, bytes(63), bytes(65), b"\xff" * 80])
def test_what_is_no_signature_is_refused(raw):
    with pytest.raises(FormatError, match="not an Ed25519 signature"):
        read_signature(raw, "s")


offers = st.builds(
    Offer, maker=st.sampled_from("AB"), catalog=st.sampled_from("cd"), issue=st.text(min_size=1, max_size=5),
    issued=st.dates(), path=st.just("a/b.json"), size=st.integers(1, 10**6), sha256=st.just("0" * 64),
)  # fmt: skip


@given(st.lists(offers, max_size=5))
def test_an_index_round_trips_and_knows_its_newest(found):
    raw = write_index(found)
    assert parse_index(raw) == tuple(found) and write_index(list(parse_index(raw))) == raw
    for name, offer in newest_of(tuple(found)).items():
        assert offer.issued == max(o.issued for o in found if (o.maker, o.catalog) == name)


def test_an_index_that_leads_elsewhere_is_refused():
    entry = {
        "maker": "A",
        "catalog": "c",
        "issue": "1",
        "issued": "2026-02-30",
        "path": "a",
        "size": 1,
        "sha256": "0" * 64,
    }
    document = {"format": "ordnung.offers/1", "issues": [entry]}
    with pytest.raises(FormatError, match="is not a date"):
        parse_index(json.dumps(document).encode())
    for bad in ({"path": "../a"}, {"path": "/a"}, {"path": "https://x/a"}, {"size": -1}, {"sha256": "no"}):
        with pytest.raises(FormatError):
            parse_index(json.dumps({**document, "issues": [{**entry, "issued": "2026-02-01", **bad}]}).encode())


def test_every_fault_of_a_catalog_is_named_at_once():
    product = {
        "id": "p",
        "name": "P",
        "kind": "bios",
        "scheme": "dotted",
        "fits": [{"software_id": "X"}],
        "releases": [{"version": "1.0"}, {"version": "1"}],
    }
    document = {
        "format": "ordnung.catalog/1", "maker": "m", "catalog": "c", "issue": "i", "issued": "2026-13-01",
        "products": [product, {**product, "releases": [{"version": "1", "released": "2026-02-31"}]}, {**product, "id": "q", "releases": []}],
    }  # fmt: skip
    with pytest.raises(FormatError) as caught:
        parse_catalog(json.dumps(document).encode(), "file")
    told = {fault.place: fault.what for fault in caught.value.faults}
    assert set(told) == {
        "issued", "products.0.releases.1.version", "products.1.releases.0.released", "products.1.id", "products.2.fits",
    }  # fmt: skip
    assert "p and q fit the same components equally well" in told["products.2.fits"]
    many = {
        **document,
        "issued": "2026-01-01",
        "products": [{**product, "kind": "toaster", "surprise": n} for n in range(9)],
    }
    with pytest.raises(FormatError) as caught:
        parse_catalog(json.dumps(many).encode(), "file")
    assert len(caught.value.faults) == 18 and "and 13 more" in str(caught.value)


HEADING = Heading(
    maker="Pellam", catalog="pellam-folder", issue="1", issued=datetime.date(2026, 11, 23), base="file:///x/"
)


@pytest.fixture
def folder(tmp_path):
    for make in (makers.PELLAM_BIOS, makers.PELLAM_BMC, makers.REED14_BIOS):
        for made in make.releases[-2:]:
            path = tmp_path / make.folder / f"{make.kind}-{made.version}.pldm"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(makers.make_package(make, made))
    return tmp_path


def test_a_folder_of_packages_becomes_a_catalog(folder):
    issue = build_catalog(folder, HEADING)
    by_id = {p.id: p for p in issue.products}
    bios = by_id["pel-1160-bios"]
    assert (bios.name, bios.kind, bios.scheme, bios.listed) == ("Pellam 1160 BIOS", "bios", "letter", ("C08", "D02"))
    reed = by_id["crv-r14-bios"].find("3.2.0")
    assert (reed.direct_from, reed.floor_after, reed.importance, reed.activation) == (
        "2.4.1",
        "2.4.1",
        "security",
        "server reboot",
    )
    assert [(n.product, n.at_least) for n in reed.needs] == [("crv-r14-bmc", "5.30.0")]
    assert reed.payload.path == "corvane/reed14/bios/bios-3.2.0.pldm" and reed.payload.size > 1000
    assert write_catalog(build_catalog(folder, HEADING)) == write_catalog(issue)


SIDE_CAR = {
    "format": "ordnung.side-car/1", "product": {"id": "n10", "name": "N10", "kind": "nic", "fits": [{"pci": "ffe9:0010:*:*"}]},
    "release": {"version": "3.15", "activation": "server reboot"},
}  # fmt: skip


def test_an_opaque_file_is_taken_by_its_side_car(folder):
    (folder / "n10.bin").write_bytes(b"opaque")
    assert "n10" not in {p.id for p in build_catalog(folder, HEADING).products}
    (folder / "n10.bin.json").write_text(json.dumps(SIDE_CAR))
    product = next(p for p in build_catalog(folder, HEADING).products if p.id == "n10")
    assert product.releases[0].payload.size == 6 and product.fits == ({"pci": "ffe9:0010:*:*"},)


@pytest.mark.parametrize(
    ("spoil", "told"),
    [
        (lambda f: (f / "bad.pldm").write_bytes(b"nothing"), "bad.pldm"),
        (lambda f: (f / "x.bin", (f / "x.bin").write_bytes(b"x"), (f / "x.bin.json").write_text("{}")), "x.bin"),
        (lambda f: (f / "pellam/odd name.pldm").write_bytes(b"x"), "the name has signs"),
        (lambda f: (f / "out.pldm").symlink_to("/etc/hostname"), "leads out of the folder"),
    ],
    ids=["no package", "side-car broken", "name", "symlink"],
)
def test_what_is_broken_in_a_folder_is_named_and_nothing_is_built(folder, spoil, told):
    spoil(folder)
    with pytest.raises(FormatError, match=told):
        build_catalog(folder, HEADING)


def test_an_empty_folder_says_so(tmp_path):
    with pytest.raises(FormatError, match="no firmware package lies there"):
        build_catalog(tmp_path, HEADING)


@pytest.mark.parametrize("bearers", [("controller", "host"), ("host", "disc"), ()])
def test_wrappings_are_read_and_written_back(bearers):
    """They were lost when an issue was written out again."""
    wrappings = [{"for": b, "path": f"{b}.bin", "size": n, "sha256": "0" * 64} for n, b in enumerate(bearers, start=7)]
    release = {"version": "1.0", **({"wrappings": wrappings} if wrappings else {})}
    document = {
        "format": "ordnung.catalog/1", "maker": "Corvane", "catalog": "c", "issue": "1", "issued": "2026-11-04",
        "products": [{"id": "p", "name": "P", "kind": "bios", "fits": [{"software_id": "P"}], "releases": [release]}],
    }  # fmt: skip
    issue = parse_catalog(json.dumps(document).encode())
    (read,) = issue.products[0].releases
    assert [w.bearer for w in read.wrappings] == list(bearers)
    assert read.size == {("controller", "host"): 7, ("host", "disc"): 8, (): None}[bearers]
    assert parse_catalog(write_catalog(issue)) == issue
