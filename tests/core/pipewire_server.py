"""A PipeWire server without a sound card, in a runtime folder of its own, for the tests."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path

from jack_server import AMP

CONF = """
context.properties = { default.clock.rate = %d  default.clock.quantum = %d
  default.clock.min-quantum = 32  default.clock.max-quantum = 2048 }
context.objects = [
  { factory = adapter args = { factory.name = support.null-audio-sink  node.name = "Box out"
      node.description = "Box out"  media.class = Audio/Sink  audio.position = [ FL FR ] } }
  { factory = adapter args = { factory.name = support.null-audio-sink  node.name = "Box in"
      node.description = "Box in"  media.class = Audio/Source/Virtual
      audio.position = [ FL FR ] } }
]
"""


class PipeWireServer:
    """pipewire and its session manager, with two null devices."""

    def __init__(self, folder: Path, *, rate: int = 48_000, block: int = 256) -> None:
        self.rate, self.block = rate, block
        self.runtime, self.config = folder / "run", folder / "config"
        self.runtime.mkdir(mode=0o700)
        drop = self.config / "pipewire" / "pipewire.conf.d"
        drop.mkdir(parents=True)
        (drop / "box.conf").write_text(CONF % (rate, block), "utf-8")
        self.names = {
            "XDG_RUNTIME_DIR": str(self.runtime),
            "XDG_CONFIG_HOME": str(self.config),
            "XDG_STATE_HOME": str(folder / "state"),
            "PIPEWIRE_RUNTIME_DIR": str(self.runtime),
            "JACK_NO_START_SERVER": "1",
            "JACK_DEFAULT_SERVER": "no-such-server",
        }
        self.env = {**os.environ, **self.names}
        self.env.pop("DBUS_SESSION_BUS_ADDRESS", None)
        self.processes: list[subprocess.Popen[bytes]] = []
        self.amps: list[subprocess.Popen[str]] = []

    def start(self) -> None:
        """A message bus, the server, then its manager, each when the one before is there."""
        bus = subprocess.Popen(
            ["dbus-daemon", "--session", "--nofork", "--print-address=1"], env=self.env,
            stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        assert bus.stdout is not None
        self.env["DBUS_SESSION_BUS_ADDRESS"] = bus.stdout.readline().decode().strip()
        self.processes.append(bus)
        self._run("pipewire")
        self._wait((self.runtime / "pipewire-0").exists)
        self._run("wireplumber")
        self._wait(self._answers)

    def _run(self, *words: str) -> None:
        self.processes.append(
            subprocess.Popen(words, env=self.env, stdin=subprocess.DEVNULL,
                             stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        )  # fmt: skip

    def _answers(self) -> bool:
        done = subprocess.run(["pw-cli", "ls", "Node"], env=self.env, capture_output=True,
                              text=True, check=False)  # fmt: skip
        return "Box out" in done.stdout and "Box in" in done.stdout

    @staticmethod
    def _wait(condition: object) -> None:
        end = time.monotonic() + 15.0
        while time.monotonic() < end:
            if condition():  # type: ignore[operator]
                return
            time.sleep(0.05)
        raise AssertionError("PipeWire did not start")

    def amp(self, name: str = "foreign amp", **order: float) -> subprocess.Popen[str]:
        """Another program with an amplifier, on this server."""
        made = subprocess.Popen(
            ["pw-jack", sys.executable, str(AMP), name, json.dumps(order)], env=self.env,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert made.stdout is not None
        assert made.stdout.readline().strip() == "ready"
        self.amps.append(made)
        return made

    def link(self, source: str, target: str) -> None:
        """A cable."""

        def linked() -> bool:
            done = subprocess.run(["pw-link", source, target], env=self.env, capture_output=True,
                                  text=True, check=False)  # fmt: skip
            return done.returncode == 0 or "exists" in done.stderr.lower()

        self._wait(linked)

    def end_amps(self) -> None:
        """Other programs end."""
        for amp in self.amps:
            if amp.stdin is not None:
                amp.stdin.close()
            try:
                amp.wait(3.0)
            except subprocess.TimeoutExpired:
                amp.kill()
                amp.wait()
            if amp.stdout is not None:
                amp.stdout.close()
        self.amps.clear()

    def stop(self) -> None:
        """Clients first, then what they talk to."""
        self.end_amps()
        for process in reversed(self.processes):
            process.terminate()
            try:
                process.wait(2.0)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            if process.stdout is not None:
                process.stdout.close()
        self.processes.clear()
        for left in self.runtime.iterdir():
            if not left.is_dir():
                left.unlink(missing_ok=True)

    def kill(self) -> None:
        """The server dies."""
        self.processes[1].kill()
        self.processes[1].wait()
