"""``python -m tests.rights_page [--write]``: the page of who may do what, made from the table of commands."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from pathlib import Path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
PAGE = Path(__file__).parents[1] / "docs" / "rights.md"
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
HEAD = """# Who may do what

Made by `make api` from `src/ordnung/server/rights/commands.py`, which is what the server goes by; a test holds the two
together. Five rights, given to each person by name; nobody has one that was not given, and what is not listed here is
refused. *Everyone*: whoever is signed in. *Open*: nobody need be. Commands that stand in the audit trail are marked.

"""


def patterns() -> Iterator[tuple[str, str]]:
    """Every address of the API with every method its view answers."""
    from ordnung.server.urls import urlpatterns

    for pattern in urlpatterns:
        route = str(pattern.pattern)
        if not route.startswith("api/v1/"):
            continue
        view = getattr(pattern.callback, "view_class", getattr(pattern.callback, "cls", None))
        for method in METHODS:
            if (view is None and method == "GET") or (view is not None and hasattr(view, method.lower())):
                yield route, method


def page() -> str:
    """The page as it should be."""
    from ordnung.server.rights.commands import BASE, find_command
    from ordnung.server.rights.rights import WORDS, Right

    lines = [HEAD, "| right | allows to |\n|---|---|\n"]
    lines += [f"| {right} | {WORDS[right]} |\n" for right in Right]
    heads = [*(str(right) for right in Right), "everyone", "open"]
    lines += [
        f"\n| address | method | command | {' | '.join(heads)} | on the trail |\n|{'---|' * (len(heads) + 4)}\n",
    ]
    for route, method in patterns():
        command = find_command(route, method)
        assert command is not None, f"{method} {route} has no command"
        takes = "open" if command.open else "everyone" if command.right is None else str(command.right)
        marks = " | ".join("•" if takes == head else "" for head in heads)
        shown = route.removeprefix(BASE).replace("|", "\\|")
        lines.append(f"| `{shown}` | {method} | {command.name} | {marks} | {'•' if command.recorded else ''} |\n")
    return "".join(lines)


def main() -> None:
    import django

    django.setup()
    if "--write" in sys.argv:
        PAGE.write_text(page())
    elif PAGE.read_text() != page():
        sys.exit("docs/rights.md is not what the table of commands says: make api")


if __name__ == "__main__":
    main()
