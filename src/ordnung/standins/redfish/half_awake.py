"""What a controller answers that was restarted and is not all there yet: its web server is up before its service is.

Nothing of it is laid down in the standard, which has services answer truly; but they do, each for a while.
"""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.redfish.tree import V1
from ordnung.standins.redfish.wire import Reply, error

PHASE_S = 40.0
"""How long each lasts: nothing behind its web server, then no service root, then a root with nothing below it, then a
server without its inventory.
"""
_FIRST = ("/redfish", V1, f"{V1}/SessionService", f"{V1}/Sessions")
_LAST = ("/UpdateService", "/Storage")


def answer_half_awake(device: Hardware, path: str) -> Reply | None:
    """What it answers while it wakes; None once it is awake, or for what it knows by then."""
    if "wakes slowly" not in device.quirks or not device.away_until:
        return None
    awake = device.now() - device.away_until
    if awake < PHASE_S:
        page = b"<html><body>Please wait</body></html>"
        return Reply(status=502, headers={"Content-Type": "text/html"}, body=page)
    first = path in _FIRST or path.startswith(tuple(f"{known}/" for known in _FIRST[2:]))
    phase = int(awake // PHASE_S)
    is_there = {1: False, 2: first, 3: not any(name in path for name in _LAST)}.get(phase, True)
    return None if is_there else error(404, "ResourceMissingAtURI", path)
