"""Choosing from which of its images a component starts next: ``Links.ActiveSoftwareImage`` (Manager 1.6, Bios 1.1)."""

from __future__ import annotations

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.errors import ControllerError
from ordnung.controllers.session import ROOT, Session


async def choose_bank(session: Session, slot: str, version: str) -> None:
    """Have a component start from the bank that holds ``version`` with its next reset. Asked for twice it is the same.

    Raises as ``Session.act``; ControllerError also where no bank of it holds that version, or it can't be chosen.
    """
    for owner in await _owners(session):
        links = as_dict(owner.get("Links"))
        images = [path for image in as_list(links.get("SoftwareImages")) if (path := link_of(image))]
        entries = [entry for path in images if (entry := await session.find(path)) is not None]
        if not any(_is_of(entry, slot) for entry in entries):
            continue
        chosen = next((link_of(entry) for entry in entries if as_text(entry.get("Version")) == version), None)
        path = link_of(owner)
        if chosen is None or path is None:
            raise ControllerError(session.endpoint.name, "said no", f"no bank of {slot} holds {version} any more")
        await session.change(path, owner, {"Links": {"ActiveSoftwareImage": {"@odata.id": chosen}}})
        return
    raise ControllerError(session.endpoint.name, "said no", f"it does not let the bank of {slot} be chosen")


def _is_of(entry: Json, slot: str) -> bool:
    """Whether an image belongs to the component of a slot: the active one has its name, others begin with it."""
    name = as_text(entry.get("Id")) or (link_of(entry) or "").rstrip("/").rsplit("/", 1)[-1]
    return name == slot or name.startswith(f"{slot}.")


async def _owners(session: Session) -> list[Json]:
    """What may tell of images: the managers, and the BIOS of each system that is this server's."""
    root = await session.get(ROOT)
    own = session.endpoint.system
    managers = await session.members(link_of(root.get("Managers")))
    systems = await session.members(link_of(root.get("Systems")))
    mine = [one for one in systems if own is None or (link_of(one) or "").rstrip("/") == own.rstrip("/")]
    bioses = [await session.find(link_of(one.get("Bios"))) for one in mine]
    return [*managers, *(bios for bios in bioses if bios is not None)]
