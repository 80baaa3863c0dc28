"""Everything a person can do, by address and method: what it is called, which right it takes, whether it is recorded.

The one place for this. A request that is not listed here is refused, whoever asks (``docs/security.md``).
"""

from __future__ import annotations

from dataclasses import dataclass

from django.http import HttpRequest

from ordnung.server.rights.rights import Right

BASE = "api/v1/"
MIB = 1024 * 1024
FORM = 64 * 1024
"""What a form has around the files in it."""
METADATA = 16 * MIB + FORM


@dataclass(frozen=True, slots=True, kw_only=True)
class Command:
    """One thing to do, by the name under which the audit trail tells it.

    ``right`` None: it takes none; ``open``: nor to be signed in.
    ``recorded``: it stands in the audit trail. ``whole``: the request is one transaction with its entry there; else
    the command writes its entry itself, within the transaction in which it changes things, after slower work.
    ``body``: the bytes that a request for it may have.
    """

    name: str
    right: Right | None
    open: bool = False
    recorded: bool = True
    whole: bool = True
    body: int = 4 * MIB


def _look(name: str = "look") -> Command:
    return Command(name=name, right=Right.LOOK, recorded=False)


def _ask(name: str, right: Right = Right.LOOK, *, body: int = 4 * MIB) -> Command:
    """A question that comes by POST or PUT because it is long: it changes nothing of the house."""
    return Command(name=name, right=right, recorded=False, body=body)


def _do(name: str, right: Right, *, whole: bool = True, body: int = 4 * MIB) -> Command:
    return Command(name=name, right=right, whole=whole, body=body)


def _own(name: str, *, whole: bool = True) -> Command:
    """What everybody may do who is signed in: it concerns nobody else."""
    return Command(name=name, right=None, whole=whole)


PLAN, RUN, APPROVE, KEEP = Right.PLAN, Right.RUN, Right.APPROVE, Right.KEEP

