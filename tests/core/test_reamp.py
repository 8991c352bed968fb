"""Reamp end to end on real files: truth of the loop, match, faults, bad input, memory."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.audio.bench_backend import BUFFERS_EACH_WAY, BenchBackend
from diaulos.errors import (
    AudioFileError,
    CancelledError,
    EditError,
    InputError,
    RefusedError,
    StorageError,
)
from diaulos.rig.bench import BenchFaults
from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.catalogue.amps import LOAD, VALVE_OHM
from diaulos.rig.course import Course, reamp_course
from diaulos.rig.flow import speaker_ohm
from diaulos.rig.model import PortRef
from diaulos.rig.plan import amp_input
from diaulos.session.edits import set_device_setting
from diaulos.session.model import MatchTarget, Session
from diaulos.signal.convolve import convolve_long
from diaulos.signal.delay import find_alignment
from diaulos.signal.fir import minimum_phase
from diaulos.signal.peaks import true_peak_dbtp
from diaulos.storage.audiofile import audio_info, resampled
from diaulos.storage.folder import SessionFolder
from diaulos.storage.sources import ExternalAudio
from diaulos.units import db_to_gain
from diaulos.wiring import BenchAudio, bench_for, new_session
from diaulos.work.capture.loop import BLOCK_FRAMES
from diaulos.work.listening.aligned import part_blocks
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_mono
from diaulos.work.ports import AudioSink, CancelToken, FileNotes, StreamSpec
from diaulos.work.reamp import returns as reamp_module
from diaulos.work.reamp.files import FileReampRequest, reamp_file
from diaulos.work.reamp.passes import ReampRequest, make_pass
from diaulos.work.reamp.planning import plan_reamp
from diaulos.work.reamp.recovery import Remains, bring_back, recoverable
from diaulos.work.reamp.words import made_words
from diaulos.work.rigs.levels import levels_of
from diaulos.work.rigs.rendering import RenderRequest, render
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.exporting import export_pass
from diaulos.work.takes.importing import ImportRequest, import_di
from diaulos.work.takes.impulses import import_impulse, load_impulses
from support import NOON, RATE, measure_loudness, performance, read_channel, through_amp

BASS_TAKE, GUITAR_TAKE, CLIPPED, UNKNOWN = "t0003", "t0001", "t0002", "t0004"


@pytest.fixture
def desk(demo_copy: Path) -> tuple[SessionFolder, Session]:
    folder = SessionFolder.open(demo_copy)
    yield folder, folder.load()
    folder.close()


def reamped(desk: tuple[SessionFolder, Session], take: str = GUITAR_TAKE, **more: object):
    folder, session = desk
    backend = more.pop("backend_for", bench_for(seed=7))
    request = ReampRequest(session, take, **more)
    return make_pass(request, store=folder, backend_for=backend, clock=lambda: NOON)


def audio_files(folder: SessionFolder) -> set[str]:
    return {path.name for path in (folder.path / "audio").iterdir()}


def into_the_load(volts: np.ndarray) -> np.ndarray:
    """The rise of a valve amplifier's volts where its load's impedance rises: Z / (Z + R)."""

    def gain(freqs: np.ndarray) -> np.ndarray:
        z = speaker_ohm(LOAD, np.maximum(freqs, 15.0))
        return np.abs(z / (z + VALVE_OHM))

    return convolve_long(volts, minimum_phase(gain, float(RATE), max_taps=4096))[: volts.size]


@pytest.mark.parametrize(
    ("take", "rig"), [(GUITAR_TAKE, "rig01"), (GUITAR_TAKE, "rig02"), (BASS_TAKE, "rig03")]
)
def test_what_is_measured_is_the_truth_of_the_loop(
    desk: tuple[SessionFolder, Session], take: str, rig: str
) -> None:
    """Design section 4: loop latency plus the lag of the same amp, noise-free, at none."""
    folder, session = desk
    outcome = reamped(desk, take, rig_id=rig)
    made, found = outcome.made, outcome.made.main.alignment
    assert found is not None
    course = reamp_course(outcome.rig)
    truth = BenchBackend((course,), BenchFaults(seed=7))
    stream = truth.open(StreamSpec(RATE, BLOCK_FRAMES), lambda *_: False)
    amp = outcome.rig.device("amp")
    di = read_mono(folder.open_audio(session.take(take).tracks[0].file)).astype(float)
    scale = outcome.plan.send.full_scale_dbu
    volts = di * db_to_gain(scale) * np.sqrt(2.0 * 0.6)
    clean = through_amp(volts, amp.word("voice"), outcome.rig.device("load_box").word("cabinet"))
    clean = into_the_load(clean)
    lag = find_alignment(di, clean, RATE)
    buffers = 2 * BUFFERS_EACH_WAY * BLOCK_FRAMES
    wanted = stream._bench.latency_samples[0] + buffers + lag.delay_samples
    assert abs(found.delay_samples - wanted) < 0.5
    assert found.polarity == lag.polarity
    assert abs(found.delay_samples - wanted) < max(0.5, found.delay_error_samples)
    assert made.peak_dbfs == pytest.approx(-12.0, abs=1.2)
    assert made.main.headroom_db == -made.peak_dbfs


def test_rendering_a_reamp_sends_as_reamp_does(
    desk: tuple[SessionFolder, Session], tmp_path: Path
) -> None:
    """A DI rendered through a rig that reamps comes back at the level of its pass."""
    folder, session = desk
    outcome = reamped(desk, GUITAR_TAKE, rig_id="rig01", auto_return=False)
    track = session.take(GUITAR_TAKE).di
    assert track is not None
    files = ExternalAudio()
    notes = FileNotes("x", NOON)

    def sink_for(port: PortRef, _name: str) -> AudioSink:
        path = tmp_path / f"{port.port}.wav"
        return files.create(path, RATE, 1, "float", notes, False)

    request = RenderRequest(
        session, "rig01", folder.open_audio(track.file), full_scale_dbu=track.full_scale_dbu
    )
    result = render(request, sink_for, BenchAudio())
    assert result.send_gain_db == pytest.approx(outcome.made.send_gain_db)
    assert result.tracks[0].peak_dbfs == pytest.approx(outcome.made.peak_dbfs, abs=0.1)


@pytest.mark.parametrize("rig", ["rig01", "rig02", "rig03"])
def test_levels_of_a_rig_that_reamps_are_those_of_reamp(
    desk: tuple[SessionFolder, Session], rig: str
) -> None:
    """They went by a sine at -12 dBFS. Now by the newest dry DI, as Reamp sends it."""
    folder, session = desk
    take = next(one for one in reversed(session.takes) if one.di is not None)
    di = take.di
    assert di is not None
    loud = read_loudest(folder.open_audio(di.file))
    plan = plan_reamp(session.rig(rig), loud, RATE, di.full_scale_dbu, -12.0, auto_return=False)
    (levels,) = levels_of(session, rig, stored_of(session, folder))
    diagram = levels.diagram
    assert diagram is not None
    assert diagram.playing == f"DI of {take.name}, as Reamp sends it"
    ends = plan.probes[-1]
    assert diagram.track.peak == pytest.approx(ends.peak, abs=0.1)
    assert diagram.track.typical == pytest.approx(ends.typical, abs=0.3)
    at_amp = next(
        one for one in plan.probes if one.station.point == amp_input(reamp_course(plan.rig))
    )
    place = f"{at_amp.station.point.leg}.{at_amp.station.point.port.id}"
    mine = next(one for one in diagram.stations if one.place.key == place)
    assert mine.peak == pytest.approx(at_amp.peak, abs=0.1)


def test_the_plan_is_what_comes_back(desk: tuple[SessionFolder, Session]) -> None:
    """The level window of the return's track against the recorded pass."""
    outcome = reamped(desk)
    assert outcome.made.peak_dbfs == pytest.approx(outcome.plan.probes[-1].peak, abs=0.3)
    assert outcome.made.amp_peak_dbu == pytest.approx(outcome.plan.send.amp_peak_dbu)


