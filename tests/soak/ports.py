"""Real ports that go while they are recorded from: is the take kept, and every sample right?

A JACK server without a sound card, another program that plays a ramp by the server's own time.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

from jack_server import JackServer, environment
from test_backends import Kept
from test_jack import wrong_samples

from diaulos.audio.child_stream import ChildStream
from diaulos.audio.jack_backend import JackBackend
from diaulos.work.capture.recorder import Recorder, RecordResult

TIMES = 20
RATE = 48_000
KINDS = ("server killed", "server stopped", "child killed", "period changed")
SOON_S = 2.0


class _On:
    """The ramp's ports."""

    stream: ChildStream | None = None

    def open(self, spec, callback) -> ChildStream:  # type: ignore[no-untyped-def]
        self.stream = JackBackend().open(replace(spec, device="ramp"), callback)
        return self.stream


def _left() -> bool:
    found = subprocess.run(
        ["pgrep", "-P", str(os.getpid()), "-f", "jack_child"], capture_output=True, check=False
    )
    return bool(found.stdout.strip())


def _once(server: JackServer, kind: str, wait_s: float) -> str:
    """What was wrong, "" when nothing was."""
    server.start()
    server.amp("ramp", ramp=1)
    on, sink = _On(), Kept()
    recorder = Recorder(on, [sink], RATE, frames=20 * RATE)
    done: list[RecordResult] = []
    thread = threading.Thread(target=lambda: done.append(recorder.run()))
    thread.start()
    end = time.monotonic() + 30.0
    while recorder.captured_frames < wait_s * RATE and time.monotonic() < end:
        time.sleep(0.01)
    begun, captured = time.monotonic(), recorder.captured_frames
    if captured < wait_s * RATE:
        return f"{captured} frames of {wait_s * RATE:.0f} came within 30 s"
    if kind == "child killed" and on.stream is not None:
        on.stream._child.kill()
    elif kind == "period changed":
        server.set_block(512)
        time.sleep(0.5)
        recorder.stop()
    else:
        server.signal(signal.SIGKILL if kind == "server killed" else signal.SIGSTOP)
    thread.join(10.0)
    took = time.monotonic() - begun
    if kind == "server stopped":
        server.signal(signal.SIGCONT)
    server.stop()
    if thread.is_alive() or not done:
        return "it hung"
    result = done[0]
    if took > SOON_S + (1.5 if kind == "period changed" else 0.0):
        return f"it took {took:.1f} s"
    if (result.stopped_by is None) != (kind == "period changed"):
        return f"ended by {result.stopped_by}"
    if result.frames != sink.frames or result.frames < captured:
        return f"{result.frames} frames of {captured} were kept"
    wrong = wrong_samples(sink.samples, result.dropouts, late=256)
    if wrong:
        return f"{wrong} samples are wrong"
    time.sleep(0.3)
    return "a process was left" if _left() else ""


def run(times: int = TIMES, seed: int = 1) -> tuple[str, int]:
    """Every kind so many times; what was found, and how often something was wrong."""
    rng = random.Random(seed)
    name = "diaulos-soak"
    before = dict(os.environ)
    os.environ.update(environment(name))
    wrong: list[str] = []
    try:
        with tempfile.TemporaryDirectory() as folder:
            server = JackServer(name, Path(folder) / "jackd.log", sync=False)
            for turn in range(times):
                for kind in KINDS:
                    found = _once(server, kind, rng.uniform(0.3, 1.5))
                    if found:
                        wrong.append(f"{kind}, turn {turn + 1}: {found}")
    finally:
        os.environ.clear()
        os.environ.update(before)
    words = f"ports: {times} times {', '.join(KINDS)}: {len(wrong)} wrong"
    return "\n  ".join([words, *wrong]), len(wrong)
