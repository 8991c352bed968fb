"""Loudness after ITU-R BS.1770 and the arithmetic of matching.

Quantities
- Integrated loudness in LUFS: K-weighting, 400 ms blocks every 100 ms, gated at -70 LUFS
  and at 10 LU under the mean of what is left (BS.1770, from memory).
- Under 3 s there are too few blocks to gate: the ungated K-weighted RMS of the whole, on
  the same scale, is given instead, and `method` says so.
- Layout "as monitored": a mono track beside a stereo one is heard from both speakers and
  counts as two equal channels, 3.01 LU more than one channel alone.

The filter is the Recommendation's table at 48 kHz. At other rates the same analog
prototypes are transformed again and the gain is set equal at 300 Hz, so that the
response is the same within 0.01 dB over the audio band.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate

Real = NDArray[np.float64]
Layout = Literal["mono", "dual_mono", "stereo"]
Method = Literal["integrated", "rms"]

OFFSET_LU = -0.691
"""BS.1770: cancels the K-weighting's gain at 997 Hz."""

SHORTEST_GATED_S = 3.0
ABSOLUTE_GATE_LUFS = -70.0
RELATIVE_GATE_LU = -10.0
SILENT_LUFS = -70.0

# BS.1770 table 1 (shelf) and table 2 (high-pass), 48 kHz, from memory.
_SHELF_48K = ((1.53512485958697, -2.69169618940638, 1.19839281085285),
              (1.0, -1.69065929318241, 0.73248077421585))  # fmt: skip
_HIGH_PASS_48K = ((1.0, -2.0, 1.0), (1.0, -1.99004745483398, 0.99007225036621))

# Analog prototypes that give that table at 48 kHz (derived by inverting the bilinear
# transform of the table; they reproduce it to 1e-9).
_SHELF_HZ, _SHELF_Q, _SHELF_DB = 1681.974450955533, 0.7071752369554196, 3.999843853973347
_SHELF_MID = 0.4996667741545416
_HIGH_PASS_HZ, _HIGH_PASS_Q = 38.13547087602444, 0.5003270373238773

_CHUNK = 65_536


@lru_cache(maxsize=16)
def k_weighting_sos(rate_hz: float) -> Real:
    """The K-weighting as two second-order sections, shape (2, 6).

    Parameters
    ----------
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    Two sections, shape (2, 6).

    Raises
    ------
    InputError
        For an impossible rate.
    """
    require_rate(rate_hz)
    if rate_hz == 48_000.0:
        return np.array(
            [[*_SHELF_48K[0], *_SHELF_48K[1]], [*_HIGH_PASS_48K[0], *_HIGH_PASS_48K[1]]]
        )
    k = math.tan(math.pi * _SHELF_HZ / rate_hz)
    high = 10.0 ** (_SHELF_DB / 20.0)
    mid = high**_SHELF_MID
    a0 = 1.0 + k / _SHELF_Q + k * k
    shelf = [
        (high + mid * k / _SHELF_Q + k * k) / a0,
        2.0 * (k * k - high) / a0,
        (high - mid * k / _SHELF_Q + k * k) / a0,
        1.0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / _SHELF_Q + k * k) / a0,
    ]
    k = math.tan(math.pi * _HIGH_PASS_HZ / rate_hz)
    a0 = 1.0 + k / _HIGH_PASS_Q + k * k
    high_pass = [
        1.0, -2.0, 1.0, 1.0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / _HIGH_PASS_Q + k * k) / a0,
    ]  # fmt: skip
    sos = np.array([shelf, high_pass])
    sos[1, :3] *= _gain_at(k_weighting_sos(48_000.0), 48_000.0) / _gain_at(sos, rate_hz)
    return sos


def _gain_at(sos: Real, rate_hz: float, hz: float = 300.0) -> float:
    z = np.exp(-2j * np.pi * hz / rate_hz)
    gain = 1.0
    for b0, b1, b2, a0, a1, a2 in sos:
        gain *= abs((b0 + b1 * z + b2 * z * z) / (a0 + a1 * z + a2 * z * z))
    return gain


@dataclass(frozen=True)
class Loudness:
    """A loudness reading. `lufs` is minus infinity for silence."""

    lufs: float
    method: Method
    layout: Layout
    seconds: float


class _ChannelEnergy:
    """K-weighted energy of one channel in steps of 100 ms, from blocks of any size."""

    def __init__(self, rate_hz: float) -> None:
        self._sos = k_weighting_sos(rate_hz)
        self._state = np.zeros((2, 2))
        self._hop = round(0.1 * rate_hz)
        self._steps: list[Real] = []
        self._partial = 0.0
        self._partial_count = 0

    def add(self, column: Audio) -> None:
        from scipy.signal import sosfilt

        for first in range(0, column.size, _CHUNK):
            chunk = column[first : first + _CHUNK]
            weighted, self._state = sosfilt(self._sos, chunk, zi=self._state)
            self._collect(np.square(weighted, out=weighted))

    def _collect(self, squares: Real) -> None:
        need = self._hop - self._partial_count
        if squares.size < need:
            self._partial += float(squares.sum())
            self._partial_count += squares.size
            return
        first = np.array([self._partial + float(squares[:need].sum())])
        whole = (squares.size - need) // self._hop
        body = squares[need : need + whole * self._hop].reshape(whole, self._hop).sum(axis=1)
        rest = squares[need + whole * self._hop :]
        self._steps.append(np.concatenate([first, body]))
        self._partial, self._partial_count = float(rest.sum()), rest.size

    def totals(self) -> tuple[Real, float]:
        """Energy of the whole steps, and of what is left over."""
        return (np.concatenate(self._steps) if self._steps else np.zeros(0)), self._partial


