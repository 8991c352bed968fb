"""A tenth of a long check, in a process of its own."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).parents[2]


def a_tenth_of(name: str) -> None:
    """Run it: it forks, kills, and limits itself. Nothing may go wrong in it."""
    done = subprocess.run(
        [sys.executable, str(HERE / "tools" / "soak.py"), name, "--tenth"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert f"{name}: " in done.stdout
    assert " 0 " in done.stdout.splitlines()[0]