@pytest.mark.parametrize(
    "target",
    [
        MatchTarget(kind="track", ident="k02"),
        MatchTarget(kind="track", ident="k01"),
        MatchTarget(kind="lufs", lufs=-20.0),
        MatchTarget(kind="lufs", lufs=-8.0),  # louder than the ceiling allows
    ],
    ids=["track", "di", "lufs", "ceiling"],
)
def test_matched_passes_measure_the_same(
    desk: tuple[SessionFolder, Session], target: MatchTarget
) -> None:
    folder, session = desk
    made = reamped(desk, target=target).made
    match = made.main.match
    assert match is not None
    back = made.main
    heard = part_blocks([folder.open_audio(back.file)], made, [back], back.frames)
    heard = np.concatenate(list(heard))[: session.take(GUITAR_TAKE).tracks[0].frames, 0]
    again = measure_loudness(heard, RATE).lufs
    assert again == pytest.approx(match.after_lufs, abs=0.1)
    assert again == pytest.approx(match.reference_lufs + match.pair_offset_db, abs=0.1)
    assert true_peak_dbtp(heard) <= -1.0 + 0.05
    if target.kind == "track":
        source = folder.open_audio(session.take(GUITAR_TAKE).track(target.ident).file)
        reference = measure_loudness(read_mono(source), RATE).lufs
        assert again - match.pair_offset_db == pytest.approx(reference, abs=0.1)
    if target.lufs == -8.0:
        assert match.pair_offset_db < -1.0


