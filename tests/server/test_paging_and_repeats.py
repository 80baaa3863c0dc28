"""Long lists in pages that say how long they are; a request that comes again is answered again, not done again."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from ordnung.server.clock import now
from ordnung.server.fleet.models import Group
from ordnung.server.people.models import KeptAnswer
from ordnung.server.people.repeats import forget_answers
from ordnung.server.runs.models import Run
from ordnung.server.work.models import Work
from tests.server.conftest import make_person

pytestmark = pytest.mark.django_db(transaction=True)


def work(count: int, **more) -> None:
    told = {"kind": "survey", "total": 1, "unit": "servers", "asked_at": now(), "state": "done", **more}
    Work.objects.bulk_create(Work(title=f"work {n}", **told) for n in range(count))


def test_a_list_says_how_long_it_is_and_gives_what_is_asked_for(web):
    work(25)
    answer = web.get("/api/v1/work")
    assert (len(answer.json()), answer.headers["X-Total-Count"]) == (20, "25")
    rest = web.get("/api/v1/work?offset=20&limit=100")
    assert [w["title"] for w in rest.json()] == [f"work {n}" for n in (4, 3, 2, 1, 0)]
    assert rest.headers["X-Total-Count"] == "25"


def test_what_needs_a_person_comes_first_however_much_came_after_it(web):
    work(1, state="failed", seen=False)
    work(1, state="running")
    work(30)
    assert [w["state"] for w in web.get("/api/v1/work").json()[:3]] == ["running", "failed", "done"]


def test_a_list_of_the_house_comes_whole_unless_fewer_are_asked_for(web):
    Group.objects.bulk_create(Group(name=f"pair {n}", may_be_away=1) for n in range(7))
    whole, some = web.get("/api/v1/groups"), web.get("/api/v1/groups?offset=2&limit=3")
    assert (len(whole.json()), whole.headers["X-Total-Count"]) == (7, "7")
    assert [g["name"] for g in some.json()] == ["pair 2", "pair 3", "pair 4"] and some.headers["X-Total-Count"] == "7"


def test_every_list_comes_in_pages_and_says_its_total():
    contract = json.loads(Path("docs/openapi.json").read_text())
    few = {"/api/v1/me/sessions", "/api/v1/repositories/{id}/reach"}  # a person's own, and one for each way there is
    for path, methods in contract["paths"].items():
        answer = methods.get("get", {}).get("responses", {}).get("200", {})
        kinds = [kind.get("schema", {}) for kind in answer.get("content", {}).values()]
        if path not in few and any(kind.get("type") == "array" for kind in kinds):
            assert "X-Total-Count" in answer.get("headers", {}), path
            assert {"limit", "offset"} <= {p["name"] for p in methods["get"]["parameters"]}, path


@pytest.mark.parametrize("query", ["limit=0", "limit=5001", "limit=x", "offset=-1", "limit=²", "offset=99999999999"])
def test_pages_that_make_no_sense_are_refused(web, query):
    answer = web.get(f"/api/v1/runs?{query}")
    assert answer.status_code == 400 and answer.json()["type"] == "ordnung:invalid"


def group(web, name: str, key: str):
    body = {"name": name, "may_be_away": 1}
    return web.post("/api/v1/groups", body, content_type="application/json", headers={"idempotency-key": key})


def test_the_same_request_with_its_key_is_done_once(web):
    first, again = group(web, "pair", "one"), group(web, "pair", "one")
    assert (first.status_code, again.status_code) == (201, 201) and first.json() == again.json()
    assert again.headers["Idempotent-Replayed"] == "true" and "Idempotent-Replayed" not in first.headers
    assert web.get("/api/v1/audit?command=add a group").json()["total"] == 1
    assert group(web, "pair", "two").status_code == 422, "without its key it is another request"


def test_a_key_is_one_persons_and_one_requests(web, client):
    assert group(web, "pair", "one").status_code == 201
    other = group(web, "ring", "one")
    assert (other.status_code, other.json()["type"]) == (422, "ordnung:other-request")
    client.force_login(make_person("keeper"))
    assert group(client, "ring", "one").status_code == 201
    assert group(web, "x", "k" * 101).status_code == 400


def test_what_was_refused_was_not_done_and_may_be_asked_again(web):
    assert group(web, "", "one").status_code == 400
    assert group(web, "pair", "one").status_code == 201


def test_what_was_cut_off_is_never_done_a_second_time(web):
    assert group(web, "pair", "one").status_code == 201
    KeptAnswer.objects.update(status=None)
    answer = group(web, "pair", "one")
    assert answer.status_code == 409 and "Look how things stand" in answer.json()["detail"]


def test_what_concerns_oneself_is_not_kept(web):
    told = {"content_type": "application/json", "headers": {"idempotency-key": "mine"}}
    web.post("/api/v1/me/password", {"old_password": "tide-table", "new_password": "a-longer-tide-table"}, **told)
    web.post("/api/v1/sign-out", {}, **told)
    assert not KeptAnswer.objects.exists()


def test_questions_are_not_kept_and_answers_go_after_a_day(web, catalogs):
    told = {"content_type": "application/json", "headers": {"idempotency-key": "q"}}
    assert web.post("/api/v1/packing", {}, **told).status_code == 200 and not KeptAnswer.objects.exists()
    assert group(web, "pair", "one").status_code == 201
    forget_answers()
    assert KeptAnswer.objects.count() == 1
    KeptAnswer.objects.update(at="2020-01-01T00:00:00Z")
    forget_answers()
    assert not KeptAnswer.objects.exists() and not Run.objects.exists()
