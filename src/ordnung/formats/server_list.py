"""Lists of servers to be added, as CSV (RFC 4180): one row a server, with a report for every row."""

from __future__ import annotations

import csv
import dataclasses
import io
import re
from dataclasses import dataclass, field

from ordnung.formats.addresses import Address, parse_addresses
from ordnung.formats.errors import FormatError
from ordnung.formats.text import whole_number

COLUMNS = ("address", "name", "room", "rack", "unit", "height", "group", "role", "tags")
NEEDED = ("address",)
MOST_ROWS, MOST_BYTES = 10_000, 4 * 1024 * 1024
NAME = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")
_ALSO = {"u": "unit", "server": "name", "url": "address", "units": "height"}
"""Other spellings of a column that people use."""
EXPORTED = frozenset(
    {
        "model", "serial", "read_at", "failure", "slot", "kind", "component", "version", "waiting", "target", "verdict",
        "releases_behind", "fixes_missing", "resets_to_pay", "origin",
    }
)  # fmt: skip
"""What our own exported list tells besides, a row a component: it can be taken as a list of servers again."""
_DELIMITERS = ",;\t"


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One row: where a server is and what it is for, or what is wrong with the row."""

    line: int
    address: Address | None = None
    name: str = ""
    room: str = ""
    rack: str = ""
    unit: int = 0
    height: int = 1
    group: str = ""
    role: str = ""
    tags: tuple[str, ...] = ()
    faults: tuple[str, ...] = field(default=())


def parse_server_list(raw: bytes, source: str = "list") -> tuple[Row, ...]:
    """The rows of a list; a row that is wrong carries its faults and disturbs no other.

    Raises:
        FormatError: not UTF-8, no usable heading, or too large: then nothing of it can be used.
    """
    if len(raw) > MOST_BYTES:
        raise FormatError(source, "", f"larger than {MOST_BYTES // 2**20} MiB")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(source, f"byte {error.start}", "not UTF-8") from None
    lines = _lines(text, source)
    if not lines:
        raise FormatError(source, "line 1", "the file is empty")
    columns = _columns(*lines[0], source)
    if len(lines) > MOST_ROWS + 1 and not EXPORTED.intersection(columns):
        raise FormatError(source, "", f"more than {MOST_ROWS} rows")
    rows = [_row(line, dict(zip(columns, cells, strict=False)), len(cells) - len(columns)) for line, cells in lines[1:]]
    if EXPORTED.intersection(columns):
        rows = list({(row.address, row.name): row for row in reversed(rows)}.values())[::-1]
    return tuple(_mark_doubles(rows))


def _lines(text: str, source: str) -> list[tuple[int, list[str]]]:
    """The rows that say anything, each with the line on which it begins; trailing empty cells are cut off."""
    delimiter, skipped = _delimiter(text)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    found, before = [], 0
    try:
        for cells in reader:
            begins, before = before + 1, reader.line_num
            while cells and not cells[-1].strip():
                cells.pop()
            if cells and begins > skipped:
                found.append((begins, cells))
    except csv.Error as error:
        raise FormatError(source, f"line {reader.line_num}", str(error)) from None
    return found


def _delimiter(text: str) -> tuple[str, int]:
    """What stands between cells, and how many lines only say so: a spreadsheet's ``sep=;``, else by the heading."""
    lines = text.splitlines()
    first = next((n for n, line in enumerate(lines) if line.strip()), 0)
    heading = lines[first] if lines else ""
    if heading.lower().startswith("sep=") and len(heading.strip()) in (4, 5) and heading[4:5]:
        return heading[4], first + 1
    return max(_DELIMITERS, key=heading.count), 0


def _columns(line: int, heading: list[str], source: str) -> list[str]:
    place = f"line {line}"
    names = [_ALSO.get(cell.strip().lower(), cell.strip().lower()) for cell in heading]
    unknown = [name for name in names if name not in COLUMNS and name not in EXPORTED]
    if unknown:
        raise FormatError(source, place, f"no such column: {unknown[0]}. Columns are {', '.join(COLUMNS)}")
    missing = [name for name in NEEDED if name not in names]
    if missing:
        raise FormatError(source, place, f"the column {missing[0]} is missing")
    doubled = next((name for name in names if names.count(name) > 1), None)
    if doubled:
        raise FormatError(source, place, f"the column {doubled} stands twice")
    return names


def _row(line: int, cells: dict[str, str], extra: int) -> Row:
    values = {name: value.strip().removeprefix("'") for name, value in cells.items()}
    faults: list[str] = []
    if extra > 0:
        faults.append(f"{extra} cells more than the heading has")
    address = _address(values.get("address", ""), faults)
    name = values.get("name", "")
    if name and not NAME.match(name):
        faults.append(f"{name!r} is no name: letters, digits, dot, dash and underscore only")
    unit, height = _number(values, "unit", 0, 100, 0, faults), _number(values, "height", 1, 20, 1, faults)
    texts = {key: values.get(key, "")[:100] for key in ("room", "group", "role")}
    tags = tuple(tag for tag in re.split(r"[\s|]+", values.get("tags", "")) if tag)
    return Row(
        line=line, address=address, name=name, rack=values.get("rack", "")[:20], unit=unit, height=height, tags=tags,
        faults=tuple(faults), **texts,
    )  # fmt: skip


def _address(text: str, faults: list[str]) -> Address | None:
    if not text:
        faults.append("the address is missing")
        return None
    try:
        found = parse_addresses(text, "address")
    except FormatError as error:
        faults.append(f"{text}: {error.what}")
        return None
    if len(found) != 1:
        faults.append(f"{text}: one address a row")
        return None
    return found[0]


def _number(values: dict[str, str], key: str, least: int, most: int, default: int, faults: list[str]) -> int:
    text = values.get(key, "")
    if not text:
        return default
    number = whole_number(text)
    if number is None or not least <= number <= most:
        faults.append(f"{key} {text!r} is not a number from {least} to {most}")
        return default
    return number


def _mark_doubles(rows: list[Row]) -> list[Row]:
    """An address or a name that stands on two rows is a fault of the later one."""
    seen: dict[object, int] = {}
    found = []
    for row in rows:
        faults = list(row.faults)
        for what, value in (("address", row.address), ("name", row.name or None)):
            if value is not None:
                first = seen.setdefault((what, value), row.line)
                if first != row.line:
                    faults.append(f"the same {what} as on line {first}")
        found.append(dataclasses.replace(row, faults=tuple(faults)))
    return found
