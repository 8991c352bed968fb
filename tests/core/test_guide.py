"""Each way of reamping has a guide of at most five steps, read off the rig."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from test_cli import documented, run_json
from test_reamp import GUITAR_TAKE, desk, reamped

from diaulos.errors import RigError
from diaulos.rig.course import can_reamp
from diaulos.rig.states import in_state
from diaulos.rig.templates import TEMPLATES, build
from diaulos.session.model import MatchTarget, Session
from diaulos.storage.folder import SessionFolder
from diaulos.work.reamp.guide import guide

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
WAYS = [
    name
    for name in (str(getattr(one, "id", one)) for one in TEMPLATES)
    if can_reamp(in_state(build(name, "r"), "reamp"))
]


def with_rig(session: Session, template: str) -> Session:
    rig = build(template, "extra")
    return session.model_copy(update={"rigs": (*session.rigs, rig)})


@pytest.mark.parametrize("template", WAYS)
def test_every_way_has_a_guide(desk: Desk, template: str) -> None:
    session = with_rig(desk[1], template)
    steps = guide(session, "extra")
    assert 4 <= len(steps) <= 5
    assert [one.title.partition(":")[0] for one in steps] == [
        "Make it safe", "Plug", "Set", "Check the loop", "Send",
    ]  # fmt: skip
    rig = in_state(session.rig("extra"), "reamp")
    plugs = steps[1].lines
    assert len(set(plugs)) == len(plugs) >= 2
    devices = {device.name for device in rig.devices}
    for line in plugs:
        assert any(line.startswith(name) for name in devices)
    assert all(one.proved == "" for one in steps), "nothing was measured yet"
    stands = [f"{one.device}" for one in session.rig("extra").reamp_switches]
    assert bool(stands) == any(" at " in line for line in steps[2].lines)


def test_what_was_measured_is_told(desk: Desk) -> None:
    session = desk[1]
    outcome = reamped(desk, GUITAR_TAKE, target=MatchTarget(kind="none"))
    session = outcome.edit(session)
    steps = guide(session, outcome.rig.id)
    assert steps[4].proved.startswith(outcome.made.name)
    assert "samples late" in steps[4].proved
    assert guide(session, outcome.rig.id, "another device")[4].proved == ""


def test_a_rig_that_does_not_reamp_has_none(desk: Desk) -> None:
    session = with_rig(desk[1], "hybrid")
    with pytest.raises(RigError):
        guide(session, "extra")


def test_the_guide_from_the_shell(demo_copy: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    code, data = run_json(capsys, "guide", demo_copy, "--rig", "Combo by box")
    assert code == 0
    assert set(data) == documented("guide SESSION")
    assert json.dumps(data["steps"]).count("title") == 5
