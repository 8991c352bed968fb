"""How long a real device takes from an output to an input, by a cable between them.

A quiet sweep goes round, twice: what the two say apart is the error. What the driver claims
stands beside it; an overdub goes by what was measured.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.slate import SlateReading, make_slate, read_slate
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.recorder import BLOCK_FRAMES
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, CancelToken, StreamInfo, StreamSpec

LEVELS_DBFS = (-40.0, -26.0)
"""Tried in turn until it comes back: what is plugged by mistake is not startled."""
LEAST_ERROR = 0.005
"""A sweep tells no better, whatever two of them agree on."""
TURNS = 2
TRIES = 8
"""Sweeps at most: some of them have holes where a computer is held up."""


@dataclass(frozen=True)
class RoundTrip:
    """From what is put out to what comes in, in samples; `claimed_samples` is the driver's."""

    samples: float
    error_samples: float
    claimed_samples: float
    polarity: int
    rate_hz: int
    level_dbfs: float
    lost_frames: int
    block_frames: int = 0
    """Frames per cycle of the device meanwhile; 0 where nobody says."""


def measure_round_trip(
    backend: AudioBackend,
    rate_hz: int,
    cancel: CancelToken | None = None,
    *,
    block_frames: int = BLOCK_FRAMES,
) -> RoundTrip:
    """Measure it on the channels that the back end is tied to.

    RefusedError when nothing comes back at any level, or two sweeps disagree by a sample;
    AudioDeviceError when the device fails.
    """
    token = cancel or CancelToken()
    for level in LEVELS_DBFS:
        found = _turns(backend, rate_hz, level, token, block_frames)
        if found is not None:
            return found
    raise RefusedError(
        "not_heard",
        "Nothing came back at the input.",
        remedy="Plug a cable from this output to this input, and raise the input's gain.",
    )


def _turns(
    backend: AudioBackend, rate_hz: int, level: float, cancel: CancelToken, block_frames: int
) -> RoundTrip | None:
    delays: list[float] = []
    claimed, lost, block = 0.0, 0, 0
    polarity = 1
    for _ in range(TRIES):
        if len(delays) == TURNS:
            break
        reading, info, missing = _sweep(backend, rate_hz, level, cancel, block_frames)
        if missing:
            # A sweep with holes measures the holes.
            lost += missing
            continue
        if not reading.heard or reading.delay_samples is None:
            return None
        delays.append(reading.delay_samples)
        polarity = reading.polarity or 1
        claimed = rate_hz * (info.input_latency_s + info.output_latency_s)
        block = info.block_frames
    if len(delays) < TURNS:
        raise RefusedError(
            "blocks_lost",
            f"Blocks were lost in {TRIES - len(delays)} of {TRIES} sweeps.",
            remedy="Choose a longer block, give the server its real-time rights, end what else "
            "runs, and measure again.",
        )
    spread = max(delays) - min(delays)
    if spread > 1.0:
        raise RefusedError(
            "unsteady",
            f"Two measurements differ by {spread:.1f} samples.",
            remedy="Choose a longer block, end what else runs, and measure again.",
        )
    return RoundTrip(
        samples=float(np.mean(delays)),
        error_samples=max(LEAST_ERROR, spread),
        claimed_samples=claimed,
        polarity=polarity,
        rate_hz=rate_hz,
        level_dbfs=level,
        lost_frames=lost,
        block_frames=block,
    )


def _sweep(
    backend: AudioBackend, rate_hz: int, level: float, cancel: CancelToken, block_frames: int
) -> tuple[SlateReading, StreamInfo, int]:
    slate = make_slate(float(rate_hz), level)
    heard: list[NDArray[np.float32]] = []
    sent = slate.samples.astype(np.float32)[:, None]
    capture = Capture(
        backend,
        StreamSpec(rate_hz, block_frames),
        frames=slate.frames,
        ahead=Ahead(iter([sent]), 1, rate_hz),
    )
    failed = capture.run(lambda taken: heard.append(taken.samples), cancel.check)
    if failed is not None:
        raise failed
    assert capture.info is not None
    samples = np.concatenate(heard)[:, 0].astype(np.float64)
    return read_slate(slate, samples), capture.info, int(capture.xruns)
