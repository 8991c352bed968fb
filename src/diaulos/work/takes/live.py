"""Software monitoring: what can be heard through the computer while it is played, how late it is,
and whether somebody hears it already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.model import SOFTWARE, PortRef
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.work.capture.trips import WayRound
from diaulos.work.rigs.look import RigReport
from diaulos.work.takes.ready import Armed

LATE_MS = 10.0
"""What a player feels, more or less; common practice, no source."""


@dataclass(frozen=True)
class LiveChoice:
    """One thing to hear: an armed track, as it is or through a cabinet (a stand-in's name or an
    impulse's file; "" for none)."""

    track: PortRef
    cabinet: str
    words: str

    def taps(
        self, rate_hz: float, impulses: Mapping[str, NDArray[np.float64]]
    ) -> tuple[float, ...]:
        """The cabinet's response at this rate; none for a track as it is."""
        if not self.cabinet:
            return ()
        found = impulses.get(self.cabinet)
        taps = cabinet_taps(self.cabinet, rate_hz) if found is None else found
        return tuple(float(one) for one in taps)


def live_choices(
    armed: Sequence[Armed], impulses: Mapping[str, str] | None = None
) -> tuple[LiveChoice, ...]:
    """Every armed track, and those of an amplifier without cabinet through each cabinet that
    there is; `impulses` are the session's own by file, with their names."""
    cabinets = {**(impulses or {}), **{name: one.title for name, one in CABINETS.items()}}
    found = []
    for one in armed:
        found.append(LiveChoice(one.port, "", one.name))
        if one.tap == "amp":
            found += [
                LiveChoice(one.port, name, f"{one.name} through {words}")
                for name, words in cabinets.items()
            ]
    return tuple(found)


@dataclass(frozen=True)
class LiveLatency:
    """From the string to the ear, in ms, where `known`; measured, or as the driver claims."""

    ms: float
    measured: bool
    known: bool = True

    @property
    def words(self) -> str:
        """For a button."""
        if not self.known:
            return "latency never measured"
        about = "" if self.measured else "about "
        return f"{about}{number(self.ms)} ms"

    @property
    def sentence(self) -> str:
        """How late it is."""
        if not self.known:
            return "How late was never measured: Preferences, Sound does it."
        return f"It is {self.words} late."


def live_latency(
    way: WayRound, rate_hz: int, block_frames: int, claimed_s: float | None, own_samples: float
) -> LiveLatency:
    """What is heard live is as late as a device's way round, and as an amplifier in another
    program besides.

    Parameters
    ----------
    way
        What was measured of the device.
    rate_hz, block_frames
        As the device runs.
    claimed_s
        What its driver claims, in and out together; None where it says nothing.
    own_samples
        Of the software amplifier that it goes through.

    Returns
    -------
    Measured where it was measured at this rate and block; else claimed; else unknown.
    """
    own_ms = 1000.0 * own_samples / rate_hz
    trip = way.measured(rate_hz, block_frames)
    if trip is not None:
        return LiveLatency(1000.0 * trip.samples / rate_hz + own_ms, True)
    if not claimed_s:
        return LiveLatency(own_ms, False, known=False)
    return LiveLatency(1000.0 * claimed_s + own_ms, False)


def own_samples(one: Armed) -> float:
    """The latency of the software amplifiers on a track's way, as the rig has it."""
    course = one.plan.course
    legs = course.legs if course is not None else ()
    return sum(leg.device.number("latency") for leg in legs if leg.device.kind == SOFTWARE)


def heard_already(report: RigReport, one: Armed) -> str:
    """What to say where somebody hears the same source directly; "" else."""
    for listening in report.monitoring.listeners:
        for way in listening.ways:
            if way.kind == "direct" and way.source_id == one.source:
                return (
                    f"{way.source} is heard directly as well ({listening.listener}, "
                    f"{number(way.delay_ms)} ms): turn that down, or it is heard twice."
                )
    return ""
