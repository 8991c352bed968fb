"""Benchmarks: ours beside the plain library way in the same run, with ratios.

./diaulos bench [--write] [--quick] [NAME ...]

Absolute times drift from run to run; the ratio counts. --write renews docs/benchmarks.md.
"""

from __future__ import annotations

import argparse
import functools
import json
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(HERE / "tests"), str(HERE / "tests" / "core")]

# As the application runs.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

RATE = 48_000


@dataclass(frozen=True)
class Row:
    """One comparison: seconds of each run, ours and the plain way in turn."""

    name: str
    ours_s: list[float]
    plain_s: list[float]
    aim: str
    note: str = ""

    @property
    def ratios(self) -> list[float]:
        """Ours over plain, run by run."""
        return [a / b for a, b in zip(self.ours_s, self.plain_s, strict=True)]


def in_turn(ours: Callable[[], object], plain: Callable[[], object], runs: int) -> tuple:
    """Seconds of each, warmed up, one after the other, so that drift meets both."""
    ours()
    plain()
    times: tuple[list[float], list[float]] = ([], [])
    for _ in range(runs):
        for column, work in zip(times, (ours, plain), strict=True):
            begun = time.perf_counter()
            work()
            column.append(time.perf_counter() - begun)
    return times


def played(seconds: float, seed: int = 1) -> np.ndarray:
    """A generated performance in single precision."""
    from support import performance

    return performance(seconds=seconds, seed=seed).astype(np.float32)


def delay(runs: int, seconds: float = 300.0) -> Row:
    """Delay of a track against a noisy copy."""
    from scipy.signal import correlate

    from diaulos.signal.delay import find_alignment
    from diaulos.signal.fir import shift
    from support import with_noise

    a = played(seconds)
    b = with_noise(shift(a, 1234.5, a.size + 3000), 20.0).astype(np.float32)
    error = abs(find_alignment(a, b, RATE).delay_samples - 1234.5)
    ours, plain = in_turn(
        lambda: find_alignment(a, b, RATE), lambda: np.argmax(correlate(b, a, method="fft")), runs
    )
    return Row(
        f"delay, {seconds / 60:g} min, 20 dB SNR", ours, plain, "<= 0.06",
        f"error {error:.4f} sample; plain: one full-length FFT correlation",
    )  # fmt: skip


def delay_growth(runs: int) -> Row:
    """The same over twice the length: ours against ours."""
    from diaulos.signal.delay import find_alignment
    from diaulos.signal.fir import shift

    pairs = []
    for seconds in (600.0, 300.0):
        a = np.tile(played(60.0, 2), int(seconds / 60)) * np.linspace(
            0.3, 1.0, int(seconds * RATE), dtype=np.float32
        )
        pairs.append((a, shift(a, 500.5, a.size + 1000)))

    def find(pair: tuple) -> object:
        return find_alignment(*pair, RATE, max_delay_samples=RATE)

    ours, plain = in_turn(lambda: find(pairs[0]), lambda: find(pairs[1]), runs)
    return Row("delay, growth 5 to 10 min", ours, plain, "<= 2", "ratio of the two lengths")


def first_figures(runs: int, seconds: float = 300.0) -> Row:
    """What is told first of two recordings (delay, loudness, mono sums by octave, spectra), beside
    the same by general libraries."""
    import warnings

    warnings.filterwarnings("ignore", category=DeprecationWarning)
    import pyloudnorm
    from scipy.signal import correlate, welch

    from diaulos.signal.fir import shift
    from diaulos.work.compare.pairs import Side, compare_pair
    from diaulos.work.ports import CancelToken
    from support import with_noise

    a = played(seconds)
    b = with_noise(shift(a, 1234.5, a.size + 3000), 40.0).astype(np.float32)
    meter = pyloudnorm.Meter(RATE)

    def by_libraries() -> object:
        late = int(np.argmax(correlate(b, a, method="fft"))) - (a.size - 1)
        moved = b[late : late + a.size]
        sums = [welch(x, RATE, nperseg=8192) for x in (a, moved, a + moved, a + b[: a.size])]
        return late, meter.integrated_loudness(a), meter.integrated_loudness(b), sums

    ours, plain = in_turn(
        lambda: compare_pair(Side("A", a, RATE), Side("B", b, RATE), CancelToken(), split=False),
        by_libraries,
        runs,
    )
    return Row(
        f"compare, first figures, {seconds / 60:g} min", ours, plain, "<= 0.5",
        "plain: scipy's correlation and spectra, pyloudnorm",
    )  # fmt: skip


def loudness(runs: int) -> Row:
    """Integrated loudness of ten minutes of stereo."""
    import warnings

    warnings.filterwarnings("ignore", category=DeprecationWarning)
    import pyloudnorm

    from diaulos.signal.loudness import LoudnessMeter

    def metered() -> float:
        ours = LoudnessMeter(RATE, 2)
        ours.add(stereo)
        return ours.reading().lufs

    one = played(60.0, 3)
    stereo = np.tile(np.stack([one, one[::-1]], axis=1), (10, 1))
    meter = pyloudnorm.Meter(RATE)
    apart = metered() - meter.integrated_loudness(stereo)
    ours, plain = in_turn(metered, lambda: meter.integrated_loudness(stereo), runs)
    note = f"{apart:+.3f} LU from it (it reads low, see the tests against EBU signals)"
    return Row("loudness, 10 min stereo", ours, plain, "<= 0.35", f"plain: pyloudnorm; {note}")


