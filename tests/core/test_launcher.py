"""The launcher on a machine that lacks something, with stand-ins for the system's programs."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

HERE = Path(__file__).parents[2]


@pytest.fixture
def machine(tmp_path: Path) -> Path:
    """A folder with the launcher, its locks, and programs that stand in for the system's."""
    shutil.copy(HERE / "diaulos", tmp_path)
    for lock in HERE.glob("requirements*.lock"):
        shutil.copy(lock, tmp_path)
    (tmp_path / "bin").mkdir()
    # Every library is known but one.
    program(tmp_path, "ldconfig", 'cat "$0.list"')
    launcher = (HERE / "diaulos").read_text("utf-8")
    known = [w for line in launcher.splitlines() for w in line.split()[:1] if ".so." in w]
    assert len(known) >= 15
    (tmp_path / "bin" / "ldconfig.list").write_text(
        "\n".join(name for name in known if name != "libEGL.so.1")
    )
    return tmp_path


def program(machine: Path, name: str, body: str) -> None:
    path = machine / "bin" / name
    path.write_text(f"#!/bin/sh\n{body}\n")
    path.chmod(0o755)


def run(machine: Path, *words: str) -> subprocess.CompletedProcess[str]:
    env = {
        "PATH": f"{machine / 'bin'}:/usr/bin:/bin",
        "DIAULOS_LDCONFIG": str(machine / "bin" / "ldconfig"),
        "DIAULOS_PYTHON": sys.executable,
        "HOME": str(machine),
    }
    return subprocess.run(
        ["sh", str(machine / "diaulos"), *words], env=env, capture_output=True, text=True,
        timeout=60, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip


def test_an_ordinary_user_is_told_the_exact_line(machine: Path) -> None:
    program(machine, "id", "echo 1000")
    program(machine, "sudo", "exit 1")  # there is sudo, but not for this user
    program(machine, "apt-get", 'echo called >> "$0.log"')
    told = run(machine, "--version")
    assert told.returncode == 1
    assert "apt-get update && apt-get install -y --no-install-recommends libegl1" in told.stderr
    assert not (machine / "bin" / "apt-get.log").exists()
    assert not (machine / ".venv").exists()


def test_as_root_what_is_missing_is_installed(machine: Path) -> None:
    program(machine, "id", "echo 0")
    program(
        machine,
        "apt-get",
        'echo "$DEBIAN_FRONTEND $*" >> "$0.log"; case "$*" in *install*) exit 9;; esac',
    )
    told = run(machine, "--version")
    assert told.returncode == 1
    assert "could not install the system packages" in told.stderr
    calls = (machine / "bin" / "apt-get.log").read_text().splitlines()
    assert calls[0].startswith("noninteractive -o DPkg::Lock::Timeout=300 update")
    assert calls[1].endswith("install -y --no-install-recommends libegl1")


def test_a_second_start_changes_nothing(machine: Path) -> None:
    """With everything there and the stamps in place, the program is started at once."""
    (machine / "bin" / "ldconfig.list").write_text((machine / "diaulos").read_text("utf-8"))
    program(machine, "apt-get", 'echo called >> "$0.log"')
    venv = machine / ".venv"
    (venv / "bin").mkdir(parents=True)
    program(machine, "unused", "exit 0")
    (venv / "bin" / "python").write_text('#!/bin/sh\necho "started with $*"\n')
    (venv / "bin" / "python").chmod(0o755)
    version = sys.version.split()[0]
    for lock in ("requirements.lock", "requirements-dev.lock"):
        digest = subprocess.run(
            ["sha256sum", str(machine / lock)], capture_output=True, text=True, check=True
        ).stdout.split()[0]
        (venv / f".stamp-{lock}").write_text(f"{version} {digest}\n")
    told = run(machine, "align", "A.wav", "B.wav", "--json")
    assert told.stdout == "started with -m diaulos align A.wav B.wav --json\n"
    assert told.stderr == ""
    assert not (machine / "bin" / "apt-get.log").exists()


def test_the_launcher_is_plain_shell() -> None:
    """Debian's sh is dash: no bash words; it parses, and it is executable."""
    text = (HERE / "diaulos").read_text("utf-8")
    assert text.startswith("#!/bin/sh\n")
    assert os.access(HERE / "diaulos", os.X_OK)
    assert "[[" not in text
    subprocess.run(["sh", "-n", str(HERE / "diaulos")], check=True)


def test_the_lock_names_no_host_and_pins_by_hash() -> None:
    for lock in HERE.glob("requirements*.lock"):
        text = lock.read_text("utf-8")
        assert "://" not in text
        pinned = [line for line in text.splitlines() if "==" in line]
        assert len(pinned) > 15
        assert text.count("--hash=sha256:") >= len(pinned)
