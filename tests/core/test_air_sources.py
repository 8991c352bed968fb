"""A voice and an acoustic guitar: by a microphone, straight in or through an outboard preamp."""

from __future__ import annotations

import pytest
from test_truth import heard

from diaulos.rig.catalogue.types import make
from diaulos.rig.changes import set_cable
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.trackplan import plan_tracks, with_planned_gains


def ref(text: str) -> PortRef:
    device, _, port = text.partition(".")
    return PortRef(device=device, port=port)


def sung(kind: str, mic: str, preamp: bool) -> Rig:
    """A source, a microphone, an interface, with a preamp between or without."""
    devices = [make(kind, "source"), make(mic, "mic"), make("interface4", "interface"),
               make("computer", "computer")]  # fmt: skip
    links = [("source.sound", "mic.sound")]
    if preamp:
        box = make("mic_preamp", "preamp").with_setting("phantom", "on")
        devices.append(box.with_setting("gain", 18.0))
        links += [("mic.out", "preamp.in"), ("preamp.out", "interface.in1")]
    else:
        links.append(("mic.out", "interface.in1"))
    links.append(("interface.rec1", "computer.track1"))
    rig = Rig(id="r", name="r", devices=tuple(devices), cables=())
    for one, other in links:
        rig = joined(rig, ref(one), ref(other))
    mode = "line" if preamp else "mic"
    rig = rig.with_setting("interface", "mode1", mode)
    if not preamp:
        rig = rig.with_setting("interface", "phantom1", "on")
    air = next(c.id for c in rig.cables if c.source.device == "source")
    return with_planned_gains(set_cable(rig, air, length_m=0.2))


@pytest.mark.parametrize("preamp", [False, True], ids=["straight in", "outboard preamp"])
@pytest.mark.parametrize("kind", ["voice", "acoustic"])
def test_the_plan_is_what_is_played(kind: str, preamp: bool) -> None:
    rig = sung(kind, "condenser", preamp)
    graph = RigGraph(rig)
    (plan,) = plan_tracks(graph)
    assert plan.tap == "mic"
    assert plan.unclipped_dbfs is not None
    assert -18.0 < plan.unclipped_dbfs <= -12.0
    got = heard(graph, "source")[plan.track]
    assert got == pytest.approx(plan.unclipped_dbfs, abs=0.5)


def test_nearer_is_louder_and_a_voice_has_no_di() -> None:
    rig = sung("voice", "large_dynamic", preamp=False)
    air = next(c.id for c in rig.cables if c.source.device == "source")
    levels = []
    for metres in (0.2, 1.0):
        (plan,) = plan_tracks(RigGraph(set_cable(rig, air, length_m=metres)))
        levels.append(plan.unclipped_dbfs)
    assert levels[0] - levels[1] == pytest.approx(13.9, abs=0.3), "a fifth of the distance"
    told = {one.id for one in run_checks(Context(RigGraph(rig)))}
    assert "no-dry-di" not in told
    assert "nobody-hears" not in told
    assert "instrument-loaded" not in told
