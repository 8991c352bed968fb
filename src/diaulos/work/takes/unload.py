"""Undoing the load that a DI was recorded into, on its way out to the amplifier.

"As the amp would have seen it": a DI into 60 k reamped into 1 M is not the sound of the
guitar in 1 M. The stored audio is not touched; the filter stands in the send.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.correction import Correction, correction
from diaulos.circuit.loading import Load
from diaulos.errors import EditError, RigError
from diaulos.figures import number
from diaulos.quantities import RESISTANCE, show
from diaulos.records import dataclass
from diaulos.rig.bench import correction_taps
from diaulos.rig.course import reamp_course
from diaulos.rig.model import DIGITAL_CLASSES, Rig
from diaulos.rig.plan import amp_input
from diaulos.session.model import Session, Take, Track
from diaulos.signal.convolve import BlockConvolver
from diaulos.work.ports import AudioSource

DI_LOADS_OHM = (10e3, 47e3, 100e3, 220e3, 470e3, 1e6, 2.2e6, 10e6)
"""Inputs that a DI may have been recorded into, to choose from."""
MODELED_INPUT = Load(1e6, 60e-12)
"""Of a usual amplifier, and of a model's jack (representative)."""


@dataclass(frozen=True)
class Undo:
    """What undoes a DI's load, and what it costs."""

    correction: Correction
    recorded: Load
    wanted: Load
    usual: bool = False
    """The wanted one is a usual amplifier's: the rig has none."""

    @property
    def words(self) -> str:
        """From where to where, the largest boost, and the price in noise."""
        way = f"{show(self.recorded.ohm, RESISTANCE)} to {show(self.wanted.ohm, RESISTANCE)}"
        return f"{way}: {self.cost}"

    @property
    def cost(self) -> str:
        """The largest boost, and the price in noise."""
        found = self.correction
        return (
            f"up to {number(found.most_db)} dB at {found.most_hz / 1000.0:.1f} kHz, "
            f"noise {number(found.noise_db, sign=True)} dB"
            + (f"; for a usual {show(self.wanted.ohm, RESISTANCE)} input" if self.usual else "")
        )


def undo_for(session: Session, take: Take, track: Track, rig: Rig) -> Undo:
    """What would make a DI as the amplifier's input would have seen the instrument.

    Raises EditError where the instrument or the DI's input is not known, RefusedError where
    too much would be needed.
    """
    if track.load_ohm is None:
        raise EditError(
            f"Nobody wrote down which impedance {take.name} was recorded into.",
            remedy="Set it beside the box.",
        )
    if not take.instrument_id:
        raise EditError(f"{take.name} has no instrument.", remedy="Import it with one.")
    instrument = session.instrument(take.instrument_id)
    recorded = Load(track.load_ohm, track.load_pf * 1e-12)
    amp = _amp_load(rig)
    wanted = amp or MODELED_INPUT
    cable = instrument.cable
    found = correction(
        instrument.circuit(), Load.together(cable, recorded), Load.together(cable, wanted)
    )
    return Undo(found, recorded, wanted, usual=amp is None)


def _amp_load(rig: Rig) -> Load | None:
    """What the amplifier of a rig loads with, a model's jack where it is fed with numbers; None
    where the rig has none on its way out."""
    try:
        port = amp_input(reamp_course(rig)).port
    except RigError:
        return None
    if port.signal_class in DIGITAL_CLASSES:
        return MODELED_INPUT
    return Load(port.impedance_ohm, port.capacitance_pf * 1e-12)


class FilteredSource:
    """An audio file behind a causal FIR, read like the file."""

    def __init__(self, source: AudioSource, taps: NDArray[np.float64]) -> None:
        self._source, self._taps = source, taps

    @property
    def rate_hz(self) -> int:
        return self._source.rate_hz

    @property
    def frames(self) -> int:
        return self._source.frames

    @property
    def bits(self) -> int | None:
        """It is filtered: its samples are no whole numbers any more."""
        return None

    @property
    def channels(self) -> int:
        return self._source.channels

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = 65_536
    ) -> Iterator[NDArray[np.float32]]:
        # The filter begins early enough to have forgotten where it began.
        start = max(0, first - (self._taps.size - 1))
        rest = self.frames - first if count is None else min(count, self.frames - first)
        convolvers = [BlockConvolver(self._taps) for _ in range(self.channels)]
        tails = [convolver.initial_state() for convolver in convolvers]
        skip = first - start
        for samples in self._source.blocks(first=start, count=rest + skip, block=block):
            out = np.empty_like(samples)
            for channel, convolver in enumerate(convolvers):
                done, tails[channel] = convolver.process(samples[:, channel], tails[channel])
                out[:, channel] = done
            if skip >= out.shape[0]:
                skip -= out.shape[0]
                continue
            yield out[skip:]
            skip = 0


def unloaded(source: AudioSource, undo: Undo) -> FilteredSource:
    """A DI with its load undone."""
    return FilteredSource(source, correction_taps(undo.correction, float(source.rate_hz)))