def convolution(runs: int) -> Row:
    """Five minutes through 9,600 taps."""
    from scipy.signal import oaconvolve

    from diaulos.signal.convolve import convolve_long

    signal = played(300.0, 4)
    taps = np.random.default_rng(1).standard_normal(9600).astype(np.float32)
    ours, plain = in_turn(
        lambda: convolve_long(signal, taps), lambda: oaconvolve(signal, taps), runs
    )
    return Row(
        "convolution, 5 min x 9,600 taps", ours, plain, "<= 0.7", "plain: oaconvolve, float32"
    )


def in_chunks(
    sampler: Any, signal: np.ndarray, shaper: Callable[[np.ndarray], np.ndarray]
) -> np.ndarray:
    """A long signal in blocks that fit the cache."""
    state, parts = sampler.initial_state(), []
    for first in range(0, signal.size, 16_384):
        block, state = sampler.process(signal[first : first + 16_384], state, shaper)
        parts.append(block)
    return np.concatenate(parts)


def drive(runs: int) -> Row:
    """A 4x oversampled waveshaper over five minutes."""
    from scipy.signal import resample_poly

    from diaulos.signal.oversample import Oversampler

    signal = played(300.0, 5)

    def shaper(x: np.ndarray) -> np.ndarray:
        return np.tanh(2.0 * x)

    ours, plain = in_turn(
        lambda: in_chunks(Oversampler(4, signal.dtype), signal, shaper),
        lambda: resample_poly(shaper(resample_poly(signal, 4, 1)), 1, 4),
        runs,
    )
    return Row("4x oversampled waveshaper, 5 min", ours, plain, "<= 0.25",
               "plain: resample_poly up and down")  # fmt: skip


def true_peak(runs: int) -> Row:
    """True peak of a minute."""
    from scipy.signal import resample_poly

    from diaulos.signal.peaks import true_peak_dbtp

    signal = played(60.0, 6)
    ours, plain = in_turn(
        lambda: true_peak_dbtp(signal), lambda: np.abs(resample_poly(signal, 4, 1)).max(), runs
    )
    return Row("true peak, 1 min", ours, plain, "<= 0.5", "plain: resample_poly by 4")


def loop(runs: int) -> Row:
    """A reamp of a minute through the bench, against its own length."""
    from diaulos.audio.bench_backend import BenchBackend
    from diaulos.rig.bench import BenchFaults
    from diaulos.rig.catalogue import reamp_rig
    from diaulos.rig.course import reamp_course
    from diaulos.work.ports import StreamSpec

    signal = played(60.0, 8).astype(np.float64)
    course = reamp_course(reamp_rig())

    def run() -> None:
        at = 0

        def callback(inputs, outputs, frames, when, status) -> bool:  # type: ignore[no-untyped-def]
            nonlocal at
            block = signal[at : at + frames]
            outputs[: block.size, 0] = block
            at += frames
            return at < signal.size

        backend = BenchBackend((course,), BenchFaults())
        backend.open(StreamSpec(RATE, 1024), callback).run()

    run()
    ours = []
    for _ in range(runs):
        begun = time.perf_counter()
        run()
        ours.append(time.perf_counter() - begun)
    return Row("bench, reamp of 1 min", ours, [60.0] * runs, "<= 0.03", "plain: real time")


