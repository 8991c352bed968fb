"""Waveform overviews and reading in another recording's time."""

from __future__ import annotations

import os
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from diaulos.errors import CancelledError
from diaulos.session.model import AlignmentRecord, Session
from diaulos.signal.fir import shift
from diaulos.signal.overview import BASE, Overview, build_overview, pyramid
from diaulos.storage.folder import SessionFolder
from diaulos.work.blocks import ArraySource
from diaulos.work.listening.aligned import aligned_blocks, read_aligned
from diaulos.work.ports import CancelToken, FileNotes
from diaulos.work.takes.overviews import overview_of
from support import NOON, RATE, performance

NOISE = np.random.default_rng(2).uniform(-1.0, 1.0, 300_001).astype(np.float32)


@given(st.lists(st.integers(1, 90_000), min_size=1, max_size=6))
@settings(max_examples=20)
def test_the_pyramid_does_not_depend_on_the_blocks(sizes: list[int]) -> None:
    total = min(sum(sizes), NOISE.size)
    edges = np.minimum(np.cumsum([0, *sizes]), total)
    made = build_overview(NOISE[a:b] for a, b in pairwise(edges) if b > a)
    whole = build_overview([NOISE[:total]])
    assert made.frames == total
    for one, other in zip(made.low + made.high, whole.low + whole.high, strict=True):
        np.testing.assert_array_equal(one, other)


@pytest.mark.parametrize("block", [1_000, 65_536, 300_000, 2_500_003])
def test_every_level_holds_the_ends_of_its_stretches(block: int) -> None:
    """Against the plain way, for blocks that are cut and blocks that are put together."""
    signal = np.resize(NOISE, 2_500_003)
    made = build_overview(signal[at : at + block] for at in range(0, signal.size, block))
    for level, (low, high) in enumerate(zip(made.low, made.high, strict=True)):
        edges = np.arange(0, signal.size, BASE * 4**level)
        np.testing.assert_array_equal(low, np.minimum.reduceat(signal, edges))
        np.testing.assert_array_equal(high, np.maximum.reduceat(signal, edges))
    assert len(made.low) > 2


@pytest.mark.parametrize("count", [1, 37, 1000])
def test_columns_hold_every_sample_and_little_more(count: int) -> None:
    made = build_overview([NOISE])
    low, high = made.columns(0, NOISE.size, count)
    edges = np.linspace(0, NOISE.size, count + 1).astype(int)
    for index in range(count):
        piece = NOISE[edges[index] : edges[index + 1]]
        assert low[index] <= piece.min()
        assert high[index] >= piece.max()
    assert low.min() == NOISE.min()
    assert high.max() == NOISE.max()


def test_outside_there_is_silence() -> None:
    made = build_overview([np.ones(10 * BASE, np.float32)])
    low, high = made.columns(-1000.0, 5000.0, 60)
    assert low[0] == high[0] == 0.0
    assert high[-1] == 0.0
    assert high.max() == 1.0


PLAYED = performance(seconds=4.0, seed=6)


@pytest.mark.parametrize("delay", [-300.4, 0.0, 12.0, 250.75])
def test_reading_in_the_others_time(delay: float) -> None:
    late = ArraySource(shift(PLAYED, delay).astype(np.float32), RATE)
    got = read_aligned(late, 40_000, 50_000, delay)
    np.testing.assert_allclose(got, PLAYED[40_000:90_000], atol=3e-4)


def test_drift_is_taken_out() -> None:
    from test_delay import drifted

    late = ArraySource(drifted(PLAYED, 40.0, 200.25).astype(np.float32), RATE)
    got = read_aligned(late, 20_000, 150_000, 200.25, 40.0)
    assert np.std(got - PLAYED[20_000:170_000]) < 1e-3 * np.std(PLAYED)


def test_blocks_join_without_a_seam() -> None:
    record = AlignmentRecord(
        delay_samples=33.3, delay_error_samples=0.01, polarity=-1, confidence=1.0
    )
    source = ArraySource(shift(-PLAYED, 33.3).astype(np.float32), RATE)
    whole = np.concatenate(list(aligned_blocks(source, PLAYED.size, record)))[:, 0]
    np.testing.assert_allclose(whole[100:-400], PLAYED[100:-400], atol=3e-4)


def test_a_drift_within_its_error_is_left_alone() -> None:
    def told(drift: float | None, error: float | None) -> float:
        return AlignmentRecord(
            delay_samples=0.0, delay_error_samples=0.01, polarity=1, confidence=1.0,
            drift_ppm=drift, drift_error_ppm=error,
        ).told_drift_ppm  # fmt: skip

    assert told(None, None) == 0.0
    assert told(0.5, 0.4) == 0.0
    assert told(2.0, 0.1) == 2.0


