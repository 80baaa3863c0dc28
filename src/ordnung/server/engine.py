"""``python -m ordnung.server.engine``: the engine process. It takes up work from the database and what it left.

Killed at any moment and started again, it goes on: surveys and packing are simply begun anew (they
change no device), runs go on from their tapes. One engine works for a site: a second one refuses to start, and what
was under way is taken over only once its owner is provably gone.
"""

from __future__ import annotations

import asyncio
import contextlib
import inspect
import os
import signal
import sys
from collections.abc import Callable
from pathlib import Path

import django
import structlog

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
os.environ.setdefault("ORDNUNG_SYNCHRONOUS", "FULL")
django.setup()

from asgiref.sync import sync_to_async  # noqa: E402
from django.conf import settings  # noqa: E402
from django.db.models import Q  # noqa: E402

from ordnung.controllers import Client, RedfishControllers  # noqa: E402
from ordnung.engine.ports import RecordsOutError  # noqa: E402
from ordnung.formats.authorities import Authorities  # noqa: E402
from ordnung.formats.logs import configure_logs  # noqa: E402
from ordnung.server.audit.heads import sign_daily  # noqa: E402
from ordnung.server.clock import now  # noqa: E402
from ordnung.server.engine_lock import EngineRunsError, take_engine_lock  # noqa: E402
from ordnung.server.engine_ports import EnginePorts  # noqa: E402
from ordnung.server.jobs import jobs  # noqa: E402
from ordnung.server.people.repeats import forget_answers  # noqa: E402
from ordnung.server.repositories.fetch_log import FetchLog  # noqa: E402
from ordnung.server.repositories.payloads import open_store  # noqa: E402
from ordnung.server.repositories.uploads import forget_old_uploads  # noqa: E402
from ordnung.server.runs.call_chore import call_for_help  # noqa: E402
from ordnung.server.runs.derived import rebuild_all  # noqa: E402
from ordnung.server.runs.journal import DatabaseJournal  # noqa: E402
from ordnung.server.runs.models import Run  # noqa: E402
from ordnung.server.runs.months import note_day  # noqa: E402
from ordnung.server.runs.records import are_records_out, ask_records  # noqa: E402
from ordnung.server.vault import purpose_key  # noqa: E402
from ordnung.server.work.models import Work  # noqa: E402
from ordnung.server.work.progress import fail  # noqa: E402
from ordnung.store import PayloadProcess  # noqa: E402

POLL_S = 0.2
"""Real seconds between looks for new work; one indexed query each."""
RECORDS_S = 5.0
"""Real seconds after which what the database could not answer is asked again."""
CHORES_S = 60.0
"""Real seconds between looks for what has fallen due."""
log = structlog.get_logger()


def claim() -> list[Work]:
    """Take work that was asked for; compare-and-set, so that no two engines take the same."""
    taken = []
    for work in Work.objects.asked():
        if Work.objects.take(work.pk, now()):
            work.refresh_from_db()
            taken.append(work)
    return taken


def left_over() -> list[Work]:
    """Work that was under way when the engine died, and runs that an error of ours broke off."""
    open_runs = list(Run.objects.filter(state=Run.State.RUNNING).values_list("pk", flat=True))
    broken = Q(kind="run", state=Work.State.FAILED, subject__run__in=open_runs)
    works = list(Work.objects.filter(Q(state=Work.State.RUNNING) | broken).order_by("pk"))
    Work.objects.take_up_again(work.pk for work in works)
    return works


async def carry_out(work: Work, ports: EnginePorts) -> None:
    """Do one work; whatever goes wrong is told on it and never stops the engine.

    While the database can't be read or written, it is begun anew after a while, as after a death of the engine.
    """
    while True:
        try:
            return await _try(work, ports)
        except Exception as error:
            if not are_records_out(error):
                raise
            log.exception("what is kept can't be read or written", work=work.pk, kind=work.kind)
        await asyncio.sleep(RECORDS_S)


async def _try(work: Work, ports: EnginePorts) -> None:
    try:
        await jobs[work.kind](work, ports)
    except Exception as error:
        if are_records_out(error):
            raise
        log.exception("work failed", work=work.pk, kind=work.kind)
        message = (
            f"Ordnung met an error of its own: {type(error).__name__}: {error}. Nothing more was sent to a device; "
            "started again, Ordnung goes on where this stopped."
        )
        await ask_records(fail, work, message)


async def serve(stopped: asyncio.Event) -> None:
    """Take up work until told to stop."""
    fetches = FetchLog()
    payloads = PayloadProcess(open_store(), purpose_key("payload paths"), fetches.record)
    if settings.PAYLOAD_CERTIFICATE:
        await payloads.start(settings.PAYLOAD_ADDRESS, settings.PAYLOAD_PORT, Path(settings.PAYLOAD_CERTIFICATE))
    vouching = Authorities(settings.CA, system="controllers" in settings.SYSTEM_AUTHORITIES)
    client = Client(vouching, networks=settings.NETWORKS)
    async with client:
        ports = EnginePorts(RedfishControllers(client), payloads, DatabaseJournal())
        for run, server in await sync_to_async(rebuild_all)():
            log.warning("rows written anew from the tape", run=run.pk, server=server)
        tasks = {asyncio.create_task(carry_out(work, ports)) for work in await sync_to_async(left_over)()}
        chores = asyncio.create_task(_do_chores())
        while not stopped.is_set():
            pause = POLL_S
            try:
                for work in await ask_records(claim):
                    tasks.add(asyncio.create_task(carry_out(work, ports)))
            except RecordsOutError as error:
                log.warning("no new work can be looked for", why=str(error))
                pause = RECORDS_S
            tasks = {task for task in tasks if not task.done()}
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(stopped.wait(), pause)
        for task in (*tasks, chores):
            task.cancel()
        await asyncio.gather(*tasks, chores, return_exceptions=True)
        await ports.controllers.close()
    await payloads.stop()
    await fetches.settle()


CHORES = (sign_daily, forget_old_uploads, forget_answers, call_for_help, note_day)
"""What falls due by itself: the trail is signed daily; uploads nobody goes on with go, old answers too; who is
needed is called; and how each model stands is kept daily.
"""


async def do_chore(chore: Callable[[], object]) -> None:
    """Do one of them now; those that ask others over the network are coroutines."""
    await (chore() if inspect.iscoroutinefunction(chore) else sync_to_async(chore)())


async def _do_chores() -> None:
    """Do what has fallen due, now and then; one that fails disturbs no other."""
    while True:
        for chore in CHORES:
            try:
                await do_chore(chore)
            except Exception:
                log.exception("a chore failed", chore=chore.__name__)
        await asyncio.sleep(CHORES_S)


async def _main() -> None:
    stopped = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stopped.set)
    ready = os.environ.get("ORDNUNG_ENGINE_READY")
    if ready:
        with contextlib.suppress(OSError):  # only the first start is waited for
            Path(ready).write_text(str(os.getpid()))
    await serve(stopped)


if __name__ == "__main__":
    configure_logs()
    os.umask(0o077)
    try:
        _lock = take_engine_lock(Path(settings.HOME))
        asyncio.run(_main())
    except EngineRunsError as error:
        sys.exit(str(error))
    except OSError as error:
        sys.exit(f"The engine can't listen for the controllers: {error}.")
