"""A sweep sent out and heard again through one stream: the response of what lies between; or, where
nobody has a coil, plucks by hand."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.identify import Response
from diaulos.errors import RefusedError
from diaulos.signal.plucked import Plucked, read_plucks
from diaulos.signal.response import SweptResponse, make_sweep, read_response
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.recorder import BLOCK_FRAMES
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, CancelToken, Progress, StreamSpec, no_progress

TRIES = 3
"""A sweep with holes is sent again."""


def swept_response(
    backend: AudioBackend, rate_hz: int, level_dbfs: float, progress: Progress = no_progress,
    cancel: CancelToken | None = None, *, block_frames: int = BLOCK_FRAMES,
) -> SweptResponse:  # fmt: skip
    """Send a sweep at a peak level and read what comes in.

    RefusedError where nothing is heard, it clips, or blocks were lost each time; AudioDeviceError
    when the device fails.
    """
    token = cancel or CancelToken()
    sweep = make_sweep(float(rate_hz), level_dbfs)
    sent = sweep.samples.astype(np.float32)[:, None]
    for _ in range(TRIES):
        heard: list[NDArray[np.float32]] = []
        capture = Capture(
            backend, StreamSpec(rate_hz, block_frames), frames=sweep.samples.size,
            ahead=Ahead(iter([sent]), 1, rate_hz),
        )  # fmt: skip

        def look(capture: Capture = capture) -> None:
            token.check()
            progress(min(1.0, capture.captured / sweep.samples.size), "Sweeping")

        failed = capture.run(
            lambda taken, heard=heard: heard.append(taken.samples),  # type: ignore[misc]
            look,
        )
        if failed is not None:
            raise failed
        if not capture.xruns:
            return read_response(sweep, np.concatenate(heard)[:, 0].astype(np.float64))
    raise RefusedError(
        "blocks_lost", f"Blocks were lost in {TRIES} sweeps.",
        remedy="Choose a longer block, end what else runs, and measure again.",
    )  # fmt: skip


def plucked_response(
    backend: AudioBackend, rate_hz: int, seconds: float, progress: Progress = no_progress,
    cancel: CancelToken | None = None, *, block_frames: int = BLOCK_FRAMES,
) -> Plucked:  # fmt: skip
    """Record somebody who plucks one string after another, and read the mean spectrum.

    RefusedError where it clips or too little was played; AudioDeviceError when the device fails.
    """
    token = cancel or CancelToken()
    total = round(seconds * rate_hz)
    heard: list[NDArray[np.float32]] = []
    capture = Capture(backend, StreamSpec(rate_hz, block_frames), frames=total)

    def look() -> None:
        token.check()
        left = max(0.0, seconds - capture.captured / rate_hz)
        done = min(1.0, capture.captured / total)
        progress(done, f"Pluck one string after another: {left:.0f} s")

    failed = capture.run(lambda taken: heard.append(taken.samples[:, 0]), look)
    if failed is not None:
        raise failed
    return read_plucks(np.concatenate(heard)[:total].astype(np.float64), float(rate_hz))


def into_load(
    swept: SweptResponse | Plucked, load_ohm: float, load_f: float, name: str = ""
) -> Response:
    """What was swept or plucked, as the response into a load."""
    hz, db = np.asarray(swept.hz, np.float64), np.asarray(swept.db, np.float64)
    return Response(load_ohm, load_f, hz, db, name)
