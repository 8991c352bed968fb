"""Cabinets added later: heard and exported behind a track, at equal loudness, never in its file."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import scipy.signal
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from test_reamp import BASS_TAKE, GUITAR_TAKE, desk, reamped

from diaulos.errors import EditError, InputError
from diaulos.rig.templates import build
from diaulos.session.edits import put_cabinets
from diaulos.session.model import CabinetChoice, CabinetLater, MatchTarget, Session
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.signal.convolve import PartitionedConvolver
from diaulos.storage.audiofile import resampled
from diaulos.storage.folder import SessionFolder
from diaulos.units import db_to_gain
from diaulos.wiring import ExternalAudio
from diaulos.work.listening.cabinets import (
    CabinetReader,
    cabinet_before,
    cabinet_names,
    measured_choice,
    taps_of,
    with_alternative,
    with_cabinet,
)
from diaulos.work.listening.heard import compared_channels, track_reader
from diaulos.work.listening.mixing import channels_of, mix_rows, stereo_of
from diaulos.work.measuring import read_mono
from diaulos.work.takes.exporting import CEILING_DBTP, export_pass, export_track
from diaulos.work.takes.impulses import import_impulse, list_impulses, read_impulse
from support import NOON, RATE, measure_loudness

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
EXACT_DB = -120.0


def deviation_db(got: np.ndarray, wanted: np.ndarray) -> float:
    """The largest deviation re the largest sample."""
    return 20.0 * np.log10(np.max(np.abs(got - wanted)) / np.max(np.abs(wanted)) + 1e-20)


def response(seed: int, length: int, decay: float = 400.0) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return rng.standard_normal(length) * np.exp(-np.arange(length) / decay)


def add_impulse(desk: Desk, path: Path) -> tuple[Session, str]:
    folder, session = desk
    outcome = import_impulse(
        path, session, store=folder, files=ExternalAudio(), resample=resampled, clock=lambda: NOON
    )
    return outcome.edit(session), outcome.impulse.file


def wav(path: Path, samples: np.ndarray, rate: int = RATE) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    soundfile.write(str(path), samples, rate, subtype="FLOAT")
    return path


# --- the stream ---


@settings(max_examples=40, deadline=None)
@given(
    length=st.integers(1, 3_000),
    part=st.sampled_from([64, 256, 1024]),
    sizes=st.lists(st.integers(1, 700), min_size=1, max_size=12),
    seed=st.integers(0, 99),
)
def test_blocks_of_any_size_give_what_a_convolution_gives(
    length: int, part: int, sizes: list[int], seed: int
) -> None:
    """Against SciPy's own, from the first sample on: no latency."""
    rng = np.random.default_rng(seed)
    taps = response(seed, length)
    samples = rng.standard_normal(sum(sizes))
    stream = PartitionedConvolver(taps, part)
    cuts = np.cumsum(sizes)[:-1]
    got = np.concatenate([stream.process(block) for block in np.split(samples, cuts)])
    wanted = scipy.signal.convolve(samples, taps, method="direct")[: samples.size]
    np.testing.assert_allclose(got, wanted, atol=1e-9 * np.max(np.abs(taps)) * length)


def test_a_reader_that_jumps_gives_what_one_pass_gives() -> None:
    samples = np.random.default_rng(4).standard_normal(60_000)
    taps = response(2, 24_000, 5_000.0)
    wanted = scipy.signal.fftconvolve(samples, taps)[: samples.size]

    def read(first: int, count: int) -> np.ndarray:
        return samples[first : first + count]

    reader = CabinetReader(read, taps, 0.0)
    for first, count in ((0, 1024), (1024, 256), (40_000, 512), (40_512, 512), (3, 700)):
        assert deviation_db(reader(first, count), wanted[first : first + count]) < EXACT_DB


# --- in place ---


def with_choice(desk: Desk, file: str, cabinet: str) -> Session:
    folder, session = desk
    return with_cabinet(session, [file], measured_choice(session, cabinet, file, folder))(session)


@pytest.mark.parametrize("cabinet", list(CABINETS))
def test_a_track_through_a_cabinet_is_as_loud_as_without(desk: Desk, cabinet: str) -> None:
    folder, session = desk
    track = session.take(GUITAR_TAKE).track("k01")
    session = with_choice(desk, track.file, cabinet)
    raw = read_mono(folder.open_audio(track.file)).astype(float)
    row = mix_rows(session, session.take(GUITAR_TAKE))[0]
    (channel,) = channels_of([row], session, folder)
    heard = channel.read(0, track.frames)
    gain = session.cabinets[track.file].choice.gain_db
    wanted = scipy.signal.fftconvolve(raw, cabinet_taps(cabinet, RATE))[: raw.size]
    assert deviation_db(heard, db_to_gain(gain) * wanted) < EXACT_DB
    assert measure_loudness(heard, RATE).lufs == pytest.approx(
        measure_loudness(raw, RATE).lufs, abs=0.05
    )
    assert deviation_db(track_reader(track.file, folder)(0, track.frames), raw) < -200.0


