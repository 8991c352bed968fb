"""What the use cases need from outside: audio streams, a store, a clock, progress."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from dataclasses import field
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import CancelledError
from diaulos.records import dataclass
from diaulos.signal.overview import Overview

Block = NDArray[np.float32]
"""(frames, channels), full scale at 1."""


@dataclass(frozen=True)
class Wire:
    """What a sound server joins for as long as a stream is open: an input of one device to where
    another program takes its sound. Channels from 0."""

    source: str
    source_channel: int
    target: str
    target_channel: int


@dataclass(frozen=True)
class Through:
    """One of a stream's inputs (from 0) heard at one of the device's outputs (from 0) meanwhile,
    within the server's own cycle: software monitoring. `gain` is a factor, `taps` the response
    that it goes through at the device's rate; empty for none."""

    input: int
    output: int
    gain: float
    taps: tuple[float, ...] = ()


@dataclass(frozen=True)
class StreamSpec:
    """A duplex stream: device, frames per block, and the channels of each direction.

    `input_map` and `output_map` name the device's channels (from 0) that the stream's channels
    are, in order; empty for the first ones. `inputs_of` names other programs that some inputs are
    of ("": the device; empty: all are), `wires` what else is joined, and
    `through` what is heard meanwhile.
    """

    rate_hz: int
    block_frames: int
    input_channels: int = 1
    output_channels: int = 1
    device: str = ""
    input_map: tuple[int, ...] = ()
    output_map: tuple[int, ...] = ()
    inputs_of: tuple[str, ...] = ()
    wires: tuple[Wire, ...] = ()
    through: tuple[Through, ...] = ()


@dataclass(frozen=True)
class StreamInfo:
    """What an open stream says of itself. Latencies are the driver's claim, not measured."""

    rate_hz: int
    input_latency_s: float
    output_latency_s: float
    clock_id: str
    realtime: bool
    patience_s: float | None = None
    """How long it may give no sign of life before it counts as gone; None for what runs in this
    process and cannot go."""
    lead_frames: int = 0
    """What is put out waits for so long before it is played, on purpose, so that nothing tears.
    It is no latency of the device, and in no claim: whoever reads begins so much later."""
    block_frames: int = 0
    """Frames per cycle, as it was opened; 0 where nobody says."""
    ticks: Callable[[], int] | None = field(default=None, compare=False, repr=False)
    """How often whoever holds the device was called so far: a sign of life also while this process
    is held up. None where its callbacks here are all there is."""


@dataclass(frozen=True)
class DeviceInfo:
    """A device that a stream can be opened on."""

    backend: str
    name: str
    inputs: int
    outputs: int
    rates_hz: tuple[int, ...]
    block_frames: tuple[int, ...]
    realtime: bool
    latency_claimed_s: float | None = None
    """In and out together, as the driver says; None where nobody says."""
    input_names: tuple[str, ...] = ()
    """Of the channels, in order, as the driver calls them; empty where it has no names."""
    output_names: tuple[str, ...] = ()


@dataclass(frozen=True)
class Found:
    """What was found at one look: devices, and what is not there and could be, with its mend."""

    devices: tuple[DeviceInfo, ...]
    missing: tuple[str, ...] = ()

    def device(self, name: str) -> DeviceInfo | None:
        """The device of this name."""
        return next((one for one in self.devices if one.name == name), None)


class DeviceList(Protocol):
    """What there is to record from and play to."""

    def look(self) -> Found:
        """What is there now; asking takes a moment."""


@dataclass(frozen=True)
class BlockTime:
    """Where a block lies: frames since the stream began. Where it does not follow on the block
    before, what lies between was lost."""

    frame: int


@dataclass(frozen=True)
class BlockStatus:
    """What went wrong before this block: dropped input, late output, another rate (0: as it was
    opened)."""

    input_overflow: bool = False
    output_underflow: bool = False
    rate_hz: int = 0


StreamCallback = Callable[[Block, Block, int, BlockTime, BlockStatus], bool]
"""(inputs, outputs, frames, time, status) -> go on? `inputs` is (frames, channels) to read,
`outputs` (frames, channels) to fill; it comes zeroed."""


class DuplexStream(Protocol):
    """An open stream that has not begun."""

    @property
    def info(self) -> StreamInfo:
        """What the stream says of itself."""

    @property
    def xruns(self) -> int:
        """Blocks dropped or late so far."""

    def run(self) -> None:
        """Play and record until the callback says stop, or `stop` is called. Errors of the
        callback and of the device come out."""

    def stop(self) -> None:
        """End `run` soon, from another thread, also when the device is gone."""


