"""Before anything is sent: is the return silent while nothing goes out?

A return that is heard in the send (the recorder's own monitoring, a mixer's cross feed) howls as
soon as the amplifier's gain is up, and a sweep or a take would make it louder.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.figures import number
from diaulos.signal.peaks import rms_dbfs
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, CancelToken, StreamSpec

LISTEN_S = 0.5
LOUD_DBFS = -30.0
"""RMS after AES17. An amplifier that only hums and hisses at a usual return level lies far below
(common practice, no source)."""


def require_quiet_return(
    backend: AudioBackend,
    rate_hz: int,
    cancel: CancelToken,
    names: Sequence[str] = ("the return",),
    block_frames: int = 512,
) -> None:
    """Listen to the returns for half a second while silence is sent. RefusedError
    ("return_howls") where one is loud; AudioDeviceError when the device fails."""
    heard: list[NDArray[np.float32]] = []
    spec = StreamSpec(rate_hz, block_frames, input_channels=len(names))
    capture = Capture(backend, spec, frames=int(LISTEN_S * rate_hz))
    failed = capture.run(lambda taken: heard.append(taken.samples), cancel.check)
    if failed is not None:
        raise failed
    samples = np.concatenate(heard).astype(np.float64) if heard else np.zeros((1, len(names)))
    levels = [rms_dbfs(np.ascontiguousarray(column)) for column in samples.T]
    level, name = max(zip(levels, names, strict=True))
    if level >= LOUD_DBFS:
        raise RefusedError(
            "return_howls",
            f"{name} is at {number(level)} dBFS RMS although nothing is sent.",
            remedy="Turn the amplifier down first. Then mute the return in every mix that feeds "
            "the send: the interface's own mixer, the recorder's input monitoring. If somebody "
            "plays into the amplifier, unplug that.",
        )
