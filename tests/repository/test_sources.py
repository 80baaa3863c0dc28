"""Sources of catalogs: a real mirror over HTTPS with its faults, through a proxy, a TUF repository, a folder."""

from __future__ import annotations

import json
import shutil

import pytest

from ordnung.core.catalog import Payload
from ordnung.formats.addresses import parse_networks
from ordnung.formats.authorities import Authorities
from ordnung.formats.errors import FormatError
from ordnung.repository import Egress, Fetcher, Mirror, look, look_into_folder, look_into_tuf, read_root
from ordnung.standins.certificates import open_authority
from ordnung.standins.mirror import Mirror as MirrorStandIn
from ordnung.standins.proxy import Proxy
from ordnung.store import ContentStore, RepositoryError
from tests.repository.sealing import open_book, seal_files
from tests.repository.serving import ADDRESS, serving

INDEX, NEWEST = "corvane-index.json", "catalogs/corvane-servers-2026-11.json"


@pytest.fixture
async def site(tmp_path, mirror_folder):
    """A maker's mirror answering over HTTPS."""
    shutil.copytree(mirror_folder, tmp_path / "mirror")
    stand_in, authority = MirrorStandIn(tmp_path / "mirror"), open_authority(tmp_path / "ca")
    async with serving(stand_in.application(), authority) as url:
        yield stand_in, url, str(authority.path), tmp_path


def mirror(site, path=INDEX, proxy=""):
    _, url, ca, folder = site
    return Mirror(url + path, folder / "partly", ca, proxy)


def ignore(_: int) -> None: ...


async def test_an_index_brings_what_is_not_known_with_its_signatures(site):
    known = {("Corvane", "corvane-servers", f"2025-{month}") for month in ("02", "05", "08", "11")}
    moved: list[int] = []
    looked = await look(mirror(site), "", known, moved.append)
    assert len(looked.files) == 4 and looked.offered == 8 and all(f.signature for f in looked.files)
    assert looked.newest["Corvane", "corvane-servers"].issue == "2026-11"
    assert sum(moved) == sum(len(f.packed) for f in looked.files)
    again = await look(mirror(site), looked.etag, known, ignore)
    assert again.unchanged and again.files == ()


async def test_a_single_catalog_is_a_source_too_and_may_be_unsigned(site):
    looked = await look(mirror(site, "catalogs/quorrin-cards-2026-06.json"), "", (), ignore)
    assert [(f.name, f.signature) for f in looked.files] == [("quorrin-cards-2026-06.json", None)]


@pytest.mark.parametrize(
    ("path", "fault", "code", "told"),
    [
        (INDEX, "dead", "unreachable", "answered 503"),
        (NEWEST, "altered", "altered", "checksum is not what the index says"),
        (NEWEST, "cut short", "cut short", "cut short"),
        (NEWEST + ".sig", "dead", "unreachable", "answered 503"),
    ],
)
async def test_a_mirror_that_fails_or_lies_is_named(site, path, fault, code, told):
    site[0].faults[path] = fault
    with pytest.raises(RepositoryError, match=told) as caught:
        await look(mirror(site), "", (), ignore)
    assert caught.value.code == code


@pytest.mark.parametrize("fault", ["altered", "cut short"])
async def test_a_broken_index_is_a_format_error_or_lets_nothing_altered_through(site, fault):
    site[0].faults[INDEX] = fault
    with pytest.raises((FormatError, RepositoryError)):
        await look(mirror(site), "", (), ignore)


async def test_a_broken_line_is_gone_on_with_from_where_it_broke(site):
    stand_in = site[0]
    stand_in.faults[NEWEST] = "broken off"
    known = {
        ("Corvane", "corvane-servers", i)
        for i in ("2025-02", "2025-05", "2025-08", "2025-11", "2026-03", "2026-06", "2026-09")
    }
    with pytest.raises(RepositoryError, match="goes on from there"):
        await look(mirror(site), "", known, ignore)
    stand_in.faults.clear()
    moved: list[int] = []
    looked = await look(mirror(site), "", known, moved.append)
    whole = len(looked.files[0].packed)
    assert len(moved) == 2 and 0 < moved[0] < whole and sum(moved) == whole


