"""The OpenAPI document in docs is what the server really offers; the interface's types come from it.

``python -m tests.api_contract`` compares; with ``--write`` it writes it anew (``make api``).
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

DOCUMENT = Path(__file__).parents[1] / "docs" / "openapi.json"


def generate(document: Path) -> None:
    """Write the contract. Raises CalledProcessError when the generator finds fault with a view."""
    environment = {**os.environ, "ORDNUNG_HOME": str(document.parent / "home"), "ORDNUNG_SECRET": "none"}
    command = [sys.executable, "-m", "ordnung.server.manage", "spectacular", "--fail-on-warn"]
    subprocess.run([*command, "--format", "openapi-json", "--file", str(document)], env=environment, check=True)


def main() -> int:
    with tempfile.TemporaryDirectory(prefix="ordnung-api-") as scratch:
        document = Path(scratch) / "openapi.json"
        generate(document)
        if "--write" in sys.argv:
            DOCUMENT.write_text(document.read_text())
        elif DOCUMENT.read_text() != document.read_text():
            print("docs/openapi.json differs from what the server offers: run make api")
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
