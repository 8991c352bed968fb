"""A fixed tenth of the long checks; the whole is ./diaulos soak NAME. Those that need most time are
in test_soak_long.py: a file is one worker's."""

from __future__ import annotations

from pathlib import Path

import kills
import pytest
from soaked import a_tenth_of

from diaulos.errors import DiaulosError
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for
from diaulos.work.reamp.passes import ReampRequest, make_pass


@pytest.mark.parametrize("name", ["kills", "mutants", "disk", "truth", "delays", "queues"])
def test_a_tenth_of_the_long_checks(name: str) -> None:
    a_tenth_of(name)


def test_the_check_behind_a_killed_reamp_reads_every_return(tmp_path: Path) -> None:
    """A death may come before the first pass is whole, or after it: here it is, surely."""
    path = tmp_path / "reamped.diaulos"
    kills.reamp_session(path)
    board = kills.Board()
    folder = SessionFolder.open(path)
    outcome = make_pass(
        ReampRequest(folder.load(), "t0001"), store=folder, backend_for=bench_for(),
        clock=lambda: kills.NOON,
    )  # fmt: skip
    folder.write_journal(outcome.edit(folder.load()))
    folder.close()
    board[0] = 1
    kills.reamp_check(path, board)
    # It must be able to fail: with the return's audio gone, it does.
    gone = SessionFolder.open(path)
    (gone.path / outcome.edit(gone.load()).take("t0001").passes[0].main.file).unlink()
    gone.close()
    with pytest.raises(DiaulosError):
        kills.reamp_check(path, board)
