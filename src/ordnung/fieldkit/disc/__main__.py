"""The field kit on its disc, on the screen and on the serial console at once: ``python -m ordnung.fieldkit.disc``."""

from __future__ import annotations

import sys
from pathlib import Path

CONSOLES = (Path("/dev/tty1"), Path("/dev/ttyS0"))
INNER = "--inner"

if __name__ == "__main__":
    # Each half loads its own: seconds on a slow server.
    if INNER in sys.argv:
        from ordnung.fieldkit.disc.machine import DiscMachine
        from ordnung.fieldkit.disc.session import Session
        from ordnung.formats.logs import configure_logs

        configure_logs(for_people=True)
        sys.exit(Session(DiscMachine()).run())
    from ordnung.fieldkit.disc.consoles import share

    sys.exit(share([sys.executable, "-m", "ordnung.fieldkit.disc", INNER], CONSOLES))
