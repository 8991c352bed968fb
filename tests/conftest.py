"""Fixtures of all tests."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

import pytest


@pytest.fixture
def demo_copy(tmp_path: Path, demo_folder: Path) -> Path:
    """A demo session of its own for a test to change."""
    target = tmp_path / "Saltmarsh.diaulos"
    shutil.copytree(demo_folder, target)
    return target


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo session without passes, written once per process; never to be changed."""
    from diaulos.demo.saltmarsh import write_demo

    path = tmp_path_factory.mktemp("demo") / "Saltmarsh"
    folder, _ = write_demo(path, with_passes=False)
    folder.close()
    return folder.path


@pytest.fixture(autouse=True)
def _own_folders(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """No test reads or writes the person's own settings."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    sys.dont_write_bytecode = True
