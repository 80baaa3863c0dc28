"""The field kit on a disc, played in process on virtual time: what a server runs that was started from one."""

from __future__ import annotations

import asyncio
import dataclasses
import itertools

from ordnung.controllers import ControllerError, Word
from ordnung.core.away import AwayPlace
from ordnung.core.baseline import leave_out
from ordnung.core.sheet import DiscPart
from ordnung.engine.entries import Entry, Plan, TapeEntry
from ordnung.engine.run import RunServer, carry_out_run
from ordnung.engine.tape import fold
from ordnung.engine.telling import tell_reason
from ordnung.engine.world import Choice, Patience, Site
from ordnung.fieldkit.one_server import GOOD
from ordnung.formats.order import mark_of
from ordnung.standins.hardware import Hardware
from tests.simulation.lines import InProcessControllers
from tests.simulation.world import House, MemoryJournal

BEGINS_S = 60.0
"""From the start of its system to the kit's first reading."""


class KitHost:
    """Runs the engine against the server's own controller, with a journal in memory that is lost with each reset."""

    def __init__(self, house: House) -> None:
        self.house = house
        self.tasks: dict[str, asyncio.Task] = {}
        self.started = itertools.count(1)
        self.tapes: dict[str, list[list[Entry]]] = {}
        """By server one for each start, in order."""
        self.nobody = Silent()

    def values(self, name: str) -> list[TapeEntry]:
        """All that the kit has put on its tapes on one server."""
        return [entry.value for tape in self.tapes.get(name, ()) for entry in tape]

    def start(self, device: Hardware, image: str) -> None:
        self.tasks[device.name] = asyncio.ensure_future(self._run(device))

    def stop(self, device: Hardware) -> None:
        task = self.tasks.pop(device.name, None)
        if task is not None:
            # It dies by what it asked for: its own request is answered first.
            asyncio.get_running_loop().call_soon(task.cancel)

    async def _run(self, device: Hardware) -> None:
        clock = self.house.clock
        run = f"kit-{next(self.started)}"
        await clock.sleep(BEGINS_S)
        remedies = {r: c if c is Choice.AUTOMATIC else Choice.NEVER for r, c in self.house.remedies.items()}
        order = self._order(device)
        world = dataclasses.replace(
            self.house.world(), controllers=InProcessControllers(self.house.devices), journal=MemoryJournal(clock),
            payloads=Pushed(self.house), remedies=remedies, patience=Patience(), site=Site(), reporter=self.nobody,
            orders=self.nobody, baseline=Ordered(self.house, {slot for slot, _ in order}),
        )  # fmt: skip
        tape = world.journal.tapes.setdefault((run, device.name), [])
        self.tapes.setdefault(device.name, []).append(tape)
        endpoint = self.house.endpoint(device.name)
        lane = RunServer(
            endpoint=endpoint, place=AwayPlace(server=device.name), approved=order, on_disc=True,
            on_sheet=frozenset(slot for slot, _ in order),
        )  # fmt: skip
        await carry_out_run(run, [lane], world)
        state = fold(tape)
        word = Word(text=tell_reason(state.ended.reason, state.ended.facts), is_idle=state.is_idle)
        try:
            async with world.controllers.open(endpoint) as controller:
                if state.ended.ending not in GOOD:
                    await controller.leave_word(mark_of("the house", device.name), word)
                await controller.leave_disc()
        except ControllerError:
            pass  # seen after a while

    def _order(self, device: Hardware) -> frozenset[tuple[str, str]]:
        """What the run that inserted the disc has planned for the kit."""
        tapes = [tape for (_, name), tape in self.house.journal.tapes.items() if name == device.name]
        planned = [e.value for tape in tapes for e in tape if isinstance(e.value, Plan)]
        writes = [p for step in planned[-1].rounds for p in step.writes if p.disc is DiscPart.KIT]
        return frozenset((p.write.slot, p.brings) for p in writes)


class Ordered:
    """The house's baseline for the components that are named, all else held."""

    def __init__(self, house: House, slots: set[str]) -> None:
        self.house, self.slots = house, slots

    async def locate(self, server):
        others = {part.slot: "not ordered" for part in server.components if part.slot not in self.slots}
        return leave_out(await self.house.locate(server), others)


class Pushed:
    """The payloads of the house as they lie on the disc: nothing is served from there."""

    protocols = ()

    def __init__(self, house: House) -> None:
        self.find = house.find


class Silent:
    """Nobody is at the server."""

    def __init__(self) -> None:
        self.troubles: list[Exception] = []

    async def step(self, run, server, state, detail, percent):
        pass

    async def reading(self, run, server, pin):
        pass

    async def trouble(self, run, server, error):
        self.troubles.append(error)
        return "trouble"

    async def order(self, run, server):
        return "go"

    async def bars_reset(self, run, server):
        return ""

    async def overrides(self, run, server):
        return {}

    async def reply(self, run, server):
        return None
