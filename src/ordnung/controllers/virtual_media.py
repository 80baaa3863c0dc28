"""A disc in a server's virtual media, and its starts sent there: ``VirtualMedia.InsertMedia`` and the boot override.

A service without that action has ``Image`` and ``Inserted`` changed instead (VirtualMedia schema; all before 1.2).
"""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlsplit

from ordnung.controllers.actions import allowed_values
from ordnung.controllers.answers import Json, as_dict, as_path, as_text, is_true, link_of
from ordnung.controllers.errors import ControllerError, LostAnswerError
from ordnung.controllers.session import Session
from ordnung.controllers.systems import manager_of, own_system, path_of, start_as_before
from ordnung.controllers.tasks import read_accepted
from ordnung.controllers.types import Accepted

TARGET = "Cd"
"""BootSourceOverrideTarget (ComputerSystem schema) of a disc, in a drive or in virtual media."""
STAYS = "Continuous"
"""Every start goes there: what the disc carries out takes several."""
DISCS = ("CD", "DVD")
PREFERRED = ("HTTPS", "HTTP")


async def insert_disc(session: Session, uris: Mapping[str, str]) -> Accepted:
    """Have every start go to a disc, and insert it. Asked for twice it is the same.

    The disc comes last: its insertion may be a task, and is what is followed.

    Args:
        uris: where the controller gets the image, by protocol in upper case.

    Raises:
        As ``Session.act``; ControllerError also where it offers no such media or start, or holds another disc.
    """
    system = await own_system(session)
    slot = _slot_for(session, await _slots(session, system), uris)
    _demand_start(session, system)
    await _demand_host(session, system)
    boot = {"BootSourceOverrideEnabled": STAYS, "BootSourceOverrideTarget": TARGET}
    await session.change(path_of(session, system), system, {"Boot": boot})
    if _holds(slot, uris):
        return Accepted(finished=True)
    return await _insert(session, slot, await _uri(session, _action(slot, "InsertMedia"), uris))


async def _insert(session: Session, slot: Json, uri: str) -> Accepted:
    target, path = as_path(_action(slot, "InsertMedia").get("target")), link_of(slot)
    image = {"Image": uri}
    if target is not None:
        answer = await session.act(target, {**image, "Inserted": True, "WriteProtected": True}, bears=(400,))
        # What was refused was certainly not done. Both have these values where they are not given (InsertMedia), and
        # some services take nothing that they need not take.
        return read_accepted(answer if answer.status != 400 else await session.act(target, image))
    try:
        return read_accepted(await session.change(path or "", slot, {**image, "Inserted": True}))
    except LostAnswerError:
        raise
    except ControllerError as error:
        raise _refused(session, f"it lets no disc be inserted ({error.detail})") from None


async def eject_disc(session: Session, uris: Mapping[str, str]) -> Accepted:
    """Have the server start as it did before, and take our disc out; another's is left in. Twice it is the same.

    Raises as ``Session.act``.
    """
    system = await _start_as_before(session)
    slot = next((one for one in await _slots(session, system) if _holds(one, uris)), None)
    if slot is None:
        return Accepted(finished=True)
    target = as_path(_action(slot, "EjectMedia").get("target"))
    if target is None:
        return read_accepted(await session.change(link_of(slot) or "", slot, {"Image": None, "Inserted": False}))
    return read_accepted(await session.act(target, {}))


async def leave_disc(session: Session) -> None:
    """Have the server start as it did before, with its next reset. Raises as ``Session.act``."""
    await _start_as_before(session)


async def has_disc(session: Session, uris: Mapping[str, str]) -> tuple[bool, bool]:
    """Whether our disc is inserted, and whether the starts go to a disc. Raises as ``Session.get``."""
    system = await own_system(session)
    inserted = any(_holds(slot, uris) for slot in await _slots(session, system))
    return inserted, _starts_from_disc(system)


async def _start_as_before(session: Session) -> Json:
    """Take our own choice back and nobody else's, or whatever it is where none is told; its system as it was told."""
    system = await own_system(session)
    if _starts_from_disc(system) or "BootSourceOverrideEnabled" not in as_dict(system.get("Boot")):
        await start_as_before(session, system)
    return system