def impulses(runs: int) -> Row:
    """A minute of eight tracks through impulses of half a second, as the player reads them:
    processor seconds against real time."""
    from diaulos.work.listening.cabinets import CabinetReader

    rng = np.random.default_rng(2)
    tracks = [played(60.0, seed) for seed in range(1, 9)]
    taps = rng.standard_normal(RATE // 2) * np.exp(-np.arange(RATE // 2) / 6_000.0)

    def run() -> float:
        readers = [
            CabinetReader(lambda first, count, one=one: one[first : first + count], taps, 0.0)
            for one in tracks
        ]
        begun = time.process_time()
        for first in range(0, 60 * RATE, 1_024):
            for reader in readers:
                reader(first, min(1_024, 60 * RATE - first))
        return time.process_time() - begun

    run()
    ours = [run() for _ in range(runs)]
    note = "plain: real time; processor seconds"
    return Row("8 tracks through impulses of 0.5 s", ours, [60.0] * runs, "< 0.5", note)


def queue(runs: int) -> Row:
    """Twelve passes of 20 s by a queue, against the same twelve one by one."""

    from diaulos.rig.catalogue import reamp_rig
    from diaulos.session.model import Session, Take, Track
    from diaulos.wiring import SessionFolder, bench_for
    from diaulos.work.ports import FileNotes
    from diaulos.work.reamp.passes import ReampRequest, make_pass
    from diaulos.work.reamp.queue import (
        QueueFile,
        asked_passes,
        line_up,
        make_queued,
        next_waiting,
    )

    now = datetime(2026, 5, 9, 12, 0, 0)
    drives = [float(drive) for drive in range(12)]
    drives = [drive * 10.0 / 11.0 for drive in drives]

    def prepared(where: Path) -> tuple[SessionFolder, Session]:
        rig = reamp_rig()
        track = Track(id="k01", name="DI", tap="di", file="audio/t0001_k01.wav",
                      frames=20 * RATE, peak_dbfs=-12.0, full_scale_dbu=12.0)  # fmt: skip
        take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track,))
        session = Session(id="q", name="Q", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id,
                          takes=(take,))  # fmt: skip
        folder = SessionFolder.create(where, session)
        sink = folder.create_audio(track.file, RATE, 1, "24", FileNotes("DI", now))
        sink.write(0.5 * played(20.0, 5)[:, None])
        sink.close()
        return folder, session

    def one_by_one(folder: SessionFolder, session: Session) -> None:
        for drive in drives:
            rig = session.rigs[0].with_setting("amp", "drive", drive)
            asked = session.model_copy(update={"rigs": (rig,)})
            outcome = make_pass(ReampRequest(asked, "t0001"), store=folder,
                                backend_for=bench_for(), clock=lambda: now)  # fmt: skip
            session = outcome.edit(session)
            folder.save(session)

    def by_queue(folder: SessionFolder, session: Session) -> None:
        tones = [{"name": f"{drive:.1f}", "settings": {"amp.drive": drive}} for drive in drives]
        asked = QueueFile.model_validate({"takes": ["One"], "tones": tones})
        session = line_up(asked_passes(session, asked))(session)
        while (item := next_waiting(session)) is not None:
            outcome = make_queued(session, item, store=folder, backend_for=bench_for(),
                                  clock=lambda: now)  # fmt: skip
            session = outcome.edit(session)
            folder.save(session)

    ours, plain = [], []
    for _ in range(runs):
        for work, told in ((by_queue, ours), (one_by_one, plain)):
            with tempfile.TemporaryDirectory() as where:
                folder, session = prepared(Path(where) / "q.diaulos")
                begun = time.perf_counter()
                work(folder, session)
                told.append(time.perf_counter() - begun)
                folder.close()
    return Row("queue of 12 passes of 20 s", ours, plain, "< 1.1", "plain: twelve single passes")


def loading(runs: int) -> Row:
    """Six inputs at 1,000 frequencies, beside an ngspice process on the same circuits."""
    import shutil

    from test_circuit import netlist

    from diaulos.circuit.loading import Load, curves_db, log_grid
    from diaulos.demo.instruments import OFFSET

    circuit = OFFSET.circuit()
    loads = [Load.together(OFFSET.cable, Load(ohm, 5e-11))
             for ohm in (10e3, 60e3, 220e3, 470e3, 1e6, 10e6)]  # fmt: skip
    freqs = log_grid(20.0, 20_000.0, 1000)
    ngspice = shutil.which("ngspice")
    if ngspice is None:
        sys.exit("bench: ngspice is missing; ./diaulos setup installs it where it can")
    with tempfile.TemporaryDirectory() as folder:
        for index, load in enumerate(loads):
            run = [".control", "ac dec 333 20 20k", f"wrdata out{index}.txt vdb(w)", ".endc"]
            lines = [f"load {index}", *netlist(circuit, load), *run, ".end"]
            (Path(folder) / f"{index}.cir").write_text("\n".join(lines) + "\n")

        def spice() -> None:
            for index in range(len(loads)):
                subprocess.run([ngspice, "-b", f"{index}.cir"], cwd=folder, capture_output=True,
                               check=False)  # fmt: skip

        ours, plain = in_turn(lambda: curves_db(circuit, loads, freqs), spice, runs)
    note = f"ours {statistics.median(ours) * 1000:.2f} ms; plain: six ngspice processes"
    return Row("loading, 6 inputs x 1,000 frequencies", ours, plain, "2 ms", note)


def rig_checks(runs: int) -> Row:
    """All checks and courses of about 60 devices and 150 cables, beside networkx's simple
    paths from every instrument to every track (the courses alone)."""
    import networkx as nx

    from diaulos.rig.checks import Context, run_checks
    from diaulos.rig.graph import RigGraph
    from support import big_rig

    rig = big_rig(3)

    def ours() -> None:
        context = Context(RigGraph(rig))
        run_checks(context)
        assert context.traced

    def plain() -> None:
        graph = nx.DiGraph()
        for cable in rig.cables:
            graph.add_edge((cable.source.device, cable.source.port),
                           (cable.target.device, cable.target.port))  # fmt: skip
        for device in rig.devices:
            for path in device.live_paths:
                graph.add_edge((device.id, path.source), (device.id, path.target))
        starts = [n for n in graph if n[0].startswith("guitar")]
        ends = [n for n in graph if n[0].startswith("computer") and n[1].startswith("track")]
        for start in starts:
            list(nx.all_simple_paths(graph, start, ends))

    seconds = in_turn(ours, plain, runs)
    note = (
        f"{len(rig.devices)} devices, {len(rig.cables)} cables; ours "
        f"{statistics.median(seconds[0]) * 1000:.0f} ms; plain: networkx simple paths, courses only"
    )
    return Row("rig, checks and courses", *seconds, "50 ms", note)


