"""The stand-in amplifier: drive instead of volume, clean where it should be, no aliases."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from diaulos.errors import InputError
from diaulos.signal.amp import VOICES, AmpFaults, Amplifier, AmpSettings, drive_signal
from diaulos.units import db_to_gain, dbu_to_peak_volt
from support import RATE, measure_loudness, performance, through_amp

PLAYED = performance(seconds=8.0, seed=21) * dbu_to_peak_volt(2.0)
GUITAR_VOICES = ("lantern", "tideline", "foghorn")


def loudness(volts: np.ndarray) -> float:
    return measure_loudness(volts / 40.0, RATE).lufs


def make_up_db(voice: str, cut_db: float, drive: float = 5.0) -> float:
    """How much louder the amp has to be made after a cut ahead of it."""
    full = loudness(through_amp(PLAYED, voice, "open-one", drive))
    cut = loudness(through_amp(PLAYED * db_to_gain(-cut_db), voice, "open-one", drive))
    return full - cut


def test_hard_driven_it_is_drive_and_not_volume() -> None:
    """Common practice, no source: 5 dB ahead cost 1 to 2 dB behind, 10 dB 2 to 4.5 dB."""
    assert 1.0 <= make_up_db("foghorn", 5.0) <= 2.0
    assert 2.0 <= make_up_db("foghorn", 10.0) <= 4.5


@pytest.mark.parametrize("cut_db", [5.0, 10.0])
def test_clean_it_needs_all_of_the_cut(cut_db: float) -> None:
    assert make_up_db("lantern", cut_db) == pytest.approx(cut_db, abs=0.5)


def test_at_the_edge_it_lies_between() -> None:
    for cut_db in (5.0, 10.0):
        edge = make_up_db("tideline", cut_db)
        assert make_up_db("foghorn", cut_db) < edge < make_up_db("lantern", cut_db)


@pytest.mark.parametrize("voice", VOICES)
def test_make_up_never_grows_with_drive(voice: str) -> None:
    needed = [make_up_db(voice, 5.0, drive) for drive in (0.0, 2.5, 5.0, 7.5, 10.0)]
    assert all(later <= earlier + 0.02 for earlier, later in pairwise(needed))


@pytest.mark.parametrize("voice", VOICES)
def test_alias_products_at_moderate_drive(voice: str) -> None:
    """A 5 kHz tone: whatever is not a harmonic of it lies below -80 dB."""
    count, cycles = 1 << 15, 3413  # a prime number of cycles, so that harmonics fall on bins
    hz = cycles * RATE / count
    tone = dbu_to_peak_volt(-6.0) * np.sin(2.0 * np.pi * cycles * np.arange(2 * count) / count)
    out = drive_signal(tone, AmpSettings(voice=voice, master_db=0.0), RATE)[-count:]
    spectrum = np.abs(np.fft.rfft(out))
    reference = spectrum[cycles]
    kept = spectrum.copy()
    for order in range(int(RATE / 2 / hz) + 1):
        kept[max(0, order * cycles - 2) : order * cycles + 3] = 0.0
    assert 20.0 * np.log10(kept.max() / reference) < -80.0


@pytest.mark.parametrize("voice", VOICES)
@pytest.mark.parametrize("size", [64, 4096, 997])
def test_blocks_do_not_matter(voice: str, size: int) -> None:
    settings = AmpSettings(voice=voice)
    results = []
    for block in (size, 8192):
        amp = Amplifier(settings, RATE, AmpFaults(seed=4))
        state, parts = amp.initial_state(), []
        for first in range(0, 24_000, block):
            out, state = amp.process(PLAYED[first : min(24_000, first + block)], state)
            parts.append(out)
        results.append(np.concatenate(parts))
    np.testing.assert_allclose(results[0], results[1], atol=1e-9)


def test_noise_and_hum_are_there_and_modest() -> None:
    silence = np.zeros(RATE)
    settings = AmpSettings(voice="foghorn", master_db=0.0)
    quiet = drive_signal(silence, settings, RATE)
    noisy = drive_signal(silence, settings, RATE, AmpFaults(mains_hz=60.0, seed=2))
    assert np.max(np.abs(quiet)) < 1e-9
    loud = drive_signal(PLAYED, settings, RATE)
    assert 0.0 < noisy.std() < loud.std() * 0.1
    spectrum = np.abs(np.fft.rfft(noisy * np.hanning(RATE)))
    assert spectrum[120] > 3.0 * np.median(spectrum[100:140])


def test_tone_controls_move_their_band() -> None:
    tone = 0.01 * np.sin(2.0 * np.pi * np.outer([80.0, 5000.0], np.arange(RATE)) / RATE)

    def level(wave: np.ndarray, **knobs: float) -> float:
        out = drive_signal(wave, AmpSettings(voice="lantern", **knobs), RATE)[RATE // 2 :]
        return 20.0 * float(np.log10(out.std()))

    assert level(tone[0], bass=10.0) > level(tone[0]) + 4.0
    assert level(tone[1], treble=10.0) > level(tone[1]) + 4.0
    assert level(tone[1], bass=10.0) == pytest.approx(level(tone[1]), abs=0.5)


def test_bad_settings_are_named() -> None:
    with pytest.raises(InputError, match="voice"):
        AmpSettings(voice="trumpet")
    with pytest.raises(InputError, match="0 to 10"):
        AmpSettings(drive=11.0)


def test_there_are_voices_for_guitar_and_bass() -> None:
    families = [voice.family for voice in VOICES.values()]
    assert families.count("guitar") >= 3
    assert families.count("bass") >= 1
