"""The fence between the layers: it holds, and planted faults are caught."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

HERE = Path(__file__).parents[2]

PLANTED = {
    "the core knows Qt": ("signal/checks.py", "import PySide6.QtCore"),
    "an arrow upward": ("circuit/pickup.py", "from diaulos.rig import plan"),
    "an arrow upward for a type": (
        "rig/stages.py",
        "import typing\nif typing.TYPE_CHECKING:\n    from diaulos.session import model",
    ),
    "a view knows files": ("app/theme.py", "from diaulos.storage import bwf"),
    "the shell knows devices": ("cli/output.py", "from diaulos.audio import output"),
    "soundfile outside storage": ("work/measuring.py", "import soundfile"),
    "soundfile in the window": ("app/theme.py", "import soundfile"),
    "soundfile in audio": ("audio/output.py", "import soundfile"),
    "sounddevice outside audio": ("work/capture/loop.py", "import sounddevice"),
    "sounddevice in wiring": ("wiring.py", "import sounddevice"),
    "side by side": ("signal/peaks.py", "from diaulos.circuit import network"),
    "an unplaced module": ("elsewhere.py", "X = 1"),
    "a view knows another": (
        "app/views/reamp/lists.py", "from diaulos.app.views.takes import board",
    ),
    "a circle": ("work/takes/ready.py", "from diaulos.work.takes import recording"),
    "a circle for a type": (
        "app/main_window.py",
        "import typing\nif typing.TYPE_CHECKING:\n    from diaulos.app.desk import Desk",
    ),
}  # fmt: skip
"""At least one fault for every contract, typing imports among them."""


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
    assert "BROKEN" in run.stdout


def test_every_room_is_named_where_devices_and_files_are_fenced_off() -> None:
    """A new room cannot be forgotten in the contracts that name rooms."""
    contracts = tomllib.loads((HERE / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]
    source = HERE / "src" / "diaulos"
    rooms = {f"diaulos.{path.stem}" for path in source.iterdir()
             if path.suffix == ".py" or (path / "__init__.py").exists()}  # fmt: skip
    rooms -= {"diaulos.__init__", "diaulos.__main__"}
    owners = {"sounddevice": "diaulos.audio", "soundfile": "diaulos.storage"}
    seen = 0
    for contract in contracts["contracts"]:
        for owned, owner in owners.items():
            if owned in contract.get("forbidden_modules", ()):
                assert set(contract["source_modules"]) == rooms - {owner}
                seen += 1
    assert seen == len(owners)
