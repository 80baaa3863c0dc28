"""A server's next start, sent once to a service partition of its own, or taken back (N4.8). Nothing is reset."""

from __future__ import annotations

from asgiref.sync import sync_to_async
from django.conf import settings

from ordnung.controllers import ControllerError, Endpoint
from ordnung.core.components import Server as ServerValue
from ordnung.core.same_server import Likeness, compare
from ordnung.engine.starts import Demand, send_next_start, take_next_start_back
from ordnung.server.engine_ports import EnginePorts
from ordnung.server.fleet.models import Server
from ordnung.server.fleet.readings import value_of
from ordnung.server.problems import Problem
from ordnung.server.runs.adapters import keep_reading
from ordnung.server.runs.models import RunServer
from ordnung.server.work.models import Work
from ordnung.server.work.orders import ask_for
from ordnung.server.work.progress import bump, fail, succeed


def ask_for_start(row: Server, slot: str | None) -> Work:
    """Put before the engine to send the next start of a server to a partition; None: to take that back.

    Raises:
        Problem: the server is in a run, or its last reading shows no such partition to start from.
    """
    if run := RunServer.objects.filter(server=row, active=True).select_related("run").first():
        message = f"{row.name} is in {run.run.name}. Wait for it to end: a start that is sent elsewhere would stop it."
        raise Problem("server-busy", message, status=409)
    if slot is None:
        return ask_for("start", f"Taking back the next start of {row.name}", 1, "servers", {"server": row.name})
    part = value_of(row.latest, row.name).component(slot) if row.latest else None
    if part is None or part.start is None:
        raise Problem("not-found", f"{row.name} can't be told to start from {slot}.", status=404, field="slot")
    title = f"Sending the next start of {row.name} to {slot}"
    return ask_for("start", title, 1, "servers", {"server": row.name, "slot": slot})


async def do_start(work: Work, ports: EnginePorts) -> None:
    """Carry that out, and keep the reading that shows it."""
    name, slot = work.subject["server"], work.subject.get("slot")
    try:
        endpoint, is_meant = await sync_to_async(_prepare)(name)
        if slot is None:
            reading, pin = await take_next_start_back(endpoint, ports.controllers, settings.CLOCK, is_meant)
        else:
            reading, pin = await send_next_start(endpoint, ports.controllers, settings.CLOCK, slot, is_meant)
    except ControllerError as error:
        failure = {"server": name, "cause": error.cause, "detail": error.detail, "remedy": error.remedy}
        await sync_to_async(bump)(work, failures=[failure])
        await sync_to_async(fail)(work, f"{name}: {error.detail}")
        return
    await sync_to_async(keep_reading)(reading, pin)
    note = "it starts as it usually does" if slot is None else "nothing was reset: it waits for whoever restarts it"
    await sync_to_async(succeed)(work, note, done=1)


def _prepare(name: str) -> tuple[Endpoint, Demand]:
    row = Server.objects.get(name=name)
    if RunServer.objects.filter(server=row, active=True).exists():
        raise ControllerError(name, "said no", "a run of it has begun since")

    def is_meant(seen: ServerValue) -> None:
        # That it is another one is refused by whoever reads it.
        if compare(row, seen)[0] is Likeness.UNTOLD:
            raise ControllerError(name, "said no", "nothing that it tells tells it from another server")

    return row.endpoint(), is_meant