def test_what_is_heard_is_what_is_exported(desk: Desk, tmp_path: Path) -> None:
    """A pass of an amplifier without cabinet, through a stereo response."""
    folder, session = desk
    target = MatchTarget(kind="lufs", lufs=-24.0)
    both = (*session.rigs, build("reamp-both", "extra"))
    session = session.model_copy(update={"rigs": both})
    outcome = reamped((folder, session), rig_id="extra", returns=("Amp",), target=target)
    session, made = outcome.edit(session), outcome.made
    path = wav(tmp_path / "Room pair.wav", np.stack([response(1, 900), response(2, 900)], axis=1))
    session, cabinet = add_impulse((folder, session), path)
    session = with_choice((folder, session), made.main.file, cabinet)
    take = session.take(GUITAR_TAKE)
    files = ExternalAudio()

    def create(added: str, channels: int, notes: object):  # type: ignore[no-untyped-def]
        return files.create(tmp_path / "out.wav", RATE, channels, "float", notes, True)

    export_pass(session, take, made, folder, create, lambda: NOON)
    written, _ = soundfile.read(tmp_path / "out.wav")
    rows = [row for row in mix_rows(session, take) if row.key == made.main.file]
    channels = channels_of(rows, session, folder)
    assert [one.side for one in channels] == ["left", "right"]
    heard = stereo_of(channels)(0, take.di.frames)
    choice = session.cabinets[made.main.file].choice
    lower = min(0.0, CEILING_DBTP - (choice.true_peak_dbtp + made.main.match.total_db))
    assert deviation_db(db_to_gain(lower) * heard, written) < -100.0, "float files"
    assert measure_loudness(heard, RATE).lufs == pytest.approx(
        -24.0 + made.main.match.pair_offset_db + 10.0 * np.log10(2.0), abs=0.1
    ), "a mono pass counts twice beside it"
    compared = compared_channels(session, take, made, target, folder)
    assert [one.key for one in compared] == ["di", "pass", "pass"]
    export_pass(session, take, made, folder, create, lambda: NOON, cabinets=False)
    assert soundfile.info(tmp_path / "out.wav").channels == 1


def test_an_export_does_not_clip(desk: Desk, tmp_path: Path) -> None:
    """A cabinet that stretches the peaks: 24 bit has no room above full scale."""
    folder, session = desk
    track = session.take(GUITAR_TAKE).track("k01")
    choice = measured_choice(session, "open-one", track.file, folder)
    loud = choice.model_copy(
        update={"gain_db": choice.gain_db + 30.0, "true_peak_dbtp": choice.true_peak_dbtp + 30.0}
    )
    session = with_cabinet(session, [track.file], loud)(session)
    files = ExternalAudio()

    def create(added: str, channels: int, notes: object):  # type: ignore[no-untyped-def]
        return files.create(tmp_path / "out.wav", RATE, channels, "24", notes, True)

    export_track(session, session.take(GUITAR_TAKE), track, folder, create, lambda: NOON)
    written, _ = soundfile.read(tmp_path / "out.wav")
    peak = 20.0 * np.log10(np.abs(written).max())
    assert CEILING_DBTP - 0.5 < peak <= CEILING_DBTP + 0.01
    export_track(
        session, session.take(GUITAR_TAKE), track, folder, create, lambda: NOON, cabinets=False
    )
    written, _ = soundfile.read(tmp_path / "out.wav")
    raw = read_mono(folder.open_audio(track.file))
    np.testing.assert_allclose(written, raw, atol=2.0**-22)


def test_alternatives_stay_and_none_is_one(desk: Desk) -> None:
    session = desk[1]
    file = session.take(GUITAR_TAKE).track("k01").file
    for number, name in enumerate(CABINETS):
        choice = CabinetChoice(cabinet=name, gain_db=float(number))
        session = with_cabinet(session, [file], choice)(session)
    later = session.cabinets[file]
    assert [one.cabinet for one in later.choices] == list(CABINETS)
    assert later.used == list(CABINETS)[-1]
    first = next(iter(CABINETS))
    assert with_alternative(session, [file], first)(session).cabinets[file].choice.gain_db == 0.0
    assert with_alternative(session, [file], "")(session).cabinets[file].choice is None
    with pytest.raises(EditError, match="in place"):
        with_alternative(session, [file], "nobody's")(session)
    assert file not in put_cabinets([file], None)(session).cabinets
    for name in "abcdefgh":
        session = with_cabinet(session, [file], CabinetChoice(cabinet=name, gain_db=0.0))(session)
    assert len(session.cabinets[file].choices) == 9
    assert session.cabinets[file].used == "h"


def test_choices_that_cannot_be(desk: Desk) -> None:
    folder, session = desk
    one = CabinetChoice(cabinet="open-one", gain_db=0.0)
    with pytest.raises(ValueError, match="twice"):
        CabinetLater(choices=(one, one))
    with pytest.raises(ValueError, match="none of the choices"):
        CabinetLater(choices=(one,), used="other")
    with pytest.raises(EditError, match="Open back, one twelve-inch"):
        taps_of(session, "nobody's", folder)


