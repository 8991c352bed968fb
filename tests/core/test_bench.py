"""The bench against the level plan, against itself in other blocks, and its faults."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.audio.bench_backend import BenchBackend
from diaulos.errors import AudioDeviceError, RigError
from diaulos.rig.bench import Bench, BenchFaults, probe
from diaulos.rig.catalogue import (
    cable,
    combo_amp,
    interface,
    load_box,
    reamp_box,
    reamp_rig,
    recorder,
)
from diaulos.rig.course import Course, reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import (
    ASSUMED_FULL_SCALE_DBU,
    amp_input,
    linear_responses,
    return_control,
    sine_level,
    solve_send,
    stations,
)
from diaulos.units import gain_to_db, peak_volt_to_dbu, power_sum_db
from diaulos.work.ports import StreamSpec
from support import RATE, performance

AGREE_DB = 0.1
HZ = (100.0, 1000.0, 5000.0)


def linear_rig(trim_db: float = -6.0, return_gain_db: float = 8.0) -> Rig:
    """Out through the reamp box and straight back in: nothing but linear stages."""
    devices = (recorder(), interface(), reamp_box(inverts=True))
    cables = (
        cable("c1", "recorder.play3", "interface.play3", 2.0),
        cable("c2", "interface.line_out3", "reamp_box.in", 3.0),
        cable("c3", "reamp_box.out", "interface.line_in5", 9.0),
        cable("c4", "interface.rec5", "recorder.track5", 2.0),
    )
    rig = Rig(id="loop", name="Loop back", devices=devices, cables=cables)
    rig = rig.with_setting("reamp_box", "trim", trim_db)
    return rig.with_setting("interface", "gain5", return_gain_db)


def tone(hz: float, dbfs: float, seconds: float = 0.6) -> np.ndarray:
    return 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(seconds * RATE) / RATE)


def level(samples: np.ndarray, unit: str) -> float:
    """Peak of a steady sine, from its RMS over the second half."""
    settled = samples[samples.size // 2 :]
    peak = float(np.sqrt(2.0 * np.mean(settled**2)))
    return gain_to_db(peak) if unit == "dBFS" else peak_volt_to_dbu(peak)


@pytest.mark.parametrize("hz", HZ)
@pytest.mark.parametrize("trim_db", [0.0, -6.0, -24.0])
def test_plan_and_sound_agree_at_every_station(hz: float, trim_db: float) -> None:
    course = reamp_course(linear_rig(trim_db))
    taps: dict = {}
    Bench(course, RATE, BenchFaults.none()).process(tone(hz, -20.0), taps)
    compared = 0
    for station in stations(course):
        planned = sine_level(course, station.point, -20.0, hz)
        assert level(taps[station.point][0], station.unit) == pytest.approx(planned, abs=AGREE_DB)
        compared += 1
    assert compared >= 5


@pytest.mark.parametrize("hz", HZ)
def test_plan_and_sound_agree_up_to_the_amplifier(hz: float) -> None:
    course = reamp_course(reamp_rig())
    taps: dict = {}
    Bench(course, RATE, BenchFaults.none()).process(tone(hz, -20.0), taps)
    point = amp_input(course)
    planned = sine_level(course, point, -20.0, hz)
    assert level(taps[point][0], "dBu") == pytest.approx(planned, abs=AGREE_DB)


def test_behind_the_amplifier_only_sound_can_tell() -> None:
    course = reamp_course(reamp_rig())
    last = stations(course)[-1].point
    with pytest.raises(RigError, match="cannot be planned"):
        sine_level(course, last, -20.0)


@pytest.mark.parametrize("voice", ["tideline", "foghorn"])
def test_blocks_of_64_and_4096_sound_the_same(voice: str) -> None:
    course = reamp_course(reamp_rig(voice=voice))
    played = 0.3 * performance(seconds=3.0, seed=8)
    results = []
    for size in (64, 4096, played.size):
        bench = Bench(course, RATE, BenchFaults(seed=5))
        parts = [bench.process(played[n : n + size]) for n in range(0, played.size, size)]
        results.append(np.concatenate(parts))
    np.testing.assert_allclose(results[0], results[1], atol=1e-9)
    np.testing.assert_allclose(results[0], results[2], atol=1e-9)


def test_every_limit_clips_at_its_own_level() -> None:
    """A line output driven past its limit is as loud as the limit and no louder."""
    course = reamp_course(linear_rig(trim_db=0.0, return_gain_db=0.0))
    loud: dict = {}
    Bench(course, RATE, BenchFaults.none()).process(tone(1000.0, 6.0), loud)
    for station in stations(course)[1:]:  # the track itself is what was asked for
        if station.ceiling is None:
            continue
        peak = float(np.max(np.abs(loud[station.point][0])))
        shown = gain_to_db(peak) if station.unit == "dBFS" else peak_volt_to_dbu(peak)
        assert shown <= station.ceiling + 0.2
    assert float(np.max(np.abs(loud[stations(course)[-1].point][0]))) <= 1.0


def test_noise_without_a_signal_is_where_the_devices_put_it() -> None:
    course = reamp_course(linear_rig(trim_db=-30.0, return_gain_db=0.0))
    back = Bench(course, RATE, BenchFaults(latency=False)).process(np.zeros(2 * RATE))
    rms_dbfs = gain_to_db(float(np.sqrt(2.0 * np.mean(back**2))))
    # An EIN of -104 dBu against 18 dBu at full scale and a floor of -116 dBFS, as powers; the
    # output's noise is 30 dB down.
    in_20k = power_sum_db(-104.0 - 18.0, -116.0) + gain_to_db(np.sqrt(RATE / 2.0 / 20_000.0))
    assert rms_dbfs == pytest.approx(in_20k, abs=0.3)


def test_the_reamp_box_turns_polarity_where_it_says_so() -> None:
    course = reamp_course(linear_rig())
    response = linear_responses(course, np.array([1000.0]))[stations(course)[-1].point]
    assert response[0].real < 0.0


def test_the_ideal_loop_has_no_latency_and_the_real_one_a_fraction() -> None:
    course = reamp_course(linear_rig())
    assert Bench(course, RATE, BenchFaults.none()).latency_samples == 0.0
    real = Bench(course, RATE, BenchFaults()).latency_samples
    assert real == pytest.approx(41.63 + 38.24)
    pulse = np.zeros(400)
    pulse[10] = 0.5
    out = Bench(course, RATE, BenchFaults(noise=False)).process(pulse)
    assert int(np.argmax(np.abs(out))) == pytest.approx(10 + real, abs=1.0)


def test_probe_shows_what_clips() -> None:
    rig = reamp_rig(voice="foghorn").with_setting("interface", "gain5", 40.0)
    shown = probe(reamp_course(rig), 0.5 * performance(seconds=3.0), RATE)
    assert shown[-1].headroom_db == pytest.approx(0.0, abs=0.01)
    assert shown[0].station.unit == "dBFS"
    assert all(one.floor < one.typical for one in shown)
    # A squared-off wave: its RMS as a sine reading passes its peak by up to 3 dB.
    assert 0.0 < shown[-1].typical - shown[-1].peak < 3.02


def test_a_missing_impulse_is_named() -> None:
    rig = reamp_rig().with_setting("load_box", "cabinet", "impulses/gone.wav")
    with pytest.raises(RigError, match=r"gone\.wav"):
        Bench(reamp_course(rig), RATE, BenchFaults.none())


# --- the send ---


def send_course() -> Course:
    return reamp_course(reamp_rig())


def test_the_send_gives_back_the_volts_of_the_di_input() -> None:
    course = send_course()
    sent = solve_send(course, -15.0, 13.0)
    assert sent.limited_db == 0.0
    at_amp = sine_level(course, amp_input(course), -15.0 + sent.gain_db)
    assert at_amp == pytest.approx(-15.0 + 13.0, abs=1e-6)
    assert sent.amp_peak_dbu == pytest.approx(-2.0, abs=1e-6)
    assert dict(sent.deviation_db)[1000.0] == pytest.approx(0.0, abs=1e-9)
    assert max(abs(db) for _, db in sent.deviation_db) < 0.5
    assert not sent.assumed


def test_the_send_in_sound() -> None:
    """The amplifier's input carries what the DI input carried, 80 Hz to 8 kHz as listed."""
    course = send_course()
    sent = solve_send(course, -20.0, 12.0)
    for hz, deviation in sent.deviation_db:
        taps: dict = {}
        Bench(course, RATE, BenchFaults.none()).process(tone(hz, -20.0 + sent.gain_db), taps)
        got = level(taps[amp_input(course)][0], "dBu")
        assert got == pytest.approx(-20.0 + 12.0 + deviation, abs=AGREE_DB)


