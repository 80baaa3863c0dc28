"""The members of an inventory (SoftwareInventory schema): which slot each stands for, and whose images they are.

Of an ``Id`` the standard says only that no other member has it. On some controllers it holds the version, and is
another one after an update; on others each of two images is a member of its own, and which of them runs changes.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from ordnung.controllers.answers import Json, as_dict, as_list, as_text, link_of
from ordnung.controllers.tree import Fitted

MAX_SLOT = 200
"""Characters of a slot's name, by the readings' format, with room for a number where it stands twice."""
STAGED = "StandbySpare"
STANDBY = ("StandbyOffline", STAGED, "Updating")
"""States of images that do not run (Resource schema, Status.State)."""
SHORTEST = 2
"""Characters of a version in one piece that is looked for in an Id; a single one is more likely a number there."""


@dataclass(slots=True)
class Firmware:
    """One inventory entry with what hangs on it."""

    path: str
    slot: str
    entry: Json
    waiting: str | None = None
    standby: dict[str, str] = field(default_factory=dict)
    """What its other banks hold, by their paths."""
    fitted: Fitted | None = None


def is_standby(entry: Json) -> bool:
    """Whether a member stands for an image that does not run."""
    return _state(entry) in STANDBY


def name_slots(entries: Sequence[Json]) -> list[str]:
    """The slot of each member: its Id, without the version where this inventory has versions in its Ids.

    It has if most of the members that run have theirs: one alone may be a port that is called 1.4 and runs 1.4. What
    would not be its own without the version keeps its Id.
    """
    plain = [as_text(entry.get("Id"), MAX_SLOT) or "" for entry in entries]
    runs = [not is_standby(entry) and bool(as_text(entry.get("Version"))) for entry in entries]
    lasting = [_lasting_name(entry) if does else name for name, entry, does in zip(plain, entries, runs, strict=True)]
    cut = sum(name != known for name, known in zip(lasting, plain, strict=True))
    if cut * 2 < sum(runs):
        return plain
    counts = Counter(lasting)
    return [name if counts[name] == 1 else known for name, known in zip(lasting, plain, strict=True)]


def _lasting_name(entry: Json) -> str:
    """Its Id without its version, where that is part of it."""
    name, version = as_text(entry.get("Id"), MAX_SLOT) or "", as_text(entry.get("Version")) or ""
    pieces = re.findall("[0-9A-Za-z]+", version)
    if not pieces or (len(pieces) == 1 and len(version) < SHORTEST) or not any(char.isdigit() for char in version):
        return name
    if any(piece not in name for piece in pieces):
        return name  # as almost always, and cheaper told
    found = re.search(f"(?<![0-9A-Za-z]){'[^0-9A-Za-z]+'.join(pieces)}(?![0-9A-Za-z])", name)
    if found is None:
        return name
    around = (name[: found.start()].rstrip("-_. "), name[found.end() :].lstrip("-_. "))
    return "-".join(filter(None, around)) or name


def find_entry(entries: Sequence[Json], slot: str) -> Json | None:
    """The member that stands for a slot: one that runs, where there is one, else an image of that name."""
    pairs = list(zip(entries, name_slots(entries), strict=True))
    runs = [entry for entry, name in pairs if name == slot and not is_standby(entry)]
    ends = [entry for entry, name in pairs if slot in (name, _path(entry).rsplit("/", 1)[-1])]
    images = [entry for entry in entries if is_standby(entry) and _lasting_name(entry) == slot]
    return next(iter([*runs, *ends, *images]), None)


def fold(entries: Sequence[Json], parts: Iterable[Fitted]) -> list[Firmware]:
    """Put standby and staged members to the part they belong to; ids that stand twice are two of them."""
    owners = _images(parts, entries)
    found: dict[str, Firmware] = {}
    doubles: list[Firmware] = []
    extra: list[tuple[Json, str]] = []

    def add(entry: Json, slot: str) -> None:
        made = Firmware(link_of(entry) or slot, slot, entry)
        if found.setdefault(slot, made) is not made:
            doubles.append(made)

    for entry, name in zip(entries, name_slots(entries), strict=True):
        path = _path(entry)
        if is_standby(entry) or owners.get(path, path) != path:
            extra.append((entry, name))
        else:
            add(entry, _common_name(path, owners, entries) or name)
    for entry, name in extra:
        owner = _owner(found, entry, owners.get(_path(entry)))
        if owner is not None:
            _hang_on(owner, entry)
        elif _stands_alone(entry):
            add(entry, name)
    return [*found.values(), *doubles]


def _stands_alone(entry: Json) -> bool:
    """Whether it is no image beside another, but a part that is being written, or does not run: nothing else is it."""
    state = _state(entry)
    return state == "Updating" or (state != STAGED and related_path(entry) is not None)


def _state(entry: Json) -> str | None:
    return as_text(as_dict(entry.get("Status")).get("State"))


def _images(parts: Iterable[Fitted], entries: Sequence[Json]) -> dict[str, str]:
    """By path of an image that a part says is its own: the path of the one that it runs.

    Where several are shown as if they ran, it is the one whose version the part says it has; the one named as active
    may only be what the next start goes to.
    """
    known = {_path(entry): entry for entry in entries}
    owners: dict[str, str] = {}
    for part in parts:
        images = [path for image in part.images if (path := image.rstrip("/")) in known]
        running = [path for path in images if not is_standby(known[path])]
        if len(images) < 2 or not running:
            continue
        told = [path for path in running if part.version and as_text(known[path].get("Version")) == part.version]
        active = [path for path in running if path == (part.active or "").rstrip("/")]
        owners |= dict.fromkeys(images, (*(told if len(told) == 1 else ()), *active, *running)[0])
    return owners


def _common_name(path: str, owners: dict[str, str], entries: Sequence[Json]) -> str | None:
    """The shortest name of the images of which this one runs, whichever does and however they are ordered."""
    images = {image for image, running in owners.items() if running == path}
    names = [_lasting_name(entry) for entry in entries if _path(entry) in images] if images else []
    return min(names, key=lambda name: (len(name), name), default=None)


def _owner(found: dict[str, Firmware], entry: Json, runs: str | None) -> Firmware | None:
    told = next((f for f in found.values() if runs and f.path.rstrip("/") == runs), None)
    return told or _begins_alike(found, entry) or _same_related(found, entry)


def _hang_on(owner: Firmware, entry: Json) -> None:
    version, state = as_text(entry.get("Version")), _state(entry)
    if version is None or state == "Updating":
        return
    if state == STAGED:
        owner.waiting = version
    else:
        owner.standby[link_of(entry) or str(len(owner.standby))] = version


def _begins_alike(found: dict[str, Firmware], entry: Json) -> Firmware | None:
    """Whose Id is the longest beginning of this one, up to a dot."""
    name = as_text(entry.get("Id")) or ""
    while name := name.rpartition(".")[0]:
        if name in found:
            return found[name]
    return None


def _same_related(found: dict[str, Firmware], entry: Json) -> Firmware | None:
    """What belongs to the same resource, and is the same software where that tells them apart."""
    mine, software = related_path(entry), as_text(entry.get("SoftwareId"))
    alike = [f for f in found.values() if mine and related_path(f.entry) == mine]
    same = [f for f in alike if software and as_text(f.entry.get("SoftwareId")) == software]
    return next(iter(same or alike), None)


def related_path(entry: Json) -> str | None:
    """What an entry says that it is firmware of."""
    related = as_list(entry.get("RelatedItem"))
    return link_of(related[0]) if related else None


def _path(entry: Json) -> str:
    return (link_of(entry) or "").rstrip("/")


def join(firmware: list[Firmware], parts: list[Fitted]) -> None:
    """Find for every entry what it is firmware of: by link, by active image, by id, by version and name."""
    free = list(parts)

    def claim(item: Firmware, part: Fitted | None) -> None:
        if part is not None:
            item.fitted = part
            free.remove(part)

    rules: tuple[Callable[[Firmware, Fitted], bool], ...] = (
        lambda f, p: p.active is not None and p.active == f.path,
        lambda f, p: related_path(f.entry) in p.paths and (p.slot == f.slot or p.is_alone),
        lambda f, p: p.slot == f.slot,
        lambda f, p: related_path(f.entry) in p.paths and p.name == as_text(f.entry.get("Name")),
        lambda f, p: p.version == as_text(f.entry.get("Version")) and p.name == as_text(f.entry.get("Name")),
    )
    for rule in rules:
        for item in firmware:
            if item.fitted is None:
                claim(item, next((part for part in free if rule(item, part)), None))
