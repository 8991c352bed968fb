"""What the views need from outside, handed in so that tests hand in their own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from diaulos import wiring
from diaulos.circuit.loading import Load
from diaulos.rig.bench import Impulses
from diaulos.rig.course import Course
from diaulos.session.instrument import Instrument
from diaulos.work.ports import AudioBackend, Clock, ExternalFiles, OutputBackend
from diaulos.work.rigs.audio import RigAudio
from diaulos.work.takes.importing import Resampler
from diaulos.work.takes.recording import RecordBackendFor


@dataclass(frozen=True)
class Services:
    """Audio, files and the clock."""

    bench_for: Callable[[Impulses], Callable[[Course], AudioBackend]]
    output: OutputBackend
    files: ExternalFiles
    resample: Resampler
    clock: Clock
    record_from: RecordBackendFor = field(default_factory=lambda: wiring.rig_backend(paced=True))
    """Where a recording's sound comes from."""
    silence_from: RecordBackendFor = field(
        default_factory=lambda: wiring.rig_backend(paced=True, silent=True)
    )
    """The same while nobody plays, for the noise check."""
    pluck_from: Callable[[tuple[int, ...]], RecordBackendFor] = field(
        default_factory=lambda: lambda frets: wiring.pluck_backend(frets, paced=True)
    )
    """The same while somebody tunes, by the frets that are asked for."""
    rig_audio: RigAudio = field(default_factory=wiring.BenchAudio)
    """What plays rigs for sound check, calibration and "play the rig"."""
    round_trip_frames: int = 0
    """From what is heard to what comes back, for overdubs."""
    strums: Callable[[Instrument, Load, int], tuple[AudioBackend, float]] = wiring.strum_backend

    @staticmethod
    def of_this_machine() -> Services:
        """The bench for loops, the system's audio for listening."""
        return Services(
            bench_for=wiring.bench_for,
            output=wiring.output_backend(),
            files=wiring.ExternalAudio(),
            resample=wiring.resampled,
            clock=wiring.local_now,
        )