def test_unknown_calibration_is_assumed_and_marked() -> None:
    sent = solve_send(send_course(), -15.0, None)
    assert sent.assumed
    assert sent.full_scale_dbu == ASSUMED_FULL_SCALE_DBU


def test_a_send_that_would_clip_is_limited_and_says_by_how_much() -> None:
    sent = solve_send(send_course(), -1.0, 20.0)
    assert sent.limited_db > 0.0
    assert sent.gain_db == pytest.approx(sent.wanted_db - sent.limited_db)
    assert -1.0 + sent.gain_db <= 1e-9


def test_the_amplifier_looks_back_into_a_pickup_like_source() -> None:
    # 150 ohm / 16 + (trim full up: 10 k across it) + 5.6 k in series.
    assert solve_send(send_course(), -10.0, 12.0).source_ohm == pytest.approx(5610.0, rel=0.01)


def test_the_return_control_is_the_recorders_input_gain() -> None:
    found = return_control(send_course())
    assert found is not None
    assert (found[0].id, found[1].id) == ("interface", "gain5")


def test_the_benchs_loop_has_an_input_for_each_return() -> None:
    backend = BenchBackend((send_course(),), BenchFaults.none())
    with pytest.raises(AudioDeviceError, match="1 back"):
        backend.open(StreamSpec(RATE, 64, input_channels=2), lambda *_: False)


def test_own_devices_have_their_own_ids() -> None:
    assert combo_amp("head").id == "head"
    assert load_box("box").setting("cabinet").value == "open-one"
