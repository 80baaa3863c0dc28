"""Build the base of discs that boot by themselves: a small Linux from Debian's packages, with Python and libraries.

    python boot/build.py var/boot-base

Run once and kept; what comes out depends on the versions of the packages alone, which ``base.json`` names.
Ends with status 1 and one sentence when a package can't be had.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

import zstandard

HERE = Path(__file__).parent
PYTHON = "3.11"
LIBRARIES = "usr/lib/ordnung"
"""Where in the system the packages of requirements-disc.lock lie."""
UNWANTED = (
    "boot", "etc", "usr/lib/grub", "usr/lib/shim", "usr/sbin", "usr/share",
    "usr/lib/x86_64-linux-gnu/audit", "usr/lib/x86_64-linux-gnu/gconv",
    f"usr/lib/python{PYTHON}/lib2to3", f"usr/lib/python{PYTHON}/pydoc_data", f"usr/lib/python{PYTHON}/sqlite3",
)  # fmt: skip
GRUB_MODULES = (
    "biosdisk", "iso9660", "part_msdos", "part_gpt", "search", "search_fs_file", "normal", "configfile", "linux",
    "echo", "serial", "terminal", "test", "ls", "sleep", "reboot", "halt", "minicmd", "fat", "all_video", "regexp",
)  # fmt: skip


def run(*command: str | Path, **more: object) -> str:
    """What a command prints. Raises CalledProcessError."""
    result = subprocess.run([str(word) for word in command], check=True, stdout=subprocess.PIPE, text=True, **more)  # type: ignore[call-overload]
    return str(result.stdout)


def lines(name: str) -> list[str]:
    """The lines of a list beside this file, without remarks."""
    return [line for line in (HERE / name).read_text().splitlines() if line and not line.startswith("#")]


def digest(path: Path) -> str:
    """Its SHA-256."""
    return hashlib.sha256(path.read_bytes()).hexdigest()


def fetch_packages(cache: Path) -> list[dict[str, str]]:
    """Bring all packages into ``cache``; returns their names, versions and checksums."""
    cache.mkdir(parents=True, exist_ok=True)
    kernel = re.search(r"Depends: (linux-image-\S+)", run("apt-cache", "depends", "linux-image-amd64"))
    if kernel is None:
        raise SystemExit("apt knows no linux-image-amd64: run apt-get update on a Debian machine")
    names = sorted([*lines("packages.txt"), kernel[1]])
    run("apt-get", "download", "-qq", "-o", "APT::Sandbox::User=root", *names, cwd=cache)
    found = []
    for name in names:
        newest = max(cache.glob(f"{name}_*.deb"), key=lambda path: path.stat().st_mtime)
        version = run("dpkg-deb", "--field", newest, "Version").strip()
        found.append({"package": name, "version": version, "sha256": digest(newest), "file": newest.name})
    return found


def unpack(cache: Path, packages: Iterable[dict[str, str]], root: Path) -> None:
    """Unpack packages to ``root``; nothing of them is run."""
    for package in packages:
        run("dpkg-deb", "--extract", cache / package["file"], root)


def run_inside(root: Path, name: str, program: str, *arguments: str | Path, **more: object) -> None:
    """Run a program of the packages as ``name``, with their own C library: the build needs no such system itself."""
    libraries = ":".join(str(root / folder) for folder in ("lib/x86_64-linux-gnu", "usr/lib/x86_64-linux-gnu"))
    loader = root / "lib64/ld-linux-x86-64.so.2"
    run(loader, "--argv0", name, "--library-path", libraries, root / program, *arguments, **more)


def keep_modules(root: Path) -> str:
    """Drop the kernel modules that no server needs, and that none of the rest needs; returns the kernel's release."""
    (place,) = (root / "lib" / "modules").iterdir()
    run_inside(root, "depmod", "bin/kmod", "-b", root, place.name)
    folders = [Path("kernel") / folder for folder in lines("modules.txt")]
    needs = read_needs(place)
    wanted = [path for path in needs if any(Path(path).is_relative_to(folder) for folder in folders)]
    kept = {*wanted, *(other for path in wanted for other in needs[path])}
    for path in needs:
        if path not in kept:
            (place / path).unlink()
    run_inside(root, "depmod", "bin/kmod", "-b", root, place.name)
    return place.name