def rig_growth(runs: int) -> Row:
    """The same over sixteen times the devices, each a sixteenth: ours against ours."""
    from diaulos.rig.checks import Context, run_checks
    from diaulos.rig.graph import RigGraph
    from support import big_rig

    small, large = big_rig(3), big_rig(48)
    big, little = in_turn(
        lambda: run_checks(Context(RigGraph(large))),
        lambda: [run_checks(Context(RigGraph(small))) for _ in range(16)],
        runs,
    )
    note = f"{len(large.devices)} devices at once against 16 times {len(small.devices)}"
    return Row("rig, growth to 1,000 devices", big, little, "<= 2", note)


def levels_course(runs: int) -> Row:
    """The gains of one long course solved, beside trying every setting through whole diagrams
    (reckoned from as many as fit into a run)."""
    import math

    from diaulos.rig.levels.diagram import level_diagram
    from diaulos.rig.levels.settings import settings_on, with_values
    from diaulos.rig.levels.solve import solve
    from support import long_course

    course = long_course()
    free = [one for one in settings_on(course) if not one.kept]
    count = math.prod(len(one.steps) for one in free)
    tried = 40

    def some() -> None:
        for n in range(tried):
            values = {one.ref: one.steps[n % len(one.steps)] for one in free}
            level_diagram(with_values(course, values))

    ours, plain = in_turn(lambda: solve(course), some, runs)
    every = [seconds * count / tried for seconds in plain]
    note = (
        f"{len(level_diagram(course).stations)} stations, {len(free)} controls; ours "
        f"{statistics.median(ours) * 1000:.0f} ms; plain: all {count:.3g} settings, reckoned "
        f"from {tried}"
    )
    return Row("levels, one course solved", ours, every, "50 ms", note)


