"""Stages told apart, in one place.

Whoever needs something else of each kind of stage (a gain, a response, a delay, a processor)
writes a `StageReader` with one method a kind. The dispatch stands here alone, and it is
exhaustive: a kind that is added to `Stage` is a type error here, and its missing method one in
every reader, never a stage that is passed over in silence.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Generic, TypeVar, assert_never

from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    CabinetStage,
    CompressorStage,
    DacStage,
    DelayStage,
    FilterStage,
    GainStage,
    PassiveStage,
    Stage,
)

T = TypeVar("T")


class StageReader(ABC, Generic[T]):
    """One answer for each kind of stage."""

    def read(self, stage: Stage) -> T:
        """The answer for this stage."""
        match stage:
            case GainStage():
                return self.gain(stage)
            case DacStage():
                return self.dac(stage)
            case AdcStage():
                return self.adc(stage)
            case PassiveStage():
                return self.passive(stage)
            case AmpStage():
                return self.amp(stage)
            case CompressorStage():
                return self.compressor(stage)
            case CabinetStage():
                return self.cabinet(stage)
            case FilterStage():
                return self.filter(stage)
            case DelayStage():
                return self.delay(stage)
            case _:
                assert_never(stage)

    @abstractmethod
    def gain(self, stage: GainStage) -> T:
        """An amplifying or attenuating stage."""

    @abstractmethod
    def dac(self, stage: DacStage) -> T:
        """Numbers to volts."""

    @abstractmethod
    def adc(self, stage: AdcStage) -> T:
        """Volts to numbers."""

    @abstractmethod
    def passive(self, stage: PassiveStage) -> T:
        """A passive network: worked out by its segment, as a circuit."""

    @abstractmethod
    def amp(self, stage: AmpStage) -> T:
        """An amplifier, real or modeled."""

    @abstractmethod
    def compressor(self, stage: CompressorStage) -> T:
        """What holds loud playing back."""

    @abstractmethod
    def cabinet(self, stage: CabinetStage) -> T:
        """A cabinet's response."""

    @abstractmethod
    def filter(self, stage: FilterStage) -> T:
        """Corners at both ends."""

    @abstractmethod
    def delay(self, stage: DelayStage) -> T:
        """Time alone."""
