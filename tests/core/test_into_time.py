"""Into time by band, microphone places, two ways in, matching by a band, pans."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from scipy import signal as ss

from diaulos.demo.comparing import (
    HIGHS_M,
    LOWS_M,
    NEAR_M,
    PLACES,
    microphone_places,
    two_ways,
)
from diaulos.demo.rigs import two_microphones_rig, two_ways_rig
from diaulos.errors import InputError, RefusedError
from diaulos.rig.templates import build
from diaulos.session import compare_edits
from diaulos.session.compared import MicPlace, Moved
from diaulos.session.migrations import migrate
from diaulos.session.model import Heard, Session, Take, Track, rig_hash
from diaulos.signal.allpass import allpass_section, sum_by_band
from diaulos.signal.fir import shift
from diaulos.storage.folder import SessionFolder
from diaulos.units import metres_to_ms, ms_to_samples
from diaulos.work.compare.choices import (
    Candidate,
    band_loudness,
    candidates_of,
    match_all,
    measure_candidate,
    open_candidate,
)
from diaulos.work.compare.courses import course_of, place_of
from diaulos.work.compare.doubling import beside_words, compare_doubled, compare_with_click
from diaulos.work.compare.intotime import by_band, nudges, passed, timing_of
from diaulos.work.compare.pairs import Side, compare_pair
from diaulos.work.compare.placed import (
    figures_words,
    metres_words,
    octave_name,
    place_figures,
    place_words,
    two_places,
)
from diaulos.work.compare.twoways import (
    Conversions,
    conversions_of,
    conversions_words,
    noise_in_pauses,
    note_verdict,
    pauses_words,
    verdict_words,
)
from diaulos.work.listening.heard import track_reader
from diaulos.work.listening.placing import AllpassReader
from diaulos.work.ports import CancelToken, FileNotes
from diaulos.work.takes.exporting import export_track
from support import NOON, RATE, performance

FS = float(RATE)
TOKEN = CancelToken()


def noise(seconds: float = 8.0, seed: int = 1) -> np.ndarray:
    """Fuller below than above, as what a cabinet plays."""
    shape = ss.butter(1, [100.0, 3_000.0], "bandpass", fs=FS, output="sos")
    return np.asarray(
        ss.sosfilt(shape, np.random.default_rng(seed).standard_normal(int(seconds * FS)))
    )


def side(name: str, samples: np.ndarray) -> Side:
    return Side(name, samples.astype(np.float32), RATE)


# --- the all-pass ---


@pytest.mark.parametrize("corner", [40.0, 250.0, 4_000.0])
def test_an_all_pass_keeps_every_level_and_turns_by_90_degrees_at_its_corner(corner: float) -> None:
    hz = np.array([1.0, corner, 20_000.0])
    _, gain = ss.sosfreqz(allpass_section(corner, FS), worN=hz, fs=FS)
    assert np.allclose(np.abs(gain), 1.0, atol=1e-12)
    assert np.degrees(np.angle(gain[1])) == pytest.approx(-90.0, abs=1e-6)
    assert abs(np.degrees(np.angle(gain[0]))) < 3.0
    # By the bilinear transform: -2 atan(tan(w / 2) / tan(corner / 2)).
    wanted = -2.0 * math.atan(math.tan(math.pi * 20_000.0 / FS) / math.tan(math.pi * corner / FS))
    assert np.unwrap([0.0, np.angle(gain[2])])[1] == pytest.approx(wanted, abs=1e-9)


@pytest.mark.parametrize("corner", [39.0, 4_001.0, math.nan])
def test_an_all_pass_outside_its_range_is_refused(corner: float) -> None:
    with pytest.raises(InputError):
        allpass_section(corner, FS)


@pytest.mark.parametrize("corner", [120.0, 250.0, 700.0])
def test_the_all_pass_between_two_microphones_is_found(corner: float) -> None:
    """19 samples late and behind an all-pass at 250 Hz: the worked example of our own notes, where
    the delay alone made one band worse."""
    a = noise()
    b = ss.sosfilt(allpass_section(corner, FS), a)
    late = shift(b, 19.0, b.size)
    found = sum_by_band(a, late, b, FS)
    assert found is not None
    # In time the top is turned over, or, turned, the bottom: one band loses either way.
    assert min(found.in_time.least_db, found.turned.least_db) < 1.0
    assert max(found.in_time.least_db, found.turned.least_db) < 2.0
    assert found.passed.low_db == pytest.approx(10 * math.log10(2.0), abs=0.01)
    assert found.passed.high_db == pytest.approx(10 * math.log10(2.0), abs=0.01)
    assert found.corner_hz == pytest.approx(corner, rel=0.02)
    # The other way round it is put to the other one; turned over it is turned back.
    other = sum_by_band(b, a, a, FS)
    assert other is not None
    assert (found.on, other.on) == ("a", "b")
    turned = sum_by_band(b, -a, -a, FS)
    assert turned is not None
    assert turned.polarity == -other.polarity


def test_sums_by_band_are_the_closed_form() -> None:
    """Two tones, one in each band, b a given phase later: 1 + cos(phase) of the power."""
    t = np.arange(8 * RATE) / FS
    phases = {200.0: 0.7, 1_500.0: 2.2}
    a = sum(np.sin(2 * np.pi * hz * t) for hz in phases)
    b = sum(np.sin(2 * np.pi * hz * t + turn) for hz, turn in phases.items())
    found = sum_by_band(np.asarray(a), np.asarray(b), np.asarray(b), FS)
    assert found is not None
    for told, turn in ((found.found.low_db, 0.7), (found.found.high_db, 2.2)):
        assert told == pytest.approx(10 * math.log10(1.0 + math.cos(turn)), abs=0.01)
    silent = np.sin(2 * np.pi * 200.0 * t)
    assert sum_by_band(silent, 0.0 * silent, 0.0 * silent, FS) is None
    with pytest.raises(InputError, match="split"):
        sum_by_band(silent, silent, silent, FS, 20.0)


def test_what_goes_through_an_all_pass_is_the_same_from_anywhere() -> None:
    source = np.random.default_rng(3).standard_normal(RATE)

    def read(first: int, count: int) -> np.ndarray:
        out = np.zeros(count)
        start, stop = max(0, first), min(source.size, first + count)
        if stop > start:
            out[start - first : stop - first] = source[start:stop]
        return out

    for corner in (40.0, 250.0, 4_000.0):
        whole = ss.sosfilt(allpass_section(corner, FS), source)
        reader = AllpassReader(read, corner, FS)
        assert np.max(np.abs(reader(0, 1_000) - whole[:1_000])) < 1e-9
        assert np.max(np.abs(reader(30_000, 512) - whole[30_000:30_512])) < 1e-5


# --- a take of a dry DI and two microphones ---


@pytest.fixture
def folder(tmp_path: Path) -> SessionFolder:
    """DI, one microphone 0.05 m away, one 0.75 m away behind an all-pass; the loop is 31 samples
    late for both."""
    played = 0.4 * performance(seconds=7.0)
    # What comes of an instrument holds an octave or two: more goes through an all-pass below.
    played = played + 0.2 * noise(7.0)[: played.size]
    air = [ms_to_samples(metres_to_ms(metres), FS) for metres in (HIGHS_M, LOWS_M)]
    near = shift(played, 31.0 + air[0], played.size)
    far = shift(ss.sosfilt(allpass_section(250.0, FS), played), 31.0 + air[1], played.size)
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    made = SessionFolder.create(tmp_path / "s.diaulos", session)
    tracks = []
    for number, (name, tap, samples) in enumerate(
        (("DI", "di", played), ("Near", "mic", near), ("Far", "mic", 0.5 * far)), start=1
    ):
        file = f"audio/t0001_k{number:02d}.wav"
        sink = made.create_audio(file, RATE, 1, "float", FileNotes(name, NOON))
        sink.write(samples.astype(np.float32)[:, None])
        sink.close()
        tracks.append(
            Track(id=f"k{number:02d}", name=name, tap=tap, file=file, frames=samples.size,
                  peak_dbfs=-6.0)  # type: ignore[arg-type]
        )  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tuple(tracks))
    made.save(session.model_copy(update={"takes": (take,)}))
    return made


def _side_of(folder: SessionFolder, session: Session, one: Candidate) -> Side:
    heard = open_candidate(session, one, folder)
    return side(one.name, np.asarray(heard.mono(0, heard.frames)))


def test_the_loop_is_taken_out_and_the_distance_stays(folder: SessionFolder) -> None:
    session = folder.load()
    di, near, far = candidates_of(session)
    for one, metres in ((near, HIGHS_M), (far, LOWS_M)):
        session = compare_edits.place_microphone(one.files, MicPlace(distance_m=metres))(session)

    def timings(now: Session) -> list:  # type: ignore[type-arg]
        told = []
        for one in (near, far):
            pair = compare_pair(
                _side_of(folder, now, di), _side_of(folder, now, one), TOKEN, split=False
            )
            assert pair.found is not None
            told.append(timing_of(now, di, one, pair.found))
        return told

    found = timings(session)
    # The all-pass delays the lows by itself, so the far one is late by some samples more.
    assert found[0].latency_samples == pytest.approx(31.0, abs=0.1)
    assert found[1].latency_samples == pytest.approx(31.0, abs=25.0)
    assert found[1].air_samples == pytest.approx(ms_to_samples(metres_to_ms(LOWS_M), FS))
    for nudge in ("latency", "all", "as found"):
        moved = compare_edits.move_all("Nudge", nudges(found, nudge, "DI"))(session)
        again = timings(moved)
        # The way to the file stays what it was, however it is heard meanwhile.
        for one, other in zip(found, again, strict=True):
            assert other.late_samples == pytest.approx(one.late_samples, abs=0.1)
        known = moved.moves.get(near.files[0])
        wanted = {"latency": found[0].latency_samples, "all": found[0].late_samples}.get(nudge, 0.0)
        assert (known.delay_samples if known else 0.0) == pytest.approx(wanted)
    # What has no microphone is at no distance; where one is not known nothing is made up.
    plain = folder.load()
    pair = compare_pair(
        _side_of(folder, plain, di), _side_of(folder, plain, far), TOKEN, split=False
    )
    assert pair.found is not None
    unknown = timing_of(plain, di, far, pair.found)
    assert unknown.air_samples is None
    assert unknown.latency_samples is None
    assert unknown.moved("latency", "DI") is None


def test_the_all_pass_is_an_edit_that_is_heard_and_exported(folder: SessionFolder) -> None:
    session = folder.load()
    _, near, far = candidates_of(session)
    a, b = (_side_of(folder, session, one) for one in (near, far))
    pair = compare_pair(a, b, TOKEN, split=False)
    assert pair.found is not None
    found = by_band(a, b, pair.found)
    assert found is not None
    assert found.passed.least_db > max(found.in_time.least_db, found.turned.least_db) + 1.0
    timing = timing_of(session, near, far, pair.found)
    moved = {far.files: timing.moved("all", "Near")}
    session = compare_edits.move_all("Into time", moved)(session)
    with_one = {
        one.files: passed(session.moves.get(one.files[0]), found, which)
        for one, which in ((far, "b"), (near, "a"))
        if which == "b" or found.on == "a"
    }
    session = compare_edits.move_all("All-pass", with_one)(session)
    session = Session.model_validate_json(session.model_dump_json())
    heard = [_side_of(folder, session, one) for one in (near, far)]
    after = sum_by_band(heard[0].samples, 2.0 * heard[1].samples, 2.0 * heard[1].samples, FS)
    assert after is not None
    # What was promised is what is heard.
    assert after.found.low_db == pytest.approx(found.passed.low_db, abs=0.15)
    assert after.found.high_db == pytest.approx(found.passed.high_db, abs=0.15)
    on = near if found.on == "a" else far
    take = session.take("One")
    track = next(one for one in take.tracks if one.file == on.files[0])
    written: list[np.ndarray] = []
    notes: list[FileNotes] = []

    class Sink:
        def write(self, block: np.ndarray) -> None:
            written.append(block)

        def close(self) -> None:
            pass

    def create(_added: str, _channels: int, told: FileNotes) -> Sink:
        notes.append(told)
        return Sink()

    export_track(session, take, track, folder, create, lambda: NOON)  # type: ignore[arg-type]
    assert f"all-pass {found.corner_hz:.0f} Hz" in notes[0].history
    wanted = track_reader(track.file, folder, session)(0, track.frames)
    assert np.max(np.abs(np.concatenate(written)[:, 0] - wanted)) < 1e-6


# --- places ---


def test_the_stand_ins_places_behave_as_they_do() -> None:
    """Common practice, no source: brighter at the centre, darker at the edge, darker still off
    axis; 2.9 ms a metre."""
    made = microphone_places(0.4 * performance(seconds=7.0), FS)
    assert [one.name for one in made] == [name for name, _ in PLACES]
    centre = side("Centre", made[0].samples)
    told = []
    for one in made[1:]:
        found = place_figures(compare_pair(centre, side(one.name, one.samples), TOKEN, split=False))
        assert found is not None
        told.append(found)
    edge, off, farther = told
    assert edge.top_db is not None
    assert off.top_db is not None
    assert off.top_db < edge.top_db < -2.0
    # The lows are alike, at equal loudness a little above.
    lows = next(one.db for one in edge.octaves if one.hz == 250.0)
    assert lows == pytest.approx(0.0, abs=0.5)
    assert farther.farther_m == pytest.approx(0.32 - NEAR_M, abs=0.005)
    assert farther.top_db == pytest.approx(0.0, abs=0.1)
    assert metres_to_ms(1.0) == pytest.approx(2.9, abs=0.02)


def test_octaves_of_a_known_filter_are_told() -> None:
    a = noise()
    shelf = ss.butter(1, 1_000.0, "low", fs=FS, output="sos")
    b = ss.sosfilt(shelf, a)
    pair = compare_pair(side("A", a), side("B", b), TOKEN, split=False)
    found = place_figures(pair)
    assert found is not None
    assert pair.louder_lu is not None
    freqs = np.fft.rfftfreq(a.size, 1.0 / FS)
    power_a, power_b = (np.square(np.abs(np.fft.rfft(x))) for x in (a, b))
    for one in found.octaves:
        if one.db is None or not 100.0 < one.hz < 7_000.0:
            continue
        cut = (freqs >= one.hz / 2**0.5) & (freqs < one.hz * 2**0.5)
        wanted = 10 * np.log10(power_b[cut].sum() / power_a[cut].sum()) - pair.louder_lu
        assert one.db == pytest.approx(wanted, abs=0.25), one.hz


def test_places_are_named_as_people_do() -> None:
    assert place_words(MicPlace()) == ""
    assert place_words(MicPlace(across=0.0, distance_m=0.05)) == "centre, at 5 cm"
    assert (
        place_words(MicPlace(across=0.55, angle_deg=30.0)) == "55 % out, 30\N{DEGREE SIGN} off axis"
    )
    assert metres_words(2.0) == "2 m"
    assert [octave_name(hz) for hz in (62.5, 125.0, 8_000.0)] == ["63 Hz", "125 Hz", "8 kHz"]
    a, b = MicPlace(across=0.0, distance_m=0.05), MicPlace(across=1.0, distance_m=0.05)
    assert two_places(a, b) == ("centre", "edge")
    assert two_places(a, a) == ("centre, at 5 cm",) * 2
    made = microphone_places(0.4 * performance(seconds=5.0), FS)
    pair = compare_pair(side("A", made[0].samples), side("B", made[3].samples), TOKEN, split=False)
    found = place_figures(pair)
    assert found is not None
    words = figures_words("centre", "farther", found)
    assert words.startswith("Centre to farther: ")
    assert "29 cm farther by its delay" in words
    # A darker place holds the rest back by itself: it is no farther away.
    for dark in made[1:3]:
        pair = compare_pair(side("A", made[0].samples), side("B", dark.samples), TOKEN, split=False)
        found = place_figures(pair)
        assert found is not None
        words = figures_words("centre", dark.name, found)
        assert "by its delay" not in words, words


def test_a_place_comes_from_the_rig_until_somebody_notes_another() -> None:
    rig = two_microphones_rig("bass", LOWS_M, HIGHS_M)
    tracks = tuple(
        Track(id=f"k{at:02d}", name=one.name, tap=one.tap, file=f"audio/t0001_k{at:02d}.wav",
              frames=10, peak_dbfs=-6.0)
        for at, one in enumerate(rig.tracks, start=1)
    )  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tracks,
                rig_hash=rig_hash(rig))  # fmt: skip
    session = Session(
        id="s", name="S", sample_rate_hz=RATE, takes=(take,), snapshots={rig_hash(rig): rig}
    )
    di, lows, highs = candidates_of(session)
    assert place_of(session, di) == MicPlace()
    assert place_of(session, lows) == MicPlace(across=0.0, distance_m=LOWS_M, angle_deg=0.0)
    assert place_of(session, highs) == MicPlace(across=1.0, distance_m=HIGHS_M, angle_deg=0.0)
    # A switch that says "off axis" does not say by how much: nothing is made up.
    aside = rig.with_setting("mic_low", "place", "off axis")
    turned = session.model_copy(update={"snapshots": {take.rig_hash: aside}})
    assert place_of(turned, lows) == MicPlace(distance_m=LOWS_M)
    noted = compare_edits.place_microphone(lows.files, MicPlace(distance_m=1.5))(session)
    assert place_of(noted, lows) == MicPlace(distance_m=1.5)
    assert place_of(
        compare_edits.place_microphone(lows.files, MicPlace())(noted), lows
    ) == place_of(session, lows)
    # A track of another name, and a take without a rig: nobody knows.
    other = take.model_copy(update={"rig_hash": "gone"})
    assert course_of(session.model_copy(update={"takes": (other,)}), lows) is None


# --- two ways in ---


def test_conversions_are_counted_by_the_rig_as_it_was() -> None:
    rig = two_ways_rig("guitar")
    tracks = tuple(
        Track(id=f"k{at:02d}", name=one.name, tap=one.tap, file=f"audio/t0001_k{at:02d}.wav",
              frames=10, peak_dbfs=-6.0)
        for at, one in enumerate(rig.tracks, start=1)
    )  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tracks,
                rig_hash=rig_hash(rig))  # fmt: skip
    session = Session(
        id="s", name="S", sample_rate_hz=RATE, takes=(take,), snapshots={rig_hash(rig): rig}
    )
    di, digital, analog = candidates_of(session)
    known = conversions_of(session, digital, analog)
    # In by the modeler's converter; out of it and in again; the early tap goes the same way.
    assert (known.a, known.b, known.dry) == (1, 3, 3)
    assert conversions_words("Digital", "Analog", known) == (
        "Conversions: Digital 1 conversion, Analog 3 conversions; the dry tap beside it 3"
        " conversions."
    )
    assert "not known" in conversions_words("A", "B", Conversions(None, None, None))
    assert "B not known" in conversions_words("A", "B", Conversions(1, None, None))
    assert di.tap == "di"


def test_noise_in_the_pauses_is_what_was_put_there() -> None:
    """Two seconds of silence between two phrases; -80 and -70 dBFS of noise (AES17)."""
    played = 0.3 * performance(seconds=5.0)
    quiet = np.zeros(2 * RATE)
    phrase = np.concatenate([played, quiet, played])
    rng = np.random.default_rng(7)
    made = [
        phrase + rng.standard_normal(phrase.size) * 10 ** (level / 20) / math.sqrt(2.0)
        for level in (-80.0, -70.0)
    ]
    made[1] = shift(made[1], 63.4, phrase.size)
    sides = side("A", made[0]), side("B", made[1])
    pair = compare_pair(*sides, TOKEN, split=False)
    found = noise_in_pauses(*sides, pair)
    assert found is not None
    assert found.a_dbfs == pytest.approx(-80.0, abs=0.5)
    assert found.more_db == pytest.approx(10.0, abs=0.5)
    told = pauses_words("A", "B", found)
    assert f"as heard B has {found.more_db:.1f} dB more" in told
    whole = side("A", 0.3 * noise(4.0)), side("B", 0.2 * noise(4.0))
    assert noise_in_pauses(*whole, compare_pair(*whole, TOKEN, split=False)) is None
    assert "no pause" in pauses_words("A", "B", None)


def test_the_verdict_goes_below_the_notes_once() -> None:
    digital, analog, *_ = two_ways(0.4 * performance(seconds=7.0), FS, 401)
    sides = side("D", digital.samples), side("A", analog.samples)
    pair = compare_pair(*sides, TOKEN)
    words = verdict_words(
        ("D", "A"), pair, Conversions(1, 3, 3), noise_in_pauses(*sides, pair), None
    )
    assert words.startswith("A against D: 0.3")
    assert "3 conversions" in words
    assert words.endswith("Not tested blind.")
    track = Track(id="k01", name="DI", tap="di", file="audio/a.wav", frames=10, peak_dbfs=-6.0)
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track,),
                notes="Warm.")  # fmt: skip
    session = Session(id="s", name="S", sample_rate_hz=RATE, takes=(take,))
    noted = note_verdict("t0001", words)(session)
    assert noted.take("One").notes == f"Warm.\n{words}"
    assert note_verdict("t0001", words)(noted) == noted


# --- matching by a band ---


@pytest.mark.parametrize("band", ["lows", "mids", "highs"])
def test_candidates_are_matched_by_a_band(folder: SessionFolder, band: str) -> None:
    """The near microphone is the DI, the far one half of it: 6.02 dB in every band."""
    session = folder.load()
    opened = [open_candidate(session, one, folder) for one in candidates_of(session)]
    measured = [measure_candidate(one, RATE, TOKEN) for one in opened]
    bands = {one.candidate.key: band_loudness(one, RATE, band, TOKEN) for one in opened}
    matched = match_all(measured, "band", bands)
    keys = [one.key for one in measured]
    gains = [matched.gains_db[key] - matched.lowered_db for key in keys]
    assert gains == pytest.approx([0.0, 0.0, 20 * math.log10(2.0)], abs=0.1)
    after = [bands[key] + matched.gains_db[key] for key in keys]  # type: ignore[operator]
    assert max(after) - min(after) < 0.1
    silent = match_all(measured, "band", dict.fromkeys(keys))
    assert silent.gains_db[keys[2]] == silent.lowered_db, "what is silent there stays as it is"


# --- doubled ---


def test_what_two_players_give_beside_each_other_is_told() -> None:
    a = 0.4 * performance(seconds=7.0)
    b = 0.5 * shift(a, 480.0, a.size)
    found = compare_doubled(side("A", a), side("B", b))
    assert found.spread.mean_ms == pytest.approx(10.0, abs=0.5)
    words = beside_words(found)
    assert words.startswith("B is 6.0 dB quieter")
    assert "in mono both sum to" in words
    assert "panned hard the sides lie" in words
    with pytest.raises(RefusedError):
        compare_with_click(side("A", np.zeros(RATE)), 120.0, 8, 0.0)


def test_a_part_is_held_against_a_click() -> None:
    """Plucks on every eighth at 120 bpm from 0.5 s on, each 4 ms late."""
    samples = np.zeros(6 * RATE)
    rng = np.random.default_rng(5)
    decay = np.exp(-np.arange(RATE // 5) / (0.04 * RATE))
    for beat in range(20):
        at = round((0.5 + 0.25 * beat + 0.004) * RATE)
        samples[at : at + decay.size] += 0.4 * decay * rng.standard_normal(decay.size)
    lines, spread = compare_with_click(side("A", samples), 120.0, 8, 0.5)
    assert len(lines) == 20
    assert spread.mean_ms == pytest.approx(4.0, abs=1.0)
    assert abs(spread.worst.late_ms) < 7.0


def test_two_parts_are_panned_apart_in_the_mix() -> None:
    track = Track(id="k01", name="A", tap="amp", file="audio/a.wav", frames=10, peak_dbfs=-6.0)
    other = track.model_copy(update={"id": "k02", "name": "B", "file": "audio/b.wav"})
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track, other))
    session = Session(
        id="s",
        name="S",
        sample_rate_hz=RATE,
        takes=(take,),
        mix={"audio/a.wav": Heard(level_db=-3.0)},
    )
    apart = compare_edits.pan_apart(("audio/a.wav",), ("audio/b.wav",))(session)
    assert apart.mix["audio/a.wav"] == Heard(level_db=-3.0, pan=-1.0, muted=False)
    assert apart.mix["audio/b.wav"] == Heard(pan=1.0, muted=False)


# --- what is stored ---


def test_older_sessions_have_no_places_and_no_all_pass() -> None:
    session = Session(
        id="s", name="S", sample_rate_hz=RATE, moves={"audio/a.wav": Moved(polarity=-1)}
    )
    data = session.model_dump(mode="json")
    data["schema_version"] = 14
    del data["mic_places"], data["moves"]["audio/a.wav"]["allpass_hz"]
    assert Session.model_validate(migrate(data, "here")) == session
    assert build("bass", "x").tracks