async def test_nobody_there_and_a_foreign_certificate_are_told_apart(site):
    with pytest.raises(RepositoryError, match="the mirror can't be reached"):
        await look(Mirror("https://127.0.0.1:9/index.json", site[3], site[2]), "", (), ignore)
    with pytest.raises(RepositoryError, match="certificate is not one this site trusts"):
        await look(Mirror(site[1] + INDEX, site[3], None), "", (), ignore)


@pytest.fixture
def barred(site):
    """A house that goes out to other networks than the one where this mirror is."""
    return Egress(Authorities(site[2]), parse_networks("10.0.0.0/8"))


@pytest.mark.parametrize("host", [ADDRESS, "localhost"])
async def test_only_to_addresses_that_the_house_goes_out_to(site, barred, host, tmp_path):
    url = site[1].replace(ADDRESS, host)
    with pytest.raises(RepositoryError, match="not in the networks") as caught:
        await look(Mirror(url + INDEX, site[3], barred), "", (), ignore)
    assert caught.value.code == "foreign" and "127" not in caught.value.what, "it tells nobody what a name stands for"
    payload = Payload(path=NEWEST, size=10, sha256="0" * 64)
    async with Fetcher(ContentStore(tmp_path / "store"), barred) as fetcher:
        with pytest.raises(RepositoryError, match="not in the networks"):
            await fetcher.fetch(url, payload, ignore)
    with pytest.raises(RepositoryError, match="not in the networks"):
        await look_tuf((site[0], url, barred, site[3]), root_of(site[3]))
    assert site[0].requests == []


async def test_a_proxy_must_be_where_the_house_goes_out_to_as_well(site, barred):
    with pytest.raises(RepositoryError, match="not in the networks"):
        await look(Mirror("https://10.0.0.1/index.json", site[3], barred, "http://127.0.0.1:9"), "", (), ignore)


async def test_nobody_follows_a_redirect(site, tmp_path):
    stand_in, url, ca, _ = site
    stand_in.elsewhere = url + "secret.json"
    (stand_in.folder / "secret.json").write_text("{}")
    (stand_in.folder / "sealed/metadata").mkdir(parents=True)
    names = (INDEX, NEWEST, "sealed/metadata/2.root.json", "sealed/metadata/timestamp.json")
    for name in names:
        (stand_in.folder / name).write_text("{}")
        stand_in.faults[name] = "redirected"
    with pytest.raises(RepositoryError, match="answered 302"):
        await look(mirror(site), "", (), ignore)
    payload = Payload(path=NEWEST, size=2, sha256="0" * 64)
    async with Fetcher(ContentStore(tmp_path / "store"), ca, sleep=no_time) as fetcher:
        with pytest.raises(RepositoryError, match="answered 302"):
            await fetcher.fetch(url, payload, ignore)
    with pytest.raises(RepositoryError, match="answered 302"):
        await look_tuf(site, root_of(site[3]))
    assert "secret.json" not in stand_in.requests


@pytest.mark.parametrize(
    ("address", "is_allowed"),
    [
        ("93.184.216.34", True), ("10.1.2.3", True), ("2001:db8::1", True), ("169.254.169.254", False),
        ("127.0.0.1", False), ("::1", False), ("::ffff:127.0.0.1", False), ("::ffff:a9fe:a9fe", False),
        ("fe80::1", False), ("0.0.0.0", False), ("::", False), ("255.255.255.255", False), ("ff02::1", False),
    ],
)  # fmt: skip
def test_what_a_house_goes_out_to_unless_it_says_otherwise(address, is_allowed):
    from ordnung.server.settings import EVERYWHERE_ELSE

    assert parse_networks(EVERYWHERE_ELSE).allows(address) == is_allowed


async def no_time(_: float) -> None: ...


def root_of(folder):
    return open_book(folder).history()[0]


