"""Joins the use cases with the bench, the folder and the system."""

from __future__ import annotations

import itertools
import os
import shutil
import sys
import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from diaulos import RELEASED, __version__
from diaulos.audio import devices as real
from diaulos.audio.bench_backend import BenchBackend
from diaulos.audio.filter_backend import HUM_DBU, ROOM_DBU, Divider, FilterBackend, coil_response
from diaulos.audio.output import SystemOutput
from diaulos.audio.player_backend import PlayerBackend
from diaulos.audio.port_output import PortOutput
from diaulos.audio.rig_backend import RigBackend, over_and_over
from diaulos.circuit.loading import Load
from diaulos.errors import AudioDeviceError, DiaulosError, InputError, RefusedError
from diaulos.ids import BENCH
from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults, Impulses, strum_volts
from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.course import Course, trace_all
from diaulos.rig.excerpt import PLANNED_CHORDS, PLANNED_SEED
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.calibration import input_stage
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.strays import Stray
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session, WordLength
from diaulos.storage import entry_file
from diaulos.storage.audiofile import audio_info, resample_whole, resampled
from diaulos.storage.below import sessions_below
from diaulos.storage.beside import write_failed, write_whole
from diaulos.storage.folder import SUFFIX, SessionFolder
from diaulos.storage.installing import Places, Verb, install, places, uninstall
from diaulos.storage.library import LibraryFolder, Listed, read_outside, searched
from diaulos.storage.packing import PACKED, Unpacked, pack, unpack
from diaulos.storage.progress import ProgressFile, Trained
from diaulos.storage.session_file import session_text
from diaulos.storage.sources import ExternalAudio
from diaulos.storage.trips import TripFile, trips_path
from diaulos.units import db_to_gain, dbu_to_peak_volt, dbu_to_volt
from diaulos.work.capture.loop import BLOCK_FRAMES
from diaulos.work.capture.mapping import (
    by_program,
    channels_of,
    heard_channel,
    heard_from,
    played_channel,
    proposed_channels,
    start_port,
    stream_channel,
    through_program,
    told_over,
    wires_of,
)
from diaulos.work.capture.movers import Movement, listen_for_movement
from diaulos.work.capture.roundtrip import RoundTrip, measure_round_trip
from diaulos.work.capture.smallest import SECONDS, BlockTrial, try_blocks
from diaulos.work.capture.stream import Capture
from diaulos.work.capture.trips import Trip, TripStore, WayRound
from diaulos.work.hunting.causes import Cause, courses_of
from diaulos.work.hunting.trials import Studio, Trial
from diaulos.work.instruments.plucking import plucked_volts, plucks_of
from diaulos.work.library import photographs
from diaulos.work.library.merging import WAYS, Step, merge, plan_merge
from diaulos.work.ports import (
    AudioBackend,
    AudioSink,
    CancelToken,
    DeviceInfo,
    DeviceList,
    DuplexStream,
    FileNotes,
    FillCallback,
    Found,
    OutputBackend,
    OutputStream,
    Progress,
    SessionStore,
    StreamCallback,
    StreamSpec,
    Through,
    Wire,
    no_progress,
)
from diaulos.work.reamp.slate import LoopBackendFor
from diaulos.work.rigs.audio import Played
from diaulos.work.rigs.building import Start, started
from diaulos.work.rigs.look import instrument_source, rig_graph
from diaulos.work.rigs.rendering import played_volts
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.sheets.model import Drawn, Sheet, Wanted
from diaulos.work.takes.recording import RecordBackendFor

if TYPE_CHECKING:
    from diaulos.work.handing.stems import Stem, StemChoice

__all__ = [
    "GEAR_SUFFIX",
    "PACKED",
    "SUFFIX",
    "BenchAudio",
    "DeviceAudio",
    "ExternalAudio",
    "HeardLive",
    "HuntBackendFor",
    "LibraryFolder",
    "Listed",
    "OnDevice",
    "ProgressFile",
    "SessionFolder",
    "Trained",
    "Unpacked",
    "audio_info",
    "bench_for",
    "blocks_of",
    "check_sheet_file",
    "device_list",
    "drawing_svg",
    "hear_inputs",
    "hear_live",
    "hunt_backend",
    "install_places",
    "install_program",
    "listen_on",
    "listen_to",
    "local_now",
    "loop_on",
    "new_session",
    "on_path",
    "output_backend",
    "own_command",
    "pack",
    "pluck_backend",
    "record_on",
    "resample_whole",
    "resampled",
    "rig_backend",
    "round_trip_of",
    "searched",
    "session_text",
    "sessions_below",
    "sheet_bytes",
    "strum_backend",
    "studio_backend",
    "trip_store",
    "uninstall_program",
    "unpack",
    "way_round_of",
    "write_sheet_file",
    "write_stem_files",
]


