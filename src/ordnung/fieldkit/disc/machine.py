"""The machine that the disc was started on, as a session works with it."""

from __future__ import annotations

import hashlib
import os
import re
import ssl
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Protocol
from urllib.parse import unquote, urlsplit

from ordnung.fieldkit.disc.keeping import Kept, keep
from ordnung.fieldkit.disc.network import bring_up_all, bring_up_own
from ordnung.fieldkit.host.bootstrap import Handed, bootstrap
from ordnung.fieldkit.host.interface import HostInterface, find_host_interface
from ordnung.fieldkit.host.ipmi import ask
from ordnung.fieldkit.host.look import own_serial
from ordnung.formats.order import find_order

_OTHER = re.compile(r"[^A-Za-z0-9._-]+")
RUN = Path("/run")
DISC, STARTED_FROM, KEPT = RUN / "disc", RUN / "disc-device", RUN / "kept"


class Machine(Protocol):
    """What a session needs of the machine that it runs on."""

    @property
    def disc(self) -> Path:
        """Where the disc is mounted."""
        ...

    @property
    def given(self) -> frozenset[str]:
        """What was chosen where it was started: ``report``, ``unasked``."""
        ...

    def order(self) -> bytes | None:
        """The order behind the image; None where there is none. Raises OSError, FormatError."""
        ...

    def keep(self) -> Kept:
        """Where the journal of this server is kept."""
        ...

    def own_controller(self) -> HostInterface | None:
        """The host interface; None where there is none."""
        ...

    def lead_to(self, interface: HostInterface) -> str:
        """Bring up the link that it describes; where it is reached over it, empty where it does not come up."""
        ...

    def handed(self) -> Handed | None:
        """A user that the controller hands out; None where it doesn't."""
        ...

    def bring_up(self) -> bool:
        """Bring up every other link; whether one has an address."""
        ...

    def certificate(self, url: str) -> str:
        """The SHA-256 of the certificate that a service shows. Raises OSError."""
        ...

    def ordnung(self, arguments: Sequence[str]) -> int:
        """Run the ``ordnung`` command at this terminal; its exit status."""
        ...

    def leave(self, how: str) -> None:
        """``reboot`` or ``poweroff``; everything kept is written before."""
        ...


class DiscMachine:
    """The real one."""

    disc = DISC

    @property
    def given(self) -> frozenset[str]:
        """What was chosen where it was started."""
        words = Path("/proc/cmdline").read_text().split()
        return frozenset(word.partition("=")[2] for word in words if word.startswith("ordnung.mode="))

    def order(self) -> bytes | None:
        """From the device that it was started from."""
        with Path(STARTED_FROM.read_text().strip()).open("rb") as device:
            return find_order(device)

    def keep(self) -> Kept:
        """A folder of this server's own on the stick, or in memory: one stick goes from server to server."""
        kept = keep(Path(STARTED_FROM.read_text().strip()), KEPT, _run)
        folder = kept.folder / (_OTHER.sub("-", own_serial()) or "server")
        folder.mkdir(exist_ok=True)
        return Kept(folder, kept.why_not)

    def own_controller(self) -> HostInterface | None:
        """As SMBIOS describes it."""
        return find_host_interface()

    def lead_to(self, interface: HostInterface) -> str:
        """By its hardware address, or as the one link over USB."""
        return bring_up_own(interface, _run)

    def handed(self) -> Handed | None:
        """Over IPMI."""
        return bootstrap(ask)

    def bring_up(self) -> bool:
        """By DHCP."""
        return bring_up_all(_run)

    def certificate(self, url: str) -> str:
        """Whatever it shows: who asks compares it with what was told another way."""
        parts = urlsplit(url)
        shown = ssl.get_server_certificate((unquote(parts.hostname or ""), parts.port or 443), timeout=10)
        return hashlib.sha256(ssl.PEM_cert_to_DER_cert(shown)).hexdigest()

    def ordnung(self, arguments: Sequence[str]) -> int:
        """In a process of its own: whatever becomes of it, the session stays."""
        return subprocess.call([sys.executable, "-m", "ordnung.fieldkit.main", *arguments])

    def leave(self, how: str) -> None:
        """By the kernel, at once, once all is written."""
        os.sync()
        _run([how, "-f"])


def _run(command: Sequence[str]) -> bool:
    return subprocess.call(["/bin/busybox", *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) == 0
