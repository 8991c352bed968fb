"""The bench: a rig played. Each station is a block processor; what comes out does not
depend on the size of the blocks."""

from diaulos.rig.bench.chain import Bench, BenchFaults, Probe, probe
from diaulos.rig.bench.instrument import correction_taps, through_input
from diaulos.rig.bench.player import strum_volts

__all__ = [
    "Bench",
    "BenchFaults",
    "Probe",
    "correction_taps",
    "probe",
    "strum_volts",
    "through_input",
]
