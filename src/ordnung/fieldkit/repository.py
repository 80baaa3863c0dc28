"""``ordnung repository build|check|diff|carry-in|fsck``."""

from __future__ import annotations

import asyncio
import datetime
import uuid
from dataclasses import asdict
from pathlib import Path

import click

from ordnung.core.foresee import foreseen
from ordnung.core.media import MEDIA
from ordnung.core.packing import BY, Packed, Trim, kept, plan_packing
from ordnung.core.trimmed import find_losses
from ordnung.engine.boot_base import load_boot_base
from ordnung.engine.compose import SEAL_DAYS, CatalogFile, Composed, Documents, Heading, compose, issues_of, sums_of
from ordnung.engine.pack import PackedState, fetch_all
from ordnung.fieldkit.inputs import load_house, load_rules
from ordnung.fieldkit.show import as_json, print_json
from ordnung.fieldkit.trust import trusted_root
from ordnung.formats.catalog import parse_catalog
from ordnung.formats.compressed import unpack
from ordnung.formats.text import whole_number
from ordnung.repository import (
    SHAPES,
    Arrived,
    Carrier,
    Fetcher,
    Pace,
    PayloadSource,
    SealBook,
    SealedCarrier,
    carry_in,
    check_carrier,
    draft_targets,
    finish,
    look_at,
    open_carrier,
    write_as,
)
from ordnung.repository.editions import next_edition
from ordnung.repository.sealed import one_medium
from ordnung.store import ContentStore, RepositoryError, look_over

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
_ANY = click.Path(exists=True, path_type=Path)
_STORE = click.option(
    "--store", type=click.Path(path_type=Path), default=Path("var/store"), show_default=True, help="The content store."
)
_ROOT = click.option("--root", type=_FILE, help="The root metadata you trust.")
_TRUST = click.option("--trust", default="", metavar="KEYS", help="The root keys' ids, compared where it was packed.")
_EXPIRED = click.option("--expired", is_flag=True, help="Take it although its seal has expired.")


@click.group()
def repository() -> None:
    """Offline repositories."""


def _trims(_context: object, _option: object, values: tuple[str, ...]) -> tuple[Trim, ...]:
    trims = []
    for value in values:
        by, _, parts = value.partition("=")
        if by not in BY or not parts:
            raise click.BadParameter(f"{value}: write one of {', '.join(BY)}, an equals sign and a value")
        trims.append(Trim(by=by, value=parts))
    return tuple(trims)


def _capacity(_context: object, _option: object, value: str | None) -> int | None:
    if value is None or whole_number(value) is not None:
        return whole_number(value or "")
    known = {name.lower().replace(" ", "-"): size for name, size in MEDIA}
    if value.lower() not in known:
        raise click.BadParameter(f"{value}: bytes, or one of {', '.join(known)}")
    return known[value.lower()]


