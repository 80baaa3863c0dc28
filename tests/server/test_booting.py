"""Repositories whose discs boot by themselves, through the API: what they take, written out, carried in, sealed anew."""

from __future__ import annotations

from pathlib import Path

from ordnung.repository import open_carrier
from ordnung.repository.boot import find_boot_system
from ordnung.server.repositories.models import Repository
from tests.boot_base import make_base
from tests.server.test_jobs import site
from tests.server.test_repositories import Desk, become_another_site, desk

__all__ = ["desk", "site"]


async def test_without_a_boot_system_it_is_not_offered_and_said_how_it_comes(desk: Desk, settings, tmp_path):
    settings.BOOT_BASE = tmp_path / "none"
    assert (await desk.call("post", "packing", {"boots": True})).json()["boot"] is None
    refused = await desk.call("post", "repositories", {"boots": True})
    problem = refused.json()
    assert refused.status_code == 422 and problem["type"] == "ordnung:no-boot-system"
    assert "make boot-base" in problem["detail"] and await Repository.objects.acount() == 0


async def test_it_counts_on_every_medium_and_what_is_written_out_boots(desk: Desk, settings, tmp_path):
    settings.BOOT_BASE = make_base(tmp_path / "boot-base")
    without, within = [(await desk.call("post", "packing", {"boots": boots})).json() for boots in (False, True)]
    assert without["boot"] == within["boot"] and within["boot"]["kernel"] == "6.1.0"
    more = within["media"]["everywhere"] - without["media"]["everywhere"]
    assert more >= within["boot"]["bytes"] and within["bytes"] == without["bytes"]
    told = await desk.pack(name="annex", boots=True)
    assert told["state"] == "sealed" and told["boots"]
    written = (await desk.write(told["id"], shape="iso"))[-1]
    with open_carrier(Path(written.place)) as disc:
        assert find_boot_system(disc) is not None and "boot/grub/grub.cfg" in disc.files
    await desk.call("post", f"repositories/{told['id']}/again", {"same": True})
    newest = await Repository.objects.order_by("-pk").afirst()
    assert newest.edition == 2 and newest.boots and newest.state == "sealed"
    plain = await desk.pack(name="plain")
    assert not plain["boots"]


async def test_it_arrives_elsewhere_with_all_that_boots_and_goes_out_again(desk: Desk, settings, tmp_path):
    settings.BOOT_BASE = make_base(tmp_path / "boot-base")
    told = await desk.pack(boots=True)
    medium = (await desk.write(told["id"], shape="tar"))[-1].place
    settings.BOOT_BASE = tmp_path / "none"
    await become_another_site(desk, settings, tmp_path / "annex")
    settings.FOLDERS = [Path(medium).parent]
    _, arrival = await desk.carry(place=medium)
    if arrival["code"] == "untrusted":
        await desk.do(f"arrivals/{arrival['id']}/again", {"trust": told["root_key"]})
        arrival = (await desk.get("arrivals"))[0]
    here = await desk.get(f"repositories/{arrival['repository']}")
    assert here["boots"] and here["carried_from"]
    disc = (await desk.write(here["id"], shape="iso"))[-1]
    with open_carrier(Path(disc.place)) as found:
        assert find_boot_system(found) is not None and "boot/bios.img" in found.files
