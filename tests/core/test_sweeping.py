"""A sweep through a coil, a pickup and known loads: the circuit's levels, its values found."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.audio.filter_backend import FilterBackend, coil_response
from diaulos.circuit.identify import Response, identify
from diaulos.circuit.loading import Load, loaded
from diaulos.demo.saltmarsh import bare_demo
from diaulos.errors import AudioDeviceError, CancelledError, EditError, RefusedError
from diaulos.session.instrument import CoilValues
from diaulos.signal.plucked import clear_in_all, read_plucks
from diaulos.signal.response import make_sweep, read_response
from diaulos.wiring import PLUCKS_S, coil_backend, open_strings_backend
from diaulos.work.instruments.identifying import found_edit
from diaulos.work.instruments.sweeping import into_load, plucked_response, swept_response
from diaulos.work.ports import CancelToken, StreamSpec

RATE = 48_000


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_plain_wire_and_a_known_filter_are_read(rate: int) -> None:
    """A one-pole low pass at 1 kHz: -3.01 dB there, -20.04 dB at 10 kHz (analytic)."""
    from scipy.signal import lfilter

    sweep = make_sweep(rate, -12.0, 4.0)
    assert np.max(np.abs(sweep.samples)) <= 10.0 ** (-12.0 / 20.0)
    wire = read_response(sweep, np.roll(sweep.samples, 300))
    assert np.max(np.abs(wire.db)) < 0.02
    assert wire.delay_samples == 300
    pole = np.exp(-2.0 * np.pi * 1_000.0 / rate)
    out = lfilter([1.0 - pole], [1.0, -pole], sweep.samples)
    found = read_response(sweep, out)
    z = np.exp(2j * np.pi * found.hz / rate)
    true = 20.0 * np.log10(np.abs((1.0 - pole) / (1.0 - pole / z)))
    assert np.max(np.abs(found.db - true)) < 0.02


def test_noise_is_told_and_what_drowns_is_refused() -> None:
    draws = np.random.default_rng(3)
    sweep = make_sweep(RATE, -20.0)
    quiet = read_response(sweep, sweep.samples + 1e-4 * draws.standard_normal(sweep.samples.size))
    louder = read_response(sweep, sweep.samples + 1e-3 * draws.standard_normal(sweep.samples.size))
    apart = np.median(quiet.snr_db - louder.snr_db)
    assert apart == pytest.approx(20.0, abs=1.5)
    assert np.median(np.abs(louder.db)) < 0.1
    with pytest.raises(RefusedError, match="clear of the noise"):
        read_response(sweep, draws.standard_normal(sweep.samples.size))
    with pytest.raises(RefusedError, match="nothing came in"):
        read_response(sweep, np.zeros(sweep.samples.size))
    with pytest.raises(RefusedError, match="clips"):
        read_response(sweep, np.clip(50.0 * sweep.samples, -1.0, 1.0))


def test_distortion_stays_out_of_the_response() -> None:
    sweep = make_sweep(RATE, -6.0)
    driven = sweep.samples + 0.1 * sweep.samples**2
    assert np.max(np.abs(read_response(sweep, driven).db)) < 0.1


@pytest.mark.parametrize("at", [0, 1])
def test_a_pickup_is_found_through_the_stand_in(at: int) -> None:
    """As somebody does it: a sweep into the input alone, one with 47 kohm across the jack."""
    one = bare_demo().instruments[at]
    loads = (Load(1e6, 30e-12), Load.together(Load(1e6, 30e-12), Load(47e3)))
    responses = []
    for load in loads:
        swept = swept_response(coil_backend(one, load), RATE, -20.0)
        hz = swept.hz
        circuit = one.circuit()
        whole = Load.together(load, one.cable)
        true = 20.0 * np.log10(np.abs(loaded(circuit.source(hz), whole, hz)) * hz)
        off = swept.db - true
        clear = (swept.snr_db > 35.0) & (hz < 12_000.0)
        assert np.count_nonzero(clear) > 60
        assert np.ptp(off[clear]) < 0.25, "the levels of the circuit, but for one"
        responses.append(into_load(swept, load.ohm, load.farad))
    found = identify(tuple(responses), "slope")
    position = one.position
    assert position is not None
    values = one.pickup(position.pickups[0]).values
    assert isinstance(values, CoilValues)
    assert found.told["inductance_h"].value == pytest.approx(values.inductance_h, rel=0.01)
    true_f = values.winding_pf * 1e-12 + one.cable.farad
    assert found.told["capacitance_f"].value == pytest.approx(true_f, rel=0.01)
    edit, words = found_edit(one, found)
    changed = edit(bare_demo()).instruments[at]
    new = changed.pickup(position.pickups[0])
    assert new.measured
    assert isinstance(new.values, CoilValues)
    assert new.values.winding_pf == pytest.approx(values.winding_pf, abs=8.0)
    assert "as a sum" in words


def test_what_cannot_be_taken_over_is_said() -> None:
    one = bare_demo().instruments[0]
    load = Load(1e6, 30e-12)
    swept = swept_response(coil_backend(one, load), RATE, -20.0)
    alone = identify((into_load(swept, load.ohm, load.farad),), "curve")
    with pytest.raises(EditError, match="not told"):
        found_edit(one, alone)
    bass = next(i for i in bare_demo().instruments if i.active)
    with pytest.raises(EditError, match="without a preamp"):
        found_edit(bass, alone)


def test_it_is_cancelled_and_wants_one_channel_each_way() -> None:
    one = bare_demo().instruments[0]
    token = CancelToken()
    token.cancel()
    with pytest.raises(CancelledError):
        swept_response(coil_backend(one, Load(1e6)), RATE, -20.0, cancel=token)
    backend = FilterBackend(coil_response(one.circuit(), Load(1e6), 0.0))
    with pytest.raises(AudioDeviceError, match="one channel"):
        backend.open(StreamSpec(RATE, 256, input_channels=2), lambda *_a: False)


# --- plucks ---


@pytest.mark.parametrize("at", [0, 1])
@pytest.mark.parametrize("seed", [1, 20])
def test_plucks_and_a_meter_tell_a_pickup_roughly_and_say_how_roughly(at: int, seed: int) -> None:
    """Without a coil: a minute of open strings into each of three loads, never alike."""
    one = bare_demo().instruments[at]
    assert one.position is not None
    values = one.pickup(one.position.pickups[0]).values
    assert isinstance(values, CoilValues)
    own = Load(1e6, 30e-12)
    heard, loads = [], (own, Load.together(own, Load(47e3)), Load.together(own, Load(10e3)))
    for number, load in enumerate(loads):
        backend = open_strings_backend(one, load, RATE, seed + number)
        plucked = plucked_response(backend, RATE, PLUCKS_S)
        assert plucked.rang_s > 30.0
        heard.append(into_load(plucked, load.ohm, load.farad))
    clear = clear_in_all([response.db for response in heard])
    assert np.count_nonzero(clear) > 24
    responses = tuple(Response(r.load_ohm, r.load_f, r.hz[clear], r.db[clear]) for r in heard)
    found = identify(responses, "each", values.resistance_ohm)
    truth = {
        "inductance_h": values.inductance_h,
        "capacitance_f": values.winding_pf * 1e-12 + one.cable.farad,
    }
    assert "inductance_h" in found.told
    for name, true in truth.items():
        told = found.told.get(name)
        if told is not None:
            assert abs(told.value - true) <= told.error, name
            assert told.error < 0.31 * told.value
    peak = found.resonance_hz[0]
    assert peak is not None
    circuit, whole = one.circuit(), Load.together(own, one.cable)
    hz = np.geomspace(1_000.0, 9_000.0, 4_000)
    true_hz = float(hz[np.argmax(np.abs(loaded(circuit.source(hz), whole, hz)))])
    assert abs(peak.value - true_hz) <= 1.2 * peak.error
    assert peak.error < 0.25 * true_hz


def test_the_mean_spectrum_is_that_of_what_was_played() -> None:
    """Noise of a known spectrum, in bursts: two filters apart by what they are apart by; what is
    silent, clips or is too short is refused."""
    rng = np.random.default_rng(3)
    noise = 0.05 * rng.standard_normal(20 * RATE)
    noise *= (np.arange(noise.size) // (RATE // 2)) % 3 > 0
    softer = np.convolve(noise, [0.5, 0.5], "same")
    one, other = (
        read_plucks(sound + 1e-5 * rng.standard_normal(noise.size), float(RATE))
        for sound in (noise, softer)
    )
    true = 20.0 * np.log10(np.abs(np.cos(np.pi * one.hz / RATE)))
    assert np.all(np.isfinite(one.db))
    assert np.max(np.abs(other.db - one.db - true)) < 0.1
    assert one.rang_s == pytest.approx(13.3, abs=2.0)
    with pytest.raises(RefusedError, match="clip"):
        read_plucks(np.clip(40.0 * noise, -1.0, 1.0), float(RATE))
    with pytest.raises(RefusedError, match="strings rang for 0 s"):
        read_plucks(np.zeros(20 * RATE), float(RATE))
    with pytest.raises(RefusedError, match="8 s are needed"):
        read_plucks(noise[: 4 * RATE], float(RATE))
    with pytest.raises(RefusedError, match="8 s are needed"):
        read_plucks(noise[:100], float(RATE))
    # A band in which nothing is played is no figure.
    time = np.arange(noise.size) / RATE
    low = (
        0.1 * np.sin(2.0 * np.pi * 400.0 * time) * np.maximum(0.0, np.sin(2.0 * np.pi * time)) ** 4
    )
    read = read_plucks(low + 1e-6 * rng.standard_normal(noise.size), float(RATE))
    assert np.isnan(read.db[-1])
    assert np.isfinite(read.db[np.argmin(np.abs(read.hz - 400.0))])
