"""Listening: stored tracks and passes played together, in time and at matched level.

A reader thread keeps a short queue of mixed blocks ahead of the output, so that a slow
disk is heard as silence at worst and never stops the output's own thread.
"""

from __future__ import annotations

import math
import queue
import threading
from collections.abc import Callable, Mapping, Set
from dataclasses import field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.units import db_to_gain
from diaulos.work.listening.layers import Fader
from diaulos.work.ports import OutputBackend, OutputStream

START_LEVEL_DB = -20.0


LOUDEST_LEVEL_DB = 0.0


SIDE_DB = 10.0 * math.log10(2.0)
"""What a channel gains where it is heard on one side alone."""


MIX_FRAMES = 1024


QUEUED_BLOCKS = 8


ReadBlock = Callable[[int, int], NDArray[np.floating]]
"""(first frame, count) -> mono samples, silence outside."""


@dataclass(frozen=True)
class Channel:
    """One thing to hear. `gain_db` is its match; `read` gives it in the take's time; `pan` is
    from -1 (left) to 1 (right). Of a pair each `side` is a channel of its own under the same key,
    and the pan narrows the pair towards one of them."""

    key: str
    read: ReadBlock
    gain_db: float = 0.0
    pan: float = 0.0
    side: Literal["", "left", "right"] = ""

    @property
    def gains(self) -> tuple[float, float]:
        """Linear (left, right). A side alone is louder by the law of panning, and comes down by as
        much."""
        gain = db_to_gain(self.gain_db)
        if not self.side:
            left, right = pan_gains(self.pan)
            return gain * left, gain * right
        pan = min(1.0, max(-1.0, self.pan))
        place = -1.0 + 2.0 * max(0.0, pan) if self.side == "left" else 1.0 + 2.0 * min(0.0, pan)
        left, right = pan_gains(place)
        gain *= db_to_gain(-SIDE_DB)
        return gain * left, gain * right


def pan_gains(pan: float) -> tuple[float, float]:
    """Gains (left, right) at a place from -1 to 1: of equal power everywhere, 1 in the middle,
    so that a pair panned apart is as loud as in the middle and a mono mix stays as it is."""
    angle = (min(1.0, max(-1.0, pan)) + 1.0) * math.pi / 4.0
    return math.sqrt(2.0) * math.cos(angle), math.sqrt(2.0) * math.sin(angle)


def mixed(
    channels: tuple[Channel, ...], places: Mapping[str, tuple[float, float]]
) -> tuple[Channel, ...]:
    """Channels with other gains and pans, by key; those that are not named stay."""
    return tuple(
        replace(one, gain_db=places[one.key][0], pan=places[one.key][1])
        if one.key in places else one
        for one in channels
    )  # fmt: skip


def start_level_db(device: str, last_levels_db: dict[str, float]) -> float:
    """Where the level starts on a device: at -20 dB, and never above the last level on
    another device."""
    others = [level for name, level in last_levels_db.items() if name != device]
    return min([START_LEVEL_DB, *others])


