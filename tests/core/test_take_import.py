"""Files from elsewhere as one take."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos import wiring
from diaulos.errors import AudioFileError, CancelledError, InputError
from diaulos.session.model import Session
from diaulos.storage.bwf import Bext, WavWriter
from diaulos.storage.folder import SessionFolder
from diaulos.work.ports import CancelToken
from diaulos.work.takes.importing import ImportRequest, import_di
from diaulos.work.takes.take_import import (
    TakeImportRequest,
    WantedTrack,
    guess_tap,
    import_take,
    wanted_tracks,
)
from support import NOON, RATE


@pytest.fixture
def folder(tmp_path: Path):  # type: ignore[no-untyped-def]
    made = SessionFolder.create(tmp_path / "S", Session(id="s", name="S", sample_rate_hz=RATE))
    yield made
    made.close()


def taken(folder: SessionFolder, *tracks: WantedTrack, **values: object):  # type: ignore[no-untyped-def]
    return import_take(
        TakeImportRequest("Verse", tracks), folder.load(), store=folder,
        files=wiring.ExternalAudio(), resample=wiring.resampled, clock=lambda: NOON, **values,
    )  # type: ignore[arg-type]  # fmt: skip


def noise(seconds: float, seed: int = 1, rate: int = RATE) -> np.ndarray:
    return 0.2 * np.random.default_rng(seed).standard_normal(int(seconds * rate))


def bwf(path: Path, samples: np.ndarray, reference: int, rate: int = RATE) -> Path:
    writer = WavWriter(path, rate, 1, "float", Bext(time_reference=reference))
    writer.write(samples)
    writer.close()
    return path


def read(folder: SessionFolder, file: str) -> np.ndarray:
    return soundfile.read(str(folder.path / file), dtype="float32")[0]


def test_channels_of_several_files_become_tracks(folder: SessionFolder, tmp_path: Path) -> None:
    both = np.stack([noise(1.0, 1), noise(1.0, 2)], axis=1)
    soundfile.write(str(tmp_path / "amp.wav"), both, RATE, subtype="FLOAT")
    soundfile.write(str(tmp_path / "di.flac"), noise(0.5, 3), RATE, subtype="PCM_24")
    told: list[float] = []
    outcome = taken(
        folder, WantedTrack(tmp_path / "amp.wav", "Amp", "amp", 2),
        WantedTrack(tmp_path / "di.flac", "DI", "di"),
        progress=lambda share, words: told.append(share),
    )  # fmt: skip
    take = outcome.take
    assert [(t.name, t.tap, t.frames) for t in take.tracks] == [
        ("Amp", "amp", RATE), ("DI", "di", RATE // 2),
    ]  # fmt: skip
    assert np.array_equal(read(folder, take.tracks[0].file), both[:, 1].astype(np.float32))
    assert told[-1] == pytest.approx(1.0)
    assert outcome.note == ""
    session = outcome.edit(folder.load())
    assert session.take("Verse") == take
    assert take.rig_hash == ""


def test_broadcast_waves_are_lined_up(folder: SessionFolder, tmp_path: Path) -> None:
    """The second began 0.25 s later: silence stands ahead of it."""
    start = 3_600 * RATE
    one = bwf(tmp_path / "one.wav", noise(1.0, 1), start)
    two = bwf(tmp_path / "two.wav", noise(1.0, 2), start + RATE // 4)
    outcome = taken(folder, WantedTrack(one, "One", "di"), WantedTrack(two, "Two", "mic"))
    first, second = outcome.take.tracks
    assert (first.frames, second.frames) == (RATE, RATE + RATE // 4)
    got = read(folder, second.file)
    assert not got[: RATE // 4].any()
    assert np.array_equal(got[RATE // 4 :], noise(1.0, 2).astype(np.float32))
    assert outcome.take.time_reference == start
    assert "Lined up by their time references" in outcome.note


def test_days_apart_or_unknown_begin_together(folder: SessionFolder, tmp_path: Path) -> None:
    one = bwf(tmp_path / "one.wav", noise(0.2, 1), 0)
    two = bwf(tmp_path / "two.wav", noise(0.2, 2), 7_200 * RATE)
    outcome = taken(folder, WantedTrack(one, "One", "di"), WantedTrack(two, "Two", "di"))
    assert {t.frames for t in outcome.take.tracks} == {RATE // 5}
    assert outcome.note == ""
    soundfile.write(str(tmp_path / "plain.wav"), noise(0.2), RATE)
    outcome = taken(
        folder, WantedTrack(two, "Two", "di"), WantedTrack(tmp_path / "plain.wav", "P", "di")
    )
    assert {t.frames for t in outcome.take.tracks} == {RATE // 5}


def test_other_rates_are_resampled_and_lined_up(folder: SessionFolder, tmp_path: Path) -> None:
    one = bwf(tmp_path / "one.wav", noise(1.0, 1), 96_000 * 10, 96_000)
    two = bwf(tmp_path / "two.wav", noise(1.0, 2), RATE * 10 + 480)
    outcome = taken(folder, WantedTrack(one, "One", "di"), WantedTrack(two, "Two", "di"))
    assert outcome.take.tracks[1].frames == RATE + 480
    assert abs(outcome.take.tracks[0].frames - RATE // 2) <= 1
    assert "Resampled from 96000 to 48000 Hz" in outcome.note


def test_floats_beyond_full_scale_are_kept(folder: SessionFolder, tmp_path: Path) -> None:
    loud = np.array([0.0, 1.5, -2.0, 0.5] * 5_000)
    path = tmp_path / "loud.wav"
    soundfile.write(str(path), loud, RATE, subtype="FLOAT")
    outcome = taken(folder, WantedTrack(path, "Loud", "di"))
    assert np.array_equal(read(folder, outcome.take.tracks[0].file), loud.astype(np.float32))
    assert "it clipped: Loud" in outcome.note
    # An imported DI keeps them too.
    single = import_di(
        ImportRequest(path, "DI"), folder.load(), store=folder, files=wiring.ExternalAudio(),
        resample=wiring.resampled, clock=lambda: NOON,
    )  # fmt: skip
    assert np.abs(read(folder, single.take.tracks[0].file)).max() == 2.0


def test_what_cannot_be_imported_leaves_nothing(folder: SessionFolder, tmp_path: Path) -> None:
    good = tmp_path / "good.wav"
    soundfile.write(str(good), noise(0.5), RATE)
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"no audio")
    low = tmp_path / "low.wav"
    soundfile.write(str(low), noise(0.5, rate=8_000), 8_000)
    nan = tmp_path / "nan.wav"
    soundfile.write(str(nan), np.array([0.1, np.nan, 0.2] * 9_000), RATE, subtype="FLOAT")
    for path, channel, error, words in (
        (bad, 1, AudioFileError, "not audio"), (low, 1, InputError, "8000 Hz"),
        (good, 2, AudioFileError, "no channel 2"), (nan, 1, Exception, "not a number"),
    ):  # fmt: skip
        with pytest.raises(error, match=words):
            taken(folder, WantedTrack(good, "G", "di"), WantedTrack(path, "X", "di", channel))
        assert list((folder.path / "audio").iterdir()) == []
    token = CancelToken()
    token.cancel()
    with pytest.raises(CancelledError):
        taken(folder, WantedTrack(good, "G", "di"), cancel=token)
    with pytest.raises(InputError, match="1 to 64 tracks"):
        taken(folder)
    assert list((folder.path / "audio").iterdir()) == []


@pytest.mark.parametrize(
    ("name", "tap"),
    [("Verse DI 01", "di"), ("gtr_amp_take3", "amp"), ("Amp+Cab L", "cabinet"), ("room", "mic"),
     ("guitar", "di"), ("modeler L", "modeled"), ("bass-direct", "di"), ("SM mic 2", "mic")],
)  # fmt: skip
def test_taps_are_guessed_from_names(name: str, tap: str) -> None:
    assert guess_tap(name) == tap


def test_every_channel_is_offered() -> None:
    path = Path("/x/room.wav")
    assert [one.name for one in wanted_tracks(path, 2)] == ["room, channel 1", "room, channel 2"]
    assert [one.channel for one in wanted_tracks(path, 3)] == [1, 2, 3]
    assert wanted_tracks(path, 1) == (WantedTrack(path, "room", "mic"),)
