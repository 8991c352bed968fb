"""Recording: nothing lost, nothing moved, nothing hidden; and what survives a dead process."""

from __future__ import annotations

import errno
import json
import os
import random
import subprocess
import sys
import textwrap
import threading
import time
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
import wavinfo
from known_source import KnownBackend, known
from test_cli import documented, run, run_json

from diaulos import wiring
from diaulos.errors import EditError, InputError, StorageError
from diaulos.rig.mending import insert_isolator
from diaulos.rig.model import PortRef
from diaulos.rig.templates import Patch, build
from diaulos.session import edits, take_edits
from diaulos.session.model import Session, content_hash, rig_hash
from diaulos.signal.click import click_block
from diaulos.storage.bwf import Bext, WavWriter
from diaulos.storage.folder import SessionFolder
from diaulos.units import gain_to_db
from diaulos.work.capture.recorder import Recorder
from diaulos.work.capture.ring import RING_S, Ring
from diaulos.work.rigs.look import look_at
from diaulos.work.takes.noisecheck import best_attempt, changes_since, check_noise
from diaulos.work.takes.ready import armed_tracks, bytes_needed, checklist, recordable_tracks
from diaulos.work.takes.recording import RecordRequest, prepare
from diaulos.work.takes.recovery import recover_take, recoverable_takes
from support import NOON, RATE, outside, program


class Kept:
    """A sink in memory."""

    def __init__(self) -> None:
        self.blocks: list[np.ndarray] = []
        self.closed = False
        self.clipped_samples = 0

    @property
    def frames(self) -> int:
        return sum(block.size for block in self.blocks)

    def write(self, samples: np.ndarray) -> None:
        self.blocks.append(samples.copy())

    def close(self) -> None:
        self.closed = True

    def abandon(self) -> None:
        self.blocks.clear()

    @property
    def samples(self) -> np.ndarray:
        return np.concatenate(self.blocks)


# --- the ring ---


def test_the_ring_gives_back_what_was_put_in() -> None:
    rng = random.Random(3)
    ring = Ring(1000, 2)
    sent, got = [], []
    at = 0
    for _ in range(300):
        count = rng.randint(1, 400)
        block = np.stack([np.arange(at, at + count), -np.arange(at, at + count)], 1).astype(float)
        if ring.put(block):
            sent.append(block)
            at += count
        if rng.random() < 0.6:
            taken = ring.take(rng.randint(1, 700))
            assert taken is not None
            got.append(taken.samples)
    ring.close()
    while (taken := ring.take(512)) is not None:
        got.append(taken.samples)
    assert np.array_equal(np.concatenate(got), np.concatenate(sent).astype(np.float32))
    assert ring.lost > 0


def test_the_ring_tells_where_something_was_lost() -> None:
    ring = Ring(100, 1)
    assert ring.put(np.ones((80, 1)))
    assert not ring.put(np.ones((30, 1)))
    assert not ring.put(np.ones((25, 1)))
    first = ring.take(1000)
    assert first is not None
    assert (first.first, first.samples.shape[0], first.lost) == (0, 80, 0)
    assert ring.put(np.full((10, 1), 2.0))
    ring.close()
    second = ring.take(1000)
    assert second is not None
    assert (second.first, second.lost) == (80, 55)
    assert ring.take(10) is None
    assert ring.lost == 55


# --- the recorder ---


def test_all_tracks_begin_on_the_same_sample() -> None:
    sinks = [Kept() for _ in range(5)]
    done = Recorder(KnownBackend(), sinks, RATE, frames=20_001, start_frame=777).run()
    assert done.frames == 20_001
    for channel, sink in enumerate(sinks):
        wanted = known(777 + np.arange(20_001), channel).astype(np.float32)
        assert np.array_equal(sink.samples, wanted)
        assert sink.closed


@pytest.mark.parametrize("block", [64, 512, 4096])
def test_the_size_of_blocks_does_not_matter(block: int) -> None:
    sink = Kept()
    Recorder(KnownBackend(), [sink], RATE, frames=9_999, start_frame=5, block_frames=block).run()
    assert np.array_equal(sink.samples, known(5 + np.arange(9_999), 0).astype(np.float32))