SHEET_FILES = (".pdf", ".html", ".csv")
PAPERS = ("A4", "Letter")


def check_sheet_file(path: Path, paper: str = "A4", *, replace: bool = False) -> None:
    """Before a sheet is worked out: whether it can be written there. InputError where not."""
    if path.suffix.casefold() not in SHEET_FILES:
        raise InputError(
            f"a sheet is a file that ends in {', '.join(SHEET_FILES)}.", where=path.name,
            remedy="Choose one of them.",
        )  # fmt: skip
    if paper not in PAPERS:
        raise InputError(f"there is no paper {paper!r}.", remedy=f"Papers: {', '.join(PAPERS)}.")
    if os.path.lexists(path) and not replace:
        raise InputError(
            "the file exists already.", where=str(path), remedy="Choose another, or replace it."
        )


def sheet_bytes(sheet: Sheet, suffix: str, paper: str = "A4") -> bytes:
    """A sheet laid out as ".pdf", ".html" or ".csv"."""
    # Imported where they are used: a PDF library takes longer to import than a sheet to make.
    if suffix == ".pdf":
        from diaulos.reports.pdf_sheet import pdf_sheet

        return pdf_sheet(sheet, "Letter" if paper == "Letter" else "A4")
    if suffix == ".html":
        from diaulos.reports.html_sheet import html_sheet

        return html_sheet(sheet).encode()
    from diaulos.reports.csv_sheet import csv_sheet

    return csv_sheet(sheet).encode()


def write_stem_files(
    session: Session, stems: Sequence[Stem], choice: StemChoice, folder: SessionStore, out: Path,
    *, replace: bool = False, progress: Progress = no_progress, cancel: CancelToken | None = None,
    clock: Callable[[], datetime] | None = None,
) -> tuple[dict[str, int], tuple[str, ...]]:  # fmt: skip
    """Write stems into a folder, with a text of what was done and a track sheet beside them:
    clipped samples by file, and the names of what lies beside."""
    from diaulos.work.handing.stems import stems_text, write_stems  # no part of a start

    beside = ("stems.txt", "track sheet.html")
    names = [*(one.file for one in stems), *beside]
    there = next((name for name in names if os.path.lexists(out / name)), None)
    if there is not None and not replace:
        raise InputError(
            "the file exists already.", where=str(out / there),
            remedy="Choose an empty folder, or replace what is there.",
        )  # fmt: skip
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise write_failed(out, error) from error
    sinks: dict[str, AudioSink] = {}

    def create(file: str, channels: int, word: str, notes: FileNotes) -> AudioSink:
        made = ExternalAudio().create(
            out / file, session.sample_rate_hz, channels, word, notes, replace=replace
        )
        sinks[file] = made
        return made

    when = clock or local_now
    write_stems(session, stems, choice, folder, create, when, progress, cancel)
    text = stems_text(session, stems, choice, when())
    write_whole(out / beside[0], text.encode("utf-8"))
    takes = tuple(dict.fromkeys(one.take.id for one in stems))
    from diaulos.work.sheets.making import make_sheet  # sheets are no part of a start

    sheet = make_sheet(session, Wanted("tracks", take=takes[0] if len(takes) == 1 else ""), folder)
    write_whole(out / beside[1], sheet_bytes(sheet, ".html"))
    return {file: sink.clipped_samples for file, sink in sinks.items()}, beside


def install_places(*, user: bool | None) -> Places:
    """Where programs are looked for: this person's places, or everybody's; without a word those of
    everybody for root."""
    return places(os.environ, user=os.geteuid() != 0 if user is None else user)


def own_command() -> Path:
    """What starts this program: the launcher, or the entry point. InputError where it was started
    as a module."""
    told = os.environ.get("DIAULOS_LAUNCHER") or sys.argv[0]
    path = Path(shutil.which(told) or told).absolute()
    if path.name == "__main__.py":
        path = Path(sys.executable).with_name("diaulos")
    if not path.is_file():
        raise InputError(
            "nobody knows which command starts this program.", where=str(path),
            remedy="Run ./diaulos install, or the installed command diaulos install.",
        )  # fmt: skip
    return path


