"""Passes are named from what they are made with, and from what differs."""

from __future__ import annotations

import pytest
from test_session import one_pass

from diaulos.rig.states import in_state
from diaulos.rig.templates import build
from diaulos.session.model import SentPart, Session, Take, Track, rig_hash
from diaulos.work.reamp.naming import pass_name
from support import RATE


@pytest.fixture
def bare() -> tuple[Session, Take]:
    track = Track(id="k01", name="DI", tap="di", file="audio/a.wav", frames=RATE, peak_dbfs=-6.0)
    take = Take(id="t0001", name="One", recorded_at="", tracks=(track,))
    return Session(id="s", name="S", sample_rate_hz=RATE, takes=(take,)), take


@pytest.mark.parametrize(
    ("template", "wanted"),
    [
        ("reamp-box", "Tideline drive 5, box"),
        ("reamp-bass", "Keel drive 5, box"),
        ("reamp-usb", "Tideline drive 5, stream"),
        ("reamp-loop", "Tideline drive 5, modeler's loop"),
        ("reamp-software", "Tideline drive 5, another program"),
    ],
)
def test_voice_drive_and_way(bare: tuple[Session, Take], template: str, wanted: str) -> None:
    rig = in_state(build(template, "r"), "reamp")
    assert pass_name(*bare, rig, None) == wanted
    part = SentPart(first=0, last=2 * RATE, start=0)
    assert pass_name(*bare, rig, part) == f"{wanted}, bar 1"


def test_what_differs_tells_them_apart(bare: tuple[Session, Take]) -> None:
    session, take = bare
    rig = build("reamp-box", "r")
    names = []
    for changed in (
        rig,
        rig.with_setting("load_box", "cabinet", "closed-four"),
        rig.with_setting("amp", "drive", 8.0),
        rig,
        rig,
    ):
        name = pass_name(session, take, changed, None)
        names.append(name)
        made = one_pass(f"p{len(names):02}").model_copy(
            update={"name": name, "rig_hash": rig_hash(changed)}
        )
        take = take.model_copy(update={"passes": (*take.passes, made)})
        snapshots = {**session.snapshots, rig_hash(changed): changed}
        session = session.model_copy(update={"takes": (take,), "snapshots": snapshots})
    assert names[0] == "Tideline drive 5, box"
    assert names[1] == "Tideline drive 5, box, Closed back, four twelve-inch"
    assert names[2] == "Tideline drive 8, box"
    assert len(set(names)) == 5
    assert names[4].endswith("(2)")


def test_a_di_behind_pedals_says_so(bare: tuple[Session, Take]) -> None:
    rig = build("reamp-box", "r")
    assert pass_name(*bare, rig, None, behind_pedals=True) == "Tideline drive 5, box, after pedals"
