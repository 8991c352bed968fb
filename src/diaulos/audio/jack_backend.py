"""JACK (and PipeWire's JACK server) as a back end: the client lives in a process of its own.

What is put out for a frame is played a lead later, always: the samples wait in the shared ring,
so that a window that is held up does not tear the sound. The stream tells its lead, and whoever
reads begins so much later: it is in no delay that is measured.
"""

from __future__ import annotations

import glob
import json
import mmap
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from diaulos.audio.port_ring import GAPS, RING_FRAMES, Count, PortRing, spans
from diaulos.errors import AudioDeviceError
from diaulos.work.ports import (
    BlockStatus,
    BlockTime,
    DeviceInfo,
    Found,
    StreamCallback,
    StreamInfo,
    StreamSpec,
)

LEAD_BLOCKS, LEAD_S = 8, 0.08
"""How far the output is ahead: the longer of the two."""
PATIENCE_S = 0.5
"""No sign of life for so long: the device is gone, whatever its library says."""
OPEN_S = 5.0
CLOSE_S = 0.3
LONGEST = 8_192
CHILD = "diaulos.audio.jack_child"
NO_SERVER = (
    "Start one, for example: jackd -R -d alsa -d hw:0 -r 48000 -p 256. Where PipeWire runs, "
    "install its JACK library (package pipewire-jack)."
)


NO_RIGHTS = (
    "Put yourself into the group audio (sudo usermod -a -G audio $USER), let "
    "/etc/security/limits.d/audio.conf say '@audio - rtprio 95' and '@audio - memlock unlimited', "
    "log in again, and start the server with jackd -R."
)


PIPEWIRE_JACK = ("/usr/lib/*/pipewire-0.3/jack", "/usr/lib/pipewire-0.3/jack",
                 "/usr/lib64/pipewire-0.3/jack")  # fmt: skip
"""Where PipeWire's own JACK library lies: a program that finds it first talks to PipeWire."""


def pipewire_library() -> str:
    """The folder of PipeWire's JACK library where a PipeWire server runs; "" where none does."""
    place = os.environ.get("PIPEWIRE_RUNTIME_DIR") or os.environ.get("XDG_RUNTIME_DIR")
    if not place or not (Path(place) / "pipewire-0").exists():
        return ""
    for pattern in PIPEWIRE_JACK:
        for found in sorted(glob.glob(pattern)):
            if (Path(found) / "libjack.so.0").exists():
                return found
    return ""


def environment(library: str) -> dict[str, str]:
    """Of a process that holds ports; `library` goes ahead of the system's."""
    env = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    if library:
        before = env.get("LD_LIBRARY_PATH")
        env["LD_LIBRARY_PATH"] = f"{library}:{before}" if before else library
    return env


def listed() -> dict[str, Any]:
    """What the JACK server has, or else PipeWire, asked in a process of its own; {"error": ...}
    without either. `library` is what a client has to load."""
    found = _asked("")
    if "error" in found and (library := pipewire_library()):
        found = _asked(library)
    return found


def _asked(library: str) -> dict[str, Any]:
    try:
        done = subprocess.run(
            [sys.executable, "-m", CHILD], capture_output=True, text=True, timeout=OPEN_S,
            check=False, stdin=subprocess.DEVNULL, env=environment(library),
        )  # fmt: skip
        found: dict[str, Any] = json.loads(done.stdout)
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        return {"error": f"{type(error).__name__}: {error}"}
    by_hand = any("pipewire" in part for part in os.environ.get("LD_LIBRARY_PATH", "").split(":"))
    return {**found, "library": library, "kind": "pipewire" if library or by_hand else "jack"}


class JackDevices:
    """Every client with audio ports is a device, physical or not."""

    def look(self) -> Found:
        """One question to the server."""
        found = listed()
        if "error" in found:
            return Found((), (f"No JACK server runs. {NO_SERVER}",))
        missing: tuple[str, ...] = ()
        if not found["realtime"]:
            missing = (
                f"The sound server runs without real-time rights: blocks get lost. {NO_RIGHTS}",
            )
        return Found(tuple(_info(one, found) for one in found.get("devices", ())), missing)