def on_path(folder: Path) -> bool:
    """Whether commands of a folder are found by their name."""
    known = os.environ.get("PATH", "").split(os.pathsep)
    return any(Path(one) == folder for one in known if one)


def install_program(
    where: Places, verbs: Sequence[tuple[str, str, tuple[tuple[str, str], ...]]]
) -> tuple[Path, ...]:
    """Desktop entry, icon and the rest; what was written."""
    told = [Verb(name, words, options) for name, words, options in verbs]
    return install(where, own_command(), __version__, RELEASED, told)


def uninstall_program(where: Places) -> tuple[Path, ...]:
    """What was taken away."""
    return uninstall(where)


def drawing_svg(drawn: Drawn) -> str:
    """A drawing as it stands on a sheet."""
    from diaulos.reports.drawing import drawing

    return drawing(drawn)


def write_sheet_file(sheet: Sheet, path: Path, paper: str = "A4", *, replace: bool = False) -> None:
    """A sheet as a file, whole or not at all."""
    check_sheet_file(path, paper, replace=replace)
    write_whole(path, sheet_bytes(sheet, path.suffix.casefold(), paper))


# --- own gear ---

GEAR_SUFFIX = entry_file.SUFFIX


def library_at(path: Path | None = None) -> LibraryFolder:
    """A person's library: the folder, or the usual place below XDG_DATA_HOME."""
    if path is None:
        base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
        path = Path(base) / "diaulos" / "library"
    return LibraryFolder(path)


def training_record(path: Path | None = None) -> ProgressFile:
    """What a person trained: the file, or the usual place below XDG_DATA_HOME."""
    if path is None:
        base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
        path = Path(base) / "diaulos" / "training.json"
    return ProgressFile(path)


def training_sound(instrument: Instrument, rate_hz: int, seed: int = 1) -> NDArray[np.float64]:
    """Some strums of an instrument, as the trainer plays them."""
    whole = Load.together(instrument.cable, Load(1e6, 50e-12))
    return strum_volts(instrument_source(instrument), whole, float(rate_hz), seed=seed, strums=3)


def now_text() -> str:
    """The time of this moment as entries have it."""
    return datetime.now().astimezone().replace(tzinfo=None).isoformat(timespec="seconds")


def search_library(
    library: LibraryFolder, words: str = "", tags: Sequence[str] = ()
) -> tuple[Listed, ...]:
    """Entries that hold every word and have every tag."""
    return searched(library.entries(), words, tags)


def add_photograph(library: LibraryFolder, entry_id: str, path: Path) -> str:
    """A picture from anywhere beside an entry; the name of its file there."""
    data = read_outside(path, photographs.MOST_BYTES + 1)
    entry, name = photographs.with_photograph(library.read(entry_id), data, str(path))
    library.write(entry, {name: data})
    return name


def remove_photograph(library: LibraryFolder, entry_id: str, name: str) -> None:
    """An entry less one photograph; its file stays in the folder."""
    library.write(photographs.without_photograph(library.read(entry_id), name))


def photographs_of(library: LibraryFolder, entry_id: str) -> list[tuple[str, bytes]]:
    """The photographs of an entry: name and bytes. What is missing or was changed is left out."""
    entry = library.read(entry_id)
    found = []
    for one in photographs.photographs(entry):
        try:
            found.append((one.file, library.data(entry, one.file)))
        except DiaulosError:
            continue
    return found


def export_entry(
    library: LibraryFolder, entry_id: str, path: Path, *, replace: bool = False
) -> None:
    """An entry as one file, with what belongs to it."""
    entry_file.export_entry(library, entry_id, path, replace=replace)


def import_entry(library: LibraryFolder, path: Path) -> list[dict[str, Any]]:
    """One entry more, from a file; what became of it. Nothing is overwritten."""
    entry, files = entry_file.read_entry_file(path)
    other = entry_file.OneEntry(entry, files)
    steps = plan_merge([library.read(one.id) for one in library.entries() if one.id == entry.id],
                       [entry])  # fmt: skip
    merge(steps, library, other, path.stem)
    return _steps_told(steps)


