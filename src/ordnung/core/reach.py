"""How a server can be fed, in words: what its controller says it can do, and what a probe showed (N1.3, N1.4)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ordnung.core.facts import Facts

SHOWN = ("arrived", "not arrived", "not asked")


@dataclass(frozen=True, slots=True, kw_only=True)
class ReachWay:
    """One way of bringing a payload: whether it is open, what was seen, and the remedy where it is not.

    ``open`` is None where nothing is known yet.
    """

    way: str
    open: bool | None
    seen: str
    remedy: str = ""


def tell_reach(facts: Facts | None, probes: Mapping[str, str]) -> tuple[ReachWay, ...]:
    """The ways in, best first.

    Args:
        probes: for ``HTTPS`` and ``HTTP``: one of ``SHOWN``; a protocol that was not probed is missing.
    """
    if facts is None:
        return ()
    return (_pull("HTTPS", facts, probes.get("HTTPS")), _pull("HTTP", facts, probes.get("HTTP")), _push(facts))


def _pull(protocol: str, facts: Facts, probe: str | None) -> ReachWay:
    way = f"fetches over {protocol}"
    if protocol not in facts.pulls:
        remedy = "A newer controller release may learn it." if protocol == "HTTPS" else ""
        return ReachWay(way=way, open=False, seen="the controller does not offer it", remedy=remedy)
    if probe is None or probe == "not asked":
        return ReachWay(way=way, open=None, seen="offered; whether it gets here was not tried yet")
    if probe == "arrived":
        return ReachWay(way=way, open=True, seen="offered, and a test from its side arrived here")
    if protocol == "HTTPS" and facts.clock_off_s is not None and abs(facts.clock_off_s) > 86400:
        remedy = "Set the controller's clock; then try again."
        return ReachWay(
            way=way, open=False, seen="nothing arrived; by its clock our certificate is not valid", remedy=remedy
        )
    remedy = "Check the path from the management network to Ordnung" + (
        ", and that the controller trusts our certificate." if protocol == "HTTPS" else "."
    )
    return ReachWay(way=way, open=False, seen="offered, but a test from its side did not arrive here", remedy=remedy)


def _push(facts: Facts) -> ReachWay:
    if facts.push == "any":
        return ReachWay(way="takes a pushed image", open=True, seen="for every component")
    if facts.push == "image":
        return ReachWay(way="takes a pushed image", open=True, seen="for whatever the image fits")
    if facts.push == "own":
        remedy = "Update the controller first; then it may learn more."
        return ReachWay(way="takes a pushed image", open=True, seen="for its own release only", remedy=remedy)
    licence = next((o.name for o in facts.licences if not o.valid), None)
    remedy = f"It lacks the licence {licence}." if licence else ""
    return ReachWay(way="takes a pushed image", open=False, seen="the controller does not offer it", remedy=remedy)


def best_way(facts: Facts | None, probes: Mapping[str, str]) -> str:
    """One word for the Floor: ``https``, ``push``, ``http``, ``own`` (its own image only), ``none`` or ``unknown``."""
    if facts is None:
        return "unknown"
    ways = {way.way: way.open for way in tell_reach(facts, probes)}
    if ways["fetches over HTTPS"] is not False and "HTTPS" in facts.pulls:
        return "https"
    if facts.push in ("any", "image"):
        return "push"
    if ways["fetches over HTTP"] is not False and "HTTP" in facts.pulls:
        return "http"
    return "own" if facts.push == "own" else "none"
