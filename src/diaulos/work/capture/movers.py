"""Play or tap to find out: the level of every input of a device, and which one moves.

Whoever plugs in does not see channel numbers. They tap, and one input's level rises far over
what it was a moment ago, while the others stay where they are.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.units import gain_to_db
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, StreamSpec

WINDOW_S = 0.05
MEMORY_S = 4.0
"""How long what an input was like without anybody playing is remembered."""
RISE_DB = 12.0
"""A tap is more than that over the quiet before it; hum that swells is not."""
AHEAD_DB = 6.0
"""By so much it moves more than any other; a neighbour that hears it too moves less."""
LEAST_DBFS = -70.0
"""Below that nobody plays."""
LOWEST_DBFS = -140.0


@dataclass(frozen=True)
class Movement:
    """All inputs at one moment: peak and held peak in dBFS, the quiet that each came from, and
    the one (from 0) that moves; None where none or several do."""

    peak_dbfs: tuple[float, ...]
    held_dbfs: tuple[float, ...]
    quiet_dbfs: tuple[float, ...]
    moves: int | None


class Movers:
    """Told block by block what came in; tells the newest movement."""

    def __init__(self, channels: int, rate_hz: int) -> None:
        self._frames = int(WINDOW_S * rate_hz)
        self._rest = np.zeros((0, channels), np.float32)
        self._past: deque[NDArray[np.float64]] = deque(maxlen=int(MEMORY_S / WINDOW_S))
        self._held = np.full(channels, LOWEST_DBFS)
        self._moved: tuple[int, float] | None = None

    def add(self, samples: NDArray[np.float32]) -> Movement | None:
        """What there is to say after these samples (frames, channels); None while it is the same
        window still."""
        self._rest = np.concatenate([self._rest, samples])
        told = None
        while self._rest.shape[0] >= self._frames:
            window, self._rest = self._rest[: self._frames], self._rest[self._frames :]
            told = self._window(window)
        return told

    def _window(self, window: NDArray[np.float32]) -> Movement:
        top = np.abs(window).max(axis=0)
        peak = np.array([max(LOWEST_DBFS, gain_to_db(float(one))) for one in top])
        # The median: a tap that is over is no quiet, and one window of silence neither.
        quiet = np.median(self._past, axis=0) if self._past else peak
        self._past.append(peak)
        self._held = np.maximum(self._held, peak)
        rise = np.where(peak > LEAST_DBFS, peak - np.maximum(quiet, LEAST_DBFS - RISE_DB), 0.0)
        order = np.argsort(rise)
        first = int(order[-1])
        second = float(rise[order[-2]]) if rise.size > 1 else 0.0
        moves = first if rise[first] >= RISE_DB and rise[first] - second >= AHEAD_DB else None
        return Movement(tuple(peak), tuple(self._held), tuple(quiet), moves)


def listen_for_movement(
    backend: AudioBackend,
    rate_hz: int,
    channels: int,
    tell: Callable[[Movement], None],
    stopped: Callable[[], bool],
    block_frames: int = 256,
) -> None:
    """Hear all inputs until it is stopped; AudioDeviceError when the device fails or goes."""
    movers = Movers(channels, rate_hz)
    capture = Capture(backend, StreamSpec(rate_hz, block_frames, channels, 0))

    def consume(samples: NDArray[np.float32]) -> None:
        movement = movers.add(samples)
        if movement is not None:
            tell(movement)

    failed = capture.run(lambda taken: consume(taken.samples), wanted=stopped)
    if failed is not None:
        raise failed
