"""Sound check, calibration and strength by a real device: the bench's hidden unit stands for it."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
from test_calibrating import BENCH, FOUND_DB, session_of

from diaulos import wiring
from diaulos.errors import AudioDeviceError, EditError, RefusedError, RigError
from diaulos.rig.bench import BenchFaults
from diaulos.rig.bench.unit import as_built
from diaulos.rig.course import Course
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.calibration import input_stage
from diaulos.rig.model import DeviceMap, PortRef, Rig, Tie
from diaulos.rig.plan import full_scale_dbu
from diaulos.rig.templates import build
from diaulos.session.edits import tie_sockets
from diaulos.session.model import Session
from diaulos.work.capture.mapping import stream_channel
from diaulos.work.instruments.strength import record_strength
from diaulos.work.ports import AudioBackend
from diaulos.work.rigs.audio import Played
from diaulos.work.rigs.building import start_of, started
from diaulos.work.rigs.calibrating import (
    _tone,
    calibrate_by_loop,
    calibrate_output,
    input_from_live,
    raise_send,
    standing_gain,
)
from diaulos.work.rigs.soundcheck import bench_check, live_check
from diaulos.work.takes.ready import calibration_of, dry_input_of
from support import RATE

SEED = 3


class StandIn:
    """A real device, as the program sees one: units some tenths of a dB off that nobody told, a
    person who plays, a generator of a known voltage."""

    def __init__(self, session: Session, rig: Rig, *, dbu: float = 0.0, loud: float = 1.0,
                 silent: bool = False, more_db: float = 0.0) -> None:  # fmt: skip
        self.session, self.rig, self.dbu, self.silent = session, rig, dbu, silent
        self.more_db, self.sent = more_db, []

    def loop(self, course: Course, seed: int) -> AudioBackend:
        """What is really plugged is `more_db` hotter than the rig says."""
        inner = BENCH.loop(course, seed)
        outer = self

        class Hotter:
            def open(self, spec, callback):
                def louder(inputs, outputs, count, time, status):
                    go_on = callback(
                        np.clip(inputs * 10.0 ** (outer.more_db / 20.0), -1.0, 1.0).astype(
                            np.float32
                        ),
                        outputs, count, time, status,
                    )  # fmt: skip
                    outer.sent.append(float(np.abs(outputs).max(initial=0.0)))
                    return go_on

                return inner.open(spec, louder)

        return Hotter()

    def play(self, *_: object) -> AudioBackend:
        raise AssertionError("nobody is played at a real device")

    def hear(self, tracks: tuple[PortRef, ...]) -> AudioBackend:
        real = as_built(self.rig, SEED)
        other = self.session.model_copy(
            update={"rigs": tuple(real if r.id == real.id else r for r in self.session.rigs)}
        )
        return wiring.rig_backend(paced=False, silent=self.silent)(other, real, tracks)

    def hear_input(self, ref: PortRef) -> AudioBackend:
        from diaulos.work.rigs import calibrating

        seen = {}

        class Keep:
            def play(self, graph, tracks, played, faults):
                seen["backend"] = BENCH.play(graph, tracks, played, faults)
                raise StopIteration

        with contextlib.suppress(StopIteration):
            calibrating._tone_recorded(
                Keep(), self.rig, self.rig.device(ref.device), ref.port, self.dbu, 200.0, RATE, SEED
            )
        return seen["backend"]


@pytest.fixture
def session() -> Session:
    return session_of(build("hybrid", "rig01"))


def test_an_input_is_found_by_a_tone_at_the_gain_as_it_stands(session: Session) -> None:
    rig = session.rigs[0]
    ref = PortRef(device="interface", port="in1")
    found = input_from_live(session, StandIn(session, rig, dbu=-10.0), rig, ref, -10.0)
    (point,) = found.points
    assert point.gain_db == standing_gain(rig.device("interface"), "in1")[0]
    real = as_built(rig, SEED).device("interface")
    _, stage = input_stage(real, "in1")
    assert point.full_scale_dbu == pytest.approx(full_scale_dbu(stage, real), abs=FOUND_DB)
    with pytest.raises(RefusedError, match="tone"):
        input_from_live(session, StandIn(session, rig, dbu=-150.0), rig, ref, -10.0)


def test_a_loop_is_measured_at_the_standing_gain_only(session: Session) -> None:
    rig = session.rigs[0]
    out, ref = PortRef(device="interface", port="out3"), PortRef(device="interface", port="in4")
    live = StandIn(session, rig)
    raise_send(live, rig, out, ref, RATE)
    gains = standing_gain(rig.device("interface"), "in4")
    found = calibrate_by_loop(session, live, rig, out, ref, gains=gains, seed=SEED)
    assert [point.gain_db for point in found.points] == list(gains)
    assert abs(found.points[0].error_db) < 1.5
    assert abs(calibrate_output(session, live, rig, out, ref, seed=SEED).point.error_db) < 1.5


def test_at_a_high_gain_linearity_is_told_as_far_as_the_tone_is_heard(session: Session) -> None:
    """It was refused as a whole where the quietest of its tones drowned in the noise."""
    rig = session.rigs[0].with_setting("interface", "gain4", 45.0)
    out, ref = PortRef(device="interface", port="out3"), PortRef(device="interface", port="in4")
    gains = standing_gain(rig.device("interface"), "in4")
    assert gains == (45.0,)
    found = calibrate_by_loop(session, StandIn(session, rig), rig, out, ref, gains=gains)
    assert found.linearity is not None
    assert 2 <= len(found.linearity.sent_db) < 6
    assert found.linearity.worst_db < 0.5


def test_a_send_is_raised_and_stops_where_it_comes_back_too_loud(session: Session) -> None:
    """Plugged into something else: a hundredth of full scale tells it."""
    rig = session.rigs[0]
    out, ref = PortRef(device="interface", port="out3"), PortRef(device="interface", port="in4")
    live = StandIn(session, rig)
    raise_send(live, rig, out, ref, RATE)
    steps = sorted({round(20.0 * np.log10(one)) for one in live.sent if one > 0.0})
    assert steps[0] == -60
    assert max(live.sent) < 0.3
    hot = StandIn(session, rig, more_db=30.0)
    with pytest.raises(RefusedError) as caught:
        raise_send(hot, rig, out, ref, RATE)
    assert caught.value.reason == "far_from_plan"
    assert "30 dB louder" in caught.value.what
    assert max(hot.sent) <= 10.0 ** (-60.0 / 20.0) * 1.01


def test_ten_seconds_of_playing_stand_beside_the_plan(session: Session) -> None:
    rig = session.rigs[0]
    live = live_check(session, StandIn(session, rig), "rig01", seconds=6.0)
    assert not live.exact
    assert {one.track for one in live.differences} == {track.port for track in rig.tracks}
    bench = bench_check(session, BENCH, "rig01", seed=SEED)
    heard = {one.track: one.db for one in bench.differences}
    for one in live.differences:
        # Another stretch of the same player's playing.
        assert one.db == pytest.approx(heard[one.track], abs=2.5)
    with pytest.raises(RefusedError) as caught:
        live_check(session, StandIn(session, rig, silent=True), "rig01", seconds=2.0)
    assert caught.value.reason == "silent"
    reamp = session_of(build("reamp-box", "rig01"))
    with pytest.raises(RigError, match="nobody to play"):
        live_check(reamp, StandIn(reamp, reamp.rigs[0]), "rig01")


def test_strength_is_strummed_at_the_dry_input_of_the_recording_rig() -> None:
    session = started(session_of(build("reamp-box", "r")), start_of("guitar", 4, "none"))
    (instrument,) = session.instruments
    rig, armed = dry_input_of(session, instrument.id)
    full_scale, _load = calibration_of(armed)
    assert full_scale is not None
    strum = record_strength(StandIn(session, rig).hear((armed.port,)), RATE, 6.0)
    assert strum.strength.strums >= 2
    with pytest.raises(EditError, match="no armed dry DI"):
        dry_input_of(session, "somebody-else")


def test_a_device_stands_in_the_place_of_the_rigs_interface(session: Session) -> None:
    rig = session.rigs[0]
    live = wiring.DeviceAudio("box", rig)
    tracks = tuple(track.port for track in rig.tracks)
    assert live.hear(tracks).channels == ((0, 2, 3), ())
    assert live.hear_input(PortRef(device="interface", port="in3")).channels == ((2,), ())
    ties = (Tie(port=tracks[0], channel=7),)
    tied = tie_sockets("rig01", DeviceMap(device="box", ties=ties))(session).rigs[0]
    live = wiring.DeviceAudio("box", tied)
    assert live.hear(tracks).channels[0] == (6, 2, 3)
    assert live.hear_input(PortRef(device="interface", port="in1")).channels[0] == (6,)
    assert stream_channel(tied, PortRef(device="interface", port="rec1"), "other") == 0
    played = Played("guitar", lambda: iter([_tone(200.0, RATE)]))
    with pytest.raises(AudioDeviceError, match="plays no instruments"):
        live.play(RigGraph(rig), tracks, played, BenchFaults(seed=1))
    with pytest.raises(AudioDeviceError, match="nothing is plugged"):
        live.hear((PortRef(device="computer", port="track8"),))