def _info(one: dict[str, Any], found: dict[str, Any]) -> DeviceInfo:
    rate = int(found["rate_hz"])
    return DeviceInfo(
        found["kind"], one["name"], len(one["inputs"]), len(one["outputs"]), (rate,),
        (int(found["block_frames"]),), bool(found["realtime"]),
        sum(one["latency_frames"]) / rate, _names(one, "inputs"), _names(one, "outputs"),
    )  # fmt: skip


def _names(one: dict[str, Any], way: str) -> tuple[str, ...]:
    """ "Box:capture_1" is "capture_1" of Box."""
    return tuple(str(port).partition(":")[2] for port in one[way])


class JackBackend:
    """Plays to and records from a device of the JACK server."""

    def open(self, spec: StreamSpec, callback: StreamCallback) -> JackStream:
        """A stream on `spec.device`; AudioDeviceError when there is no server, no such device or
        no such channel."""
        found = listed()
        if "error" in found:
            raise AudioDeviceError("there is no JACK server.", where=spec.device, remedy=NO_SERVER)
        one = next((one for one in found["devices"] if one["name"] == spec.device), None)
        if one is None:
            there = ", ".join(str(other["name"]) for other in found["devices"])
            raise AudioDeviceError(
                f"there is no device {spec.device!r}.", where="JACK",
                remedy=f"Plug it in, or choose one of: {there or 'none is there'}.",
            )  # fmt: skip
        order = {
            "name": spec.device,
            "inputs": _ports(one, "inputs", spec.input_map, spec.input_channels),
            "outputs": _ports(one, "outputs", spec.output_map, spec.output_channels),
        }
        return JackStream(spec, callback, order, found["library"])


def _ports(
    device: dict[str, Any], way: str, chosen: tuple[int, ...], count: int
) -> list[str | None]:
    """The names of the channels that were asked for. Outputs that nobody chose and the device
    does not have are left out: what only records may be recorded from."""
    names = device[way]
    channels = chosen or tuple(range(count))
    wrong = [channel for channel in channels if not 0 <= channel < len(names)]
    if wrong and (chosen or way == "inputs"):
        raise AudioDeviceError(
            f"{device['name']} has no {way[:-1]} {wrong[0] + 1}: it has {len(names)}.",
            where=str(device["name"]),
            remedy="Tie the track to a channel that is there.",
        )
    return [names[channel] if channel < len(names) else None for channel in channels]


