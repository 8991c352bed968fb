"""Builds the wheel and runs the program from it, away from the sources."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
NEEDED = (
    "diaulos/app/dialogs/checks.md",
    "diaulos/app/dialogs/cli.md",
    "diaulos/app/dialogs/glossary.md",
    "diaulos/app/dialogs/tour.md",
    "diaulos/app/fonts/B612-Regular.otf",
    "diaulos/app/fonts/OFL.txt",
    "diaulos/app/icons/tick-day.svg",
    "diaulos/app/main_window.py",
    "diaulos/reports/sheet.css",
    "diaulos/reports/sheet.html",
    "diaulos/storage/desktop/org.diaulos.Diaulos.desktop",
    "diaulos/storage/desktop/org.diaulos.Diaulos.svg",
)


def main() -> int:
    """0 when the wheel is whole and works."""
    with tempfile.TemporaryDirectory() as folder:
        build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", folder]
        subprocess.run(build, cwd=HERE, check=True)
        wheel = next(Path(folder).glob("*.whl"))
        place = Path(folder) / "unpacked"
        with zipfile.ZipFile(wheel) as archive:
            missing = [name for name in NEEDED if name not in archive.namelist()]
            archive.extractall(place)
        if missing:
            print(f"missing from the wheel: {', '.join(missing)}", file=sys.stderr)
            return 1
        code = (
            "import diaulos, sys; from diaulos.__main__ import main; "
            f"assert diaulos.__file__.startswith({str(place)!r}), diaulos.__file__; "
            f"sys.exit(main(['demo', '--at', {str(Path(folder) / 'Demo')!r}, '--no-window']))"
        )
        environment = {**os.environ, "PYTHONPATH": str(place)}
        run = subprocess.run([sys.executable, "-c", code], cwd=folder, env=environment, check=False)
        return run.returncode


if __name__ == "__main__":
    sys.exit(main())