def levels_session(runs: int) -> Row:
    """All gains of sixteen courses, beside one by one without what the rig already knows."""
    from diaulos.session.model import Session
    from diaulos.work.rigs.levels import levels_of
    from diaulos.work.rigs.solving import solve_rig
    from support import big_rig

    rig = big_rig(2)
    session = Session(id="s", name="Bench", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    count = len(levels_of(session))
    ours, plain = in_turn(
        lambda: solve_rig(session, with_freeings=False), lambda: levels_of(session), runs
    )
    note = f"{count} courses; ours {statistics.median(ours):.2f} s; plain: their diagrams alone"
    return Row("levels, 16 courses solved", ours, plain, "1 s", note)


def plan_course(runs: int) -> Row:
    """A driven course planned from nothing, beside playing three strums through it."""
    from diaulos.rig.bench import BenchFaults, strum_volts
    from diaulos.rig.bench.steps import StepMaker
    from diaulos.rig.course import trace
    from diaulos.rig.graph import RigGraph
    from diaulos.rig.levels.diagram import level_diagram
    from diaulos.rig.playing import forget
    from diaulos.rig.templates import build

    graph = RigGraph(build("hybrid", "r1"))
    course = trace(graph, graph.tracks[2])
    assert course.source is not None
    volts = strum_volts(course.source, course.source.jack_load, float(RATE), strums=3)

    def cold() -> None:
        forget()
        level_diagram(course)

    def played() -> None:
        signal = volts
        for step in StepMaker(course, RATE, BenchFaults.none(), None, lambda _key: 0).steps:
            signal, _ = step.processor.process(signal, step.processor.initial_state())

    seconds = in_turn(cold, played, runs)
    note = "DI, pedals, amplifier, cabinet; plain: the sound itself, three strums"
    return Row("plan of a course, cold", *seconds, "<= 3", note)


def plan_rig(runs: int) -> Row:
    """Sixteen courses planned from nothing, beside the same with all that was played kept."""
    from diaulos.rig.playing import forget
    from diaulos.session.model import Session
    from diaulos.work.rigs.levels import levels_of
    from support import big_rig

    rig = big_rig(2)
    session = Session(id="s", name="Bench", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)

    def cold() -> None:
        forget()
        levels_of(session)

    seconds = in_turn(cold, lambda: levels_of(session), runs)
    return Row("plan of a rig, cold", *seconds, "a second or two", "plain: once more, warm")


def writer(runs: int) -> Row:
    """The way from a cheap source into 32 files: a minute of 32 tracks at 48 kHz, against real
    time, in a process of its own whose peak memory is told (half a minute and a whole one)."""
    peaks: dict[float, float] = {}
    ours = []
    for run in range(runs + 1):
        seconds = 60.0 if run else 30.0
        took, peaks[seconds], lost = _written(seconds, "fast")
        assert not lost
        if run:
            ours.append(took)
    note = (
        f"{60.0 / statistics.median(ours):.0f} times real time; peak memory {peaks[60.0]:.0f} MB "
        f"({peaks[30.0]:.0f} MB for half of it); plain: real time"
    )
    return Row("writer, 32 tracks, 1 min", ours, [60.0] * runs, "<= 0.1", note)


WRITER = """
import resource, sys, time
from pathlib import Path
import numpy as np
from diaulos.storage.bwf import Bext, WavWriter
from diaulos.work.ports import BlockStatus, BlockTime, StreamInfo
from diaulos.work.capture.recorder import Recorder

class Cheap:
    xruns = 0
    def __init__(self, paced):
        self.paced = paced
        self.info = StreamInfo(48_000, 0.01, 0.01, "cheap", paced)
    def open(self, spec, callback):
        self.spec, self.callback = spec, callback
        return self
    def run(self):
        count, at = self.spec.block_frames, 0
        block = 0.1 * np.random.default_rng(1).standard_normal((count, self.spec.input_channels))
        outputs = np.zeros((count, 2))
        begun = time.monotonic()
        while self.callback(block, outputs, count, BlockTime(at), BlockStatus()):
            at += count
            if self.paced:
                time.sleep(max(0.0, begun + at / 48_000 - time.monotonic()))

folder, seconds, paced = Path(sys.argv[1]), float(sys.argv[2]), sys.argv[3] == "paced"
sinks = [WavWriter(folder / f"{n}.wav", 48_000, 1, "24", Bext()) for n in range(32)]
begun = time.perf_counter()
done = Recorder(Cheap(paced), sinks, 48_000, frames=int(seconds * 48_000)).run()
assert done.frames == int(seconds * 48_000)
took = time.process_time() if paced else time.perf_counter() - begun
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
print(took, peak, sum(gap.frames for gap in done.dropouts))
"""


def _written(seconds: float, pace: str) -> tuple[float, float, int]:
    """(seconds, peak memory in MB, frames lost) of 32 tracks, in a process of its own."""
    with tempfile.TemporaryDirectory() as folder:
        done = subprocess.run(
            [sys.executable, "-c", WRITER, folder, str(seconds), pace],
            capture_output=True, text=True, check=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
        )  # fmt: skip
    took, peak, lost = done.stdout.split()
    return float(took), float(peak), int(lost)


STEMS = """
import resource, sys, time
from pathlib import Path
from diaulos import wiring
from diaulos.storage.folder import SessionFolder
from diaulos.work.handing.stems import StemChoice, plan_stems
folder = SessionFolder.open(Path(sys.argv[1]), read_only=True)
session = folder.load()
stems = plan_stems(session, StemChoice())
begun = time.perf_counter()
wiring.write_stem_files(session, stems, StemChoice(), folder, Path(sys.argv[2]))
print(time.perf_counter() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def _many_tracks(where: Path, tracks: int, seconds: float) -> Path:
    """A session with one take of so many tracks."""
    from datetime import UTC, datetime

    from diaulos.session.model import Session, Take, Track
    from diaulos.storage.folder import SessionFolder
    from diaulos.work.ports import FileNotes

    frames = round(seconds * RATE)
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    folder = SessionFolder.create(where / "s.diaulos", session)
    second = (0.1 * np.random.default_rng(1).standard_normal((RATE, 1))).astype(np.float32)
    found = []
    for number in range(1, tracks + 1):
        file = f"audio/t0001_k{number:02d}.wav"
        notes = FileNotes("bench", datetime(2026, 5, 9, tzinfo=UTC))
        sink = folder.create_audio(file, RATE, 1, "24", notes)
        for _ in range(frames // RATE):
            sink.write(second)
        sink.close()
        found.append(Track(id=f"k{number:02d}", name=f"T{number}", tap="amp", file=file,
                           frames=frames, peak_dbfs=-6.0))  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tuple(found))
    folder.save(session.model_copy(update={"takes": (take,)}))
    folder.close()
    return folder.path


def stems(runs: int, tracks: int = 60, seconds: float = 300.0) -> Row:
    """Stems of a take written, beside its files copied; peak memory of a process of its own, for
    all tracks and for a sixth of them."""
    ours, plain, peaks = [], [], {}
    for count in (tracks // 6, tracks):
        with tempfile.TemporaryDirectory() as kept:
            where = _many_tracks(Path(kept), count, seconds)
            for run in range(runs if count == tracks else 1):
                out = Path(kept) / f"out{run}"
                done = subprocess.run(
                    [sys.executable, "-c", STEMS, str(where), str(out)], check=True, text=True,
                    capture_output=True, env={**os.environ, "PYTHONPATH": str(HERE / "src")},
                )  # fmt: skip
                took, peaks[count] = (float(word) for word in done.stdout.split())
                shutil.rmtree(out)
                begun = time.perf_counter()
                shutil.copytree(where / "audio", out)
                copied = time.perf_counter() - begun
                shutil.rmtree(out)
                if count == tracks:
                    ours.append(took)
                    plain.append(copied)
    few, many = sorted(peaks)
    note = (
        f"{tracks * seconds / statistics.median(ours):.0f} times real time; peak memory"
        f" {peaks[many]:.0f} MB ({peaks[few]:.0f} MB for {few}); plain: the files copied"
    )
    return Row(f"stems, {tracks} of {seconds / 60:g} min", ours, plain, "flat memory", note)


def packing(runs: int, tracks: int = 20, seconds: float = 300.0) -> Row:
    """A session packed and unpacked with every hash, beside the plain zip library doing both."""
    import zipfile

    from diaulos.storage.folder import SessionFolder
    from diaulos.storage.packing import pack, unpack
    from diaulos.work.handing.packing import PackChoice, plan_packing

    with tempfile.TemporaryDirectory() as kept:
        where = _many_tracks(Path(kept), tracks, seconds)
        folder = SessionFolder.open(where, read_only=True)
        planned = plan_packing(folder.load(), PackChoice(), folder.has_file)
        one, other = Path(kept) / "a.diaulosz", Path(kept) / "b.zip"
        out = Path(kept) / "out.diaulos"

        def both() -> None:
            pack(folder, planned, one, replace=True)
            unpack(one, out)
            shutil.rmtree(out)

        def plainly() -> None:
            with zipfile.ZipFile(other, "w") as archive:
                for path in sorted((where / "audio").iterdir()):
                    archive.write(path)
            with zipfile.ZipFile(other) as archive:
                archive.extractall(out)
            shutil.rmtree(out)

        ours, plain = in_turn(both, plainly, runs)
    return Row(f"packed and unpacked, {tracks} of {seconds / 60:g} min", ours, plain, "<= 2",
               "with a hash of every file both times; plain: zipfile")  # fmt: skip


def gear_library(runs: int, entries: int = 2_000) -> Row:
    """A library opened and searched after every key of a word, beside reading its JSON."""
    from diaulos.demo.saltmarsh import bare_demo
    from diaulos.session.library import Entry
    from diaulos.storage.library import LibraryFolder, entry_text, searched

    one = bare_demo().instruments[0]
    with tempfile.TemporaryDirectory() as kept:
        place = Path(kept) / "instruments"
        place.mkdir()
        for at in range(entries):
            entry = Entry(id=f"i{at}", kind="instrument", name=f"Guitar {at}", instrument=one,
                          tags=("stage",))  # fmt: skip
            (place / f"i{at}.json").write_text(entry_text(entry))
        LibraryFolder(Path(kept)).entries()

        def open_and_type() -> None:
            listed = LibraryFolder(Path(kept)).entries()
            for end in range(1, 11):
                searched(listed, "guitar 199"[:end])

        def plainly() -> None:
            for path in place.iterdir():
                json.loads(path.read_text())

        ours, plain = in_turn(open_and_type, plainly, runs)
    return Row(f"library of {entries} entries opened, ten keys typed", ours, plain, "0.3 s",
               "plain: every file read by json")  # fmt: skip


def paced_writer(runs: int) -> Row:
    """A minute of 32 tracks in real time: processor seconds, and what was lost."""
    found = [_written(60.0, "paced") for _ in range(runs)]
    spent, lost = [one[0] for one in found], sum(one[2] for one in found)
    note = f"{lost} frames lost in {runs} min; ours: processor time; plain: real time"
    return Row("writer at 1x, 32 tracks, 60 s", spent, [60.0] * runs, "no lost block", note)


def waveforms(runs: int) -> Row:
    """Overviews of ten minutes of eight tracks, in memory."""
    from diaulos.signal.overview import BASE, build_overview

    tracks = [played(600.0, seed).astype(np.float32) for seed in range(8)]

    def ours() -> None:
        for one in tracks:
            build_overview(one[at : at + 65_536] for at in range(0, one.size, 65_536))

    def plain() -> None:
        for one in tracks:
            rows = one[: one.size // BASE * BASE].reshape(-1, BASE)
            rows.min(axis=1)
            rows.max(axis=1)

    return Row("waveforms, 10 min x 8 tracks", *in_turn(ours, plain, runs), "<= 0.2",
               f"plain: reshape, min and max of {BASE} samples")  # fmt: skip


def waveforms_again(runs: int) -> Row:
    """The second look at the same take, from the files, against the first."""
    return _looks(runs, 600.0, 8, "waveforms again, 10 min x 8 tracks")


def waveforms_growth(runs: int) -> Row:
    """The second look at an hour against that at ten minutes, per track."""
    hour, ten = (_looks(runs, seconds, 1, "") for seconds in (3600.0, 600.0))
    return Row("waveforms again, growth 10 to 60 min", hour.ours_s, ten.ours_s, "<= 8",
               f"first look at the hour: {statistics.median(hour.plain_s):.2f} s")  # fmt: skip


def _looks(runs: int, seconds: float, tracks: int, name: str) -> Row:
    from diaulos.session.model import Session
    from diaulos.storage.folder import SessionFolder
    from diaulos.work.ports import FileNotes
    from diaulos.work.takes.overviews import overview_of
    from support import NOON

    with tempfile.TemporaryDirectory() as where:
        session = Session(id="s", name="S", sample_rate_hz=RATE)
        folder = SessionFolder.create(Path(where) / "S", session)
        files = [f"audio/t0001_k{n:02d}.wav" for n in range(1, tracks + 1)]
        minute = played(60.0)
        for file in files:
            sink = folder.create_audio(file, RATE, 1, "24", FileNotes("", NOON))
            for _ in range(int(seconds / 60.0)):
                sink.write(minute)
            sink.close()

        def first() -> None:
            shutil.rmtree(folder.path / "overviews", ignore_errors=True)
            again()

        def again() -> None:
            for file in files:
                overview_of(file, folder)

        times = in_turn(again, first, runs)
        size = sum(path.stat().st_size for path in (folder.path / "overviews").glob("*"))
        share = size / sum(path.stat().st_size for path in (folder.path / "audio").glob("*"))
        folder.close()
    return Row(name, *times, "at once", f"plain: the first look; {share:.1%} of the audio's size")


def heartbeat(runs: int) -> Row:
    """The longest stall of the window while sixteen tracks are recorded in real time and the
    meters move, beside turning a gain in Levels; each as a share of 50 ms."""
    from diaulos.demo.saltmarsh import write_demo

    recording, turning = [], []
    with tempfile.TemporaryDirectory() as folder:
        made, _ = write_demo(Path(folder) / "Saltmarsh")
        made.close()
        for run in range(runs):
            copy = Path(folder) / f"{run}.diaulos"
            shutil.copytree(made.path, copy)
            done = subprocess.run(
                [sys.executable, str(HERE / "tests" / "heartbeat.py"), str(copy)],
                capture_output=True, text=True, check=True,
                env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
            )  # fmt: skip
            first, _lost, _walk, last = (float(word) for word in done.stdout.split())
            recording.append(first / 1000.0)
            turning.append(last / 1000.0)
    note = (
        "longest gap of a 5 ms timer in 5 s of recording; plain: the same while a gain is "
        "turned in Levels"
    )
    return Row("window stall, 16 tracks", recording, turning, "50 ms", note)


BARE = """
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QLabel, QMainWindow
app = QApplication([])
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event)
        QTimer.singleShot(0, app.quit)
