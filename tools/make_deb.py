"""Builds a Debian package around a virtual environment in /opt/diaulos.

    tools/make_deb.py [--out DIR] [--python /usr/bin/python3.11]

The environment is made at the place where it will live, with the system's own interpreter (its
scripts name both), filled from the lock, copied into the package and removed again: that place must
be free and writable, so this runs as root or in a container. One package holds for one release of
the system. Packed with zstd: xz takes minutes.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(HERE / "src"))

from diaulos import RELEASED, __version__
from diaulos.cli.installing import told_verbs
from diaulos.storage.installing import Verb, desktop_files

HOME = Path("/opt/diaulos")
COMMAND = Path("/usr/bin/diaulos")
DEPENDS = (
    "libegl1", "libgl1", "libfontconfig1", "libdbus-1-3", "libxkbcommon0", "libxkbcommon-x11-0",
    "libxcb-cursor0", "libxcb-icccm4", "libxcb-image0", "libxcb-keysyms1", "libxcb-render-util0",
    "libxcb-shape0", "libxcb-xkb1", "libxcb-randr0", "libxcb-xinerama0", "libglib2.0-0",
    "libportaudio2",
)  # fmt: skip
"""Sufficient on Debian 12; not shown to be the least."""
RECOMMENDS = "libjack-jackd2-0 | pipewire-jack"

START = f"""#!/bin/sh
# Compiled modules belong to whoever runs it, not into the package.
PYTHONPYCACHEPREFIX="${{XDG_CACHE_HOME:-$HOME/.cache}}/diaulos/python"
DIAULOS_LAUNCHER={COMMAND}
export PYTHONPYCACHEPREFIX DIAULOS_LAUNCHER
exec {HOME}/bin/diaulos "$@"
"""
PRERM = f"""#!/bin/sh
set -e
# What root's own runs compiled.
find {HOME} -name __pycache__ -type d -prune -exec rm -rf {{}} + 2>/dev/null || true
"""


def control(python: str, size_kb: int, machine: str) -> str:
    """The package's description."""
    return (
        f"Package: diaulos\nVersion: {__version__}\nArchitecture: {machine}\n"
        "Maintainer: Diaulos <diaulos@localhost>\nSection: sound\nPriority: optional\n"
        f"Installed-Size: {size_kb}\nDepends: {', '.join((python, *DEPENDS))}\n"
        f"Recommends: {RECOMMENDS}\n"
        "Description: record, reamp and compare guitar and bass at known levels\n"
        " Sets input impedance and gain by calculation, records dry and processed paths at\n"
        " once, sends stored takes through amplifiers again at the level that they had, and\n"
        " tells what differs between two tones.\n"
    )


def run(*words: str | Path) -> None:
    """A command that has to succeed; what it says is shown."""
    subprocess.run([str(word) for word in words], check=True)


def fill(python: str) -> None:
    """The environment at its final place."""
    if os.path.lexists(HOME):
        sys.exit(f"make_deb: {HOME} is there already. Move it away: the package is built there.")
    run(python, "-m", "venv", "--without-pip", HOME)
    inside = HOME / "bin" / "python"
    pip = (sys.executable, "-m", "pip", "--python", inside, "install", "--no-compile", "--quiet",
           "--disable-pip-version-check", "--no-input")  # fmt: skip
    run(*pip, "--require-hashes", "--only-binary", ":all:", "-r", HERE / "requirements.lock")
    run(*pip, "--no-deps", HERE)


def lay_out(tree: Path, python: str) -> None:
    """Everything in its place below a folder."""
    shutil.copytree(HOME, tree / HOME.relative_to("/"), symlinks=True)
    for cache in (tree / HOME.relative_to("/")).rglob("__pycache__"):
        shutil.rmtree(cache)
    start = tree / COMMAND.relative_to("/")
    start.parent.mkdir(parents=True)
    start.write_text(START)
    start.chmod(0o755)
    verbs = [Verb(name, words, options) for name, words, options in told_verbs()]
    for name, text in desktop_files(COMMAND, __version__, RELEASED, verbs).items():
        place = {"zsh/site-functions/_diaulos": "zsh/vendor-completions/_diaulos"}.get(name, name)
        path = tree / "usr" / "share" / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    licence = tree / "usr" / "share" / "doc" / "diaulos" / "copyright"
    licence.parent.mkdir(parents=True)
    shutil.copy(HERE / "LICENSE", licence)
    size = sum(path.lstat().st_size for path in tree.rglob("*")) // 1024
    machine = subprocess.run(
        ["dpkg", "--print-architecture"], check=True, capture_output=True, text=True
    ).stdout.strip()
    told = tree / "DEBIAN"
    told.mkdir()
    (told / "control").write_text(control(Path(python).name, size, machine))
    (told / "prerm").write_text(PRERM)
    (told / "prerm").chmod(0o755)


def main(arguments: Sequence[str] | None = None) -> int:
    """Build it; the path of the package is printed."""
    parser = argparse.ArgumentParser(prog="make_deb", description=__doc__)
    parser.add_argument("--out", type=Path, default=HERE / "dist")
    parser.add_argument("--python", default="/usr/bin/python3.11")
    asked = parser.parse_args(arguments)
    for tool in ("dpkg", "dpkg-deb", asked.python):
        if shutil.which(tool) is None:
            sys.exit(f"make_deb: {tool} is not here. This builds on Debian and its kin.")
    asked.out.mkdir(parents=True, exist_ok=True)
    target = asked.out / f"diaulos_{__version__}.deb"
    try:
        fill(asked.python)
        with tempfile.TemporaryDirectory(prefix="diaulos-deb-") as kept:
            tree = Path(kept) / "tree"
            lay_out(tree, asked.python)
            run("dpkg-deb", "--root-owner-group", "-Zzstd", "-z3", "-b", tree, target)
    finally:
        if (HOME / "pyvenv.cfg").is_file():
            shutil.rmtree(HOME)
    print(target)
    return 0


if __name__ == "__main__":
    sys.exit(main())
