"""Repositories over the database: packed with trims, sealed by whom it takes, written out, carried in, questioned."""

from __future__ import annotations

import datetime
import hashlib
import json
from pathlib import Path

import pytest
from asgiref.sync import sync_to_async
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from django.core.files.uploadedfile import SimpleUploadedFile
from securesystemslib.signer import CryptoSigner

from ordnung.repository import check_repository, open_carrier, sign_offline
from ordnung.repository.keys import public_hex
from ordnung.server import apart
from ordnung.server.assessment import current
from ordnung.server.baselines.models import Revision
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.repositories import payloads
from ordnung.server.repositories.models import Arrival, PayloadFetch, Repository, TrustedRoot, Upload, WrittenOut
from ordnung.server.work.models import Work
from ordnung.standins.faults import Fault
from ordnung.store import look_over
from tests.server.test_jobs import SiteUnderTest, site

pytestmark = pytest.mark.django_db(transaction=True)
__all__ = ["site"]


class Desk:
    """What a person does at one site, as requests and answers."""

    def __init__(self, site: SiteUnderTest) -> None:
        self.site = site

    async def call(self, method: str, path: str, body=None, **more):
        ask = getattr(self.site.browser, method)
        if isinstance(body, SimpleUploadedFile):
            answer = await sync_to_async(ask)(f"/api/v1/{path}", {"file": body})
        else:
            kind = more.pop("kind", "application/json")
            answer = await sync_to_async(ask)(f"/api/v1/{path}", body or {}, content_type=kind, **more)
        return answer

    async def get(self, path: str):
        return await sync_to_async(self.site.get)(path)

    async def do(self, path: str, body=None) -> Work:
        """Ask for work and let the engine do it."""
        answer = await self.call("post", path, body)
        assert answer.status_code in (200, 201, 202), answer.content
        return await self.site.work()

    async def pack(self, **body) -> dict:
        await self.do("repositories", body)
        return await self.get(f"repositories/{(await Repository.objects.order_by('-pk').afirst()).pk}")

    async def write(self, pk: int, **body) -> list[WrittenOut]:
        work = await self.do(f"repositories/{pk}/written", body)
        assert work.state == "done", work.note
        return [row async for row in WrittenOut.objects.filter(repository_id=pk).order_by("pk")]

    async def carry(self, **body) -> tuple[Work, dict]:
        work = await self.do("arrivals", body)
        return work, (await self.get("arrivals"))[0]


@pytest.fixture
async def desk(site):
    await site.ask("surveys")
    return Desk(site)


async def become_another_site(desk: Desk, settings, folder: Path) -> None:
    """The same machine, but nothing is known here: another home, no repositories, no catalogs."""
    await Repository.objects.all().adelete()
    await CatalogIssue.objects.all().adelete()
    settings.HOME = folder
    settings.FOLDERS = [folder / "incoming"]
    settings.FOLDERS[0].mkdir(parents=True)
    current.forget()


@pytest.mark.parametrize("site", [2], indirect=True, ids=["large"])
async def test_a_packing_list_tells_savings_losses_and_media(desk):
    whole = (await desk.call("post", "packing", {})).json()
    assert whole["servers"] == ["gauge-04", "surge-03"] and whole["losses"] == []
    assert sum(line["size"] for line in whole["lines"]) == whole["bytes"] and whole["stored"] == 0
    kinds = {o["value"]: o for o in whole["offers"] if o["by"] == "kind"}
    trims = [{"by": "kind", "value": "raid"}]
    less = (await desk.call("post", "packing", {"trims": trims, "capacity": 2_500_000})).json()
    assert whole["bytes"] - less["bytes"] == kinds["raid"]["saves"] > 0
    assert {line["state"] for line in less["lines"] if line["kind"] == "raid"} == {"left out"}
    assert [(x["what"], x["servers"]) for x in less["losses"]] == [("stays", ["surge-03"])]
    assert len(less["media"]["filled"]) == 2 and less["media"]["too_large"] == ""
    tiny = (await desk.call("post", "packing", {"capacity": 1_000_000})).json()
    assert "the medium takes 1000000" in tiny["media"]["too_large"]
    refused = await desk.call("post", "repositories", {"capacity": 1_000_000})
    assert refused.status_code == 422 and "larger medium" in refused.json()["detail"]


