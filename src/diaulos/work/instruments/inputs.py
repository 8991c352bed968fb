"""What inputs do to an instrument: compared, rated, mended."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, Loading, analyse, closeness_db, curves_db
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.records import dataclass
from diaulos.rig.model import Direction, SignalClass
from diaulos.session.instrument import ComparedInput, Instrument, ToneStage
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig

Real = NDArray[np.float64]


OPEN_LOAD = Load(10e6, 10e-12)
"""As open as an input gets: 10 M."""


AMP_LOAD = Load(1e6, 100e-12)


LOW_LOAD = Load(47e3, 50e-12)


REFERENCES: dict[str, tuple[str, Load]] = {
    "amp": ("a 1 M amp input", AMP_LOAD),
    "low": ("a low-impedance effect input (60 k)", LOW_LOAD),
    "open": ("as open as possible", OPEN_LOAD),
}
"""What a loading can be compared with, by id."""


def rig_inputs(session: Session) -> tuple[ComparedInput, ...]:
    """The analog inputs of the recording rig's devices, each kind once."""
    if not session.rigs:
        return ()
    found: dict[tuple[str, float, float], ComparedInput] = {}
    analog = (SignalClass.INSTRUMENT, SignalClass.LINE, SignalClass.MIC)
    for device in recording_rig(session).devices:
        for port in device.ports:
            port = device.as_switched(port)
            if port.direction is Direction.IN and port.signal_class in analog:
                kind = (device.id, port.impedance_ohm, port.capacitance_pf)
                name = f"{device.name}: {port.name}"[:200]
                found.setdefault(
                    kind,
                    ComparedInput(name=name, ohm=port.impedance_ohm, pf=port.capacitance_pf),
                )
    return tuple(found.values())


# --- loading -------------------------------------------------------------------------


@dataclass(frozen=True)
class InputRow:
    """An instrument into one input: figures, and in words what is lost."""

    name: str
    load: Load
    figures: Loading
    words: str


def compare_inputs(session: Session, instrument: Instrument) -> tuple[InputRow, ...]:
    """The instrument at each of the session's compared inputs, its usual cable included."""
    circuit = instrument.circuit()
    best = analyse(circuit, Load.together(instrument.cable, OPEN_LOAD))
    rows = []
    for compared in session.compared_inputs:
        load = Load.together(instrument.cable, compared.load)
        figures = analyse(circuit, load)
        rows.append(InputRow(compared.name, load, figures, loss_words(figures, best)))
    return tuple(rows)


def loss_words(figures: Loading, best: Loading) -> str:
    """What is lost against an open input, in a person's words."""
    down = best.level_1khz_db - figures.level_1khz_db
    parts = []
    if down > 0.3:
        parts.append(f"{down:.1f} dB down at 1 kHz")
    if figures.low_corner_hz is not None and figures.low_corner_hz > 40.0:
        parts.append(f"bass falls below {figures.low_corner_hz:.0f} Hz: will sound thin")
        return ", ".join(parts)
    if best.resonance_hz is not None and best.peak_db is not None:
        if figures.resonance_hz is None:
            parts.append("resonance gone: will sound dull" + (" and quiet" if down > 1.0 else ""))
        else:
            assert figures.peak_db is not None
            lost = best.peak_db - figures.peak_db
            if lost > 1.0:
                parts.append(f"peak {lost:.1f} dB lower: softer top")
            if figures.resonance_hz < 0.85 * best.resonance_hz:
                parts.append(
                    f"resonance down from {best.resonance_hz / 1000.0:.1f} to "
                    f"{figures.resonance_hz / 1000.0:.1f} kHz: darker"
                )
    return ", ".join(parts) or "nothing is lost"


@dataclass(frozen=True)
class ImpedanceChoice:
    """One setting of a selectable input, and how far it is from the reference (RMS dB)."""

    ohm: float
    figures: Loading
    apart_db: float
    chosen: bool


def rate_impedances(
    instrument: Instrument, stage: ToneStage, reference: Load
) -> tuple[ImpedanceChoice, ...]:
    """Every setting of the tone stage's input; the closest to the reference is `chosen`."""
    circuit, cable = instrument.circuit(), instrument.cable
    wanted = Load.together(cable, reference)
    loads = [
        Load.together(cable, Load(ohm, stage.input_pf * 1e-12)) for ohm in stage.impedances_ohm
    ]
    apart = [closeness_db(circuit, load, wanted) for load in loads]
    best = int(np.argmin(apart)) if apart else -1
    return tuple(
        ImpedanceChoice(ohm, analyse(circuit, load), distance, index == best)
        for index, (ohm, load, distance) in enumerate(
            zip(stage.impedances_ohm, loads, apart, strict=True)
        )
    )


@dataclass(frozen=True)
class Mend:
    """A way to bring a fixed input closer to the reference, and how close it gets."""

    what: str
    apart_db: float


def mend_input(instrument: Instrument, load: Load, reference: Load) -> tuple[float, list[Mend]]:
    """How far a fixed input is from a reference, and what would mend it, best first."""
    circuit = instrument.circuit()
    cable = instrument.cable
    wanted = Load.together(cable, reference)
    now = closeness_db(circuit, Load.together(cable, load), wanted)
    short = Load(farad=1.0 * instrument.cable_pf_per_m * 1e-12)
    ways = [
        Mend("a cable of 1 m", closeness_db(circuit, Load.together(short, load), wanted)),
        Mend(
            "the input's instrument switch (1 M)",
            closeness_db(circuit, Load.together(cable, Load(1e6, load.farad)), wanted),
        ),
        Mend(
            "an active DI (10 M) or a buffer at the instrument",
            _buffered_apart(circuit, instrument, wanted),
        ),
    ]
    ways = [way for way in ways if way.apart_db < now - 0.1]
    return now, sorted(ways, key=lambda way: way.apart_db)


def _buffered_apart(circuit: InstrumentCircuit, instrument: Instrument, wanted: Load) -> float:
    """A buffer near the instrument: half a metre of cable and 10 M, then nothing matters."""
    near = Load(10e6, 0.5 * instrument.cable_pf_per_m * 1e-12)
    return closeness_db(circuit, near, wanted)


def loading_curves(instrument: Instrument, loads: Sequence[Load], freqs_hz: Real) -> Real:
    """Level over frequency at each load, dB re EMF, one row per load."""
    return curves_db(instrument.circuit(), loads, freqs_hz)
