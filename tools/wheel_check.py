"""Builds the wheel and runs the program from it, away from the sources; then installs it into a
clean environment of every Python that it is made for and that is on this machine, with the locked
versions of what it needs, and runs its entry point."""

from __future__ import annotations

import os
import shutil
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


PYTHONS = ("3.11", "3.12", "3.13")


def interpreters() -> dict[str, Path]:
    """The Pythons that are here, by their version: on the path, or where pyenv keeps them."""
    found: dict[str, Path] = {}
    for version in PYTHONS:
        on_path = shutil.which(f"python{version}")
        kept = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv")) / "versions"
        places = [Path(on_path)] if on_path else []
        places += sorted(kept.glob(f"{version}*/bin/python{version}"))
        for place in places:
            # A shim of a version manager can be there and start nothing.
            told = subprocess.run(
                [place, "-c", "import sys; print('%d.%d' % sys.version_info[:2])"],
                capture_output=True, text=True, check=False,
            )  # fmt: skip
            if told.returncode == 0 and told.stdout.strip() == version:
                found[version] = place
                break
    return found


def installed(wheel: Path, version: str, python: Path, folder: Path) -> str:
    """What went wrong when it was installed for this Python and run; "" for nothing."""
    place = folder / f"clean-{version}"
    program = place / "bin" / "diaulos"
    pip = [place / "bin" / "python", "-m", "pip", "install", "--quiet",
           "--disable-pip-version-check", "--only-binary", ":all:"]  # fmt: skip
    steps = (
        [python, "-m", "venv", place],
        [*pip, "--require-hashes", "-r", HERE / "requirements.lock"],
        [*pip, "--no-deps", wheel],
        [place / "bin" / "python", "-m", "pip", "check"],
        [program, "--version"],
        [program, "new", folder / f"New{version}"],
        [program, "sheet", folder / f"New{version}.diaulos", "--kind", "patch", "--out",
         folder / f"patch{version}.pdf"],
    )  # fmt: skip
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONPATH"}
    for step in steps:
        run = subprocess.run(step, cwd=folder, env=environment, capture_output=True, text=True,
                             check=False)  # fmt: skip
        if run.returncode:
            words = " ".join(str(one) for one in step[:4])
            return f"Python {version}: {words}: {run.stdout}{run.stderr}"
    shutil.rmtree(place)
    return ""


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
        if run.returncode:
            return run.returncode
        for version, python in interpreters().items():
            wrong = installed(wheel, version, python, Path(folder))
            if wrong:
                print(wrong, file=sys.stderr)
                return 1
            print(f"installed and run with Python {version}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
