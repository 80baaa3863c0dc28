"""``python -m ordnung.demo.virtual_host``: the field kit on a disc, played for one stand-in that was started from it.

The image is fetched from where the controller was told to get it, opened as the disc's own system opens it, and the
kit's session runs on it. What a stand-in has not (an inner link, a console, somebody there) is played here.
"""

from __future__ import annotations

import json
import os
import signal
import ssl
import subprocess
import sys
import tempfile
import threading
import urllib.request
from collections.abc import Sequence
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from urllib.parse import urlsplit

from ordnung.fieldkit.disc.keeping import Kept
from ordnung.fieldkit.disc.session import Session
from ordnung.fieldkit.host.bootstrap import Handed
from ordnung.fieldkit.host.interface import HostInterface
from ordnung.formats.order import find_order
from ordnung.repository import open_carrier, write_as
from ordnung.store.copying import CHUNK


@dataclass(frozen=True)
class VirtualMachine:
    """The machine as a session works with it: the link to its controller is there, and a user is handed out."""

    image: Path
    disc: Path
    url: str
    user: str
    password: str
    folder: Path
    given: frozenset[str] = frozenset()

    def order(self) -> bytes | None:
        """Behind the image, as on a real one."""
        with self.image.open("rb") as device:
            return find_order(device)

    def keep(self) -> Kept:
        """A disc can't be written to."""
        return Kept(self.folder, "a disc can't be written to")

    def own_controller(self) -> HostInterface | None:
        """As SMBIOS would tell it."""
        return HostInterface(url=self.url, bootstraps=True)

    def lead_to(self, interface: HostInterface) -> str:
        """It is there."""
        return interface.url

    def handed(self) -> Handed | None:
        """As over IPMI."""
        return Handed(self.user, self.password, self.certificate(self.url))

    def bring_up(self) -> bool:
        """There is no other link."""
        return False

    def certificate(self, url: str) -> str:
        """The SHA-256 of what it shows."""
        parts = urlsplit(url)
        shown = ssl.get_server_certificate((parts.hostname or "", parts.port or 443), timeout=10)
        return sha256(ssl.PEM_cert_to_DER_cert(shown)).hexdigest()

    def ordnung(self, arguments: Sequence[str]) -> int:
        """In a process of its own, as on a real disc."""
        return subprocess.call([sys.executable, "-m", "ordnung.fieldkit.main", *arguments], stdin=subprocess.DEVNULL)

    def leave(self, how: str) -> None:
        """Nobody is there to choose it."""


def main() -> None:
    """Play it until the server is reset, which kills this process, or standard input ends."""
    told = json.loads(sys.stdin.readline())
    threading.Thread(target=_end_with_standins, daemon=True).start()
    with tempfile.TemporaryDirectory(prefix="ordnung-host-") as name:
        folder = Path(name)
        image = _fetch(told["image"], told["ca"], folder / "image.iso")
        with open_carrier(image) as carrier:
            disc = write_as("folder", carrier, folder / "disc").path
        machine = VirtualMachine(image, disc, told["url"], told["user"], told["password"], folder)
        Session(machine, _say, _nobody, _nobody).run()


def _fetch(uri: str, ca: str, place: Path) -> Path:
    context = ssl.create_default_context(cafile=ca) if uri.startswith("https:") else None
    with urllib.request.urlopen(uri, context=context, timeout=60) as answer, place.open("wb") as file:  # noqa: S310
        while piece := answer.read(CHUNK):
            file.write(piece)
    return place


def _say(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def _nobody(question: str) -> str:
    """Nobody answers: it stands there until its server is reset."""
    _say(question)
    threading.Event().wait()
    return ""


def _end_with_standins() -> None:
    sys.stdin.read()
    os.killpg(os.getpgid(0), signal.SIGKILL)


if __name__ == "__main__":
    main()
