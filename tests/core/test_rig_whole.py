"""The whole rig: catalogue, graph, plan against sound, fits, monitoring, changes, layout."""

from __future__ import annotations

import json
import random
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from diaulos.circuit.loading import Load, curves_db, noise_v
from diaulos.errors import EditError, InputError, RigError
from diaulos.rig import changes
from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.bench.processors import SLIP_SAMPLES, Slip, Tones
from diaulos.rig.catalogue.types import TYPES, make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.course import trace
from diaulos.rig.fits import joined, misfit_of, partners
from diaulos.rig.graph import RigGraph
from diaulos.rig.ground import HUM_HARMONICS
from diaulos.rig.layout import lay_out
from diaulos.rig.mending import insert
from diaulos.rig.model import AdcStage, Choice, Direction, PortRef, Rig
from diaulos.rig.monitoring import plan_monitoring
from diaulos.rig.safety import devices_noted, notices
from diaulos.rig.templates import TEMPLATES, build
from diaulos.rig.trackplan import plan_tracks
from diaulos.session import edits
from diaulos.session.history import History
from diaulos.session.model import Session
from diaulos.signal.amp import VOICES, Amplifier, AmpSettings, peak_output
from diaulos.units import dbu_to_peak_volt, dbu_to_volt, gain_to_db, metres_to_ms
from diaulos.wiring import BenchAudio
from diaulos.work.rigs.look import courses_data, look_at
from diaulos.work.rigs.rendering import RenderRequest, recorded_gain, render
from diaulos.work.rigs.types import read_type, type_text
from diaulos.work.takes.playing import play_take
from support import NOON, RATE

BENCH = BenchAudio()

AGREE_DB = 0.1


def hum_lines(mains_hz: float) -> tuple[tuple[float, float], ...]:
    return tuple((mains_hz * n, part) for n, part in HUM_HARMONICS)


def port(text: str) -> PortRef:
    device, name = text.split(".")
    return PortRef(device=device, port=name)


def session(*rigs: Rig) -> Session:
    return Session(id="s", name="Saltmarsh", sample_rate_hz=RATE, rigs=rigs, current_rig=rigs[0].id)


def sine(hz: float, peak: float, seconds: float = 0.5) -> np.ndarray:
    return peak * np.sin(2.0 * np.pi * hz * np.arange(int(seconds * RATE)) / RATE)


