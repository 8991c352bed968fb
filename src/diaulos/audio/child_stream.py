"""A stream whose callback lives in a process of its own, whatever library holds the ports there.

What is put out for a frame is played a lead later, always: the samples wait in the shared ring,
so that a window that is held up does not tear the sound. The stream tells its lead, and whoever
reads begins so much later: it is in no delay that is measured.
"""

from __future__ import annotations

import json
import mmap
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import numpy as np

from diaulos.audio.port_ring import GAPS, RING_FRAMES, Count, PortRing, spans
from diaulos.errors import AudioDeviceError
from diaulos.records import dataclass
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

LEAD_BLOCKS, LEAD_S = 8, 0.08
"""How far the output is ahead: the longer of the two."""
PATIENCE_S = 0.5
"""No sign of life for so long: the device is gone, whatever its library says."""
OPEN_S = 5.0
CLOSE_S = 0.3
LONGEST = 8_192


@dataclass(frozen=True)
class Holder:
    """The process that holds the ports: its module, its environment, and what to say of it."""

    module: str
    env: Mapping[str, str]
    clock: str
    gone: str
    again: str
    lacking: str
    close_s: float = CLOSE_S
    """How long it may take to let go, before it is killed."""


def asked(module: str, env: Mapping[str, str]) -> dict[str, Any]:
    """What such a process lists; {"error": ...} where it cannot."""
    try:
        done = subprocess.run(
            [sys.executable, "-m", module], capture_output=True, text=True, timeout=OPEN_S,
            check=False, stdin=subprocess.DEVNULL, env=dict(env),
        )  # fmt: skip
        found: dict[str, Any] = json.loads(done.stdout)
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        return {"error": f"{type(error).__name__}: {error}"}
    return found


def channels_asked(
    device: str, way: str, there: int, chosen: tuple[int, ...], count: int
) -> tuple[int | None, ...]:
    """The channels (from 0) that were asked for, None for one that is left out. Outputs that
    nobody chose and the device does not have are left out: what only records may be recorded
    from. AudioDeviceError for others that are not there."""
    channels = chosen or tuple(range(count))
    wrong = [channel for channel in channels if not 0 <= channel < there]
    if wrong and (chosen or way == "inputs"):
        raise AudioDeviceError(
            f"{device} has no {way[:-1]} {wrong[0] + 1}: it has {there}.",
            where=device,
            remedy="Tie the track to a channel that is there.",
        )
    return tuple(channel if channel < there else None for channel in channels)


def not_there(name: str, others: Iterable[str]) -> AudioDeviceError:
    """The error for a device that nobody has: the window tells it, and the shell."""
    there = ", ".join(others)
    more = f", or choose another: {there}." if there else "; no other is there."
    return AudioDeviceError(f"there is no device {name!r}.", remedy=f"Plug it in or start it{more}")


class ChildStream:
    """An open stream: the child runs, its clock does not yet."""

    def __init__(
        self, spec: StreamSpec, callback: StreamCallback, order: dict[str, Any], holder: Holder
    ) -> None:
        self._spec, self._callback, self._holder = spec, callback, holder
        self._inputs, self._outputs = len(order["inputs"]), len(order["outputs"])
        wide = (max(1, self._inputs), max(1, self._outputs))
        size = PortRing.size(*wide)
        fd = os.memfd_create("diaulos ports")
        try:
            os.ftruncate(fd, size)
            self._ring = PortRing(mmap.mmap(fd, size), *wide)
            self._child = subprocess.Popen(
                [sys.executable, "-m", holder.module, str(fd), json.dumps(order)],
                pass_fds=(fd,), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                env=dict(holder.env),
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
            clock_id=f"{holder.clock} {rate}",
            realtime=True,
            lead_frames=self.lead_frames,
            patience_s=PATIENCE_S,
            block_frames=block,
            ticks=lambda: ring.get(Count.TICKS),
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
                    remedy=said.strip().splitlines()[-1] if said.strip() else self._holder.lacking,
                )
            if time.monotonic() > end:
                self._close()
                raise AudioDeviceError(
                    "the device does not answer.",
                    where=self._spec.device,
                    remedy=self._holder.lacking,
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
                self._holder.gone,
                where=self._spec.device,
                remedy=f"{self._holder.again} What came until then is kept.",
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
            self._child.wait(self._holder.close_s)
        except subprocess.TimeoutExpired:
            self._child.kill()
            self._child.wait()
        if self._child.stderr is not None:
            self._child.stderr.close()