class AudioBackend(Protocol):
    """Something that plays and records at once."""

    def open(self, spec: StreamSpec, callback: StreamCallback) -> DuplexStream:
        """Open a stream; AudioDeviceError when that is impossible."""


class OutputStream(Protocol):
    """An open output-only stream."""

    @property
    def device(self) -> str:
        """The device's name, for a person and for remembering its level."""

    @property
    def silent(self) -> bool:
        """True for the stand-in that nobody hears."""

    @property
    def error(self) -> Exception | None:
        """What ended it, or kept it from beginning; None while it plays."""

    def start(self) -> None:
        """Begin to call back."""

    def stop(self) -> None:
        """Stop and let go of the device."""


FillCallback = Callable[[int], NDArray[np.float32]]
"""frames -> (frames, 2) to play."""


class OutputBackend(Protocol):
    """Something that plays."""

    def open(self, rate_hz: int, fill: FillCallback) -> OutputStream:
        """Open a stereo output."""


class AudioSource(Protocol):
    """An audio file that can be read."""

    @property
    def rate_hz(self) -> int:
        """Sample rate."""

    @property
    def frames(self) -> int:
        """Length in frames."""

    @property
    def channels(self) -> int:
        """Number of channels."""

    @property
    def bits(self) -> int | None:
        """Bits of a sample where the file holds whole numbers, None for floats: where it is at
        full scale depends on it."""

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = 65_536
    ) -> Iterator[NDArray[np.float32]]:
        """Blocks of (frames, channels)."""


class AudioSink(Protocol):
    """An audio file that is being written."""

    @property
    def frames(self) -> int:
        """Frames written so far."""

    @property
    def clipped_samples(self) -> int:
        """Samples that did not fit the word length."""

    def write(self, samples: NDArray[Any]) -> None:
        """Append samples."""

    def close(self) -> None:
        """Finish the file."""

    def abandon(self) -> None:
        """Throw it away."""


@dataclass(frozen=True)
class FileNotes:
    """What goes into a file's bext chunk, and beside it."""

    description: str
    made_at: datetime
    time_reference: int = 0
    history: str = ""
    ixml: str = ""
    """An iXML chunk; "" for none."""


class SessionStore(Protocol):
    """The session's folder, as the use cases see it."""

    def open_audio(self, file: str) -> AudioSource:
        """A file of the session."""

    def create_audio(
        self, file: str, rate_hz: int, channels: int, word: str, notes: FileNotes
    ) -> AudioSink:
        """A new file of the session; StorageError when it exists or cannot be made."""

    def has_file(self, file: str) -> bool:
        """Whether a file of this name lies in the folder."""

    def kept_overview(self, file: str) -> Overview | None:
        """A waveform overview that an earlier look left, None when there is none or the audio
        has changed since."""

    def keep_overview(self, file: str, overview: Overview) -> None:
        """Leave an overview for the next look. Nothing is lost where that cannot be done."""

    def write_sheet(self, name: str, text: str) -> str:
        """Write a text into the sheets, in the place of one of its name; returns its file."""


class ExternalSource(AudioSource, Protocol):
    """An audio file from outside, with what its header says."""

    @property
    def is_float(self) -> bool:
        """True where samples may lie beyond full scale."""

    @property
    def time_reference(self) -> int | None:
        """Samples since midnight at its first frame, at its own rate; None where it does not
        say."""

    @property
    def description(self) -> str:
        """What its header says it is; "" for nothing."""

    @property
    def history(self) -> str:
        """What its header says was done to it; "" for nothing."""


class ExternalFiles(Protocol):
    """Audio files outside the session."""

    def open(self, path: Path) -> ExternalSource:
        """A file to read."""

    def create(
        self, path: Path, rate_hz: int, channels: int, word: str, notes: FileNotes, replace: bool
    ) -> AudioSink:
        """A file to write; written beside and renamed when it may replace another."""


Clock = Callable[[], datetime]
Progress = Callable[[float, str], None]
"""(fraction 0 to 1, what is being done)."""


def no_progress(fraction: float, text: str) -> None:
    """Tell nobody."""


@dataclass
class CancelToken:
    """Set from one thread, heeded in another."""

    _event: threading.Event = field(default_factory=threading.Event)

    def cancel(self) -> None:
        """Ask for the work to stop."""
        self._event.set()

    @property
    def cancelled(self) -> bool:
        """Whether someone asked."""
        return self._event.is_set()

    def check(self) -> None:
        """Raise CancelledError when someone asked."""
        if self._event.is_set():
            raise CancelledError
