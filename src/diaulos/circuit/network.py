"""Chains of linear two-ports between a source and a load.

Conventions
- A two-port is its chain matrix [V1; I1] = [[a, b], [c, d]] [V2; I2], with I2 flowing out
  of port 2. Each entry is a complex array over the frequencies at hand.
- A source is its Thevenin equivalent: an EMF and an impedance.
- Levels are always re the EMF (the open-circuit generator), never re a loaded level.
- Thermal noise at a node is 4 k T Re(Z) of the impedance seen there (Nyquist), which
  counts every resistor of a passive network at one temperature.

Held against circuit simulation in tests/test_circuit.py.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass

Complex = NDArray[np.complex128]
Real = NDArray[np.float64]


def resistor(ohm: float, freqs_hz: Real) -> Complex:
    """Impedance of a resistor over the frequencies.

    Parameters
    ----------
    ohm
        Resistance in ohm, above 0.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Ohm, complex, shape (n,).
    """
    return np.full(freqs_hz.shape, ohm, dtype=np.complex128)


def capacitor(farad: float, freqs_hz: Real) -> Complex:
    """Impedance of a capacitor; a very large finite one at 0 Hz or 0 F.

    Parameters
    ----------
    farad
        Capacitance in F, 0 and above.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Ohm, complex, shape (n,).
    """
    susceptance = 2j * np.pi * freqs_hz * farad
    return np.asarray(1.0 / (susceptance + 1e-18), dtype=np.complex128)


def inductor(henry: float, freqs_hz: Real) -> Complex:
    """Impedance of an inductor.

    Parameters
    ----------
    henry
        Inductance in H, 0 and above.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Ohm, complex, shape (n,).
    """
    return np.asarray(2j * np.pi * freqs_hz * henry, dtype=np.complex128)


def parallel(*impedances: Complex) -> Complex:
    """Impedance of several in parallel.

    Parameters
    ----------
    *impedances
        Complex impedances in ohm, each of shape (n,).

    Returns
    -------
    Ohm, complex, shape (n,).
    """
    admittance = sum(1.0 / z for z in impedances)
    return np.asarray(1.0 / admittance, dtype=np.complex128)


@dataclass(frozen=True)
class TwoPort:
    """A linear two-port as a chain matrix over frequency."""

    a: Complex
    b: Complex
    c: Complex
    d: Complex

    def then(self, after: TwoPort) -> TwoPort:
        """This two-port followed by another."""
        return TwoPort(
            a=self.a * after.a + self.b * after.c,
            b=self.a * after.b + self.b * after.d,
            c=self.c * after.a + self.d * after.c,
            d=self.c * after.b + self.d * after.d,
        )

    def drive(self, v2: Complex, i2: Complex) -> tuple[Complex, Complex]:
        """Voltage and current at port 1 that give these at port 2."""
        return self.a * v2 + self.b * i2, self.c * v2 + self.d * i2


def series(z: Complex) -> TwoPort:
    """An impedance in the signal's way.

    Parameters
    ----------
    z
        Complex impedance in ohm, shape (n,).

    Returns
    -------
    Its chain matrix over frequency.
    """
    one, zero = np.ones_like(z), np.zeros_like(z)
    return TwoPort(one, z, zero, one)


def shunt(z: Complex) -> TwoPort:
    """An impedance from the signal to ground.

    Parameters
    ----------
    z
        Complex impedance in ohm, shape (n,).

    Returns
    -------
    Its chain matrix over frequency.
    """
    one, zero = np.ones_like(z), np.zeros_like(z)
    return TwoPort(one, zero, 1.0 / z, one)


def transformer(turns_ratio: float, freqs_hz: Real) -> TwoPort:
    """An ideal transformer with `turns_ratio` : 1 turns, primary to secondary.

    Parameters
    ----------
    turns_ratio
        Primary over secondary turns, above 0.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Its chain matrix over frequency.
    """
    one, zero = np.ones(freqs_hz.shape, complex), np.zeros(freqs_hz.shape, complex)
    return TwoPort(
        np.asarray(one * turns_ratio, complex), zero, zero, np.asarray(one / turns_ratio, complex)
    )


def chain(parts: Sequence[TwoPort], freqs_hz: Real) -> TwoPort:
    """Several two-ports in a row; the identity for none.

    Parameters
    ----------
    parts
        Two-ports from the source to the load.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    The product of the chain matrices.
    """
    one, zero = np.ones(freqs_hz.shape, complex), np.zeros(freqs_hz.shape, complex)
    whole = TwoPort(one, zero, zero, one)
    for part in parts:
        whole = whole.then(part)
    return whole


@dataclass(frozen=True)
class Source:
    """The Thevenin equivalent of everything up to a node."""

    emf: Complex
    impedance: Complex

    def through(self, part: TwoPort) -> Source:
        """The equivalent behind a two-port."""
        denominator = part.c * self.impedance + part.a
        return Source(
            emf=self.emf / denominator,
            impedance=(part.d * self.impedance + part.b) / denominator,
        )


def node_levels(
    source_impedance: Complex, parts: Sequence[TwoPort], load: Complex
) -> tuple[Complex, ...]:
    """Voltage re the EMF at every node of a loaded chain.

    Returns one array per node: before the first part, between the parts, and at the load
    (len(parts) + 1 in all), each a complex ratio to the EMF.

    Parameters
    ----------
    source_impedance
        Complex impedance in ohm, shape (n,).
    parts
        Two-ports from the source to the load.
    load
        What hangs on the output: ohm, farad.

    Returns
    -------
    Complex ratios to the EMF, one array a node.
    """
    voltage, current = np.ones_like(load), 1.0 / load
    nodes = [voltage]
    for part in reversed(parts):
        voltage, current = part.drive(voltage, current)
        nodes.append(voltage)
    emf = voltage + current * source_impedance
    return tuple(node / emf for node in reversed(nodes))
