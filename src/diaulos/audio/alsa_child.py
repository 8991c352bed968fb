"""The process that holds ALSA's ports, by PortAudio: for computers without a sound server.

    python -m diaulos.audio.alsa_child            lists the devices, as JSON
    python -m diaulos.audio.alsa_child FD JSON    runs a stream in the shared memory FD

PortAudio is used for ALSA alone: its JACK part hangs and then ends the process when a server dies.
It ends when it is told to, when the device goes, or when the process that started it does.
"""

from __future__ import annotations

import gc
import json
import mmap
import os
import sys
import time
from typing import Any

import numpy as np

from diaulos.audio.port_ring import Count, PortRing, PortSide

LOOK_S = 0.01
SETTLE_S = 0.25
"""A device drops what it cannot place while it starts: nobody counts that yet."""


def _sounddevice() -> Any:
    """The binding, without what ALSA writes to standard error about every plugin that fails."""
    quiet, kept = os.open(os.devnull, os.O_WRONLY), os.dup(2)
    os.dup2(quiet, 2)
    try:
        import sounddevice

        return sounddevice
    finally:
        os.dup2(kept, 2)
        os.close(quiet)
        os.close(kept)


def devices() -> dict[str, Any]:
    """What ALSA names, hardware and plugins alike."""
    sound = _sounddevice()
    hosts = [index for index, host in enumerate(sound.query_hostapis()) if host["name"] == "ALSA"]
    found = [
        {
            "name": one["name"],
            "inputs": int(one["max_input_channels"]),
            "outputs": int(one["max_output_channels"]),
            "rate_hz": int(one["default_samplerate"]),
            "latency_s": _claimed(one),
        }
        for one in sound.query_devices()
        if one["hostapi"] in hosts
    ]
    return {"devices": found}


def _claimed(one: Any) -> float:
    ways = (("max_input_channels", "default_low_input_latency"),
            ("max_output_channels", "default_low_output_latency"))  # fmt: skip
    return float(sum(max(0.0, one[key]) for count, key in ways if one[count]))


class Child:
    """One stream: `order` is the device's name, the channels (from 0) of each way, rate, block."""

    def __init__(self, fd: int, order: dict[str, Any]) -> None:
        self.order = order
        self.inputs: list[int] = order["inputs"]
        self.outputs: list[int | None] = order["outputs"]
        wide = (max(1, len(self.inputs)), max(1, len(self.outputs)))
        self.ring = PortRing(mmap.mmap(fd, PortRing.size(*wide)), *wide)
        self.side = PortSide(self.ring)
        self.parent = os.getppid()
        self.clock = 0
        """Frames since the first callback, those that the device lost included."""
        self.last_s: float | None = None

    def run(self) -> None:
        """Until it is told to stop, or nobody is left to tell it."""
        sound, order, ring = _sounddevice(), self.order, self.ring
        index = next(
            number for number, one in enumerate(sound.query_devices())
            if one["name"] == order["name"]
            and sound.query_hostapis(one["hostapi"])["name"] == "ALSA"
        )  # fmt: skip
        there = [channel for channel in self.outputs if channel is not None]
        rate, block = order["rate_hz"], order["block_frames"]
        common = {"samplerate": rate, "blocksize": block, "dtype": "float32", "latency": "low"}
        heard, played = max(self.inputs, default=-1) + 1, max(there, default=-1) + 1
        heard, played = (
            max(count, least) if count else 0
            for count, least in zip((heard, played), order["wide"], strict=True)
        )
        if heard and played:
            stream = sound.Stream(device=(index, index), channels=(heard, played),
                                  callback=self._duplex, **common)  # fmt: skip
        elif heard:
            stream = sound.InputStream(device=index, channels=heard,
                                       callback=self._heard, **common)  # fmt: skip
        else:
            stream = sound.OutputStream(device=index, channels=max(1, played),
                                        callback=self._played, **common)  # fmt: skip
        claims = stream.latency
        into, out = claims if isinstance(claims, tuple) else (
            (claims, 0.0) if heard else (0.0, claims)
        )  # fmt: skip
        ring.set(Count.RATE, round(stream.samplerate))
        ring.set(Count.BLOCK, block)
        ring.set(Count.IN_LATENCY, round(into * rate))
        ring.set(Count.OUT_LATENCY, round(out * rate))
        gc.collect()
        gc.freeze()
        gc.disable()
        with stream:
            time.sleep(SETTLE_S)
            ring.set(Count.READY, 1)
            while not ring.get(Count.STOP) and stream.active:
                time.sleep(LOOK_S)
                if os.getppid() != self.parent:
                    break
            if not ring.get(Count.STOP):
                ring.set(Count.GONE, 1)

    # --- the callbacks: nothing but copies ---

    def _duplex(self, heard: Any, played: Any, frames: int, at: Any, status: Any) -> None:
        self._cycle(heard, played, frames, at.inputBufferAdcTime, status)

    def _heard(self, heard: Any, frames: int, at: Any, status: Any) -> None:
        self._cycle(heard, None, frames, at.inputBufferAdcTime, status)

    def _played(self, played: Any, frames: int, at: Any, status: Any) -> None:
        self._cycle(None, played, frames, at.outputBufferDacTime, status)

    def _cycle(self, heard: Any, played: Any, frames: int, at_s: float, status: Any) -> None:
        if status.input_overflow or status.output_underflow:
            self.ring.counts[Count.XRUNS] += 1
            if self.last_s is not None:
                # What was dropped is in nothing but the time; a clock in seconds tells it to a
                # few frames.
                missing = round((at_s - self.last_s) * self.order["rate_hz"])
                if missing > frames // 4:
                    self.clock += missing
        self.last_s = at_s + frames / self.order["rate_hz"]
        into = [] if heard is None else [heard[:, channel] for channel in self.inputs]
        out = []
        if played is not None:
            played[:] = 0.0
            spare = np.zeros(frames, np.float32)
            out = [spare if one is None else played[:, one] for one in self.outputs]
        self.side.cycle(frames, self.clock, into, out)
        self.clock += frames


def main() -> int:
    """List, or run."""
    try:
        if len(sys.argv) == 1:
            print(json.dumps(devices()))
        else:
            Child(int(sys.argv[1]), json.loads(sys.argv[2])).run()
    except Exception as error:
        # PortAudio's errors, OSError without the library: the last line is shown to a person.
        if len(sys.argv) == 1:
            print(json.dumps({"error": str(error)}))
            return 0
        print(str(error), file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
