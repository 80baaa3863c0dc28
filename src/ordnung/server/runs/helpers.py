"""The engine's way to those who do what Ordnung can't: hooks of the house, and people with their ticks (P1, P3)."""

from __future__ import annotations

from ordnung.core.errands import Errand, ErrandKind, tell_errand
from ordnung.engine.ports import Help, HelpState
from ordnung.server.house.hook_line import HookAnswer
from ordnung.server.house.hooks import ask, make_message
from ordnung.server.house.models import Hook
from ordnung.server.runs.models import RunServer
from ordnung.server.runs.records import ask_records

TYPES = {
    ErrandKind.MOVE_OFF: "work.move-off",
    ErrandKind.TAKE_BACK: "work.take-back",
    ErrandKind.HEALED: "group.healed",
}


class DatabaseHelpers:
    """Hooks are asked over HTTPS; a person's tick stands in the server's row, and counts where a hook was asked too."""

    def __init__(self) -> None:
        self._look_at: dict[str, str] = {}
        """By key, where a hook said that it tells how far it is; forgotten with the process, then it is asked anew."""

    async def helper(self, run: str, server: str, errand: Errand) -> str:
        """The hook that an errand goes to; empty where a person ticks it."""
        hook = await ask_records(_hook_of, int(run), server, errand.kind)
        return hook.name if hook is not None else ""

    async def ask(self, run: str, server: str, errand: Errand, key: str) -> Help:
        """Ask for it, or how far it is. Whom it was put before first stays asked: that stands in the row."""
        place, hook = await ask_records(_asked_of, int(run), server)
        if place.errand_key == key and place.ticked_by:
            return Help(state=HelpState.DONE, by=place.ticked_by, note=place.tick_note)
        of = (place.errand or {}).get("of", "")
        if not of:
            return Help(state=HelpState.PENDING)
        if hook is None:
            return Help(state=HelpState.SILENT, note=f"there is no hook {of} any more")
        group = place.server.group.name if place.server.group else ""
        data = {
            "server": server, "group": group, "run": place.run_id, "rack": place.server.rack,
            "what": tell_errand(errand, server),
        }  # fmt: skip
        look_at = self._look_at.get(key, "")
        found = await ask(hook, key, make_message(TYPES[errand.kind], data), look_at)
        if look_at and found.status in (404, 410):
            # It has forgotten: it is asked again, under the same key.
            del self._look_at[key]
            return Help(state=HelpState.PENDING, by=of, note="it has forgotten what it took on; it is asked again")
        if found.status == 202 and found.look_at:
            self._look_at[key] = found.look_at
        return _help_of(found, of)


def _asked_of(run: int, server: str) -> tuple[RunServer, Hook | None]:
    """A server's row, and the hook that its errand was put before."""
    place = RunServer.objects.select_related("server", "server__group").get(run_id=run, server__name=server)
    return place, Hook.objects.filter(name=(place.errand or {}).get("of", "")).first()


def _hook_of(run: int, server: str, kind: ErrandKind) -> Hook | None:
    place = RunServer.objects.select_related("server__group__hook").get(run_id=run, server__name=server)
    group = place.server.group
    if group is None or kind.is_by_hand:
        return None
    by = group.healer if kind is ErrandKind.HEALED else group.mover
    return group.hook if by == "hook" else None


def _help_of(found: HookAnswer, name: str) -> Help:
    """What an answer means: done, taken on, certainly not begun, or not known."""
    if found.status in (200, 204):
        return Help(state=HelpState.DONE, by=name, note=found.told)
    if found.status == 202 or found.status == -1 or found.status >= 500:
        return Help(state=HelpState.PENDING, by=name, note=found.told)
    if found.status == 0:
        return Help(state=HelpState.SILENT, by=name, note=found.told)
    return Help(state=HelpState.REFUSED, by=name, note=found.told)