def merge_library(library: LibraryFolder, path: Path, *, dry: bool = False) -> list[dict[str, Any]]:
    """Another copy of a library taken in; what became of each of its entries."""
    other = LibraryFolder(path)
    theirs = [other.read(one.id) for one in other.entries()]
    if other.unread:
        first = other.unread[0]
        raise InputError(
            f"{first.file} cannot be read: {first.problem}", where=str(path),
            remedy="Mend or remove it there. Nothing was merged.",
        )  # fmt: skip
    steps = plan_merge([library.read(one.id) for one in library.entries()], theirs)
    if not dry:
        merge(steps, library, other, path.name)
    return _steps_told(steps)


def _steps_told(steps: Sequence[Step]) -> list[dict[str, Any]]:
    return [
        {"id": one.entry.id, "name": one.entry.name, "way": one.way, "words": WAYS[one.way],
         "lines": [list(line) for line in one.lines]}
        for one in steps
    ]  # fmt: skip


def bench_for(
    impulses: Impulses | None = None, *, seed: int = 1, mains_hz: float = 50.0
) -> LoopBackendFor:
    """Audio for a reamp's courses: the bench, with the faults of a real loop."""

    def make(courses: tuple[Course, ...]) -> AudioBackend:
        return BenchBackend(courses, BenchFaults(seed=seed, mains_hz=mains_hz), impulses)

    return make


