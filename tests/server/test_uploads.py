"""Files on their way here from browsers: room, a share a person, one writer, an end for what was given up."""

from __future__ import annotations

import datetime

import pytest
from asgiref.sync import sync_to_async

from ordnung.server.repositories.models import Upload
from tests.server.test_jobs import site
from tests.server.test_repositories import desk

pytestmark = pytest.mark.django_db(transaction=True)
__all__ = ["desk", "site"]


async def test_uploads_have_room_of_their_own_a_share_a_person_and_one_writer(desk, settings, monkeypatch):
    settings.UPLOADS_A_PERSON, settings.UPLOADS_IN_ALL = 1000, 1500
    first = await desk.call("post", "uploads", {"name": "a.tar", "size": 900})
    assert first.status_code == 201
    assert (await desk.call("post", "uploads", {"name": "a.tar", "size": 900})).json() == first.json(), "gone on with"
    more = await desk.call("post", "uploads", {"name": "b.tar", "size": 200})
    assert more.status_code == 413 and "You have 900 bytes on their way, of 1000 at most" in more.json()["detail"]
    await Upload.objects.acreate(
        name="c.tar", size=500, person="somebody else", begun_at=datetime.datetime.now(datetime.UTC)
    )
    settings.UPLOADS_A_PERSON = 10_000
    full = await desk.call("post", "uploads", {"name": "b.tar", "size": 200})
    assert full.status_code == 413 and "All together have 1400 bytes on their way" in full.json()["detail"]
    settings.UPLOADS_IN_ALL = 10**15
    monkeypatch.setattr("ordnung.store.content.ContentStore.room", lambda self: 2000)
    tight = await desk.call("post", "uploads", {"name": "b.tar", "size": 700})
    assert tight.status_code == 422 and "2000 are free" in tight.json()["detail"], "1400 are promised to others"

    path = f"uploads/{first.json()['id']}"
    body = {"kind": "application/octet-stream", "headers": {"content-range": "bytes 0-3/900"}}
    from ordnung.server.repositories.uploads import write_piece

    def while_another_writes():
        with write_piece(Upload.objects.get(pk=first.json()["id"])):
            return desk.site.browser.put(f"/api/v1/{path}", b"four", content_type=body["kind"], headers=body["headers"])

    busy = await sync_to_async(while_another_writes)()
    assert busy.status_code == 409 and "is just being written" in busy.json()["detail"]
    assert (await desk.get(path))["received"] == 0


async def test_given_up_uploads_go_by_themselves(desk):
    from ordnung.server.engine import CHORES, do_chore
    from ordnung.server.repositories.uploads import upload_path

    begun = (await desk.call("post", "uploads", {"name": "a.tar", "size": 900})).json()
    row = await Upload.objects.aget(pk=begun["id"])
    upload_path(row).write_bytes(b"half")
    for chore in CHORES:
        await do_chore(chore)
    assert upload_path(row).exists()
    await Upload.objects.filter(pk=row.pk).aupdate(begun_at=row.begun_at - datetime.timedelta(days=3))
    for chore in CHORES:
        await do_chore(chore)
    assert not upload_path(row).exists() and not await Upload.objects.aexists()
