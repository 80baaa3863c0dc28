"""To which versions one component can go back (planning.md, "Way back"; R15)."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from ordnung.core.baseline import Position
from ordnung.core.versions import is_at_least


@dataclass(frozen=True, slots=True, kw_only=True)
class RollbackOption:
    """One older version. ``sha256`` is empty where the catalog names no payload; ``barred`` says what forbids it."""

    version: str
    in_bank: bool
    sha256: str
    barred: str = ""


def list_ways_back(position: Position) -> tuple[RollbackOption, ...]:
    """Every older version that is in a bank or in the catalog, the newest first.

    The floor of the release active now counts; what was active before it is not known here.
    """
    component, product = position.component, position.product
    banks = {version for version in component.banks or () if version and version != component.version}
    if product is None or component.version is None or product.key(component.version) is None:
        return tuple(RollbackOption(version=version, in_bank=True, sha256="") for version in sorted(banks))
    installed = product.key(component.version)
    active = product.find(component.version)
    floor = active.floor_after if active is not None else None
    older = {r.version: r for r in product.ordered if (key := product.key(r.version)) and installed and key < installed}
    named = {*older, *(b for b in banks if (key := product.key(b)) and installed and key < installed)}
    ways = []
    for version in sorted(named, key=lambda v: product.key(v) or (), reverse=True):
        release = product.find(version)
        allowed = floor is None or is_at_least(product.scheme, version, floor, product.listed)
        ways.append(
            RollbackOption(
                version=version,
                in_bank=version in banks,
                sha256=release.payload.sha256 if release is not None and release.payload else "",
                barred="" if allowed else f"{component.version} takes nothing below {floor}",
            )
        )
    return tuple(ways)


def after_updates(positions: Iterable[Position], versions: Mapping[str, str]) -> tuple[Position, ...]:
    """The positions once components (by slot) hold these versions and nothing waits in them for a reset.

    What a second bank will hold then is not known here: it is left out.
    """
    return tuple(
        dataclasses.replace(
            position,
            component=dataclasses.replace(
                position.component, version=versions[position.component.slot], waiting=None, banks=()
            ),
        )
        if position.component.slot in versions
        else position
        for position in positions
    )
