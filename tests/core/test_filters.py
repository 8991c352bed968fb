"""Convolution, minimum phase, fractional delay, oversampling: against numpy and scipy."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from diaulos.signal.convolve import BlockConvolver, convolve_long
from diaulos.signal.fir import FRACTION_TAPS, fractional_delay, minimum_phase, shift
from diaulos.signal.oversample import Oversampler
from support import RATE

NOISE = np.random.default_rng(3).standard_normal(70_000)


@pytest.mark.parametrize("taps", [1, 2, 31, 33, 700, 9600])
@pytest.mark.parametrize("count", [1, 100, 70_000])
def test_convolve_long_is_convolution(taps: int, count: int) -> None:
    fir = np.random.default_rng(taps).standard_normal(taps)
    want = scipy.signal.fftconvolve(NOISE[:count], fir)
    np.testing.assert_allclose(convolve_long(NOISE[:count], fir), want, atol=1e-9)


def test_convolution_in_single_precision() -> None:
    fir = np.random.default_rng(1).standard_normal(4000).astype(np.float32)
    signal = NOISE.astype(np.float32)
    got = convolve_long(signal, fir)
    assert got.dtype == np.float32
    want = scipy.signal.fftconvolve(signal.astype(float), fir.astype(float))
    error = np.std(got - want) / np.std(want)
    assert 20.0 * np.log10(error) < -120.0


@given(
    st.lists(st.integers(1, 900), min_size=1, max_size=12), st.sampled_from([1, 5, 32, 33, 1000])
)
@settings(max_examples=40)
def test_blocks_of_any_size_convolve_alike(sizes: list[int], length: int) -> None:
    fir = np.random.default_rng(length).standard_normal(length)
    convolver = BlockConvolver(fir)
    tail, at, parts = convolver.initial_state(), 0, []
    for size in sizes:
        out, tail = convolver.process(NOISE[at : at + size], tail)
        parts.append(out)
        at += size
    want = np.convolve(NOISE[:at], fir)[:at]
    np.testing.assert_allclose(np.concatenate(parts), want, atol=1e-9)


@pytest.mark.parametrize("fraction", [0.0, 0.25, 0.5, 0.9])
def test_fractional_delay_is_flat_and_right(fraction: float) -> None:
    taps = fractional_delay(fraction)
    freqs = np.linspace(20.0, 0.42 * RATE, 400)
    response = np.exp(-2j * np.pi * np.outer(freqs / RATE, np.arange(taps.size))) @ taps
    assert np.max(np.abs(20.0 * np.log10(np.abs(response)))) < 0.01
    delay = -np.unwrap(np.angle(response)) / (2.0 * np.pi * freqs / RATE)
    np.testing.assert_allclose(delay, FRACTION_TAPS / 2 - 1 + fraction, atol=0.003)


@given(st.floats(-900.0, 900.0))
@settings(max_examples=25)
def test_shift_moves_a_sine(delay: float) -> None:
    n = np.arange(6000)
    sine = np.sin(2.0 * np.pi * 0.01 * n)
    moved = shift(sine, delay)
    inside = slice(1100, 4900)
    np.testing.assert_allclose(moved[inside], np.sin(2.0 * np.pi * 0.01 * (n - delay))[inside],
                               atol=2e-5)  # fmt: skip


def test_minimum_phase_has_the_magnitude_and_little_delay() -> None:
    def magnitude(freqs: np.ndarray) -> np.ndarray:
        return 1.0 / np.sqrt(1.0 + (freqs / 3000.0) ** 4)

    taps = minimum_phase(magnitude, RATE)
    freqs = np.geomspace(30.0, 15_000.0, 200)
    _, response = scipy.signal.freqz(taps, worN=freqs, fs=RATE)
    got = 20.0 * np.log10(np.abs(response) / magnitude(freqs))
    assert np.max(np.abs(got)) < 0.05
    # All zeros inside the circle: the energy comes as early as it can.
    assert np.argmax(np.abs(taps)) < 20
    reversed_energy = np.cumsum(taps[::-1] ** 2)
    assert np.all(np.cumsum(taps**2) >= reversed_energy - 1e-12)


@pytest.mark.parametrize("factor", [4, 8])
def test_oversampler_passes_the_audio_band(factor: int) -> None:
    sampler = Oversampler(factor)
    n = np.arange(8192)
    for hz in (100.0, 5000.0, 0.39 * RATE):
        tone = np.sin(2.0 * np.pi * hz / RATE * n)
        out, _ = sampler.process(tone, sampler.initial_state(), lambda x: x)
        want = np.sin(2.0 * np.pi * hz / RATE * (n - sampler.latency_samples))
        np.testing.assert_allclose(out[500:-10], want[500:-10], atol=2e-3)


@pytest.mark.parametrize("size", [1, 63, 64, 1000])
def test_oversampling_does_not_depend_on_the_block(size: int) -> None:
    sampler = Oversampler(4)
    whole, _ = sampler.process(NOISE[:4000], sampler.initial_state(), np.tanh)
    state, parts = sampler.initial_state(), []
    for first in range(0, 4000, size):
        out, state = sampler.process(NOISE[first : min(4000, first + size)], state, np.tanh)
        parts.append(out)
    np.testing.assert_allclose(np.concatenate(parts), whole, atol=1e-12)
