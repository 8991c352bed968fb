"""Recording over a kept take: in time with what was heard, the old material kept."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from known_source import KnownBackend, known
from test_cli import run, run_json

from diaulos import wiring
from diaulos.errors import DiaulosError, EditError, InputError, StorageError
from diaulos.rig.model import Rig
from diaulos.rig.templates import build
from diaulos.session import edits, take_edits
from diaulos.session.model import AlignmentRecord, Heard, Pass, Return, Session, Take, Track
from diaulos.storage.folder import SessionFolder
from diaulos.units import db_to_gain
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.trips import WayRound
from diaulos.work.listening.mixing import audible, channels_of, mix_rows, stereo_of
from diaulos.work.listening.player import Channel, pan_gains
from diaulos.work.ports import BlockStatus, BlockTime, FileNotes
from diaulos.work.rigs.look import look_at
from diaulos.work.sheets.tracking import take_lines
from diaulos.work.takes.over import (
    Monitor,
    Over,
    Timeline,
    over_bars,
    over_words,
    reference_of,
    round_of,
    timeline,
)
from diaulos.work.takes.punch import PunchSink
from diaulos.work.takes.ready import recordable_tracks, rig_to_record
from diaulos.work.takes.recording import RecordRequest, prepare
from diaulos.work.takes.recovery import recover_take, recoverable_takes
from support import NOON, RATE

BAR = 2 * RATE
"""4/4 at 120."""
QUANTUM = 2.0**-22


@pytest.fixture
def folder(tmp_path: Path) -> Iterator[SessionFolder]:
    rig = build("hybrid", "rig01")
    session = Session(id="s", name="Test", sample_rate_hz=RATE, rigs=(rig,), current_rig="rig01")
    made = SessionFolder.create(tmp_path / "S", session)
    yield made
    made.close()


def old_take(
    folder: SessionFolder, seconds: float = 8.0, taps: tuple[str, ...] = ("di", "amp", "cabinet")
) -> tuple[Session, Take, list[np.ndarray]]:
    """A stored take of noise, with the tracks that the rig arms."""
    session = folder.load()
    rng = np.random.default_rng(5)
    tracks, audio = [], []
    armed = {one.tap: one.name for one in recordable_tracks(look_at(session))}
    for number, tap in enumerate(taps, start=1):
        samples = np.rint(0.2 * rng.standard_normal(int(seconds * RATE)).clip(-3, 3) * 2**23)
        samples = (samples / 2**23).astype(np.float32)
        file = f"audio/t0001_k{number:02d}.wav"
        sink = folder.create_audio(file, RATE, 1, "24", FileNotes("", NOON))
        sink.write(samples)
        sink.close()
        name = armed.get(tap, "Room")
        tracks.append(
            Track(id=f"k{number:02d}", name=name, tap=tap, file=file, frames=samples.size,
                  peak_dbfs=-4.0, clips=(5, 3 * RATE))
        )  # fmt: skip
        audio.append(samples)
    take = Take(id="t0001", name="Take 1", recorded_at="2026-03-01T12:00:00", tracks=tuple(tracks),
                marks=(7,), tempo_bpm=120.0, metre="4/4", time_reference=1_000)  # fmt: skip
    session = edits.add_take(take)(session)
    folder.save(session)
    return session, take, audio


def read(folder: SessionFolder, track: Track) -> np.ndarray:
    return soundfile.read(str(folder.path / track.file), dtype="float32")[0]


class Loopback(KnownBackend):
    """What is put out comes back `delay` frames later, in every input."""

    def __init__(self, delay: int, side: int = 0) -> None:
        super().__init__()
        self.delay, self.side = delay, side

    def run(self) -> None:
        at, count = 0, self.spec.block_frames
        line = np.zeros(self.delay)
        while True:
            outputs = np.zeros((count, self.spec.output_channels))
            # The driver gives the inputs of a block before it has its outputs.
            inputs = np.repeat(line[:count, None], self.spec.input_channels, axis=1)
            go_on = self.callback(inputs, outputs, count, BlockTime(at), BlockStatus())
            line = np.concatenate([line[count:], outputs[:, self.side]])
            if not go_on:
                return
            at += count


def threads() -> list[str]:
    return [t.name for t in threading.enumerate() if t.name in ("backing reader", "take writer")]


# --- along, and round and round ---


def test_an_overdub_lands_in_time_with_what_was_heard(folder: SessionFolder) -> None:
    """What plays comes back by a loop of 1,234 frames: the round trip is taken out. The dry
    track is muted, the two others are heard together."""
    session, take, audio = old_take(folder)
    request = RecordRequest(
        session,
        seconds=3.0,
        way_round=WayRound("box", told_samples=1234.2),
        over=Over(take),
        count_in_bars=1,
    )
    done = prepare(request, folder, lambda *_: Loopback(1234), lambda: NOON).run()
    got = read(folder, done.take.tracks[0])
    wanted = np.clip(audio[1] + audio[2], -1.0, 1.0)[: got.size]
    assert got.size == 3 * RATE
    assert np.abs(got - wanted).max() < QUANTUM
    assert (done.take.over, done.take.over_frame) == ("t0001", 0)
    assert done.take.time_reference == 1_000
    assert threads() == []


def test_copies_of_a_take_join_on_whole_bars_and_ring_on(folder: SessionFolder) -> None:
    """Four bars and what rings on behind them, under a part of nine: it comes round every four
    bars, what rings on sounds into the next copy; and so it is heard afterwards."""
    session, take, audio = old_take(folder, 4 * BAR / RATE + 0.4)
    over = Over(take, copies=True)
    request = RecordRequest(
        session, bars=9, over=over, way_round=WayRound("box", told_samples=700.0)
    )
    done = prepare(request, folder, lambda *_: Loopback(700), lambda: NOON).run()
    assert round_of(session, over) == 4 * BAR
    assert (done.take.over, done.take.over_round) == ("t0001", 4 * BAR)
    heard = (audio[1] + audio[2]).astype(np.float64)
    wanted = np.zeros(9 * BAR + heard.size)
    for at in (0, 4 * BAR, 8 * BAR):
        wanted[at : at + heard.size] += heard
    wanted = np.clip(wanted[: 9 * BAR], -1.0, 1.0)
    got = read(folder, done.take.tracks[0])
    assert got.size == 9 * BAR
    assert np.abs(got - wanted).max() < 2.0 * QUANTUM
    after = done.edit(session)
    told = "Recorded over Take 1, which came round every 0:08.0"
    assert told in take_lines(after, done.take)
    gone = after.model_copy(update={"takes": (done.take,)})
    assert "a take that is gone" in over_words(gone, done.take)
    rows = [row for row in mix_rows(after, done.take) if row.key.startswith("audio/t0001")]
    channels = channels_of([row for row in rows if not row.muted], after, folder)
    for first, count in ((0, 9 * BAR), (4 * BAR - 100, 4_096), (8 * BAR + 7, 1)):
        again = stereo_of(channels)(first, count)[:, 0]
        ring = np.zeros(9 * BAR)
        for at in (0, 4 * BAR, 8 * BAR):
            size = min(heard.size, 9 * BAR - at)
            ring[at : at + size] += heard[:size]
        assert np.abs(again - ring[first : first + count]).max() < 1e-6
    assert take_edits.change_take("t0002", "", over_round=0)(after).take("t0002").over_round == 0


@pytest.mark.parametrize(("seconds", "bars"), [(0.3, 1), (7.9, 4), (8.0, 4), (8.9, 4), (9.1, 5)])
def test_the_join_is_at_the_nearest_bar(folder: SessionFolder, seconds: float, bars: int) -> None:
    session, take, _ = old_take(folder, seconds)
    assert round_of(session, Over(take, copies=True)) == bars * BAR
    assert round_of(session, Over(take)) == 0
    assert round_of(session, Over(take, "loop", 0, BAR, copies=True)) == 0


def test_a_take_under_a_take_that_comes_round_comes_round_with_it(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    second = take.model_copy(
        update={"id": "t0002", "name": "Double", "over": "t0001", "over_frame": BAR,
                "tracks": (take.tracks[1].model_copy(
                    update={"file": "audio/t0002_k01.wav", "frames": 2 * BAR}),)}
    )  # fmt: skip
    third = second.model_copy(
        update={"id": "t0003", "name": "Third", "over": "t0002", "over_frame": 0,
                "over_round": 2 * BAR,
                "tracks": (take.tracks[1].model_copy(update={"file": "audio/t0003_k01.wav"}),)}
    )  # fmt: skip
    session = edits.add_take(third)(edits.add_take(second)(session))
    row = next(row for row in mix_rows(session, third) if row.key == take.tracks[1].file)
    (channel,) = channels_of([row], session, folder)
    assert np.abs(channel.read(0, 100) - audio[1][BAR : BAR + 100]).max() < 1e-6
    assert np.abs(channel.read(2 * BAR, 100) - audio[1][BAR : BAR + 100]).max() < 1e-6


def test_a_looped_range_comes_round_and_every_round_is_a_take(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    over = Over(take, "loop", BAR, 2 * BAR)
    request = RecordRequest(
        session, seconds=5.0, over=over, way_round=WayRound("box", told_samples=600.0)
    )
    done = prepare(request, folder, lambda *_: Loopback(600), lambda: NOON).run()
    assert [one.name for one in done.takes] == [f"Take 2, round {n}" for n in (1, 2, 3)]
    assert [one.tracks[0].frames for one in done.takes] == [BAR, BAR, RATE]
    assert done.take is done.takes[1]  # the last one that is whole
    wanted = np.clip(audio[1] + audio[2], -1.0, 1.0)[BAR : 2 * BAR]
    for one in done.takes:
        for track in one.tracks:
            got = read(folder, track)
            assert got.size == track.frames
            assert np.abs(got - wanted[: got.size]).max() < QUANTUM
        assert (one.over, one.over_frame, one.time_reference) == ("t0001", BAR, 1_000 + BAR)
    after = done.edit(session)
    assert [one.id for one in after.takes] == ["t0001", "t0002", "t0003", "t0004"]
    assert done.edit.label == "Record 3 rounds"


@pytest.mark.parametrize("block", [64, 512, 1000])
def test_no_sample_is_lost_between_two_rounds(folder: SessionFolder, block: int) -> None:
    request = RecordRequest(folder.load(), seconds=5.5, loop_bars=1, block_frames=block)
    done = prepare(request, folder, lambda *_: KnownBackend(), lambda: NOON).run()
    assert [one.tracks[0].frames for one in done.takes] == [BAR, BAR, RATE + RATE // 2]
    for channel in range(3):
        joined = np.concatenate([read(folder, one.tracks[channel]) for one in done.takes])
        assert np.abs(joined - known(np.arange(joined.size), channel)).max() < QUANTUM
    lines = [one.time_reference for one in done.takes]
    assert np.diff(lines).tolist() == [BAR, BAR]


def test_clips_marks_and_gaps_go_to_their_round(folder: SessionFolder) -> None:
    class Clips(KnownBackend):
        def run(self) -> None:
            inner = self.callback

            def callback(inputs, outputs, count, at, status):  # type: ignore[no-untyped-def]
                place = BAR + 777 - at.frame
                if 0 <= place < count:
                    inputs[place, 1] = 1.0
                    recording.recorder.mark()
                return inner(inputs, outputs, count, at, status)

            self.callback = callback
            super().run()

    request = RecordRequest(folder.load(), bars=2, loop_bars=1)
    recording = prepare(request, folder, lambda *_: Clips(), lambda: NOON)
    first, second = recording.run().takes
    assert [len(track.clips) for track in first.tracks] == [0, 0, 0]
    assert [track.clips for track in second.tracks] == [(), (777,), ()]
    assert second.tracks[1].clipped_samples == 1
    assert first.marks == ()
    assert len(second.marks) == 1
    assert 0 <= second.marks[0] <= 777


def test_a_round_that_was_cut_off_comes_back_too(folder: SessionFolder) -> None:
    request = RecordRequest(folder.load(), seconds=3.0, loop_bars=1)
    done = prepare(request, folder, lambda *_: KnownBackend(), lambda: NOON).run()
    session = folder.load()  # nobody saved the takes
    assert recoverable_takes(session, folder) == ("t0001", "t0002")
    for ident, one in zip(("t0001", "t0002"), done.takes, strict=True):
        back = recover_take(session, folder, ident).take
        assert back.name == f"{one.name} (recovered)"
        assert [t.frames for t in back.tracks] == [t.frames for t in one.tracks]
        assert back.time_reference == one.time_reference


@pytest.mark.parametrize(
    ("over", "words"),
    [
        (("loop", 0, BAR + 4_000), "1.04 bars cannot come round"),
        (("loop", 0, 100), "0.00 bars cannot come round"),
        (("loop", 0, None), "No range is marked"),
        (("punch", 5, None), "No range is marked"),
        (("punch", BAR, BAR), "not all in it"),
        (("punch", BAR, 9 * RATE), "Frames 96000 to 432000 are not all in it"),
        (("punch", BAR, 5 * BAR), "Bars 2 to 5 are not all in it: it has 4"),
        (("along", 9 * RATE, None), "not all in it"),
    ],
)
def test_a_stretch_that_cannot_be_is_refused(folder: SessionFolder, over, words: str) -> None:  # type: ignore[no-untyped-def]
    session, take, _ = old_take(folder)
    request = RecordRequest(session, seconds=1.0, over=Over(take, *over))
    with pytest.raises(InputError, match=words):
        prepare(request, folder, lambda *_: KnownBackend(), lambda: NOON)
    assert folder.recordings() == {}
    assert not folder.has_file("audio/t0002_k01.wav")


# --- punch-in ---


def test_a_punch_replaces_the_stretch_and_nothing_else(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    before = [(folder.path / track.file).read_bytes() for track in take.tracks]
    over = Over(take, "punch", BAR, 2 * BAR, pre_roll_bars=1)
    backend = KnownBackend()
    recording = prepare(
        RecordRequest(session, over=over, count_in_bars=1), folder, lambda *_: backend, lambda: NOON
    )
    assert recording.frames == BAR
    done = recording.run()
    new, fade = done.take, round(0.005 * RATE)
    assert new.punched == (BAR, 2 * BAR)
    assert (new.over, new.over_frame) == ("t0001", 0)
    assert [t.frames for t in new.tracks] == [8 * RATE] * 3
    for channel, (track, old) in enumerate(zip(new.tracks, audio, strict=True)):
        got = read(folder, track)
        assert np.array_equal(got[:BAR], old[:BAR])
        assert np.array_equal(got[2 * BAR :], old[2 * BAR :])
        # Count-in and pre-roll of a bar each lie ahead of the stretch.
        inside = known(2 * BAR + np.arange(BAR), channel)
        middle = slice(fade, BAR - fade)
        assert np.abs(got[BAR : 2 * BAR][middle] - inside[middle]).max() < QUANTUM
        # The crossfades lie between both, without a step.
        for edge in (slice(0, fade), slice(BAR - fade, BAR)):
            low = np.minimum(inside[edge], old[BAR : 2 * BAR][edge]) - QUANTUM
            high = np.maximum(inside[edge], old[BAR : 2 * BAR][edge]) + QUANTUM
            part = got[BAR : 2 * BAR][edge]
            assert (part >= low).all()
            assert (part <= high).all()
        assert track.clips == (5,)
    assert new.marks == (7,)
    assert [(folder.path / t.file).read_bytes() for t in take.tracks] == before
    # What is replaced is heard up to the stretch and not in it; the dry track not at all.
    heard = np.concatenate(backend.outputs)[BAR : 3 * BAR, 0]
    wanted = audio[1] + audio[2]
    assert np.abs(heard[:BAR] - wanted[:BAR]).max() < 1e-6
    assert np.abs(heard[BAR:]).max() == 0.0


def test_a_punch_that_is_stopped_early_goes_back_to_the_old_take(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    over = Over(take, "punch", BAR, 3 * BAR)
    recording = prepare(
        RecordRequest(session, over=over), folder, lambda *_: KnownBackend(seconds=1.0),
        lambda: NOON,
    )  # fmt: skip
    new = recording.run().take
    assert new.punched is not None
    first, end = new.punched
    assert first == BAR
    assert RATE <= end - first < RATE + 2_000
    got = read(folder, new.tracks[0])
    assert got.size == 8 * RATE
    assert np.array_equal(got[end:], audio[0][end:])


def test_tracks_that_are_not_armed_are_shared(folder: SessionFolder) -> None:
    """A room track that only the old take has stays in the new one, and in the bin's count."""
    session, take, _ = old_take(folder, taps=("di", "amp", "mic"))
    over = Over(take, "punch", 0, BAR)
    done = prepare(
        RecordRequest(session, over=over), folder, lambda *_: KnownBackend(), lambda: NOON
    ).run()
    new = done.take
    assert [t.tap for t in new.tracks] == ["di", "amp", "cabinet", "mic"]
    assert new.tracks[3].file == take.tracks[2].file
    assert len({t.id for t in new.tracks}) == 4
    # A track that the old take did not have: silence lies around the stretch.
    cabinet = read(folder, new.tracks[2])
    assert cabinet.size == 8 * RATE
    assert not cabinet[BAR:].any()
    after = take_edits.discard_take("t0001")(done.edit(session))
    assert after.binned_files() == {t.file for t in take.tracks[:2]}
    again = take_edits.discard_take(new.id)(after)
    assert take.tracks[2].file in again.binned_files()