def test_a_writer_that_stalls_for_two_seconds_loses_nothing() -> None:
    """In real time; the ring holds four seconds and its size is told."""

    class Stalls(Kept):
        def write(self, samples: np.ndarray) -> None:
            if not self.blocks:
                time.sleep(2.0)
            super().write(samples)

    sink = Stalls()
    recorder = Recorder(KnownBackend(realtime=True), [sink], RATE, frames=3 * RATE)
    assert recorder.capture.ring.nbytes == int(RING_S * RATE) * 4
    done = recorder.run()
    assert done.dropouts == ()
    assert done.xruns == 0
    assert np.array_equal(sink.samples, known(np.arange(3 * RATE), 0).astype(np.float32))


def test_what_does_not_fit_is_counted_marked_and_filled_with_silence() -> None:
    """A writer that never gets going: later samples still stand at their time."""

    class Late(Kept):
        gate = threading.Event()

        def write(self, samples: np.ndarray) -> None:
            self.gate.wait(5.0)
            super().write(samples)

    sink = Late()
    recorder = Recorder(
        KnownBackend(realtime=True), [sink], RATE, frames=int(1.5 * RATE), ring_s=0.25
    )
    threading.Timer(0.9, sink.gate.set).start()
    done = recorder.run()
    assert done.dropouts
    assert done.xruns >= len(done.dropouts)
    assert done.frames == sink.samples.size
    wanted = known(np.arange(done.frames), 0).astype(np.float32)
    lost = np.zeros(done.frames, bool)
    for one in done.dropouts:
        lost[one.frame : one.frame + one.frames] = True
    assert np.array_equal(sink.samples[~lost], wanted[~lost])
    assert not sink.samples[lost].any()


def test_clips_are_counted_with_their_times() -> None:
    class Loud(KnownBackend):
        def run(self) -> None:
            real = self.callback

            def louder(inputs, outputs, count, at, status):  # type: ignore[no-untyped-def]
                inputs = inputs * 0.1
                for frame in (1_000, 1_001, 30_000, 30_010, 60_000):
                    if at.frame <= frame < at.frame + count:
                        inputs[frame - at.frame, 1] = -1.0
                return real(inputs, outputs, count, at, status)

            self.callback = louder
            super().run()

    done = Recorder(Loud(), [Kept(), Kept()], RATE, frames=70_000).run()
    assert done.tracks[0].clips == ()
    assert done.tracks[1].clips == (1_000, 30_000, 60_000)
    assert done.tracks[1].clipped_samples == 5
    assert done.tracks[1].peak_dbfs == 0.0


def test_meters_show_the_newest_and_hold_the_loudest() -> None:
    seen = []
    recorder = Recorder(KnownBackend(realtime=True), [Kept()], RATE, frames=RATE)

    def watch() -> None:
        while recorder.captured_frames < RATE * 0.9:
            if recorder.meters is not None:
                seen.append(recorder.meters)
            time.sleep(0.01)

    watcher = threading.Thread(target=watch)
    watcher.start()
    done = recorder.run()
    watcher.join()
    assert len({one.frame for one in seen}) > 5
    held = [one.tracks[0].held_dbfs for one in seen]
    assert held == sorted(held)
    assert held[-1] <= done.tracks[0].peak_dbfs + 1e-9
    wanted = known(np.arange(RATE), 0)
    assert done.tracks[0].peak_dbfs == pytest.approx(gain_to_db(np.abs(wanted).max()), abs=1e-4)


def test_stop_and_marks() -> None:
    """At the frame that is captured when the key is pressed, not where the clock stands."""

    class Pressed(KnownBackend):
        def run(self) -> None:
            real = self.callback

            def pressing(inputs, outputs, count, at, status):  # type: ignore[no-untyped-def]
                go_on = real(inputs, outputs, count, at, status)
                if at.frame == 20 * count:
                    recorder.mark()
                if at.frame == 40 * count:
                    recorder.stop()
                return go_on

            self.callback = pressing
            super().run()

    block = 512
    recorder = Recorder(Pressed(), [Kept()], RATE, block_frames=block)
    done = recorder.run()
    (mark,) = done.marks
    assert mark == 21 * block
    assert 41 * block <= done.frames <= 42 * block


