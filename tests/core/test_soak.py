"""A fixed tenth of the long checks; the whole is ./diaulos soak NAME."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

HERE = Path(__file__).parents[2]


@pytest.mark.parametrize(
    "name", ["kills", "mutants", "disk", "truth", "delays", "proof", "hunt", "loops", "differences"]
)
def test_a_tenth_of_the_long_checks(name: str) -> None:
    """In a process of its own: it forks, kills, and limits itself."""
    done = subprocess.run(
        [sys.executable, str(HERE / "tools" / "soak.py"), name, "--tenth"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert f"{name}: " in done.stdout
    assert " 0 " in done.stdout.splitlines()[0]
