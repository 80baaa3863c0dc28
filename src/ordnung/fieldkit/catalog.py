"""``ordnung catalog check``."""

from __future__ import annotations

from pathlib import Path

import click

from ordnung.core.catalog import Issue
from ordnung.fieldkit.show import as_json, print_json
from ordnung.formats.catalog import parse_catalog


@click.group()
def catalog() -> None:
    """Catalogs: makers' lists of releases."""


@catalog.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@as_json
def check(file: Path, as_json: bool) -> int:
    """Read FILE whole; say what it holds, or the first faults with their places."""
    issue = parse_catalog(file.read_bytes(), file.name)
    warnings = find_disorder(issue)
    if as_json:
        products = {p.id: list(p.listed) for p in issue.products}
        print_json({"catalog": issue.catalog, "issue": issue.issue, "products": products, "warnings": warnings})
    else:
        releases = sum(len(p.releases) for p in issue.products)
        click.echo(f"{issue.maker} {issue.catalog} {issue.issue}: {len(issue.products)} products, {releases} releases")
    for warning in warnings:
        click.echo(warning, err=True)
    return 0


def find_disorder(issue: Issue) -> list[str]:
    """Products whose list disagrees with their scheme's order, and versions that don't parse (V10, V12)."""
    found = []
    for product in issue.products:
        parsed = [v for v in product.listed if product.key(v) is not None]
        if parsed != [r.version for r in product.ordered]:
            found.append(f"{product.id}: the releases are not listed oldest first by the {product.scheme} scheme")
        found += [
            f"{product.id}: {v} does not parse as {product.scheme}" for v in product.listed if product.key(v) is None
        ]
    return found