@pytest.mark.parametrize(
    ("body", "code"),
    [
        ({"servers": ["nobody"]}, "ordnung:unknown-server"), ({"revision": 99}, "ordnung:not-found"),
        ({"trims": [{"by": "colour", "value": "red"}]}, "ordnung:invalid"),
    ],
)  # fmt: skip
async def test_wishes_that_make_no_sense_are_refused(desk, body, code):
    answer = await desk.call("post", "packing", body)
    assert answer.status_code in (400, 404, 422) and answer.json()["type"] == code


async def test_a_trimmed_repository_is_sealed_without_what_was_left_out(desk):
    told = await desk.pack(name="Hill annex", trims=[{"by": "kind", "value": "raid"}], servers=["surge-03", "gauge-04"])
    assert told["state"] == "sealed" and told["name"] == "Hill annex" and told["edition"] == 1
    assert {line["state"] for line in told["lines"]} == {"packed"} and "raid" not in {x["kind"] for x in told["lines"]}
    assert [x["name"] for x in told["left_out"]] == ["Tessaly R9 RAID"] * 2
    assert (await desk.get(f"repositories/{told['id']}/stale"))["servers"] == [], "its own trims are no lack"


async def test_written_out_downloaded_in_ranges_and_checked_elsewhere(desk, settings, tmp_path):
    told = await desk.pack()
    settings.FOLDERS = [tmp_path / "stick"]
    settings.FOLDERS[0].mkdir()
    await desk.write(told["id"], shape="folder", folder=str(tmp_path / "stick"))
    (place,) = (tmp_path / "stick").iterdir()
    assert check_repository(place).files == len(told["lines"]) + len(list((place / "targets").glob("*/*.json"))) + 2
    (written,) = [w for w in await desk.write(told["id"], shape="tar.zst") if w.shape == "tar.zst"]
    path = f"/api/v1/repositories/{told['id']}/written/{written.pk}/file"
    raw = Path(written.place).read_bytes()
    assert hashlib.sha256(raw).hexdigest() == written.sha256 and len(raw) == written.size

    def fetch(**headers):
        answer = desk.site.browser.get(path, headers=headers)
        return answer.status_code, b"".join(answer.streaming_content) if answer.streaming else b"", answer.headers

    status, body, headers = await sync_to_async(fetch)()
    assert (status, body) == (200, raw) and headers["ETag"] == f'"{written.sha256}"'
    status, body, headers = await sync_to_async(fetch)(range=f"bytes={len(raw) - 5}-")
    assert (status, body, headers["Content-Range"]) == (
        206,
        raw[-5:],
        f"bytes {len(raw) - 5}-{len(raw) - 1}/{len(raw)}",
    )
    assert (await sync_to_async(fetch)(range="bytes=3-", if_range='"other"'))[0] == 200
    assert (await sync_to_async(fetch)(range=f"bytes={len(raw)}-"))[0] == 416
    outside = await desk.call("post", f"repositories/{told['id']}/written", {"shape": "tar", "folder": "/etc"})
    assert outside.status_code == 422 and "outside the folders" in outside.json()["detail"]