class JackStream:
    """An open stream: the child runs, its clock does not yet."""

    def __init__(
        self, spec: StreamSpec, callback: StreamCallback, order: dict[str, Any], library: str = ""
    ) -> None:
        self._spec, self._callback = spec, callback
        self._inputs, self._outputs = len(order["inputs"]), len(order["outputs"])
        wide = (max(1, self._inputs), max(1, self._outputs))
        size = PortRing.size(*wide)
        fd = os.memfd_create("diaulos ports")
        try:
            os.ftruncate(fd, size)
            self._ring = PortRing(mmap.mmap(fd, size), *wide)
            self._child = subprocess.Popen(
                [sys.executable, "-m", CHILD, str(fd), json.dumps(order)],
                pass_fds=(fd,), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                env=environment(library),
            )  # fmt: skip
        finally:
            os.close(fd)
        self._stopped = threading.Event()
        self._running = False
        self._wait_for(lambda: bool(self._ring.get(Count.READY)))
        ring = self._ring
        rate = ring.get(Count.RATE)
        block = ring.get(Count.BLOCK)
        self.lead_frames = -(-max(LEAD_BLOCKS * block, int(LEAD_S * rate)) // block) * block
        self.info = StreamInfo(
            rate_hz=rate,
            input_latency_s=ring.get(Count.IN_LATENCY) / rate,
            output_latency_s=ring.get(Count.OUT_LATENCY) / rate,
            clock_id=f"jack {rate}",
            realtime=True,
            lead_frames=self.lead_frames,
            patience_s=PATIENCE_S,
            block_frames=block,
        )
        self.server_realtime = bool(ring.get(Count.REALTIME))

    def _wait_for(self, ready: Callable[[], bool]) -> None:
        end = time.monotonic() + OPEN_S
        while not ready():
            if self._child.poll() is not None:
                assert self._child.stderr is not None
                said = self._child.stderr.read().decode(errors="replace")
                self._close()
                raise AudioDeviceError(
                    "the device could not be opened.",
                    where=self._spec.device,
                    remedy=said.strip().splitlines()[-1] if said.strip() else NO_SERVER,
                )
            if time.monotonic() > end:
                self._close()
                raise AudioDeviceError(
                    "the JACK server does not answer.", where=self._spec.device, remedy=NO_SERVER
                )
            time.sleep(0.005)

    @property
    def xruns(self) -> int:
        """Stretches that did not come in, and stretches of output that came too late."""
        return self._ring.get(Count.GAPS) + int(self._ring.get(Count.LATE) > 0)

    @property
    def counts(self) -> dict[str, int]:
        """What went wrong, by kind, in frames (xruns: times)."""
        names = (Count.LOST, Count.SKIPPED, Count.LATE, Count.XRUNS)
        return {name.name.lower(): self._ring.get(name) for name in names}

    def run(self) -> None:
        """Call back with what came in, in order, until the callback says stop or `stop` is
        called. AudioDeviceError when the server or the process that holds the ports is gone."""
        ring, rate = self._ring, self.info.rate_hz
        self._running = True
        ring.set(Count.QUEUED, self.lead_frames)
        ring.set(Count.GO, 1)
        at, gaps, late = 0, 0, 0
        try:
            while not self._stopped.is_set():
                written = ring.get(Count.WRITTEN)
                if written == at:
                    self._look_after()
                    time.sleep(max(0.0005, 0.25 * ring.get(Count.BLOCK) / rate))
                    continue
                if ring.get(Count.GAPS) - gaps > GAPS:
                    raise AudioDeviceError(
                        "this computer was held up for so long that blocks are missing.",
                        where=self._spec.device,
                        remedy="End what else runs. What came until then is kept.",
                    )
                while gaps < ring.get(Count.GAPS):
                    first, length = (int(value) for value in ring.gaps[gaps % GAPS])
                    if first > at:
                        break
                    gaps += 1
                    self._silence(at, length)
                    at += length
                    ring.set(Count.READ, at)
                end = int(ring.gaps[gaps % GAPS][0]) if gaps < ring.get(Count.GAPS) else written
                count = min(end - at, LONGEST)
                if count <= 0:
                    continue
                now = ring.get(Count.LATE)
                status = BlockStatus(output_underflow=now > late, rate_hz=ring.get(Count.RATE))
                late = now
                if not self._block(at, count, status):
                    return
                at += count
        finally:
            self._close()

    def _block(self, at: int, count: int, status: BlockStatus) -> bool:
        ring = self._ring
        inputs = np.empty((count, self._inputs), np.float32)
        for place, frames, offset in spans(at, count):
            inputs[offset : offset + frames] = ring.heard[place : place + frames, : self._inputs]
        outputs = np.zeros((count, self._outputs), np.float32)
        go_on = self._callback(inputs, outputs, count, BlockTime(at), status)
        if self._outputs:
            for place, frames, offset in spans(at + self.lead_frames, count):
                ring.played[place : place + frames] = outputs[offset : offset + frames]
        ring.set(Count.READ, at + count)
        ring.set(Count.QUEUED, at + count + self.lead_frames)
        return go_on

    def _silence(self, at: int, count: int) -> None:
        """What stands for frames that never came in, on the way out."""
        for place, frames, _ in spans(at + self.lead_frames, min(count, RING_FRAMES)):
            self._ring.played[place : place + frames] = 0.0
        self._ring.set(Count.QUEUED, at + count + self.lead_frames)

    def _look_after(self) -> None:
        if self._ring.get(Count.GONE):
            raise AudioDeviceError(
                "the JACK server ended.",
                where=self._spec.device,
                remedy="Start it again. What came until then is kept.",
            )
        if self._child.poll() is not None:
            raise AudioDeviceError(
                "the process that holds the ports ended.",
                where=self._spec.device,
                remedy="Start again. What came until then is kept.",
            )

    def stop(self) -> None:
        """End `run` soon."""
        self._stopped.set()
        self._ring.set(Count.STOP, 1)
        if not self._running:
            self._close()

    def _close(self) -> None:
        """Let go of the ports; what hangs with its server is killed."""
        self._ring.set(Count.STOP, 1)
        try:
            self._child.wait(CLOSE_S)
        except subprocess.TimeoutExpired:
            self._child.kill()
            self._child.wait()
        if self._child.stderr is not None:
            self._child.stderr.close()
