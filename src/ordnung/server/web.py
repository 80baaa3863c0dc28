"""``python -m ordnung.server.web``: the web server process."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from types import FrameType

import click
import uvicorn
from uvicorn.supervisors import ChangeReload

from ordnung.server.work.hub import HUB

SWITCH_S = 0.0005
"""How long a thread may keep the others waiting that have something to do: an answer waits for its turn several times,
behind whatever is worked out for all pages.
"""


class Server(uvicorn.Server):
    """Ends open event streams first: uvicorn would wait for them for ever."""

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        HUB.stop()
        super().handle_exit(sig, frame)


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", type=int, default=8000, show_default=True)
@click.option("--tls", type=click.Path(exists=True, path_type=Path), help="Key and certificate (PEM) to serve with.")
@click.option("--reload", is_flag=True, envvar="ORDNUNG_RELOAD", help="Begin anew when a file of ours changes.")
def main(host: str, port: int, tls: Path | None, reload: bool) -> None:
    """Serve the interface and the API."""
    config = uvicorn.Config(
        "ordnung.server.asgi:application", host=host, port=port, lifespan="on", log_level="warning",
        timeout_graceful_shutdown=3, access_log=False, ws="none", proxy_headers=False,
        server_header=False, reload=reload, reload_dirs=[str(Path(__file__).parents[1])],
        ssl_certfile=str(tls) if tls else None, ssl_keyfile=str(tls) if tls else None,
    )  # fmt: skip
    os.umask(0o077)
    sys.setswitchinterval(SWITCH_S)
    if reload:
        ChangeReload(config, target=Server(config).run, sockets=[config.bind_socket()]).run()
    else:
        Server(config).run()
    sys.exit(0)


if __name__ == "__main__":
    main()
