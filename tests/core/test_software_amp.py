"""An amplifier in another program as a device of the rig: played live beside the dry DI, reamped
through, its latency measured, and what is heard through this program."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import jack
import numpy as np
import pytest
import soundfile
from contract import LostError, answered, right_or_told, sent_round
from jack_server import JackServer
from test_backends import Kept
from test_cli import run_json
from test_jack import _noise, running, server  # noqa: F401 - fixtures

from diaulos import wiring
from diaulos.audio.live_filter import LiveFilter
from diaulos.errors import AudioDeviceError, InputError
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.course import reamp_course, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.templates import build
from diaulos.rig.trackplan import plan_tracks
from diaulos.session.edits import set_device_setting, tie_program
from diaulos.session.model import Session
from diaulos.signal.delay import find_alignment
from diaulos.storage.folder import SessionFolder
from diaulos.work.capture.mapping import programs_told, sockets_of, tied_program, wires_of
from diaulos.work.capture.recorder import Recorder
from diaulos.work.ports import StreamSpec, Through, Wire
from diaulos.work.rigs.stored import NOTHING_STORED
from support import RATE

LATE = 37.25


def port(name: str) -> PortRef:
    return PortRef(device="software", port=name)


def session_with(rig: Rig, program: str = "combo") -> Session:
    """Its software amplifier is the program's one channel."""
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    for name in ("in", "out_l"):
        session = tie_program(rig.id, port(name), (program, 1), {program: (1, 1)})(session)
    return session


def mono(template: str) -> Rig:
    """A template with the left side alone."""
    rig = build(template, "r1")
    kept = tuple(c for c in rig.cables if c.source != port("out_r"))
    tracks = tuple(t for t in rig.tracks if "right" not in t.name)
    return rig.model_copy(update={"cables": kept, "tracks": tracks})


# --- the rig ---


def test_it_is_well_and_plans_its_tracks() -> None:
    graph = RigGraph(build("software-amp", "r1"))
    assert not [one for one in run_checks(Context(graph, 48_000.0, -12.0)) if one.severity > 0]
    assert not graph.loop_cables, "a program joins no grounds"
    taps = {plan.track.port: plan.tap for plan in plan_tracks(graph)}
    assert taps == {"track1": "di", "track2": "modeled", "track3": "modeled"}


def test_its_latency_is_part_of_the_plan() -> None:
    session = session_with(build("software-amp", "r1"))
    later = set_device_setting("r1", "software", "latency", 480.0)(session)
    found = [
        {p.track.port: p.delay_ms(48_000.0) for p in plan_tracks(RigGraph(one.rigs[0]))}
        for one in (session, later)
    ]
    assert found[1]["track1"] == found[0]["track1"]
    assert found[1]["track2"] - found[0]["track2"] == pytest.approx(10.0)


def test_its_ports_are_sockets_and_an_untied_one_is_told() -> None:
    rig = build("software-amp", "r1")
    sockets = {one.port: one for one in sockets_of(RigGraph(rig), 2)}
    assert [one.port for one in sockets if one.device == "software"] == ["in", "out_l", "out_r"]
    assert not sockets[port("in")].hears
    assert sockets[port("out_l")].hears
    assert PortRef(device="computer", port="track2") not in sockets
    courses = [one.course for one in trace_all(RigGraph(rig))]
    with pytest.raises(InputError, match="tied to no program") as caught:
        wires_of(courses, "box")
    assert "Ctrl+K" in caught.value.remedy


def test_a_tie_to_a_program_moves_and_goes() -> None:
    session = session_with(build("software-amp", "r1"))
    rig = session.rigs[0]
    assert tied_program(rig, port("in")) == ("combo", 0)
    assert wires_of([one.course for one in trace_all(RigGraph(rig))], "box") == (
        Wire("box", 0, "combo", 0),
    )
    other = tie_program("r1", port("in"), ("other", 2), {"other": (2, 2)})(session).rigs[0]
    assert tied_program(other, port("in")) == ("other", 1)
    assert tied_program(other, port("out_l")) == ("combo", 0)
    none = tie_program("r1", port("in"), None, {})(session).rigs[0]
    assert tied_program(none, port("in")) is None
    bad = tie_program("r1", port("in"), ("other", 9), {"other": (2, 2)})(session).rigs[0]
    told = [one.id for one in run_checks(Context(RigGraph(bad), 48_000.0, -12.0))]
    assert "socket-not-there" in told