window = Window()
window.setCentralWidget(QLabel("bare"))
window.resize(1280, 800)
window.show()
app.exec()
"""


def start(runs: int, moment: str) -> Row:
    """From the command to the first painted (or usable) window, against a bare one."""
    with tempfile.TemporaryDirectory() as folder:
        kept = {**_as_installed(), "XDG_CONFIG_HOME": folder, "QT_QPA_PLATFORM": "offscreen"}
        kept["PYTHONPATH"] = str(HERE / "src")

        def command(*words: str, **more: str) -> Callable[[], object]:
            return lambda: subprocess.run(
                [sys.executable, *words], env={**kept, **more}, check=True, capture_output=True
            )

        session = str(Path(folder) / "Demo")
        command("-m", "diaulos", "demo", "--at", session, "--no-window")()
        ours, plain = in_turn(
            command("-m", "diaulos", session + ".diaulos", DIAULOS_TIMING=moment),
            command("-c", BARE),
            runs,
        )
    name = "first painted window" if moment == "paint" else "session on screen"
    return Row(f"start to {name}", ours, plain, "<= 3" if moment == "paint" else "<= 10",
               "plain: a bare PySide6 window, whole process")  # fmt: skip


def ports(runs: int, block: int) -> Row:
    """Eight inputs by JACK while a window paints meters and a job computes: what is lost, and the
    processor time of the process that holds the ports."""
    seconds = 20.0
    spent: list[float] = []
    lost = breaks = xruns = 0
    rights = True
    paths = [*sys.path, str(HERE / "src")]
    for _ in range(runs):
        done = subprocess.run(
            [sys.executable, str(HERE / "tests" / "ports_load.py"), str(seconds), str(block), "8"],
            capture_output=True, text=True, check=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(paths)},
        )  # fmt: skip
        found = json.loads(done.stdout[done.stdout.index("{") :])
        spent.append(found["ports_cpu_s"])
        lost += found["lost"] + found["skipped"]
        breaks += found["breaks"]
        xruns += found["xruns"]
        rights = rights and found["realtime"]
    server = "real-time server" if rights else "server without real-time rights"
    note = f"{lost} frames lost, {breaks} breaks, {xruns} xruns in {runs * seconds:.0f} s; {server}"
    return Row(f"ports, 8 inputs, {block} frames, {seconds:.0f} s", spent, [seconds] * runs,
               "no lost frame", f"{note}; ours: processor time, plain: real time")  # fmt: skip


def _as_installed() -> dict[str, str]:
    """The environment, without what keeps Python from keeping what it compiled: installed, all of
    it is compiled already."""
    return {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}


def first_demo(runs: int) -> Row:
    """From the command to the demo's first view, where the demo was never made."""

    def ours() -> object:
        with tempfile.TemporaryDirectory() as folder:
            kept = {**_as_installed(), "XDG_CONFIG_HOME": folder, "XDG_DATA_HOME": folder,
                    "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(HERE / "src"),
                    "DIAULOS_TIMING": "usable"}  # fmt: skip
            command = [sys.executable, "-m", "diaulos", "demo"]
            return subprocess.run(command, env=kept, check=True, capture_output=True)

    def plain() -> object:
        kept = {**_as_installed(), "QT_QPA_PLATFORM": "offscreen"}
        return subprocess.run([sys.executable, "-c", BARE], env=kept, check=True)

    note = "the demo is not made yet; plain: a bare PySide6 window, whole process"
    return Row("start to the demo's first view", *in_turn(ours, plain, runs), "<= 5", note)