async def test_carried_in_at_another_site_after_the_keys_were_compared(desk, settings, tmp_path):
    told = await desk.pack(name="Hill annex")
    (written,) = await desk.write(told["id"], shape="iso")
    await become_another_site(desk, settings, tmp_path / "annex")
    place = settings.FOLDERS[0] / "annex.iso"
    Path(written.place).rename(place)

    work, arrival = await desk.carry(place=str(place))
    assert (work.state, arrival["state"], arrival["code"]) == ("failed", "refused", "untrusted")
    assert arrival["root_key"] == told["root_key"] and not await Repository.objects.aexists()
    wrong = await desk.call("post", f"arrivals/{arrival['id']}/again", {"trust": "0" * 64})
    assert wrong.status_code == 422 and "not the keys that sealed it" in wrong.json()["detail"]

    work = await desk.do(f"arrivals/{arrival['id']}/again", {"trust": arrival["root_key"]})
    assert work.state == "done", work.note
    came = await desk.get(f"repositories/{(await Repository.objects.aget()).pk}")
    assert (came["state"], came["series"], came["edition"]) == ("sealed", told["series"], 1)
    assert [(x["product"], x["version"], x["sha256"]) for x in came["lines"]] == [(x["product"], x["version"], x["sha256"]) for x in told["lines"]]  # fmt: skip
    assert (await TrustedRoot.objects.aget()).added_by == "technician"
    issues = [i async for i in CatalogIssue.objects.all()]
    assert issues and all(i.signed_by.startswith("the seal ") for i in issues)
    store = await sync_to_async(payloads.open_store)()
    assert look_over(store).is_sound and look_over(store).loose == ()

    taken = await desk.call("post", f"repositories/{came['id']}/baseline")
    assert taken.status_code == 201
    assert (await Revision.objects.aget(number=taken.json()["number"])).note.startswith("From Hill annex, edition 1")
    run = (await desk.call("post", "runs", {})).json()
    assert sorted(s["server"] for s in run["servers"]) == ["gauge-04", "surge-03"] and run["missing"] == []

    work, again = await desk.carry(place=str(place))
    assert (again["state"], again["new_files"]) == ("done", 0) and await Repository.objects.acount() == 1
    not_ours = await desk.call("post", f"repositories/{came['id']}/again", {"same": True})
    assert "was carried in" in not_ours.json()["detail"]


async def test_an_older_copy_and_an_expired_one_are_refused_where_they_arrive(desk, settings, tmp_path):
    settings.FOLDERS = [tmp_path / "stick"]
    settings.FOLDERS[0].mkdir()
    first = await desk.pack(name="annex")
    (one,) = await desk.write(first["id"], shape="tar", folder=str(tmp_path / "stick"))
    second = (await desk.call("post", f"repositories/{first['id']}/again", {"same": True})).json()
    assert (second["edition"], second["state"], second["series"]) == (2, "sealed", first["series"])
    (two,) = await desk.write(second["id"], shape="tar", folder=str(tmp_path / "stick"))
    compared = await desk.get(f"repositories/compare?one={first['id']}&other={second['id']}")
    assert compared["changes"] == [] and compared["same"] == len(first["lines"])
    await Repository.objects.all().adelete()
    assert (await desk.carry(place=two.place))[1]["state"] == "done"
    _, refused = await desk.carry(place=one.place)
    assert (refused["state"], refused["code"]) == ("refused", "older")
    assert await Repository.objects.acount() == 1
    await Repository.objects.all().adelete()
    _, again = await desk.carry(place=one.place)
    assert (again["state"], again["code"]) == ("refused", "older"), "what was seen is known after it is deleted"

    from ordnung.repository import roots

    await Repository.objects.all().adelete()
    late = SealedLate(settings.HOME)
    _, refused = await desk.carry(place=str(late.reseal(Path(two.place))))
    assert (refused["state"], refused["code"]) == ("refused", "expired")
    work = await desk.do(f"arrivals/{refused['id']}/again", {"expired_reason": "flood; no newer copy can be had"})
    assert work.state == "done"
    row = await Repository.objects.aget()
    assert "technician took it in all the same: flood" in row.message
    assert (await Arrival.objects.order_by("-pk").afirst()).expired_reason.startswith("flood")
    assert roots.ROOT_DAYS == 365


