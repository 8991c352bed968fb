"""The process that holds a JACK client. A fresh interpreter with numpy and the JACK binding only:
a callback in the window's process loses half of its blocks while the window paints.

    python -m diaulos.audio.jack_child            lists the devices, as JSON
    python -m diaulos.audio.jack_child FD JSON    runs a stream in the shared memory FD

It ends when it is told to, when the server ends, or when the process that started it does.
"""

from __future__ import annotations

import contextlib
import gc
import json
import mmap
import os
import sys
import time
from typing import Any

import cffi
import jack
import numpy as np

from diaulos.audio.live_filter import LiveFilter
from diaulos.audio.port_ring import Count, PortRing, PortSide, Samples

NAME = "diaulos"
LOOK_S = 0.01
_declared: tuple[Any, Any] | None = None
_LATENCY = """
typedef struct { uint32_t min; uint32_t max; } range_t;
void jack_port_get_latency_range(void *port, int mode, range_t *range);
"""
"""The binding has no call for latencies."""


def _client(name: str) -> jack.Client:
    # libjack tells standard error about every server that is not there.
    quiet, kept = os.open(os.devnull, os.O_WRONLY), os.dup(2)
    os.dup2(quiet, 2)
    try:
        return jack.Client(name, no_start_server=True)
    finally:
        os.dup2(kept, 2)
        os.close(quiet)
        os.close(kept)


def devices() -> dict[str, Any]:
    """Every client that has audio ports is a device; its channels are its ports in their order."""
    client = _client(f"{NAME} list")
    found: dict[str, dict[str, Any]] = {}
    for port in client.get_ports(is_audio=True):
        owner = port.name.split(":")[0]
        if owner.startswith(NAME):
            continue
        one = found.setdefault(owner, {"name": owner, "inputs": [], "outputs": [], "physical": 0,
                                       "latency_frames": [0, 0]})  # fmt: skip
        one["inputs" if port.is_output else "outputs"].append(port.name)
        way = 0 if port.is_output else 1
        one["latency_frames"][way] = max(one["latency_frames"][way], latency(port, way))
        one["physical"] += int(port.is_physical)
    told = {
        "rate_hz": client.samplerate,
        "block_frames": client.blocksize,
        "realtime": bool(client.realtime),
        "devices": list(found.values()),
    }
    client.close()
    return told


def latency(port: jack.Port, mode: int) -> int:
    """What the driver claims for a port, in frames; mode 0 on the way in, 1 on the way out."""
    global _declared
    if _declared is None:
        ffi = cffi.FFI()
        ffi.cdef(_LATENCY)
        _declared = (ffi, ffi.dlopen("libjack.so.0"))
    ffi, library = _declared
    span = ffi.new("range_t *")
    handle = ffi.cast("void *", int(jack._ffi.cast("uintptr_t", port._ptr)))
    library.jack_port_get_latency_range(handle, mode, span)
    return int(span.max)


