"""The slate: a loop's own latency, polarity and response, before a note is sent."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest
from test_reamp import BASS_TAKE, GUITAR_TAKE, audio_files, desk, reamped

from diaulos.audio.bench_backend import BUFFERS_EACH_WAY, BenchBackend
from diaulos.errors import InputError, RefusedError
from diaulos.rig.bench import BenchFaults
from diaulos.rig.course import Course, reamp_course
from diaulos.rig.plan import return_control
from diaulos.session.edits import set_device_setting
from diaulos.session.model import Session
from diaulos.signal.fir import shift
from diaulos.signal.slate import Slate, make_slate, read_slate
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for
from diaulos.work.capture.loop import BLOCK_FRAMES, LoopResult
from diaulos.work.ports import AudioSink, CancelToken, StreamSpec, no_progress
from diaulos.work.reamp.slate import measure_slates
from support import RATE, through_amp

__all__ = ["desk"]  # a fixture

AMPS = [
    ("tideline", "open-one", -1), ("lantern", "closed-two", 1), ("foghorn", "closed-four", 1),
    ("keel", "bass-fifteen", -1),
]  # fmt: skip


def back(slate: Slate, delay: float, gain: float = 0.3, noise: float = 1e-6) -> np.ndarray:
    frames = slate.frames + RATE // 2
    hiss = noise * np.random.default_rng(1).standard_normal(frames)
    return gain * shift(slate.samples, delay, frames) + hiss


@pytest.mark.parametrize("rate", [44_100.0, 48_000.0, 96_000.0])
@pytest.mark.parametrize("delay", [0.0, 100.25, 2133.3, 30_000.7])
@pytest.mark.parametrize("sign", [1, -1])
def test_a_linear_loop_is_read_to_a_fiftieth_of_a_sample(
    rate: float, delay: float, sign: int
) -> None:
    slate = make_slate(rate, -40.0)
    got = read_slate(slate, back(slate, delay, 0.3 * sign))
    assert got.delay_samples == pytest.approx(delay, abs=0.02)
    assert got.polarity == sign
    inside = [db for hz, db in zip(got.response_hz, got.response_db, strict=True) if hz < 8_000.0]
    assert inside == pytest.approx([20.0 * np.log10(0.3)] * len(inside), abs=0.3)


@pytest.mark.parametrize(("voice", "cabinet", "sign"), AMPS)
def test_an_amplifiers_own_lag_is_no_latency(voice: str, cabinet: str, sign: int) -> None:
    slate = make_slate(float(RATE), -50.0)
    driven = through_amp(np.concatenate([slate.samples, np.zeros(RATE)]), voice, cabinet)
    got = read_slate(slate, 0.02 * shift(driven, 2133.3, driven.size))
    assert got.delay_samples == pytest.approx(2133.3, abs=0.5)
    assert got.heard


def test_nothing_back_is_not_heard_and_a_clip_is_told() -> None:
    slate = make_slate(float(RATE), -40.0)
    silence = 1e-4 * np.random.default_rng(2).standard_normal(slate.frames)
    got = read_slate(slate, silence)
    assert not got.heard
    assert got.delay_samples is None
    assert got.noise_dbfs == pytest.approx(-77.0, abs=0.5)
    loud = np.clip(back(slate, 100.0, 300.0), -1.0, 1.0)
    assert read_slate(slate, loud).clipped
    with pytest.raises(InputError):
        make_slate(float(RATE), 3.0)


def measured(loop, **more: object) -> object:
    """A slate round a loop given as a function from what is sent to what comes back."""

    def play(slate: Slate, sinks: Sequence[AudioSink]) -> LoopResult:
        sinks[0].write(loop(slate.samples)[:, None])
        return LoopResult(slate.frames, 0)

    return measure_slates(play, RATE, -6.0, no_progress, CancelToken(), **more)[0]


def test_levels_that_do_not_agree_are_not_known() -> None:
    """A compressor that takes half of every decibel: no level is like another."""

    def squeezed(x: np.ndarray) -> np.ndarray:
        y = shift(x, 500.0, x.size)
        return y * (np.max(np.abs(y)) + 1e-9) ** -0.5 * 0.1

    found = measured(squeezed)
    assert found.delay_samples is None
    assert "gate or a compressor" in found.reason


def test_one_level_alone_is_no_agreement() -> None:
    """A gate that opens for the first sweep only."""
    found = measured(lambda x: shift(x, 500.0, x.size) * (np.max(np.abs(x)) > 0.03))
    assert found.delay_samples is None
    assert "one level alone" in found.reason
    assert found.level_dbfs == pytest.approx(-26.0)


def test_lost_blocks_are_no_gate() -> None:
    def play(slate: Slate, sinks: Sequence[AudioSink]) -> LoopResult:
        sinks[0].write(slate.samples[:, None])
        return LoopResult(slate.frames, 1, 64)

    (found,) = measure_slates(play, RATE, -6.0, no_progress, CancelToken())
    assert found.delay_samples is None
    assert "lost" in found.reason


def test_a_sweep_with_a_hole_is_sent_again() -> None:
    """A busy computer loses blocks now and then: the loop is known all the same."""
    sent: list[float] = []

    def play(slate: Slate, sinks: Sequence[AudioSink]) -> LoopResult:
        sent.append(float(np.max(np.abs(slate.samples))))
        hole = len(sent) % 2
        sinks[0].write((0.0 if hole else 1.0) * shift(slate.samples, 500.25, slate.frames)[:, None])
        return LoopResult(slate.frames, hole, 64 * hole)

    (found,) = measure_slates(play, RATE, -6.0, no_progress, CancelToken())
    assert found.delay_samples == pytest.approx(500.25, abs=0.01)
    assert found.level_dbfs == pytest.approx(-26.0)
    assert sent[0] == pytest.approx(sent[1]), "again at its own level"
    assert len(sent) == 4


def test_what_clips_or_does_not_come_back_ends_it() -> None:
    with pytest.raises(RefusedError, match="clipped"):
        measured(lambda x: np.clip(1e4 * x, -1.0, 1.0))
    with pytest.raises(RefusedError, match="gate, or a cable"):
        measured(np.zeros_like)


def otherwise(device: str, setting: str, value: float | str):
    """A bench whose hardware does not stand as the rig says."""
    bench = bench_for(seed=7)

    def backend(courses: tuple[Course, ...]):
        return bench((reamp_course(courses[0].rig.with_setting(device, setting, value)),))

    return backend


def test_a_slate_far_from_plan_ends_it_and_names_the_knob(
    desk: tuple[SessionFolder, Session],
) -> None:
    """A quiet amplifier wants the return's gain up; on the hardware it is down. Nothing of the
    take was sent."""
    folder, session = desk
    session = set_device_setting("rig01", "amp", "master", -34.0)(session)
    desk = (folder, session)
    plan = reamped(desk, GUITAR_TAKE, rig_id="rig01", slate=False).plan
    device, knob = return_control(reamp_course(plan.rig))
    files = audio_files(folder)
    turned = otherwise(device.id, knob.id, plan.return_gain_db - 24.0)
    with pytest.raises(RefusedError, match="24 dB lower than planned") as told:
        reamped(desk, GUITAR_TAKE, rig_id="rig01", backend_for=turned)
    assert told.value.reason == "slate_far"
    assert knob.name in told.value.remedy
    assert audio_files(folder) == files
    made = reamped(desk, GUITAR_TAKE, rig_id="rig01", backend_for=turned, go_on=True).made
    assert made.main.loop_delay_samples is not None


def test_another_amplifiers_volume_is_not_far(desk: tuple[SessionFolder, Session]) -> None:
    """A stand-in's gain is no measure for a real one's."""
    quieter = otherwise("amp", "master", -18.0)
    made = reamped(desk, GUITAR_TAKE, rig_id="rig01", backend_for=quieter).made
    assert made.main.loop_delay_samples is not None


def test_an_amplifier_that_is_all_but_off_is_far(desk: tuple[SessionFolder, Session]) -> None:
    off = otherwise("amp", "master", -40.0)
    with pytest.raises(RefusedError, match="34 dB lower than planned") as told:
        reamped(desk, GUITAR_TAKE, rig_id="rig01", backend_for=off)
    assert "the amplifier's volume" in told.value.remedy


def test_a_gate_that_a_person_knows_of_is_gone_past() -> None:
    found = measured(np.zeros_like, go_on=True)
    assert found.delay_samples is None
    assert found.reason == "nothing of it came back"


@pytest.mark.parametrize(
    ("take", "rig"), [(GUITAR_TAKE, "rig01"), (GUITAR_TAKE, "rig02"), (BASS_TAKE, "rig03")]
)
def test_the_loops_delay_is_the_benchs(
    desk: tuple[SessionFolder, Session], take: str, rig: str
) -> None:
    """Held against the latency that the bench has by design, buffers included."""
    outcome = reamped(desk, take, rig_id=rig)
    stream = BenchBackend((reamp_course(outcome.rig),), BenchFaults(seed=7)).open(
        StreamSpec(RATE, BLOCK_FRAMES), lambda *_: False
    )
    truth = stream._bench.latency_samples[0] + 2 * BUFFERS_EACH_WAY * BLOCK_FRAMES
    assert outcome.made.main.loop_delay_samples == pytest.approx(truth, abs=0.5)
    assert outcome.made.main.slate is not None
    assert outcome.made.main.slate.noise_dbfs < -60.0


def test_one_slate_serves_an_unchanged_loop(desk: tuple[SessionFolder, Session]) -> None:
    folder, session = desk
    first = reamped(desk, GUITAR_TAKE, rig_id="rig01")
    after = first.edit(session)
    again = reamped((folder, after), GUITAR_TAKE, rig_id="rig01")
    assert again.made.main.slate == first.made.main.slate
    changed = after.model_copy(
        update={
            "rigs": tuple(
                r.with_setting("amp", "drive", 2.0) if r.id == "rig01" else r for r in after.rigs
            )
        }
    )
    other = reamped((folder, changed), GUITAR_TAKE, rig_id="rig01")
    assert other.made.main.slate != first.made.main.slate
    assert other.made.main.loop_delay_samples == pytest.approx(
        first.made.main.loop_delay_samples, abs=0.5
    )
    assert reamped(desk, GUITAR_TAKE, rig_id="rig01", slate=False).made.main.slate is None
