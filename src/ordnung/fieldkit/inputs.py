"""Reading the files that several commands take."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ordnung.core.assessment import Standing, assess_fleet
from ordnung.core.catalog import Issue
from ordnung.core.matching import Catalogs
from ordnung.core.rules import FIXED_RULES, Rule
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.compressed import unpack
from ordnung.formats.readings import parse_readings
from ordnung.formats.rules import parse_rules


def load_house(readings: Path, catalogs: Sequence[Path], rules: Path | None) -> tuple[tuple[Standing, ...], Catalogs]:
    """Judge the servers of a readings file. Raises FormatError or OSError."""
    servers = parse_readings(readings.read_bytes(), readings.name)
    found = load_catalogs(catalogs)
    return assess_fleet(servers, found, load_rules(rules)), found


def load_rules(rules: Path | None) -> tuple[Rule, ...]:
    """The house rules of a file, or those every house begins with. Raises FormatError or OSError."""
    return parse_rules(rules.read_bytes(), rules.name) if rules else FIXED_RULES


def load_catalogs(paths: Sequence[Path]) -> Catalogs:
    """All issues named. Raises FormatError or OSError."""
    return Catalogs(tuple(read_issue(path) for path in paths))


def read_issue(path: Path) -> Issue:
    """One issue from a file, plain, gzipped or zstd. Raises FormatError or OSError."""
    return parse_catalog(unpack(path.read_bytes(), path.name), path.name)
