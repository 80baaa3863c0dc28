"""Choosing from which of its images a component starts next: ``Links.ActiveSoftwareImage`` (Manager 1.6, Bios 1.1)."""

from __future__ import annotations

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.inventory import find_entry
from ordnung.controllers.session import ROOT, Session


async def choose_bank(session: Session, slot: str, version: str) -> None:
    """Have a component start from the bank that holds ``version`` with its next reset. Asked for twice it is the same.

    Raises as ``Session.act``; ControllerError also where no bank of it holds that version, or it can't be chosen.
    """
    for owner in await _owners(session):
        entries = [entry for path in _images(owner) if (entry := await session.find(path)) is not None]
        if find_entry(entries, slot) is None:
            continue
        chosen = next((link_of(entry) for entry in entries if as_text(entry.get("Version")) == version), None)
        path = link_of(owner)
        if chosen is None or path is None:
            raise ControllerError(session.endpoint.name, "said no", f"no bank of {slot} holds {version} any more")
        await session.change(path, owner, {"Links": {"ActiveSoftwareImage": {"@odata.id": chosen}}})
        return
    raise ControllerError(session.endpoint.name, "said no", f"it does not let the bank of {slot} be chosen")


async def images_of_all(session: Session) -> list[list[str]]:
    """The paths of the images of each component that tells which are its own."""
    return [images for owner in await _owners(session) if (images := _images(owner))]


def _images(owner: Json) -> list[str]:
    images = as_list(as_dict(owner.get("Links")).get("SoftwareImages"))
    return [path for image in images if (path := link_of(image))]


async def _owners(session: Session) -> list[Json]:
    """What may tell of images: the managers, and the BIOS of each system that is this server's."""
    root = await session.get(ROOT)
    own = session.endpoint.system
    managers = await session.members(link_of(root.get("Managers")))
    systems = await session.members(link_of(root.get("Systems")))
    mine = [one for one in systems if own is None or (link_of(one) or "").rstrip("/") == own.rstrip("/")]
    bioses = [await session.find(link_of(one.get("Bios"))) for one in mine]
    return [*managers, *(bios for bios in bioses if bios is not None)]
