"""The rig: what a description allows, and the course through it."""

from __future__ import annotations

import pytest
from pydantic import ValidationError

from diaulos.errors import RigError
from diaulos.rig.catalogue import cable, reamp_rig
from diaulos.rig.course import reamp_course, trace, tracks
from diaulos.rig.model import Choice, Control, PortRef, Rig

RIG = reamp_rig()


def rewired(*cables: tuple[str, str, str]) -> Rig:
    made = tuple(cable(name, source, target, 1.0) for name, source, target in cables)
    return Rig.model_validate({**RIG.model_dump(), "cables": [c.model_dump() for c in made]})


def test_the_course_of_a_reamp() -> None:
    course = reamp_course(RIG)
    names = [leg.device.id for leg in course.legs]
    wanted = ["recorder", "interface", "reamp_box", "amp", "load_box", "interface", "recorder"]
    assert names == wanted
    assert course.has_stage("amp")
    assert tracks(RIG) == (PortRef(device="recorder", port="track5"),)


def test_a_missing_cable_is_named() -> None:
    cables = tuple(c for c in RIG.cables if c.id != "c03")
    broken = RIG.model_copy(update={"cables": cables})
    with pytest.raises(RigError, match="Nothing is plugged in here") as caught:
        reamp_course(broken)
    assert "18 W combo" in str(caught.value)


def test_two_cables_into_one_input_are_refused() -> None:
    extra = cable("c09", "load_box.line", "amp.in", 1.0)
    broken = RIG.model_copy(update={"cables": (*RIG.cables, extra)})
    with pytest.raises(RigError, match="2 cables end in one input"):
        reamp_course(broken)


def test_a_circle_is_refused() -> None:
    circle = rewired(
        ("c1", "load_box.line", "amp.in"),
        ("c2", "amp.speaker", "load_box.speaker"),
        ("c3", "load_box.line", "interface.line_in5"),
        ("c4", "interface.rec5", "recorder.track5"),
    )
    with pytest.raises(RigError, match="feeds back into itself"):
        trace(circle, PortRef(device="recorder", port="track5"))


def test_a_rig_that_cannot_reamp_says_so() -> None:
    alone = rewired(("c1", "interface.rec5", "recorder.track5"))
    with pytest.raises(RigError, match="Nothing is plugged in"):
        reamp_course(alone)
    nothing = RIG.model_copy(update={"cables": ()})
    with pytest.raises(RigError, match="has no reamp path"):
        reamp_course(nothing)


@pytest.mark.parametrize(
    ("source", "target", "words"),
    [
        ("amp.in", "load_box.speaker", "output to an input"),
        ("amp.speaker", "load_box.line", "output to an input"),
        ("amp.speaker", "load_box.nowhere", "does not exist"),
        ("tuner.out", "amp.in", "does not exist"),
    ],
)
def test_a_cable_runs_from_an_output_to_an_input(source: str, target: str, words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        rewired(("c1", source, target))


def test_controls_keep_their_range_and_steps() -> None:
    knob = Control(id="gain", name="Gain", value=0.0, minimum=-18.0, maximum=18.0, step=0.5)
    assert knob.nearest(3.3) == 3.5
    assert knob.nearest(99.0) == 18.0
    assert knob.nearest(-99.0) == -18.0
    with pytest.raises(ValidationError, match="runs from -18 to 18"):
        Control(id="gain", name="Gain", value=19.0, minimum=-18.0, maximum=18.0, step=1.0)
    with pytest.raises(RigError, match="It runs from 0 to 10"):
        RIG.with_setting("amp", "drive", 12.0)
    with pytest.raises(RigError, match="lantern"):
        RIG.with_setting("amp", "voice", "trumpet")
    with pytest.raises(ValidationError):
        Choice(id="a", name="A", value="c", options=(("b", "B"),))


def test_asking_for_what_is_not_there_is_an_error_with_a_name() -> None:
    for ask in (
        lambda: RIG.device("flute"),
        lambda: RIG.device("amp").port("out9"),
        lambda: RIG.device("amp").setting("chorus"),
        lambda: RIG.device("amp").number("voice"),
        lambda: RIG.device("amp").word("drive"),
    ):
        with pytest.raises(RigError):
            ask()


def test_two_devices_of_one_id_are_refused() -> None:
    twice = [d.model_dump() for d in (*RIG.devices, RIG.devices[0])]
    with pytest.raises(ValidationError, match="same id"):
        Rig.model_validate({**RIG.model_dump(), "devices": twice})