@pytest.mark.parametrize("shape", ["tar", "iso"])
async def test_what_is_in_a_foreign_archive_is_listed_apart(desk, settings, monkeypatch, tmp_path, shape):
    """An archive that makes its reader run wild ends that reader, not the engine."""
    budget, told = apart.BUDGET, await desk.pack()
    (written,) = await desk.write(told["id"], shape=shape)
    settings.FOLDERS = [tmp_path / "incoming"]
    settings.FOLDERS[0].mkdir()
    place = settings.FOLDERS[0] / f"annex.{shape}"
    Path(written.place).rename(place)
    monkeypatch.setattr(apart, "BUDGET", apart.Budget(cpu_s=60, wall_s=0.0001, memory=2**30))
    work, arrival = await desk.carry(place=str(place))
    assert work.state == "failed" and arrival["state"] == "refused"
    assert "reading it took more than" in arrival["message"] and "nothing of it was taken" in arrival["message"]
    monkeypatch.setattr(apart, "BUDGET", budget)
    work, _ = await desk.carry(place=str(place))
    assert work.state == "done", work.note


class SealedLate:
    """Seals the contents of an archive anew with an end that is past: what a forgotten stick looks like."""

    def __init__(self, home: Path) -> None:
        self.home = home

    def reseal(self, place: Path) -> Path:
        from ordnung.repository import SealBook, SealedCarrier, describe, draft_targets, finish, write_as
        from ordnung.server.vault import purpose_key

        book = SealBook(self.home / "keys", purpose_key("seal keys"), datetime.datetime.now(datetime.UTC))
        with open_carrier(place) as carrier:
            from ordnung.repository import verify_seal

            seal = verify_seal(carrier)
            contents = []
            for name in seal.targets:
                path = self.home / "late" / name
                path.parent.mkdir(parents=True, exist_ok=True)
                with carrier.open(seal.place(name)) as file:
                    path.write_bytes(file.read())
                contents.append(describe(name, path))
        past = datetime.datetime.now(datetime.UTC) - datetime.timedelta(days=1)
        metadata = finish(draft_targets(contents, book, seal.edition, past), book)
        sealed = SealedCarrier("late", metadata, {c.path: c for c in contents})
        return write_as("tar", sealed, place.with_name("late.tar")).path


async def test_a_file_is_sent_in_pieces_and_gone_on_with(desk, settings, tmp_path):
    told = await desk.pack()
    (written,) = await desk.write(told["id"], shape="tar")
    raw = Path(written.place).read_bytes()
    begun = (await desk.call("post", "uploads", {"name": "x.tar", "size": len(raw)})).json()
    path = f"uploads/{begun['id']}"

    async def put(start, end, body=None):
        span = f"bytes {start}-{end - 1}/{len(raw)}"
        answer = await desk.call("put", path, body or raw[start:end], kind="application/octet-stream", headers={"Content-Range": span})  # fmt: skip
        return answer.status_code, answer.json()

    half = len(raw) // 2
    assert (await put(0, half))[1]["received"] == half
    status, problem = await put(0, half)
    assert (status, problem["field"]) == (409, str(half)) and "go on from there" in problem["detail"]
    assert (await put(half, half + 10, body=b"short"))[0] == 400
    early = await desk.call("post", "arrivals", {"upload": begun["id"]})
    assert early.status_code == 409 and "not come whole" in early.json()["detail"]
    again = (await desk.call("post", "uploads", {"name": "x.tar", "size": len(raw)})).json()
    assert (again["id"], again["received"]) == (begun["id"], half), "chosen again, it goes on"
    assert (await put(half, len(raw)))[1]["received"] == len(raw)
    await Repository.objects.all().adelete()
    _, arrival = await desk.carry(upload=begun["id"])
    assert (arrival["state"], arrival["name"]) == ("done", "x.tar")
    assert not list((settings.HOME / "uploads").iterdir()) and not await Upload.objects.aexists(), (
        "it is in the store now"
    )


