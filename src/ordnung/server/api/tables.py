"""Tables as files: CSV (RFC 4180, UTF-8), for programs or for a spreadsheet."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Collection, Iterable, Sequence

from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter
from rest_framework.request import Request

from ordnung.server.problems import Problem

SPREADSHEET = "spreadsheet"
FOR = OpenApiParameter(
    "for", str, enum=[SPREADSHEET], required=False,
    description="A spreadsheet takes 1.10 for a number and 3.11 for a day, each in its own way. For one, the file "
    "begins with a byte order mark, and an apostrophe keeps versions, serials and the like as they are.",
)  # fmt: skip
BOM = "\ufeff"
_RISKY = ("=", "+", "-", "@", "\t", "\r")
_MONTHS = (
    "jan|ene|gen|feb|fev|fév|mar|mär|mrt|apr|abr|avr|may|mai|maj|mag|mei|jun|jui|giu|jul|lug|aug|ago|aoû|sep|set|oct|okt|out|"
    "ott|nov|dec|dez|déc|dic"
)
_NUMBER_OR_DAY = re.compile(rf"\d|({_MONTHS})[^\W\d_]*[-. /]?\d{{1,4}}$", re.IGNORECASE)
"""What some spreadsheet takes for a number or a day: whatever begins with a digit, and a month and a number."""


def as_cell(value: object, *, is_text: bool = False) -> str:
    """A cell that no spreadsheet takes for a formula; with ``is_text`` for no number and no day either."""
    text = "" if value is None else str(value)
    return f"'{text}" if text.startswith(_RISKY) or (is_text and _NUMBER_OR_DAY.match(text)) else text


def write_table(
    request: Request, name: str, columns: Sequence[str], texts: Collection[str], rows: Iterable[Iterable[object]]
) -> HttpResponse:
    """A table as a file to be kept; ``texts`` are the columns that hold versions and the like.

    Raises:
        Problem: it is asked for something that there is no form for.
    """
    asked = request.query_params.get("for", "")
    if asked not in ("", SPREADSHEET):
        raise Problem(
            "invalid", f"There is no table for {asked[:40]!r}: leave it out, or say {SPREADSHEET}.", field="for"
        )
    out = io.StringIO(newline="")
    out.write(BOM if asked else "")
    kept = [bool(asked) and column in texts for column in columns]
    writer = csv.writer(out)
    writer.writerow(columns)
    for row in rows:
        writer.writerow([as_cell(value, is_text=is_text) for value, is_text in zip(row, kept, strict=True)])
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(out.getvalue().encode(), content_type="text/csv; charset=utf-8", headers=headers)