def test_a_pass_can_be_the_reference(desk: tuple[SessionFolder, Session]) -> None:
    folder, session = desk
    first = reamped(desk, target=MatchTarget(kind="track", ident="k02"))
    session = first.edit(session)
    second = reamped(
        (folder, session), rig_id="rig02", target=MatchTarget(kind="pass", ident=first.made.id)
    ).made
    assert first.made.main.match is not None
    assert second.main.match is not None
    assert second.main.match.after_lufs == pytest.approx(first.made.main.match.after_lufs, abs=0.1)
    assert second.id == "p02"


def test_without_a_reference_nothing_is_matched(desk: tuple[SessionFolder, Session]) -> None:
    assert reamped(desk).made.main.match is None


def test_an_unknown_calibration_is_marked(desk: tuple[SessionFolder, Session]) -> None:
    made = reamped(desk, UNKNOWN).made
    assert made.assumed_calibration
    folder, session = desk
    take = session.take(UNKNOWN)
    track = take.di.model_copy(update={"full_scale_dbu": 12.0})
    takes = tuple(
        take.model_copy(update={"tracks": (track,)}) if one.id == take.id else one
        for one in session.takes
    )
    known = session.model_copy(update={"takes": takes})
    assert not reamped((folder, known), UNKNOWN).made.assumed_calibration


def test_a_send_that_cannot_reach_the_volts_says_so(desk: tuple[SessionFolder, Session]) -> None:
    folder, session = desk
    quiet = set_device_setting("rig01", "reamp_box", "trim", -30.0)(session)
    made = reamped((folder, quiet)).made
    assert made.send_limited_db > 10.0


def test_a_pass_can_be_recovered_from_its_file(desk: tuple[SessionFolder, Session]) -> None:
    """The process died before the edit: the file is there, the session does not name it."""
    folder, session = desk
    made = reamped(desk).made
    orphans = folder.orphans(session)
    assert recoverable(session, [*orphans, "audio/stray.wav", "audio/t9999_p01_k01.wav"]) == orphans
    (edit,) = bring_back(session, folder, Remains((), tuple(orphans), ())).edits
    found = edit(session).take(GUITAR_TAKE).passes[0]
    assert found.files == made.files
    assert found.main.alignment == made.main.alignment
    assert found.peak_dbfs == pytest.approx(made.peak_dbfs)


def test_a_damaged_leftover_is_left_alone(desk: tuple[SessionFolder, Session]) -> None:
    folder, session = desk
    path = folder.path / "audio" / "t0001_p05_k01.wav"
    path.write_bytes(b"RIFF")
    found = bring_back(session, folder, Remains((), tuple(folder.orphans(session)), ()))
    assert found.edits == ()
    assert "t0001_p05_k01.wav" in str(found.problem)
    assert path.exists()