def add_libraries(root: Path, lock: Path) -> None:
    """The Python packages of the lock, for the Python of the disc, without what only readers or tests need."""
    target = root / LIBRARIES
    installer = Path(sys.executable).with_name("uv")
    run(
        installer, "pip", "install", "--quiet", "--target", target, "--python-version", PYTHON,
        # Copies: what is stripped below must not be what others have links to.
        "--only-binary", ":all:", "--link-mode", "copy",
        "--python-platform", "x86_64-manylinux_2_28", "--require-hashes", "--requirement", lock,
    )  # fmt: skip
    for path in [*target.glob("*.dist-info"), *target.glob("*/tests"), target / "bin", target / ".lock"]:
        if path.name.endswith(".dist-info"):
            for one in path.iterdir():
                if one.name not in ("METADATA", "entry_points.txt"):
                    remove(one)
        else:
            remove(path)
    for pattern in ("*.pyi", "*.pyx", "*.c", "*.h", "zstandard/_cffi*.so"):
        for path in [*target.rglob(pattern)]:
            path.unlink()
    for path in target.rglob("*.so"):
        run("strip", "--strip-debug", path)


def remove(path: Path) -> None:
    """A file or a folder, if it is there."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def compile_python(root: Path) -> None:
    """Compile all of it beforehand, by the disc's own Python: under way that would cost seconds at each start."""
    run_inside(
        root, f"python{PYTHON}", f"usr/bin/python{PYTHON}", "-m", "compileall", "-f", "-q", "-j", "2",
        "--invalidation-mode", "unchecked-hash", "-s", root, "-p", "/",
        root / f"usr/lib/python{PYTHON}", root / LIBRARIES,
        env={"PYTHONHOME": str(root / "usr"), "PYTHONHASHSEED": "0", "PYTHONDONTWRITEBYTECODE": "1"},
    )  # fmt: skip


def make_initrd(root: Path, kernel: str, place: Path, scratch: Path) -> None:
    """The first file system: one static program, what finds the disc, and its modules."""
    tree = scratch / "initrd"
    (tree / "bin").mkdir(parents=True)
    shutil.copy(root / "bin/busybox", tree / "bin/busybox")
    shutil.copy(HERE / "initrd/init", tree / "init")
    (tree / "init").chmod(0o755)
    (tree / "first").write_text("\n".join(lines("first.txt")) + "\n")
    for folder in ("dev", "proc", "sys", "run", "root", "tmp"):
        (tree / folder).mkdir()
    modules = root / "lib/modules" / kernel
    for name in sorted(set(needed_modules(modules, lines("first.txt")))):
        target = tree / "lib/modules" / kernel / name
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(modules / name, target)
    for name in ("modules.builtin", "modules.order"):
        shutil.copy(modules / name, tree / "lib/modules" / kernel / name)
    run_inside(root, "depmod", "bin/kmod", "-b", tree, kernel)
    stand_still(tree)
    names = "\n".join(sorted(path.relative_to(tree).as_posix() for path in tree.rglob("*"))) + "\n"
    packed = subprocess.run(
        ["cpio", "--quiet", "--create", "--format=newc", "--reproducible", "--owner=0:0"],
        cwd=tree, input=names.encode(), stdout=subprocess.PIPE, check=True,
    )  # fmt: skip
    place.write_bytes(zstandard.ZstdCompressor(level=19).compress(packed.stdout))


def read_needs(modules: Path) -> dict[str, list[str]]:
    """The files of all modules, relative to the kernel's folder, and of all that each needs."""
    pairs = (line.partition(":") for line in (modules / "modules.dep").read_text().splitlines())
    return {path: others.split() for path, _, others in pairs}


def needed_modules(modules: Path, names: Iterable[str]) -> Iterator[str]:
    """The files of modules and of all that they need, relative to the kernel's folder."""
    needs = read_needs(modules)
    by_name = {Path(path).stem.replace("-", "_"): path for path in needs}
    for name in names:
        if name in by_name:  # others are part of the kernel itself
            yield by_name[name]
            yield from needs[by_name[name]]


def stand_still(tree: Path) -> None:
    """Give everything the same time, so that the same input gives the same bytes."""
    for path in [tree, *tree.rglob("*")]:
        os.utime(path, (0, 0), follow_symlinks=False)