def test_a_punch_goes_back_only_as_far_as_the_take(folder: SessionFolder) -> None:
    session, take, _ = old_take(folder)
    times = timeline(session, Over(take, "punch", RATE, BAR, pre_roll_bars=2), 0)
    assert (times.pre_roll, times.heard_from, times.lead) == (RATE, 0, RATE)
    times = timeline(session, Over(take, "punch", 3 * BAR, 4 * BAR, pre_roll_bars=2), 1)
    assert (times.count_in, times.pre_roll, times.heard_from) == (BAR, 2 * BAR, BAR)


def test_a_punch_on_a_full_disk_keeps_what_was_written(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    over = Over(take, "punch", BAR, 2 * BAR)

    class Full:
        """The disk is full half a second into the stretch."""

        def __init__(self, inner) -> None:  # type: ignore[no-untyped-def]
            self.inner = inner

        def __getattr__(self, name: str):  # type: ignore[no-untyped-def]
            return getattr(self.inner, name)

        def write(self, samples: np.ndarray) -> None:
            if self.inner.frames > BAR + RATE // 2:
                raise StorageError("the disk is full.", where="here")
            self.inner.write(samples)

        def close(self) -> None:
            self.inner.close()

    real = folder.create_audio
    folder.create_audio = lambda *args: Full(real(*args))  # type: ignore[method-assign]
    recording = prepare(
        RecordRequest(session, over=over), folder, lambda *_: KnownBackend(), lambda: NOON
    )
    with pytest.raises(DiaulosError, match="disk is full"):
        raise recording.run().result.stopped_by or AssertionError("it did not stop")
    back = recover_take(session, folder, "t0002").take
    got = read(folder, back.tracks[0])
    assert np.array_equal(got[:BAR], audio[0][:BAR])
    assert got.size >= BAR + RATE // 2


@pytest.mark.parametrize("pieces", [(1,), (3, 5, 11), (50,), (1000,)])
def test_the_crossfade_does_not_depend_on_the_blocks(pieces: tuple[int, ...]) -> None:
    rng = np.random.default_rng(1)
    new = rng.standard_normal(100).astype(np.float32)

    class Kept:
        clipped_samples = 0

        def __init__(self) -> None:
            self.parts: list[np.ndarray] = []

        def write(self, samples: np.ndarray) -> None:
            self.parts.append(np.array(samples))

        def close(self) -> None:
            pass

    def through(sizes: tuple[int, ...]) -> np.ndarray:
        kept = Kept()
        sink = PunchSink(kept, None, 20, 150, 16)  # type: ignore[arg-type]
        sink.begin()
        at, turn = 0, 0
        while at < new.size:
            count = sizes[turn % len(sizes)]
            sink.write(new[at : at + count])
            at, turn = at + count, turn + 1
        sink.close()
        return np.concatenate(kept.parts)

    got = through(pieces)
    assert got.size == 150
    assert np.array_equal(got, through((7,)))
    assert np.array_equal(got[36:104], new[16:84])
    assert not got[:20].any()
    assert not got[120:].any()


# --- what plays meanwhile ---


def test_the_backing_is_the_same_at_any_block_size() -> None:
    def ramp(first: int, count: int) -> np.ndarray:
        return np.repeat(np.arange(first, first + count, dtype=np.float32)[:, None], 2, axis=1)

    for block in (64, 1000, 4096, 10_000):
        times = Timeline(0, 0, 1_000.0, 4, 500)
        monitor = Monitor(times, RATE, False, 0.0, ramp, (1_000, 6_000))
        backing = Ahead(monitor, 2, RATE)
        backing.start()
        out = np.zeros((20_000, 2), np.float32)
        for at in range(0, 20_000, block):
            backing.fill(at, out[at : at + block], wait=True)
        backing.close()
        places = 500 + np.arange(20_000)
        wanted = np.where(places < 6_000, places, 1_000 + (places - 1_000) % 5_000)
        assert np.array_equal(out[:, 0], wanted)
        assert backing.late_frames == 0


def test_what_comes_late_is_silent_counted_and_stays_in_time() -> None:
    gate = threading.Event()

    def slow() -> Iterator[np.ndarray]:
        for first in range(0, 16_384, 4_096):
            if first >= 4_096:
                gate.wait(20.0)
            yield np.repeat(np.arange(first, first + 4_096, dtype=np.float32)[:, None], 2, axis=1)

    backing = Ahead(slow(), 2, RATE)
    backing.start()
    out = np.zeros((8_192, 2), np.float32)
    backing.fill(0, out[:4_096], wait=False)
    backing.fill(4_096, out[4_096:5_096], wait=False)
    assert backing.late_frames == 1_000
    gate.set()
    backing.fill(5_096, out[5_096:], wait=True)
    backing.close()
    assert not out[4_096:5_096].any()
    assert np.array_equal(out[5_096:, 1], np.arange(5_096, 8_192))


def test_a_backing_that_cannot_be_read_is_told_and_the_take_is_kept(
    folder: SessionFolder,
) -> None:
    session, take, _ = old_take(folder)
    recording = prepare(
        RecordRequest(session, seconds=1.0, over=Over(take)), folder,
        lambda *_: KnownBackend(), lambda: NOON,
    )  # fmt: skip
    for track in take.tracks:
        (folder.path / track.file).write_bytes(b"gone")
    done = recording.run()
    assert done.take.tracks[0].frames == RATE
    assert "was not all heard" in done.words
    assert threads() == []


def test_the_click_lies_on_the_old_takes_bars(folder: SessionFolder) -> None:
    session, take, _ = old_take(folder)
    quiet = edits.change_rigs("", lambda rig: rig)(session)
    for track in take.tracks:
        quiet = take_edits.set_heard(track.file, Heard(muted=True))(quiet)
    half = BAR // 2
    over = Over(quiet.take("t0001"), "punch", BAR + half, 2 * BAR, pre_roll_bars=1)
    backend = KnownBackend()
    prepare(
        RecordRequest(quiet, over=over, click=True, click_db=-6.0), folder,
        lambda *_: backend, lambda: NOON,
    ).run()  # fmt: skip
    heard = np.concatenate(backend.outputs)[:, 0]
    # Heard from the middle of bar 1: its third beat comes first, then bar 2.
    spectrum = np.abs(np.fft.rfft(heard[half : half + 1440]))
    assert np.argmax(spectrum) * RATE / 1440 == pytest.approx(1_568.0, abs=20.0)
    spectrum = np.abs(np.fft.rfft(heard[:1440]))
    assert np.argmax(spectrum) * RATE / 1440 == pytest.approx(1_046.5, abs=20.0)
    assert np.abs(heard).max() == pytest.approx(0.25 * db_to_gain(-6.0), rel=0.1)


# --- the monitor mix ---


def test_dry_tracks_are_muted_until_somebody_asks(folder: SessionFolder) -> None:
    session, take, audio = old_take(folder)
    rows = mix_rows(session, take)
    assert [row.muted for row in rows] == [True, False, False]
    assert audible(rows) == {take.tracks[1].file, take.tracks[2].file}
    di = take.tracks[0].file
    assert audible(rows, frozenset({di})) == {di}
    assert audible(rows, frozenset({"audio/other.wav"})) == audible(rows)
    heard = Heard(muted=False, level_db=-6.0, pan=-1.0)
    asked = take_edits.set_heard(di, heard)(session)
    rows = mix_rows(asked, take)
    assert di in audible(rows)
    mixed = stereo_of(channels_of(rows[:1], session, folder))(100, 50)
    assert mixed[:, 0] == pytest.approx(audio[0][100:150] * 10 ** (-0.3) * np.sqrt(2), abs=1e-6)
    assert mixed[:, 1] == pytest.approx(np.zeros(50), abs=1e-9)
    assert take_edits.set_heard(di, Heard())(asked) == session
    assert Session.model_validate(json.loads(asked.model_dump_json())) == asked
    alone = take.model_copy(update={"tracks": take.tracks[:1]})
    assert not mix_rows(session, alone)[0].muted


def test_passes_are_heard_in_time_and_matched(folder: SessionFolder) -> None:
    """A pass that came back 100 frames late, upside down: the mix takes both out."""
    session, _, audio = old_take(folder)
    late = np.concatenate([np.zeros(100, np.float32), -0.5 * audio[0]])
    sink = folder.create_audio("audio/t0001_p01_k01.wav", RATE, 1, "float", FileNotes("", NOON))
    sink.write(late)
    sink.close()
    made = Pass(
        id="p01", name="Warm", track_id="k01", rig_hash="", rig_name="",
        made_at="2026-03-01T12:00:00", send_gain_db=0.0, amp_peak_dbu=0.0,
        returns=(Return(
            name="Return", file="audio/t0001_p01_k01.wav", frames=late.size, return_gain_db=0.0,
            peak_dbfs=-6.0, true_peak_dbtp=-6.0, loudness_lufs=None, match=None,
            alignment=AlignmentRecord(delay_samples=100.0, delay_error_samples=0.01, polarity=-1,
                                      confidence=1.0),
        ),),
    )  # fmt: skip
    session = take_edits.change_take("t0001", "", passes=(made,))(session)
    rows = mix_rows(session, session.take("t0001"))
    assert [row.muted for row in rows] == [True, False, False, False]  # an only pass is heard
    mixed = stereo_of(channels_of(rows[3:], session, folder))(1_000, 500)
    assert np.abs(mixed[:, 0] - 0.5 * audio[0][1_000:1_500]).max() < 1e-5
    two = (made, made.model_copy(update={"id": "p02", "returns": (
        made.main.model_copy(update={"file": "audio/t0001_p02_k01.wav"}),
    )}))  # fmt: skip
    both = take_edits.change_take("t0001", "", passes=two)(session)
    assert [row.muted for row in mix_rows(both, both.take("t0001"))[3:]] == [True, True]


def test_a_doubled_part_is_heard_with_the_first(folder: SessionFolder) -> None:
    """A take over the old one from bar 2 on, and one over that: all are heard, in time."""
    session, take, audio = old_take(folder)
    double = take.model_copy(
        update={"id": "t0002", "name": "Double", "over": "t0001", "over_frame": BAR,
                "tracks": (take.tracks[1].model_copy(update={"file": "audio/t0002_k01.wav"}),)}
    )  # fmt: skip
    third = double.model_copy(
        update={"id": "t0003", "name": "Third", "over": "t0002", "over_frame": 1_000,
                "tracks": (take.tracks[1].model_copy(update={"file": "audio/t0003_k01.wav"}),)}
    )  # fmt: skip
    session = edits.add_take(third)(edits.add_take(double)(session))
    rows = mix_rows(session, third)
    assert [(row.key[6:11], sum(one.offset for one in row.places)) for row in rows] == [
        ("t0003", 0), ("t0002", 1_000), *[("t0001", BAR + 1_000)] * 3,
    ]  # fmt: skip
    assert rows[3].name == f"{take.tracks[1].name}, Take 1"
    assert [row.muted for row in rows] == [False, False, True, False, False]
    mixed = stereo_of(channels_of(rows[3:4], session, folder))(500, 100)
    assert np.abs(mixed[:, 0] - audio[1][BAR + 1_500 : BAR + 1_600]).max() < 1e-6
    # A punched take holds the old one; a take whose base is gone, or itself, stands alone.
    for values in ({"punched": (0, BAR)}, {"over": "t0009"}, {"over": "t0002"}):
        other = double.model_copy(update=values)
        assert len(mix_rows(session, other)) == 1


def test_the_bin_takes_its_mix_with_it(folder: SessionFolder) -> None:
    session, take, _ = old_take(folder)
    session = take_edits.set_heard(take.tracks[0].file, Heard(pan=0.5))(session)
    gone = take_edits.discard_take("t0001")(session)
    assert gone.mix
    assert edits.empty_bin()(gone).mix == {}


def test_pan_keeps_the_power_and_the_middle() -> None:
    for pan in np.linspace(-1.0, 1.0, 9):
        left, right = pan_gains(float(pan))
        assert left**2 + right**2 == pytest.approx(2.0)
    assert pan_gains(0.0) == pytest.approx((1.0, 1.0))
    assert pan_gains(-1.0) == pytest.approx((np.sqrt(2.0), 0.0), abs=1e-12)
    assert pan_gains(3.0) == pan_gains(1.0)


def test_a_replaced_stretch_is_not_heard() -> None:
    channel = Channel("a", lambda first, count: np.ones(count))
    mixed = stereo_of((channel,), -20.0, {"a": (10, 20)})(5, 20)[:, 0]
    assert np.allclose(mixed, 0.1 * np.r_[np.ones(5), np.zeros(10), np.ones(5)])


# --- words and places ---


def test_a_line_for_files_of_one_day(folder: SessionFolder) -> None:
    _, take, _ = old_take(folder)
    assert reference_of(take, RATE) == 1_000
    older = take.model_copy(update={"time_reference": 0})
    assert reference_of(older, RATE) == 12 * 3600 * RATE
    assert reference_of(older.model_copy(update={"recorded_at": "?"}), RATE) == 0


def test_bars_in_words(folder: SessionFolder) -> None:
    session, take, _ = old_take(folder)
    assert over_bars(session, "t0001", "", False, 1) == Over(take)
    assert over_bars(session, "t0001", "", False, 1, True) == Over(take, copies=True)
    assert over_bars(session, "Take 1", "2-3", True, 2) == Over(take, "punch", BAR, 3 * BAR, 2)
    for bars in ("3", "x-2", "4-2", "0-2", "-1-2"):
        with pytest.raises(InputError, match="are no bars"):
            over_bars(session, "t0001", bars, False, 1)
    with pytest.raises(EditError, match="no take"):
        over_bars(session, "t0009", "", False, 1)


def test_the_rig_that_can_be_recorded_is_taken(folder: SessionFolder) -> None:
    session = folder.load()
    empty = Rig(id="empty", name="Empty", devices=(), cables=())
    both = edits.choose_rig("empty")(edits.add_rig(empty)(session))
    assert rig_to_record(both) == "rig01"
    assert rig_to_record(both, "Empty") == "empty"
    assert rig_to_record(session) == "rig01"
    none = session.model_copy(update={"rigs": (empty,), "current_rig": "empty"})
    assert rig_to_record(none) == "empty"


def test_by_shell(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    path = str(demo_copy)
    _, base = run_json(capsys, "record", path, "--bars", "4", "--fast")
    assert (base["over"], base["rounds"]) == (None, [base["take"]])
    _, rounds = run_json(
        capsys, "record", path, "--bars", "3", "--over", base["take"], "--range", "2-2", "--fast",
    )  # fmt: skip
    assert len(rounds["rounds"]) == 3
    assert rounds["over"] == base["take"]
    _, looped = run_json(capsys, "record", path, "--bars", "2", "--loop", "1", "--fast")
    assert len(looped["rounds"]) == 2
    _, punched = run_json(
        capsys, "record", path, "--over", base["take"], "--range", "2-3", "--punch", "--fast",
    )  # fmt: skip
    assert punched["frames"] == base["frames"]
    bar = base["frames"] / 4
    assert punched["punched"] == [round(bar), round(3 * bar)]
    session = SessionFolder.open(demo_copy, read_only=True).load()
    assert session.take(punched["take"]).over == base["take"]
    for words, told in (
        (("--punch", "--bars", "1"), "as long as its range"),
        (("--range", "1-2", "--bars", "1"), "belongs to a take"),
        (("--punch", "--over", base["take"]), "needs a range"),
        ((), "give a length"),
    ):
        code, _, error = run(capsys, "record", path, *words)
        assert code == 1
        assert told in error


def test_the_bench_records_over_a_take_it_recorded(folder: SessionFolder) -> None:
    """Through the real back end: an overdub of the same players is the same performance."""
    session = folder.load()
    backend = wiring.rig_backend(paced=False, seed=4)
    first = prepare(RecordRequest(session, seconds=2.0), folder, backend, lambda: NOON).run()
    session = first.edit(session)
    request = RecordRequest(session, seconds=2.0, over=Over(first.take))
    second = prepare(request, folder, backend, lambda: NOON).run()
    one, other = (read(folder, done.take.tracks[0]) for done in (first, second))
    assert np.corrcoef(one, other)[0, 1] > 0.999
