"""The loop check: what is other than the last time, by name and figure."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from test_reamp import desk, reamped

from diaulos.audio.bench_backend import BenchBackend
from diaulos.cli.main import run as main
from diaulos.rig.bench import BenchFaults
from diaulos.rig.course import reamp_course, reamp_courses
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.plan import return_control
from diaulos.rig.templates import build
from diaulos.session.model import Session
from diaulos.signal.loop_change import LoopState, loop_change
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for, new_session
from diaulos.work.reamp.loopcheck import change_words, check_data, check_loop, last_good
from diaulos.work.reamp.slate import LoopBackendFor
from support import NOON, RATE

__all__ = ["desk"]  # a fixture

HZ = np.geomspace(50.0, 12_000.0, 25)


def state(db: np.ndarray | float = 0.0, **more: object) -> LoopState:
    """A loop that passes all alike but for `db`."""
    values = np.zeros(25) + db
    fields = {
        "delay_samples": 2_100.0, "polarity": 1, "noise_dbfs": -80.0, "hum_dbfs": -95.0,
        "harmonics_db": -40.0,
    } | more  # fmt: skip
    return LoopState(tuple(zip(HZ.tolist(), values.tolist(), strict=True)), **fields)


@pytest.mark.parametrize(
    ("then", "now", "kinds"),
    [
        (state(), state(), ()),
        (state(), state(0.2), ()),
        (state(), state(-6.0, harmonics_db=-50.0), ("send",)),
        (state(), state(-6.0), ("return",)),
        (state(harmonics_db=-90.0), state(-6.0, harmonics_db=-92.0), ("level",)),
        (state(), state(polarity=-1), ("inverted",)),
        (state(), state(delay_samples=2_110.0), ("delay",)),
        (state(), state(-3.0 / (1.0 + (4_000.0 / HZ) ** 2)), ("treble",)),
        (state(), state(-4.0 / (1.0 + (HZ / 120.0) ** 2)), ("tone",)),
        (state(), state(noise_dbfs=-60.0, hum_dbfs=-61.0), ("hum",)),
        (state(), state(noise_dbfs=-60.0), ("noise",)),
        (state(), state(6.0, noise_dbfs=-74.0), ("return",)),
        (state(), state(polarity=None, delay_samples=None), ()),
        (state(), state(-6.0, polarity=-1), ("inverted", "return")),
    ],
)
def test_kinds_of_change(then: LoopState, now: LoopState, kinds: tuple[str, ...]) -> None:
    found = loop_change(then, now)
    assert found.kinds == kinds
    words = change_words(found)
    assert words[0].isupper() or words[0].isdigit()
    assert words.endswith(".")
    assert "-" not in words


def test_a_change_on_purpose_is_taken_out() -> None:
    wanted = np.linspace(0.0, 6.0, 25)
    assert loop_change(state(), state(wanted), wanted).kinds == ()
    assert loop_change(state(), state(wanted)).kinds


@pytest.mark.parametrize("lasting", [False, True], ids=["passing", "lasting"])
def test_what_is_other_is_listened_to_once_more(lasting: bool) -> None:
    """A truck that passes during one listening is no change of the loop; a worn cable is."""
    rig = build("reamp-bass", "r")
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig="r")
    session = check_loop(
        session, backend_for=bench_for(seed=1), clock=lambda: NOON
    ).keep(session)  # fmt: skip
    opened = 0

    def backend_for(courses):  # type: ignore[no-untyped-def]
        nonlocal opened
        opened += 1
        there = courses
        if opened <= 2 or lasting:  # both levels of the first listening
            worn = tuple(
                one.model_copy(update={"length_m": 30.0})
                if one.target == PortRef(device="amp", port="in") else one
                for one in rig.cables
            )  # fmt: skip
            found = reamp_courses(rig.model_copy(update={"cables": worn}))
            there = tuple(one for track in courses for one in found if one.track == track.track)
        return bench_for(seed=opened)(there)

    checked = check_loop(session, backend_for=backend_for, clock=lambda: NOON)
    assert opened == 4
    assert checked.as_last is not lasting
    assert checked.good is not lasting


@pytest.mark.parametrize(
    ("knob_db", "words"), [(22.0, "As on"), (15.0, "As on"), (18.0, "4.0 dB less")]
)
def test_on_a_device_a_gain_stands_where_a_hand_left_it(knob_db: float, words: str) -> None:
    """A pass sets the return gain by its plan, and a person the knob; the rig of the session keeps
    its own. No plan turns a knob back: it stands as at the last pass, or as the rig says."""
    stored = build("reamp-box", "r")
    device, knob = return_control(reamp_course(stored)) or (None, None)
    assert device is not None
    assert knob is not None
    assert knob.value == 15.0

    def at(gain_db: float) -> Rig:
        return stored.with_setting(device.id, knob.id, gain_db)

    def box(gain_db: float) -> LoopBackendFor:
        return lambda _courses: bench_for(seed=1)((reamp_course(at(gain_db)),))

    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(stored,), current_rig="r")
    session = check_loop(
        session, played=at(22.0), backend_for=box(22.0), clock=lambda: NOON, device="box"
    ).keep(session)
    for played in (None, at(24.0)):
        now = check_loop(
            session, played=played, backend_for=box(knob_db), clock=lambda: NOON, device="box"
        )
        assert words in now.words, now.words
    planned = check_loop(
        session, played=at(24.0), backend_for=box(24.0), clock=lambda: NOON, device="box"
    )
    assert planned.as_last, planned.words


@pytest.fixture
def own(tmp_path: Path) -> tuple[SessionFolder, Session]:
    folder, session = new_session(tmp_path / "own.diaulos")
    yield folder, session
    folder.close()


def test_the_first_check_is_what_later_ones_are_held_against() -> None:
    rig = build("reamp-bass", "r")
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig="r")
    first = check_loop(session, backend_for=bench_for(seed=1), clock=lambda: NOON)
    assert first.since == ""
    assert first.words.startswith("The loop is known now")
    session = first.keep(session)
    again = check_loop(session, backend_for=bench_for(seed=2), clock=lambda: NOON)
    assert again.as_last is True
    assert again.words == f"As on {NOON.isoformat(timespec='minutes').replace('T', ' ')[:16]}."
    assert len(again.returns) == 2
    longer = tuple(
        one.model_copy(update={"length_m": 25.0})
        if one.target == PortRef(device="amp", port="in") else one
        for one in rig.cables
    )  # fmt: skip
    hardware = rig.model_copy(update={"cables": longer})
    bench = bench_for(seed=3)

    def other(courses):  # type: ignore[no-untyped-def]
        there = {one.track: one for one in reamp_courses(hardware)}
        return bench(tuple(there[one.track] for one in courses))

    found = check_loop(session, backend_for=other, clock=lambda: NOON)
    assert found.as_last is False
    assert "Highs: " in found.words
    assert "longer or shorter cable" in found.words
    highs = next(one for one in found.returns if one.back.name == "Highs")
    assert highs.change is not None
    assert highs.change.level_db == pytest.approx(0.0, abs=0.3)
    data = check_data(found)
    assert data["returns"][1]["kinds"] == ["treble"]
    json.dumps(data, allow_nan=False)


def test_a_pass_is_a_check_too(desk: tuple[SessionFolder, Session]) -> None:
    """What the slate of a pass told, and what was turned in the rig since is no finding."""
    session = desk[1]
    outcome = reamped(desk, rig_id="rig01")
    session = outcome.edit(session)
    known = last_good(session, outcome.made.rig_name, "bench")
    assert known is not None
    assert known.made_at == outcome.made.made_at
    found = check_loop(session, "rig01", backend_for=bench_for(seed=7), clock=lambda: NOON)
    assert found.as_last, found.words


def test_the_shell_checks_a_loop(
    own: tuple[SessionFolder, Session], capsys: pytest.CaptureFixture[str]
) -> None:
    folder, session = own
    rig = build("reamp-box", "r")
    folder.save(session.model_copy(update={"rigs": (rig,), "current_rig": "r"}))
    folder.close()
    path = str(folder.path)
    assert main(["loopcheck", path, "--json"]) == 0
    first = json.loads(capsys.readouterr().out)
    assert (first["as_last"], first["since"]) == (None, None)
    assert main(["loopcheck", path, "--rig", rig.name, "--json"]) == 0
    again = json.loads(capsys.readouterr().out)
    assert again["as_last"] is True
    assert again["returns"][0]["loop_delay_samples"] == pytest.approx(
        first["returns"][0]["loop_delay_samples"], abs=0.1
    )
    assert main(["loopcheck", path]) == 0
    assert "As on " in capsys.readouterr().out


def test_a_loop_that_gives_nothing_back_is_nothing_to_hold_against(
    own: tuple[SessionFolder, Session],
) -> None:
    _, session = own
    rig = build("reamp-box", "r")
    session = session.model_copy(update={"rigs": (rig,), "current_rig": "r"})

    class Silent(BenchBackend):
        def open(self, spec, callback):  # type: ignore[no-untyped-def]
            stream = super().open(spec, callback)
            stream._bench.process = lambda block: np.zeros((block.size, 1))
            return stream

    def silent(courses):  # type: ignore[no-untyped-def]
        return Silent(courses, BenchFaults())

    found = check_loop(session, backend_for=silent, clock=lambda: NOON)
    assert not found.heard
    assert not found.good
    assert "nothing of it came back" in found.words
    known = check_loop(session, backend_for=bench_for(seed=1), clock=lambda: NOON).keep(session)
    again = check_loop(known, backend_for=silent, clock=lambda: NOON)
    assert again.as_last is None
    assert not again.good
    assert again.words.startswith("Not as on ")
    assert check_data(again)["returns"][0]["reason"]
