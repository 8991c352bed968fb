"""Output-only playback: the system's audio when there is any, else a silent stand-in."""

from __future__ import annotations

import os
import threading
import time
from typing import Any

from diaulos.errors import AudioDeviceError
from diaulos.work.ports import FillCallback, OutputStream

BLOCK_FRAMES = 1024
SILENT_DEVICE = "no sound device (silent)"


class SystemOutput:
    """Output through PortAudio's default device; falls back to the silent stand-in.

    The driver is opened on first use, never at import or start.
    """

    def open(self, rate_hz: int, fill: FillCallback) -> OutputStream:
        try:
            return PortAudioOutput(rate_hz, fill)
        except AudioDeviceError:
            return SilentOutput(rate_hz, fill)


class PortAudioOutput:
    """A stereo stream on the default output."""

    silent = False
    error: Exception | None = None

    def __init__(self, rate_hz: int, fill: FillCallback) -> None:
        with _QuietStderr():
            try:
                import sounddevice

                self.device = str(sounddevice.query_devices(kind="output")["name"])
                self._stream = sounddevice.OutputStream(
                    samplerate=rate_hz,
                    channels=2,
                    dtype="float32",
                    blocksize=BLOCK_FRAMES,
                    callback=self._callback,
                )
            except Exception as error:  # PortAudioError, OSError without the library, ...
                raise AudioDeviceError(
                    f"no sound device can be opened ({error}).",
                    remedy="Check the system's sound settings.",
                ) from error
        self._fill = fill

    def _callback(self, outdata: Any, frames: int, _time: Any, _status: Any) -> None:
        outdata[:] = self._fill(frames)

    def start(self) -> None:
        self._stream.start()

    def stop(self) -> None:
        self._stream.stop()
        self._stream.close()


class SilentOutput:
    """Takes the samples in real time and lets them go: for machines without sound."""

    silent = True
    error: Exception | None = None
    device = SILENT_DEVICE

    def __init__(self, rate_hz: int, fill: FillCallback) -> None:
        self._rate_hz = rate_hz
        self._fill = fill
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        self._stop.clear()
        self._thread = threading.Thread(target=self._run, name="silent output", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join(timeout=2.0)

    def _run(self) -> None:
        begun, played = time.monotonic(), 0
        while not self._stop.is_set():
            self._fill(BLOCK_FRAMES)
            played += BLOCK_FRAMES
            ahead = begun + played / self._rate_hz - time.monotonic()
            if ahead > 0.0:
                self._stop.wait(ahead)


class _QuietStderr:
    """Sound libraries write to the terminal when there is no device; that helps nobody."""

    def __enter__(self) -> None:
        self._saved = os.dup(2)
        self._null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(self._null, 2)

    def __exit__(self, *_: object) -> None:
        os.dup2(self._saved, 2)
        os.close(self._saved)
        os.close(self._null)
