"""The bench: a rig played. Each station is a block processor; what comes out does not
depend on the size of the blocks."""

from diaulos.rig.bench.chain import Bench, Probe, probe
from diaulos.rig.bench.instrument import correction_taps, through_input
from diaulos.rig.bench.player import strum_volts
from diaulos.rig.bench.steps import BenchFaults, Impulses
from diaulos.rig.bench.whole import LoopBench, RigBench, courses_from

__all__ = [
    "Bench",
    "BenchFaults",
    "Impulses",
    "LoopBench",
    "Probe",
    "RigBench",
    "correction_taps",
    "courses_from",
    "probe",
    "strum_volts",
    "through_input",
]