async def _slots(session: Session, system: Json) -> list[Json]:
    """The virtual media that take discs, at the system (ComputerSystem 1.13) or at its manager, as older services."""
    told = [system, await manager_of(session, system)]
    paths = [link_of(one.get("VirtualMedia")) for one in told]
    found = []
    for path in dict.fromkeys(path for path in paths if path):
        found += await session.members(path)
    return [slot for slot in found if _takes_discs(slot)]


def _takes_discs(slot: Json) -> bool:
    """Whether a disc fits: one that does not say what fits is taken at its word by the controller."""
    kinds = slot.get("MediaTypes")
    return not isinstance(kinds, list) or not kinds or any(kind in DISCS for kind in kinds)


def _slot_for(session: Session, slots: list[Json], uris: Mapping[str, str]) -> Json:
    ours = next((slot for slot in slots if _holds(slot, uris)), None)
    free = next((slot for slot in slots if not is_true(slot.get("Inserted"))), None)
    found = ours or free
    if found is None:
        detail = "another disc is in its virtual media" if slots else "it has no virtual media for a disc"
        raise _refused(session, detail)
    return found


async def _demand_host(session: Session, system: Json) -> None:
    """Raises ControllerError where each host interface says that it hands no user out to what runs on the server.

    Where none is told of, nothing is certain (HostInterface is optional in DSP0270 too).
    """
    manager = await manager_of(session, system)
    found = await session.members(link_of(manager.get("HostInterfaces")))
    told = [as_dict(one.get("CredentialBootstrapping")).get("Enabled") for one in found]
    if told and all(enabled is False for enabled in told):
        raise _refused(session, "it hands out no user to what runs on its server, so that the kit could not sign in")


def _demand_start(session: Session, system: Json) -> None:
    """Raises ControllerError where it says itself that its starts can't be sent to a disc, or not each of them."""
    boot = as_dict(system.get("Boot"))
    for name, wanted, what in (
        ("BootSourceOverrideTarget", TARGET, "start from a disc"),
        ("BootSourceOverrideEnabled", STAYS, "start from a disc more than once"),
    ):
        allowed = boot.get(f"{name}@Redfish.AllowableValues")
        if isinstance(allowed, list) and wanted not in allowed:
            raise _refused(session, f"it can't be told to {what}")


def _starts_from_disc(system: Json) -> bool:
    boot = as_dict(system.get("Boot"))
    enabled, target = as_text(boot.get("BootSourceOverrideEnabled")), as_text(boot.get("BootSourceOverrideTarget"))
    return enabled in (STAYS, "Once") and target == TARGET


def _holds(slot: Json, uris: Mapping[str, str]) -> bool:
    """Whether it is our disc: by its path, which nobody can guess, or by its name where the address is kept secret.

    Not by host and port: those may be others since, and a controller may spell them its own way.
    """
    if not is_true(slot.get("Inserted")):
        return False
    image = as_text(slot.get("Image"))
    if not image:
        return as_text(slot.get("ImageName")) in {_path(uri).rsplit("/", 1)[-1] for uri in uris.values()}
    return _path(image) in {_path(uri) for uri in uris.values()}


def _path(uri: str) -> str:
    try:
        return urlsplit(uri).path
    except ValueError:
        return ""


def _action(slot: Json, name: str) -> Json:
    return as_dict(as_dict(slot.get("Actions")).get(f"#VirtualMedia.{name}"))


async def _uri(session: Session, action: Json, uris: Mapping[str, str]) -> str:
    """Over the safest protocol that it takes. Raises ControllerError where it takes none of ours."""
    told = await allowed_values(session.find, action, "TransferProtocolType")
    for protocol in PREFERRED:
        if protocol in uris and (told is None or protocol in told):
            return uris[protocol]
    raise _refused(session, "it fetches discs over nothing that is served here")


def _refused(session: Session, detail: str) -> ControllerError:
    return ControllerError(session.endpoint.name, "said no", detail)