# --- kept for the next look ---


@pytest.fixture
def folder(tmp_path: Path):  # type: ignore[no-untyped-def]
    made = SessionFolder.create(tmp_path / "S", Session(id="s", name="S", sample_rate_hz=RATE))
    yield made
    made.close()


FILE = "audio/t0001_k01.wav"


def write(folder: SessionFolder, samples: np.ndarray) -> None:
    (folder.path / FILE).unlink(missing_ok=True)
    sink = folder.create_audio(FILE, RATE, 1, "24", FileNotes("", NOON))
    sink.write(samples)
    sink.close()


def same(one: Overview, other: Overview) -> bool:
    pairs = zip(one.low + one.high, other.low + other.high, strict=True)
    return one.frames == other.frames and all(np.array_equal(a, b) for a, b in pairs)


def kept(folder: SessionFolder) -> list[Path]:
    return sorted((folder.path / "overviews").glob("*"))


def test_the_second_look_reads_what_the_first_left(folder: SessionFolder) -> None:
    write(folder, NOISE)
    assert folder.kept_overview(FILE) is None
    first = overview_of(FILE, folder)
    again = folder.kept_overview(FILE)
    assert again is not None
    assert same(first, again)
    assert same(first, build_overview([np.rint(NOISE * 2**23).astype(np.float32) / 2**23]))
    assert len(kept(folder)) == 1
    # Another session on the same folder reads it, a read-only one too.
    other = SessionFolder.open(folder.path, read_only=True)
    assert same(overview_of(FILE, other), first)


def test_it_is_thrown_away_when_the_audio_changed(folder: SessionFolder) -> None:
    write(folder, NOISE)
    overview_of(FILE, folder)
    write(folder, 0.5 * NOISE)
    assert folder.kept_overview(FILE) is None
    half = overview_of(FILE, folder)
    assert float(half.high[0].max()) == pytest.approx(0.5, abs=0.001)
    assert len(kept(folder)) == 1  # the old one is gone
    # The same length, written in place, at another time.
    path = folder.path / FILE
    data = bytearray(path.read_bytes())
    data[-4:-1] = b"\xff\xff\x7f"  # the last sample: an odd length has a byte of padding
    before = path.stat()
    path.write_bytes(bytes(data))
    os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns + 1))
    assert folder.kept_overview(FILE) is None
    assert overview_of(FILE, folder).high[0][-1] == pytest.approx(1.0, abs=1e-6)


@pytest.mark.parametrize("damage", ["short", "junk", "nan", "pickle", "shape"])
def test_a_damaged_one_is_not_used(folder: SessionFolder, damage: str) -> None:
    write(folder, NOISE)
    wanted = overview_of(FILE, folder)
    (path,) = kept(folder)
    data, size = path.read_bytes(), path.stat().st_size
    if damage == "short":
        path.write_bytes(data[:-8])
    elif damage == "junk":
        path.write_bytes(b"x" * size)
    elif damage == "nan":
        path.write_bytes(data[:-4] + np.float32(np.nan).tobytes())
    elif damage == "pickle":
        np.save(path, np.array([object()], dtype=object), allow_pickle=True)
        path.write_bytes(path.read_bytes().ljust(size, b"\0"))
    else:
        np.save(path, np.zeros(2 * wanted.low[0].size, np.float32))
    assert folder.kept_overview(FILE) is None
    assert same(overview_of(FILE, folder), wanted)
    assert folder.kept_overview(FILE) is not None


def test_nothing_is_left_where_it_may_not_be(folder: SessionFolder, tmp_path: Path) -> None:
    write(folder, NOISE)
    reader = SessionFolder.open(folder.path, read_only=True)
    overview_of(FILE, reader)
    assert kept(folder) == []
    token = CancelToken()
    token.cancel()
    with pytest.raises(CancelledError):
        overview_of(FILE, folder, token)
    assert kept(folder) == []
    overview_of(FILE, folder)
    folder.delete_files({FILE})
    assert kept(folder) == []
    # A folder that leads out of the session is not written to.
    write(folder, NOISE)
    (folder.path / "overviews").rmdir()
    (folder.path / "overviews").symlink_to(tmp_path)
    overview_of(FILE, folder)
    folder.delete_files({FILE})
    assert not list(tmp_path.glob("*.npy"))


def test_a_pyramid_fits_its_frames() -> None:
    with pytest.raises(ValueError, match="do not make up"):
        pyramid(1_000, np.zeros(3, np.float32), np.zeros(3, np.float32))