@pytest.mark.parametrize("place", ["/etc/passwd", "relative.tar", "/tmp/../etc"])
async def test_only_from_folders_the_house_allows(desk, settings, tmp_path, place):
    settings.FOLDERS = [tmp_path]
    answer = await desk.call("post", "arrivals", {"place": place})
    assert answer.status_code == 422 and "carried in from below" in answer.json()["detail"]


async def test_targets_signed_elsewhere_by_file_exchange(desk):
    far = CryptoSigner(Ed25519PrivateKey.generate())
    seal = await desk.get("seal")
    root = [h["keyid"] for h in seal["root"]["holders"]]
    wish = {"root": root, "root_threshold": 1, "targets": [public_hex(far.public_key)], "targets_threshold": 1}
    changed = (await desk.call("put", "seal", wish)).json()
    assert changed["version"] == 2 and changed["draft"] is None and not changed["targets"]["holders"][0]["kept"]
    told = await desk.pack()
    assert told["state"] == "signing" and told["expires"] is None
    assert (await desk.get(f"repositories/{told['id']}/signatures"))["have"] == 0
    refused = await desk.call("post", f"repositories/{told['id']}/written", {"shape": "tar"})
    assert refused.status_code == 409
    raw = (await desk.call("get", f"repositories/{told['id']}/targets")).content
    unsigned = await desk.call("post", f"repositories/{told['id']}/signatures", SimpleUploadedFile("t.json", raw))
    assert unsigned.status_code == 422 and "no good signature" in unsigned.json()["detail"]
    signed = SimpleUploadedFile("t.json", sign_offline(raw, far))
    sealed = (await desk.call("post", f"repositories/{told['id']}/signatures", signed)).json()
    assert sealed["state"] == "sealed" and sealed["root_version"] == 2
    assert (await desk.do(f"repositories/{told['id']}/check")).state == "done"


async def test_after_a_rotation_nothing_sealed_by_retired_keys_comes_in_but_what_was_recorded(desk, settings, tmp_path):
    settings.FOLDERS = [tmp_path / "stick"]
    settings.FOLDERS[0].mkdir()
    first = await desk.pack(name="annex")
    (out,) = await desk.write(first["id"], shape="tar", folder=str(tmp_path / "stick"))
    root = [h["keyid"] for h in (await desk.get("seal"))["root"]["holders"]]
    wish = {"root": root, "root_threshold": 1, "targets": ["new"], "targets_threshold": 1, "other_online": True}
    assert (await desk.call("put", "seal", wish)).json()["version"] == 2
    assert (await desk.carry(place=out.place))[1]["state"] == "done", "it was recorded before the keys were replaced"
    assert (await desk.do(f"repositories/{first['id']}/check")).state == "done"
    await Repository.objects.all().adelete()
    _, refused = await desk.carry(place=out.place)
    assert (refused["state"], refused["code"]) == ("refused", "retired") and "were replaced" in refused["message"]
    second = await desk.pack(name="annex")
    (new,) = await desk.write(second["id"], shape="tar", folder=str(tmp_path / "stick"))
    await Repository.objects.all().adelete()
    assert (await desk.carry(place=new.place))[1]["state"] == "done"


async def test_a_root_that_needs_two_waits_for_the_second(desk):
    far = CryptoSigner(Ed25519PrivateKey.generate())
    seal = await desk.get("seal")
    root, targets = ([h["keyid"] for h in seal[role]["holders"]] for role in ("root", "targets"))
    wish = {
        "root": [*root, public_hex(far.public_key)],
        "root_threshold": 2,
        "targets": targets,
        "targets_threshold": 1,
    }
    waiting = (await desk.call("put", "seal", wish)).json()
    assert waiting["version"] == 1 and [(w["have"], w["threshold"]) for w in waiting["draft"]] == [(1, 2)]
    raw = (await desk.call("get", "seal/draft")).content
    done = await desk.call("post", "seal/draft", SimpleUploadedFile("r.json", sign_offline(raw, far)))
    assert done.json()["version"] == 2 and done.json()["draft"] is None
    nonsense = await desk.call("put", "seal", {**wish, "targets_threshold": 5})
    assert nonsense.status_code == 422 and "can't be asked for" in nonsense.json()["detail"]


