"""Output-only playback: the system's audio when there is any, else a silent stand-in."""

from __future__ import annotations

import threading
import time

from diaulos.audio.alsa_backend import AlsaBackend, AlsaDevices
from diaulos.audio.port_output import PortOutput
from diaulos.work.ports import DeviceInfo, FillCallback, OutputStream

BLOCK_FRAMES = 1024
SILENT_DEVICE = "no sound device (silent)"
SYSTEM_DEVICE = "the system's output"
USUAL = ("default", "pipewire", "pulse")
"""What ALSA calls the one that a person chose for the whole system, by falling likelihood."""
BEGIN_S = 8.0


class SystemOutput:
    """The output that the system plays by; a silent stand-in where it has none.

    The driver is opened on first use, never at import or start, and never in this process: what
    is painted here would tear it.
    """

    def open(self, rate_hz: int, fill: FillCallback) -> OutputStream:
        return SystemStream(rate_hz, fill)


class SystemStream:
    """Finds the output in a thread, since asking takes a moment, and plays by it."""

    device = SYSTEM_DEVICE

    def __init__(self, rate_hz: int, fill: FillCallback) -> None:
        self._rate_hz, self._fill = rate_hz, fill
        self._inner: PortOutput | SilentOutput | None = None
        self._stopped = threading.Event()
        self._thread: threading.Thread | None = None

    @property
    def silent(self) -> bool:
        """True once it is known that nobody hears it."""
        return isinstance(self._inner, SilentOutput)

    @property
    def error(self) -> Exception | None:
        """What ended it while it played."""
        return None if self._inner is None else self._inner.error

    def start(self) -> None:
        """Look for the output and play."""
        self._thread = threading.Thread(target=self._begin, name="listening", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Stop and let go of it."""
        self._stopped.set()
        if self._inner is not None:
            self._inner.stop()

    def _begin(self) -> None:
        there = _usual(AlsaDevices().look().devices)
        if there is not None and not self._stopped.is_set():
            played = PortOutput(
                AlsaBackend(there, BLOCK_FRAMES), SYSTEM_DEVICE, self._rate_hz, self._fill
            )
            played.start()
            if played.begun.wait(BEGIN_S) and played.error is None:
                self._inner = played
            else:
                played.stop()
        if self._inner is None and not self._stopped.is_set():
            self._inner = SilentOutput(self._rate_hz, self._fill)
            self._inner.start()
        if self._stopped.is_set() and self._inner is not None:
            self._inner.stop()


def _usual(devices: tuple[DeviceInfo, ...]) -> DeviceInfo | None:
    """The one to play by: with two outputs, by name, else the first."""
    able = {one.name: one for one in devices if one.outputs >= 2}
    named = (able[name] for name in USUAL if name in able)
    return next(named, None) or next(iter(able.values()), None)


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
