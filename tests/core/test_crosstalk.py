"""What leaks from one side of a split device into the other, by their noise."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import scipy.signal as ss
import soundfile
from test_cli import documented, run, run_json

from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.graph import RigGraph
from diaulos.rig.templates import build
from diaulos.signal.crosstalk import noise_leak, noise_leaks, quiet_spans
from support import RATE, performance

R = float(RATE)


def sides(
    voice: str, drive: float, seed: int, seconds: float = 4.0, playing: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """(processed, dry) of a split modeler whose instrument rests, and then plays."""
    rig = build("split-chain", "r")
    rig = rig.with_setting("modeler", "voice", voice).with_setting("modeler", "drive", drive)
    player = next(one.id for one in rig.devices if one.kind == "instrument")
    bench = RigBench(RigGraph(rig), player, R, BenchFaults(seed=seed))
    volts = np.zeros(round((seconds + 0.5) * R))
    if playing is not None:
        volts = np.concatenate([volts, playing])
    parts = [bench.process(volts[at : at + 4_096]) for at in range(0, volts.size, 4_096)]
    names = {track.name: track.port for track in rig.tracks}
    wet, dry = (np.concatenate([one[names[name]] for one in parts]) for name in ("Modeled", "DI"))
    return wet[round(0.5 * R) :], dry[round(0.5 * R) :]


@pytest.mark.parametrize("voice", ["lantern", "tideline", "foghorn", "keel"])
def test_a_planted_leak_is_told_within_its_error_either_way(voice: str) -> None:
    """Each within the error that is stated, and that is small enough: 1 dB at -20 dB."""
    missed = 0
    for seed in range(3):
        wet, dry = sides(voice, 5.0, seed)
        for db in (None, -20.0, -30.0, -40.0):
            gain = 0.0 if db is None else 10.0 ** (db / 20.0)
            for source, into in ((wet, dry + gain * wet), (dry, wet + gain * dry)):
                both = noise_leaks(source, into, R)
                for one, wanted in zip(both, (gain, 0.0), strict=True):
                    assert one is not None
                    assert abs(one.gain - wanted) < 2.0 * one.error, "it leaks one way only"
                found = noise_leak(source, into, R)
                assert found is not None
                missed += abs(found.gain - gain) > found.error
                assert abs(found.gain - gain) < 2.0 * found.error
                if db == -20.0:
                    assert found.sure
                    assert found.db == pytest.approx(db, abs=1.0)
    assert missed <= 4, "95 % of 24"


def test_a_driven_side_that_leaks_is_told_within_a_decibel_down_to_forty() -> None:
    wet, dry = sides("foghorn", 8.0, 1, 10.0)
    for db in (-20.0, -30.0, -40.0):
        for sign in (1.0, -1.0):
            found, _ = noise_leaks(wet, dry + sign * 10.0 ** (db / 20.0) * wet, R)
            assert found is not None
            assert found.sure
            assert found.db == pytest.approx(db, abs=1.0)
            assert np.sign(found.gain) == sign


def test_it_is_found_in_the_pauses_of_a_take() -> None:
    wet, dry = sides("foghorn", 8.0, 2, 3.0, 0.2 * performance(seconds=3.0))
    spans = quiet_spans((wet, dry), R)
    assert spans
    assert sum(span.stop - span.start for span in spans) > 2.5 * R
    found, _ = noise_leaks(wet, dry + 0.01 * wet, R)
    assert found is not None
    assert found.db == pytest.approx(-40.0, abs=1.5)
    short = (wet[round(2.5 * R) :], dry[round(2.5 * R) :])
    assert noise_leaks(*short, R) == (None, None), "too little noise"


def test_what_is_no_leak_is_not_called_one() -> None:
    rng = np.random.default_rng(4)
    hiss = 1e-4 * rng.standard_normal(4 * RATE)
    own = 1e-4 * rng.standard_normal(4 * RATE)
    # An analog split: the amplifier answers at once.
    answer = ss.sosfilt(ss.butter(2, 3_000.0, fs=R, output="sos"), hiss) + 0.1 * own
    assert noise_leaks(hiss, answer, R) == (None, None)
    # A whine in both is alike at every moment, and no leak.
    whine = 1e-3 * np.sin(2.0 * np.pi * 4_321.0 * np.arange(hiss.size) / R)
    for found in noise_leaks(hiss + whine, own + whine, R):
        assert found is None or not found.sure
    # Silence holds nothing.
    assert noise_leaks(np.zeros(RATE * 3), np.zeros(RATE * 3), R) == (None, None)
    for nothing in (*noise_leaks(hiss, own, R), noise_leak(hiss, own, R)):
        assert nothing is not None
        assert not nothing.sure
    assert nothing.db < -35.0


def test_the_shell_tells_what_leaks(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    wet, dry = sides("foghorn", 8.0, 3, 6.0, 0.2 * performance(seconds=2.0))
    path = tmp_path / "split.wav"
    both = np.stack([wet, dry + 0.01 * wet], axis=1)
    soundfile.write(path, both, RATE, subtype="FLOAT")
    code, data = run_json(capsys, "measure", path)
    assert code == 0
    assert set(data) == documented("measure")
    forth, back = data["leaks"]
    assert (forth["of"], forth["into"]) == (1, 2)
    assert forth["leak_db"] == pytest.approx(-40.0, abs=1.0)
    assert forth["polarity"] == 1
    assert back["leak_db"] is None
    assert back["at_most_db"] < -30.0
    _, text, _ = run(capsys, "measure", path)
    assert "channel 1 in channel 2: -4" in text or "channel 1 in channel 2: -39" in text
    assert "channel 2 in channel 1: none told" in text
    soundfile.write(path, both[:, [0, 0]], RATE, subtype="FLOAT")
    _, text, _ = run(capsys, "measure", path)
    assert "channel 1 in channel 2: not told: both channels are the same" in text
    soundfile.write(path, both[:, 0], RATE, subtype="FLOAT")
    assert run_json(capsys, "measure", path)[1]["leaks"] == []
