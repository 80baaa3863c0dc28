"""The boot system that goes into repositories: what was built, checked, and the kit that lies on it."""

from __future__ import annotations

import io
import subprocess
import sys
import tarfile

import pytest

from ordnung.engine.boot_base import BootBase, find_boot_base, load_boot_base, pack_kit
from ordnung.repository.boot import is_bootable
from ordnung.store import ContentStore, RepositoryError
from tests.boot_base import make_base, write_list


@pytest.fixture
def folder(tmp_path):
    return make_base(tmp_path / "boot-base")


def test_it_goes_into_a_repository_whole(folder, tmp_path):
    base, store = load_boot_base(folder), ContentStore(tmp_path / "store")
    contents = base.contents(store)
    assert is_bootable({c.path for c in contents})
    assert {c.sha256 for c in contents} == base.checksums() and base.kernel == "6.1.0"
    assert base.size >= sum(c.size for c in contents if not c.path.endswith("base.json"))
    assert all(store.path(c.sha256).read_bytes() == c.source.read_bytes() for c in contents)


@pytest.mark.parametrize(
    ("change", "sentence"),
    [
        ({"format": "other/1"}, "another kind of boot system"),
        ({"files": {}}, "another kind of boot system"),
        ({"files": {"vmlinuz": {}}}, "no list of a boot system"),
        ({"files": [1]}, "no list of a boot system"),
    ],
)
def test_a_list_that_is_none_is_named_with_what_to_do(folder, change, sentence):
    write_list(folder, **change)
    with pytest.raises(RepositoryError, match=sentence) as refused:
        load_boot_base(folder)
    assert "make boot-base" in str(refused.value) and find_boot_base(folder) is None


def test_what_is_missing_or_altered_is_not_packed(folder, tmp_path):
    (folder / "initrd").write_bytes(b"other")
    with pytest.raises(RepositoryError, match="altered"):
        load_boot_base(folder).contents(ContentStore(tmp_path / "store"))
    (folder / "initrd").unlink()
    with pytest.raises(RepositoryError, match="not whole"):
        load_boot_base(folder).contents(ContentStore(tmp_path / "store"))
    (folder / "base.json").write_text("{")
    with pytest.raises(RepositoryError, match="can't be read"):
        load_boot_base(folder)
    assert find_boot_base(folder / "nowhere") is None


@pytest.mark.exhaustive
def test_the_kit_is_without_the_site_and_runs_without_what_the_disc_lacks(tmp_path):
    raw = pack_kit()
    pack_kit.cache_clear()
    assert pack_kit() == raw, "the same program gives the same bytes"
    with tarfile.open(fileobj=io.BytesIO(raw)) as archive:
        names = {name.split("/")[1] for name in archive.getnames() if name.count("/") > 1}
        archive.extractall(tmp_path)
    assert names - {"__pycache__"} == {"controllers", "core", "engine", "fieldkit", "formats", "repository", "store"}
    (tmp_path / "numpy.py").write_text("raise SystemExit('NumPy is not on the disc')")
    (tmp_path / "django.py").write_text("raise SystemExit('Django is not on the disc')")
    told = "import ordnung.fieldkit.disc.session, ordnung.fieldkit.disc.machine, ordnung.fieldkit.level as l; print(l.__file__)"
    told += "\nimport ordnung.fieldkit.host_report"
    done = subprocess.run([sys.executable, "-c", told], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and str(tmp_path) in done.stdout, done.stderr


def test_a_base_is_a_value():
    base = BootBase(folder=None, kernel="6", sums={}, sizes={"a": 3})
    assert base.size == 3 + len(pack_kit())
