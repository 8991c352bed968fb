"""Every track proved: what two tracks tell of each other, a source's own noise, and planted
faults. Whole in `./diaulos soak proof`."""

from __future__ import annotations

import copy
from functools import cache
from pathlib import Path

import numpy as np
import proof as planted
import pytest
import scipy.signal
from test_cli import run, run_json

from diaulos.rig.model import PortRef
from diaulos.rig.templates import build
from diaulos.session.model import Doubt
from diaulos.signal.hiss import apart, centres_hz, hiss_shape
from diaulos.signal.relation import besides, copied, leaked, most_alike, steepness
from diaulos.signal.strings import Note, StringCharacter, ring_notes
from diaulos.storage.folder import SessionFolder
from diaulos.work.takes.fitting import candidates, fit, lowest_note_hz
from diaulos.work.takes.proof import prove, undone
from diaulos.work.takes.proving import doubt_words, later

RATE = 48_000.0


def playing(seed: int = 1, root: int = 40, seconds: float = 6.0) -> np.ndarray:
    """Chords of six strings, a breath ahead of the first."""
    notes = [
        Note(0.4 + 1.1 * at + 0.01 * nth, 1.0, root + above, 0.9)
        for at in range(int(seconds))
        for nth, above in enumerate((0, 7, 12, 16))
    ]
    sound = ring_notes(notes, RATE, seconds, StringCharacter(), seed)
    return np.asarray(0.3 * sound / np.max(np.abs(sound)))


def driven(x: np.ndarray) -> np.ndarray:
    """An amplifier that nobody here knows: driven, coloured, without cabinet."""
    b, a = scipy.signal.butter(2, [120.0, 5_000.0], "bandpass", fs=RATE)
    return np.asarray(0.3 * np.tanh(25.0 * scipy.signal.lfilter(b, a, x)))


# --- two tracks ---


@pytest.mark.parametrize("late", [0.0, 17.0, 250.5, -31.25])
def test_a_copy_is_known_by_lag_gain_and_side(late: float) -> None:
    """Lag to an eighth of a sample; what is left of it far down."""
    dry = playing()
    freqs = np.fft.rfftfreq(dry.size, 1.0)
    turned = np.fft.irfft(
        np.fft.rfft(dry) * np.exp(-2j * np.pi * freqs * late), dry.size
    )  # round and round: it begins and ends in silence
    found = copied(dry, -0.25 * turned, (-2_400, 2_400))
    assert found.lag_samples == pytest.approx(late, abs=1e-9)
    assert found.likeness < -0.9999
    assert found.null_db < -40.0
    assert most_alike(dry, driven(dry), (-500, 500)).null_db > -12.0


def test_a_driven_track_follows_less_steeply() -> None:
    """And what went into it more steeply, the other way round."""
    dry = playing()
    held = steepness(dry, driven(dry), RATE)
    free = steepness(driven(dry), dry, RATE)
    assert held is not None
    assert free is not None
    assert held < 0.8
    assert free == pytest.approx(1.0 / held, rel=0.05)
    same = steepness(dry, 0.1 * dry, RATE)
    assert same == pytest.approx(1.0, abs=1e-6)


@pytest.mark.parametrize("leak_db", [-14.0, -24.0, -34.0])
def test_a_leak_of_the_wet_side_is_measured(leak_db: float) -> None:
    """Within 2 dB, and nothing is claimed where there is none."""
    dry = playing()
    wet = driven(dry)
    found = leaked(wet, dry + 10.0 ** (leak_db / 20.0) * wet, RATE)
    clean = leaked(wet, dry, RATE)
    assert found.db == pytest.approx(leak_db, abs=2.0)
    assert found.coherence > 2.0 * clean.coherence
    assert clean.db < -45.0


def test_a_leak_of_the_dry_side_is_what_the_expected_leaves() -> None:
    """Besides what is expected of the track, to a tenth of a dB."""
    dry = playing()
    wet = driven(dry)
    found = besides(wet + 10.0 ** (-30.0 / 20.0) * dry, wet, dry)
    assert found.db == pytest.approx(-30.0, abs=0.1)
    assert found.coherence > 0.99
    assert besides(wet, wet, dry).coherence < 0.5


