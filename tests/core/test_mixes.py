"""What thins out in a mix, on made tracks."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal as ss

from diaulos.work.compare.mixes import thinning
from diaulos.work.listening.player import Channel
from diaulos.work.ports import CancelToken
from support import RATE

SECONDS = 30


def channel(samples: np.ndarray, gain_db: float = 0.0, pan: float = 0.0) -> Channel:
    def read(first: int, count: int) -> np.ndarray:
        return samples[first : first + count]

    return Channel("k", read, gain_db, pan)


@pytest.fixture(scope="module")
def tracks() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    rng = np.random.default_rng(4)
    a, b = (0.1 * rng.standard_normal(SECONDS * RATE) for _ in range(2))
    octave = ss.sosfiltfilt(ss.butter(3, (330.0, 760.0), "bandpass", fs=RATE, output="sos"), a)
    return a, b, a - 2.0 * octave


def found(*named: tuple[str, Channel]):  # type: ignore[no-untyped-def]
    return thinning(named, SECONDS * RATE, RATE, CancelToken())


def test_what_is_turned_over_is_told_and_the_worst_comes_first(tracks) -> None:  # type: ignore[no-untyped-def]
    a, b, holed = tracks
    told = found(("A", channel(a)), ("B", channel(-a)), ("C", channel(b)), ("D", channel(holed)))
    assert (told[0].a, told[0].b) == ("A", "B")
    assert told[0].sum_db < -100.0
    pairs = {(one.a, one.b) for one in told}
    assert ("A", "D") in pairs, "a hole in an octave"
    assert ("A", "C") not in pairs, "two that have nothing in common lose nothing"
    hole = next(one for one in told if (one.a, one.b) == ("A", "D"))
    assert hole.hole_hz == 500.0
    assert "around 500 Hz" in hole.words


def test_levels_count_as_they_are_heard(tracks) -> None:  # type: ignore[no-untyped-def]
    """40 dB lower an inverted one takes hardly anything."""
    a = tracks[0]
    assert not found(("A", channel(a)), ("B", channel(-a, -40.0)))
    (half,) = found(("A", channel(a)), ("B", channel(-a, -12.0)))
    wanted = 10.0 * np.log10((1 - 10 ** (-0.6)) ** 2 / (1 + 10 ** (-1.2)))
    assert half.sum_db == pytest.approx(wanted, abs=0.01)


def test_what_is_panned_apart_or_alone_is_not_looked_at(tracks) -> None:  # type: ignore[no-untyped-def]
    a = tracks[0]
    assert not found(("A", channel(a, pan=-1.0)), ("B", channel(-a, pan=1.0)))
    assert not found(("A", channel(a)))
    assert not found()
