"""Fixtures of all tests."""

from __future__ import annotations

import os
import shutil
import sys
from pathlib import Path

import pytest
from hypothesis import settings

# The same examples at every run, on a developer's machine as in CI, however slow it is.
settings.register_profile("diaulos", derandomize=True, database=None, deadline=None)
settings.load_profile("diaulos")


@pytest.fixture
def demo_copy(tmp_path: Path, demo_folder: Path) -> Path:
    """A demo session of its own for a test to change."""
    target = tmp_path / "Saltmarsh.diaulos"
    shutil.copytree(demo_folder, target)
    return target


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo session without passes, written once for all workers; never to be changed."""
    import fcntl

    from diaulos.demo.saltmarsh import write_demo

    # Each worker has a folder of its own below the run's.
    base = tmp_path_factory.getbasetemp()
    shared = base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base
    path = shared / "demo" / "Saltmarsh.diaulos"
    path.parent.mkdir(exist_ok=True)
    with open(shared / "demo.lock", "w", encoding="utf-8") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not path.exists():
            folder, _ = write_demo(path, with_passes=False)
            folder.close()
    return path


def pytest_sessionfinish(session: pytest.Session) -> None:
    """The demo that all workers share goes when the last of them has ended."""
    factory = getattr(session.config, "_tmp_path_factory", None)
    if os.environ.get("PYTEST_XDIST_WORKER") or factory is None:
        return
    shutil.rmtree(factory.getbasetemp() / "demo", ignore_errors=True)


@pytest.fixture(autouse=True)
def _own_folders(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """No test reads or writes the person's own settings."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    sys.dont_write_bytecode = True
