"""Delay, polarity and drift: exact pairs (reference/05), generated players, amplifiers."""

from __future__ import annotations

import csv
import json

import numpy as np
import pytest

from diaulos.errors import InputError, RefusedError
from diaulos.signal.delay import find_alignment
from diaulos.signal.fir import shift
from support import RATE, REFERENCE, performance, random_part, through_amp, with_noise

PAIRS = json.loads((REFERENCE / "05_alignment" / "pairs.json").read_text("utf-8"))["cases"]
LINEAR_SAMPLES = 0.005
AMP_SAMPLES = 0.5


@pytest.mark.parametrize("case", PAIRS, ids=lambda case: case["id"])
def test_pairs_with_exactly_known_delay(case: dict) -> None:
    with open(REFERENCE / "05_alignment" / case["csv"], encoding="utf-8") as file:
        rows = list(csv.reader(file))[1:]
    a, b = (np.array([float(row[column]) for row in rows]) for column in (1, 2))
    got = find_alignment(a, b, case["fs"])
    assert got.delay_samples == pytest.approx(
        case["delay_samples"], abs=case["tol"]["delay_samples"]
    )
    assert got.polarity == case["polarity"]
    assert got.drift_ppm is None  # far too short to tell


@pytest.mark.parametrize("seed", range(6))
def test_linear_copies_at_20_db(seed: int) -> None:
    """Takes of 30 s whose strings reach 5 kHz."""
    rng = np.random.default_rng(seed)
    a = performance(random_part(rng), 30.0, seed)
    delay, sign = rng.uniform(-500.0, 3000.0), int(rng.choice([-1, 1]))
    b = with_noise(sign * 0.4 * shift(a, delay, a.size + 4000), 20.0, seed)
    got = find_alignment(a.astype(np.float32), b.astype(np.float32), RATE)
    assert abs(got.delay_samples - delay) < max(LINEAR_SAMPLES, got.delay_error_samples)
    assert got.polarity == sign
    assert got.confidence > 0.9
    assert got.drift_ppm == pytest.approx(0.0, abs=0.1)


def test_linear_precision_over_many() -> None:
    """0.005 sample at 20 dB for 30 s; the strings reach 5 kHz."""
    errors = []
    for seed in range(8):
        rng = np.random.default_rng(100 + seed)
        a = performance(seconds=30.0, seed=seed)
        delay = rng.uniform(0.0, 2000.0)
        b = with_noise(shift(a, delay, a.size + 2500), 20.0, seed)
        errors.append(find_alignment(a, b, RATE).delay_samples - delay)
    assert np.max(np.abs(errors)) < LINEAR_SAMPLES


@pytest.mark.parametrize(
    ("voice", "cabinet"),
    [
        ("lantern", "open-one"),
        ("tideline", "closed-two"),
        ("foghorn", "closed-four"),
        ("keel", "bass-fifteen"),
    ],
)
def test_through_a_driven_amp(voice: str, cabinet: str) -> None:
    """Held to the loop's latency and the same amp's own lag, rendered without either."""
    a = performance(seconds=20.0, seed=11) * 0.5
    clean = through_amp(a, voice, cabinet)
    own_lag = find_alignment(a, clean, RATE)
    latency = 1234.56
    b = with_noise(-shift(clean, latency, clean.size + 2000), 40.0)
    got = find_alignment(a, b, RATE, max_delay_samples=RATE)
    assert abs(got.delay_samples - latency - own_lag.delay_samples) < AMP_SAMPLES
    inverts = -1 if voice == "tideline" else 1
    assert own_lag.polarity == inverts
    assert got.polarity == -inverts


def _true_pair(seed: int) -> tuple[np.ndarray, np.ndarray, int]:
    rng = np.random.default_rng(seed)
    a = performance(
        random_part(rng), float(rng.choice([3.0, 6.0, 12.0])), seed, rng.uniform(80, 150)
    )
    voice = str(rng.choice(["none", "lantern", "tideline", "foghorn", "keel"]))
    cabinet = str(rng.choice(["open-one", "closed-two", "closed-four", "bass-fifteen"]))
    b = a if voice == "none" else through_amp(a * 0.4, voice, cabinet)
    sign = int(rng.choice([-1, 1]))
    b = sign * shift(b, rng.uniform(-2000.0, 4000.0), b.size + 4000)
    wanted = sign * (-1 if voice == "tideline" else 1)
    return a, with_noise(b, rng.uniform(15.0, 50.0), seed), wanted


