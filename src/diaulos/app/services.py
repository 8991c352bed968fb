"""What the views need from outside, handed in so that tests hand in their own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field

from diaulos import wiring
from diaulos.app.preferences import Preferences
from diaulos.circuit.loading import Load
from diaulos.ids import BENCH
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.strays import Stray
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session
from diaulos.work.capture.movers import Movement
from diaulos.work.capture.roundtrip import RoundTrip
from diaulos.work.capture.smallest import BlockTrial
from diaulos.work.capture.trips import NOTHING_ROUND, TripStore, WayRound
from diaulos.work.hunting.causes import Cause
from diaulos.work.hunting.trials import Trial
from diaulos.work.ports import (
    AudioBackend,
    CancelToken,
    Clock,
    DeviceList,
    ExternalFiles,
    FillCallback,
    OutputBackend,
    OutputStream,
    Progress,
)
from diaulos.work.reamp.slate import LoopBackendFor
from diaulos.work.rigs.audio import LiveAudio, RigAudio
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.takes.importing import Resampler
from diaulos.work.takes.recording import RecordBackendFor


@dataclass(frozen=True)
class Services:
    """Audio, files and the clock."""

    bench_for: Callable[[Impulses], LoopBackendFor]
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
    hunt_from: wiring.HuntBackendFor = field(default_factory=wiring.hunt_backend)
    """The same while a noise is hunted: somebody does what a test or a remedy says."""
    pluck_from: Callable[[tuple[int, ...]], RecordBackendFor] = field(
        default_factory=lambda: lambda frets: wiring.pluck_backend(frets, paced=True)
    )
    """The same while somebody tunes, by the frets that are asked for."""
    rig_audio: RigAudio = field(default_factory=wiring.BenchAudio)
    """What plays rigs for sound check, calibration and "play the rig"."""
    live: Callable[[Rig], LiveAudio | None] = lambda _rig: None
    """The real device in the place of a rig's interface; None while the studio is simulated."""
    device: Callable[[], str] = lambda: BENCH
    """What is recorded from and reamped through, by its name."""
    way_round: Callable[[], WayRound] = lambda: NOTHING_ROUND
    """From what is heard to what comes back, for overdubs."""
    trips: TripStore = field(default_factory=wiring.trip_store)
    """What was measured of real devices."""
    devices: DeviceList = field(default_factory=wiring.device_list)
    """What there is to record from and play to."""
    measure_trip: Callable[[str, int, int, CancelToken, int, int], RoundTrip] = wiring.round_trip_of
    """(device, output, input (from 1), cancel, rate, block; 0: its own) -> the way round, by a
    cable."""
    try_blocks: Callable[[str, CancelToken, Progress], tuple[BlockTrial, ...]] = wiring.blocks_of
    """(device, cancel, progress): the shortest block that loses nothing, and those before it."""
    hear_inputs: Callable[[str, int, Callable[[Movement], None], Callable[[], bool], int], None] = (
        wiring.hear_inputs
    )
    """(device, how many inputs, tell, stopped, block): their levels, until it is stopped."""
    hear_live: Callable[[Session, Rig, wiring.HeardLive, Callable[[], bool]], None] = (
        lambda _session, _rig, _heard, _stopped: None
    )
    """(session, rig, what, stopped): heard through the computer until it is stopped; nothing in
    the simulated studio."""
    library: wiring.LibraryFolder = field(default_factory=wiring.library_at)
    """Own gear."""
    training: wiring.ProgressFile = field(default_factory=wiring.training_record)
    """What was trained."""
    block: Callable[[], int] = lambda: 0
    """Frames per cycle that were chosen for the device; 0: the usual."""
    coil: Callable[[Instrument, Load], AudioBackend] = wiring.coil_backend
    """A simulated coil on a pickup, in front of a load."""
    plucks: Callable[[Instrument, Load, int, int], AudioBackend] = wiring.open_strings_backend
    """(instrument, load, rate, seed): a simulated player who plucks open strings into a load."""
    divider: Callable[[str, float, bool, Instrument], AudioBackend] = wiring.divider_backend
    """(what, resistor, whether it is in, instrument): the simulated row of them."""
    sweep_on: Callable[[str, int, int, int], AudioBackend] = wiring.sweep_on
    """(device, output, input (from 1), block): a real way from one to the other."""
    strums: Callable[[Instrument, Load, int], tuple[AudioBackend, float]] = wiring.strum_backend

    @staticmethod
    def of_this_machine(preferences: Preferences | None = None) -> Services:
        """The system's audio for listening; loops and recordings by the simulated studio, or by
        the device that was chosen."""
        if preferences is None:
            return Services(
                bench_for=wiring.bench_for, output=wiring.output_backend(),
                files=wiring.ExternalAudio(), resample=wiring.resampled, clock=wiring.local_now,
            )  # fmt: skip
        chosen = _Chosen(preferences)
        return Services(
            bench_for=chosen.loop,
            output=chosen,
            files=wiring.ExternalAudio(),
            resample=wiring.resampled,
            clock=wiring.local_now,
            record_from=chosen.recording(wiring.rig_backend(paced=True)),
            silence_from=chosen.recording(wiring.rig_backend(paced=True, silent=True)),
            hunt_from=chosen.hunting(wiring.hunt_backend()),
            pluck_from=lambda frets: chosen.recording(wiring.pluck_backend(frets, paced=True)),
            live=chosen.live,
            device=lambda: preferences.device,
            block=lambda: preferences.block_of(preferences.device),
            way_round=chosen.way_round,
            hear_live=chosen.hear_live,
        )


