"""House practices: departures are notes, and every price is that of the plan."""

from __future__ import annotations

import re

import pytest

from diaulos.demo.saltmarsh import bare_demo
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.instrument import StrengthReading
from diaulos.session.model import Session
from diaulos.session.practices import SHIPPED, Practice
from diaulos.session.tone_stage import in_hand, stage_of
from diaulos.work.instruments.trims import stage_peak_dbfs, trim_rows
from diaulos.work.practices.departures import (
    HOT_DBFS,
    Departure,
    departures,
    practice_of,
    practices_of,
)
from diaulos.work.rigs.levels import levels_of


def session_on(template: str = "modeler-usb", peak_dbu: float = 6.0) -> Session:
    """Two calibrated instruments and a rig that records the first."""
    session = bare_demo()
    made = []
    for at, one in enumerate(session.instruments[:2]):
        reading = StrengthReading(
            position_id=one.position_id, label="hard", made_at="2026-05-09T12:00:00",
            peak_dbfs=peak_dbu - 6.0 * at - 12.0, true_peak_dbtp=0.0,
            loudest_400ms_dbfs=peak_dbu - 6.0 * at - 12.0 - 9.0, full_scale_dbu=12.0,
            volume_knob=10.0, tone_knob=10.0,
        )  # fmt: skip
        made.append(one.model_copy(update={"strength": (reading,), "trim_db": 0.0}))
    rig = build(template, "rig09")
    if any(device.id == "guitar" for device in rig.devices):
        rig = rig.with_setting("guitar", "instrument", made[0].id)
    return session.model_copy(
        update={"instruments": tuple(made), "rigs": (rig,), "current_rig": "rig09",
                "recording_rig": "", "reamp_rig": "", "takes": ()}
    )  # fmt: skip


def like(practice_id: str, **change: object) -> Practice:
    one = next(one for one in SHIPPED if one.id == practice_id)
    return one.model_copy(update=change)


def only(found: tuple[Departure, ...], ident: str) -> Departure:
    return next(one for one in found if one.id == ident)


def figures(text: str) -> list[float]:
    plain = text.replace("\N{MINUS SIGN}", "-").replace("\N{PLUS-MINUS SIGN}", "")
    return [float(one) for one in re.findall(r"[-+]?\d+\.?\d*", plain)]


def test_nothing_is_said_where_no_practice_is_followed() -> None:
    session = session_on()
    assert practice_of(session) is None
    assert departures(session) == ()
    assert len({one.id for one in SHIPPED}) == len(SHIPPED) >= 4
    for one in SHIPPED:
        followed = edits.follow_practice(one.id)(session)
        assert practice_of(followed) == one
        for note in departures(followed):
            assert note.words.endswith(".")
            assert note.price.endswith(".")
            assert "fault" not in note.words


def test_own_practices_begin_as_a_copy_and_go_again() -> None:
    session = session_on()
    own = like("loudest_peak", id="own_1", name="Ours", target_dbfs=-10.0)
    session = edits.follow_practice("own_1")(edits.keep_practice(own)(session))
    assert practices_of(session)[-1] == own
    assert practice_of(session) == own
    changed = edits.keep_practice(own.model_copy(update={"target_dbfs": -14.0}))(session)
    assert len(changed.own_practices) == 1
    gone = edits.remove_practice("own_1")(changed)
    assert gone.own_practices == ()
    assert gone.practice == ""
    # A copy under a shipped one's id takes its place.
    mine = like("loudest_peak", target_dbfs=-15.0)
    assert practices_of(edits.keep_practice(mine)(session))[0].target_dbfs == -15.0


def test_the_price_of_a_target_is_what_the_plan_moves_by() -> None:
    """Played by the plan: with the other target the solver's peak moves by the figure told."""
    session = session_on()
    house = like("loudest_peak", target_dbfs=-18.0)
    note = only(departures(session, practice=house), "target")
    assert figures(note.price)[0] == pytest.approx(6.0)
    assert "lower" in note.price
    assert "less distance" in note.price
    rms = like("typical_level")
    note = only(departures(session, practice=rms), "target")
    # RMS -18 with a crest of 9 dB is a peak of -9: 3 dB above -12.
    assert "9.0 dB over its RMS" in note.price
    assert "3.0 dB higher" in note.price
    unmeasured = session.model_copy(
        update={"instruments": tuple(one.model_copy(update={"strength": ()})
                                     for one in session.instruments)}
    )  # fmt: skip
    assert "measure one" in only(departures(unmeasured, practice=rms), "target").price