def test_a_full_disk_ends_it_cleanly_and_keeps_what_was_written(tmp_path: Path) -> None:
    class Full(WavWriter):
        def write(self, samples: np.ndarray) -> None:
            if self.frames > RATE:
                raise StorageError("The disk is full.", where="x", remedy="Free some space.")
            super().write(samples)

    sinks = [
        (Full if n == 1 else WavWriter)(tmp_path / f"{n}.wav", RATE, 1, "24", Bext())
        for n in range(3)
    ]
    done = Recorder(KnownBackend(), sinks, RATE, frames=10 * RATE).run()
    assert done.stopped_by is not None
    assert "disk is full" in str(done.stopped_by)
    assert RATE <= done.frames < 2 * RATE
    for channel in range(3):
        samples, _ = soundfile.read(str(tmp_path / f"{channel}.wav"))
        assert samples.size >= done.frames
        wanted = np.rint(known(np.arange(done.frames), channel) * 2**23) / 2**23
        assert np.array_equal(samples[: done.frames], wanted)


def test_a_recording_turns_into_rf64_where_it_must(tmp_path: Path) -> None:
    """With a small limit in place of 4 GiB; read back by another reader."""
    path = tmp_path / "long.wav"
    sink = WavWriter(path, RATE, 1, "24", Bext(), riff_limit=200_000)
    done = Recorder(KnownBackend(), [sink], RATE, frames=3 * RATE).run()
    assert path.read_bytes()[:4] == b"RF64"
    samples, _ = soundfile.read(str(path))
    assert samples.size == done.frames == 3 * RATE
    wanted = np.rint(known(np.arange(samples.size), 0) * 2**23) / 2**23
    assert np.array_equal(samples, wanted)


def test_a_real_limit_on_file_size_is_such_an_end(tmp_path: Path) -> None:
    """The system's own refusal (EFBIG), in a process of its own."""
    script = textwrap.dedent(f"""
        import resource, signal, sys
        sys.path[:0] = {sys.path!r}
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (400_000, 400_000))
        from pathlib import Path
        from known_source import KnownBackend
        from diaulos.storage.bwf import Bext, WavWriter
        from diaulos.work.capture.recorder import Recorder
        sinks = [WavWriter(Path({str(tmp_path)!r}) / f"{{n}}.wav", {RATE}, 1, "24", Bext())
                 for n in range(2)]
        done = Recorder(KnownBackend(), sinks, {RATE}, frames=20 * {RATE}).run()
        print(done.frames, done.stopped_by)
    """)
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, timeout=60, check=True
    )
    frames = int(done.stdout.split()[0])
    assert "may not grow" in done.stdout
    assert frames > 0
    for channel in range(2):
        samples, _ = soundfile.read(str(tmp_path / f"{channel}.wav"))
        both = min(frames, samples.size)
        assert both > 0.5 * frames
        wanted = np.rint(known(np.arange(both), channel) * 2**23) / 2**23
        assert np.array_equal(samples[:both], wanted)
    assert os.strerror(errno.EFBIG)


# --- takes ---


def session_of(name: str = "hybrid") -> Session:
    rig = build(name, "rig01")
    return Session(id="s", name="Test", sample_rate_hz=RATE, rigs=(rig,), current_rig="rig01")


@pytest.fixture
def folder(tmp_path: Path):  # type: ignore[no-untyped-def]
    made = SessionFolder.create(tmp_path / "S", session_of())
    yield made
    made.close()


def recorded(folder: SessionFolder, **values: object):  # type: ignore[no-untyped-def]
    values = {"seconds": 1.0, **values}
    request = RecordRequest(folder.load(), **values)  # type: ignore[arg-type]
    backend = wiring.rig_backend(paced=False, seed=4)
    return prepare(request, folder, backend, lambda: NOON).run()


