"""Words, letters and orders that the interface shares with the core: told once, here.

``docs/vocabulary.json`` is what the page is built with; ``make api`` writes it, and the checks compare it.
"""

from __future__ import annotations

from typing import Any

from ordnung.controllers.errors import FOR_SEVERAL
from ordnung.core.drift import OFF_BASELINE
from ordnung.server.assessment.present import FIXED, KIND_NAMES, LETTERS, SAYS, WEIGHT


def vocabulary() -> dict[str, Any]:
    """Verdicts from what matters least to what matters most, kinds of components, causes of failed readings."""
    return {
        "verdicts": [{"word": v.word, "says": SAYS[v], "off": v in OFF_BASELINE} for v in WEIGHT],
        "kinds": [
            {"kind": kind, "letter": LETTERS[kind], "name": name, "fixed": kind in FIXED}
            for kind, name in KIND_NAMES.items()
        ],
        "causes": FOR_SEVERAL,
    }
