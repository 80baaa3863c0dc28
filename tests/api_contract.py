"""The OpenAPI document and the vocabulary in docs are what the server really offers; the interface is built with both.

``python -m tests.api_contract`` compares; with ``--write`` it writes it anew (``make api``).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

DOCS = Path(__file__).parents[1] / "docs"


def generate(document: Path) -> None:
    """Write the contract. Raises CalledProcessError when the generator finds fault with a view."""
    environment = {**os.environ, "ORDNUNG_HOME": str(document.parent / "home"), "ORDNUNG_SECRET": "none"}
    command = [sys.executable, "-m", "ordnung.server.manage", "spectacular", "--fail-on-warn"]
    subprocess.run([*command, "--format", "openapi-json", "--file", str(document)], env=environment, check=True)


def vocabulary() -> str:
    """The words that the interface shares with the core."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
    import django

    django.setup()
    from ordnung.server.vocabulary import vocabulary

    return json.dumps(vocabulary(), indent=2, ensure_ascii=False) + "\n"


def main() -> int:
    with tempfile.TemporaryDirectory(prefix="ordnung-api-") as scratch:
        document = Path(scratch) / "openapi.json"
        generate(document)
        os.environ["ORDNUNG_HOME"] = scratch
        made = {"openapi.json": document.read_text(), "vocabulary.json": vocabulary()}
    for name, text in made.items():
        if "--write" in sys.argv:
            (DOCS / name).write_text(text)
        elif (DOCS / name).read_text() != text:
            print(f"docs/{name} differs from what the server offers: run make api")
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
