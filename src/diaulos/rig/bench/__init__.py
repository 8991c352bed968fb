"""The bench: a rig played. Each station is a block processor; what comes out does not
depend on the size of the blocks."""

from diaulos.rig.bench.chain import Bench, BenchFaults, Probe, probe
from diaulos.rig.bench.instrument import through_pickup

__all__ = ["Bench", "BenchFaults", "Probe", "probe", "through_pickup"]