@repository.command()
@click.option("--readings", type=_FILE, required=True)
@click.option("--catalog", "catalogs", type=_FILE, multiple=True, required=True)
@click.option("--rules", type=_FILE)
@click.option("--server", "names", multiple=True, help="Only these servers.")
@click.option("--leave-out", "trims", multiple=True, callback=_trims, help="A trim, such as kind=drive or model=NAME.")
@click.option("--medium", "capacity", callback=_capacity, help="cd, dvd, 8-gb-stick … or bytes; spread over several.")
@click.option("--from", "places", multiple=True, help="Another place for payloads: an https address or a folder.")
@click.option("--proxy", default="", help="The proxy to the mirrors.")
@click.option("--limit", type=click.IntRange(min=0), default=0, help="Bytes a second at most; 0 is no limit.")
@click.option("--ca", type=_FILE, help="The authority of the mirrors, if it is not a public one.")
@_STORE
@click.option("--keys", type=click.Path(path_type=Path), default=Path("var/keys"), show_default=True)
@click.option(
    "--key-secret",
    envvar="ORDNUNG_KEY_SECRET",
    required=True,
    help="Encrypts the seal's keys; or in the environment.",
)
@click.option("--name", default="repository", show_default=True)
@click.option("--as", "shape", type=click.Choice(list(SHAPES)), default="folder", show_default=True)
@click.option(
    "--boot", type=click.Path(path_type=Path), metavar="FOLDER", help="A boot system: its discs boot by themselves."
)
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True)
@as_json
def build(
    readings: Path, catalogs: tuple[Path, ...], rules: Path | None, names: tuple[str, ...], trims: tuple[Trim, ...],
    capacity: int | None, places: tuple[str, ...], proxy: str, limit: int, ca: Path | None, store: Path, keys: Path,
    key_secret: str, name: str, shape: str, boot: Path | None, output: Path, as_json: bool,
) -> int:  # fmt: skip
    """Pack what the servers of a readings file need and write it out under seal."""
    assessment, listed = load_house(readings, catalogs, rules)
    standings = [s for s in assessment if not names or s.server.name in names]
    later = foreseen(standings, listed, load_rules(rules), None)
    planned = plan_packing([*standings, *later], trims)
    packed = kept(planned)
    if not packed:
        click.echo("These servers need nothing: all are level, held or without a route.", err=True)
        return 1
    for loss in find_losses(standings, planned):
        click.echo(f"{loss.name} {loss.version}: {loss.what} ({loss.why}): {', '.join(loss.servers)}", err=True)
    issues = issues_of(standings)
    files = [f for f in map(_catalog_file, catalogs) if (f.maker, f.catalog, f.issue) in issues]
    documents = Documents(catalogs=files, rules=rules.read_bytes() if rules else b"")
    content = ContentStore(store)
    owner = f"build-{uuid.uuid4().hex[:12]}"
    base = load_boot_base(boot) if boot else None
    content.hold(owner, sums_of(packed, documents) | (base.checksums() if base else set()))
    fetcher = _fetcher(content, places, proxy, limit, ca)
    good, refused = asyncio.run(_fetch(packed, fetcher, proxy))
    if refused:
        for line in refused:
            click.echo(line.message, err=True)
        click.echo(f"{len(refused)} of {len(packed)} payloads were refused; nothing was sealed.", err=True)
        return 1
    now = datetime.datetime.now(datetime.UTC).replace(microsecond=0)
    series = uuid.uuid5(uuid.NAMESPACE_URL, f"ordnung:{name}").hex
    heading = Heading(
        name=name, series=series, edition=next_edition(keys, series),
        made_at=now, made_by="ordnung repository build", revision=0, servers=tuple(s.server.name for s in standings),
        trims=trims,
    )  # fmt: skip
    composed = compose([line for line, _ in good], documents, heading, content, capacity, base)
    content.hold(owner, {c.sha256 for c in composed.contents})
    book = SealBook(keys, key_secret.encode(), now)
    expires = now + datetime.timedelta(days=SEAL_DAYS)
    metadata = finish(draft_targets(composed.contents, book, heading.edition, expires), book)
    carrier = SealedCarrier(name, metadata, {c.path: c for c in composed.contents})
    written = [write_as(shape, part, place) for part, place in _media(carrier, composed, output)]
    root_key = ",".join(sorted(h.keyid for h in book.holders("root")))
    result = {
        "payloads": len(good), "expires": expires.isoformat(), "root_key": root_key, "edition": heading.edition,
        "written": [{"path": str(w.path), "bytes": w.bytes, "sha256": w.sha256} for w in written],
    }  # fmt: skip
    if as_json:
        print_json(result)
        return 0
    for one in written:
        click.echo(f"{one.path}: {one.bytes} bytes" + (f", SHA-256 {one.sha256}" if one.sha256 else ""))
    click.echo(f"{len(good)} payloads, sealed until {expires:%d %b %Y} by root key {root_key}")
    return 0


def _catalog_file(path: Path) -> CatalogFile:
    raw = unpack(path.read_bytes(), path.name)
    issue = parse_catalog(raw, path.name)
    return CatalogFile(maker=issue.maker, catalog=issue.catalog, issue=issue.issue, raw=raw)


def _fetcher(store: ContentStore, places: tuple[str, ...], proxy: str, limit: int, ca: Path | None) -> Fetcher:
    folders = [Path(place).resolve() for place in places if not place.startswith("https:")]
    bases = [
        place.rstrip("/") + "/" if place.startswith("https:") else f"{Path(place).resolve().as_uri()}/"
        for place in places
    ]
    found = [PayloadSource(base=base, proxy=proxy if base.startswith("https:") else "") for base in bases]
    return Fetcher(store, str(ca) if ca else None, folders, places=found, pace=Pace(limit))


async def _fetch(
    packed: tuple[Packed, ...], fetcher: Fetcher, proxy: str
) -> tuple[list[tuple[Packed, Path]], list[PackedState]]:
    refused: list[PackedState] = []

    async def report(state: PackedState) -> None:
        if state.state == "refused":
            refused.append(state)

    async with fetcher:
        proxies = {line.issue.base: proxy for line in packed} if proxy else {}
        return await fetch_all(packed, fetcher, report, None, proxies), refused


def _media(carrier: SealedCarrier, composed: Composed, output: Path) -> list[tuple[Carrier, Path]]:
    count = composed.packing.media
    if count == 1:
        return [(carrier, output)]
    parts: list[tuple[Carrier, Path]] = []
    for medium in range(1, count + 1):
        elsewhere = {p.sha256 for p in composed.packing.payloads if p.medium != medium}
        stem, dot, end = output.name.partition(".")
        parts.append((one_medium(carrier, elsewhere), output.with_name(f"{stem}-{medium}-of-{count}{dot}{end}")))
    return parts