def _false_pair(seed: int) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(1000 + seed)
    part, tempo = random_part(rng), rng.uniform(80, 150)
    seconds = float(rng.choice([3.0, 6.0, 12.0]))
    kind = seed % 3
    if kind == 0:  # unrelated
        a = performance(part, seconds, seed, tempo)
        b = performance(random_part(rng), seconds, seed + 999, rng.uniform(80, 150))
    elif kind == 1:  # the same part played twice to one click
        a = performance(part, seconds, seed, tempo)
        b = shift(performance(part, seconds, seed + 999, tempo), rng.uniform(0.0, 1000.0))
    else:  # a loop with two equal lags
        bar = performance(part, 3.0, seed, tempo)
        a, b = (bar, np.tile(bar, 2)) if seed % 2 else (np.tile(bar, 4), np.tile(bar, 4))
        b = shift(b, 700.0)
    if seed % 4 == 3:
        b = through_amp(b * 0.4, "foghorn", "open-one")
    return a, with_noise(b, rng.uniform(15.0, 50.0), seed)


@pytest.mark.parametrize("block", range(10))
def test_a_hundred_true_pairs_are_accepted(block: int) -> None:
    for seed in range(10 * block, 10 * block + 10):
        a, b, polarity = _true_pair(seed)
        got = find_alignment(a, b, RATE)
        assert got.polarity == polarity, seed


@pytest.mark.parametrize("block", range(10))
def test_a_hundred_false_pairs_are_refused(block: int) -> None:
    for seed in range(10 * block, 10 * block + 10):
        a, b = _false_pair(seed)
        with pytest.raises(RefusedError) as caught:
            find_alignment(a, b, RATE)
        assert caught.value.reason in ("not_the_same_performance", "ambiguous"), seed


def drifted(a: np.ndarray, ppm: float, delay: float) -> np.ndarray:
    """B from a clock that is slower by `ppm`: it runs longer."""
    import soxr

    longer = soxr.resample(a, RATE, RATE * (1.0 + ppm * 1e-6), quality="VHQ")
    return shift(longer, delay, longer.size + int(delay) + 200)


@pytest.mark.parametrize("ppm", [2.0, -2.0, 25.0, 50.0])
def test_drift_between_two_clocks(ppm: float) -> None:
    a = performance(seconds=60.0, seed=3)
    b = with_noise(drifted(a, ppm, 500.25), 20.0)
    got = find_alignment(a, b, RATE)
    assert got.drift_ppm == pytest.approx(ppm, abs=0.05)
    assert got.delay_samples == pytest.approx(500.25, abs=0.02)
    assert got.at(10 * RATE) == pytest.approx(500.25 + ppm * 1e-6 * 10 * RATE, abs=0.05)


@pytest.mark.parametrize("where", ["a", "b"])
def test_silence_and_bad_samples_are_refused(where: str) -> None:
    a = performance(seconds=2.0)
    silent = np.zeros_like(a)
    with pytest.raises(RefusedError) as caught:
        find_alignment(*((silent, a) if where == "a" else (a, silent)), RATE)
    assert caught.value.reason == "silent"
    bad = a.copy()
    bad[77] = np.nan
    with pytest.raises(InputError, match="77"):
        find_alignment(*((bad, a) if where == "a" else (a, bad)), RATE)


def test_too_short_is_refused() -> None:
    with pytest.raises(RefusedError) as caught:
        find_alignment(np.ones(100), np.ones(100), RATE)
    assert caught.value.reason == "too_short"


def test_two_channels_are_refused() -> None:
    with pytest.raises(InputError, match="one channel"):
        find_alignment(np.ones((5000, 2)), np.ones(5000), RATE)


def test_error_bars_hold() -> None:
    """About 95 % of the errors lie inside the printed error; 80 % is asked of thirty."""
    inside = 0
    for seed in range(30):
        rng = np.random.default_rng(seed)
        a = performance(random_part(rng), 6.0, seed)
        delay = rng.uniform(0.0, 900.0)
        b = with_noise(shift(a, delay, a.size + 1000), 20.0, seed)
        got = find_alignment(a, b, RATE)
        inside += abs(got.delay_samples - delay) <= got.delay_error_samples
    assert inside >= 24