@dataclass
class _Shared:
    """What the interface sets and the reader obeys."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    channels: tuple[Channel, ...] = ()
    heard: frozenset[str] = frozenset()
    level_db: float = START_LEVEL_DB
    position: int = 0
    frames: int = 0
    loop: tuple[int, int] | None = None
    playing: bool = False
    generation: int = 0
    layered: bool = False
    """Whether all channels are read together, to be switched between without a gap."""

    @property
    def layers(self) -> tuple[str, ...]:
        """Keys of the channels, each once, in order."""
        return tuple(dict.fromkeys(channel.key for channel in self.channels))


class Player:
    """Plays channels through an output. The output is opened on first use."""

    def __init__(
        self, backend: OutputBackend, rate_hz: int, last_levels_db: dict[str, float] | None = None
    ) -> None:
        self._backend = backend
        self._rate_hz = rate_hz
        self._last_levels_db = dict(last_levels_db or {})
        self._shared = _Shared()
        self._stream: OutputStream | None = None
        self._queue: queue.Queue[tuple[int, int, NDArray[np.float32]]] = queue.Queue(QUEUED_BLOCKS)
        self._reader: threading.Thread | None = None
        self._stop = threading.Event()
        self._wake = threading.Event()
        self._rest: NDArray[np.float32] = np.zeros((0, 2), dtype=np.float32)
        self._heard_at = 0
        self._fader: tuple[int, Fader] = (-1, Fader(0, rate_hz))
        self.underruns = 0
        self.error: BaseException | None = None

    # --- what the interface asks for ---

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._shared.playing

    @property
    def position(self) -> int:
        """Frame of the take that is heard now."""
        return self._heard_at if self._shared.playing else self._shared.position

    @property
    def channels(self) -> tuple[Channel, ...]:
        """What can be heard."""
        return self._shared.channels

    @property
    def heard(self) -> frozenset[str]:
        """Keys of what is heard."""
        return self._shared.heard

    @property
    def loop(self) -> tuple[int, int] | None:
        """The stretch that repeats."""
        return self._shared.loop

    @property
    def level_db(self) -> float:
        """Level of everything that is heard."""
        return self._shared.level_db

    @property
    def device(self) -> str:
        """Name of the output; "" before the first use."""
        return self._stream.device if self._stream else ""

    @property
    def silent(self) -> bool:
        """True where nobody hears it."""
        return bool(self._stream and self._stream.silent)

    @property
    def last_levels_db(self) -> dict[str, float]:
        """The last level per device, to be remembered."""
        return dict(self._last_levels_db)

    def set_channels(
        self, channels: tuple[Channel, ...], frames: int, *, layered: bool = False
    ) -> None:
        """What can be heard, and how long the take is. `layered` channels are candidates: all are
        read, and a switch between them is heard at once, over 5 ms."""
        with self._shared.lock:
            self._shared.channels, self._shared.layered = channels, layered
            self._shared.frames = frames
            self._shared.position = min(self._shared.position, frames)
            self._restart()

    def set_mix(self, places: Mapping[str, tuple[float, float]]) -> None:
        """(gain in dB, pan) of channels by key. What is queued is played out as it was, so that
        a fader that moves does not make it stutter."""
        with self._shared.lock:
            self._shared.channels = mixed(self._shared.channels, places)

    def hear(self, keys: Set[str]) -> None:
        """Which channels are heard; the others are muted."""
        with self._shared.lock:
            self._shared.heard = frozenset(keys)
            if not self._shared.layered:
                self._restart()

    def set_level(self, level_db: float) -> None:
        """Level of everything, at most 0 dB; remembered for this device."""
        level = min(LOUDEST_LEVEL_DB, max(-80.0, level_db))
        with self._shared.lock:
            self._shared.level_db = level
        if self._stream is not None:
            self._last_levels_db[self._stream.device] = level

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Repeat a stretch (first, end), or nothing."""
        with self._shared.lock:
            self._shared.loop = loop if loop and loop[1] > loop[0] else None
            self._restart()

    def seek(self, frame: int) -> None:
        """Go to a frame of the take."""
        with self._shared.lock:
            self._shared.position = max(0, min(frame, self._shared.frames))
            self._heard_at = self._shared.position
            self._restart()

    def play(self) -> None:
        """Begin to play; opens the output on first use, quietly."""
        if self._stream is None:
            self._stream = self._backend.open(self._rate_hz, self.fill)
            level = start_level_db(self._stream.device, self._last_levels_db)
            self.set_level(min(level, self._shared.level_db))
            self._stream.start()
        if self._reader is None:
            self._stop.clear()
            self._reader = threading.Thread(target=self._read, name="player", daemon=True)
            self._reader.start()
        with self._shared.lock:
            if self._shared.position >= self._shared.frames:
                self._shared.position = 0
            self._heard_at = self._shared.position
            self._shared.playing = True
            self._restart()
        self._wake.set()

    def taken_error(self) -> BaseException | None:
        """What ended it, once. An output that is gone is opened anew at the next playing."""
        error, self.error = self.error, None
        stream = self._stream
        if stream is not None and stream.error is not None:
            error = error or stream.error
            self.pause()
            stream.stop()
            self._stream = None
        return error

    def pause(self) -> None:
        """Stop where it is."""
        with self._shared.lock:
            self._shared.playing = False
            self._shared.position = self._heard_at
            self._restart()

    def close(self) -> None:
        """Stop and let go of the output."""
        self._shared.playing = False
        self._stop.set()
        self._wake.set()
        if self._stream is not None:
            self._stream.stop()
            self._stream = None
        if self._reader is not None:
            self._reader.join(timeout=2.0)
            self._reader = None

    def _restart(self) -> None:
        """What is queued is out of date; the reader starts again at the position heard."""
        if self._shared.playing:
            self._shared.position = self._heard_at
        self._shared.generation += 1

    # --- the reader ---

    def _read(self) -> None:
        while not self._stop.is_set():
            if not self._shared.playing:
                self._wake.wait(0.1)
                self._wake.clear()
                continue
            try:
                generation, at, block = self.mix_next()
            except BaseException as error:  # told to the interface, which polls
                self.error = error
                self._shared.playing = False
                continue
            while not self._stop.is_set() and generation == self._shared.generation:
                try:
                    self._queue.put((generation, at, block), timeout=0.05)
                    break
                except queue.Full:
                    continue

    def mix_next(self) -> tuple[int, int, NDArray[np.float32]]:
        """The next block of the mix: (generation, first frame, stereo samples)."""
        with self._shared.lock:
            shared = self._shared
            generation, at = shared.generation, shared.position
            end = shared.loop[1] if shared.loop and at < shared.loop[1] else shared.frames
            count = min(MIX_FRAMES, max(0, end - at))
            layers = shared.layers if shared.layered else ()
            channels = [c for c in shared.channels if layers or c.key in shared.heard]
            following = at + count
            if following >= end:
                if shared.loop:
                    following = shared.loop[0]
                elif count == 0:
                    shared.playing = False
                    shared.position = shared.frames
            shared.position = following
        if layers:
            each = np.zeros((count, len(layers), 2), dtype=np.float64)
            for channel in channels:
                if count:
                    heard = np.outer(channel.read(at, count), channel.gains)
                    each[:, layers.index(channel.key)] += heard
            return generation, at, each.astype(np.float32)
        stereo = np.zeros((count, 2), dtype=np.float64)
        for channel in channels:
            if count:
                stereo += np.outer(channel.read(at, count), channel.gains)
        return generation, at, stereo.astype(np.float32)

    def fill(self, frames: int) -> NDArray[np.float32]:
        """The next frames for the output, at the level; silence where nothing is ready."""
        out = np.zeros((frames, 2), dtype=np.float32)
        if not self._shared.playing and self._queue.empty():
            self._rest = self._rest[:0]
            self._fader = (-1, self._fader[1])
            return out
        filled = 0
        while filled < frames:
            if self._rest.shape[0] == 0:
                try:
                    generation, at, block = self._queue.get_nowait()
                except queue.Empty:
                    self.underruns += int(self._shared.playing)
                    break
                if generation != self._shared.generation:
                    continue
                self._rest, self._heard_at = block, at
                if block.ndim == 3 and self._fader[0] != block.shape[1]:
                    self._fader = (block.shape[1], Fader(block.shape[1], self._rate_hz))
                if block.shape[0] == 0:
                    break
            count = min(frames - filled, self._rest.shape[0])
            out[filled : filled + count] = self._mixed(self._rest[:count])
            self._rest = self._rest[count:]
            self._heard_at += count
            filled += count
        # Two full-scale tracks together must not leave the output's range.
        loud = out * np.float32(db_to_gain(self._shared.level_db))
        return np.asarray(np.clip(loud, -1.0, 1.0), dtype=np.float32)

    def _mixed(self, block: NDArray[np.float32]) -> NDArray[np.float32]:
        """What of a block is heard: all of a mix, or of candidates what is chosen just now."""
        if block.ndim == 2:
            return block
        heard = self._shared.heard
        wanted = np.array([float(key in heard) for key in self._shared.layers])
        if wanted.size != block.shape[1]:  # other candidates were put there meanwhile
            return np.zeros((block.shape[0], 2), dtype=np.float32)
        return self._fader[1].mixed(block, wanted)