@repository.command()
@click.argument("place", type=_ANY)
@_ROOT
@_EXPIRED
@as_json
def check(place: Path, root: Path | None, expired: bool, as_json: bool) -> int:
    """Verify a repository (folder, archive or disc image) end to end: signatures, lengths, checksums, expiry."""
    with open_carrier(place) as carrier:
        checked = check_carrier(carrier, root.read_bytes() if root else None, allow_expired=expired)
    for name in checked.unsealed:
        click.echo(f"{name} lies there but is not part of the seal", err=True)
    status = 1 if checked.unsealed else 0
    if as_json:
        print_json({**asdict(checked), "expires": checked.expires.isoformat()})
        return status
    click.echo(f"{checked.files} files, {checked.bytes} bytes, whole; sealed until {checked.expires:%d %b %Y}")
    if root is None:
        click.echo(f"The seal's root key is {checked.root_key}: compare it with the one shown where it was packed.")
    return status


@repository.command()
@click.argument("one", type=_ANY)
@click.argument("other", type=_ANY)
@as_json
def diff(one: Path, other: Path, as_json: bool) -> int:
    """What OTHER has and ONE has not, and the other way round. Both seals are verified first; payloads are not read."""
    left, right = _look(one), _look(other)
    contents = [{(p.product, p.version): p for p in found.packing.payloads} for found in (left, right)]
    rows = [
        {"change": change, "name": p.name, "version": p.version, "size": p.size}
        for change, have, lack in (("added", contents[1], contents[0]), ("dropped", contents[0], contents[1]))
        for key, p in sorted(have.items())
        if key not in lack or (change == "added" and lack[key].sha256 != p.sha256)
    ]
    if as_json:
        print_json({"changes": rows})
    else:
        for row in rows:
            click.echo(f"{row['change']:8} {row['name']} {row['version']} {row['size']} bytes")
        click.echo(f"{len(rows)} changes from edition {left.packing.edition} to {right.packing.edition}")
    return 1 if rows else 0


def _look(place: Path) -> Arrived:
    with open_carrier(place) as carrier:
        return look_at(carrier, None, allow_expired=True)


@repository.command(name="carry-in")
@click.argument("place", type=_ANY)
@_ROOT
@_TRUST
@_EXPIRED
@_STORE
@click.option("-o", "--documents", type=click.Path(path_type=Path), help="Where catalogs and rules are put.")
@as_json
def carry_in_command(
    place: Path, root: Path | None, trust: str, expired: bool, store: Path, documents: Path | None, as_json: bool
) -> int:
    """Verify a repository whole, then store what the content store lacks.

    Who sealed it must be trusted: by a root file from where it was packed, or by key ids that were compared.
    """
    with open_carrier(place) as carrier:
        trusted = root.read_bytes() if root else trusted_root(carrier, trust)
        arrived = look_at(carrier, trusted, allow_expired=expired)
        carried = carry_in(carrier, arrived, ContentStore(store), f"series-{arrived.packing.series}")
    for name, raw in carried.documents.items() if documents else ():
        path = documents / name  # type: ignore[operator]
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(raw)
    summary = {
        "name": arrived.packing.name, "edition": arrived.packing.edition, "new_files": carried.new_files,
        "new_bytes": carried.new_bytes, "known_files": carried.known_files, "waiting": list(carried.waiting),
        "root_key": arrived.seal.root_key,
    }  # fmt: skip
    if as_json:
        print_json(summary)
        return 0
    click.echo(f"{arrived.packing.name}, edition {arrived.packing.edition}: {carried.new_files} files new")
    if carried.waiting:
        click.echo(f"{len(carried.waiting)} files lie on media still to come")
    return 0


@repository.command()
@_STORE
@click.option("--repair", is_flag=True, help="Move what is altered out of use; throw half-collected files away.")
@as_json
def fsck(store: Path, repair: bool, as_json: bool) -> int:
    """Hash every file of the content store and compare it with its name; say what is held and missing."""
    if not (store / "content").is_dir():
        raise RepositoryError("missing", str(store), "there is no content store")
    report = look_over(ContentStore(store), repair=repair)
    if as_json:
        print_json(asdict(report))
        return 0 if report.is_sound else 1
    click.echo(f"{report.files} files, {report.bytes} bytes; {len(report.loose)} that nobody holds")
    for what, names in (("altered", report.altered), ("strange", report.strange), ("unreadable", report.broken)):
        for name in names:
            click.echo(f"{what}: {name}", err=True)
    for owner, sha256 in report.missing:
        click.echo(f"missing: {sha256}, held by {owner}", err=True)
    for line in report.repaired:
        click.echo(line)
    return 0 if report.is_sound else 1