class BenchAudio:
    """The simulated studio as what plays rigs, as fast as it goes."""

    def loop(self, course: Course, seed: int) -> AudioBackend:
        return BenchBackend((course,), BenchFaults(seed=seed))

    def play(
        self, graph: RigGraph, tracks: tuple[PortRef, ...], played: Played, faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> AudioBackend:  # fmt: skip
        return RigBackend(graph, tracks, (played,), faults, impulses=impulses)


BENCH_FULL_SCALE_DBU = 12.0
BENCH_OUT_OHM, BENCH_LINE_OHM, BENCH_INPUT = 150.0, 10e3, Load(1e6, 55e-12)
"""Of the simulated studio, when it is measured (representative, from memory)."""
COIL_FULL_SCALE_DBU = -10.0
"""A microphone preamplifier, turned up."""


def strum_backend(
    instrument: Instrument, load: Load, rate_hz: int, seed: int = 1
) -> tuple[AudioBackend, float]:
    """A simulated player who strums this instrument into an input, and the dBu at which that
    input is full."""
    volts = strum_volts(
        instrument_source(instrument),
        Load.together(instrument.cable, load),
        float(rate_hz),
        seed=seed,
    )
    return PlayerBackend(volts, BENCH_FULL_SCALE_DBU, seed), BENCH_FULL_SCALE_DBU


def coil_backend(instrument: Instrument, load: Load, seed: int = 1) -> AudioBackend:
    """A simulated coil on an instrument's pickup, its knobs on 10, in front of an input."""
    up = instrument.controls.model_copy(update={"volume_knob": 10.0, "tone_knob": 10.0})
    whole = Load.together(instrument.cable, load)
    full = dbu_to_peak_volt(COIL_FULL_SCALE_DBU)
    return FilterBackend(
        coil_response(instrument.circuit(up), whole, COIL_FULL_SCALE_DBU),
        noise=dbu_to_volt(ROOM_DBU) / full, hum=dbu_to_peak_volt(HUM_DBU) / full, seed=seed,
    )  # fmt: skip


PLUCKS_S = 60.0
"""So long somebody plucks into each load."""


def open_strings_backend(
    instrument: Instrument, load: Load, rate_hz: int, seed: int = 1
) -> AudioBackend:
    """A simulated player who plucks an instrument's open strings, its knobs on 10, into an
    input."""
    volts = plucks_of(instrument, load, float(rate_hz), PLUCKS_S, seed)
    return PlayerBackend(volts, BENCH_FULL_SCALE_DBU, seed)


def divider_backend(
    what: str, ohm: float, inside: bool, instrument: Instrument, seed: int = 1
) -> AudioBackend:
    """The simulated output, a resistor in place or not, what is measured, and the simulated
    input."""
    if what == "output":
        load = 1.0 / (1.0 / BENCH_LINE_OHM + (1.0 / ohm if inside else 0.0))
        return FilterBackend(Divider(BENCH_OUT_OHM, 0.0, load, 0.0), seed=seed)
    farad = BENCH_INPUT.farad + (instrument.cable.farad if what == "cable" else 0.0)
    series = ohm if inside else 0.0
    return FilterBackend(Divider(BENCH_OUT_OHM, series, BENCH_INPUT.ohm, farad), seed=seed)


def sweep_on(device: str, out: int, back: int, block_frames: int = 0) -> AudioBackend:
    """An output and an input (from 1) of a real device, for a sweep."""
    return OnDevice(device, (back - 1,), (out - 1,), block_frames)


def rig_backend(
    *,
    paced: bool,
    seed: int = PLANNED_SEED,
    silent: bool = False,
    impulses: Impulses | None = None,
    chords: str = PLANNED_CHORDS,
) -> RecordBackendFor:
    """The bench as an input device: the players of a rig, in real time or as fast as it goes;
    `silent`, they hold their strings."""

    def make(
        session: Session, rig: Rig, tracks: tuple[PortRef, ...], stored: Stored = NOTHING_STORED
    ) -> AudioBackend:
        graph = rig_graph(session, rig, stored)
        courses = [one.course for one in trace_all(graph) if one.track in tracks and one.course]
        starts = [course.start.device.id for course in courses if course.source is not None]
        players = []
        for start in dict.fromkeys(starts):
            volts, recorded = played_volts(session, rig, start, seed, chords, stored)
            played = over_and_over(0.0 * volts if silent else volts)
            players.append(Played(start, played, recorded))
        faults = BenchFaults(seed=seed)
        return RigBackend(graph, tracks, tuple(players), faults, paced=paced, impulses=impulses)

    return make


HuntBackendFor = Callable[
    [Session, Rig, tuple[PortRef, ...], Trial | None, Cause | None, tuple[Stray, ...]],
    AudioBackend,
]
"""(session, rig, tracks, the test that is done, the cause that is mended, what is wrong in the
simulated room) -> where the silence comes from."""


def hunt_backend(*, paced: bool = True, mains_hz: float = 50.0) -> HuntBackendFor:
    """The bench while a noise is hunted: what a test or a remedy says is done in the simulated
    studio."""
    listens = itertools.count(1)

    def make(
        session: Session, rig: Rig, tracks: tuple[PortRef, ...], trial: Trial | None,
        mended: Cause | None, strays: tuple[Stray, ...] = (),
    ) -> AudioBackend:  # fmt: skip
        faults = BenchFaults(mains_hz=mains_hz, seed=next(listens), strays=strays)
        studio = Studio(rig_graph(session, rig), faults)
        if trial is not None:
            studio = studio.after(trial)
        elif mended is not None:
            studio = studio.mended(mended)
        return studio_backend(studio, tracks, paced=paced)

    return make


def studio_backend(
    studio: Studio, tracks: tuple[PortRef, ...], *, paced: bool = False
) -> AudioBackend:
    """The bench in silence, with what is wrong with the room."""
    courses = courses_of(studio.graph, tracks)
    starts = dict.fromkeys(course.start.device.id for course in courses.values())
    silent = over_and_over(np.zeros(4_096))
    players = tuple(Played(start, silent) for start in starts)
    return RigBackend(studio.graph, tracks, players, studio.faults, paced=paced)


def pluck_backend(frets: tuple[int, ...] = (0,), *, paced: bool, seed: int = 1) -> RecordBackendFor:
    """The same device while a player tunes: one string after another, from the lowest, each at
    every one of the frets. A real port hears whoever is there and asks for no frets."""

    def make(
        session: Session, rig: Rig, tracks: tuple[PortRef, ...], stored: Stored = NOTHING_STORED
    ) -> AudioBackend:
        graph = rig_graph(session, rig)
        courses = [one.course for one in trace_all(graph) if one.track in tracks and one.course]
        starts = [course.start.device.id for course in courses if course.source is not None]
        players = []
        for start in dict.fromkeys(starts):
            volts, recorded = plucked_volts(session, rig, start, frets, seed)
            players.append(Played(start, over_and_over(volts), recorded))
        return RigBackend(graph, tracks, tuple(players), BenchFaults(seed=seed), paced=paced)

    return make


def round_trip_of(
    device: str,
    out: int,
    back: int,
    cancel: CancelToken | None = None,
    rate_hz: int = 0,
    block_frames: int = 0,
) -> RoundTrip:
    """The way from an output to an input (from 1) of a device, measured by a quiet sweep and
    remembered for its rate and block."""
    there = real.find(device)
    tied = OnDevice(device, (back - 1,), (out - 1,), block_frames)
    found = measure_round_trip(
        tied, rate_hz or there.rates_hz[0], cancel, block_frames=there.block_frames[0]
    )
    trip_store().keep(
        Trip(device, found.rate_hz, found.block_frames, found.samples, found.error_samples, out,
             back)
    )  # fmt: skip
    return found


def blocks_of(
    device: str, cancel: CancelToken, progress: Progress = no_progress, seconds: float = SECONDS
) -> tuple[BlockTrial, ...]:
    """How short blocks do on a real device, the shortest first, until one loses nothing. A server
    has its own block back afterwards."""
    there = real.find(device)
    return try_blocks(
        lambda block: OnDevice(device, block_frames=block, set_block=True),
        there.rates_hz[0], seconds=seconds, progress=progress, cancel=cancel,
    )  # fmt: skip


def trip_store() -> TripStore:
    """What was measured of the devices of this computer."""
    return TripFile(trips_path())


def way_round_of(device: str, told_samples: float | None = None) -> WayRound:
    """What is known of a real device's way round."""
    return WayRound(device, trip_store().known(), told_samples)


def listen_to(device: str, channel: int, seconds: float, path: Path) -> None:
    """Some seconds of one input (from 0) of a device, as a file of floats."""
    found = real.find(device)
    rate = found.rates_hz[0]
    notes = FileNotes(f"heard at {device}, input {channel + 1}", local_now())
    sink = ExternalAudio().create(path, rate, 1, "float", notes, replace=True)
    capture = Capture(
        OnDevice(device, (channel,)),
        StreamSpec(rate, found.block_frames[0], output_channels=0),
        frames=int(seconds * rate),
    )
    try:
        failed = capture.run(lambda taken: sink.write(taken.samples))
    finally:
        sink.close()
    if failed is not None:
        raise failed


def hear_inputs(
    device: str,
    count: int,
    tell: Callable[[Movement], None],
    stopped: Callable[[], bool],
    block_frames: int = 0,
) -> None:
    """The levels of the first inputs of a device, and which one moves, until it is stopped."""
    there = real.find(device)
    backend = OnDevice(device, tuple(range(min(count, there.inputs))), (), block_frames)
    listen_for_movement(
        backend, there.rates_hz[0], min(count, there.inputs), tell, stopped, there.block_frames[0]
    )


class _Devices:
    """The simulated studio, and what a JACK server has."""

    def look(self) -> Found:
        rates = (44_100, 48_000, 88_200, 96_000, 192_000)
        blocks = (64, 128, 256, 512, 1_024)
        bench = DeviceInfo(BENCH, "Simulated studio", 32, 32, rates, blocks, realtime=False)
        there = real.look()
        return Found((bench, *there.devices), there.missing)


NO_MAP: Mapping[str, int] = {}


class OnDevice:
    """A real device as a back end: the channels of a stream are those that it is tied to;
    `block_frames` is the device's cycle where that is left to us (0: the usual)."""

    def __init__(
        self,
        device: str,
        inputs: tuple[int, ...] = (),
        outputs: tuple[int, ...] = (),
        block_frames: int = 0,
        *,
        set_block: bool = False,
        inputs_of: tuple[str, ...] = (),
        wires: tuple[Wire, ...] = (),
        through: tuple[Through, ...] = (),
    ) -> None:
        """`inputs_of`, `wires`, `through`: see `StreamSpec`."""
        self._device, self._inputs, self._outputs = device, inputs, outputs
        self._block, self._set_block = block_frames, set_block
        self._inputs_of, self._wires, self._through = inputs_of, wires, through

    @property
    def channels(self) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Its inputs and outputs that are tied, from 0."""
        return self._inputs, self._outputs

    def open(self, spec: StreamSpec, callback: StreamCallback) -> DuplexStream:
        """A stream on it; AudioDeviceError when that is impossible."""
        tied = replace(
            spec, device=self._device, input_map=self._inputs[: spec.input_channels],
            output_map=self._outputs[: spec.output_channels],
            inputs_of=self._inputs_of[: spec.input_channels], wires=self._wires,
            through=self._through,
        )  # fmt: skip
        return real.open_stream(tied, callback, self._block, set_block=self._set_block)


@dataclass(frozen=True)
class HeardLive:
    """What is heard through the computer while it is recorded: tracks of the rig at two outputs
    (from 0) of the device, with a gain in dB."""

    tracks: tuple[PortRef, ...]
    outputs: tuple[int, int]
    gain_db: float
    taps: tuple[float, ...] = ()
    """The cabinet that they are heard through, at the device's rate; empty for none."""


MOST_LIVE_TAPS = 8_192
"""What is heard live goes through so much of a response: 0.17 s at 48 kHz, a cabinet and some
room."""


def hear_live(
    session: Session,
    rig: Rig,
    device: str,
    heard: HeardLive,
    stopped: Callable[[], bool],
    block_frames: int = 0,
) -> None:
    """Some tracks of a rig heard through the computer, until it is stopped."""
    backend = record_on(device, block_frames=block_frames, through=heard)(
        session, rig, heard.tracks, NOTHING_STORED
    )
    spec = StreamSpec(session.sample_rate_hz, block_frames or BLOCK_FRAMES, len(heard.tracks), 0)
    failed = Capture(backend, spec).run(lambda _taken: None, wanted=stopped)
    if failed is not None:
        raise failed


def _live(tracks: tuple[PortRef, ...], heard: HeardLive | None) -> tuple[Through, ...]:
    if heard is None:
        return ()
    gain = float(db_to_gain(heard.gain_db))
    return tuple(
        Through(tracks.index(track), output, gain, heard.taps[:MOST_LIVE_TAPS])
        for track in heard.tracks
        if track in tracks
        for output in heard.outputs
    )


def record_on(
    device: str,
    wanted: Mapping[str, int] = NO_MAP,
    block_frames: int = 0,
    through: HeardLive | None = None,
) -> RecordBackendFor:
    """A real device to record from: each armed track on its channel (`wanted`, from 1, by the
    track's name), else as the rig ties it, else as the rig numbers it; a software amplifier's
    tracks from the program that it is tied to. `through` is heard meanwhile."""

    def make(
        session: Session, rig: Rig, tracks: tuple[PortRef, ...], stored: Stored = NOTHING_STORED
    ) -> AudioBackend:
        named = {track.port: track.name for track in rig.tracks}
        courses = {one.track: one.course for one in trace_all(rig_graph(session, rig, stored))}
        inputs = real.find(device).inputs
        programs = {
            port: heard_from(course)
            for port in tracks
            if (course := courses.get(port)) is not None and by_program(course)
        }
        own = [port for port in tracks if port not in programs]
        names = [named.get(port, str(port)) for port in own]
        proposed = proposed_channels([courses.get(port) for port in own], inputs)
        by_hand = rig.tied(device)
        tied = {named.get(port, str(port)): by_hand[port] for port in own if port in by_hand}
        channels = channels_of(names, told_over(tied, wanted), proposed)
        heard = {port: ("", channel) for port, channel in zip(own, channels, strict=True)}
        heard |= programs
        return OnDevice(
            device, tuple(heard[port][1] for port in tracks), block_frames=block_frames,
            inputs_of=tuple(heard[port][0] for port in tracks) if programs else (),
            wires=wires_of([courses.get(port) for port in tracks], device),
            through=_live(tracks, through),
        )  # fmt: skip

    return make


def loop_on(
    device: str,
    out_channel: int = 0,
    in_channel: int = 0,
    listening: tuple[int, ...] = (),
    block_frames: int = 0,
) -> Callable[[tuple[Course, ...]], OnDevice]:
    """A real device to reamp by: out on one channel, back on one for each return, counted from 1; 0
    is as the rig ties it, else as it numbers it. `in_channel` is the first return's. RefusedError
    ("feeds_monitors") where it would go out by an output that somebody listens by; InputError where
    two returns would be one channel."""

    def make(courses: tuple[Course, ...]) -> OnDevice:
        course = courses[0]
        through = None if out_channel or in_channel else through_program(course)
        if through is not None:
            program, into, _ = through
            backs = [through_program(one) for one in courses]
            out_of = tuple(one[2] for one in backs if one is not None and one[0] == program)
            if len(out_of) == len(courses):
                return OnDevice(program, out_of, (into,), block_frames)
        tied = course.rig.tied(device)
        heard = [tied.get(one.track) or heard_channel(one) + 1 for one in courses]
        heard[0] = in_channel or heard[0]
        _require_apart(heard, device)
        out = out_channel or tied.get(start_port(course)) or played_channel(course) + 1
        if out in listening:
            raise RefusedError(
                "feeds_monitors",
                f"the send would go to output {out} of {device}, by which you listen.",
                remedy="Tie the send to another output (Rig > Which socket is which), or listen by "
                "others (Edit > Preferences > Sound). Turn monitors and headphones down first.",
            )
        return OnDevice(device, tuple(one - 1 for one in heard), (out - 1,), block_frames)

    return make


def _require_apart(channels: Sequence[int], device: str) -> None:
    twice = next((one for one in channels if channels.count(one) > 1), None)
    if twice is not None:
        raise InputError(
            f"two returns would both be input {twice} of {device}.",
            where=device,
            remedy="Tie each to its own input (Rig > Which socket is which, Ctrl+K), or record one "
            "of them (--returns NAME).",
        )


class DeviceAudio:
    """A real device in the place of a rig's interface."""

    def __init__(self, device: str, rig: Rig, block_frames: int = 0) -> None:
        self._device, self._rig, self._block = device, rig, block_frames

    def loop(self, course: Course, seed: int) -> AudioBackend:
        """Out by the first interface of a course, back by its last."""
        into, last = course.legs[1], course.legs[-2]
        assert into.entry is not None
        assert last.exit is not None
        out = self._channel(into.device.id, into.entry.id)
        back = self._channel(last.device.id, last.exit.id, last.channel)
        return OnDevice(self._device, (back,), (out,), self._block)

    def play(
        self, graph: RigGraph, tracks: tuple[PortRef, ...], played: Played, faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> AudioBackend:  # fmt: skip
        """Nobody can be played there: a person plays."""
        raise AudioDeviceError(
            "a real device plays no instruments.", where=self._device, remedy="Play, and record it."
        )

    def hear(self, tracks: tuple[PortRef, ...]) -> AudioBackend:
        courses = {one.track: one.course for one in trace_all(RigGraph(self._rig))}
        found = []
        for port in tracks:
            course = courses.get(port)
            if course is None or len(course.legs) < 2:
                raise AudioDeviceError(
                    f"nothing is plugged into {port}.", where=self._rig.name, remedy="See Rig."
                )
            last = course.legs[-2]
            assert last.exit is not None
            found.append(self._channel(last.device.id, last.exit.id, last.channel))
        return OnDevice(self._device, tuple(found), (), self._block)

    def hear_input(self, ref: PortRef) -> AudioBackend:
        path, _ = input_stage(self._rig.device(ref.device), ref.port)
        return OnDevice(self._device, (self._channel(ref.device, path.target),), (), self._block)

    def _channel(self, device: str, port: str, channel: int = 0) -> int:
        ref = PortRef(device=device, port=port)
        return stream_channel(self._rig, ref, self._device, channel)


def listen_on(device: str, first: int, block_frames: int = 0) -> OutputBackend:
    """Two outputs of a real device to listen by, from this one (from 1) on."""
    return _Listening(device, first, block_frames)


class _Listening:
    def __init__(self, device: str, first: int, block_frames: int) -> None:
        self._device, self._first, self._block = device, first, block_frames

    def open(self, rate_hz: int, fill: FillCallback) -> OutputStream:
        tied = OnDevice(self._device, (), (self._first - 1, self._first), self._block)
        return PortOutput(tied, self._device, rate_hz, fill)


def device_list() -> DeviceList:
    """What there is to record from and play to."""
    return _Devices()


def output_backend() -> OutputBackend:
    """Where playback goes."""
    return SystemOutput()


def local_now() -> datetime:
    """The wall clock, the one place that reads it."""
    return datetime.now()


def new_session(
    path: Path,
    *,
    name: str = "",
    rate_hz: int = 48_000,
    word_length: WordLength = "24",
    tempo_bpm: float = 120.0,
    metre: str = "4/4",
    start: Start | None = None,
) -> tuple[SessionFolder, Session]:
    """A new session, saved in its own folder: with the instrument and the rigs of a start, or
    else with the rig for reamping by box."""
    rig = reamp_rig()
    session = Session.model_validate(
        {
            "id": uuid.uuid4().hex,
            "name": name or path.name.removesuffix(".diaulos"),
            "sample_rate_hz": rate_hz,
            "word_length": word_length,
            "tempo_bpm": tempo_bpm,
            "metre": metre,
            "rigs": [rig.model_dump()],
            "current_rig": rig.id,
        }
    )
    if start is not None:
        session = started(session, start)
    return SessionFolder.create(path, session), session