def test_a_linear_course_is_undone() -> None:
    """What went in comes out again where the course lets it through."""
    dry = playing()
    b, a = scipy.signal.butter(1, [30.0, 12_000.0], "bandpass", fs=RATE)
    response = scipy.signal.lfilter(b, a, np.r_[1.0, np.zeros(9_999)])
    back, lead = undone(scipy.signal.lfilter(b, a, dry), response, 4_800)
    rest = back[lead : lead + dry.size] - dry
    assert np.sqrt(np.mean(rest**2)) < 0.01 * np.sqrt(np.mean(dry**2))


# --- a source's own noise ---


def shaped(seed: int, peak_hz: float, seconds: float = 4.0) -> np.ndarray:
    """Noise of a resonance, at -100 dBFS."""
    b, a = scipy.signal.iirpeak(peak_hz, 2.5, fs=RATE)
    white = np.random.default_rng(seed).standard_normal(int(seconds * RATE))
    return np.asarray(1e-5 * (scipy.signal.lfilter(b, a, white) + 0.2 * white))


def test_hiss_between_notes_is_read_as_the_hiss_alone() -> None:
    """Playing over it does not move it by more than chance; another resonance is far."""
    alone = hiss_shape(shaped(1, 3_000.0), RATE)
    under = hiss_shape(playing(seconds=6.0) + shaped(2, 3_000.0, 6.0), RATE)
    other = hiss_shape(shaped(3, 6_000.0), RATE)
    assert alone is not None
    assert under is not None
    assert other is not None
    assert apart(under, alone, RATE)[1] < 2.0
    assert apart(under, other, RATE)[1] > 4.0


def test_hiss_is_level_where_noise_is_white() -> None:
    """Power per hertz: white noise of one variance is flat, at its own level."""
    white = 1e-3 * np.random.default_rng(4).standard_normal(200_000)
    found = hiss_shape(white, RATE)
    assert found is not None
    assert found.level_db.size == centres_hz(RATE).size
    assert np.ptp(found.level_db) < 1.0


@pytest.mark.parametrize("rate", [8_000.0, 44_100.0, 96_000.0, 192_000.0])
def test_hiss_is_read_at_every_rate_of_a_session(rate: float) -> None:
    """White noise is flat, and its error is what its length says."""
    white = 1e-3 * np.random.default_rng(5).standard_normal(int(4.0 * rate))
    found = hiss_shape(white, rate)
    assert found is not None
    assert found.level_db.size == centres_hz(rate).size
    level = found.level_db - found.level_db.mean()
    assert np.sqrt(np.mean((level / found.errors_db(rate)) ** 2)) < 3.0


def test_no_quiet_moment_says_so() -> None:
    """Digital silence is none, and a chord that is held is none."""
    assert hiss_shape(np.zeros(100_000), RATE) is None
    assert hiss_shape(np.zeros(1_000), RATE) is None


def test_a_note_below_the_lowest_string_is_found() -> None:
    """B1 on what is said to be an E-standard guitar; hum at 50 Hz is no note."""
    low = lowest_note_hz(playing(root=35), RATE, 79.0)
    assert low == pytest.approx(61.7, abs=1.5)
    hum = 0.05 * np.sin(2 * np.pi * 50.0 * np.arange(6 * 48_000) / RATE)
    assert lowest_note_hz(playing(root=40) + hum, RATE, 79.0) is None


def test_a_dropped_lowest_string_is_no_other_instrument() -> None:
    """A whole tone below the lowest string that is said; five semitones are told."""
    take = _take(THREE)
    dry = _tap(take, "di")
    choice = candidates(take.session, take.rig, take.plans[dry].source)
    source = choice[0].graph.sources[take.plans[dry].source]
    lowest = min(source.strings)
    assert "below the lowest" not in fit(playing(root=lowest - 2), dry, choice, RATE).words
    assert "below the lowest" in fit(playing(root=lowest - 5), dry, choice, RATE).words


# --- planted faults ---


@cache
def _take(seed: int) -> planted.Take:
    take = planted.drawn(seed)
    assert take is not None
    return take