def peak_dbfs(samples: np.ndarray) -> float:
    """Peak of a steady sine from its RMS over the second half."""
    half = samples[samples.size // 2 :]
    return gain_to_db(float(np.sqrt(2.0 * np.mean(half**2))))


# --- catalogue ---


@pytest.mark.parametrize("type_id", sorted(TYPES))
def test_a_catalogue_type_is_sound(type_id: str) -> None:
    """Every path, switch and stage names what is there; every switch position can stand."""
    device = make(type_id, "x")
    assert device.type == type_id
    assert type(device).model_validate(device.model_dump(mode="json")) == device
    for setting in device.settings:
        if isinstance(setting, Choice):
            for value, _ in setting.options:
                switched = device.with_setting(setting.id, value)
                assert all(switched.port(p.id).impedance_ohm > 0.0 for p in device.ports)
    assert Rig.model_validate(
        Rig(id="r", name="R", devices=(device,), cables=()).model_dump(mode="json")
    ).devices == (device,)


def test_an_unknown_type_or_template_names_those_that_there_are() -> None:
    with pytest.raises(RigError, match="no type 'harp'") as caught:
        make("harp", "x")
    assert "valve_combo" in str(caught.value)
    with pytest.raises(RigError, match="no template"):
        build("opera", "r")


def test_switches_change_a_port() -> None:
    device = make("interface4", "i")
    line, mic = device.port("in1"), device.with_setting("mode1", "mic").port("in1")
    assert (line.impedance_ohm, mic.impedance_ohm) == (12_000.0, 2_400.0)
    padded = device.with_setting("pad1", "on").port("in1")
    assert padded.max_dbu == line.max_dbu + 15.0
    phantom = device.with_setting("phantom1", "on")
    assert not phantom.port("in1").phantom  # only where a microphone is meant
    assert phantom.with_setting("mode1", "mic").port("in1").phantom


# --- plan against sound ---


@pytest.mark.parametrize("name", sorted(TEMPLATES))
@pytest.mark.parametrize("hz", [100.0, 1000.0, 5000.0])
def test_plan_and_sound_agree_on_every_linear_track(name: str, hz: float) -> None:
    """Steady sines, noise off: the dry tracks of all templates within 0.1 dB."""
    from diaulos.rig.plan import linear_responses

    graph = RigGraph(build(name, "r1"), tone=True)
    plans = [p for p in plan_tracks(graph) if p.tap == "di"]
    for plan in plans:
        course = plan.course
        assert course is not None
        assert course.source is not None
        emf = dbu_to_peak_volt(course.source.emf_peak_dbu - 20.0)
        bench = RigBench(graph, plan.source, RATE, BenchFaults.none())
        heard = peak_dbfs(bench.process(sine(hz, emf))[plan.track])
        last = [r for p, r in linear_responses(course, np.array([hz])).items()][-1]
        wanted = gain_to_db(emf * float(abs(last[0])))
        assert heard == pytest.approx(wanted, abs=AGREE_DB)
        if hz == 1000.0:
            assert plan.peak_dbfs is not None
            assert heard + 20.0 == pytest.approx(plan.peak_dbfs, abs=AGREE_DB)
    assert plans or name.startswith("reamp")


def test_clipping_happens_where_the_plan_says() -> None:
    rig = build("hybrid", "r1").with_setting("interface", "gain1", 40.0)
    graph = RigGraph(rig, tone=True)
    plan = next(p for p in plan_tracks(graph) if p.tap == "di")
    assert [c.unit for c in plan.clipped] == ["dBFS"]
    assert plan.course is not None
    emf = dbu_to_peak_volt(plan.course.source.emf_peak_dbu)  # type: ignore[union-attr]
    heard = RigBench(graph, plan.source, RATE, BenchFaults.none()).process(sine(1000.0, emf))
    assert float(np.abs(heard[plan.track]).max()) == pytest.approx(1.0)
    squared = float(np.mean(np.abs(heard[plan.track][RATE // 4 :]) > 0.999))
    assert squared > 0.5


def test_shared_stations_are_played_once_and_blocks_do_not_matter() -> None:
    graph = RigGraph(build("hybrid", "r1"))
    played = sine(440.0, 0.3, 0.4) * np.linspace(1.0, 0.2, int(0.4 * RATE))
    results = []
    for size in (64, 4096, played.size):
        bench = RigBench(graph, "guitar", RATE, BenchFaults(seed=3))
        parts = [bench.process(played[n : n + size]) for n in range(0, played.size, size)]
        results.append({t: np.concatenate([p[t] for p in parts]) for t in parts[0]})
    for track, samples in results[0].items():
        np.testing.assert_allclose(samples, results[1][track], atol=1e-9)
        np.testing.assert_allclose(samples, results[2][track], atol=1e-9)
    # Amp and amp with cabinet share the amplifier: its noise is the same in both.
    alone = sum(
        RigBench(
            RigGraph(_only(build("hybrid", "r1"), track)), "guitar", RATE, BenchFaults()
        ).processors
        for track in results[0]
    )
    assert RigBench(graph, "guitar", RATE, BenchFaults()).processors < alone - 8


def _only(rig: Rig, track: PortRef) -> Rig:
    """The rig with one recorded track."""
    cables = tuple(c for c in rig.cables if c.target.device != "computer" or c.target == track)
    return rig.model_copy(update={"cables": cables, "tracks": ()})


def test_tracks_are_as_late_against_each_other_as_their_courses() -> None:
    graph = RigGraph(build("modeler-analog", "r1"))
    pulse = np.zeros(3000)
    pulse[200] = 0.05
    bench = RigBench(graph, "guitar", RATE, BenchFaults(noise=False))
    heard = bench.process(pulse)
    plans = {p.track: p for p in plan_tracks(graph)}
    at = {t: int(np.argmax(np.abs(s))) - bench.lead_samples for t, s in heard.items()}
    for track, place in at.items():
        wanted = 200 + plans[track].delay_ms(RATE) * RATE / 1000.0
        # An amplifier and a cabinet add some lag of their own, a pickup's resonance little.
        room = 5.0 if plans[track].tap == "di" else 60.0
        assert wanted - 2.0 <= place <= wanted + room


def test_a_circle_is_refused_by_the_bench() -> None:
    rig = build("hybrid", "r1").with_setting("computer", "monitoring", "on")
    rig = joined(rig, port("interface.main1"), port("interface.in2"))
    with pytest.raises(RigError, match="feeds back"):
        RigBench(
            RigGraph(joined(rig, port("interface.rec2"), port("computer.track4"))),
            "guitar", RATE, BenchFaults(),
        )  # fmt: skip


def test_a_microphone_further_away_is_later_by_the_air() -> None:
    rig = build("three-tones", "r1")
    air = next(c for c in rig.cables if str(c.target) == "mic.sound")
    far = changes.set_cable(rig, air.id, length_m=1.05)
    late = [trace(r, r.tracks[2].port).delay_ms(RATE) for r in (rig, far)]
    assert late[1] - late[0] == pytest.approx(metres_to_ms(1.0))
    assert metres_to_ms(1.0) == pytest.approx(2.9, abs=0.03)  # common practice: 2.9 ms per metre


def test_another_rate_slips_and_a_wrong_format_is_silent() -> None:
    rig = build("modeler-digital", "r1").with_setting("modeler", "rate", "44100")
    heard = RigBench(RigGraph(rig), "guitar", RATE, BenchFaults.none()).process(sine(1000.0, 0.05))
    spectrum = np.abs(np.fft.rfft(heard[port("computer.track1")] * np.hanning(24_000)))
    wrong = float(np.argmax(spectrum)) * RATE / 24_000
    assert wrong != pytest.approx(1000.0, abs=20.0)
    dry = np.abs(np.fft.rfft(heard[port("computer.track3")] * np.hanning(24_000)))
    assert float(np.argmax(dry)) * RATE / 24_000 == pytest.approx(1000.0, abs=3.0)


def test_slip_and_hum_do_not_depend_on_blocks() -> None:
    rng = np.random.default_rng(4)
    noise = rng.standard_normal(5000)
    for processor in (Slip(44.1 / 48.0), Slip(1.00005), Tones(1e-3, hum_lines(50.0), RATE)):
        whole, _ = processor.process(noise, processor.initial_state())
        state, parts = processor.initial_state(), []
        for n in range(0, noise.size, 97):
            out, state = processor.process(noise[n : n + 97], state)
            parts.append(out)
        np.testing.assert_allclose(np.concatenate(parts), whole, atol=1e-12)
    assert SLIP_SAMPLES == 64


def with_quiet_converters(rig: Rig, floor_dbfs: float) -> Rig:
    """Inputs without noise of their own, converters with a floor of this."""
    for device in rig.devices:
        paths = tuple(
            path.model_copy(
                update={
                    "stages": tuple(
                        stage.model_copy(update={"floor_dbfs": floor_dbfs, "input_noise": ()})
                        if isinstance(stage, AdcStage)
                        else stage
                        for stage in path.stages
                    )
                }
            )
            for path in device.paths
        )
        rig = rig.with_device(device.model_copy(update={"paths": paths}))
    return rig


def test_the_pickups_own_noise_is_in_the_sound() -> None:
    """Silence into the modeler's dry stream: the thermal noise that the circuit gives into
    this load (held against SPICE in test_circuit) and the converter's own, as powers."""
    graph = RigGraph(with_quiet_converters(build("modeler-usb", "r1"), floor_dbfs=-126.0))
    plan = next(p for p in plan_tracks(graph) if p.tap == "di")
    assert plan.course is not None
    assert plan.course.source is not None
    bench = RigBench(graph, "guitar", RATE, BenchFaults(seed=2, latency=False))
    heard = bench.process(np.zeros(8 * RATE))[plan.track][RATE:]
    spectrum = np.abs(np.fft.rfft(heard)) ** 2
    freqs = np.fft.rfftfreq(heard.size, 1.0 / RATE)
    band = (freqs >= 20.0) & (freqs <= 20_000.0)
    rms = np.sqrt(2.0 * np.sum(spectrum[band])) / heard.size
    volts = rms * dbu_to_peak_volt(12.0)  # the input's full scale
    load = Load(1e6, 660e-12)  # the jack's 60 pF and 6 m of cable
    thermal = noise_v(plan.course.source.circuit, load)
    wanted = np.hypot(thermal, dbu_to_volt(-114.0))
    assert thermal > dbu_to_volt(-114.0)
    assert gain_to_db(float(volts / wanted)) == pytest.approx(0.0, abs=0.15)


@pytest.mark.parametrize("mains_hz", [50.0, 60.0])
def test_a_ground_loop_hums_in_the_sound_and_an_isolator_ends_it(mains_hz: float) -> None:
    """An earthed amp's send into an interface whose computer is earthed: unbalanced."""
    from diaulos.rig.ground import loop_hum_v
    from diaulos.rig.mending import insert_isolator
    from diaulos.rig.templates import Patch

    patch = Patch("Loop")
    for type_id, ident in (
        ("guitar", "guitar"), ("valve_head", "amp"), ("reactive_load", "load"),
        ("interface4", "interface"), ("computer", "computer"),
    ):  # fmt: skip
        patch.add(type_id, ident)
    patch.join("guitar.out", "amp.in").join("amp.speaker", "load.speaker")
    patch.join("amp.send", "interface.in1").join("interface.rec1", "computer.track1")
    rig = Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))
    cable = next(c for c in rig.cables if str(c.target) == "interface.in1")

    def hum_v(rig: Rig) -> float:
        bench = RigBench(RigGraph(rig), "guitar", RATE, BenchFaults(seed=1, mains_hz=mains_hz))
        heard = bench.process(np.zeros(2 * RATE))[port("computer.track1")][RATE:]
        spectrum = np.abs(np.fft.rfft(heard)) / heard.size * np.sqrt(2.0)
        lines = [spectrum[int(mains_hz * order)] for order in (1, 3, 5, 7)]
        return float(np.sqrt(np.sum(np.square(lines)))) * dbu_to_peak_volt(18.0)

    assert "ground-loop" in {f.id for f in run_checks(Context(RigGraph(rig)))}
    assert hum_v(rig) == pytest.approx(loop_hum_v(cable), rel=0.05)
    mended = insert_isolator(rig, cable.id)
    assert "ground-loop" not in {f.id for f in run_checks(Context(RigGraph(mended)))}
    assert hum_v(mended) < 0.02 * hum_v(rig)


def test_hum_has_the_rms_that_it_is_given() -> None:
    tones = Tones(2e-3, hum_lines(60.0), RATE)
    out, _ = tones.process(np.zeros(RATE), tones.initial_state())
    assert float(np.sqrt(np.mean(out**2))) == pytest.approx(2e-3, rel=1e-3)


@pytest.mark.parametrize("voice", sorted(VOICES))
def test_the_amplifiers_curve_is_near_what_it_plays(voice: str) -> None:
    """The plan behind an amp is its curve without filters: within 6 dB of the sound."""
    chosen = AmpSettings(voice=voice, master_db=-6.0)
    amp = Amplifier(chosen, RATE)
    for dbu in (-20.0, 0.0):
        peak = dbu_to_peak_volt(dbu)
        out, _ = amp.process(sine(1000.0, peak), amp.initial_state())
        heard = float(np.abs(out[out.size // 2 :]).max())
        assert gain_to_db(peak_output(chosen, peak) / heard) == pytest.approx(0.0, abs=6.0)


# --- what goes into this port ---


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_partners_fit_mechanically_best_first(name: str) -> None:
    graph = RigGraph(build(name, "r1"))
    for plug in graph.plugs():
        found = partners(graph, plug.ref)
        ranks = [fit.severity or 0 for fit in found]
        assert ranks == sorted(ranks)
        for fit in found:
            assert fit.plug.port.direction is not plug.port.direction
            assert fit.plug.device.id != plug.device.id
            assert bool(fit.misfit) == (fit.severity is not None)


def test_an_amplifiers_speaker_output_goes_to_the_load_and_says_why_nowhere_else() -> None:
    graph = RigGraph(build("hybrid", "r1"))
    (into_mic,) = [
        fit for fit in partners(
            RigGraph(graph.rig.with_setting("interface", "mode2", "mic")), port("load_box.line")
        )
        if fit.plug.port.id == "in2"
    ]  # fmt: skip
    assert "line" in into_mic.misfit.lower()
    found = partners(graph, port("amp.speaker"))
    assert found[0].plug.words == "8-ohm load box, Speaker input"
    assert not found[0].misfit
    others = [fit for fit in found if fit.plug.device.id != "load_box"]
    assert others
    assert all("speaker output" in fit.misfit for fit in others)


def test_a_digital_plug_of_the_same_shape_is_marked() -> None:
    pair = Rig(
        id="r", name="R", devices=(make("converter", "c"), make("mic_preamp", "p")), cables=()
    )
    graph = RigGraph(pair)
    severity, words = misfit_of(graph, graph.plug(port("c.aes_out")), graph.plug(port("p.in")))
    assert severity is not None
    assert "digital" in words


# --- monitoring ---


def test_the_monitoring_plan_counts_what_is_on_the_way() -> None:
    rig = build("modeler-analog", "r1").with_setting("interface", "direct", "on")
    rig = rig.with_setting("computer", "monitoring", "on").with_setting("computer", "buffer", "128")
    plan = plan_monitoring(RigGraph(rig), RATE)
    (one,) = plan.listeners
    ways = {way.kind: way for way in one.ways if way.source_id == "guitar"}
    assert set(ways) == {"direct", "software"}
    assert ways["software"].delay_ms >= 2 * 128 * 1000.0 / RATE
    assert ways["software"].metres == pytest.approx(ways["software"].delay_ms * 0.343, rel=0.01)
    assert one.doubled
    assert one.buffer_limit is not None
    limited = rig.with_setting("computer", "buffer", str(one.buffer_limit))
    late = [
        way.delay_ms
        for way in plan_monitoring(RigGraph(limited), RATE).listeners[0].ways
        if way.kind == "software"
    ]
    assert max(late) <= 10.0
    assert plan.recorded_unchanged
    assert any("Pull Input 1 down" in line for line in plan.mute)
    # Without the recorder's faders there is nothing to pull down.
    off = plan_monitoring(RigGraph(rig.with_setting("computer", "monitoring", "off")), RATE)
    assert not any("DI" in line for line in off.mute)


def test_nobody_listening_is_an_empty_plan() -> None:
    rig = build("hybrid", "r1")
    assert plan_monitoring(RigGraph(changes.remove_device(rig, "headphones")), RATE).listeners == ()


# --- changes, undo, saving ---


def random_change(rig: Rig, rng: random.Random) -> Rig:
    """One thing that a person may do."""
    draw = rng.randrange(7)
    if draw == 0:
        return changes.add_device(rig, rng.choice(sorted(TYPES)))[0]
    device = rng.choice(rig.devices)
    if draw == 1 and len(rig.devices) > 2:
        return changes.remove_device(rig, device.id)
    if draw == 2 and rig.cables:
        return changes.unplug(rig, rng.choice(rig.cables).id)
    if draw == 3 and rig.cables:
        return changes.set_cable(rig, rng.choice(rig.cables).id, length_m=rng.uniform(0.1, 20.0))
    if draw == 4:
        return changes.plan_tracks_as_plugged(rig)
    if draw == 5:
        return changes.rename_device(rig, device.id, f"Box {rng.randrange(99)}")
    graph = RigGraph(rig)
    plugs = [p for p in graph.plugs() if partners(graph, p.ref)]
    one = rng.choice(plugs)
    return joined(rig, one.ref, rng.choice(partners(graph, one.ref)).plug.ref)


@settings(max_examples=25)
@given(st.integers(0, 10_000), st.sampled_from(sorted(TEMPLATES)))
def test_undo_restores_the_rig_and_saving_is_the_identity(seed: int, name: str) -> None:
    rng = random.Random(seed)
    start = session(build(name, "r1"))
    history = History(start)
    for _ in range(6):
        history.apply(edits.change_rig("r1", "change", lambda rig: random_change(rig, rng)))
        rig = history.current.rig()
        for cable in rig.cables:
            assert rig.port(cable.source).direction is Direction.OUT
            assert rig.port(cable.target).direction is Direction.IN
        text = history.current.model_dump_json()
        assert Session.model_validate_json(text) == history.current
    end = history.current
    while history.undo_label:
        history.undo()
    assert history.current == start
    while history.redo_label:
        history.redo()
    assert history.current == end


def test_a_box_goes_into_the_middle_of_a_cable() -> None:
    rig = build("hybrid", "r1")
    cable = next(c for c in rig.cables if str(c.target) == "amp.in")
    other = insert(rig, cable.id, "line_isolator", "isolator")
    graph = RigGraph(other)
    assert [str(c.source) for c in graph.into["isolator", "in"]] == ["echo.out"]
    assert [str(c.target) for c in graph.out_of["isolator", "out"]] == ["amp.in"]
    with pytest.raises(RigError, match="no longer"):
        insert(rig, "gone", "line_isolator", "isolator")


def test_changes_refuse_what_cannot_be() -> None:
    rig = build("hybrid", "r1")
    with pytest.raises(RigError, match="no longer"):
        changes.unplug(rig, "c99")
    with pytest.raises(RigError, match="length_m"):
        changes.set_cable(rig, "c01", length_m=-1.0)
    with pytest.raises(RigError, match="1 to 120"):
        changes.rename_device(rig, "amp", "  ")
    with pytest.raises(RigError, match="impedance_ohm"):
        changes.set_port(rig, port("amp.in"), impedance_ohm=0.0)
    with pytest.raises(RigError, match="cannot be edited"):
        changes.set_port(rig, port("amp.in"), channels=2.0)
    with pytest.raises(EditError, match="one rig at least"):
        edits.remove_rig("r1")(session(rig))


def test_a_figure_is_changed_as_the_switches_stand() -> None:
    rig = build("hybrid", "r1").with_setting("interface", "mode2", "mic")
    rig = changes.set_port(rig, port("interface.in2"), impedance_ohm=1_500.0, max_dbu=4.0)
    now = rig.port(port("interface.in2"))
    assert (now.impedance_ohm, now.max_dbu) == (1_500.0, 4.0)
    line = rig.with_setting("interface", "mode2", "line").port(port("interface.in2"))
    assert line.impedance_ohm == 12_000.0  # another position keeps its own


def test_tracks_are_planned_named_moved() -> None:
    rig = build("hybrid", "r1").model_copy(update={"tracks": ()})
    rig = changes.plan_tracks_as_plugged(rig)
    assert [t.name for t in rig.tracks] == ["DI", "Amp", "Amp and cabinet"]
    assert [t.input_number for t in rig.tracks] == [1, 3, 4]
    rig = changes.set_track(rig, rig.tracks[1].port, name="Dirty", group="Verse")
    rig = changes.move_track(rig, rig.tracks[2].port, -1)
    assert [t.name for t in rig.tracks] == ["DI", "Amp and cabinet", "Dirty"]
    again = changes.plan_tracks_as_plugged(rig)
    assert {t.name for t in again.tracks} == {"DI", "Dirty", "Amp and cabinet"}
    used, free = changes.inputs_left(rig)
    assert used == 3
    assert [str(ref) for ref in free] == ["interface.in2"]


def test_notices_stand_at_amp_load_and_earth_and_stay_when_read() -> None:
    rig = build("hybrid", "r1")
    found = {n.id: n for n in notices(rig)}
    assert set(found) == {"amp", "load", "earth", "sound"}
    assert found["amp"].devices == ("amp",)
    assert found["load"].devices == ("load_box",)
    assert "Never lift a safety earth" in found["earth"].text
    read = changes.acknowledge(rig, "amp")
    assert read.acknowledged == ("amp",)
    assert {n.id for n in notices(read)} == set(found)
    assert changes.acknowledge(read, "amp", read=False).acknowledged == ()


# --- own types ---


def test_an_own_type_goes_through_a_file(tmp_path: Path) -> None:
    device = make("passive_di", "box").model_copy(update={"name": "Boathouse DI"})
    path = tmp_path / "di.json"
    path.write_text(type_text(device), "utf-8")
    back = read_type(path)
    assert back.model_copy(update={"id": "box"}) == device


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "no JSON"),
        ("[]", "not a device type"),
        ('{"diaulos_device_type": 1, "device": {"id": "x"}}', "device.kind"),
        ("\udcff", "no JSON"),
    ],
)
def test_a_broken_type_file_says_where(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "bad.json"
    path.write_bytes(text.encode("utf-8", "surrogateescape"))
    with pytest.raises(InputError, match=words) as caught:
        read_type(path)
    assert "bad.json" in str(caught.value)


def test_a_type_that_names_what_is_not_there_is_refused(tmp_path: Path) -> None:
    for field, value, words in (
        ("source", "nowhere", "the port 'nowhere'"), ("when", [["sw", "on"]], "no switch 'sw'"),
    ):  # fmt: skip
        data = json.loads(type_text(make("pedal", "p")))
        data["device"]["paths"][0][field] = value
        path = tmp_path / "bad.json"
        path.write_text(json.dumps(data), "utf-8")
        with pytest.raises(InputError, match=words):
            read_type(path)
    path.write_text(" " * 1_000_001, "utf-8")
    with pytest.raises(InputError, match="larger"):
        read_type(path)


@pytest.mark.parametrize(
    ("type_id", "where", "value", "words"),
    [
        ("computer", ("settings", 1, "options"), [["256", "256"], ["often", "Often"]], "no number"),
        ("computer", ("settings", 0, "value"), "fast", "not one of its options"),
        ("passive_di", ("paths", 1, "stages", 0, "turns_ratio"), 0.0, "greater than"),
        ("pedal", ("settings", 1, "maximum"), 1e9, "less than"),
        ("pedal", ("ports", 1, "id"), "in", "same id"),
        ("valve_combo", ("paths", 0, "source"), "speaker", "is no input"),
        ("converter", ("paths", 0, "target_channel"), 9, "channel 9"),
        ("cabinet1", ("paths", 1, "stages", 1, "setting"), "sound", "no switch 'sound'"),
    ],
)
def test_a_strangers_device_is_refused_where_it_would_break_later(
    type_id: str, where: tuple, value: object, words: str
) -> None:
    data = json.loads(make(type_id, "x").model_dump_json())
    part = data
    for step in where[:-1]:
        part = part[step]
    part[where[-1]] = value
    with pytest.raises(ValueError, match=words):
        type(make(type_id, "x")).model_validate(data)


def test_an_unknown_voice_spoils_its_track_only() -> None:
    rig = build("hybrid", "r1")
    voice = rig.device("amp").setting("voice").model_copy(update={"open_ended": True, "value": "x"})
    amp = rig.device("amp")
    others = tuple(voice if s.id == "voice" else s for s in amp.settings)
    rig = rig.with_device(amp.model_copy(update={"settings": others}))
    report = look_at(session(rig))
    assert [bool(plan.problem) for plan in report.tracks] == [False, True, True]


# --- layout ---


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_nothing_overlaps_and_courses_run_left_to_right(name: str) -> None:
    rig = build(name, "r1")
    graph = RigGraph(rig)
    layout = lay_out(graph)
    assert {box.device for box in layout.boxes} == {d.id for d in rig.devices}
    for index, one in enumerate(layout.boxes):
        assert one.y >= 0.0
        assert one.x + one.width <= layout.width
        assert one.y + one.height <= layout.height
        for other in layout.boxes[index + 1 :]:
            if one.column == other.column:
                assert one.y + one.height <= other.y or other.y + other.height <= one.y
    back = {wire.cable for wire in layout.wires if wire.back}
    columns = {box.device: box.column for box in layout.boxes}
    for cable in rig.cables:
        if cable.id not in back:
            assert columns[cable.source.device] < columns[cable.target.device]
    if name == "hybrid":
        assert layout.width <= 1330.0  # on a window of 1280 at nine tenths


@pytest.mark.parametrize("name", sorted(TEMPLATES))
@pytest.mark.parametrize("straight", [False, True])
def test_the_word_of_safety_below_a_device_has_its_room(name: str, straight: bool) -> None:
    """Of an amplifier fed by a line straight in the headphones stood in it."""
    rig = build(name, "r1")
    boxes = [d.id for d in rig.devices if d.kind == "reamp_box"]
    if straight and boxes:
        into = next(c for c in rig.cables if c.target.device == boxes[0])
        out_of = next(c for c in rig.cables if c.source.device == boxes[0])
        kept = tuple(c for c in rig.cables if c not in (into, out_of))
        rig = rig.model_copy(
            update={
                "devices": tuple(d for d in rig.devices if d.id not in boxes),
                "cables": (*kept, out_of.model_copy(update={"source": into.source})),
            }
        )
    layout = lay_out(RigGraph(rig))
    noted = [box for box in layout.boxes if box.device in devices_noted(rig)]
    assert bool(noted) == any(d.kind in ("amp", "load_box", "attenuator") for d in rig.devices)
    for one in noted:
        end = one.y + one.height + 17.0  # a line of nine points
        assert end <= layout.height
        for other in layout.boxes:
            if other.column == one.column:
                assert other.y < one.y + one.height or other.y >= end
        for wire in layout.wires:
            assert not wire.back or max(y for _, y in wire.points) >= end


def test_one_course_alone_is_drawn_small() -> None:
    rig = build("hybrid", "r1")
    graph = RigGraph(rig)
    course = trace(graph, rig.tracks[0].port)
    only = frozenset(leg.device.id for leg in course.legs)
    layout = lay_out(graph, only)
    assert {box.device for box in layout.boxes} == {"guitar", "di", "interface", "computer"}
    free = port("interface.in2")
    assert lay_out(graph).place(free) is None
    assert lay_out(graph, also=free).place(free) is not None


@pytest.mark.parametrize(
    ("name", "sides"),
    [
        ("modeler-digital", ["left", "right", "mono"]),
        ("modeler-analog", ["mono", "left", "right"]),
        ("modeler-usb", ["left", "right", "mono"]),
        ("split-chain", ["mono", "mono"]),
        ("bass", ["mono", "mono", "mono"]),
    ],
)
def test_stereo_pairs_are_known(name: str, sides: list[str]) -> None:
    rows = courses_data(look_at(session(build(name, "r1"))), RATE)
    assert [row["layout"] for row in rows] == sides


# --- use cases ---


def test_look_at_uses_the_sessions_instrument(demo_folder: Path) -> None:
    from diaulos.wiring import SessionFolder

    demo = SessionFolder.open(demo_folder, read_only=True).load()
    report = look_at(demo, "rig04")
    source = report.graph.sources["guitar"]
    instrument = demo.instrument("baritone")
    assert source.name == instrument.name
    # The reading was made into the tone stage; the EMF is what the load took higher.
    load = Load.together(instrument.cable, Load(1e6, 50e-12))
    lost = float(curves_db(instrument.circuit(), [load], np.array([1000.0]))[0][0])
    assert source.emf_peak_dbu == pytest.approx(instrument.reading.peak_dbu - lost, abs=0.05)
    ids = {f.id for f in report.findings}
    assert {"line-into-mic", "long-unbalanced", "doubled-monitoring", "clips"} <= ids
    rows = courses_data(report, RATE)
    assert [row["tap"] for row in rows] == ["di", "amp", "cabinet"]
    assert rows[2]["stations"][-1]["unit"] == "dBFS"


class _Source:
    """Samples as an audio file."""

    def __init__(self, samples: np.ndarray, rate_hz: int = RATE) -> None:
        self._samples, self.rate_hz = samples.astype(np.float32), rate_hz
        self.frames, self.channels = samples.size, 1

    def blocks(self, *, first=0, count=None, block=65_536):  # type: ignore[no-untyped-def]
        for n in range(0, self.frames, block):
            yield self._samples[n : n + block, None]


class _Sink:
    """Keeps what is written."""

    def __init__(self) -> None:
        self.parts: list[np.ndarray] = []
        self.closed = self.abandoned = False

    def write(self, samples: np.ndarray) -> None:
        self.parts.append(samples.reshape(-1))

    def close(self) -> None:
        self.closed = True

    def abandon(self) -> None:
        self.abandoned = True

    @property
    def samples(self) -> np.ndarray:
        return np.concatenate(self.parts)


def test_a_stored_di_stands_for_the_instrument() -> None:
    """A DI that was recorded into the very load of the rig comes out as it went in, at the
    level that its calibration says."""
    rig = build("modeler-usb", "r1")
    plan = next(p for p in plan_tracks(RigGraph(rig)) if p.tap == "di")
    full = plan.levels[0].peak - plan.levels[-1].peak
    tone = sine(1000.0, 0.1)
    sinks: dict[PortRef, _Sink] = {}

    def sink_for(track: PortRef, name: str) -> _Sink:
        sinks[track] = _Sink()
        return sinks[track]

    request = RenderRequest(
        session(rig), "r1", _Source(tone), full_scale_dbu=full, load_ohm=1e6, load_pf=660.0
    )
    result = render(request, sink_for, BENCH)
    heard = sinks[plan.track].samples[: tone.size]
    assert peak_dbfs(heard) == pytest.approx(-20.0, abs=AGREE_DB)
    assert all(sink.closed for sink in sinks.values())
    assert result.frames == tone.size + RATE
    assert not result.assumed
    assert {s.samples.size for s in sinks.values()} == {result.frames}


def test_rendering_refuses_another_rate_and_throws_away_what_it_began() -> None:
    rig = build("hybrid", "r1")
    sinks: list[_Sink] = []

    def sink_for(track: PortRef, name: str) -> _Sink:
        sinks.append(_Sink())
        return sinks[-1]

    with pytest.raises(InputError, match="44100"):
        render(
            RenderRequest(session(rig), "r1", _Source(sine(100.0, 0.1), 44_100)), sink_for, BENCH
        )

    class Broken(_Source):
        def blocks(self, **_):  # type: ignore[no-untyped-def]
            yield np.zeros((512, 1), np.float32)
            raise OSError("gone")

    with pytest.raises(OSError, match="gone"):
        render(RenderRequest(session(rig), "r1", Broken(sine(100.0, 0.1))), sink_for, BENCH)
    assert len(sinks) == 3
    assert all(sink.abandoned and not sink.closed for sink in sinks)


def test_recorded_gain_is_the_loading_curve() -> None:
    graph = RigGraph(build("hybrid", "r1"))
    source = trace(graph, graph.tracks[0]).source
    assert source is not None
    freqs = np.array([100.0, 1000.0, 4000.0])
    load = Load(1e6, 400e-12)
    wanted = 10.0 ** (curves_db(source.circuit, [load], freqs)[0] / 20.0)
    np.testing.assert_allclose(recorded_gain(source, load)(freqs), wanted)


def test_playing_a_take_makes_a_take(demo_copy: Path) -> None:
    from diaulos.wiring import SessionFolder

    folder = SessionFolder.open(demo_copy)
    demo = folder.load()
    before = History(demo)
    played = play_take(demo, "t0001", folder, lambda: NOON, BENCH, rig_id="rig04")
    after = before.apply(played.edit)
    take = after.take(played.take.id)
    assert [track.tap for track in take.tracks] == ["di", "amp", "cabinet"]
    assert take.di is not None
    assert take.di.full_scale_dbu is not None
    assert take.tracks[2].clipped_samples > 0  # the line in the microphone input
    assert all(folder.has_file(track.file) for track in take.tracks)
    assert "Clipped: Amp and cabinet" in played.words
    strummed = play_take(demo, "", folder, lambda: NOON, BENCH, rig_id="rig04").take
    assert strummed.name.startswith("Simulated player")
    assert -15.0 < strummed.tracks[0].peak_dbfs < -3.0  # as hard as the reading says
    with pytest.raises(RigError, match="nobody can strum"):
        play_take(demo, "", folder, lambda: NOON, BENCH, rig_id="rig01")
    with pytest.raises(EditError, match="no take"):
        play_take(demo, "t9999", folder, lambda: NOON, BENCH)
    folder.close()


def test_reamp_by_usb_drives_the_model_as_the_di_input_was_driven(demo_copy: Path) -> None:
    """The model's 0 dBFS stands for 12 dBu: a DI of 14 dBu is sent 2 dB hotter, digital all
    the way, and comes back in time."""
    from diaulos.wiring import SessionFolder, bench_for
    from diaulos.work.reamp.passes import ReampRequest, make_pass

    folder = SessionFolder.open(demo_copy)
    demo = edits.add_rig(build("reamp-usb", "usb"))(folder.load())
    di = demo.take("t0001").di
    assert di is not None
    assert di.full_scale_dbu == 14.0
    made = make_pass(
        ReampRequest(demo, "t0001"), store=folder, backend_for=bench_for({}), clock=lambda: NOON
    ).made
    assert made.send_gain_db == pytest.approx(2.0)
    assert made.amp_peak_dbu == pytest.approx(di.peak_dbfs + 14.0, abs=0.01)
    assert made.main.alignment is not None
    assert made.clipped_samples == 0
    folder.close()


def test_compared_inputs_are_as_the_switches_stand() -> None:
    from diaulos.work.instruments.inputs import rig_inputs

    rig = build("hybrid", "r1").with_setting("interface", "mode2", "instrument")
    ohms = {one.name: one.ohm for one in rig_inputs(session(rig))}
    assert ohms["Four-input interface: Input 2"] == 1e6
    assert ohms["Four-input interface: Input 1"] == 2_400.0