COMMANDS: dict[tuple[str, str], Command] = {
    ("me", "GET"): Command(name="see who is signed in", right=None, open=True, recorded=False),
    ("sign-in", "POST"): Command(name="sign in", right=None, open=True, whole=False),
    ("sign-out", "POST"): _own("sign out", whole=False),
    ("me/password", "POST"): _own("change one's password"),
    ("me/sessions/<str:session>", "DELETE"): _own("end a session"),
    ("people", "POST"): _do("add a person", KEEP),
    ("people/<str:name>", "PATCH"): _do("change a person", KEEP),
    ("people/<str:name>/sessions", "DELETE"): _do("end a person's sessions", KEEP),
    ("audit/heads", "POST"): _do("sign the audit trail", KEEP, whole=False),
    # Fleet
    ("servers", "POST"): _do("add a server", KEEP),
    ("servers/<str:name>", "PATCH"): _do("change a server", KEEP),
    ("servers/<str:name>", "DELETE"): _do("take a server out", KEEP),
    ("servers/<str:name>/credentials", "POST"): _do("set credentials", KEEP),
    ("servers/<str:name>/trust", "POST"): _do("accept a certificate", APPROVE),
    ("servers/<str:name>/board", "POST"): _do("accept another board", APPROVE),
    ("servers/<str:name>/lost/seen", "POST"): _do("note a lost component", PLAN),
    ("servers/<str:name>/next-start", "POST"): _do("send a server's next start to a partition", RUN),
    ("servers/<str:name>/next-start", "DELETE"): _do("take a server's next start back", RUN),
    ("selections/<slug:name>", "PUT"): _ask("keep a selection"),
    ("groups", "POST"): _do("add a group", KEEP),
    ("groups", "PUT"): _do("bring in groups", KEEP),
    ("groups/<str:name>", "PATCH"): _do("change a group", KEEP),
    ("groups/<str:name>", "DELETE"): _do("delete a group", KEEP),
    ("away/<str:name>/back", "POST"): _do("count a server as back", RUN),
    ("credentials", "POST"): _do("set credentials", KEEP),
    ("trust", "POST"): _do("accept certificates", APPROVE),
    ("surveys", "POST"): _do("start a survey", PLAN),
    ("reach", "POST"): _do("try the reach", PLAN),
    ("searches", "POST"): _do("search for servers", KEEP, whole=False),
    ("searches/<int:pk>/add", "POST"): _do("add servers found", KEEP),
    ("host-reports", "POST"): _do("bring in host reports", PLAN, whole=False, body=2 * MIB + FORM),
    # Catalogs
    ("catalogs", "POST"): _do("bring in a catalog", KEEP, whole=False, body=64 * MIB + FORM),
    ("catalog-sources", "POST"): _do("add a source", KEEP),
    ("catalog-sources/fetch", "POST"): _do("fetch from sources", PLAN),
    ("catalog-sources/<int:pk>", "DELETE"): _do("delete a source", KEEP),
    ("trusted-keys", "POST"): _do("trust a key", APPROVE),
    ("trusted-keys/<int:pk>", "DELETE"): _do("stop trusting a key", APPROVE),
    ("advisories", "POST"): _do("bring in an advisory", KEEP, whole=False, body=16 * MIB + FORM),
    # Baselines
    ("baseline/effect", "POST"): _ask("see the effect of a draft"),
    ("baseline/draft", "PUT"): _do("draft a baseline", PLAN, whole=False),
    ("baseline/draft", "DELETE"): _do("drop the draft", PLAN),
    ("baseline/revisions", "POST"): _do("decide a baseline revision", APPROVE, whole=False),
    ("left-out", "POST"): _do("leave something out", PLAN),
    ("left-out/put-back", "POST"): _do("put back what was left out", PLAN),
    # Repositories
    ("packing", "POST"): _ask("see a packing list"),
    ("packages", "POST"): _ask("look into a package", body=64 * MIB + FORM),
    ("repositories", "POST"): _do("pack a repository", PLAN, whole=False),
    ("repositories/<int:pk>", "DELETE"): _do("delete a repository", KEEP),
    ("repositories/<int:pk>/check", "POST"): _do("check a repository", PLAN),
    ("repositories/<int:pk>/again", "POST"): _do("pack the next edition", PLAN, whole=False),
    ("repositories/<int:pk>/signatures", "POST"): _do("bring in signatures", APPROVE, whole=False, body=METADATA),
    ("repositories/<int:pk>/baseline", "POST"): _do("take a repository's baseline", APPROVE, whole=False),
    ("repositories/<int:pk>/written", "POST"): _do("write a repository out", PLAN),
    ("uploads", "POST"): _do("begin an upload", KEEP),
    ("uploads/<uuid:pk>", "PUT"): Command(name="send a piece of an upload", right=KEEP, recorded=False, body=32 * MIB),
    ("uploads/<uuid:pk>", "DELETE"): _do("drop an upload", KEEP),
    ("arrivals", "POST"): _do("carry a repository in", KEEP),
    ("arrivals/<int:pk>/again", "POST"): _do("carry in what was refused", APPROVE),
    ("seal", "PUT"): _do("change the seal", APPROVE, whole=False),
    ("seal/draft", "POST"): _do("draft a seal", APPROVE, whole=False, body=METADATA),
    ("seal/draft", "DELETE"): _do("drop the draft of a seal", APPROVE),
    ("trusted-roots/<int:pk>", "DELETE"): _do("stop trusting a root", APPROVE),
    ("fetch-places", "POST"): _do("add a place to fetch from", KEEP),
    ("fetch-places", "PUT"): _do("limit fetching", KEEP),
    ("fetch-places/<int:pk>", "POST"): _do("trust a place to fetch from again", KEEP),
    ("fetch-places/<int:pk>", "DELETE"): _do("delete a place to fetch from", KEEP),
    ("store", "POST"): _do("check the store", PLAN),
    ("store/clear", "POST"): _do("clear the store", KEEP),
    # Runs
    ("runs/carried", "POST"): _do("carry in a field kit's journal", RUN, whole=False, body=64 * MIB + FORM),
    ("runs", "POST"): _do("lay out a run sheet", PLAN, whole=False),
    ("runs/<int:pk>", "DELETE"): _do("delete a draft", PLAN),
    ("runs/<int:pk>/servers/<str:name>/override", "POST"): _do("override a check", RUN),
    ("runs/<int:pk>/servers/<str:name>/override", "DELETE"): _do("take an override back", RUN),
    ("runs/<int:pk>/servers/<str:name>/answer", "POST"): _do("answer a question", RUN),
    ("runs/<int:pk>/servers/<str:name>/tick", "POST"): _do("tick what was done", RUN),
    ("calls", "POST"): _do("see a call", RUN),
    ("runs/<int:pk>/sheet", "PATCH"): _do("change a run sheet", PLAN),
    ("runs/<int:pk>/sheet/try", "POST"): _ask("try a change of a run sheet"),
    ("runs/<int:pk>/sheet/approval", "POST"): _do("approve a run sheet", APPROVE),
    ("runs/<int:pk>/sheet/approval", "DELETE"): _do("take an approval back", APPROVE),
    ("runs/<int:pk>/sheet/copy", "POST"): _do("copy a run sheet", PLAN, whole=False),
    ("runs/<int:pk>/sheet/plan-again", "POST"): _do("plan a run sheet again", PLAN),
    ("runs/<int:pk>/waves/<str:wave>/open", "POST"): _do("let a run go on after a wave", RUN),
    ("runs/<int:pk>/window", "POST"): _do("put a window's end later", RUN),
    ("house", "PUT"): _do("decide the house's settings", KEEP),
    ("hooks", "POST"): _do("add a hook", KEEP),
    ("hooks/<int:pk>", "PUT"): _do("change a hook", KEEP),
    ("hooks/<int:pk>", "DELETE"): _do("delete a hook", KEEP),
    ("hooks/<int:pk>/try", "POST"): _do("try a hook", KEEP, whole=False),
    ("windows", "POST"): _do("add a window", KEEP),
    ("windows/<int:pk>", "PUT"): _do("change a window", KEEP),
    ("windows/<int:pk>", "DELETE"): _do("delete a window", KEEP),
    ("runs/<int:pk>/start", "POST"): _do("start a run", RUN),
    ("runs/<int:pk>/orders", "POST"): _do("give an order to a run", RUN),
    ("ways-back", "POST"): _do("lay out the way back of a component", PLAN, whole=False),
    ("runs/<int:pk>/take-back", "POST"): _do("lay out a way back", RUN, whole=False),
    # Work
    ("work/<int:pk>/seen", "POST"): _do("note how work ended", Right.LOOK),
}
"""By the address below ``/api/v1/`` and the method. Reading takes the right to look and need not be listed."""

READING = _look()


def find_command(route: str, method: str) -> Command | None:
    """The command behind an address and a method; None where there is none, which means: refuse."""
    if method in ("HEAD", "OPTIONS"):
        method = "GET"
    found = COMMANDS.get((route.removeprefix(BASE), method))
    return READING if found is None and method == "GET" and route.startswith(BASE) else found


def command_of(request: HttpRequest) -> Command | None:
    """The command that a request asks for, once its address is resolved."""
    match = request.resolver_match
    return None if match is None else find_command(match.route, request.method or "")
