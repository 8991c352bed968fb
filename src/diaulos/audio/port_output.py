"""Listening by a real device: its ports are held by a process of their own, as in recording.

Opening takes a moment, so it is done by the thread that plays; what goes wrong is told as
`error`. What is played waits for the stream's lead: a window that is held up does not tear it.
"""

from __future__ import annotations

import threading

from diaulos.errors import AudioDeviceError, DiaulosError
from diaulos.work.ports import (
    AudioBackend,
    Block,
    BlockStatus,
    BlockTime,
    DuplexStream,
    FillCallback,
    StreamSpec,
)

BLOCK_FRAMES = 512
STOP_S = 1.0


class PortOutput:
    """Two outputs of a device."""

    silent = False

    def __init__(
        self, backend: AudioBackend, device: str, rate_hz: int, fill: FillCallback
    ) -> None:
        self.device = device
        self.error: Exception | None = None
        self.begun = threading.Event()
        """Set when it plays, or when it is known that it cannot."""
        self._backend, self._rate_hz, self._fill = backend, rate_hz, fill
        self._stopped = threading.Event()
        self._stream: DuplexStream | None = None
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Open it and play, in a thread of its own."""
        self._thread = threading.Thread(target=self._run, name="listening", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Let go of the ports."""
        self._stopped.set()
        if self._stream is not None:
            self._stream.stop()
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join(timeout=STOP_S)

    def _run(self) -> None:
        spec = StreamSpec(self._rate_hz, BLOCK_FRAMES, 0, 2, self.device)
        try:
            stream = self._stream = self._backend.open(spec, self._callback)
            if stream.info.rate_hz != self._rate_hz:
                stream.stop()
                raise AudioDeviceError(
                    f"the device runs at {stream.info.rate_hz} Hz, the session at "
                    f"{self._rate_hz} Hz.",
                    where=self.device,
                    remedy="Set the device to the session's rate, or listen by the system's output "
                    "(Preferences, Sound).",
                )
            if self._stopped.is_set():
                stream.stop()
                return
            stream.run()
        except (DiaulosError, OSError) as error:
            if not self._stopped.is_set():
                self.error = error
        finally:
            self.begun.set()

    def _callback(
        self, _inputs: Block, outputs: Block, count: int, _time: BlockTime, _status: BlockStatus
    ) -> bool:
        if self._stopped.is_set():
            return False
        self.begun.set()
        outputs[:] = self._fill(count)
        return True