def test_the_export_starts_with_the_di_and_is_in_time(
    desk: tuple[SessionFolder, Session], tmp_path: Path
) -> None:
    folder, session = desk
    outcome = reamped(desk, target=MatchTarget(kind="track", ident="k02"))
    session = outcome.edit(session)
    take, out = session.take(GUITAR_TAKE), tmp_path / "export.wav"
    export_pass(
        session,
        take,
        outcome.made,
        folder,
        lambda _, channels, notes: ExternalAudio().create(out, RATE, channels, "24", notes, False),
        lambda: NOON,
    )
    info = audio_info(out)
    assert info.frames == take.tracks[0].frames
    assert info.bext is not None
    assert info.bext.time_reference == take.time_reference
    assert info.bext.origination_date == "2026-05-09"
    assert "aligned to the DI" in info.bext.description
    di = read_mono(folder.open_audio(take.tracks[0].file))
    left = find_alignment(di, read_channel(info), RATE)
    assert abs(left.delay_samples) < 0.05
    assert left.polarity == 1
    assert outcome.made.main.match is not None
    loud = measure_loudness(read_channel(info), RATE).lufs
    assert loud == pytest.approx(outcome.made.main.match.after_lufs, abs=0.1)


# --- an imported file ---


def imported(folder: SessionFolder, session: Session, path: Path, **more: object):
    return import_di(
        ImportRequest(path=path, name="Brought", new_instrument="My guitar", **more),
        session,
        store=folder,
        files=ExternalAudio(),
        resample=resampled,
        clock=lambda: NOON,
    )


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
def test_a_brought_file_of_any_rate_is_reamped(tmp_path: Path, rate: int) -> None:
    path = tmp_path / "mine.wav"
    samples = 0.3 * performance(seconds=4.0, rate=rate)
    soundfile.write(str(path), np.stack([0.0 * samples, samples], axis=1), rate)
    folder, session = new_session(tmp_path / "New")
    outcome = imported(folder, session, path, channel=2)
    session = outcome.edit(session)
    take = session.take("Brought")
    assert session.instrument_name(take.instrument_id) == "My guitar"
    assert take.tracks[0].frames == pytest.approx(4 * RATE, abs=2)
    assert ("Resampled" in outcome.note) == (rate != RATE)
    made = reamped((folder, session), take.id).made
    assert made.main.alignment is not None
    assert made.assumed_calibration
    folder.close()


def test_a_brought_file_that_clips_says_so(tmp_path: Path) -> None:
    path = tmp_path / "hot.wav"
    soundfile.write(str(path), np.clip(3.0 * performance(seconds=3.0), -1.0, 1.0), RATE)
    folder, session = new_session(tmp_path / "New")
    outcome = imported(folder, session, path, channel=None)
    assert "clipped" in outcome.note
    assert outcome.take.tracks[0].clipped_samples > 10
    folder.close()


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda p: p.write_text("not audio"), "not audio"),
        (lambda p: soundfile.write(str(p), np.zeros((0, 1)), RATE), "zero frames"),
        (lambda p: soundfile.write(str(p), np.zeros((10, 2)), RATE), "2 channels where one"),
        (lambda p: soundfile.write(str(p), np.zeros(10), 8000), "8000 Hz"),
        (
            lambda p: soundfile.write(str(p), np.full(100, np.nan), RATE, subtype="FLOAT"),
            "sample 0 is not a number",
        ),
    ],
    ids=["text", "empty", "stereo", "rate", "nan"],
)
def test_a_bad_file_is_refused_and_leaves_nothing(
    tmp_path: Path, make: Callable[[Path], object], words: str
) -> None:
    path = tmp_path / "bad.wav"
    make(path)
    folder, session = new_session(tmp_path / "New")
    with pytest.raises(InputError, match=words) as caught:
        imported(folder, session, path)
    assert caught.value.remedy
    assert audio_files(folder) == set()
    assert folder.load() == session
    folder.close()


