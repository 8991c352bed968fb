"""What differs between two recordings, and whether they may be stacked.

Held against closed forms (reference folder 05), against known filters, gains, delays, noise and
distortion on generated playing and on open recordings.
"""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal as ss
from test_cli import documented

from diaulos.__main__ import main
from diaulos.signal.between import filter_between
from diaulos.signal.difference import split_difference, third_octaves
from diaulos.signal.fir import shift
from diaulos.signal.lowcut import low_cut_db, low_cut_sections, proposed_corner_hz, share_below_db
from diaulos.signal.stacking import stack
from diaulos.work.compare.pairs import Side, both_in_time, compare_pair
from diaulos.work.compare.words import difference_words, verdict_of
from diaulos.work.ports import CancelToken
from support import RATE, outside, performance, reference_cases

R = float(RATE)
SAMPLES = Path("/usr/share/sonic-pi/samples")
CLOSED = reference_cases("05_alignment", "alignment.json")


def cases(group: str) -> list[dict]:
    found = [one for one in CLOSED if one["group"] == group]
    assert found, group
    return found


@pytest.fixture(scope="module")
def played() -> np.ndarray:
    return performance(seconds=12.0)


def noise(seconds: float = 10.0, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(round(seconds * R)) * 0.1


# --- the split ---


@pytest.mark.parametrize("case", cases("null_gain_error"), ids=lambda one: one["id"])
def test_a_gain_error_alone(case: dict) -> None:
    a = noise(4.0)
    found = split_difference(a, a * 10 ** (case["inputs"]["g_dB"] / 20), a * 10 ** (
        case["inputs"]["g_dB"] / 20), R)  # fmt: skip
    assert found is not None
    assert found.in_time_db == pytest.approx(case["value"], abs=case["tol"])
    assert found.level_share_db == pytest.approx(case["value"], abs=case["tol"])
    assert found.gain_db == pytest.approx(-case["inputs"]["g_dB"], abs=1e-6)
    assert found.null_db < -150.0
    assert found.time_share_db is None
    assert found.tone_share_db is None


@pytest.mark.parametrize("case", cases("null_delay_sine"), ids=lambda one: one["id"])
def test_a_delay_alone(case: dict) -> None:
    hz, late = case["inputs"]["f"], case["inputs"]["tau_us"] * 1e-6
    at = np.arange(round(2 * R)) / R
    a, b = np.sin(2 * np.pi * hz * at), np.sin(2 * np.pi * hz * (at - late))
    found = split_difference(a, b, a, R)
    assert found is not None
    assert found.found_db == pytest.approx(case["value"], abs=case["tol"])
    assert found.time_share_db == pytest.approx(case["value"], abs=case["tol"])


def test_the_noise_of_two_takes_is_the_rest() -> None:
    case = cases("null_independent_noise")[0]
    a = noise(8.0)
    rms = math.sqrt(float(np.mean(a**2)))
    level = [10 ** (case["inputs"][key] / 20) * rms for key in ("n1", "n2")]
    one = a + level[0] * np.random.default_rng(2).standard_normal(a.size)
    other = a + level[1] * np.random.default_rng(3).standard_normal(a.size)
    found = split_difference(one, other, other, R)
    assert found is not None
    assert found.null_db == pytest.approx(case["value"], abs=0.05)
    assert found.rest_db == pytest.approx(case["value"], abs=0.1)


TONES = {
    "bell": (ss.iirpeak(1000.0, 2.0, fs=R), 0.6),
    "shelf": ((np.array([1.0, -0.5]), np.array([1.0])), 0.5),
    "cut": ((np.array([0.0, 0.0, 0.3]), np.array([1.0, -0.6])), -1.0),
}


def toned(x: np.ndarray, name: str) -> tuple[np.ndarray, object]:
    (top, bottom), weight = TONES[name]

    def response(hz: np.ndarray) -> np.ndarray:
        return 1.0 + weight * ss.freqz(top, bottom, hz, fs=R)[1]

    return x + weight * ss.lfilter(top, bottom, x), response


@pytest.mark.parametrize("name", TONES)
@pytest.mark.parametrize("noise_db", [-200.0, -60.0])
def test_a_known_filter_is_found(played: np.ndarray, name: str, noise_db: float) -> None:
    """Within 0.1 dB wherever both go together."""
    made, response = toned(played, name)
    rms = math.sqrt(float(np.mean(made**2)))
    b = made + 10 ** (noise_db / 20) * rms * np.random.default_rng(4).standard_normal(made.size)
    found = split_difference(played, b, b, R)
    assert found is not None
    told = [one for one in found.response if one.coherence > 0.9]
    assert len(told) > (30 if noise_db < -100.0 else 12)
    for one in told:
        wanted = 20 * math.log10(abs(response(np.array([one.hz]))[0]))  # type: ignore[operator]
        assert one.db == pytest.approx(wanted, abs=0.1), one
    own = 10 * math.log10(float(np.mean((b - made) ** 2)) / float(np.mean(made**2)))
    if noise_db > -100.0:
        assert found.null_after_filter_db == pytest.approx(own, abs=1.5)
    else:
        assert found.null_after_filter_db < -80.0  # type: ignore[operator]


def test_the_filter_is_judged_on_what_it_was_not_fitted_on() -> None:
    """Two noises that have nothing in common: a filter that was judged where it was fitted would
    explain as much of the one as it has taps."""
    a, b = noise(6.0, 5), noise(6.0, 6)
    found = filter_between(a, b, R)
    assert found is not None
    assert 0.98 <= found.left < 1.2


def test_a_known_distortion_is_the_rest(played: np.ndarray) -> None:
    """Its share within 1 dB: what the best linear gain leaves of a driven signal, at a tone of
    its own that no filter explains better."""
    quiet = played / np.max(np.abs(played))
    for drive in (0.5, 2.0):
        bent = np.tanh(drive * quiet)
        gain = float(quiet @ bent) / float(quiet @ quiet)
        own = bent - gain * quiet
        made, _ = toned(bent, "bell")
        found = split_difference(quiet, made, made, R)
        assert found is not None
        told, _ = toned(own, "bell")
        linear, _ = toned(gain * quiet, "bell")
        wanted = 10 * math.log10(float(told @ told) / float(linear @ linear))
        assert found.null_after_filter_db == pytest.approx(wanted, abs=1.0)
        assert found.tone_share_db is not None


def test_bands_tell_where_it_differs() -> None:
    a = noise(6.0)
    sections = ss.butter(4, 3000.0, "lowpass", fs=R, output="sos")
    b = ss.sosfiltfilt(sections, a)
    found = split_difference(a, b, b, R)
    assert found is not None
    by_hz = {round(one.hz): one for one in found.bands}
    low, high = by_hz[500], by_hz[8000]
    assert low.null_db is not None
    assert high.null_db is not None
    assert low.null_db < -15.0 < high.null_db
    assert low.null_after_filter_db is not None
    assert low.null_after_filter_db < -80.0
    assert low.level_db == pytest.approx(0.0, abs=0.2)
    assert high.level_db is not None
    assert high.level_db < -50.0
    assert low.coherence is not None
    assert low.coherence > 0.99
    assert len(found.bands) == third_octaves(R).size


def test_silence_and_strangers_tell_nothing() -> None:
    a = noise(1.0)
    nothing = np.zeros_like(a)
    assert split_difference(a, nothing, nothing, R) is None
    assert split_difference(nothing, a, a, R) is None
    assert split_difference(a, -a, -a, R) is None
    assert stack(a, nothing, nothing, R) is None
    assert filter_between(a[:200], a[:200], R) is None


@pytest.mark.parametrize("name", ["guit_e_fifths", "guit_em9", "bass_thick_c"])
def test_open_recordings_split_as_they_were_made(name: str) -> None:
    """Debian's sonic-pi-samples (CC0): gain, filter and noise that are known."""
    path = SAMPLES / f"{name}.flac"
    outside(path.is_file(), "sonic-pi-samples")
    samples, rate = soundfile.read(path)
    a = samples.mean(axis=1) if samples.ndim > 1 else samples
    sections = ss.butter(1, 4000.0, "lowpass", fs=rate, output="sos")
    linear = 0.7 * ss.sosfilt(sections, a)
    hiss = 1e-3 * math.sqrt(float(np.mean(linear**2)))
    b = linear + hiss * np.random.default_rng(8).standard_normal(a.size)
    found = split_difference(a, b, b, float(rate))
    assert found is not None
    # The same steps on the parts by themselves.
    gain = float(a @ linear) / float(a @ a)
    level = float(np.sum((b / gain - a) ** 2)) / float(a @ a)
    wanted = float(np.sum((b - linear) ** 2)) / float(a @ a) / gain**2
    assert found.level_db == pytest.approx(10 * math.log10(level), abs=0.1)
    assert found.rest_db == pytest.approx(10 * math.log10(wanted), abs=1.5)
    assert found.tone_share_db == pytest.approx(10 * math.log10(level - wanted), abs=0.3)


# --- stacking ---


@pytest.mark.parametrize("late", [48, 24, 96])
def test_comb_notches_lie_where_they_must(late: int) -> None:
    """At odd multiples of half the delay's inverse (reference folder 05)."""
    a = noise(20.0)
    b = np.concatenate([np.zeros(late), a])[: a.size]
    found = stack(a, b, a, R)
    assert found is not None
    first = R / (2 * late)
    for number, notch in enumerate(found.notches[:3]):
        assert notch.hz == pytest.approx((2 * number + 1) * first, rel=2e-3)
    apart = np.diff([one.hz for one in found.notches])
    assert np.all(apart > 0.1 * first), "each notch once"
    deep = min(one.db for one in found.notches)
    assert deep < -15.0
    assert not found.in_time_notches
    assert found.in_time_db == pytest.approx(10 * math.log10(2.0), abs=1e-6)


@pytest.mark.parametrize("case", cases("mono_sum_gain"), ids=lambda one: one["id"])
def test_mono_sums_of_a_tone(case: dict) -> None:
    """The closed form is re twice the one; ours is re the sum of powers, 3.01 dB more."""
    hz, late = case["inputs"]["f"], case["inputs"]["tau_ms"] * 1e-3
    seconds = 2.0
    at = np.arange(round(seconds * R)) / R
    hz = round(hz * seconds) / seconds
    a, b = np.sin(2 * np.pi * hz * at), np.sin(2 * np.pi * hz * (at - late))
    wanted = 20 * math.log10(abs(math.cos(math.pi * hz * late))) + 10 * math.log10(2.0)
    found = stack(a, b, a, R)
    assert found is not None
    assert found.found_db == pytest.approx(wanted, abs=0.01)
    assert found.correlation == pytest.approx(math.cos(2 * math.pi * hz * late), abs=1e-4)


def test_width_and_sums_of_simple_pairs() -> None:
    """extras.md: equal channels +3.0 dB, one turned over never ending, strangers 0."""
    a, b = noise(20.0, 1), noise(20.0, 2)
    equal, turned, apart = stack(a, a, a, R), stack(a, -a, a, R), stack(a, b, b, R)
    assert equal is not None
    assert turned is not None
    assert apart is not None
    assert equal.found_db == pytest.approx(3.0103, abs=1e-3)
    assert equal.side_mid_db == -60.0
    assert turned.found_db < -150.0
    assert turned.in_time_db == pytest.approx(3.0103, abs=1e-3)
    assert turned.turned_db < -150.0
    assert apart.found_db == pytest.approx(0.0, abs=0.05)
    assert apart.side_mid_db == pytest.approx(0.0, abs=0.1)
    octave = next(one for one in equal.octaves if one.hz == 1000.0)
    assert octave.found_db == pytest.approx(3.0103, abs=1e-3)
    assert octave.plays


def test_octaves_of_a_first_order_all_pass() -> None:
    """Around its corner the sum is 3.01 dB below twice the one (reference folder 05)."""
    a = noise(30.0)
    corner = 1000.0
    warped = math.tan(math.pi * corner / R)
    c = (warped - 1.0) / (warped + 1.0)
    b = ss.lfilter([c, 1.0], [1.0, c], a)
    found = stack(a, b, b, R)
    assert found is not None
    low = next(one for one in found.octaves if one.hz == 125.0)
    high = next(one for one in found.octaves if one.hz == 8000.0)
    assert low.found_db > 2.8
    assert high.found_db < -6.0


# --- pairs, as people ask ---


def side(name: str, samples: np.ndarray) -> Side:
    return Side(name, samples.astype(np.float32), RATE)


def compared(a: np.ndarray, b: np.ndarray, *, split: bool = True):  # type: ignore[no-untyped-def]
    return compare_pair(side("A", a), side("B", b), CancelToken(), split=split)


def test_what_differs_in_a_sentence(played: np.ndarray) -> None:
    top, bottom = ss.iirpeak(5000.0, 2.0, fs=R)
    made = 10 ** (0.86 / 20) * (played + (10 ** (0.3 / 20) - 1) * ss.lfilter(top, bottom, played))
    b = np.concatenate([np.zeros(69), made])
    found = compared(played, b)
    assert found.found is not None
    assert found.found.delay_samples == pytest.approx(69.0, abs=0.1)
    words = difference_words(found)
    assert words.startswith("0.86 dB louder, 69 samples late, 0.3 dB more at 5 kHz; the rest")
    assert verdict_of(found).choice == "move"


def test_verdicts(played: np.ndarray) -> None:
    same = compared(played, 0.5 * played, split=False)
    assert verdict_of(same).choice == "stack"
    assert verdict_of(same).words.startswith("stack (+3.0 of 3.0 dB)")
    turned = compared(played, -0.5 * played, split=False)
    assert verdict_of(turned).choice == "turn"
    assert verdict_of(turned).words.startswith("turn one first")
    driven = compared(played, -np.concatenate([np.zeros(300), np.tanh(8 * played)]), split=False)
    assert verdict_of(driven).choice == "turn"
    assert "into time" in verdict_of(driven).words
    # An octave of it turned over: no delay and no polarity brings both together everywhere.
    wide = noise(8.0)
    octave = ss.sosfiltfilt(ss.butter(3, (330.0, 760.0), "bandpass", fs=R, output="sos"), wide)
    hole = compared(wide, wide - 2.0 * octave, split=False)
    verdict = verdict_of(hole)
    assert verdict.choice == "pan"
    assert "dB hole at " in verdict.words


def test_a_part_played_twice_is_told_and_summed(played: np.ndarray) -> None:
    again = performance(seconds=12.0, seed=77)
    found = compared(played, again)
    assert found.found is None
    assert found.reason == "not_the_same_performance"
    assert found.stacked is not None
    assert verdict_of(found).choice == "pan"
    assert "no common time" in difference_words(found)


def test_drifting_clocks_are_taken_out(played: np.ndarray) -> None:
    """Two recorders 20 ppm apart: by the end half a millisecond lies between them."""
    at = np.arange(played.size) * (1.0 - 20e-6)
    drifted = np.interp(at, np.arange(played.size), ss.sosfilt(
        ss.butter(6, 3000.0, fs=R, output="sos"), played))  # fmt: skip
    plain = ss.sosfilt(ss.butter(6, 3000.0, fs=R, output="sos"), played)
    found = compared(plain, drifted)
    assert found.found is not None
    assert found.found.drift_ppm is not None
    assert found.found.drift_ppm == pytest.approx(20.0, abs=1.0)
    assert found.split is not None
    assert found.split.null_db < -30.0


# --- low cuts ---


@pytest.mark.parametrize(
    "case",
    [one for one in reference_cases("06_tuning", "tuning.json")
     if one["group"].startswith("butterworth_hp") and one["inputs"].get("n") == 2],
    ids=lambda one: one["id"],
)  # fmt: skip
def test_low_cuts(case: dict) -> None:
    hz, corner = case["inputs"]["f"], case["inputs"]["fc"]
    assert low_cut_db(hz, corner) == pytest.approx(case["value"], abs=case["tol"])
    response = ss.sosfreqz(low_cut_sections(corner, R), [hz], fs=R)[1][0]
    assert 20 * math.log10(abs(response)) == pytest.approx(case["value"], abs=0.01)


def test_a_low_cut_lies_below_the_lowest_note(capsys: pytest.CaptureFixture[str]) -> None:
    for words, corner in (
        (["--tuning", "standard"], 80.0), (["--tuning", "drop-d"], 70.0),
        (["--tuning", "baritone-b"], 60.0), (["--tuning", "bass"], 40.0),
        (["--tuning", "bass5"], 30.0), (["--tuning", "standard", "--part", "lead"], 145.0),
    ):  # fmt: skip
        assert main(["lowcut", *words, "--json"]) == 0
        data = json.loads(capsys.readouterr().out)
        assert data["corner_hz"] == corner
        assert set(data) == documented("lowcut")
        for one in data["strings"]:
            assert one["loss_db"] == pytest.approx(-low_cut_db(one["hz"], corner), abs=1e-3)
    assert main(["lowcut", "--tuning", "nothing", "--json"]) == 1
    assert "standard" in json.loads(capsys.readouterr().out)["remedy"]
    assert proposed_corner_hz(5.0) == 15.0
    below = share_below_db(np.sin(2 * np.pi * 50.0 * np.arange(RATE) / R), 80.0, R)
    assert below == pytest.approx(0.0, abs=0.01)


# --- the shell ---


def test_the_shell_tells_the_same(
    tmp_path: Path, played: np.ndarray, capsys: pytest.CaptureFixture[str]
) -> None:
    a, b, c = (tmp_path / name for name in ("a.wav", "b.wav", "c.wav"))
    soundfile.write(str(a), played, RATE, subtype="FLOAT")
    soundfile.write(str(b), -0.5 * shift(played, 100.25, played.size + 400), RATE, subtype="FLOAT")
    soundfile.write(str(c), np.stack([played, played], 1)[::1], RATE, subtype="FLOAT")
    assert main(["compare", str(a), str(b), str(c), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert set(data) | set(data["pairs"][0]) == documented("compare")
    first, second = data["pairs"]
    assert first["delay_samples"] == pytest.approx(100.25, abs=0.01)
    assert first["polarity"] == -1
    assert first["gain_db"] == pytest.approx(20 * math.log10(2.0), abs=0.01)
    assert first["null_db"] < -60.0
    assert first["verdict"] == "turn"
    assert first["mono_sum_aligned_db"] == pytest.approx(3.0103, abs=0.001)
    assert first["mono_sum_db"] <= 3.0104
    assert second["delay_samples"] == pytest.approx(0.0, abs=0.01)
    # Heard from both speakers either way: one as loud as the other.
    assert second["louder_db"] == pytest.approx(0.0, abs=0.02)
    assert main(["compare", str(a), str(b), "--quick"]) == 0
    assert "turn one" in capsys.readouterr().out
    assert main(["compare", str(a), "--json"]) == 1
    capsys.readouterr()
    silent = tmp_path / "s.wav"
    soundfile.write(str(silent), np.zeros(RATE), RATE)
    assert main(["compare", str(a), str(silent), "--json"]) == 3
    assert json.loads(capsys.readouterr().out)["reason"] == "silent"


def test_the_blind_verb_is_documented(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["blind", "--trials", "16", "--right", "12", "--json"]) == 0
    assert set(json.loads(capsys.readouterr().out)) == documented("blind")


def test_what_is_known_of_a_pair_is_not_worked_out_again() -> None:
    """First the quick figures, then the split: together what is told at once."""
    rng = np.random.default_rng(12)
    a = rng.standard_normal(12 * RATE).astype(np.float32) * 0.1
    b = (0.8 * shift(a.astype(np.float64), 321.0, a.size)).astype(np.float32)
    sides = Side("A", a, RATE), Side("B", b, RATE)
    quick = compare_pair(*sides, CancelToken(), split=False)
    assert quick.split is None
    whole = compare_pair(*sides, CancelToken(), known=quick)
    at_once = compare_pair(*sides, CancelToken())
    assert whole.split == at_once.split
    assert whole.stacked is quick.stacked
    assert whole.found == at_once.found
    assert whole.louder_lu == at_once.louder_lu == pytest.approx(-1.938, abs=0.002)


def test_sums_block_by_block_are_those_of_the_whole() -> None:
    """Longer than a block, B shorter than A, late by a part of a sample: held block by block the
    sums are those of the whole arrays at once."""
    rng = np.random.default_rng(13)
    a = (0.1 * np.convolve(rng.standard_normal(700_000), np.ones(8), "same")).astype(np.float32)
    b = (-0.5 * shift(a.astype(np.float64), 1_000.37, 600_000)).astype(np.float32)
    pair = compare_pair(Side("A", a, RATE), Side("B", b, RATE), CancelToken(), split=False)
    assert pair.found is not None
    assert pair.found.delay_samples == pytest.approx(1_000.37, abs=0.01)
    assert pair.louder_lu is not None
    gain = 10.0 ** (-pair.louder_lu / 20.0)
    first, count, moved = both_in_time(a, b, pair.found)
    here = a[first : first + count].astype(np.float64)
    raw = b[first : first + count].astype(np.float64)
    whole = stack(here[: raw.size], gain * raw, gain * moved[: raw.size], float(RATE))
    assert whole is not None
    assert pair.stacked is not None
    assert pair.stacked.found_db == pytest.approx(whole.found_db, abs=1e-3)
    assert pair.stacked.in_time_db == pytest.approx(whole.in_time_db, abs=1e-3)
    assert pair.stacked.correlation == pytest.approx(whole.correlation, abs=1e-4)
    for one, other in zip(pair.stacked.octaves, whole.octaves, strict=True):
        assert one.found_db == pytest.approx(other.found_db, abs=0.01)
        assert one.in_time_db == pytest.approx(other.in_time_db, abs=0.01)


def test_a_rest_is_told_by_both_its_ends() -> None:
    """Judged on what the filter had not seen the rest is too much, on what it was fitted on too
    little: the noise that was put there lies between, and the less there is to go by the farther
    the ends lie apart."""
    rng = np.random.default_rng(21)
    apart = []
    for seconds in (2.0, 12.0):
        a = 0.1 * rng.standard_normal(round(seconds * RATE))
        tone = ss.sosfilt(ss.butter(2, 3_000.0, fs=R, output="sos"), a)
        noise = rng.standard_normal(a.size)
        noise *= 0.1 * float(np.sqrt(np.mean(tone**2) / np.mean(noise**2)))
        split = split_difference(a, tone + noise, tone + noise, R)
        assert split is not None
        assert split.rest_db is not None
        assert split.rest_least_db is not None
        # The rest is told at B's level, re A: -20 dB under what a filter makes of A.
        gain = float(a @ (tone + noise)) / float(a @ a)
        level = gain if split.louder_db else 1.0
        true = 10.0 * np.log10(float(noise @ noise) / level**2 / float(a @ a))
        assert split.rest_least_db - 0.05 <= true <= split.rest_db + 0.05
        apart.append(split.rest_db - split.rest_least_db)
    assert 0.0 < apart[1] < apart[0]
    assert apart[1] < 1.5


def test_of_a_driven_part_the_rest_holds_what_its_best_linear_gain_leaves() -> None:
    """Where the same notes come again a long filter explains distortion by ringing with them, on
    what it had not seen as well: the rest would be told too small by its best filter alone."""
    rng = np.random.default_rng(23)
    at = np.arange(round(0.5 * RATE)) / RATE
    notes = []
    for played in rng.integers(0, 4, 24):
        hz = (82.41, 110.0, 146.83, 196.0)[played] * (1.0 + rng.uniform(-0.01, 0.01))
        rows = [
            np.exp(-3.0 * k * at) * np.sin(2.0 * np.pi * k * hz * at + rng.uniform(0.0, 6.0)) / k
            for k in range(1, 30)
        ]
        notes.append(np.sum(rows, axis=0))
    a = 0.2 * np.concatenate(notes)
    made = np.tanh(6.0 * a) / 6.0
    split = split_difference(a, made, made, R)
    assert split is not None
    assert split.rest_db is not None
    assert split.rest_least_db is not None
    assert split.rest_most_db is not None
    gain = float(a @ made) / float(a @ a)
    true = 10.0 * np.log10(float(np.sum((made / gain - a) ** 2)) / float(a @ a))
    assert split.rest_db < true - 0.5  # what the ends are there for
    assert split.rest_least_db <= true <= split.rest_most_db + 0.25


def test_a_rest_that_is_not_sure_is_said_so() -> None:
    rng = np.random.default_rng(22)
    a = (0.1 * rng.standard_normal(RATE)).astype(np.float32)
    b = (a + 0.02 * rng.standard_normal(a.size)).astype(np.float32)
    pair = compare_pair(Side("A", a, RATE), Side("B", b, RATE), CancelToken())
    assert pair.split is not None
    split = replace(pair.split, rest_db=-15.0, rest_least_db=-19.6, rest_most_db=-14.0)
    assert "the rest lies 14 to 20 dB down." in difference_words(replace(pair, split=split))
    near = replace(split, rest_least_db=-16.0)
    assert "the rest lies 15 dB down." in difference_words(replace(pair, split=near))
    deep = replace(split, rest_db=-84.0, rest_least_db=-95.0, rest_most_db=-84.0)
    assert "the rest lies 84 dB down." in difference_words(replace(pair, split=deep))
