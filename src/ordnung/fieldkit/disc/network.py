"""The links of a server that was just started: to its own controller as SMBIOS describes it, the rest by DHCP."""

from __future__ import annotations

import ipaddress
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from ordnung.fieldkit.host.interface import Assignment, HostInterface, over, own_link

Run = Callable[[Sequence[str]], bool]
LINK_WAIT_S = 6.0
DOUBLE_S = "3"
"""So long an IPv6 address can't be used yet: it is looked whether another has it (RFC 4862, 5.4)."""
DHCP = ("udhcpc", "-n", "-q", "-t", "4", "-T", "2", "-s", "/sbin/dhcp", "-i")


def _read(path: Path) -> str:
    try:
        return path.read_text().strip().lower()
    except OSError:
        return ""


def bring_up_own(interface: HostInterface, run: Run, sysfs: Path = Path("/sys")) -> str:
    """Give the link to the own controller its address.

    Returns:
        Where the controller is reached over it; empty where there is no such link, or it did not go well.
    """
    link = own_link(interface, sysfs)
    if not link or not run(["ip", "link", "set", link, "up"]):
        return ""
    if interface.assignment == Assignment.DHCP:
        return over(link, interface.url) if run([*DHCP, link]) else ""
    own = interface.own or _beside(interface.url)
    if not own or not run(["ip", "address", "replace", own, "dev", link]):
        return ""
    if ":" in own:
        run(["sleep", DOUBLE_S])
    return over(link, interface.url)


def _beside(url: str) -> str:
    """An address beside the service's, where the host may choose one itself; empty for a name."""
    try:
        service = ipaddress.ip_address(urlsplit(url).hostname or "")
    except ValueError:
        return ""
    prefix = 16 if service.version == 4 else 64
    return f"{service + 1 if int(service) % 256 < 254 else service - 1}/{prefix}"


def bring_up_all(run: Run, sysfs: Path = Path("/sys"), sleep: Callable[[float], None] = time.sleep) -> bool:
    """Ask for an address by DHCP on every link that has a cable; whether one was given."""
    links = sorted(path for path in (sysfs / "class" / "net").glob("*") if path.name != "lo")
    for link in links:
        run(["ip", "link", "set", link.name, "up"])
    waited = 0.0
    while waited < LINK_WAIT_S and not any(_read(link / "carrier") == "1" for link in links):
        sleep(0.5)
        waited += 0.5
    given = [run([*DHCP, link.name]) for link in links if _read(link / "carrier") == "1"]
    return any(given)