@functools.lru_cache(maxsize=1)
def _gaps(runs: int) -> tuple[dict[str, float], ...]:
    """The longest gaps of a 5 ms timer by what was done, in ms, of so many runs: the rows of the
    stalls are read off the same runs."""
    from diaulos.demo.saltmarsh import write_demo

    found = []
    with tempfile.TemporaryDirectory() as folder:
        made, _ = write_demo(Path(folder) / "Saltmarsh")
        made.close()
        paths = [*sys.path, str(HERE / "tests"), str(HERE / "tests" / "core")]
        for run in range(runs):
            copy = Path(folder) / f"{run}.diaulos"
            shutil.copytree(made.path, copy)
            done = subprocess.run(
                [sys.executable, str(HERE / "tests" / "stalls.py"), str(copy)],
                capture_output=True, text=True, check=True,
                env={**_as_installed(), "PYTHONPATH": os.pathsep.join(paths)},
            )  # fmt: skip
            found.append(json.loads(done.stdout[done.stdout.index("{") :]))
    return tuple(found)


def stalls(runs: int, what: str) -> Row:
    """The longest stall of the window in a session of 300 takes and 40 devices."""
    names = {
        "view": "{} again",
        "look": "look",
        "first": "{} first",
        "open": "open",
        "zoom": "zoom",
    }
    views = ("instruments", "rig", "levels", "takes", "reamp", "compare", "sheets")
    longest, plain = [], []
    for gaps in _gaps(runs):
        found = [gaps[names.get(what, what).format(view)] for view in views]
        longest.append(max(found) / 1000.0)
        plain.append(gaps["nothing"] / 1000.0)
    told = {
        "view": "a view is shown again",
        "look": "the look is switched",
        "first": "a view is shown for the first time",
        "open": "the session is opened",
        "zoom": "the size of text is changed",
    }
    which = ", the slowest of seven" if what in ("view", "first") else ""
    note = f"longest gap of a 5 ms timer while {told[what]}{which}, 300 takes, 40 devices, a slow "
    note += "disk; plain: for 3 s in which nothing is done (what the machine itself holds up)"
    return Row(f"window stall, {told[what]}", longest, plain, "50 ms", note)