class Child:
    """One stream."""

    def __init__(self, fd: int, order: dict[str, Any]) -> None:
        self.inputs, self.outputs = len(order["inputs"]), len(order["outputs"])
        size = PortRing.size(max(1, self.inputs), max(1, self.outputs))
        self.ring = PortRing(mmap.mmap(fd, size), max(1, self.inputs), max(1, self.outputs))
        self.order = order
        self.through = order.get("through", {"parts": [], "outputs": []})
        """What is heard live: inputs with their gain and response, and which are in an output."""
        self.live = [
            (int(one), np.float32(gain), LiveFilter(np.array(taps)) if taps else None)
            for one, gain, taps in self.through["parts"]
        ]
        self.live_outputs = len(self.through["outputs"])
        self.parent = os.getppid()
        self.client = _client(f"{NAME} {order['name']}".strip())
        self.side = PortSide(self.ring)

    def run(self) -> None:
        """Until it is told to stop, or nobody is left to tell it."""
        client, ring = self.client, self.ring
        heard = [client.inports.register(f"in_{n + 1}") for n in range(self.inputs)]
        played = [client.outports.register(f"out_{n + 1}") for n in range(self.outputs)]
        through = [client.outports.register(f"live_{n + 1}") for n in range(self.live_outputs)]
        client.set_process_callback(self._process)
        client.set_shutdown_callback(lambda _status, _reason: ring.set(Count.GONE, 1))
        client.set_xrun_callback(self._on_xrun)
        client.set_samplerate_callback(lambda rate: ring.set(Count.RATE, rate))
        before = client.blocksize
        if self.order.get("set_block"):
            client.blocksize = self.order["set_block"]
        ring.set(Count.RATE, client.samplerate)
        ring.set(Count.BLOCK, client.blocksize)
        ring.set(Count.REALTIME, int(bool(client.realtime)))
        gc.collect()
        gc.freeze()
        gc.disable()
        client.activate()
        for port, source in zip(heard, self.order["inputs"], strict=True):
            client.connect(source, port)
        for port, target in zip(played, self.order["outputs"], strict=True):
            if target is not None:
                client.connect(port, target)
        for port, (target, _) in zip(through, self.through["outputs"], strict=True):
            client.connect(port, target)
        joined = self._joined()
        self._tell_latency()
        ring.set(Count.READY, 1)
        while not ring.get(Count.STOP) and not ring.get(Count.GONE):
            time.sleep(LOOK_S)
            if os.getppid() != self.parent:
                break
        if not ring.get(Count.GONE):
            for source, target in joined:
                with contextlib.suppress(jack.JackError):  # whoever it was has gone
                    client.disconnect(source, target)
            if client.blocksize != before and self.order.get("set_block"):
                client.blocksize = before  # it was borrowed from every other program
            client.deactivate(ignore_errors=True)
            client.close()

    def _joined(self) -> list[tuple[str, str]]:
        """Join what is to be joined meanwhile; what is there already stays afterwards."""
        made = []
        for source, target in self.order.get("wires", ()):
            known = [port.name for port in self.client.get_all_connections(source)]
            if target not in known:
                self.client.connect(source, target)
                made.append((source, target))
        return made

    def _on_xrun(self, _delayed_us: float) -> None:
        self.ring.counts[Count.XRUNS] += 1

    def _tell_latency(self) -> None:
        """The latencies that the driver claims, the longest of each direction."""
        client, order = self.client, self.order
        heard = [client.get_port_by_name(name) for name in order["inputs"]]
        played = [client.get_port_by_name(name) for name in order["outputs"] if name]
        for ports, mode, which in (
            (heard, 0, Count.IN_LATENCY), (played, 1, Count.OUT_LATENCY),
        ):  # fmt: skip
            self.ring.set(which, max((latency(port, mode) for port in ports), default=0))

    # --- the callback: nothing but copies, and the sums that are heard live ---

    def _hear(self, heard: list[Samples], played: list[Samples]) -> None:
        made = []
        for one, gain, through in self.live:
            sound = heard[one] if through is None else through.process(heard[one])
            made.append(gain * sound)
        for data, (_, parts) in zip(played, self.through["outputs"], strict=True):
            data[:] = 0.0
            for part in parts:
                data += made[part]

    def _process(self, frames: int) -> None:
        client = self.client
        heard = [np.frombuffer(port.get_buffer(), np.float32) for port in client.inports]
        played = [np.frombuffer(port.get_buffer(), np.float32) for port in client.outports]
        if self.live:
            self._hear(heard, played[self.outputs :])
        self.side.cycle(frames, client.last_frame_time, heard, played[: self.outputs], self._clock)

    def _clock(self) -> int:
        return int(self.client.last_frame_time)


def main() -> int:
    """List, or run."""
    if len(sys.argv) == 1:
        try:
            print(json.dumps(devices()))
        except jack.JackError as error:
            print(json.dumps({"error": str(error)}))
        return 0
    try:
        Child(int(sys.argv[1]), json.loads(sys.argv[2])).run()
    except jack.JackError as error:
        print(str(error), file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
