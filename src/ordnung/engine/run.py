"""A run: its servers, each on its own tape. One server's trouble is one server's; the others go on."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import structlog

from ordnung.controllers import Endpoint
from ordnung.core.away import AwayPlace
from ordnung.core.errands import Moves
from ordnung.core.waiting import Left
from ordnung.engine.hand import Hand
from ordnung.engine.ports import TapeConflictError
from ordnung.engine.server_run import carry_out, give_up
from ordnung.engine.world import World

log = structlog.get_logger()


@dataclass(frozen=True, slots=True, kw_only=True)
class RunServer:
    """One server of a run; ``place`` is what it takes of the site's limits, the rest as in ``Hand``."""

    endpoint: Endpoint
    place: AwayPlace
    back: Mapping[str, str] | None = None
    approved: frozenset[tuple[str, str]] | None = None
    on_sheet: frozenset[str] = frozenset()
    left_before: tuple[Left, ...] = ()
    moves: Moves = Moves()
    ahead: bool = False
    unattended: bool = False
    by_disc: bool = False
    order_mark: str = ""
    on_disc: bool = False


async def carry_out_run(run: str, servers: Sequence[RunServer], world: World, order: int = 0) -> dict[str, str]:
    """Carry out or go on with a run; returns how each server ended.

    Servers that were under way when the engine died come first, since they may be away already. Any exception in
    one server ends that server, never the run. Cancelling leaves every tape as it is.

    Args:
        order: the run's place among runs that wait for the same places.
    """
    begun = [bool(await world.journal.load(run, server.endpoint.name)) for server in servers]
    ended: dict[str, str] = {}

    async def one(number: int, server: RunServer) -> None:
        hand = Hand(
            run=run, endpoint=server.endpoint, world=world, place=server.place, back=server.back,
            order=(not begun[number], order, number), approved=server.approved, on_sheet=server.on_sheet,
            left_before=server.left_before, moves=server.moves, ahead=server.ahead, unattended=server.unattended,
            by_disc=server.by_disc, order_mark=server.order_mark, on_disc=server.on_disc,
        )  # fmt: skip
        await _guarded(hand)
        ended[hand.name] = hand.state.ended.ending if hand.state.ended is not None else ""

    async with asyncio.TaskGroup() as group:
        for number, server in enumerate(servers):
            group.create_task(one(number, server))
    return ended


async def _guarded(hand: Hand) -> None:
    try:
        await carry_out(hand)
    except TapeConflictError:
        # Someone else writes on this tape: it is theirs, and nothing more is sent from here.
        log.exception("tape conflict", run=hand.run, server=hand.name)
    except Exception as error:
        try:
            await give_up(hand, error)
        except Exception:
            # Not even its end could be written: the tape stays open and is gone on with at the next start.
            log.exception("server left open", run=hand.run, server=hand.name)
