"""How long the way round of a real device is: as measured at this rate and block, as a person
says, or else as its driver claims.

What was measured at one rate and block says nothing of another: a period more or less is what
the two differ by, and an overdub would be late by it.
"""

from __future__ import annotations

from typing import Protocol

from diaulos.figures import plain
from diaulos.records import dataclass
from diaulos.work.ports import StreamInfo


@dataclass(frozen=True)
class Trip:
    """One measurement: from an output to an input (channels from 1), in samples."""

    device: str
    rate_hz: int
    block_frames: int
    samples: float
    error_samples: float
    out_channel: int
    in_channel: int


class TripStore(Protocol):
    """What was measured on this computer; the window and the shell share it."""

    def known(self) -> tuple[Trip, ...]:
        """Everything that is remembered, one for each device, rate and block."""

    def keep(self, trip: Trip) -> None:
        """Remember it in place of an earlier one; StorageError when it cannot be written."""


@dataclass(frozen=True)
class WayRound:
    """The way round of what is recorded from; without a device nothing goes round."""

    device: str = ""
    known: tuple[Trip, ...] = ()
    told_samples: float | None = None
    """What a person says it is, whatever was measured."""

    def measured(self, rate_hz: int, block_frames: int) -> Trip | None:
        """What was measured at this rate and block."""
        wanted = (self.device, rate_hz, block_frames)
        return next(
            (one for one in self.known if (one.device, one.rate_hz, one.block_frames) == wanted),
            None,
        )

    def samples(self, info: StreamInfo) -> float:
        """Of a stream that was opened: told, measured, or claimed by its driver."""
        if self.told_samples is not None:
            return self.told_samples
        if not self.device:
            return 0.0
        found = self.measured(info.rate_hz, info.block_frames)
        if found is not None:
            return found.samples
        return info.rate_hz * (info.input_latency_s + info.output_latency_s)

    def frames(self, info: StreamInfo) -> int:
        """The same in whole frames."""
        return round(self.samples(info))

    def unmeasured(self, info: StreamInfo) -> str:
        """What to say where a claim is all there is; "" else."""
        if not self.device or self.told_samples is not None:
            return ""
        if self.measured(info.rate_hz, info.block_frames) is not None:
            return ""
        return (
            f"The round trip of {self.device} was never measured at {info.rate_hz} Hz and "
            f"{info.block_frames} frames (Preferences, Sound): what plays along lands in time by "
            f"the driver's claim of {plain(self.samples(info), 0)} samples."
        )


NOTHING_ROUND = WayRound()