def make_system(root: Path, place: Path) -> None:
    """The system that the disc runs from memory."""
    (root / "sbin").mkdir(exist_ok=True)
    for folder in ("dev", "proc", "sys", "run", "tmp", "root", "etc/acpi/PWRF"):
        (root / folder).mkdir(parents=True, exist_ok=True)
    programs = {"init": "sbin/init", "dhcp": "sbin/dhcp", "power-button": "etc/acpi/PWRF/00000080"}
    for name, program in programs.items():
        shutil.copy(HERE / "system" / name, root / program)
        (root / program).chmod(0o755)
    (root / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (root / "etc/group").write_text("root:x:0:\n")
    place.unlink(missing_ok=True)
    run(
        "mksquashfs", root, place, "-quiet", "-no-progress", "-noappend", "-all-root", "-no-xattrs", "-comp", "zstd",
        "-Xcompression-level", "19", "-mkfs-time", "0", "-all-time", "0",
    )  # fmt: skip


def make_loaders(root: Path, out: Path, scratch: Path) -> None:
    """What the firmware starts: GRUB for BIOS, and for UEFI Debian's signed shim and GRUB in a small FAT image."""
    early = scratch / "early.cfg"
    early.write_text("search --set=root --file /.disk/info\nset prefix=($root)/boot/grub\n")
    run(
        "grub-mkimage", "--format", "i386-pc-eltorito", "--prefix", "/boot/grub", "--config", early,
        "--output", out / "bios.img", *GRUB_MODULES,
    )  # fmt: skip
    shutil.copy("/usr/lib/grub/i386-pc/boot_hybrid.img", out / "mbr.img")
    tree = scratch / "efi"
    tree.mkdir()
    shutil.copy(root / "usr/lib/shim/shimx64.efi.signed", tree / "BOOTX64.EFI")
    shutil.copy(root / "usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed", tree / "grubx64.efi")
    stand_still(tree)
    image = out / "efi.img"
    image.unlink(missing_ok=True)
    still = {**os.environ, "SOURCE_DATE_EPOCH": "315532800", "TZ": "UTC"}
    size = 1024 * 1024 + sum(path.stat().st_size for path in tree.iterdir())
    sectors = (size + 2047) // 2048 * 4
    image.write_bytes(bytes(sectors * 512))
    run(
        "mformat",
        "-i",
        image,
        "-T",
        str(sectors),
        "-h",
        "16",
        "-s",
        "63",
        "-N",
        "4f52444e",
        "-v",
        "ORDNUNG",
        "::",
        env=still,
    )
    run("mmd", "-i", image, "::/EFI", "::/EFI/BOOT", env=still)
    for name in ("BOOTX64.EFI", "grubx64.efi"):
        run("mcopy", "-m", "-i", image, tree / name, f"::/EFI/BOOT/{name}", env=still)


def build(out: Path, lock: Path) -> None:
    """Build everything into ``out``, which appears whole or not at all."""
    cache = out.with_name(out.name + "-packages")
    packages = fetch_packages(cache)
    with tempfile.TemporaryDirectory(prefix="boot-base-", dir=out.parent) as folder:
        scratch, part = Path(folder), Path(folder) / "out"
        root = scratch / "root"
        part.mkdir()
        unpack(cache, packages, root)
        kernel = keep_modules(root)
        shutil.copy(root / f"boot/vmlinuz-{kernel}", part / "vmlinuz")
        make_loaders(root, part, scratch)
        make_initrd(root, kernel, part / "initrd", scratch)
        for folder in UNWANTED:
            remove(root / folder)
        add_libraries(root, lock)
        compile_python(root)
        make_system(root, part / "system.squashfs")
        files = {path.name: {"sha256": digest(path), "size": path.stat().st_size} for path in sorted(part.iterdir())}
        told = [{key: package[key] for key in ("package", "version", "sha256")} for package in packages]
        body = {"format": "ordnung.boot-base/1", "kernel": kernel, "python": PYTHON, "files": files, "packages": told}
        (part / "base.json").write_text(json.dumps(body, indent=1, sort_keys=True) + "\n")
        shutil.rmtree(out, ignore_errors=True)
        part.rename(out)


if __name__ == "__main__":
    place = Path(sys.argv[1]).resolve()
    place.parent.mkdir(parents=True, exist_ok=True)
    build(place, HERE.parent / "requirements-disc.lock")