def test_a_second_cabinet_in_a_row_is_told(desk: Desk) -> None:
    folder, session = desk
    both = (*session.rigs, build("reamp-both", "extra"))
    session = session.model_copy(update={"rigs": both})
    outcome = reamped((folder, session), rig_id="extra")
    session = outcome.edit(session)
    take = session.take(GUITAR_TAKE)
    amp, cabinet = outcome.made.files
    assert cabinet_before(session, take, amp) == ""
    assert "which has a cabinet" in cabinet_before(session, take, cabinet)
    told = {one.tap: cabinet_before(session, take, one.file) for one in take.tracks}
    assert told["di"] == ""
    assert cabinet_before(session, session.take(BASS_TAKE), "audio/none.wav") == ""


# --- what a person brings ---


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_file_of_any_rate_sounds_the_same(desk: Desk, tmp_path: Path, rate: int) -> None:
    """Its magnitude up to 10 kHz, after silence ahead and behind was left out."""
    taps = cabinet_taps("open-one", float(rate))
    padded = np.concatenate([np.zeros(rate // 20), 0.3 * taps, np.zeros(3 * rate)])
    got = read_impulse(wav(tmp_path / "a.wav", padded, rate), ExternalAudio(), resampled, RATE)
    assert got.taps.shape[0] < 0.2 * RATE
    assert int(np.argmax(np.abs(got.taps[:, 0]))) < 0.003 * RATE
    freqs = np.fft.rfftfreq(16_384, 1.0 / RATE)
    band = (freqs > 60.0) & (freqs < 6_000.0)
    mine = 20.0 * np.log10(np.abs(np.fft.rfft(got.taps[:, 0], 16_384))[band])
    want = np.abs(np.fft.rfft(cabinet_taps("open-one", RATE), 16_384))[band]
    difference = mine - 20.0 * np.log10(want)
    assert np.ptp(difference) < 0.1
    assert (got.note != "") == (rate != RATE)


def test_both_sides_are_kept_and_trimmed_alike(desk: Desk, tmp_path: Path) -> None:
    left, right = np.zeros(4_000), np.zeros(4_000)
    left[1_000], right[1_040] = 1.0, -0.5
    path = wav(tmp_path / "two.wav", np.stack([left, right], axis=1))
    session, file = add_impulse(desk, path)
    taps = taps_of(session, file, desk[0])
    assert taps.shape[1] == 2
    places = np.argmax(np.abs(taps), axis=0)
    assert places[1] - places[0] == 40
    assert places[0] <= 0.0005 * RATE
    assert taps[places[1], 1] / taps[places[0], 0] == pytest.approx(-0.5, abs=1e-6)
    again, same = add_impulse((desk[0], session), path)
    assert same == file
    assert again.impulses == session.impulses, "a file that is there already is not copied again"
    assert (file, "two") in cabinet_names(session)


@pytest.mark.parametrize(
    ("samples", "words"),
    [
        (np.zeros(500), "silent"),
        (np.full(500, np.nan), "not a number"),
        (np.ones(3 * RATE), "at most 2 s"),
        (np.ones(11 * RATE), "at most 2 s"),
    ],
    ids=["silent", "nan", "long", "longer"],
)
def test_a_file_that_is_no_response(desk: Desk, tmp_path: Path, samples, words) -> None:  # type: ignore[no-untyped-def]
    path = wav(tmp_path / "ir.wav", samples)
    with pytest.raises(InputError, match=words):
        read_impulse(path, ExternalAudio(), resampled, RATE)


def test_a_folder_is_listed_from_dark_to_bright(tmp_path: Path) -> None:
    for hz in (900, 4_000, 300, 2_000):
        n = np.arange(12_000)
        tone = np.hanning(n.size) * np.sin(2.0 * np.pi * hz / RATE * n)
        wav(tmp_path / "irs" / ("deep" if hz < 1_000 else "") / f"{hz}.wav", tone)
    (tmp_path / "irs" / "notes.txt").write_text("no sound")
    (tmp_path / "irs" / "broken.wav").write_bytes(b"RIFFnothing")
    wav(tmp_path / "elsewhere.wav", response(1, 500))
    (tmp_path / "irs" / "link.wav").symlink_to(tmp_path / "elsewhere.wav")
    listed = list_impulses(tmp_path / "irs", ExternalAudio())
    assert [one.name for one in listed.found] == ["deep/300", "deep/900", "2000", "4000"]
    bright = [one.bright_hz for one in listed.found]
    assert bright == sorted(bright)
    assert bright[2] == pytest.approx(2_000.0, rel=0.1)
    assert len(listed.refused) == 1
    assert "broken.wav" in listed.refused[0]
    assert list_impulses(tmp_path / "nothing", ExternalAudio()).found == ()