def test_an_implausible_calibration_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    soundfile.write(str(path), performance(seconds=3.0), RATE)
    folder, session = new_session(tmp_path / "New")
    with pytest.raises(InputError, match="plausible"):
        imported(folder, session, path, full_scale_dbu=300.0)
    folder.close()


def test_an_own_cabinet_is_heard(desk: tuple[SessionFolder, Session], tmp_path: Path) -> None:
    folder, session = desk
    path = tmp_path / "Dark box.wav"
    n = np.arange(2000)
    soundfile.write(str(path), np.exp(-n / 60.0) * 0.5, 44_100)
    outcome = import_impulse(
        path, session, store=folder, files=ExternalAudio(), resample=resampled, clock=lambda: NOON
    )
    session = outcome.edit(session)
    session = set_device_setting("rig01", "load_box", "cabinet", outcome.impulse.file)(session)
    impulses = load_impulses(session, folder)
    assert list(impulses) == [outcome.impulse.file]
    request = ReampRequest(session, GUITAR_TAKE)
    made = make_pass(
        request,
        store=folder,
        backend_for=bench_for(impulses),
        clock=lambda: NOON,
        impulses=impulses,
    ).made
    assert made.main.alignment is not None
    with pytest.raises(EditError, match="already"):
        outcome.edit(session)


@pytest.mark.parametrize(
    ("samples", "words"),
    [(np.zeros(500), "silent"), (np.ones(5 * RATE), "at most 2 s")],
    ids=["silent", "long"],
)
def test_a_cabinet_that_is_none(
    desk: tuple[SessionFolder, Session], tmp_path: Path, samples: np.ndarray, words: str
) -> None:
    folder, session = desk
    soundfile.write(str(tmp_path / "ir.wav"), samples, RATE)
    with pytest.raises(InputError, match=words):
        import_impulse(
            tmp_path / "ir.wav", session, store=folder, files=ExternalAudio(),
            resample=resampled, clock=lambda: NOON,
        )  # fmt: skip


# --- what goes wrong ---


class FaultySink:
    """Passes on to a real file until a number of frames, then fails like a full disk."""

    def __init__(self, sink: object, limit: int) -> None:
        self._sink, self._limit = sink, limit

    def __getattr__(self, name: str) -> object:
        return getattr(self._sink, name)

    def write(self, samples: np.ndarray) -> None:
        if self._sink.frames > self._limit:
            raise StorageError("it could not be written.", remedy="The disk is full.")
        self._sink.write(samples)


class FaultyStore:
    """A session folder whose disk fills up."""

    def __init__(self, folder: SessionFolder, limit: int) -> None:
        self._folder, self._limit = folder, limit

    def __getattr__(self, name: str) -> object:
        return getattr(self._folder, name)

    def create_audio(self, *args: object) -> FaultySink:
        return FaultySink(self._folder.create_audio(*args), self._limit)


@pytest.mark.parametrize("limit", [0, 300_000])
def test_disk_full_while_a_pass_is_written(desk: tuple[SessionFolder, Session], limit: int) -> None:
    folder, session = desk
    before = audio_files(folder)
    with pytest.raises(StorageError, match="disk is full"):
        reamped((FaultyStore(folder, limit), session))
    assert audio_files(folder) == before
    assert folder.load() == session


@pytest.mark.parametrize("after", [0, 1, 5, 20, 40, 60, 75, 90])
def test_cancel_at_any_moment(desk: tuple[SessionFolder, Session], after: int) -> None:
    folder, session = desk
    before = audio_files(folder)
    token, told = CancelToken(), []

    def progress(fraction: float, text: str) -> None:
        told.append(fraction)
        if fraction * 100.0 >= after:
            token.cancel()

    request = ReampRequest(session, UNKNOWN)
    with pytest.raises(CancelledError, match="Nothing was changed"):
        make_pass(
            request, store=folder, backend_for=bench_for(), clock=lambda: NOON,
            progress=progress, cancel=token,
        )  # fmt: skip
    assert audio_files(folder) == before
    assert all(b >= a for a, b in pairwise(told))


