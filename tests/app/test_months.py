"""Over months in the window: the sessions of a folder, drawn and told."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtWidgets import QFileDialog

from diaulos.app.desk import Desk
from diaulos.app.dialogs.months import MonthsDialog
from diaulos.session import edits
from diaulos.session.instrument import StrengthReading
from diaulos.session.model import Session
from diaulos.storage.session_file import session_text


def stored(path: Path, session: Session, day: str, peak_dbfs: float, notes: str = "") -> None:
    one = session.instruments[0]
    reading = StrengthReading(
        position_id=one.position_id, label="hard", made_at=f"{day}T12:00:00", peak_dbfs=peak_dbfs,
        true_peak_dbtp=peak_dbfs, loudest_400ms_dbfs=peak_dbfs - 6.0, full_scale_dbu=12.0,
    )  # fmt: skip
    new = one.model_copy(update={"strength": (reading,), "notes": notes})
    path.mkdir(parents=True)
    bare = session.model_copy(update={"takes": (), "rigs": (), "current_rig": "",
                                      "recording_rig": "", "reamp_rig": "", "bin": (),
                                      "snapshots": {}, "loop_checks": (), "queue": ()})  # fmt: skip
    (path / "session.json").write_text(session_text(edits.replace_instrument(new)(bare)))


def test_a_year_of_one_guitar(
    opened: Desk, settled: Callable[[Desk], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert opened.document is not None
    session = opened.document.session
    folder = tmp_path / "year"
    stored(folder / "a.diaulos", session, "2025-02-01", -10.0)
    stored(folder / "b.diaulos", session, "2025-08-01", -7.5, "new strings in July")
    monkeypatch.setattr(MonthsDialog, "exec", lambda self: self.show())
    opened.window.action("months").trigger()
    dialog = opened.window.findChild(MonthsDialog)
    assert dialog is not None
    opened.months.dialog = dialog
    settled(opened)
    assert dialog.folder.text() == str(opened.document.path.parent)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(folder))
    dialog.choose.click()
    settled(opened)
    assert dialog.said.text().startswith("2 sessions read.")
    dialog.search.setText(session.instruments[0].name.split(",")[0])
    one = dialog.series
    assert one is not None
    strength = next(
        at for at in range(dialog.list.count()) if "peak" in dialog.list.item(at).text()
    )
    dialog.list.setCurrentRow(strength)
    rows = dialog.plot.as_csv().splitlines()
    assert len(rows) == 3
    assert dialog.plot.grab().width() > 100
    told = [dialog.changes.item(at).text() for at in range(dialog.changes.count())]
    assert any("+2.5 dB on 2025-08-01" in text and "noted: new strings" in text for text in told)
    dialog.search.setText("nothing like it")
    assert dialog.series is None
    dialog.close()
    dialog.deleteLater()
