"""Real guitar and bass recordings, for robustness: Debian's sonic-pi-samples.

They are public domain (CC0 1.0 per the README.md that comes with them) and are installed
by the test set-up, not committed.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from diaulos.errors import RefusedError
from diaulos.rig.catalogue import reamp_rig
from diaulos.signal.delay import find_alignment
from diaulos.signal.fir import shift
from diaulos.storage.audiofile import audio_info
from diaulos.storage.sources import ExternalAudio
from diaulos.wiring import bench_for
from diaulos.work.reamp.files import FileReampRequest, reamp_file
from support import NOON, measure_loudness, outside, read_all, through_amp, with_noise

FOLDER = Path("/usr/share/sonic-pi/samples")
NAMES = ("guit_e_fifths", "guit_e_slide", "guit_em9", "guit_harmonics", "bass_thick_c",
         "bass_hit_c", "bass_woodsy_c")  # fmt: skip


def recording(name: str) -> tuple[np.ndarray, int]:
    path = FOLDER / f"{name}.flac"
    outside(path.is_file(), "sonic-pi-samples")
    info = audio_info(path)
    return read_all(info).mean(axis=1), info.rate_hz


def test_their_licence_is_what_we_say() -> None:
    outside(FOLDER.is_dir(), "sonic-pi-samples")
    text = (FOLDER / "README.md").read_text("utf-8")
    assert "Creative Commons 0" in text or "CC0" in text


@pytest.mark.parametrize("name", NAMES)
def test_a_delayed_copy_is_found(name: str) -> None:
    a, rate = recording(name)
    b = with_noise(-0.5 * shift(a, 77.4, a.size + 500), 30.0)
    got = find_alignment(a, b, rate)
    assert got.delay_samples == pytest.approx(77.4, abs=max(0.02, got.delay_error_samples))
    assert got.polarity == -1


PAIRS = [
    (name, voice)
    for name in NAMES
    for voice in (("keel",) if name.startswith("bass") else ("lantern", "tideline", "foghorn"))
]
HARD = {("guit_em9", "foghorn"), ("bass_woodsy_c", "keel")}
"""One chord held for ten seconds through a hard-driven amplifier, and a held synthetic tone:
too little for an honest answer. They may be refused, not answered wrongly."""


@pytest.mark.parametrize(("name", "voice"), PAIRS)
def test_it_is_found_through_an_amplifier_or_refused(name: str, voice: str) -> None:
    a, rate = recording(name)
    cabinet = "bass-fifteen" if voice == "keel" else "open-one"
    clean = through_amp(a, voice, cabinet)
    b = shift(clean, 1500.3, clean.size + 2000)
    try:
        lag = find_alignment(a, clean, rate, max_delay_samples=rate)
        got = find_alignment(a, b, rate, max_delay_samples=rate)
    except RefusedError:
        assert (name, voice) in HARD
        return
    error = max(0.5, got.delay_error_samples + lag.delay_error_samples)
    assert got.delay_samples - lag.delay_samples == pytest.approx(1500.3, abs=error)
    assert abs(lag.delay_samples) < 50.0
    assert got.polarity == lag.polarity == (-1 if voice == "tideline" else 1)


@pytest.mark.parametrize("name", [name for name in NAMES if name != "bass_woodsy_c"])
def test_reamp_of_a_real_recording(name: str, tmp_path: Path) -> None:
    a, rate = recording(name)
    path = FOLDER / f"{name}.flac"
    channel = 1 if audio_info(path).channels > 1 else None
    bass = name.startswith("bass")
    rig = reamp_rig(voice="keel", cabinet="bass-fifteen") if bass else reamp_rig()
    request = FileReampRequest(path, tmp_path / "o.wav", channel, None, rig, match_lufs=-24.0)
    result = reamp_file(
        request, files=ExternalAudio(), scratch=tmp_path, backend_for=bench_for(seed=2),
        clock=lambda: NOON,
    )  # fmt: skip
    back = read_all(audio_info(tmp_path / "o.wav"))[:, 0]
    assert back.size == a.size
    assert result.plan.send.assumed
    assert result.match is not None
    # The file holds what lies within the DI; the loudness was measured over the same.
    assert measure_loudness(back, rate).lufs == pytest.approx(result.match.after_lufs, abs=0.1)
    assert np.max(np.abs(back)) < 1.0