# --- on a server ---


def _joined(name: str) -> list[str]:
    """What is joined to a program's input."""
    client = jack.Client("look", no_start_server=True)
    try:
        return [one.name for one in client.get_all_connections(f"{name}:in_1")]
    finally:
        client.close()


def test_it_plays_along_and_is_recorded_beside_the_dry_di(running: JackServer) -> None:  # noqa: F811
    """Its delay, polarity and level are those of the other program; afterwards nothing is joined
    that was not before."""
    running.amp("box", channels=2, gain=0.0, noise_dbfs=-20.0)
    running.amp("combo", gain=-0.5, delay_frames=LATE)
    session = session_with(mono("software-amp"))
    rig = session.rigs[0]
    tracks = tuple(track.port for track in rig.tracks)

    def attempt() -> bool:
        backend = wiring.record_on("box")(session, rig, tracks, NOTHING_STORED)
        sinks = [Kept(), Kept()]
        done = Recorder(backend, sinks, RATE, frames=3 * RATE).run()
        assert _joined("combo") == []
        if done.stopped_by is not None:
            raise done.stopped_by
        if done.dropouts or done.xruns:
            raise LostError
        dry, amp = sinks[0].samples, sinks[1].samples
        found = find_alignment(dry, amp, RATE)
        assert found.delay_samples == pytest.approx(LATE, abs=0.02)
        assert found.polarity == -1
        # The foreign fraction of a sample is short of treble: half up to 12 kHz.
        spectra = [np.abs(np.fft.rfft(one[4_800:]))[: one.size // 8] for one in (dry, amp)]
        ratio = float(np.sum(spectra[1] ** 2) / np.sum(spectra[0] ** 2))
        assert 10.0 * np.log10(ratio) == pytest.approx(-6.02, abs=0.1)
        return True

    right_or_told(attempt)


def test_its_latency_is_measured_apart_from_the_block(running: JackServer) -> None:  # noqa: F811
    running.amp("combo", gain=-0.5, delay_frames=LATE)

    def attempt() -> bool:
        trip = wiring.round_trip_of("combo", 1, 1)
        assert trip.samples - trip.block_frames == pytest.approx(LATE, abs=0.02)
        assert trip.polarity == -1
        return True

    right_or_told(attempt)


def test_a_reamp_goes_through_it(running: JackServer) -> None:  # noqa: F811
    running.amp("combo", gain=0.5, delay_frames=LATE)
    rig = session_with(mono("reamp-software")).rigs[0]
    backend = wiring.loop_on("box")((reamp_course(rig),))  # the device has no part in it
    sent = _noise(3.0)

    def attempt() -> bool:
        back, lost = sent_round(backend, sent, RATE)
        if lost:
            raise LostError
        found = find_alignment(sent.astype(np.float64), back, RATE)
        assert found.delay_samples == pytest.approx(256 + LATE, abs=0.02)
        return True

    right_or_told(attempt)


def test_a_take_and_a_pass_by_the_shell(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
) -> None:
    """Tied by the command, and kept with the rig; the pass goes through the same program."""
    running.amp("box", channels=2, gain=0.0, noise_dbfs=-20.0)
    running.amp("combo", gain=0.5, delay_frames=LATE)
    path = tmp_path / "Mine.diaulos"
    code, _ = run_json(capsys, "new", path, "--plays", "guitar", "--inputs", 2, "--tone", "none")
    assert code == 0
    folder = SessionFolder.open(path)
    session = folder.load()
    back = mono("reamp-software").model_copy(update={"id": "r2", "name": "Back"})
    rigs = (*session.rigs, mono("software-amp"), back)
    folder.save(session.model_copy(update={"rigs": rigs}))
    folder.close()
    told = "Software amplifier=combo"

    def recorded() -> bool:
        words = ("record", path, "--rig", "r1", "--device", "box", "--seconds", 4,
                 "--name", "Mine", "--program", told)  # fmt: skip
        data = answered(run_json(capsys, *words))
        assert [one["tap"] for one in data["tracks"]] == ["di", "modeled"]
        files = [path / one["file"] for one in data["tracks"]]
        dry, amp = (soundfile.read(str(file))[0] for file in files)
        assert find_alignment(dry, amp, RATE).delay_samples == pytest.approx(LATE, abs=0.02)
        # What real ports recorded is compared like anything else.
        (pair,) = run_json(capsys, "compare", *files)[1]["pairs"]
        assert pair["delay_samples"] == pytest.approx(LATE, abs=0.02)
        assert pair["polarity"] == 1
        assert pair["gain_db"] == pytest.approx(6.02, abs=0.15)
        assert pair["null_after_filter_db"] < -25.0
        assert pair["mono_sum_aligned_db"] > 2.9
        assert "move" in pair["verdict"]
        return True

    def reamped() -> bool:
        words = ("reamp", path, "--take", "Mine", "--rig", "Back", "--device", "combo")
        data = answered(run_json(capsys, *words))
        assert data["loop_delay_samples"] == pytest.approx(256 + LATE, abs=0.05)
        assert data["polarity"] == 1
        return True

    right_or_told(recorded)
    folder = SessionFolder.open(path)
    session = folder.load()
    folder.close()
    assert tied_program(session.rig("r1"), port("in")) == ("combo", 0)
    if session.takes:
        right_or_told(reamped)


def test_a_program_with_one_output_is_both_sides() -> None:
    """Seen: the two sides of one program's only output were called tied twice."""
    rig = build("software-amp", "r1")
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig="r1")
    for name in ("in", "out_l", "out_r"):
        session = tie_program("r1", port(name), ("combo", 1), {"combo": (1, 1)})(session)
    found = [one.id for one in run_checks(Context(RigGraph(session.rigs[0]), 48_000.0, -12.0))]
    assert "socket-tied-twice" not in found


def test_what_program_it_is_may_be_told() -> None:
    rig = build("software-amp", "r1")
    sizes = {"combo": (1, 1), "wide": (2, 2)}
    told = dict(programs_told(rig, ["Software amplifier = wide"], sizes))
    assert told == {port("in"): ("wide", 1), port("out_l"): ("wide", 1), port("out_r"): ("wide", 2)}
    mono_told = dict(programs_told(rig, ["software=combo"], sizes))
    assert mono_told[port("out_r")] == ("combo", 1), "one side is both"
    for words, said in (("software=gone", "no program"), ("Amp=combo", "no software amplifier")):
        with pytest.raises(InputError, match=said) as caught:
            programs_told(rig, [words], sizes)
        assert caught.value.remedy


def test_a_program_that_is_not_there_is_named(running: JackServer) -> None:  # noqa: F811
    running.amp("box", channels=2, gain=0.0)
    session = session_with(mono("software-amp"), "gone")
    rig = session.rigs[0]
    tracks = tuple(track.port for track in rig.tracks)
    backend = wiring.record_on("box")(session, rig, tracks, NOTHING_STORED)
    with pytest.raises(AudioDeviceError, match="'gone'") as caught:
        backend.open(StreamSpec(RATE, 256, 2, 0), lambda *_: True)
    assert "start it" in caught.value.remedy


# --- heard through this program ---


def _round(backend: wiring.OnDevice, sent: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What two inputs hear while a sound is played at the first output; LostError where some of
    it was lost."""
    heard: list[np.ndarray] = []

    def callback(inputs, outputs, count, at, status) -> bool:  # type: ignore[no-untyped-def]
        part = sent[at.frame : at.frame + count]
        outputs[: part.size, 0] = part
        heard.append(inputs.copy())
        return bool(at.frame < 2 * sent.size)

    stream = backend.open(StreamSpec(RATE, 256, 2, 1), callback)
    stream.run()
    if any(stream.counts[one] for one in ("lost", "skipped", "late")):
        raise LostError
    first, second = np.concatenate(heard).T
    return first, second


def test_what_is_heard_live_comes_within_the_cycle(running: JackServer) -> None:  # noqa: F811
    """An input at an output, at its gain, one way round the server later than it came."""
    running.amp("box", channels=2, gain=1.0)
    through = (Through(0, 1, 0.5),)
    backend = wiring.OnDevice("box", (0, 1), (0,), through=through)

    def attempt() -> bool:
        first, second = _round(backend, _noise(1.0))
        assert np.abs(first).max() > 0.5
        assert np.allclose(second[256:], 0.5 * first[:-256], atol=1e-7)
        return True

    right_or_told(attempt)


def test_only_a_sound_server_joins_programs(monkeypatch: pytest.MonkeyPatch) -> None:
    from diaulos.audio import devices
    from diaulos.work.ports import DeviceInfo

    card = DeviceInfo("alsa", "Card", 2, 2, (RATE,), (256,), False)
    monkeypatch.setattr(devices, "listed", lambda: {"devices": []})
    monkeypatch.setattr(devices, "_plain", lambda name, found: card)
    spec = StreamSpec(RATE, 256, 1, 1, device="Card", wires=(Wire("Card", 0, "combo", 0),))
    monkeypatch.setattr(devices.JackDevices, "look", lambda self: None)
    with pytest.raises(AudioDeviceError, match="no device of a sound server"):
        devices.open_stream(spec, lambda *_: True)


@pytest.mark.parametrize("block", [64, 256, 1_000])
def test_a_live_filter_is_the_convolution(block: int) -> None:
    """Block by block, and anew after another block size."""
    rng = np.random.default_rng(2)
    taps, sound = rng.standard_normal(3_000), rng.standard_normal(20 * block).astype(np.float32)
    live = LiveFilter(taps)
    made = np.concatenate([live.process(part) for part in np.split(sound, 20)])
    wanted = np.convolve(sound.astype(np.float64), taps)[: sound.size]
    assert np.abs(made - wanted).max() < 1e-5 * np.abs(wanted).max()
    assert live.process(np.zeros(block // 2, np.float32)).max() == 0.0


def test_it_is_heard_through_a_cabinet(running: JackServer) -> None:  # noqa: F811
    running.amp("box", channels=2, gain=1.0)
    taps = tuple(float(one) for one in 0.5 ** np.arange(600))
    backend = wiring.OnDevice("box", (0, 1), (0,), through=(Through(0, 1, 0.25, taps),))

    def attempt() -> bool:
        first, second = _round(backend, _noise(1.0))
        wanted = 0.25 * np.convolve(first.astype(np.float64), taps)[: first.size]
        assert np.abs(second[256:] - wanted[:-256]).max() < 1e-5
        return True

    right_or_told(attempt)


def test_one_is_heard_without_a_take_until_it_is_stopped(running: JackServer) -> None:  # noqa: F811
    """At both outputs to listen by, at its level."""
    running.amp("box", channels=4, gain=1.0, noise_dbfs=-30.0)
    session = session_with(mono("software-amp"))
    running.amp("combo", gain=0.5, delay_frames=LATE)
    dry = session.rigs[0].tracks[0].port
    heard = wiring.HeardLive((dry,), (2, 3), -20.0)
    stop = threading.Event()
    failed: list[Exception] = []

    def run() -> None:
        try:
            wiring.hear_live(session, session.rigs[0], "box", heard, stop.is_set)
        except Exception as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    client = jack.Client("look", no_start_server=True)
    try:
        end = time.monotonic() + 20.0
        joined: list[str] = []
        while len(joined) < 1 and time.monotonic() < end and not failed:
            joined = [one.name for one in client.get_all_connections("box:in_3")]
            time.sleep(0.05)
        also = [one.name for one in client.get_all_connections("box:in_4")]
    finally:
        client.close()
        stop.set()
        thread.join(20.0)
    assert not thread.is_alive()
    if failed:
        assert isinstance(failed[0], AudioDeviceError)
        return  # told
    assert [one.partition(":")[2] for one in (*joined, *also)] == ["live_1", "live_2"]