async def test_through_the_proxy_where_the_site_has_one(site):
    proxy = Proxy()
    await proxy.start()
    looked = await look(mirror(site, proxy=proxy.url), "", (), ignore)
    assert len(looked.files) == 8 and proxy.tunnels
    proxy.refuses = True
    with pytest.raises(RepositoryError, match=r"the proxy .* refuses"):
        await look(mirror(site, proxy=proxy.url), "", (), ignore)
    await proxy.stop()


def seal(folder, book, catalogs, days=30):
    seal_files(folder, book, {f"catalogs/{path.name}": path for path in catalogs}, days)


async def look_tuf(site, root, known=()):
    import asyncio

    _, url, ca, folder = site
    return await asyncio.to_thread(look_into_tuf, url + "sealed/", root, folder / "seen", known, ignore, ca)


async def test_a_tuf_repository_vouches_for_its_catalogs(site):
    folder = site[0].folder
    keys = open_book(site[3])
    paths = [folder / NEWEST, folder / "catalogs/quorrin-cards-2026-06.json"]
    seal(folder / "sealed", keys, paths)
    root = (folder / "sealed/metadata/1.root.json").read_bytes()
    looked = await look_tuf(site, root)
    assert sorted(f.name for f in looked.files) == sorted(p.name for p in paths)
    assert all(f.vouched == f"TUF root {read_root(root)}" for f in looked.files)
    target = next((folder / "sealed/targets/catalogs").glob("*.corvane-servers-2026-11.json"))
    target.write_bytes(target.read_bytes()[:-1] + b" ")
    with pytest.raises(RepositoryError, match=r"altered or cut short|did not match|mirror"):
        await look_tuf(site, root)


async def test_delegated_roles_are_named_and_never_passed_over_in_silence(site):
    folder, book = site[0].folder, open_book(site[3])
    seal_files(folder / "sealed", book, {f"catalogs/{(folder / NEWEST).name}": folder / NEWEST}, delegated=("cards",))
    looked = await look_tuf(site, book.history()[0])
    assert looked.unread == ("cards",) and [f.name for f in looked.files] == [(folder / NEWEST).name]


async def test_a_tuf_repository_signed_by_others_or_expired_is_refused(site):
    folder = site[0].folder
    ours, theirs = (open_book(site[3] / name) for name in ("ours", "theirs"))
    seal(folder / "sealed", ours, [folder / NEWEST])
    root = (folder / "sealed/metadata/1.root.json").read_bytes()
    seal(folder / "sealed", theirs, [folder / NEWEST])
    with pytest.raises(RepositoryError, match="not signed by the keys this house trusts"):
        await look_tuf(site, root)
    seal(folder / "sealed", ours, [folder / NEWEST], days=-1)
    with pytest.raises(RepositoryError, match="expired"):
        await look_tuf(site, root)
    with pytest.raises(RepositoryError, match="no root metadata"):
        read_root(b"{}")


def test_a_folder_gives_its_catalogs_with_or_without_an_index(mirror_folder, tmp_path):
    looked = look_into_folder(mirror_folder / "catalogs", ())
    assert len(looked.files) == 9 and sum(f.signature is not None for f in looked.files) == 8 and not looked.newest
    shutil.copytree(mirror_folder / "catalogs", tmp_path / "catalogs")
    shutil.copyfile(mirror_folder / INDEX, tmp_path / "index.json")
    looked = look_into_folder(tmp_path, {("Corvane", "corvane-servers", "2026-11")})
    assert len(looked.files) == 7 and looked.newest["Corvane", "corvane-servers"].issue == "2026-11"
    (tmp_path / NEWEST).write_bytes(b"{}")
    with pytest.raises(RepositoryError, match="not what the index says"):
        look_into_folder(tmp_path, ())
    with pytest.raises(RepositoryError, match="no such folder"):
        look_into_folder(tmp_path / "nowhere", ())


def test_other_files_of_a_folder_are_left_alone(tmp_path):
    (tmp_path / "notes.json").write_text(json.dumps({"format": "something else"}))
    assert look_into_folder(tmp_path, ()).files == ()