class LoudnessMeter:
    """Loudness from blocks of any size, so that long files stream.

    `channels` is the width of the blocks; a mono track is measured as "mono" or, beside a
    stereo one, as "dual_mono".
    """

    def __init__(self, rate_hz: float, channels: int, layout: Layout | None = None) -> None:
        self._rate_hz = rate_hz
        self._layout: Layout = layout or ("mono" if channels == 1 else "stereo")
        self._weight = 2.0 if self._layout == "dual_mono" and channels == 1 else 1.0
        self._channels = [_ChannelEnergy(rate_hz) for _ in range(channels)]
        self._frames = 0

    def add(self, block: Audio) -> None:
        """Take in a block, (frames,) or (frames, channels)."""
        columns = [block] if block.ndim == 1 else list(block.T)
        self._frames += block.shape[0]
        if len(columns) > 1 and block.shape[0] > 4 * _CHUNK:
            # The filter releases the interpreter lock: a thread per channel is a gain.
            with ThreadPoolExecutor(2) as pool:
                list(pool.map(_ChannelEnergy.add, self._channels, columns))
        else:
            for channel, column in zip(self._channels, columns, strict=True):
                channel.add(column)

    def reading(self) -> Loudness:
        """The loudness of all blocks so far."""
        seconds = self._frames / self._rate_hz
        totals = [channel.totals() for channel in self._channels]
        steps = np.sum([whole for whole, _ in totals], axis=0)
        if seconds < SHORTEST_GATED_S:
            total = float(steps.sum()) + sum(rest for _, rest in totals)
            mean = total * self._weight / max(self._frames, 1)
            return Loudness(_to_lufs(mean), "rms", self._layout, seconds)
        hop = round(0.1 * self._rate_hz)
        blocks = np.convolve(steps, np.ones(4), mode="valid") * self._weight / (4 * hop)
        return Loudness(_gated(blocks), "integrated", self._layout, seconds)


def _to_lufs(mean_square: float) -> float:
    return OFFSET_LU + 10.0 * math.log10(mean_square) if mean_square > 1e-30 else -math.inf


def _gated(blocks: Real) -> float:
    above = blocks[blocks > 10.0 ** ((ABSOLUTE_GATE_LUFS - OFFSET_LU) / 10.0)]
    if above.size == 0:
        return -math.inf
    relative = float(above.mean()) * 10.0 ** (RELATIVE_GATE_LU / 10.0)
    return _to_lufs(float(above[above > relative].mean()))


def common_layouts(channels_a: int, channels_b: int) -> tuple[Layout, Layout]:
    """How two tracks are heard side by side: mono counts twice beside stereo.

    Parameters
    ----------
    channels_a
        Channels of one track.
    channels_b
        Channels of the other.

    Returns
    -------
    The layouts of both.
    """
    if channels_a == channels_b:
        layout: Layout = "mono" if channels_a == 1 else "stereo"
        return layout, layout
    return ("dual_mono" if channels_a == 1 else "stereo"), (
        "dual_mono" if channels_b == 1 else "stereo"
    )


@dataclass(frozen=True)
class Match:
    """Gains that bring a track to a reference's loudness.

    `gain_db` goes on the track, `pair_offset_db` (0 or negative) on track and reference
    alike, where the track alone would pass the true-peak ceiling.
    """

    reference_lufs: float
    before_lufs: float
    gain_db: float
    pair_offset_db: float
    after_lufs: float
    method: Method
    true_peak_dbtp: float

    @property
    def total_db(self) -> float:
        """Gain on the track, the pair's offset included."""
        return self.gain_db + self.pair_offset_db


def solve_match(
    reference: Loudness, track: Loudness, track_true_peak_dbtp: float, ceiling_dbtp: float = -1.0
) -> Match:
    """The gain that matches `track` to `reference` without passing the ceiling.

    Parameters
    ----------
    reference
        What is to be matched.
    track
        What is matched to it.
    track_true_peak_dbtp
        True peak of the track in dBTP.
    ceiling_dbtp
        What no true peak may pass, in dBTP.

    Returns
    -------
    Gain in dB, what the pair comes down by, levels before and after.

    Raises
    ------
    RefusedError
        ("silent") where one of the two is.
    """
    for name, reading in (("reference", reference), ("track", track)):
        if reading.lufs < SILENT_LUFS:
            raise RefusedError(
                "silent",
                f"The {name} is silent or under {SILENT_LUFS:g} LUFS; it cannot be matched.",
                remedy="Choose a part that holds the performance.",
            )
    gain = reference.lufs - track.lufs
    offset = min(0.0, ceiling_dbtp - (track_true_peak_dbtp + gain))
    method: Method = "integrated" if track.method == reference.method == "integrated" else "rms"
    return Match(
        reference_lufs=reference.lufs,
        before_lufs=track.lufs,
        gain_db=gain,
        pair_offset_db=offset,
        after_lufs=reference.lufs + offset,
        method=method,
        true_peak_dbtp=track_true_peak_dbtp + gain + offset,
    )
