"""The fence between the layers: it holds, and planted faults are caught."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

HERE = Path(__file__).parents[2]

PLANTED = {
    "the core knows Qt": ("signal/checks.py", "import PySide6.QtCore"),
    "an arrow upward": ("circuit/pickup.py", "from diaulos.rig import plan"),
    "a view knows files": ("app/theme.py", "from diaulos.storage import bwf"),
    "the shell knows devices": ("cli/output.py", "from diaulos.audio import output"),
    "soundfile outside storage": ("work/measuring.py", "import soundfile"),
    "sounddevice outside audio": ("work/loop.py", "import sounddevice"),
    "side by side": ("signal/peaks.py", "from diaulos.circuit import network"),
    "an unplaced module": ("elsewhere.py", "X = 1"),
}


def fence(source: Path) -> subprocess.CompletedProcess[str]:
    tool = Path(sys.executable).parent / "lint-imports"
    return subprocess.run(
        [str(tool), "--config", str(source.parent / "pyproject.toml"), "--no-cache"],
        cwd=source.parent, env={"PYTHONPATH": str(source), "PATH": "/usr/bin:/bin"},
        capture_output=True, text=True, check=False,
    )  # fmt: skip


@pytest.fixture(scope="module")
def copy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("fence")
    shutil.copytree(HERE / "src", place / "src", ignore=shutil.ignore_patterns("*.otf", "*.pyc"))
    shutil.copy(HERE / "pyproject.toml", place)
    return place / "src"


def test_the_fence_holds(copy: Path) -> None:
    run = fence(copy)
    assert run.returncode == 0, run.stdout + run.stderr
    assert "7 kept, 0 broken" in run.stdout


@pytest.mark.parametrize("fault", PLANTED, ids=lambda name: name.replace(" ", "_"))
def test_a_planted_fault_is_caught(copy: Path, fault: str) -> None:
    name, line = PLANTED[fault]
    path = copy / "diaulos" / name
    before = path.read_text("utf-8") if path.exists() else None
    path.write_text((before or "") + f"\n{line}\n")
    try:
        run = fence(copy)
    finally:
        if before is None:
            path.unlink()
        else:
            path.write_text(before)
    assert run.returncode != 0
