"""The rig that records and the rig that reamps are named apart."""

from __future__ import annotations

import pytest

from diaulos.errors import EditError
from diaulos.rig.catalogue import reamp_rig as boxed
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.session.roles import reamp_rig, recording_rig
from diaulos.work.rigs.building import add_rig_edit
from diaulos.work.takes.ready import rig_to_record


@pytest.fixture
def session() -> Session:
    rigs = (build("hybrid", "rig01"), build("bass", "rig02"), boxed("rig03", "Combo by box"))
    return Session(id="s", name="s", sample_rate_hz=48_000, rigs=rigs, current_rig="rig01")


def test_unnamed_they_are_found(session: Session) -> None:
    assert recording_rig(session).id == "rig01"
    assert reamp_rig(session).id == "rig03"
    only_boxes = session.model_copy(update={"rigs": session.rigs[2:], "current_rig": "rig03"})
    assert recording_rig(only_boxes).id == "rig03"


def test_choosing_what_reamps_leaves_what_records(session: Session) -> None:
    after = edits.choose_rig("rig02")(session)
    after = edits.choose_reamp_rig("rig03")(after)
    assert (recording_rig(after).id, reamp_rig(after).id) == ("rig02", "rig03")
    assert after.current_rig == "rig02"
    assert rig_to_record(after) == "rig02"
    # A rig that only reamps, chosen in Rig, takes that role and no other.
    after = edits.choose_rig("rig03")(after)
    assert (recording_rig(after).id, after.current_rig) == ("rig02", "rig03")


def test_a_rig_that_goes_loses_its_role(session: Session) -> None:
    after = edits.choose_rig("rig02")(session)
    after = edits.remove_rig("rig02")(after)
    assert after.recording_rig == ""
    assert recording_rig(after).id == "rig01"
    with pytest.raises(EditError):
        edits.choose_reamp_rig("rig02")(after)


def test_a_rig_added_by_the_way_takes_no_role(session: Session) -> None:
    named = edits.choose_recording_rig("rig01")(session)
    extra = build("modeler-usb", "rig04")
    assert recording_rig(add_rig_edit(named, extra, current=False)(named)).id == "rig01"
    assert recording_rig(add_rig_edit(named, extra, current=True)(named)).id == "rig04"


def test_an_unknown_role_is_refused(session: Session) -> None:
    with pytest.raises(ValueError, match="recording_rig"):
        Session.model_validate({**dict(session), "recording_rig": "rig99"})
