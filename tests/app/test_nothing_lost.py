"""Whatever runs, ends, is refused or dies: nothing that somebody made is lost."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import textwrap
import threading
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from diaulos import wiring
from diaulos.app.desk import Desk
from diaulos.app.jobs import Job
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.view import View
from diaulos.app.view_table import VIEWS, ViewRow
from diaulos.app.views.takes.tuning import Ready
from diaulos.app.widgets.labels import RichLabel, tip
from diaulos.session import edits
from diaulos.storage.folder import SessionFolder
from diaulos.storage.session_file import read_session
from diaulos.work.takes.importing import ImportRequest
from diaulos.work.takes.recording import RecordRequest, prepare
from support import NOON

Settle = Callable[[Desk], None]


@pytest.fixture
def busy(opened: Desk, qtbot: QtBot) -> Iterator[Desk]:
    """Something runs that can be cancelled."""
    gate = threading.Event()
    assert opened.jobs.start(Job("Blocking", lambda p, c: gate.wait(60.0), lambda r: None))
    yield opened
    gate.set()
    qtbot.waitUntil(lambda: not opened.jobs.busy, timeout=30_000)


# --- refused ---


REFUSED = {
    "save as": lambda d, t: d.saving.save_as(t / "Copy"),
    "empty bin": lambda d, t: d.saving.empty_bin(),
    "import a DI": lambda d, t: d.importing.import_file(
        ImportRequest(d.folder.path / d.document.session.takes[0].di.file, "X")
    ),
    "reamp": lambda d, t: shown(d, "reamp").reamp(),
    "undo the load": lambda d, t: shown(d, "reamp").store_unloaded(),
    "play the rig": lambda d, t: shown(d, "rig").play_take("t0001"),
    "sound check": lambda d, t: shown(d, "levels").sound_check(),
    "all courses": lambda d, t: shown(d, "levels").set_all(),
    "strum": lambda d, t: shown(d, "instruments").measure_on_bench(),
    "record": lambda d, t: shown(d, "takes").record(),
    "noise check": lambda d, t: shown(d, "takes").check_noise("x"),
    "tuner": lambda d, t: tuner(d),
}


def shown(desk: Desk, ident: str) -> View:
    desk.show(ident)
    return desk.views[ident]


def tuner(desk: Desk) -> None:
    view = shown(desk, "takes")
    view.ready = view.ready or Ready((), (), ())
    view.toggle_tuner()


@pytest.mark.parametrize("name", REFUSED)
def test_a_refused_job_says_what_runs(busy: Desk, name: str, tmp_path: Path) -> None:
    busy.document.apply(edits.choose_rig("rig01"))
    before = busy.document.session
    busy.window.say("")
    REFUSED[name](busy, tmp_path)
    assert busy.window._status.text() == "Not now: Blocking is running."
    assert busy.document.session == before


def test_emptying_the_bin_during_a_job_empties_nothing(
    opened: Desk, settled: Settle, answers: dict
) -> None:
    view = opened.views["reamp"]
    view.reamp()
    settled(opened)
    made = opened.document.session.takes[0].passes[0]
    view.discard()
    gate = threading.Event()
    opened.jobs.start(Job("Blocking", lambda p, c: gate.wait(60.0), lambda r: None))
    opened.saving.empty_bin()
    assert opened.document.session.bin
    assert opened.folder.has_file(made.main.file)
    gate.set()
    settled(opened)
    answers["button"] = "Delete"
    opened.saving.empty_bin()
    settled(opened)
    assert not opened.document.session.bin
    assert not opened.folder.has_file(made.main.file)


def test_a_bin_that_cannot_be_emptied_is_full_still(
    opened: Desk, settled: Settle, answers: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    from diaulos.errors import StorageError

    view = opened.views["reamp"]
    view.reamp()
    settled(opened)
    view.discard()

    def full(session: object) -> None:
        raise StorageError("The disk is full.", remedy="Free some space.")

    monkeypatch.setattr(opened.folder, "save", full)
    answers["button"] = "Delete"
    opened.saving.empty_bin()
    settled(opened)
    assert len(opened.document.session.bin) == 1
    assert opened.folder.has_file(opened.document.session.bin[0].item.main.file)
    assert "disk is full" in str(answers["asked"][-1])


def test_save_as_takes_what_was_changed_meanwhile(
    opened: Desk, tmp_path: Path, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    gate, real = threading.Event(), SessionFolder.copy_to

    def slow(self: SessionFolder, *arguments: object) -> SessionFolder:
        made = real(self, *arguments)
        gate.wait(60.0)
        return made

    monkeypatch.setattr(SessionFolder, "copy_to", slow)
    opened.saving.save_as(tmp_path / "Copy")
    opened.document.apply(edits.set_info(tempo_bpm=77.0))
    gate.set()
    settled(opened)
    assert opened.folder.path == tmp_path / "Copy.diaulos"
    assert opened.document.session.tempo_bpm == 77.0
    assert opened.document.dirty  # it is not saved yet, and says so


# --- opening ---


def left_behind(path: Path) -> None:
    """A cut-off recording and a pass without an entry, as a dead process leaves them."""
    folder = SessionFolder.open(path)
    session = folder.load()
    take = session.takes[0]
    shutil.copy(path / take.di.file, path / "audio" / f"{take.id}_p07_k01.wav")
    request = RecordRequest(session, rig_id="rig04", seconds=1.0)
    lost = prepare(request, folder, wiring.rig_backend(paced=False), lambda: NOON).run()
    assert lost.take.id in folder.recordings()
    folder.close()


def test_both_offers_come_and_both_are_done(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle
) -> None:
    left_behind(demo_copy)
    wanted = iter(["Bring it back", "Add them"])

    def next_button(*_: object) -> int:
        answers["button"] = next(wanted)
        return 0

    real, desk.ask = desk.ask, lambda *a, **k: (next_button(), real(*a, **k))[1]
    count = len(read_session(demo_copy / "session.json").takes)
    assert desk.open_path(demo_copy)
    settled(desk)
    titles = [title for title, _ in answers["asked"]]
    assert titles == [
        "A recording is not in the session",
        "A pass was found that is not in the session",
    ]
    session = desk.document.session
    assert len(session.takes) == count + 1
    assert len(session.takes[0].passes) == 1


def test_declining_keeps_it_and_the_menu_brings_it_back(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle
) -> None:
    left_behind(demo_copy)
    answers["button"] = "Not now"
    assert desk.open_path(demo_copy)
    desk.document.apply(edits.set_info(tempo_bpm=77.0))
    desk.saving.save()
    settled(desk)
    assert list(desk.folder.recordings())  # saving does not drop what was declined
    from diaulos.app.dialogs.recover import RecoverDialog
    from diaulos.work.reamp.recovery import remains_of

    found = remains_of(desk.document.session, desk.folder)
    dialog = RecoverDialog(found, desk.window)
    assert dialog.list.count() == len(found.takes) + len(found.passes) + len(found.others)
    assert dialog.chosen.takes == found.takes
    dialog.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    assert dialog.chosen.takes == ()
    dialog.list.item(0).setCheckState(Qt.CheckState.Checked)
    desk.opening.recover(dialog.chosen)
    dialog.deleteLater()
    settled(desk)
    assert any("recovered" in take.name for take in desk.document.session.takes)
    assert list(desk.folder.recordings())  # not saved yet: a death now loses nothing
    desk.saving.save()
    settled(desk)
    assert not desk.folder.recordings()


@pytest.mark.parametrize("answer", ["Bring it back", "Open without it", "Do not open"])
def test_unsaved_work_is_never_deleted(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle, answer: str
) -> None:
    folder = SessionFolder.open(demo_copy)
    changed = edits.set_info(tempo_bpm=77.0)(folder.load())
    folder.write_journal(changed)
    folder.close()
    answers["button"] = answer
    assert desk.open_path(demo_copy) == (answer != "Do not open")
    if answer == "Do not open":
        assert desk.document is None
        assert read_session(demo_copy / "journal.json") == changed
        assert not (demo_copy / "lock").exists()
        return
    settled(desk)
    brought = answer == "Bring it back"
    assert (desk.document.session.tempo_bpm == 77.0) == brought
    kept = demo_copy / ("journal.json" if brought else "journal.kept.json")
    assert read_session(kept) == changed


def test_a_disk_that_cannot_be_written_to_is_opened_to_read(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    from diaulos.storage import lock
    from diaulos.storage.beside import write_failed

    def full(self: lock.FolderLock) -> None:
        raise write_failed(self.path, OSError(28, "No space left on device"))

    monkeypatch.setattr(lock.FolderLock, "take", full)
    answers["button"] = "Open read-only"
    assert desk.open_path(demo_copy)
    settled(desk)
    assert desk.document.read_only
    assert "disk is full" in answers["asked"][0][1]


def test_a_lock_of_another_machine_is_taken_over_after_a_question(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle
) -> None:
    (demo_copy / "lock").write_text("812 boathouse 0000-1111 99\n")
    wanted = iter(["Cancel", "Take it over", "Take it over"])
    real = desk.ask

    def ask(*arguments: object, **more: object) -> int:
        answers["button"] = next(wanted)
        return real(*arguments, **more)

    desk.ask = ask
    assert not desk.open_path(demo_copy)
    assert desk.open_path(demo_copy)
    settled(desk)
    assert not desk.document.read_only
    assert "boathouse" in answers["asked"][0][1]


# --- closing ---


@pytest.fixture
def recording(opened: Desk, qtbot: QtBot, settled: Settle) -> Desk:
    """A recording is under way."""
    opened.services = replace(opened.services, record_from=wiring.rig_backend(paced=True, seed=3))
    opened.document.apply(edits.choose_rig("rig04"))
    opened.show("takes")
    settled(opened)
    view = opened.views["takes"]
    view._services = opened.services
    view.setup.count_in.setValue(0)
    view.setup.bars.setValue(0)
    view.record()
    qtbot.waitUntil(
        lambda: view.recording is not None and view.recording.recorder.captured_frames > 4_800,
        timeout=60_000,
    )
    return opened


def test_closing_asks_about_the_recording_and_waits_for_it(
    recording: Desk, qtbot: QtBot, answers: dict
) -> None:
    window, count = recording.window, len(recording.document.session.takes)
    answers["button"] = "Keep recording"
    window.close()
    assert window.isVisible()
    assert recording.views["takes"].under_way
    path = recording.folder.path
    wanted = iter(["Stop and close", "Save"])
    real = recording.ask

    def ask(*arguments: object, **more: object) -> int:
        answers["button"] = next(wanted)
        return real(*arguments, **more)

    recording.ask = ask
    window.close()
    assert window.isVisible()  # it says what it waits for
    assert "comes to its end" in window._status.text()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=60_000)
    assert len(read_session(path / "session.json").takes) == count + 1
    assert recording.jobs.empty


def test_a_folder_that_goes_is_told_once_and_ends_the_recording(
    recording: Desk, qtbot: QtBot, answers: dict, tmp_path: Path
) -> None:
    answers["button"] = "Not now"
    away = tmp_path / "Away.diaulos"
    recording.folder.path.rename(away)
    qtbot.waitUntil(lambda: not recording.views["takes"].under_way, timeout=60_000)
    gone = [title for title, _ in answers["asked"] if "not there any more" in title]
    assert len(gone) == 1
    found = [path for path in (away / "audio").glob("*_k01.wav") if path.stat().st_size > 20_000]
    assert found  # what was written lies there, with its note
    away.rename(recording.folder.path)


# --- the system ends it ---

ENDED = """
import os, signal, sys
sys.path[:0] = {path!r}
from pathlib import Path
from PySide6.QtCore import QTimer
from diaulos.app import preferences, start
from diaulos.session import edits
from diaulos.storage.settings import SettingsFile

