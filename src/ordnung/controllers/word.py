"""A last word that is left with a controller for whoever else signs in to it: the ``Context`` of a session.

What runs on a server and reaches its controller alone can tell nobody else why it stopped, and its console goes with
the next reset. A session keeps what it was opened with for as long as it lasts (Session schema, 1.5 and later); it is
left open, and ends by itself with the service's ``SessionTimeout``. A service that doesn't keep it loses nothing else.
"""

from __future__ import annotations

from ordnung.controllers.answers import Json, as_text
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import Session
from ordnung.controllers.types import Word

FORMAT = "ordnung.word/1"
MOST_CHARACTERS = 200
"""Of a word; DSP0268 gives ``Context`` no limit, but services have some."""


IDLE, UNSURE = "idle", "unsure"


async def leave_word(session: Session, mark: str, word: Word) -> bool:
    """Leave a word under a mark, once; whether the controller shows it. Raises ControllerError."""
    stands = IDLE if word.is_idle else UNSURE
    context = f"{FORMAT} {mark} {stands} {' '.join(word.text.split())[:MOST_CHARACTERS]}"
    other = Session(session.line)
    try:
        await other.sign_in(context=context)
    except ControllerError as error:
        if error.cause != "signed out":  # our own session is proof of the password: it takes no context
            raise
    if other.token is None:
        return False
    told = await other.find(other.location)
    if told is not None and told.get("Context") == context:
        return True
    await other.sign_out()
    return False


async def find_word(session: Session, mark: str) -> Word | None:
    """The word that was left last under a mark; None where there is none, or it may not be seen.

    Raises ControllerError.
    """
    begins = f"{FORMAT} {mark} "
    found = None
    for member in await session.listed(await session.find_sessions()):
        told = as_text((await _see(session, member)).get("Context")) or ""
        if told.startswith(begins):
            stands, _, text = told.removeprefix(begins).partition(" ")
            found = Word(text=text[:MOST_CHARACTERS], is_idle=stands == IDLE)
    return found


async def _see(session: Session, member: Json | str) -> Json:
    """A session of somebody, where it may be seen: others' need more than one's own (PrivilegeRegistry)."""
    if not isinstance(member, str):
        return member
    try:
        return await session.find(member) or {}
    except ControllerError as error:
        if error.cause != "no permission":
            raise
        return {}
