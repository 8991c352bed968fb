"""Every return of a reamp by the ports of a sound server, through another program's amplifier."""

from __future__ import annotations

from pathlib import Path

import pytest
from contract import answered, right_or_told
from jack_server import JackServer
from test_cli import run_json
from test_jack import running, server  # noqa: F401 - fixtures

from diaulos.rig.templates import build
from diaulos.storage.folder import SessionFolder

LATE = 37.25


def test_two_microphones_come_back_on_one_sample(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    demo_copy: Path,
) -> None:
    """Out by the third channel, back by the third and fourth, the fourth 6.02 dB quieter."""
    running.amp("box", channels=8, fan=3, gain=0.5, delay_frames=LATE, step_db=-6.0206)
    folder = SessionFolder.open(demo_copy)
    session = folder.load()
    rig = build("reamp-bass", "extra")
    folder.save(session.model_copy(update={"rigs": (*session.rigs, rig)}))
    folder.close()

    def attempt() -> bool:
        data = answered(
            run_json(
                capsys, "reamp", demo_copy, "--take", "t0003", "--rig", "extra",
                "--device", "box", "--match-lufs", "-20", "--go-on",
            )
        )  # fmt: skip
        lows, highs = data["returns"]
        assert (lows["return"], highs["return"]) == ("Lows", "Highs")
        assert lows["group"] == highs["group"]
        late = highs["delay_samples"] - lows["delay_samples"]
        assert late == pytest.approx(0.0, abs=0.02)
        assert lows["delay_samples"] % 1.0 == pytest.approx(LATE % 1.0, abs=0.02)
        assert lows["peak_dbfs"] - highs["peak_dbfs"] == pytest.approx(6.02, abs=0.05)
        assert lows["gain_db"] == highs["gain_db"]
        assert data["group_gain_db"] == pytest.approx(lows["gain_db"] + lows["pair_offset_db"])
        return True

    right_or_told(attempt)
