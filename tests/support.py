"""Shared by all tests: the reference values, generated players, outside material."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest

from diaulos.signal.amp import AmpSettings, drive_signal
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.loudness import Layout, Loudness, LoudnessMeter
from diaulos.signal.strings import Part, StringCharacter, play, render_notes
from diaulos.storage.audiofile import AudioInfo, read_blocks

REFERENCE = Path(__file__).parent / "reference"
RATE = 48_000
NOON = datetime(2026, 5, 9, 12, 0, 0)


def reference_cases(folder: str, file: str) -> list[dict]:
    """Cases of a reference file; an empty list is a failure, not a pass."""
    cases = json.loads((REFERENCE / folder / file).read_text("utf-8"))["cases"]
    assert cases, f"{folder}/{file} holds no cases"
    return cases


def random_part(rng: np.random.Generator) -> Part:
    """A part of single notes, power chords and rests between E1 and high strings."""
    root = int(rng.integers(28, 52))
    steps: list[tuple[int, ...]] = []
    for _ in range(16):
        draw = rng.random()
        if draw < 0.3:
            steps.append(())
        elif draw < 0.7:
            steps.append((root + int(rng.integers(0, 13)),))
        else:
            low = root + int(rng.integers(0, 8))
            steps.append((low, low + 7, low + 12))
    return Part(tuple(steps))


RIFF = Part(((40, 47, 52), (), (52,), (47,), (43, 50, 55), (), (55,), (50,)))


def performance(
    part: Part = RIFF, seconds: float = 8.0, seed: int = 1, tempo: float = 112.0, rate: int = RATE
) -> np.ndarray:
    """One performance of a part; another seed is the same part played again."""
    notes = play(part, tempo, seconds, seed)
    return render_notes(notes, rate, seconds, StringCharacter(), seed)


def through_amp(
    volts: np.ndarray, voice: str = "tideline", cabinet: str = "open-one", drive: float = 5.0
) -> np.ndarray:
    """A signal through a noise-free amplifier and cabinet, at zero latency."""
    driven = drive_signal(volts, AmpSettings(voice=voice, drive=drive), RATE)
    return np.asarray(convolve_long(driven, cabinet_taps(cabinet, float(RATE))))[: volts.size]


def with_noise(signal: np.ndarray, snr_db: float, seed: int = 5) -> np.ndarray:
    """White noise added at a signal-to-noise ratio."""
    rng = np.random.default_rng(seed)
    return signal + rng.standard_normal(signal.size) * signal.std() * 10.0 ** (-snr_db / 20.0)


def outside(available: bool, what: str) -> None:
    """Skip for a person, fail in continuous integration, where it must be installed."""
    if not available:
        if os.environ.get("CI") == "true":
            pytest.fail(f"{what} is missing; ./diaulos test installs it")
        pytest.skip(f"{what} is not on this machine; ./diaulos test installs it where it can")


def program(name: str) -> str:
    """Path of a program from outside the project."""
    path = shutil.which(name)
    outside(path is not None, name)
    return str(path)


def big_rig(groups: int):  # type: ignore[no-untyped-def]
    """A large rig: in each group a computer, an eight-input interface, seven guitars with
    their DI boxes, and half of them with amp and load; 20 devices and 50 cables or so."""
    from diaulos.rig.model import Rig
    from diaulos.rig.templates import Patch

    patch = Patch("Large")
    for g in range(groups):
        patch.add("computer", f"computer{g}")
        settings = {f"mode{n}": "mic" for n in range(1, 6)}
        settings |= {f"phantom{n}": "on" for n in range(1, 6)}
        patch.add("interface8", f"interface{g}", **settings)
        for n in range(1, 6):
            patch.add("guitar", f"guitar{g}_{n}").add("active_di", f"di{g}_{n}")
            patch.join(f"guitar{g}_{n}.out", f"di{g}_{n}.in")
            patch.join(f"di{g}_{n}.out", f"interface{g}.in{n}")
            if n > 3:
                continue
            patch.add("valve_combo", f"amp{g}_{n}").add("reactive_load", f"load{g}_{n}")
            patch.add("pedal", f"pedal{g}_{n}")
            patch.join(f"di{g}_{n}.thru", f"pedal{g}_{n}.in")
            patch.join(f"pedal{g}_{n}.out", f"amp{g}_{n}.in")
            patch.join(f"amp{g}_{n}.speaker", f"load{g}_{n}.speaker")
            patch.join(f"load{g}_{n}.line", f"interface{g}.in{n + 5}")
        for n in range(1, 19):
            patch.join(f"interface{g}.rec{n}", f"computer{g}.track{n}")
            if n <= 8:
                patch.join(f"computer{g}.play{n}", f"interface{g}.play{n}")
    return Rig(
        id="large",
        name="Large",
        devices=tuple(patch.devices.values()),
        cables=tuple(patch.cables),
    )


def long_course():  # type: ignore[no-untyped-def]
    """One course of fourteen stations with eight controls: pedal, DI, preamp, two mixers, an
    interface input with its switch, pad and gain."""
    from diaulos.rig.course import trace
    from diaulos.rig.graph import RigGraph
    from diaulos.rig.templates import Patch

    patch = Patch("Long")
    patch.add("guitar", "guitar").add("pedal", "pedal").add("active_di", "di")
    patch.add("mic_preamp", "preamp", phantom="on").add("line_mixer", "one")
    patch.add("line_mixer", "two").add("interface4", "interface").add("computer", "computer")
    for source, target in (
        ("guitar.out", "pedal.in"), ("pedal.out", "di.in"), ("di.out", "preamp.in"),
        ("preamp.out", "one.in1"), ("one.out", "two.in1"), ("two.out", "interface.in1"),
    ):  # fmt: skip
        patch.join(source, target)
    graph = RigGraph(patch.record("interface.rec1", 1, "Long").rig("r"))
    return trace(graph, graph.tracks[0])


def measure_loudness(samples: np.ndarray, rate_hz: float, layout: Layout | None = None) -> Loudness:
    """A whole signal, (frames,) or (frames, channels), through the meter at once."""
    channels = 1 if samples.ndim == 1 else samples.shape[1]
    meter = LoudnessMeter(rate_hz, channels, layout)
    meter.add(samples)
    return meter.reading()


def read_all(info: AudioInfo) -> np.ndarray:
    """A whole file, (frames, channels)."""
    return np.concatenate(list(read_blocks(info)))


def read_channel(info: AudioInfo, channel: int = 0) -> np.ndarray:
    """One channel (from 0) of a whole file."""
    return read_all(info)[:, channel]


class RecordingOutput:
    """Keeps what was played, for tests. Nothing runs on its own: call `pull`."""

    silent = False
    error: Exception | None = None

    def __init__(self, device: str = "test output") -> None:
        self.device = device
        self.played: list[np.ndarray] = []
        self.running = False
        self._fill: Callable[[int], np.ndarray] | None = None

    def open(self, rate_hz: int, fill: Callable[[int], np.ndarray]) -> RecordingOutput:
        self._fill = fill
        return self

    def start(self) -> None:
        self.running = True

    def stop(self) -> None:
        self.running = False

    def pull(self, frames: int) -> np.ndarray:
        """Play the next frames and return them."""
        assert self._fill is not None
        block = self._fill(frames)
        self.played.append(block)
        return block
