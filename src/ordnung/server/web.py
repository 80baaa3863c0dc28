"""``python -m ordnung.server.web``: the web server process."""

from __future__ import annotations

import sys

import click
import uvicorn

from ordnung.server.work.hub import HUB


class Server(uvicorn.Server):
    """Ends open event streams first: uvicorn would wait for them for ever."""

    def handle_exit(self, sig, frame) -> None:
        HUB.stop()
        super().handle_exit(sig, frame)


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", type=int, default=8000, show_default=True)
def main(host: str, port: int) -> None:
    """Serve the interface and the API."""
    config = uvicorn.Config(
        "ordnung.server.asgi:application", host=host, port=port, lifespan="on", log_level="warning",
        timeout_graceful_shutdown=3, access_log=False, ws="none",
    )  # fmt: skip
    Server(config).run()
    sys.exit(0)


if __name__ == "__main__":
    main()
