"""The OpenAPI document and the generated TypeScript types are what the server really offers.

``python -m tests.api_contract`` compares; with ``--write`` it writes both anew (``make api``).
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
DOCUMENT, TYPES = ROOT / "docs" / "openapi.json", ROOT / "web" / "src" / "api" / "schema.d.ts"


def generate(document: Path, types: Path) -> None:
    """Write the contract and its types. Raises CalledProcessError when a generator fails."""
    environment = {**os.environ, "ORDNUNG_HOME": str(document.parent / "home"), "ORDNUNG_SECRET": "none"}
    command = [sys.executable, "-m", "ordnung.server.manage", "spectacular", "--fail-on-warn"]
    subprocess.run([*command, "--format", "openapi-json", "--file", str(document)], env=environment, check=True)
    subprocess.run(
        ["npx", "openapi-typescript", str(document), "-o", str(types)],
        cwd=ROOT / "web",
        check=True,
        capture_output=True,
    )


def main() -> int:
    if "--write" in sys.argv:
        generate(DOCUMENT, TYPES)
        return 0
    with tempfile.TemporaryDirectory(prefix="ordnung-api-") as scratch:
        document, types = Path(scratch) / "openapi.json", Path(scratch) / "schema.d.ts"
        generate(document, types)
        stale = [p.name for p, q in ((DOCUMENT, document), (TYPES, types)) if p.read_text() != q.read_text()]
    if stale:
        print(f"{' and '.join(stale)} differ from what the server offers: run make api")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
