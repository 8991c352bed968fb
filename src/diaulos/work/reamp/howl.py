"""Before anything is sent: is the return silent while nothing goes out?

A return that is heard in the send (the recorder's own monitoring, a mixer's cross feed) howls as
soon as the amplifier's gain is up, and a sweep or a take would make it louder.
"""

from __future__ import annotations

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
    backend: AudioBackend, rate_hz: int, cancel: CancelToken, block_frames: int = 512
) -> None:
    """Listen to the return for half a second while silence is sent. RefusedError
    ("return_howls") where it is loud; AudioDeviceError when the device fails."""
    heard: list[NDArray[np.float32]] = []
    capture = Capture(backend, StreamSpec(rate_hz, block_frames), frames=int(LISTEN_S * rate_hz))
    failed = capture.run(lambda taken: heard.append(taken.samples), cancel.check)
    if failed is not None:
        raise failed
    samples = np.concatenate(heard)[:, 0].astype(np.float64) if heard else np.zeros(1)
    level = rms_dbfs(samples)
    if level >= LOUD_DBFS:
        raise RefusedError(
            "return_howls",
            f"the return is at {number(level)} dBFS RMS although nothing is sent.",
            remedy="Turn the amplifier down first. Then mute the return in every mix that feeds "
            "the send: the interface's own mixer, the recorder's input monitoring. If somebody "
            "plays into the amplifier, unplug that.",
        )