def test_a_take_knows_what_it_was_made_with(folder: SessionFolder) -> None:
    session = folder.load()
    done = recorded(folder, bars=1, seconds=None)
    take = done.take
    assert [track.tap for track in take.tracks] == ["di", "amp", "cabinet"]
    assert {track.frames for track in take.tracks} == {round(2.0 * RATE)}  # 4/4 at 120
    after = done.edit(session)
    assert after.snapshots[take.rig_hash] == session.rig()
    assert take.tracks[0].full_scale_dbu is not None
    assert take.tracks[0].load_ohm == pytest.approx(1.0 / (1.0 / 10e6 + 1.0 / 470e3), rel=0.05)
    assert take.tracks[1].full_scale_dbu is None
    assert [track.input_number for track in take.tracks] == [1, 2, 3] or all(
        track.input_number for track in take.tracks
    )
    for track in take.tracks:
        samples, _ = soundfile.read(str(folder.path / track.file))
        assert samples.size == track.frames
        assert gain_to_db(np.abs(samples).max()) == pytest.approx(track.peak_dbfs, abs=0.001)
    with pytest.raises(EditError, match="already"):
        done.edit(after)


def test_the_plan_is_what_is_recorded(folder: SessionFolder) -> None:
    """The dry track's peak lies where the level plan puts it: played by its own strength."""
    done = recorded(folder, seconds=7.0)
    plan = recordable_tracks(look_at(folder.load()))[0].plan
    assert plan.peak_dbfs is not None
    assert done.take.tracks[0].peak_dbfs == pytest.approx(plan.peak_dbfs, abs=1.0)


