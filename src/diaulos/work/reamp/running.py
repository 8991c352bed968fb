"""The running loop: a range of the DI goes round while a person turns knobs or moves a microphone.

Every half second it is told how what comes back differs from a held reference: level, third
octaves, and how hard it is driven. Both are compared over the same frames of the DI, so that what
is played makes no difference. Places of the range are told in the stream's own time: what comes
back at frame n belongs to place n modulo the range's length.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio
from diaulos.signal.delay import find_alignment
from diaulos.units import db_to_gain
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.loop import BLOCK_FRAMES, RAMP_S
from diaulos.work.capture.ring import Taken
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, StreamSpec

Real = NDArray[np.float64]

TOLD_S = 0.5
"""How often it is told."""
WINDOW_S = 3.0
"""What is compared: the last so many seconds."""
LEAST_S = 1.0
JOIN_S = 0.005
"""The end of the range goes over into its beginning."""
SEGMENT = 8_192
DRIVE_SEGMENT = 2_048
FLOOR_DB = -70.0
"""Bands this far under the loudest are not compared: noise decides there."""
CENTRES_HZ = tuple(1_000.0 * 2.0 ** (n / 3.0) for n in range(-12, 13))
"""Third octaves from 63 Hz to 16 kHz (IEC 61260-1, base two)."""
SETTLE_S = 0.1
"""After a change so much is left out: what the loop still rings of."""
LOST_S = 0.5
"""After sound was lost: what was not sent meanwhile is still on its way."""


@dataclass(frozen=True)
class Difference:
    """What comes back now against the reference, in dB. `bands` are (Hz, dB) where both are heard;
    `drive_db` is how much more of it the DI does not explain, None where that cannot be told."""

    level_db: float
    bands: tuple[tuple[float, float], ...]
    drive_db: float | None
    seconds: float
    """Of what is compared."""
    level_dbfs: float
    peak_dbfs: float


Waits = Literal["", "no reference", "not held", "change", "lost"]
"""For nothing; for a reference; for a place that the reference has; for a second since something
was changed, or since sound was lost."""


@dataclass(frozen=True)
class Told:
    """The figures of a moment; `difference` is None where nothing can be compared, and `waits`
    says for what it waits. `lost` frames were lost so far."""

    difference: Difference | None
    level_dbfs: float
    peak_dbfs: float
    rounds: float
    lost: int = 0
    waits: Waits = ""


def compare(now: Audio, before: Audio, di: Audio | None, rate_hz: float) -> Difference:
    """Two returns of the same stretch of a DI, in time with each other; `di` in time with both.

    Parameters
    ----------
    now, before
        Samples, shape (frames,) each.
    di
        Samples of what was sent, shape (frames,); None: drive is not told.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    What `now` has more than `before`.
    """
    from scipy.signal import welch

    segment = min(SEGMENT, now.size)
    freqs, powers = welch(
        np.stack([now, before]), rate_hz, nperseg=segment, noverlap=3 * segment // 4
    )
    bands = []
    both = []
    for centre in CENTRES_HZ:
        inside = (freqs >= centre * 2.0 ** (-1 / 6)) & (freqs < centre * 2.0 ** (1 / 6))
        if np.any(inside):
            both.append((centre, powers[0][inside].sum(), powers[1][inside].sum()))
    loudest = max((max(a, b) for _, a, b in both), default=0.0)
    floor = loudest * 10.0 ** (FLOOR_DB / 10.0)
    for centre, a, b in both:
        if min(a, b) > floor:
            bands.append((centre, float(10.0 * np.log10(a / b))))
    level = _rms_db(now) - _rms_db(before)
    drive = None
    if di is not None and now.size > 8 * DRIVE_SEGMENT:
        drive = unexplained_db(di, now, rate_hz) - unexplained_db(di, before, rate_hz)
    return Difference(
        level, tuple(bands), drive, now.size / rate_hz, _rms_db(now),
        float(20.0 * np.log10(np.max(np.abs(now), initial=1e-10))),
    )  # fmt: skip


def _rms_db(samples: Audio) -> float:
    return float(10.0 * np.log10(np.mean(np.square(samples, dtype=np.float64)) * 2.0 + 1e-20))


def unexplained_db(di: Audio, back: Audio, rate_hz: float) -> float:
    """The share of a return that no linear filter makes of the DI (one less the magnitude-squared
    coherence, weighted with the DI's power, so that a filter behind it changes nothing), in dB:
    distortion, and noise.

    Parameters
    ----------
    di, back
        Samples in time with each other, shape (frames,) each.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    dB re the return, 0 at most.
    """
    from scipy.signal import coherence, welch

    some = {"nperseg": DRIVE_SEGMENT, "noverlap": DRIVE_SEGMENT // 2}
    _, alike = coherence(di, back, rate_hz, **some)
    _, power = welch(di, rate_hz, **some)
    share = float(np.sum((1.0 - alike) * power) / max(float(np.sum(power)), 1e-30))
    return 10.0 * float(np.log10(max(share, 1e-6)))


class RunningLoop:
    """One range going round. `run` holds the thread that calls it until `stop`; all else may be
    called from another one."""

    def __init__(self, di: Audio, rate_hz: int, send_gain_db: float) -> None:
        self._di = np.asarray(di, dtype=np.float32)
        self._rate, self._gain = rate_hz, np.float32(db_to_gain(send_gain_db))
        self._lock = threading.Lock()
        self._stopping = False
        self._following: AudioBackend | None = None
        self._ref = np.zeros(di.size, np.float32)
        self._held = np.zeros(di.size, bool)
        """Places of the range that the reference has."""
        self._now = np.zeros(di.size, np.float32)
        self._heard = np.zeros(di.size, bool)
        """Places that were heard since the last change."""
        self._at = self._since = 0
        """Frames of the stream that came, and those since the last change."""
        self._settle_s, self._lost, self._unsent = SETTLE_S, 0, 0
        self._delay: float | None = None

    # --- what a person does ---

    def stop(self) -> None:
        """End it."""
        self._stopping = True

    def change(self, backend: AudioBackend) -> None:
        """The loop is another one from now on: a control of the simulated studio was turned."""
        with self._lock:
            self._following = backend

    def touched(self) -> None:
        """Somebody turned something: what was heard before says nothing of it any more."""
        with self._lock:
            self._heard[:] = False
            self._since, self._settle_s = 0, SETTLE_S

    def hold(self) -> float:
        """What was heard since the last change is the reference; how much of the range that is."""
        with self._lock:
            self._ref, self._held = self._now.copy(), self._heard.copy()
            return float(np.mean(self._held))

    def hold_this(self, samples: Audio) -> bool:
        """A track or a pass is the reference: its samples over the range, in the DI's time. False
        while it is not known how late the loop is."""
        with self._lock:
            late = self._found_delay()
            if late is None:
                return False
            self._ref = np.roll(np.asarray(samples, np.float32), round(late))
            self._held = np.ones(self._held.size, bool)
            return True

    @property
    def last_round(self) -> NDArray[np.float32]:
        """What came back in the last round, in the DI's time; silence where nothing came yet."""
        with self._lock:
            late = self._found_delay() or 0.0
            return np.roll(np.where(self._heard, self._now, np.float32(0.0)), -round(late))

    @property
    def reference(self) -> NDArray[np.float32]:
        """The reference in the DI's time; silence where it has none."""
        with self._lock:
            late = self._found_delay() or 0.0
            return np.roll(np.where(self._held, self._ref, np.float32(0.0)), -round(late))

    # --- running ---

    def run(self, backend: AudioBackend, told: Callable[[Told], None],
            pace: Callable[[int], None] = lambda frames: None) -> None:  # fmt: skip
        """Send the range round and round, until it is stopped. `pace` is given the frames of the
        stream that came, and waits where the stream is faster than time. What ends it otherwise is
        raised."""
        wait: AudioBackend | None = backend
        while wait is not None and not self._stopping:
            current, wait = wait, None
            with self._lock:
                self._at = self._since = 0
                self._settle_s, self._unsent = SETTLE_S, 0
                self._heard[:] = False
            ahead = Ahead(self._blocks(), 1, self._rate)
            spec = StreamSpec(self._rate, BLOCK_FRAMES, input_channels=1, output_channels=1)
            capture = Capture(
                current, spec, start=int(RAMP_S * self._rate), ahead=ahead, ring_s=0.1
            )
            last = 0

            def consume(taken: Taken, sent: Ahead = ahead) -> None:
                nonlocal last
                self._take_in(taken, sent.late_frames)
                pace(self._at)
                if self._at - last >= TOLD_S * self._rate:
                    last = self._at
                    told(self.figures())

            failed = capture.run(
                consume, wanted=lambda: self._stopping or self._following is not None
            )
            if failed is not None:
                raise failed
            with self._lock:
                wait, self._following = self._following, None

    def _blocks(self) -> Iterator[NDArray[np.float32]]:
        """The range at its gain, for ever, behind a rise; its end goes over into its beginning."""
        di = self._di * self._gain
        fade = max(1, min(round(JOIN_S * self._rate), di.size // 4))
        rise = (0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)).astype(np.float32)
        joined = di.copy()
        joined[:fade] *= rise
        joined[-fade:] *= rise[::-1]
        ramp = min(int(RAMP_S * self._rate), di.size)
        yield np.zeros((int(RAMP_S * self._rate), 1), np.float32)
        first = joined.copy()  # nothing jumps at an amplifier
        first[:ramp] *= np.linspace(0.0, 1.0, ramp, dtype=np.float32)
        yield first[:, None]
        while True:
            yield joined[:, None]

    def _take_in(self, taken: Taken, unsent: int) -> None:
        """What came; `unsent` frames were not ready in time so far, and silence went out."""
        samples, lost = taken.samples[:, 0], taken.lost + unsent - self._unsent
        with self._lock:
            length = self._now.size
            if lost:
                gone = self._at + np.arange(min(taken.lost, length))
                self._heard[gone % length] = False
                self._lost, self._unsent = self._lost + lost, unsent
                self._since, self._settle_s = 0, LOST_S
            self._at += taken.lost
            places = (self._at + np.arange(samples.size)) % length
            self._now[places] = samples
            settled = self._since + np.arange(samples.size) >= self._settle_s * self._rate
            self._heard[places] = settled
            self._at += samples.size
            self._since += samples.size

    # --- figures ---

    def figures(self) -> Told:
        """Of the last seconds."""
        with self._lock:
            length, rate = self._now.size, self._rate
            count = min(round(WINDOW_S * rate), self._since - round(self._settle_s * rate), length)
            rounds, lost = self._at / length, self._lost
            if count < LEAST_S * rate:
                why: Waits = "lost" if self._settle_s == LOST_S else "change"
                return Told(None, -200.0, -200.0, rounds, lost, why)
            places = (self._at - count + np.arange(count)) % length
            now = self._now[places].astype(np.float64)
            known = self._held[places]
            before = self._ref[places].astype(np.float64)
            late = self._found_delay()
            di = None
            if late is not None:
                di = self._di[(places - round(late)) % length].astype(np.float64)
        level, peak = _rms_db(now), float(20.0 * np.log10(np.max(np.abs(now)) + 1e-10))
        if np.mean(known) * count < LEAST_S * rate:
            none: Waits = "not held" if np.any(self._held) else "no reference"
            return Told(None, level, peak, rounds, lost, none)
        if not np.all(known):
            # The longest run that the reference has.
            edges = np.flatnonzero(np.diff(np.concatenate([[0], known.astype(int), [0]])))
            starts, stops = edges[::2], edges[1::2]
            longest = int(np.argmax(stops - starts))
            part = slice(int(starts[longest]), int(stops[longest]))
            if part.stop - part.start < LEAST_S * rate:
                return Told(None, level, peak, rounds, lost, "not held")
            now, before = now[part], before[part]
            di = None if di is None else di[part]
        return Told(compare(now, before, di, float(rate)), level, peak, rounds, lost)

    def _found_delay(self) -> float | None:
        """How late the return is, found once from the first seconds; None before."""
        if self._delay is not None:
            return self._delay
        count = min(self._at, self._now.size)
        if count < 2 * self._rate and count < self._now.size:
            return None
        try:
            found = find_alignment(
                self._di[:count].astype(np.float64), self._now[:count].astype(np.float64),
                float(self._rate), within=(0.0, min(0.5 * count, float(self._rate))),
            )  # fmt: skip
        except RefusedError:
            return None
        self._delay = found.delay_samples
        return self._delay
