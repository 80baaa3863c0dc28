"""Payloads from the store, for the engine: found by checksum alone, read anew each time, and never what was altered."""

from __future__ import annotations

import dataclasses

import pytest

from ordnung.core.sheet import NamedPayload
from ordnung.engine.payloads import StoredPayloads
from ordnung.store import Addresses, ContentStore, RepositoryError


@pytest.fixture
def stored(tmp_path, mirror_folder):
    """A package in a store, by name."""
    store = ContentStore(tmp_path / "store")
    raw = next(mirror_folder.rglob("raid-7.18.0.pldm")).read_bytes()
    path = store.put(raw, "raid-7.18.0.pldm")
    named = NamedPayload(sha256=path.name, size=len(raw), maker="Tessaly", catalog="c", issue="i", path="raid.pldm")
    return store, named


async def test_the_very_bytes_with_what_they_say_of_themselves(stored):
    store, named = stored
    ready = await StoredPayloads(store, None).find(named)
    assert (ready.path, ready.sha256) == (store.path(named.sha256), named.sha256) and ready.package is not None
    opaque = await StoredPayloads(store, None).find(dataclasses.replace(named, form="opaque"))
    assert opaque.package is None


async def test_what_is_missing_or_altered_is_named(stored):
    store, named = stored
    payloads = StoredPayloads(store, None)
    gone = dataclasses.replace(named, sha256="0" * 64, path="")
    for look in (payloads.look, payloads._find):
        with pytest.raises(RepositoryError, match=r"000000000000….*not packed"):
            look(gone)
    with pytest.raises(RepositoryError, match="altered"):
        await payloads.find(dataclasses.replace(named, size=named.size + 1))
    place = store.path(named.sha256)
    place.chmod(0o644)
    place.write_bytes(place.read_bytes()[:-1] + b"!")
    with pytest.raises(RepositoryError, match=r"raid\.pldm.*altered"):
        await payloads.find(named)


def test_where_a_controller_fetches_it(stored):
    store, named = stored
    assert StoredPayloads(store, None).protocols == ()
    served = Addresses(b"secret")
    served.bases = {"HTTPS": "https://127.0.0.1:1"}
    payloads = StoredPayloads(store, served)
    assert payloads.protocols == ("HTTPS",)
    assert payloads.uri("1", "s", named.sha256, "HTTPS").startswith("https://127.0.0.1:1/")