def test_a_silent_take_is_recorded_but_not_called_in_time(
    desk: tuple[SessionFolder, Session], tmp_path: Path
) -> None:
    folder, session = desk
    path = tmp_path / "silent.wav"
    soundfile.write(str(path), np.zeros(2 * RATE), RATE)
    session = imported(folder, session, path).edit(session)
    made = reamped((folder, session), "Brought", target=MatchTarget(kind="lufs", lufs=-18.0)).made
    assert made.main.alignment is None
    assert "silent" in made.main.alignment_refused


def test_a_take_without_a_di_says_what_to_do(desk: tuple[SessionFolder, Session]) -> None:
    folder, session = desk
    take = session.take(GUITAR_TAKE)
    bare = take.model_copy(update={"tracks": take.tracks[1:]})
    session = session.model_copy(update={"takes": (bare,)})
    with pytest.raises(EditError, match="no dry DI"):
        reamped((folder, session))


def test_a_loop_that_returns_something_else_is_not_called_in_time(
    desk: tuple[SessionFolder, Session],
) -> None:
    """A cable in the wrong return: the slate does not come back, and nothing of the take is sent.
    Without a slate the pass is kept, and its delay refused."""

    class Stranger(BenchBackend):
        def open(self, spec: StreamSpec, callback: object) -> object:
            stream = super().open(spec, callback)
            other = iter(0.2 * performance(seconds=40.0, seed=77))
            stream._bench.process = lambda block, taps=None: np.fromiter(other, float, block.size)[
                :, None
            ]
            return stream

    def wrong(courses: tuple[Course, ...]) -> Stranger:
        return Stranger(courses, BenchFaults())

    with pytest.raises(RefusedError, match="or a cable"):
        reamped(desk, backend_for=wrong)
    made = reamped(desk, backend_for=wrong, slate=False).made
    assert made.main.alignment is None
    assert "same performance" in made.main.alignment_refused


def test_a_return_that_is_merely_the_di_is_told(desk: tuple[SessionFolder, Session]) -> None:
    """A bypass, or the return's lead in the send: 40 ms late, half as loud, and nothing else."""

    class Bypass(BenchBackend):
        def open(self, spec: StreamSpec, callback: object) -> object:
            stream = super().open(spec, callback)
            held = np.zeros(1_920)

            def process(block: np.ndarray, taps: object = None) -> np.ndarray:
                nonlocal held
                held = np.concatenate([held, block])
                out, held = held[: block.size], held[block.size :]
                return -0.5 * out[:, None]

            stream._bench.process = process
            return stream

    made = reamped(
        desk, backend_for=lambda courses: Bypass(courses, BenchFaults()), slate=False
    ).made
    assert made.main.null_db is not None
    assert made.main.null_db < -40.0
    assert made.main.merely_di
    assert "the DI itself" in made_words(made, RATE)
    amplified = reamped(desk).made
    assert amplified.main.null_db is not None
    assert amplified.main.null_db > -12.0
    assert "the DI itself" not in made_words(amplified, RATE)


