"""Another program's amplifier: a JACK client of its own, for the tests.

    python foreign_amp.py NAME JSON

gain, drive (tanh; 0 leaves it linear), delay_frames (a fraction too, by a windowed sinc), noise
(dBFS RMS), step_db (from channel to channel), channels, fan (every output is what comes into the
input of this number), response (a file of taps: a circuit of any kind); ramp: it plays whole
numbers times 2^-23 instead, one more for every frame of the server's time. It says "ready" when
its ports are there, and ends with its standard input.
"""

from __future__ import annotations

import json
import sys

import jack
import numpy as np

HALF = 16
RAMP = 1 << 23
"""Whole numbers below it are exact in a float of 32 bits."""


def fractional(delay: float) -> np.ndarray:
    """Taps that delay by HALF plus a fraction of a frame."""
    at = np.arange(-HALF, HALF + 1) - delay
    window = np.kaiser(2 * HALF + 1, 8.0)
    taps = np.sinc(at) * window
    return (taps / taps.sum()).astype(np.float64)


class Amp:
    """One client."""

    def __init__(self, name: str, order: dict[str, float | str]) -> None:
        self.client = jack.Client(name, no_start_server=True)
        channels = int(order.get("channels", 1))
        self.gain = order.get("gain", 1.0)
        self.drive = order.get("drive", 0.0)
        delay = order.get("delay_frames", 0.0)
        self.taps = fractional(delay - int(delay)) if delay % 1.0 else np.ones(1)
        if "response" in order:
            self.taps = np.load(str(order["response"]), allow_pickle=False)
        shift = int(delay) - (HALF if delay % 1.0 else 0)
        assert shift >= 0, "a fraction needs room for its taps"
        self.line = [np.zeros(shift) for _ in range(channels)]
        self.past = [np.zeros(self.taps.size - 1) for _ in range(channels)]
        self.noise = 10.0 ** (order["noise_dbfs"] / 20.0) if "noise_dbfs" in order else 0.0
        self.ramp = bool(order.get("ramp", 0))
        self.step = 10.0 ** (order.get("step_db", 0.0) / 20.0)
        self.fan = int(order.get("fan", 0))
        self.rng = np.random.default_rng(1)
        for n in range(channels):
            self.client.inports.register(f"in_{n + 1}")
            self.client.outports.register(f"out_{n + 1}")
        self.client.set_process_callback(self.process)

    def process(self, frames: int) -> None:
        if self.ramp:
            first = self.client.last_frame_time
            count = (first + np.arange(frames)) % RAMP
            for port in self.client.outports:
                port.get_array()[:] = (count / RAMP).astype(np.float32)
            return
        ways = zip(self.client.inports, self.client.outports, strict=True)
        for channel, (heard, played) in enumerate(ways):
            heard = self.client.inports[self.fan - 1] if self.fan else heard
            samples = heard.get_array().astype(np.float64)
            line = np.concatenate([self.line[channel], samples])
            self.line[channel], now = line[frames:], line[:frames]
            if self.taps.size > 1:
                whole = np.concatenate([self.past[channel], now])
                self.past[channel] = whole[-(self.taps.size - 1) :]
                now = np.convolve(whole, self.taps, "valid")
            if self.drive:
                now = np.tanh(self.drive * now) / self.drive
            now = self.gain * now
            if self.noise:
                now = now + self.noise * self.rng.standard_normal(frames)
            played.get_array()[:] = now * self.step**channel


def main() -> None:
    amp = Amp(sys.argv[1], json.loads(sys.argv[2]))
    with amp.client:
        print("ready", flush=True)
        sys.stdin.read()


if __name__ == "__main__":
    main()
