"""What every audio back end promises, simulated or real."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from diaulos.errors import AudioDeviceError, DiaulosError, RefusedError
from diaulos.work.capture.loop import run_loop
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, BlockStatus, BlockTime, CancelToken, StreamSpec
from support import RATE


def blocks_follow(backend: AudioBackend, *, may_lose: bool = False) -> None:
    """Blocks come in order until the callback ends it; where a real driver may lose some, the
    frame number tells how many."""
    seen: list[tuple[int, int]] = []

    def callback(inputs, outputs, count, at: BlockTime, status: BlockStatus) -> bool:  # type: ignore[no-untyped-def]
        assert inputs.shape == (count, 1)
        assert outputs.shape == (count, 1)
        assert inputs.dtype == outputs.dtype == np.float32
        assert not outputs.any()  # it comes zeroed
        assert np.isfinite(inputs).all()
        assert np.abs(inputs).max(initial=0.0) <= 1.0
        if not may_lose:
            assert not status.input_overflow
            assert not status.output_underflow
        seen.append((at.frame, count))
        outputs[:] = 0.25
        return len(seen) < 20

    stream = backend.open(StreamSpec(RATE, 256), callback)
    assert stream.info.rate_hz == RATE
    assert stream.info.input_latency_s >= 0.0
    assert stream.info.output_latency_s >= 0.0
    assert stream.info.block_frames > 0
    assert stream.info.clock_id
    stream.run()
    assert len(seen) == 20
    gaps = 0
    for (at, count), (following, _) in itertools.pairwise(seen):
        assert following >= at + count
        gaps += following > at + count
    if not may_lose:
        assert seen[0][0] == 0
        assert gaps == 0
        assert stream.xruns == 0
    assert stream.xruns >= gaps


def stop_ends_it(backend: AudioBackend) -> None:
    """From another thread, soon."""
    begun = threading.Event()

    def callback(inputs, outputs, count, at, status) -> bool:  # type: ignore[no-untyped-def]
        begun.set()
        return True

    stream = backend.open(StreamSpec(RATE, 256), callback)
    thread = threading.Thread(target=stream.run)
    thread.start()
    assert begun.wait(20.0)
    stream.stop()
    thread.join(20.0)
    assert not thread.is_alive()


def lengths_hold(backend: AudioBackend, block: int, frames: int = 6_000) -> np.ndarray:
    """So many frames are asked for, so many come, whatever was lost."""
    kept: list[np.ndarray] = []
    capture = Capture(backend, StreamSpec(RATE, block), frames=frames)

    def consume(taken) -> None:  # type: ignore[no-untyped-def]
        kept.append(np.zeros((taken.lost, 1), np.float32))
        kept.append(taken.samples)

    assert capture.run(consume) is None
    heard = np.concatenate(kept)
    assert heard.shape == (frames, 1)
    assert capture.captured == frames
    return heard


def impossible_is_refused(backend: AudioBackend, inputs: int = 9) -> None:
    """In words, with what to do."""
    with pytest.raises(AudioDeviceError) as caught:
        backend.open(StreamSpec(RATE, 256, inputs, 2), lambda *_: True)
    assert caught.value.remedy


def keeps_all(backend: Callable[[], AudioBackend]) -> bool:
    """All of it, on a live server that may lose blocks."""
    blocks_follow(backend(), may_lose=True)
    stop_ends_it(backend())
    for block in (64, 1_000):
        lengths_hold(backend(), block)
    impossible_is_refused(backend())
    return True


HELD_UP = ("blocks_lost", "unsteady", "not_the_same_performance")
"""Why what comes back is refused on a computer that is busy with something else: it has holes."""


class LostError(Exception):
    """What was lost on the way was told."""


def right_or_told(attempt: Callable[[], bool], turns: int = 4) -> None:
    """Once it is right. Where a busy computer or a server without rights loses blocks each time,
    that has to be told: `attempt` raises LostError then, or what a device says. One that is wrong
    each time and never tells fails."""
    told = 0
    for _ in range(turns):
        failed: DiaulosError | None = None
        try:
            if attempt():
                return
        except LostError:
            told += 1
        except (AudioDeviceError, RefusedError) as error:
            failed = error
        if failed is not None:
            assert failed.remedy
            assert not isinstance(failed, RefusedError) or failed.reason in HELD_UP
            told += 1
    assert told, f"wrong {turns} times, and never a word"


def answered(answer: tuple[int, dict[str, Any]]) -> dict[str, Any]:
    """What a verb said that succeeded with every block in its place. LostError where it told that
    it lost some, or its device."""
    code, data = answer
    if code == 0 and not data.get("reason") and not data.get("dropouts"):
        return data
    told = " ".join(str(data.get(key) or "") for key in ("error", "reason"))
    if code == 0 or data.get("reason") in (*HELD_UP, "audiodevice") or "held up" in told:
        raise LostError
    raise AssertionError(data)


def sent_round(backend: AudioBackend, sent: np.ndarray, rate_hz: int) -> tuple[np.ndarray, int]:
    """What comes back of a track that is sent, and how much of the way is told as lost."""
    from test_backends import Kept

    sink = Kept()
    result = run_loop(
        backend, iter([sent]), sent.size, rate_hz, 0.0, [sink], lambda *_: None, CancelToken(),
        block_frames=256,
    )  # fmt: skip
    return sink.samples, result.lost_frames + result.xruns