class _Chosen:
    """The device of the preferences, asked for when a stream is opened; the simulated studio
    plays what it plays."""

    def __init__(self, preferences: Preferences) -> None:
        self._preferences = preferences

    def loop(self, impulses: Impulses) -> LoopBackendFor:
        device = self._preferences.device
        if device == BENCH:
            return wiring.bench_for(impulses)
        _, first, block = self._preferences.sounding
        listening = (first, first + 1) if first else ()
        return wiring.loop_on(device, listening=listening, block_frames=block)

    def open(self, rate_hz: int, fill: FillCallback) -> OutputStream:
        """To listen: two outputs of the device, or the system's."""
        device, first, block = self._preferences.sounding
        output = wiring.listen_on(device, first, block) if first else wiring.output_backend()
        return output.open(rate_hz, fill)

    def recording(self, simulated: RecordBackendFor) -> RecordBackendFor:
        def make(
            session: Session, rig: Rig, tracks: tuple[PortRef, ...], stored: Stored
        ) -> AudioBackend:
            device = self._preferences.device
            block = self._preferences.block_of(device)
            real = wiring.record_on(device, block_frames=block)
            source = simulated if device == BENCH else real
            return source(session, rig, tracks, stored)

        return make

    def hunting(self, simulated: wiring.HuntBackendFor) -> wiring.HuntBackendFor:
        real = self.recording(wiring.rig_backend(paced=True, silent=True))

        def make(
            session: Session, rig: Rig, tracks: tuple[PortRef, ...], trial: Trial | None,
            mended: Cause | None, strays: tuple[Stray, ...],
        ) -> AudioBackend:  # fmt: skip
            if self._preferences.device == BENCH:
                return simulated(session, rig, tracks, trial, mended, strays)
            return real(session, rig, tracks, NOTHING_STORED)  # a person does it

        return make

    def live(self, rig: Rig) -> LiveAudio | None:
        device, _, block = self._preferences.sounding
        return None if device == BENCH else wiring.DeviceAudio(device, rig, block)

    def hear_live(
        self, session: Session, rig: Rig, heard: wiring.HeardLive, stopped: Callable[[], bool]
    ) -> None:
        device, _, block = self._preferences.sounding
        if device != BENCH:
            wiring.hear_live(session, rig, device, heard, stopped, block)

    def way_round(self) -> WayRound:
        device = self._preferences.device
        return NOTHING_ROUND if device == BENCH else wiring.way_round_of(device)