def test_a_long_take_is_measured_around_its_loudest_part(
    desk: tuple[SessionFolder, Session], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The limit of 10 minutes set to 8 s: what streams an hour, on a short take."""
    whole = reamped(desk).made
    monkeypatch.setattr(reamp_module, "MEASURED_S", 8.0)
    part = reamped((desk[0], desk[1])).made
    assert whole.main.alignment is not None
    assert part.main.alignment is not None
    assert part.main.alignment.delay_samples == pytest.approx(
        whole.main.alignment.delay_samples, abs=0.3
    )


MEMORY = """
import resource, sys
from pathlib import Path
import numpy as np, soundfile
from diaulos.wiring import new_session, bench_for, local_now, resampled, ExternalAudio
from diaulos.work.takes.importing import import_di, ImportRequest
from diaulos.work.loudest import read_loudest
path, seconds = Path(sys.argv[1]), int(sys.argv[2])
second = (0.2 * np.random.default_rng(1).standard_normal(44100)).clip(-1, 1).astype("float32")
with soundfile.SoundFile(str(path / "long.wav"), "w", 44100, 1, "PCM_16") as file:
    for _ in range(seconds):
        file.write(second)
folder, session = new_session(path / "Long")
out = import_di(ImportRequest(path / "long.wav", "Long"), session, store=folder,
                files=ExternalAudio(), resample=resampled, clock=local_now)
read_loudest(folder.open_audio(out.take.tracks[0].file))
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, out.take.tracks[0].frames)
"""


def test_importing_streams(tmp_path: Path) -> None:
    """Ten minutes need hardly more memory than one: nothing holds the whole file."""
    peak = {}
    for seconds in (60, 600):
        place = tmp_path / str(seconds)
        place.mkdir()
        run = subprocess.run(
            [sys.executable, "-c", MEMORY, str(place), str(seconds)],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        megabytes, frames = map(int, run.stdout.split())
        assert frames == pytest.approx(seconds * RATE, abs=2)
        peak[seconds] = megabytes
    # The audio itself is 115 MB as float32.
    assert peak[600] - peak[60] < 40


# --- without a session ---


def file_request(tmp_path: Path, **more: object) -> FileReampRequest:
    di = tmp_path / "di.wav"
    if not di.exists():
        soundfile.write(str(di), 0.25 * performance(seconds=6.0), RATE, subtype="PCM_24")
    base = FileReampRequest(di, tmp_path / "out.wav", None, 12.0, reamp_rig())
    return replace(base, **more)


def run_file(request: FileReampRequest, tmp_path: Path):
    return reamp_file(
        request, files=ExternalAudio(), scratch=tmp_path, backend_for=bench_for(seed=3),
        clock=lambda: NOON,
    )  # fmt: skip


def test_a_file_without_a_session(tmp_path: Path) -> None:
    request = file_request(tmp_path, match_lufs=-23.0)
    result = run_file(request, tmp_path)
    info = audio_info(request.out)
    assert info.frames == audio_info(request.di).frames
    back = read_channel(info)
    left = find_alignment(read_channel(audio_info(request.di)), back, RATE)
    assert abs(left.delay_samples) < 0.05
    assert measure_loudness(back, RATE).lufs == pytest.approx(-23.0, abs=0.1)
    assert result.match is not None
    assert not (tmp_path / "return.wav").exists()


def test_a_file_matched_to_a_stereo_one_counts_the_mono_twice(tmp_path: Path) -> None:
    reference = tmp_path / "ref.wav"
    wave = 0.1 * performance(seconds=6.0, seed=9)
    soundfile.write(str(reference), np.stack([wave, wave], axis=1), RATE, subtype="FLOAT")
    request = file_request(tmp_path, reference=reference)
    result = run_file(request, tmp_path)
    assert result.match is not None
    assert result.match.layout == "dual_mono"
    mono = measure_loudness(read_channel(audio_info(request.out)), RATE, "dual_mono").lufs
    assert mono == pytest.approx(measure_loudness(np.stack([wave, wave], 1), RATE).lufs, abs=0.1)


def test_a_silent_file_is_refused(tmp_path: Path) -> None:
    soundfile.write(str(tmp_path / "di.wav"), np.zeros(2 * RATE), RATE)
    with pytest.raises(RefusedError, match="silent"):
        run_file(file_request(tmp_path), tmp_path)
    assert not (tmp_path / "out.wav").exists()


def test_an_existing_file_is_not_replaced_unasked(tmp_path: Path) -> None:
    (tmp_path / "out.wav").write_bytes(b"mine")
    with pytest.raises(StorageError, match="exists already"):
        run_file(file_request(tmp_path), tmp_path)
    assert (tmp_path / "out.wav").read_bytes() == b"mine"
    run_file(file_request(tmp_path, replace=True), tmp_path)
    assert audio_info(tmp_path / "out.wav").frames > 0


def test_a_missing_di_is_named(tmp_path: Path) -> None:
    with pytest.raises(AudioFileError, match="no such file"):
        run_file(file_request(tmp_path, di=tmp_path / "none.wav"), tmp_path)