def _drawn(seed: int) -> planted.Take:
    return copy.deepcopy(_take(seed))


@cache
def _seed_of(template: str) -> int:
    """A seed that draws this arrangement, with a take in it."""
    for seed in range(1, 400):
        take = planted.drawn(seed)
        if take is not None and take.words == build(template, "r").name and len(take.heard) > 2:
            return seed
    raise AssertionError(f"nothing draws {template}")


def _drawn_of(template: str) -> planted.Take:
    return _drawn(_seed_of(template))


def _said(take: planted.Take) -> tuple[Doubt, ...]:
    return prove(take.session, take.rig, take.heard, take.names)


THREE = 100_005
"""A hybrid rig: dry, amplifier without cabinet, and with it."""


def _tap(take: planted.Take, tap: str) -> PortRef:
    return next(track for track, one in take.plans.items() if one.tap == tap)


def test_nothing_is_said_of_a_clean_take() -> None:
    """Three tracks that are what they say."""
    assert _said(_drawn(THREE)) == ()


def test_two_dry_tracks_do_not_leak_into_each_other() -> None:
    """They hold the same by right."""
    assert _said(_drawn(1_250_062)) == ()


def test_an_amplifier_that_sounds_otherwise_is_no_fault() -> None:
    """A real one is not our stand-in: another tone, later, upside down, is not doubted."""
    take = _drawn(THREE)
    dry = take.heard[_tap(take, "di")].astype(float)
    for number, tap in enumerate(("amp", "cabinet"), 1):
        b, a = scipy.signal.butter(2 + number, [200.0, 1_500.0 * number], "bandpass", fs=RATE)
        other = np.tanh(60.0 * scipy.signal.lfilter(b, a, np.roll(dry, 300 * number)))
        take.heard[_tap(take, tap)] = (-0.2 * other).astype(np.float32)
    assert _said(take) == ()


def test_two_tracks_exchanged_are_named() -> None:
    """The dry one and the amplifier's; and the amplifier's two."""
    take = _drawn(THREE)
    dry, amp, cabinet = (_tap(take, tap) for tap in ("di", "amp", "cabinet"))
    take.heard[dry], take.heard[amp] = take.heard[amp], take.heard[dry]
    (said,) = _said(take)
    assert said.kind == "swapped"
    assert {said.track, said.other} == {take.names[dry], take.names[amp]}
    take = _drawn(THREE)
    take.heard[amp], take.heard[cabinet] = take.heard[cabinet], take.heard[amp]
    (said,) = _said(take)
    assert said.kind == "swapped"
    assert {said.track, said.other} == {take.names[amp], take.names[cabinet]}


def test_a_copy_of_another_track_than_the_dry_one_is_named() -> None:
    """Seen: a second dry track that held the amplifier's sound was called exchanged."""
    take = _drawn_of("hybrid")
    amp, cabinet = _tap(take, "amp"), _tap(take, "cabinet")
    take.heard[amp] = take.heard[cabinet] * np.float32(0.7)
    (doubt,) = _said(take)
    assert (doubt.kind, doubt.track, doubt.other) == (
        "copy", take.names[amp], take.names[cabinet]
    )  # fmt: skip
    assert "is a copy of" in doubt.words


def test_a_dry_track_that_holds_another_s_sound_is_not_exchanged_with_a_third() -> None:
    """Seen: of two dry tracks the one that held the amplifier's sound was called exchanged with
    the other."""
    take = _drawn_of("amp-in-loop")
    dry = _tap(take, "di")
    wet = next(t for t, one in take.plans.items() if one.tap not in ("di", "printed"))
    take.heard[dry] = take.heard[wet] * np.float32(0.7)
    said = _said(take)
    assert {"swapped"}.isdisjoint(one.kind for one in said)
    assert any(one.kind == "copy" and take.names[dry] in (one.track, one.other) for one in said)


def test_exchanged_with_a_real_amplifier_is_named_by_what_is_held_back() -> None:
    """No stage of ours fits, and still the one that is driven cannot be the dry one."""
    take = _drawn(THREE)
    dry, amp, cabinet = (_tap(take, tap) for tap in ("di", "amp", "cabinet"))
    sound = take.heard[dry].astype(float)
    take.heard[dry] = driven(sound).astype(np.float32)
    take.heard[amp] = sound.astype(np.float32)
    del take.heard[cabinet]
    said = _said(take)
    assert [one.kind for one in said] == ["swapped"]


