"""A gate: what lies below a threshold is turned down, so that the noise of an amplifier does not
stand in the pauses.

Conventions
- Levels are peaks in dBFS of steps of 1 ms; a level counts for `HOLD_PEAK_S` after it, so that the
  lowest note does not look silent between two of its own peaks.
- It opens where the level reaches `open_dbfs`, and closes where it falls below `close_dbfs`, which
  is lower; after that it stays for `hold_ms`, then falls by a straight line in dB over
  `release_ms` down to `depth_db`. It is open `AHEAD_S` before the level that opened it: nothing is
  live, so no attack is lost.
- The gain depends on the whole recording and on nothing else: read from anywhere it is the same.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio
from diaulos.units import LOWEST_DB, gain_to_db

STEP_S = 0.001
HOLD_PEAK_S = 0.020
"""Half a period of the lowest note that anybody plays (26 Hz)."""
AHEAD_S = 0.004
NOTE_S = 0.08
"""What is louder for less than that is a click."""
ABOVE_FLOOR_DB = 10.0
LEAST_ROOM_DB = 12.0
"""Between the floor and the quietest note: below that a gate would cut notes."""
STRETCH_S = 0.3


@dataclass(frozen=True)
class GateSetting:
    """How a gate is set."""

    open_dbfs: float
    close_dbfs: float
    hold_ms: float = 60.0
    release_ms: float = 150.0
    depth_db: float = -80.0


@dataclass(frozen=True)
class GateProposal:
    """A setting, and what it rests on, in dBFS: the noise's peaks, the quietest note's."""

    setting: GateSetting
    floor_dbfs: float
    quietest_dbfs: float
    notes: int


class StepPeaks:
    """Peaks of steps of 1 ms, in any order of blocks."""

    def __init__(self, rate_hz: float) -> None:
        self._step, self._wide = 0, STEP_S * rate_hz
        self._rest = np.zeros(0)
        self._found: list[Audio] = []

    def add(self, block: Audio) -> None:
        """Mono samples that go on."""
        samples = np.concatenate([self._rest, np.abs(np.asarray(block, np.float64))])
        begun = round(self._step * self._wide)
        most = int((begun + samples.size) / self._wide) + 1
        edges = np.round(np.arange(self._step, most + 1) * self._wide).astype(int) - begun
        edges = edges[edges <= samples.size]
        if edges.size > 1:
            self._found.append(np.maximum.reduceat(samples[: edges[-1]], edges[:-1]))
            samples = samples[edges[-1] :]
            self._step += edges.size - 1
        self._rest = samples

    def peaks(self) -> Audio:
        """Of every whole step so far, and of what is left behind the last."""
        rest = [np.array([np.max(self._rest)])] if self._rest.size else []
        return np.concatenate([*self._found, *rest]) if self._found or rest else np.zeros(0)


def step_peaks(blocks: Iterable[Audio], rate_hz: float) -> Audio:
    """Peaks of the steps of a recording, linear.

    Parameters
    ----------
    blocks
        Mono samples in order.
    rate_hz
        Sample rate, Hz.

    Returns
    -------
    Shape (steps,), a step each ms.
    """
    found = StepPeaks(rate_hz)
    for block in blocks:
        found.add(block)
    return found.peaks()


def _levels(peaks: Audio) -> Audio:
    """dBFS, each peak counting for a while."""
    from scipy.ndimage import maximum_filter1d

    span = round(HOLD_PEAK_S / STEP_S)
    held = maximum_filter1d(peaks, span + 1, origin=span // 2, mode="constant", cval=0.0)
    return np.asarray(20.0 * np.log10(np.maximum(held, 1e-10)))


def open_steps(peaks: Audio, setting: GateSetting) -> Audio:
    """Where the gate is open, hold and what lies ahead of the attack included.

    Parameters
    ----------
    peaks
        Of the steps, linear, as `step_peaks` gives them.
    setting
        Thresholds and times.

    Returns
    -------
    True or False for each step.
    """
    level = _levels(peaks)
    mark = np.where(level >= setting.open_dbfs, 1, np.where(level < setting.close_dbfs, -1, 0))
    # The last that was decided goes on: between the thresholds everything stays as it is.
    places = np.where(mark != 0, np.arange(mark.size), -1)
    last = np.maximum.accumulate(places) if places.size else places
    is_open = np.where(last >= 0, mark[np.maximum(last, 0)] > 0, False)
    hold = round(setting.hold_ms * 1e-3 / STEP_S)
    ahead = round(AHEAD_S / STEP_S)
    return _widened(is_open, ahead, hold)


def _widened(is_open: Audio, ahead: int, behind: int) -> Audio:
    if not is_open.size:
        return is_open
    edges = np.diff(np.concatenate([[0], is_open.astype(int), [0]]))
    counts = np.zeros(is_open.size + 1, dtype=int)
    starts = np.maximum(0, np.flatnonzero(edges == 1) - ahead)
    ends = np.minimum(is_open.size, np.flatnonzero(edges == -1) + behind)
    np.add.at(counts, starts, 1)
    np.add.at(counts, ends, -1)
    return np.asarray(np.cumsum(counts[:-1]) > 0)


def gate_gain_db(peaks: Audio, setting: GateSetting) -> Audio:
    """Gain of each step.

    Parameters
    ----------
    peaks
        Of the steps, linear.
    setting
        Thresholds and times.

    Returns
    -------
    dB, 0 where it is open, `depth_db` where it is closed, shape (steps,).
    """
    is_open = open_steps(peaks, setting)
    if not is_open.size:
        return np.zeros(0)
    at = np.arange(is_open.size)
    last_open = np.maximum.accumulate(np.where(is_open, at, -(10**9)))
    since = (at - last_open).astype(np.float64)
    steps = max(1.0, setting.release_ms * 1e-3 / STEP_S)
    falling = setting.depth_db * np.minimum(1.0, since / steps)
    return np.where(is_open, 0.0, falling)


def gain_at(gain_db: Audio, first: int, count: int, rate_hz: float) -> Audio:
    """Gain of single samples, linear: on a straight line in dB between the steps' middles; below
    the depth of any gate it is 0 dB where there is no step.

    Parameters
    ----------
    gain_db
        Of the steps.
    first
        First sample, from the recording's beginning; may lie ahead of it.
    count
        How many.
    rate_hz
        Sample rate, Hz.

    Returns
    -------
    Shape (count,).
    """
    if not gain_db.size:
        return np.ones(count)
    middles = (np.arange(gain_db.size) + 0.5) * STEP_S * rate_hz
    at = np.arange(first, first + count, dtype=np.float64)
    low = max(0, int(first / (STEP_S * rate_hz)) - 2)
    high = min(gain_db.size, int((first + count) / (STEP_S * rate_hz)) + 3)
    part = slice(min(low, gain_db.size - 1), max(high, 1))
    return np.asarray(10.0 ** (np.interp(at, middles[part], gain_db[part]) / 20.0))


def propose_gate(peaks: Audio) -> GateProposal:
    """A setting from the noise in the pauses and the quietest note.

    Parameters
    ----------
    peaks
        Of the steps, linear.

    Returns
    -------
    Thresholds between the two, the one for closing nearer to the noise.

    Raises
    ------
    RefusedError
        Where nothing is quiet for 0.3 s, nothing is played, or the quietest note lies too close to
        the noise.
    """
    stretch = round(STRETCH_S / STEP_S)
    if peaks.size < 2 * stretch:
        raise RefusedError("too_short", "it is too short for a gate.")
    level = _levels(peaks)
    # Digital silence is a gap, and no noise.
    sound = peaks > 1e-7
    rows = level[: level.size // stretch * stretch].reshape(-1, stretch)
    whole = sound[: rows.size].reshape(-1, stretch).mean(axis=1) > 0.5
    if not np.any(whole):
        raise RefusedError("silence", "there is no noise in it to cut.")
    floor = float(np.min(np.max(rows[whole], axis=1)))
    loud = level >= floor + ABOVE_FLOOR_DB
    edges = np.diff(np.concatenate([[0], loud.astype(int), [0]]))
    starts, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    notes = [
        float(np.max(level[a:b]))
        for a, b in zip(starts, ends, strict=True)
        if (b - a) * STEP_S >= NOTE_S + HOLD_PEAK_S
    ]
    if not notes or float(np.mean(loud)) > 0.98:
        raise RefusedError(
            "no_pause", "there is no pause in it: nothing is quiet for 0.3 s.",
            remedy="A gate needs a pause; choose a take with one.",
        )  # fmt: skip
    quietest = min(notes)
    room = quietest - floor
    if room < LEAST_ROOM_DB:
        raise RefusedError(
            "too_close", f"the quietest note lies only {room:.1f} dB above the noise: a gate would "
            "cut it.",
            remedy="Lower the noise at its source, or the drive; see Takes, noise check.",
        )  # fmt: skip
    close = floor + min(6.0, 0.3 * room)
    opened = floor + min(15.0, 0.6 * room)
    return GateProposal(GateSetting(round(opened, 1), round(close, 1)), floor, quietest, len(notes))


@dataclass(frozen=True)
class GateEffect:
    """What a setting does: the part of the time that it is closed; how often it opens; by how much
    the level of the closed parts falls; the least room between a note that opens it and the
    threshold, dB; how many notes above the noise never open it."""

    closed: float
    openings: int
    pauses_before_dbfs: float | None
    pauses_after_dbfs: float | None
    missed: int


def gate_effect(peaks: Audio, setting: GateSetting, floor_dbfs: float) -> GateEffect:
    """What a setting would do to a recording.

    Parameters
    ----------
    peaks
        Of the steps, linear.
    setting
        Thresholds and times.
    floor_dbfs
        Peaks of the noise: notes are what lies well above.

    Returns
    -------
    The figures.
    """
    is_open = open_steps(peaks, setting)
    gain = gate_gain_db(peaks, setting)
    edges = np.diff(np.concatenate([[0], is_open.astype(int)]))
    shut = gain <= setting.depth_db + 1e-9
    before = after = None
    if np.any(shut):
        before = gain_to_db(float(np.sqrt(np.mean(peaks[shut] ** 2))))
        after = max(LOWEST_DB, before + setting.depth_db)
    level = _levels(peaks)
    loud = level >= floor_dbfs + ABOVE_FLOOR_DB
    bounds = np.diff(np.concatenate([[0], loud.astype(int), [0]]))
    starts, ends = np.flatnonzero(bounds == 1), np.flatnonzero(bounds == -1)
    missed = sum(
        1
        for a, b in zip(starts, ends, strict=True)
        if (b - a) * STEP_S >= NOTE_S + HOLD_PEAK_S and not np.any(is_open[a:b])
    )
    return GateEffect(
        1.0 - float(np.mean(is_open)) if is_open.size else 0.0,
        int(np.count_nonzero(edges == 1)), before, after, missed,
    )  # fmt: skip