def test_the_files_say_what_they_are(folder: SessionFolder) -> None:
    """bext by two other readers: wavinfo, and ffprobe where it is there."""
    take = recorded(folder, name="Verse").take
    path = str(folder.path / take.tracks[0].file)
    bext = wavinfo.WavInfoReader(path).bext
    assert bext is not None
    assert bext.description.startswith("Test; Verse; DI; di")
    seconds = NOON.hour * 3600 + NOON.minute * 60 + NOON.second
    assert bext.time_reference == seconds * RATE
    assert f"F={RATE}" in bext.coding_history
    assert "W=24" in bext.coding_history
    ffprobe = program("ffprobe")
    outside(bool(ffprobe), "ffprobe")
    shown = subprocess.run(
        [ffprobe, "-v", "error", "-show_entries", "format_tags", "-of", "json", path],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    tags = json.loads(shown.stdout)["format"]["tags"]
    assert tags["time_reference"] == str(seconds * RATE)
    assert "recorded; rig" in tags["coding_history"]


def test_the_count_in_is_heard_and_not_recorded(folder: SessionFolder) -> None:
    backend = KnownBackend()
    session = folder.load()
    request = RecordRequest(session, seconds=0.5, count_in_bars=1, tracks=())
    recording = prepare(request, folder, lambda *_: backend, lambda: NOON)
    assert recording.times.count_in == 2 * RATE
    done = recording.run()
    samples, _ = soundfile.read(str(folder.path / done.take.tracks[0].file))
    wanted = known(2 * RATE + np.arange(RATE // 2), 0)
    assert np.abs(samples - wanted).max() < 2.0**-22
    heard = np.concatenate(backend.outputs)[: 3 * RATE, 0]
    beats = [np.abs(heard[n * RATE // 2 : n * RATE // 2 + 1000]).max() for n in range(5)]
    assert min(beats[:4]) > 0.1
    assert beats[4] == 0.0  # the click ends with the count-in


def test_what_must_be_true_is_worked_out() -> None:
    session = session_of()
    lines = {one.id: one for one in checklist(session, "rig01", 10**12)}
    assert lines["armed"].holds
    assert lines["danger"].holds
    assert lines["di"].holds
    assert not lines["instrument"].holds  # a representative guitar is nobody's
    need = bytes_needed(session, 3, 10.0)
    assert need == 3 * 600 * RATE * 3
    full = {one.id: one for one in checklist(session, "rig01", need - 1)}
    assert not full["disk"].holds
    assert not full["disk"].must
    bad = session.rig().model_copy(
        update={"cables": tuple(c for c in session.rig().cables if str(c.source) != "amp.speaker")}
    )
    danger = {
        one.id: one
        for one in checklist(session.model_copy(update={"rigs": (bad,)}), "rig01", 10**12)
    }
    assert not danger["danger"].holds
    assert danger["danger"].must
    assert danger["danger"].remedy


def test_what_cannot_be_recorded_is_told_and_leaves_nothing(folder: SessionFolder) -> None:
    session = folder.load()
    for values, words in (
        ({"seconds": 1e9}, "no length"),
        ({"seconds": -1.0}, "no length"),
        ({"tracks": (PortRef(device="computer", port="track9"),)}, "No track is armed"),
    ):
        request = RecordRequest(session, **{"seconds": 1.0, **values})  # type: ignore[arg-type]
        with pytest.raises((InputError, EditError), match=words):
            prepare(request, folder, wiring.rig_backend(paced=False), lambda: NOON)
    assert list((folder.path / "audio").glob("*")) == []
    reamps = SessionFolder.create(folder.path.parent / "R", session_of("reamp-box"))
    with pytest.raises(EditError, match="Nothing is armed"):
        recorded(reamps)
    reamps.close()


def test_a_back_end_that_fails_leaves_no_empty_files(folder: SessionFolder) -> None:
    class Broken(KnownBackend):
        def run(self) -> None:
            raise InputError("the device went away.")

    request = RecordRequest(folder.load(), seconds=1.0)
    with pytest.raises(InputError, match="went away"):
        prepare(request, folder, lambda *_: Broken(), lambda: NOON).run()
    assert list((folder.path / "audio").glob("*")) == []


# --- recovery ---


def test_a_recording_that_was_cut_off_comes_back_as_the_take_it_was(
    folder: SessionFolder,
) -> None:
    session = folder.load()
    done = recorded(folder, seconds=2.0)  # never added: as if the process died here
    assert recoverable_takes(session, folder) == (done.take.id,)
    back = recover_take(session, folder, done.take.id)
    assert back.take.name == f"{done.take.name} (recovered)"
    assert [t.name for t in back.take.tracks] == [t.name for t in done.take.tracks]
    assert [t.tap for t in back.take.tracks] == [t.tap for t in done.take.tracks]
    assert back.take.tracks[0].full_scale_dbu == done.take.tracks[0].full_scale_dbu
    planned = [t.planned_dbfs for t in back.take.tracks]
    assert planned == [t.planned_dbfs for t in done.take.tracks]
    assert None not in planned
    assert back.take.tracks[0].difference_db == pytest.approx(done.take.tracks[0].difference_db)
    assert back.take.trim_state == done.take.trim_state
    after = back.edit(session)
    assert after.snapshots[back.take.rig_hash] == session.rig()
    assert recoverable_takes(after, folder) == ()
    folder.forget_recording(done.take.id)
    assert folder.recordings() == {}


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{}", '{"diaulos_recording": 1}', '{"diaulos_recording": 1, "take": "t0001"}',
     '{"diaulos_recording": 1, "take": "t0001", "rig": {}, "instruments": [], "tracks": {}}'],
)  # fmt: skip
def test_a_damaged_note_is_refused(folder: SessionFolder, text: str) -> None:
    folder.note_recording("t0001", text)
    with pytest.raises(InputError, match=r"damaged|holds audio|another take"):
        recover_take(folder.load(), folder, "t0001")


def test_a_note_cannot_lead_out_of_the_folder(folder: SessionFolder, tmp_path: Path) -> None:
    done = recorded(folder)
    soundfile.write(str(tmp_path / "secret.wav"), np.zeros(100), RATE)
    data = json.loads(folder.recordings()[done.take.id])
    data["tracks"][0]["file"] = "../secret.wav"
    folder.note_recording(done.take.id, json.dumps(data))
    back = recover_take(folder.load(), folder, done.take.id)
    assert all("secret" not in track.file for track in back.take.tracks)
    assert len(back.take.tracks) == len(done.take.tracks) - 1


# --- keeping ---


def with_take(folder: SessionFolder) -> Session:
    done = recorded(folder, seconds=5.0)
    return done.edit(folder.load())


def test_takes_are_named_rated_tagged_kept_cut_and_noted(folder: SessionFolder) -> None:
    session = with_take(folder)
    for edit in (
        take_edits.rename_take("t0001", "Second verse"), take_edits.rate_take("t0001", 4),
        take_edits.keep_take("t0001", True), take_edits.tag_take("t0001", ("loud", "loud", "late")),
        take_edits.note_take("t0001", "The string buzzed."), take_edits.cut_to_bars("t0001", 1, 1),
    ):  # fmt: skip
        session = edit(session)
    take = session.take("t0001")
    assert (take.name, take.rating, take.keeper, take.tags) == (
        "Second verse", 4, True, ("loud", "late"),
    )  # fmt: skip
    assert take.cut == (2 * RATE, 4 * RATE)
    assert take_edits.uncut("t0001")(session).take("t0001").cut is None
    with pytest.raises(EditError, match="It has 2 whole bars"):
        take_edits.cut_to_bars("t0001", 1, 2)(session)
    with pytest.raises(EditError, match="rating"):
        take_edits.rate_take("t0001", 9)(session)
    again = Session.model_validate(json.loads(session.model_dump_json()))
    assert again == session


def test_the_bin_keeps_files_until_it_is_emptied(folder: SessionFolder) -> None:
    session = with_take(folder)
    files = {track.file for track in session.take("t0001").tracks}
    gone = take_edits.discard_take("t0001")(session)
    assert gone.takes == ()
    assert files <= gone.used_files()
    assert take_edits.restore_take("t0001")(gone) == session
    empty = edits.empty_bin()(gone)
    assert not files & empty.used_files()
    with pytest.raises(EditError, match="no longer in the bin"):
        take_edits.restore_take("t0001")(empty)


def test_recall_puts_the_controls_back_and_lists_what_differs(folder: SessionFolder) -> None:
    session = with_take(folder)
    take = session.take("t0001")
    assert take_edits.differences_since(session, take) == ()
    turned = edits.set_device_setting("rig01", "interface", "gain1", 33.0)(session)
    (one,) = take_edits.differences_since(turned, take)
    assert (one.device, one.setting, one.then, one.now) == ("interface", "gain1", 6.0, 33.0)
    assert take_edits.recall("t0001")(turned) == session
    # A later edit does not change the past.
    assert turned.snapshots[take.rig_hash] == session.rig()
    with pytest.raises(EditError, match="does not know its rig"):
        take_edits.recall("t0001")(take_edits.change_take("t0001", "", rig_hash="")(session))


def test_an_instrument_is_kept_as_it_was(
    demo_copy: Path,
) -> None:
    folder = SessionFolder.open(demo_copy)
    session = edits.choose_rig("rig04")(folder.load())
    request = RecordRequest(session, seconds=0.5)
    done = prepare(request, folder, wiring.rig_backend(paced=False), lambda: NOON).run()
    session = done.edit(session)
    take = done.take
    (kept,) = take.instruments.values()
    one = session.instrument(take.instrument_id)
    assert content_hash(one) == kept
    assert session.instrument_snapshots[kept] == one
    changed = edits.change_instrument(one.id, "Trim", trim_db=3.0)(session)
    assert [d.setting for d in take_edits.differences_since(changed, take)] == ["trim_db"]
    assert take_edits.recall(take.id)(changed).instrument(one.id) == one
    assert rig_hash(session.rig("rig04")) == take.rig_hash
    folder.close()


# --- the noise check ---


def test_the_silence_of_the_bench_is_what_the_budget_says() -> None:
    """Hiss within 0.5 dB of what cannot be avoided; the amplifier's own hum is found."""
    attempt = check_noise(session_of(), wiring.rig_backend(paced=False, silent=True))
    assert [row.name for row in attempt.rows] == ["DI", "Amp", "Amp and cabinet"]
    for row in attempt.rows:
        assert row.noise.hiss_dbfs == pytest.approx(row.unavoidable_dbfs, abs=0.5)
        assert row.noise.quiet_s == pytest.approx(5.0, abs=0.2)
        assert row.floor_dbu is not None
        assert row.gate_dbfs is not None
        assert row.noise.floor_dbfs < row.gate_dbfs
    assert attempt.rows[0].noise.mains_hz is None
    assert attempt.rows[1].noise.mains_hz == pytest.approx(50.0, abs=0.02)


def humming() -> Session:
    """A valve head's send into an interface, both earthed: a ground loop in the cable."""
    patch = Patch("Loop")
    for type_id, ident in (
        ("guitar", "guitar"), ("valve_head", "amp"), ("reactive_load", "load"),
        ("interface4", "interface"), ("computer", "computer"),
    ):  # fmt: skip
        patch.add(type_id, ident)
    patch.devices["amp"] = patch.devices["amp"].with_setting("loop", "on")
    patch.join("guitar.out", "amp.in").join("amp.speaker", "load.speaker")
    patch.join("amp.send", "interface.in1", 8.0).record("interface.rec1", 1, "Send")
    rig = patch.rig("rig01")
    return Session(id="s", name="Hum", sample_rate_hz=RATE, rigs=(rig,), current_rig="rig01")


def test_a_ground_loop_is_named_and_an_isolator_helps() -> None:
    session = humming()
    source = wiring.rig_backend(paced=False, silent=True)
    first = check_noise(session, source)
    (row,) = first.rows
    assert row.noise.mains_hz == pytest.approx(50.0, abs=0.02)
    assert row.cause.startswith("Hum of a ground loop")
    assert "isolation transformer" in row.remedy
    assert "Never lift a safety earth" in row.remedy
    rig = session.rig()
    cable = next(c for c in rig.cables if str(c.source) == "amp.send")
    mended = session.model_copy(update={"rigs": (insert_isolator(rig, cable.id),)})
    second = check_noise(mended, source, "With an isolator")
    (change,) = changes_since(first, second).values()
    assert change.hum_db is not None
    assert change.hum_db < -6.0
    assert best_attempt((first, second)) is second


# --- the click, the shell ---


def test_the_click_does_not_depend_on_the_block() -> None:
    whole = click_block(0, 50_000, RATE, 12_345.6, 3)
    parts = [click_block(at, 777, RATE, 12_345.6, 3) for at in range(0, 50_505, 777)]
    assert np.allclose(np.concatenate(parts)[:50_000], whole)
    for beat in range(4):
        at = round(beat * 12_345.6)
        assert np.abs(whole[at : at + 200]).max() > 0.1
        assert np.abs(whole[max(0, at - 200) : at]).max(initial=0.0) < 1e-9
    spectrum = [np.argmax(np.abs(np.fft.rfft(whole[round(b * 12_345.6) :][:1440], 48_000)))
                for b in range(4)]  # fmt: skip
    assert spectrum[0] == pytest.approx(spectrum[3], abs=3)
    assert spectrum[0] > 1.4 * spectrum[1]


def test_record_by_shell(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    code, data = run_json(capsys, "record", demo_copy, "--rig", "rig04", "--bars", "1", "--fast")
    assert code == 0
    assert set(data) == documented("record")
    folder = SessionFolder.open(demo_copy)
    take = folder.load().take(data["take"])
    assert [t["name"] for t in data["tracks"]] == [t.name for t in take.tracks]
    assert data["frames"] == round(4 * 60.0 / 96.0 * RATE)  # the demo plays at 96
    assert folder.recordings() == {}
    folder.close()
    code, out, _ = run(
        capsys, "record", demo_copy, "--rig", "rig04", "--seconds", "0.5", "--name", "Loud one"
    )
    assert code == 0
    assert "Loud one: 3 tracks. Clipped: Amp and cabinet." in out
    code, _, err = run(capsys, "record", demo_copy)
    assert code == 1
    assert "Either --seconds or --bars" in err
    assert isinstance(NOON, datetime)


def test_only_what_is_armed_is_recorded(folder: SessionFolder) -> None:
    """A switch per track, kept with the session; none armed is refused, with the place."""
    session = folder.load()
    report = look_at(session)
    there = recordable_tracks(report)
    assert armed_tracks(session, report) == there
    off = edits.arm(report.rig.id, [one.port for one in there[1:]], False)(session)
    assert armed_tracks(off, report) == there[:1]
    backend = wiring.rig_backend(paced=False)
    take = prepare(RecordRequest(off, seconds=1.0), folder, backend, lambda: NOON).run().take
    assert [one.name for one in take.tracks] == [there[0].name]
    (line,) = [one for one in checklist(off, report.rig.id, 10**12) if one.id == "armed"]
    assert line.words == f"1 of {len(there)} tracks armed"
    none = edits.arm(report.rig.id, [there[0].port], False)(off)
    with pytest.raises(EditError, match="Nothing is armed"):
        prepare(RecordRequest(none, seconds=1.0), folder, backend, lambda: NOON)
    back = edits.arm(report.rig.id, [one.port for one in there], True)(none)
    assert back.disarmed == {}
