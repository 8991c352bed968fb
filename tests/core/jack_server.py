"""A JACK server without a sound card, and other programs on it, for the tests.

One fixed name for every worker: after some ten names the table in shared memory is full.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

AMP = Path(__file__).with_name("foreign_amp.py")


def environment(name: str) -> dict[str, str]:
    """What a client of this server needs."""
    return {
        "JACK_DEFAULT_SERVER": name,
        "JACK_NO_AUDIO_RESERVATION": "1",
        "JACK_NO_START_SERVER": "1",
    }


class JackServer:
    """jackd with a dummy driver."""

    def __init__(
        self, name: str, log: Path, *, rate: int = 48_000, block: int = 256, sync: bool = True
    ) -> None:
        self.name, self.log, self.rate, self.block = name, log, rate, block
        self.sync = sync
        self.realtime = False
        self.env = {**os.environ, **environment(name)}
        self.amps: list[subprocess.Popen[str]] = []
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """In step with its clients, unless asked otherwise: a client that is late then makes time
        late, and nobody hears what was there before."""
        sync = ["-S"] if self.sync else []
        rights = ["-R", "-P", "60"] if self.realtime else ["-r"]
        _sweep()
        for _ in range(5):
            with open(self.log, "ab") as log:
                self.process = subprocess.Popen(
                    ["jackd", "-n", self.name, *rights, *sync, "-t", "2000", "-d", "dummy", "-r",
                     str(self.rate), "-p", str(self.block), "-C", "8", "-P", "8"],
                    env=self.env, stdout=log, stderr=log, stdin=subprocess.DEVNULL,
                )  # fmt: skip
            end = time.monotonic() + 5.0
            while time.monotonic() < end and self.process.poll() is None:
                if self._answers():
                    return
                time.sleep(0.05)
            self.stop()
            time.sleep(0.3)
        raise AssertionError(f"jackd did not start: {self.log.read_text(errors='replace')[-2000:]}")

    def _answers(self) -> bool:
        done = subprocess.run(["jack_wait", "-c", "-s", self.name], env=self.env,
                              capture_output=True, text=True, check=False)  # fmt: skip
        return "running" in done.stdout and "not running" not in done.stdout

    def amp(self, name: str = "foreign amp", **order: float | str) -> subprocess.Popen[str]:
        """Another program with an amplifier."""
        made = subprocess.Popen(
            [sys.executable, str(AMP), name, json.dumps(order)], env=self.env,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert made.stdout is not None
        assert made.stdout.readline().strip() == "ready"
        self.amps.append(made)
        return made

    def set_block(self, frames: int) -> None:
        """Another period, as another program would set it."""
        words = (
            "import jack, sys; jack.Client('p', no_start_server=True).blocksize = int(sys.argv[1])"
        )
        subprocess.run([sys.executable, "-c", words, str(frames)], env=self.env, check=True,
                       capture_output=True)  # fmt: skip

    def end_amps(self) -> None:
        for one in self.amps:
            if one.stdin is not None:
                one.stdin.close()
            try:
                one.wait(3.0)
            except subprocess.TimeoutExpired:
                one.kill()
                one.wait()
            if one.stdout is not None:
                one.stdout.close()
        self.amps.clear()

    def signal(self, number: signal.Signals) -> None:
        assert self.process is not None
        self.process.send_signal(number)

    def stop(self) -> None:
        """The server first: a client that waits for it would hang otherwise."""
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGCONT)
            self.process.terminate()
            try:
                self.process.wait(2.0)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        self.process = None
        self.end_amps()


def _sweep() -> None:
    """What servers left that ended badly; only where none runs."""
    running = subprocess.run(["pgrep", "-x", "jackd"], capture_output=True, check=False)
    if running.returncode == 0:
        return
    for pattern in ("jack-shm-registry", "jack-0-*", "jack_sem.*"):
        for path in Path("/dev/shm").glob(pattern):
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
