"""Clipping at the rails of a word length, and flat tops below them; what is none stays clean."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.signal.clipping import ClipCounter, FlatTops, full_scale
from diaulos.storage.sources import ExternalAudio
from diaulos.wiring import new_session, resampled
from diaulos.work.instruments.strength import read_strength
from diaulos.work.takes.importing import ImportRequest, import_di
from diaulos.work.takes.inspecting import measure_file
from support import NOON, RATE, outside, performance

TIME = np.arange(3 * RATE) / RATE


def in_bits(x: np.ndarray, bits: int) -> np.ndarray:
    """As a file of whole numbers holds it."""
    steps = 2.0 ** (bits - 1)
    return np.clip(np.round(x * steps), -steps, steps - 1) / steps


def flat_tops(x: np.ndarray, bits: int | None = None) -> int:
    found = FlatTops(bits)
    found.add(x)
    return found.runs


@pytest.mark.parametrize("bits", [8, 16, 24])
def test_full_scale_is_that_of_the_word_length(bits: int) -> None:
    loud = in_bits(2.0 * np.sin(2 * np.pi * 100.0 * TIME), bits)
    assert full_scale(bits) == (2 ** (bits - 1) - 1) / 2 ** (bits - 1)
    counter = ClipCounter(bits)
    counter.add(loud)
    top = loud.max()
    assert counter.samples == np.count_nonzero((loud >= top) | (loud <= -top))
    assert counter.samples > 0.6 * loud.size
    quiet = ClipCounter(bits)
    quiet.add(in_bits(0.9 * np.sin(2 * np.pi * 100.0 * TIME), bits))
    assert quiet.samples == 0


def test_a_word_length_that_cannot_be() -> None:
    with pytest.raises(ValueError, match="1 bits"):
        full_scale(1)


@pytest.mark.parametrize("hz", [27.5, 30.87, 41.2, 82.4, 110.0, 440.0, 1_000.0, 7_000.0])
@pytest.mark.parametrize("dbfs", [-0.5, -12.0, -30.0, -50.0, -60.0, -70.0])
def test_sines_and_quiet_ones_of_16_bit_stay_clean(hz: float, dbfs: float) -> None:
    """A low quiet sine lies on its top step for a hundred samples: that is no limit."""
    sine = 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * TIME)
    assert flat_tops(sine) == 0
    assert flat_tops(in_bits(sine, 16), 16) == 0


@pytest.mark.parametrize("peak_dbfs", [-1.0, -20.0, -45.0])
@pytest.mark.parametrize("seed", [1, 2])
def test_playing_stays_clean(peak_dbfs: float, seed: int) -> None:
    played = performance(seconds=6.0, seed=seed)
    played *= 10.0 ** (peak_dbfs / 20.0) / np.abs(played).max()
    assert flat_tops(played) == 0
    assert flat_tops(in_bits(played, 16), 16) == 0


@pytest.mark.parametrize("ceiling_dbfs", [-3.0, -12.0, -20.0, -30.0])
@pytest.mark.parametrize("over_db", [2.0, 6.0])
def test_analog_clipping_is_found_at_any_level(ceiling_dbfs: float, over_db: float) -> None:
    """A limit ahead of the converter, with the converter's noise on top."""
    played = performance(seconds=6.0)
    ceiling = 10.0 ** (ceiling_dbfs / 20.0)
    played *= ceiling * 10.0 ** (over_db / 20.0) / np.abs(played).max()
    noise = 1e-5 * np.random.default_rng(3).standard_normal(played.size)
    clipped = np.clip(played, -ceiling, ceiling) + noise
    assert flat_tops(clipped) >= 10
    assert flat_tops(in_bits(clipped, 16), 16) >= 10


def test_one_side_alone_is_found() -> None:
    sine = np.sin(2.0 * np.pi * 110.0 * TIME) * np.exp(-TIME)
    assert flat_tops(np.minimum(0.3 * sine, 0.1)) > 10


@pytest.mark.parametrize("block", [1_000, 4_096, 65_536])
def test_blocks_of_any_size_find_the_same(block: int) -> None:
    clipped = np.clip(performance(seconds=5.0), -0.05, 0.05)
    found = FlatTops()
    for at in range(0, clipped.size, block):
        found.add(clipped[at : at + block])
    assert found.runs == flat_tops(clipped) > 0


def test_a_file_of_16_bit_is_told_everywhere(tmp_path: Path) -> None:
    """Measured, as a strength and as an import: the same samples clip."""
    path = tmp_path / "loud.wav"
    loud = in_bits(1.5 * performance(seconds=4.0) / np.abs(performance(seconds=4.0)).max(), 16)
    soundfile.write(str(path), loud, RATE, subtype="PCM_16")
    there = int(np.count_nonzero(np.abs(loud) >= full_scale(16)))
    assert there > 100
    source = ExternalAudio().open(path)
    assert measure_file(source).channels[0].faults.full_scale_samples == there
    assert read_strength(source).clipped_samples == there
    folder, session = new_session(tmp_path / "S")
    out = import_di(
        ImportRequest(path, "Loud"), session, store=folder, files=ExternalAudio(),
        resample=resampled, clock=lambda: NOON,
    )  # fmt: skip
    assert out.take.di.clipped_samples == there
    assert f"{there} samples are at full scale" in out.note
    folder.close()


def test_flat_tops_are_a_fault_of_dry_tracks_only(tmp_path: Path) -> None:
    path = tmp_path / "flat.wav"
    soundfile.write(str(path), np.clip(performance(seconds=4.0), -0.05, 0.05), RATE)
    folder, session = new_session(tmp_path / "S")
    out = import_di(
        ImportRequest(path, "Flat"), session, store=folder, files=ExternalAudio(),
        resample=resampled, clock=lambda: NOON,
    )  # fmt: skip
    di = out.take.di
    assert di.flat_tops > 0
    assert di.clips_ahead
    assert not di.model_copy(update={"tap": "amp"}).clips_ahead
    assert "ahead of the converter" in out.note
    folder.close()


def test_real_recordings_at_a_limit_and_below(tmp_path: Path) -> None:
    """Open recordings: hand drums that all end at one level short of full scale were limited
    before they were written; the plucked ones were not."""
    folder = Path("/usr/share/sonic-pi/samples")
    outside(folder.is_dir(), "sonic-pi-samples")
    found = {}
    for name in ("tabla_ghe2", "tabla_ghe8", "guit_em9", "guit_harmonics", "bass_woodsy_c"):
        samples, _ = soundfile.read(str(folder / f"{name}.flac"), always_2d=True)
        found[name] = flat_tops(samples[:, 0], 16)
    assert found["tabla_ghe2"] > 3
    assert found["tabla_ghe8"] > 3
    assert found["guit_em9"] == found["guit_harmonics"] == found["bass_woodsy_c"] == 0