ROWS: dict[str, Callable[[int], Row]] = {
    "delay": delay,
    "growth": delay_growth,
    "compare": first_figures,
    "loudness": loudness,
    "convolution": convolution,
    "drive": drive,
    "true-peak": true_peak,
    "loop": loop,
    "impulses": impulses,
    "queue": queue,
    "loading": loading,
    "rig": rig_checks,
    "rig-growth": rig_growth,
    "levels": levels_course,
    "levels-session": levels_session,
    "plan": plan_course,
    "plan-rig": plan_rig,
    "writer": writer,
    "writer-paced": paced_writer,
    "stems": stems,
    "packing": packing,
    "library": gear_library,
    "waveforms": waveforms,
    "waveforms-again": waveforms_again,
    "waveforms-growth": waveforms_growth,
    "heartbeat": heartbeat,
    "stall-view": lambda runs: stalls(runs, "view"),
    "stall-first": lambda runs: stalls(runs, "first"),
    "stall-look": lambda runs: stalls(runs, "look"),
    "stall-open": lambda runs: stalls(runs, "open"),
    "stall-zoom": lambda runs: stalls(runs, "zoom"),
    "first-demo": first_demo,
    "ports": lambda runs: ports(runs, 256),
    "ports-128": lambda runs: ports(runs, 128),
    "paint": lambda runs: start(runs, "paint"),
    "usable": lambda runs: start(runs, "usable"),
}


def table(rows: list[Row]) -> str:
    """The results as Markdown."""
    lines = [
        "| work | ours (median) | plain (median) | ratio (min to max) | aim | notes |",
        "| --- | ---: | ---: | ---: | ---: | --- |",
    ]
    for row in rows:
        ours, plain = statistics.median(row.ours_s), statistics.median(row.plain_s)
        ratios = row.ratios
        lines.append(
            f"| {row.name} | {ours * 1000:.0f} ms | {plain * 1000:.0f} ms | "
            f"{statistics.median(ratios):.3f} ({min(ratios):.3f} to {max(ratios):.3f}) | "
            f"{row.aim} | {row.note} |"
        )
    return "\n".join(lines)


def _merged(old: str, new: str) -> tuple[str, str]:
    """The page with the rows that were run anew; the others stay."""
    at = old.index("| work |")
    rows = {line.split("|")[1].strip(): line for line in old[at:].splitlines()}
    rows |= {line.split("|")[1].strip(): line for line in new.splitlines()}
    return old[:at], "\n".join(rows.values())


def main() -> None:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", help=f"of {', '.join(ROWS)}; all by default")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--write", action="store_true", help="renew docs/benchmarks.md")
    wanted = parser.parse_args()
    unknown = set(wanted.names) - set(ROWS)
    if unknown:
        parser.error(f"unknown: {', '.join(sorted(unknown))}")
    rows = []
    for name in wanted.names or ROWS:
        print(f"{name} ...", file=sys.stderr, flush=True)
        rows.append(ROWS[name](wanted.runs))
    text = table(rows)
    print(text)
    if wanted.write:
        head = (
            "# Benchmarks\n\nWritten by `./diaulos bench --write`. Ours and the plain library way "
            "in the same run, in turn,\nafter a warm-up; the machine is shared and noisy, so the "
            "ratio counts and not the time.\n\n"
            f"{os.cpu_count()} cores, Python {platform.python_version()}, numpy {np.__version__}, "
            f"{wanted.runs} runs.\n\n"
        )
        path = HERE / "docs" / "benchmarks.md"
        if wanted.names:
            head, text = _merged(path.read_text("utf-8"), text)
        path.write_text(head + text + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