@pytest.mark.parametrize(
    ("kind", "fault"),
    [
        ("silent", lambda dry, wet: (dry, 0.0 * wet)),
        ("copy", lambda dry, wet: (dry, 0.5 * np.roll(dry, 90))),
        ("copy", lambda dry, wet: (wet, wet)),
        ("inverted", lambda dry, wet: (dry, -wet)),
        ("leak", lambda dry, wet: (dry, wet + 0.05 * dry)),
        ("leak", lambda dry, wet: (dry + 0.05 * wet, wet)),
    ],
)
def test_each_fault_is_named(kind: str, fault) -> None:
    """Of one of two tracks, and only of it."""
    take = _drawn(THREE)
    dry, amp, cabinet = (_tap(take, tap) for tap in ("di", "amp", "cabinet"))
    del take.heard[cabinet]
    take.heard[dry], take.heard[amp] = fault(take.heard[dry], take.heard[amp])
    assert [one.kind for one in _said(take)] == [kind]


@pytest.mark.parametrize("seed", [11, 21])
def test_another_instrument_is_named(seed: int) -> None:
    """Its own noise does not fit what the session says."""
    take = planted.drawn(seed, other=True)
    assert take is not None
    (said,) = _said(take)
    assert said.kind == "instrument"
    assert "Its own noise is that of" in said.words


@pytest.mark.parametrize("seed", [100_009, 100_012])
def test_an_input_that_hisses_by_itself_is_no_other_instrument(seed: int) -> None:
    """White hiss looks like an active instrument's: nothing is concluded from it."""
    take = _take(seed)
    dry = _tap(take, "di")
    choice = candidates(take.session, take.rig, take.plans[dry].source)
    hiss = 1e-4 * np.random.default_rng(3).standard_normal(480_000)
    assert fit(hiss, dry, choice, RATE).verdict == "cannot tell"


def test_what_only_the_end_has_is_said_so() -> None:
    """A doubt of both ends is told once."""
    first = Doubt(kind="silent", track="Amp", words="Amp is silent.")
    new = Doubt(kind="leak", track="DI", other="Amp", words="Amp leaks into DI.")
    (end,) = later([first], [first, new])
    assert end.at_end
    assert doubt_words([first, end]) == "Amp is silent. At the end: Amp leaks into DI."


# --- from the shell ---


def test_a_recorded_take_keeps_what_is_doubtful(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """As the session says, nothing is doubtful; what is, is stored with the take."""
    path = tmp_path / "s.diaulos"
    run(capsys, "new", path, "--plays", "guitar", "--tone", "modeler")
    _, told = run_json(capsys, "record", path, "--seconds", 4, "--fast")
    assert told["doubts"] == []


def test_the_shell_says_what_is_doubtful_and_what_to_do(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """In words and in JSON, and it stays with the take."""
    doubt = Doubt(kind="silent", track="DI", words="DI is silent.", remedy="Look at its lead.")
    monkeypatch.setattr("diaulos.work.takes.proving.prove_take", lambda *_: (doubt,))
    path = tmp_path / "s.diaulos"
    run(capsys, "new", path, "--plays", "guitar", "--tone", "modeler")
    code, out, _ = run(capsys, "record", path, "--seconds", 2, "--fast")
    assert code == 0
    assert "DI is silent. Look at its lead." in out
    _, data = run_json(capsys, "record", path, "--seconds", 2, "--fast")
    assert data["doubts"] == [doubt.model_dump(mode="json")]
    folder = SessionFolder.open(path)
    try:
        assert [one.doubts for one in folder.load().takes] == [(doubt,), (doubt,)]
    finally:
        folder.close()


@pytest.mark.parametrize("seed", [750_013, 750_063, 750_069])
def test_a_take_that_begins_and_ends_in_a_note_is_not_doubted(seed: int) -> None:
    """What was played ahead of it is not known: its ends say nothing of the rest."""
    assert planted.one_clean(seed) == ""