async def test_a_lying_mirror_is_put_aside_until_someone_trusts_it_again(desk):
    site = desk.site
    site.live.floor.mirror.faults["tessaly/r9/raid-7.18.0.pldm"] = "altered"
    site.live.floor.depot.folder = site.live.floor.mirror.folder
    added = await desk.call("post", "fetch-places", {"base": site.live.floor.depot_url})
    assert added.status_code == 201
    told = await desk.pack(servers=["surge-03"])
    assert told["state"] == "sealed" and {line["state"] for line in told["lines"]} == {"packed"}
    places = (await desk.get("fetch-places"))["places"]
    aside = [p for p in places if p["aside"]]
    assert [p["base"] for p in aside] == [site.live.floor.mirror_url] and "raid-7.18.0.pldm" in aside[0]["aside"]
    again = (await desk.call("post", f"fetch-places/{aside[0]['id']}")).json()
    assert not any(p["aside"] for p in again["places"])
    assert (await desk.call("put", "fetch-places", {"bytes_per_s": 10**8})).json()["bytes_per_s"] == 10**8
    assert (await desk.call("post", "fetch-places", {"base": "http://plain.example/"})).status_code == 422


async def test_what_it_lacks_who_reaches_it_who_fetched_and_the_way_back(desk):
    told = await desk.pack(servers=["surge-03"])
    groups = await desk.get(f"repositories/{told['id']}/reach")
    assert sum(len(g["servers"]) for g in groups) == 1 and groups[0]["good"]
    run = (await desk.call("post", "runs", {"servers": ["surge-03"]})).json()
    await desk.do(f"runs/{run['id']}/start")
    fetched = await desk.get(f"repositories/{told['id']}/fetches")
    assert [(f["server"], f["version"], f["protocol"], f["whole"]) for f in fetched] == [
        ("surge-03", "7.18.0", "HTTPS", True)
    ]
    assert await PayloadFetch.objects.acount() == 1
    stale = await desk.get(f"repositories/{told['id']}/stale")
    assert stale["servers"] == [] and stale["not_needed"] == 2, "level now: nothing lacks, nothing of it is needed"
    back = await desk.get("ways-back?server=surge-03&slot=raid-1")
    assert back["installed"] == "7.18.0"
    assert [(w["version"], [r["name"] for r in w["repositories"]]) for w in back["ways"] if w["repositories"]] == [("7.16.1", [told["name"]])]  # fmt: skip
    way = next(w for w in back["ways"] if w["version"] == "7.16.1")
    assert (way["resets"], way["outage"], way["switches"]) == ("1 reboot", True, False) and way["seconds"] > 300
    assert (await desk.call("get", "ways-back?server=surge-03&slot=none")).status_code == 404
    asked = {"server": "surge-03", "slot": "raid-1", "to": "7.16.1"}
    laid = (await desk.call("post", "ways-back", asked)).json()
    assert laid["servers"][0]["rounds"][0]["writes"][0]["to"] == "7.16.1" and laid["missing"] == []
    for change, status in (({"to": "9"}, 422), ({"slot": "none"}, 404), ({"server": "nobody"}, 404)):
        assert (await desk.call("post", "ways-back", asked | change)).status_code == status