folder, record, number = Path({folder!r}), {record}, {number}
settings = SettingsFile(Path({settings!r}))
kept = preferences.Preferences
preferences.Preferences = lambda: kept(settings)
real = start.Starter._open

def opened(self, error):
    real(self, error)
    desk = self.window.desk
    desk.document.apply(edits.set_info(tempo_bpm=77.0))
    if not record:
        QTimer.singleShot(0, lambda: os.kill(os.getpid(), number))
        return
    desk.document.apply(edits.choose_rig("rig04"))
    desk.show("takes")
    view = desk.views["takes"]
    view.setup.count_in.setValue(0)
    view.setup.bars.setValue(0)
    timer = QTimer(desk)

    def look():
        if view.ready is not None and view.settled and not view.under_way and not timer.begun:
            timer.begun = True
            view.record()
        if view.recording and view.recording.recorder.captured_frames > 24_000:
            timer.stop()
            os.kill(os.getpid(), number)

    timer.begun = False
    timer.timeout.connect(look)
    timer.start(20)

start.Starter._open = opened
print("code", start.run_window([str(folder)]))
"""


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
@pytest.mark.parametrize("record", [False, True], ids=["an edit", "a recording"])
def test_a_signal_ends_it_and_loses_nothing(
    demo_copy: Path, tmp_path: Path, number: signal.Signals, record: bool
) -> None:
    if record and number is not signal.SIGTERM:
        pytest.skip("one signal stands for the others")
    script = ENDED.format(
        path=sys.path, folder=str(demo_copy), record=record, number=int(number),
        settings=str(tmp_path / "s.json"),
    )  # fmt: skip
    count = len(read_session(demo_copy / "session.json").takes)
    run = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(script)], capture_output=True, text=True,
        timeout=120, check=False, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )  # fmt: skip
    assert "code 0" in run.stdout, run.stderr
    assert "Traceback" not in run.stderr
    kept = read_session(demo_copy / "journal.json")
    assert kept.tempo_bpm == 77.0
    assert len(kept.takes) == count + record
    assert not (demo_copy / "lock").exists()
    assert json.loads((demo_copy / "session.json").read_text())["tempo_bpm"] == 96.0


# --- one sound ---


def test_leaving_a_view_and_recording_pause_what_sounds(
    opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    reamp = opened.views["reamp"]
    reamp.toggle_play()
    assert reamp.player.playing
    opened.show("takes")
    settled(opened)
    assert not reamp.player.playing
    takes = opened.views["takes"]
    takes.takes.choose("t0001")
    takes.player.sound.set_level(-33.0)
    takes.player.toggle_play()
    assert takes.player.sound.playing
    assert reamp.player.level_db == -33.0  # one device, one level
    opened.show("reamp")
    assert not takes.player.sound.playing
    reamp.toggle_play()
    reamp.reamp()
    assert not reamp.player.playing
    settled(opened)


# --- one View, one row ---


class Dummy(View):
    """A view as the next engineer begins one."""

    ident = "dummy"

    def copy_image(self) -> None:
        """Nothing to copy."""

    def copy_csv(self) -> None:
        """Nothing to copy."""

    @property
    def plot(self) -> Dummy:
        return self

    def take_focus(self) -> None:
        self.said.emit("A view of its own.")


def test_a_view_is_its_row(
    qtbot: QtBot, preferences: Preferences, services: Services, demo_copy: Path
) -> None:
    window = MainWindow(preferences, (*VIEWS, ViewRow("dummy", "Dummy", "Ctrl+9", lambda: Dummy)))
    desk = Desk(window, services)
    window.show()
    assert desk.open_path(demo_copy)
    assert window.action("dummy_view").shortcut().toString() == "Ctrl+9"
    window.action("dummy_view").trigger()
    assert isinstance(desk.current, Dummy)
    assert window._status.text() == "A view of its own."
    assert window.rail._buttons["dummy"].isChecked()
    assert preferences.view == "dummy"
    desk.copy_image()
    desk.show("reamp")
    assert desk.current is desk.views["reamp"]
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=30_000)
    window.deleteLater()


# --- text is text ---


def test_names_with_markup_are_shown_as_they_are(
    desk: Desk, demo_copy: Path, settled: Settle
) -> None:
    bold = "<b>Bold</b> & <img src=x>"
    folder = SessionFolder.open(demo_copy)
    session = folder.load()
    session = edits.set_info(name=bold)(session)
    session = edits.change_instrument(session.instruments[0].id, "x", name=bold)(session)
    takes = tuple(take.model_copy(update={"name": bold}) for take in session.takes)
    folder.save(session.model_copy(update={"takes": takes}))
    folder.close()
    assert desk.open_path(demo_copy)
    for row in VIEWS:
        desk.show(row.ident)
    settled(desk)
    labels = desk.window.findChildren(QLabel)
    assert len(labels) > 50
    for label in labels:
        if isinstance(label, RichLabel):
            assert "<img" not in label.text()
        else:
            # A form's own labels hold our own words.
            plain = label.textFormat() == Qt.TextFormat.PlainText
            assert plain or "<" not in label.text(), label.text()
    assert any(bold in label.text() for label in labels)
    assert "&lt;b&gt;" in tip(bold)
    assert tip("plain") == "plain"