def test_the_price_of_a_pad_is_what_the_level_moves_by() -> None:
    """On the bench's plan: the pad on, every level behind it lies so much lower."""
    session = session_on("modeler-usb", peak_dbu=14.0)
    stage = stage_of(session)
    assert in_hand(session) == session.instruments[0].id
    bare = stage_peak_dbfs(session.instruments[0], stage.model_copy(update={"pad_on": False}))
    assert bare is not None
    assert bare > HOT_DBFS
    note = only(departures(session, practice=like("loudest_peak")), "pad")
    told = next(one for one in figures(note.price))
    assert told == pytest.approx(stage.pad_db)
    never = like("typical_level")
    assert not [one for one in departures(session, practice=never) if one.id == "pad"]
    always = like("loudest_peak", pad="always")
    assert only(departures(session, practice=always), "pad")
    soft = session_on("modeler-usb", peak_dbu=-6.0)
    assert not [one for one in departures(soft, practice=like("loudest_peak")) if one.id == "pad"]


def test_the_price_of_trims_is_what_is_left_over() -> None:
    session = session_on()
    odd = edits.change_instrument(session.instruments[1].id, "x", trim_db=2.4)(session)
    note = only(departures(odd, practice=like("loudest_peak")), "trim-whole")
    row = next(one for one in trim_rows(odd) if one.name == session.instruments[1].name)
    assert row.left_over_db is not None
    now, rounded, after = figures(note.price)
    assert now == pytest.approx(abs(row.left_over_db), abs=0.051)
    two = edits.change_instrument(session.instruments[1].id, "x", trim_db=2.0)(session)
    then = next(one for one in trim_rows(two) if one.name == row.name)
    assert rounded == 2.0
    assert after == pytest.approx(abs(then.left_over_db or 0.0), abs=0.051)
    hot = departures(two, practice=like("as_it_plays"))
    apart, plain = figures(only(hot, "trim-none").price)
    drives = [one.drive_db for one in trim_rows(two) if one.drive_db is not None]
    bare = [one.plain_drive_db for one in trim_rows(two) if one.plain_drive_db is not None]
    assert apart == pytest.approx(max(drives) - min(drives), abs=0.051)
    assert plain == pytest.approx(max(bare) - min(bare), abs=0.051)
    alike = only(departures(session, practice=like("typical_level")), "trim-fine")
    assert figures(alike.price)


def test_the_rig_is_held_against_what_is_dry_and_how_it_comes_in() -> None:
    session = session_on("modeler-usb")
    found = departures(session, practice=like("typical_level"))
    ways = [one for one in found if one.id == "way-in"]
    plans = levels_of(session, "rig09")
    modeled = [one.diagram for one in plans if one.diagram and one.diagram.course.tap == "modeled"]
    analog = [one for one in modeled if one.course.conversions > 1]
    assert len(ways) == len(analog)
    other = departures(session, practice=like("typical_level", way_in="analog"))
    assert len([one for one in other if one.id == "way-in"]) == len(modeled) - len(analog)
    rig = session.rigs[0]
    dry = [one for one in plans if one.diagram and one.diagram.course.tap == "di"]
    assert dry
    wet = rig.model_copy(
        update={"tracks": tuple(t for t in rig.tracks if t.port not in {one.track for one in dry}),
                "cables": tuple(c for c in rig.cables if c.target not in
                                {one.track for one in dry})}
    )  # fmt: skip
    bare = session.model_copy(update={"rigs": (wet,)})
    note = only(departures(bare, practice=like("loudest_peak")), "dry-di")
    # 48 kHz, 3 bytes, a minute: 8.64 MB.
    assert figures(note.price)[0] == pytest.approx(8.6, abs=0.05)
    assert not [one for one in departures(session, practice=like("loudest_peak"))
                if one.id == "dry-di"]  # fmt: skip