async def test_dropped_repositories_leave_loose_payloads_that_can_be_cleared(desk):
    one, two = await desk.pack(servers=["surge-03"]), await desk.pack()
    held = await desk.get("store")
    assert held["loose_files"] == 0 and held["files"] > 0
    assert (await desk.call("delete", f"repositories/{two['id']}")).status_code == 204
    loose = await desk.get("store")
    cleared = (await desk.call("post", "store/clear")).json()
    assert (cleared["files"], cleared["bytes"]) == (loose["loose_files"], loose["loose_bytes"]) and cleared["files"] > 0
    assert (await desk.do(f"repositories/{one['id']}/check")).state == "done", "what the other one needs is left alone"
    work = await desk.do("store")
    assert work.state == "done" and "all what they are named for" in work.note


async def test_an_altered_payload_is_found_and_moved_out_of_use(desk):
    told = await desk.pack(servers=["surge-03"])
    store = await sync_to_async(payloads.open_store)()
    path = store.path(told["lines"][0]["sha256"])
    path.write_bytes(path.read_bytes()[:-1] + b"!")
    work = await desk.do(f"repositories/{told['id']}/check")
    shown = await desk.get(f"repositories/{told['id']}")
    assert work.state == "failed" and shown["check_failed"] and "altered" in shown["checked"]
    work = await desk.do("store")
    assert work.state == "failed" and "out of use" in work.note and "missing" in work.note
    again = await desk.pack(servers=["surge-03"])
    assert again["state"] == "sealed", "packing again fetches what is missing"


async def test_the_packing_list_in_a_repository_says_what_the_place_says(desk):
    told = await desk.pack(name="annex")
    carrier = await sync_to_async(payloads.open_repository)(await Repository.objects.aget(pk=told["id"]))
    with carrier.open(next(p for p in carrier.files if p.endswith("packing.json"))) as file:
        packing = json.loads(file.read())
    assert packing["name"] == "annex" and packing["made_by"] == "technician" and packing["revision"] == told["revision"]
    assert {(p["product"], p["version"]) for p in packing["payloads"]} == {
        (x["product"], x["version"]) for x in told["lines"]
    }
    assert packing["rules"] == "rules.json" and packing["catalogs"]


async def test_a_controller_without_https_and_without_push_fetches_over_http(desk):
    device = desk.site.live.device("gauge-04")
    desk.site.live.call(setattr, device, "generations", (("", "middle"),))
    desk.site.live.call(device.faults.append, Fault("licence missing"))
    await desk.pack(servers=["gauge-04"])
    run = (await desk.call("post", "runs", {"servers": ["gauge-04"]})).json()
    work = await desk.do(f"runs/{run['id']}/start")
    assert work.state == "done", work.note
    assert [f.protocol async for f in PayloadFetch.objects.all()] == ["HTTP"]


async def test_files_that_do_not_tell_of_themselves_are_packed_by_their_side_car(desk, settings, tmp_path):
    """A maker without a catalog and without PLDM: a file, and beside it what the house knows of it."""
    settings.FOLDERS = [tmp_path / "incoming"]
    folder = settings.FOLDERS[0] / "tessaly"
    folder.mkdir(parents=True)
    (folder / "raid-7.30.bin").write_bytes(b"opaque" * 900)
    side = {
        "format": "ordnung.side-car/1",
        "product": {"id": "tessaly.r9.files", "name": "R9 from a file", "kind": "raid", "scheme": "dotted",
                    "fits": [{"software_id": "TSY-R9", "model": "Corvane Reed 14", "pci": "ffe2:*:*:*"}]},
        "release": {"version": "7.30.0", "activation": "server reboot"},
    }  # fmt: skip
    (folder / "raid-7.30.bin.json").write_text(json.dumps(side))
    added = await desk.call("post", "catalog-sources", {"address": str(folder), "maker": "Tessaly"})
    assert added.status_code == 201, added.content
    assert (await desk.do("catalog-sources/fetch")).state == "done"
    told = await desk.pack(servers=["surge-03"])
    (line,) = [x for x in told["lines"] if x["version"] == "7.30.0"]
    assert (told["state"], line["form"], line["state"], line["reasons"]) == ("sealed", "opaque", "packed", ["target"])
