"""``ordnung seal key|sign``: keys that never see the network, and signatures made with them."""

from __future__ import annotations

from pathlib import Path

import click
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from securesystemslib.signer import CryptoSigner
from tuf.api.metadata import Metadata, Root, Targets
from tuf.api.serialization import DeserializationError

from ordnung.repository import sign_offline
from ordnung.repository.keys import load_private_key, public_hex, spell_private_key
from ordnung.store import RepositoryError
from ordnung.store.copying import write_durably

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
_SECRET = click.option(
    "--secret",
    envvar="ORDNUNG_KEY_SECRET",
    prompt=True,
    hide_input=True,
    help="Encrypts the key.",
)


@click.group()
def seal() -> None:
    """Keys and signatures of seals, for a machine without network."""


@seal.command()
@_SECRET
@click.option("-o", "--output", type=click.Path(path_type=Path, exists=False), required=True)
def key(secret: str, output: Path) -> int:
    """Make a key; its public half is printed, to be entered where the root is changed."""
    if output.exists():
        raise click.UsageError(f"{output} is there already; it is left alone")
    signer = CryptoSigner(Ed25519PrivateKey.generate())
    write_durably(output, spell_private_key(signer, secret.encode()), 0o600)
    click.echo(public_hex(signer.public_key))
    return 0


@seal.command()
@click.argument("file", type=_FILE)
@click.option("--key", "key_file", type=_FILE, required=True)
@_SECRET
@click.option("-o", "--output", type=click.Path(path_type=Path), help="FILE itself without it.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def sign(file: Path, key_file: Path, secret: str, output: Path | None, yes: bool) -> int:
    """Say what FILE (root or targets metadata) would make true, and add a signature."""
    raw = file.read_bytes()
    click.echo(tell_signing(raw, file.name))
    if not yes:
        click.confirm("Sign it?", abort=True)
    signer = CryptoSigner(load_private_key(key_file, secret.encode()))
    write_durably(output or file, sign_offline(raw, signer))
    click.echo(f"Signed with key {signer.public_key.keyid}")
    return 0


def tell_signing(raw: bytes, name: str) -> str:
    """In words, what a signature would vouch for. Raises RepositoryError."""
    try:
        signed = Metadata.from_bytes(raw).signed
    except (DeserializationError, ValueError):
        raise RepositoryError("broken", name, "this is no metadata to be signed") from None
    head = f"{name}: {signed.type} metadata, version {signed.version}, good until {signed.expires:%d %b %Y}"
    if isinstance(signed, Root):
        parts = [
            f"  {role}: {signed.roles[role].threshold} of {', '.join(k[:12] for k in signed.roles[role].keyids)}"
            for role in ("root", "targets", "snapshot", "timestamp")
        ]
        return "\n".join([head, *parts])
    if isinstance(signed, Targets):
        size = sum(info.length for info in signed.targets.values())
        return f"{head}\n  {len(signed.targets)} files, {size} bytes"
    return head
