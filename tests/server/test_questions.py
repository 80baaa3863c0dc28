"""What only a person may decide: asked in the run, answered over the API, heeded by the engine."""

from __future__ import annotations

import pytest

from ordnung.engine import entries as e
from ordnung.engine.ports import Reply
from ordnung.server.audit.models import TrailEntry
from ordnung.server.runs.adapters import DatabaseOrders
from ordnung.server.runs.derived import find_differences
from ordnung.server.runs.journal import DatabaseJournal
from ordnung.server.runs.models import Run, RunServer
from tests.server.houses import Person, fill

pytestmark = pytest.mark.django_db
FACTS = {"minutes": "15"}
ASKED = e.Asked(question=e.Question.FORCE_RESTART, facts=FACTS)
SENTENCE = "its system did not carry out the graceful restart within 15 min; restart it by force?"


@pytest.fixture
def site(web, catalogs):
    fill(("surge-03",))
    return Person(web)


@pytest.fixture
def run(site):
    """A run whose server has been asked to restart and does not."""
    number = site.post("runs", {"servers": ["surge-03"]})["id"]
    Run.objects.update(state="running")
    RunServer.objects.update(active=True)
    write(number, e.ResetIntent(kind=e.ResetKind.CONTROLLER_RESTART, marker=e.Marker(), type="GracefulRestart"))
    write(number, e.ResetSent())
    return number


def write(run: int, value: e.TapeEntry) -> None:
    seq = Run.objects.get(pk=run).entries.count() + 1
    DatabaseJournal().append_now(str(run), "surge-03", seq, value)


def place(site, run):
    return site.get(f"runs/{run}")["servers"][0]


def answer(site, run, given="force"):
    return site.post(f"runs/{run}/servers/surge-03/answer", {"answer": given})


def test_a_question_is_shown_until_it_is_answered_on_the_tape(site, run):
    assert place(site, run)["question"] == "" and site.get(f"runs/{run}")["asking"] == 0
    write(run, ASKED)
    assert (place(site, run)["question"], site.get(f"runs/{run}")["asking"]) == (SENTENCE, 1)
    assert DatabaseOrders()._reply(str(run), "surge-03") is None
    told = answer(site, run)["servers"][0]
    assert (told["question"], told["answer"], site.get(f"runs/{run}")["asking"]) == (SENTENCE, "force", 0)
    assert DatabaseOrders()._reply(str(run), "surge-03") == Reply(answer=e.Answer.FORCE, by="technician")
    trail = TrailEntry.objects.order_by("-number").first()
    assert (trail.command, trail.after) == ("answer a question", {"question": SENTENCE, "answer": "force"})
    write(run, e.Answered(question=e.Question.FORCE_RESTART, answer=e.Answer.FORCE, by="technician"))
    assert (place(site, run)["question"], place(site, run)["answer"]) == ("", "")
    assert find_differences(Run.objects.all()) == []
    assert "technician answered: restart it by force" in [row["text"] for row in site.get(f"runs/{run}/tape")]


def test_a_question_that_is_over_takes_no_answer_and_the_next_one_none_of_before(site, run):
    write(run, ASKED)
    write(run, e.ResetSeen(evidence=e.Evidence.RESET_TIME))
    assert answer(site, run)[0] == 409
    write(run, e.Back(marker=e.Marker()))
    write(run, e.ResetIntent(kind=e.ResetKind.CONTROLLER_RESTART, marker=e.Marker(), type="GracefulRestart"))
    write(run, e.ResetSent())
    write(run, ASKED)
    assert place(site, run)["answer"] == "" and answer(site, run, "leave")["servers"][0]["answer"] == "leave"


def test_it_is_answered_once_and_in_words_that_are_asked_for(site, run):
    assert answer(site, run)[0] == 409
    write(run, ASKED)
    assert answer(site, run, "perhaps")[0] == 400
    answer(site, run, "leave")
    assert answer(site, run)[0] == 409 and RunServer.objects.get().answer == "leave"


def test_what_keeps_a_run_out_is_a_question_that_only_leaving_it_answers(site, run):
    facts = {"cause": "signed out", "detail": "it refused user ordnung", "remedy": "Enter the present one."}
    write(run, ASKED)
    write(run, e.Asked(question=e.Question.LET_IN, facts=facts))
    told = place(site, run)
    assert told["question_kind"] == "let in again" and told["question"].startswith("signed out: it refused user")
    assert answer(site, run, "force")[0] == 409
    assert answer(site, run, "leave")["servers"][0]["answer"] == "leave"
    write(run, e.Answered(question=e.Question.LET_IN, answer=e.Answer.LEAVE, by="technician"))
    told = place(site, run)
    assert (told["question"], told["answer"]) == (SENTENCE, ""), "what was asked before is asked still"
    assert find_differences(Run.objects.all()) == []
