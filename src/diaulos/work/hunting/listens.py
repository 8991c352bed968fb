"""One listen of a hunt: how loud each kind of noise is on every track, and how far two stretches
of one and the same listen differ."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.model import PortRef
from diaulos.signal.hum import Noise, analyse_noise
from diaulos.units import LOWEST_DB
from diaulos.work.capture.recorder import Recorder
from diaulos.work.hunting.causes import Family
from diaulos.work.ports import AudioBackend

SPAN_S = 2.6
"""A stretch in which the mains can be told from its neighbours."""
SPANS = 2
SETTLE_S = 0.3
EVERY_S = 0.5
"""How often live figures are told."""
LEAST_SPREAD_DB = 0.5
"""How far two stretches of the same noise differ at least; common practice, no source."""
LOW_HARMONICS = 4.5
"""Harmonics of the mains below are heard as hum, above as buzz."""
RIPPLE_DB = 6.0
"""How far even harmonics stand above odd ones behind a rectifier."""


@dataclass(frozen=True)
class Kinds:
    """A stretch of noise by kind, RMS in dBFS after AES17; `LOWEST_DB` where there is none."""

    hum: float
    buzz: float
    whine: float
    hiss: float
    rippled: bool = False
    """Mains noise as of a rectifier: even harmonics only."""

    @property
    def mains(self) -> float:
        """Hum and buzz together."""
        return _sum_db(self.hum, self.buzz)

    def of(self, family: Family) -> float:
        """One family."""
        return self.mains if family == "mains" else self.whine if family == "whine" else self.hiss


def _sum_db(*levels: float) -> float:
    total = sum(10.0 ** (level / 10.0) for level in levels if level > LOWEST_DB)
    return 10.0 * math.log10(total) if total > 0.0 else LOWEST_DB


def kinds_of(noise: Noise) -> Kinds:
    """What an analysed silence holds, by kind."""
    mains = noise.mains_hz or 50.0
    low = [tone.dbfs for tone in noise.hum if tone.hz < LOW_HARMONICS * mains]
    high = [tone.dbfs for tone in noise.hum if tone.hz >= LOW_HARMONICS * mains]
    odd = [tone.dbfs for tone in noise.hum if round(tone.hz / mains) % 2]
    even = [tone.dbfs for tone in noise.hum if not round(tone.hz / mains) % 2]
    rippled = bool(even) and _sum_db(*even) > _sum_db(*odd) + RIPPLE_DB
    return Kinds(
        _sum_db(*low), _sum_db(*high), _sum_db(*(t.dbfs for t in noise.bus_tones)),
        noise.hiss_dbfs, rippled,
    )  # fmt: skip


@dataclass(frozen=True)
class Listen:
    """Every track's stretches, in time."""

    spans: Mapping[PortRef, tuple[Kinds, ...]]

    def level(self, track: PortRef, family: Family) -> float:
        """Mean power over the stretches, dBFS."""
        levels = [one.of(family) for one in self.spans[track]]
        return _sum_db(*levels) - 10.0 * math.log10(len(levels)) if levels else LOWEST_DB

    def spread_db(self, track: PortRef, family: Family) -> float:
        """How far the stretches differ."""
        levels = [max(one.of(family), LOWEST_DB) for one in self.spans[track]]
        return max(LEAST_SPREAD_DB, max(levels) - min(levels)) if levels else LEAST_SPREAD_DB

    def rippled(self, track: PortRef) -> bool:
        """Whether its mains noise is a rectifier's in most stretches."""
        told = [one.rippled for one in self.spans[track]]
        return 2 * sum(told) > len(told)

    def with_more(self, other: Listen) -> Listen:
        """Both together: a listen that was repeated."""
        return Listen({track: (*spans, *other.spans.get(track, ()))
                       for track, spans in self.spans.items()})  # fmt: skip


def listen_of(sounds: Mapping[PortRef, NDArray[np.floating]], rate_hz: float) -> Listen:
    """Recorded silences of some tracks, cut into stretches.

    Parameters
    ----------
    sounds
        Samples of every track with full scale at 1, shape (frames,).
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    What each stretch of `SPAN_S` holds; one at least.
    """
    found = {}
    for track, sound in sounds.items():
        size = min(sound.size, int(SPAN_S * rate_hz))
        count = max(1, sound.size // max(1, size))
        found[track] = tuple(
            kinds_of(analyse_noise(sound[at * size : (at + 1) * size], rate_hz))
            for at in range(count)
        )
    return Listen(found)


@dataclass
class Held:
    """A sink that keeps what it gets, the newest `most` frames of it (None: all)."""

    most: int | None = None
    clipped_samples: int = 0

    def __post_init__(self) -> None:
        self._blocks: list[NDArray[np.float32]] = []
        self.frames = 0

    def write(self, samples: NDArray[np.float32]) -> None:
        """Keep a block, let the oldest go."""
        self._blocks.append(np.array(samples, np.float32).reshape(-1))
        self.frames += samples.size
        while self.most is not None and sum(b.size for b in self._blocks[1:]) >= self.most:
            self._blocks.pop(0)

    @property
    def samples(self) -> NDArray[np.float32]:
        """What is held, in order."""
        blocks = list(self._blocks)
        return np.concatenate(blocks) if blocks else np.zeros(0, np.float32)

    def close(self) -> None:
        """Nothing to finish."""

    def abandon(self) -> None:
        """Forget it."""
        self._blocks.clear()


def watch(
    backend: AudioBackend,
    tracks: tuple[PortRef, ...],
    rate_hz: int,
    tell: Callable[[Listen], None],
    should_stop: Callable[[], bool],
) -> None:
    """Tell twice a second what the newest stretch of each track holds, until it is stopped.

    Raises what ended it, where the device did (AudioDeviceError).
    """
    span = int(SPAN_S * rate_hz)
    sinks = [Held(span) for _ in tracks]
    recorder = Recorder(backend, sinks, rate_hz, start_frame=round(SETTLE_S * rate_hz))
    recorder.stop_when(should_stop)
    told_at = span - int(EVERY_S * rate_hz)

    def look() -> None:
        nonlocal told_at
        if sinks[0].frames - told_at < EVERY_S * rate_hz:
            return
        told_at = sinks[0].frames
        newest = {t: sink.samples[-span:] for t, sink in zip(tracks, sinks, strict=True)}
        tell(listen_of(newest, float(rate_hz)))

    done = recorder.run(look)
    if done.stopped_by is not None:
        raise done.stopped_by


def listen(
    backend: AudioBackend,
    tracks: tuple[PortRef, ...],
    rate_hz: int,
    should_stop: Callable[[], bool] = lambda: False,
) -> Listen:
    """Listen to some tracks' silence for two stretches; nothing is written.

    Raises what ended it, where the device did (AudioDeviceError).
    """
    sinks = [Held() for _ in tracks]
    recorder = Recorder(
        backend, sinks, rate_hz, frames=round(SPANS * SPAN_S * rate_hz),
        start_frame=round(SETTLE_S * rate_hz),
    )  # fmt: skip
    recorder.stop_when(should_stop)
    done = recorder.run()
    if done.stopped_by is not None:
        raise done.stopped_by
    return listen_of(
        {track: sink.samples for track, sink in zip(tracks, sinks, strict=True)}, float(rate_hz)
    )
