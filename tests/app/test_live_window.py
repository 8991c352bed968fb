"""Sound check, calibration and strength in the window, with a stand-in for a real device."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest
from pytestqt.qtbot import QtBot
from test_live import StandIn

from diaulos.app.desk import Desk
from diaulos.app.dialogs.calibrate import CalibrateDialog
from diaulos.rig.model import PortRef
from diaulos.session import edits
from diaulos.session.roles import recording_rig


@pytest.fixture
def live(opened: Desk) -> Desk:
    """A real device is chosen: what it hears is the bench's, with units nobody told of."""
    opened.document.apply(edits.choose_rig(recording_rig(opened.document.session).id))
    opened.services = replace(
        opened.services,
        device=lambda: "box",
        live=lambda rig: StandIn(opened.document.session, rig, dbu=-10.0),
    )
    return opened


def test_a_sound_check_is_ten_seconds_of_somebodys_playing(
    live: Desk, qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    live.show("levels")
    settled(live)
    view = live.views["levels"]
    view.check_bench()
    problems: list[object] = []
    view.problem.connect(problems.append)
    qtbot.waitUntil(
        lambda: live.jobs.quiet and (view._check is not None or bool(problems)), timeout=120_000
    )
    assert problems == []
    assert not view._check.exact
    assert "Play ten seconds" in view.check.bench.text()
    assert view.check.surprise.isHidden()


def test_an_input_is_calibrated_at_its_gain_as_it_stands(live: Desk, qtbot: QtBot) -> None:
    session = live.document.session
    rig = session.rig()
    first = PortRef(device="interface", port="in1")
    dialog = CalibrateDialog(
        session, live.jobs, live.services.files, live.services.rig_audio, live.window, first,
        live.services.live(rig),
    )  # fmt: skip
    qtbot.addWidget(dialog)
    dialog.level.setText("-10 dBu")
    dialog.start()
    qtbot.waitUntil(lambda: dialog.found is not None, timeout=60_000)
    assert dialog.table.rowCount() == 1, "nobody but a person turns its knob"
    dialog.way.setCurrentIndex(dialog.way.findData("loop"))
    for box, port in ((dialog.output, "out3"), (dialog.input, "in4")):
        wanted = PortRef(device="interface", port=port)
        places = [n for n in range(box.count()) if box.itemData(n) == wanted]
        box.setCurrentIndex(places[0])
    dialog.start()
    qtbot.waitUntil(dialog.measure.isEnabled, timeout=120_000)
    assert dialog._problem.text() == ""
    assert dialog.table.rowCount() == 1


def test_strength_is_strummed_where_the_instrument_is_heard_dry(
    live: Desk, qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    live.show("instruments")
    settled(live)
    view = live.views["instruments"]
    told: list[str] = []
    view.said.connect(told.append)
    before = {one.id: len(one.strength) for one in live.document.session.instruments}
    view.measure_on_bench()
    qtbot.waitUntil(lambda: live.jobs.quiet and bool(told), timeout=120_000)
    after = {one.id: len(one.strength) for one in live.document.session.instruments}
    (ident,) = [one for one in after if after[one] != before[one]]
    (instrument,) = [one for one in live.document.session.instruments if one.id == ident]
    reading = instrument.strength[-1]
    assert reading.label.startswith("Strum ")
    assert reading.peak_dbu is not None, "the input's calibration is known"
