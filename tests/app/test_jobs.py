"""Jobs and the document: work off the UI thread, one undo, one truth."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QThread
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.document import Document
from diaulos.app.jobs import Job, Jobs
from diaulos.errors import CancelledError, EditError
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken, Progress


@pytest.fixture
def jobs(qtbot: QtBot) -> Iterator[Jobs]:
    made = Jobs()
    yield made
    made.shut_down()


def test_work_runs_elsewhere_and_its_result_arrives_here(jobs: Jobs, qtbot: QtBot) -> None:
    seen: dict[str, object] = {}

    def work(progress: Progress, cancel: CancelToken) -> int:
        seen["worker"] = threading.current_thread().name
        progress(0.5, "half")
        return 42

    def done(result: int) -> None:
        seen["result"] = result
        seen["here"] = QThread.currentThread() is QApplication.instance().thread()

    with qtbot.waitSignals([jobs.started, jobs.progressed, jobs.ended, jobs.idle]):
        assert jobs.start(Job("test", work, done))
        assert jobs.busy
    assert seen == {"worker": "job: test", "result": 42, "here": True}


def test_one_at_a_time(jobs: Jobs, qtbot: QtBot) -> None:
    gate = threading.Event()
    first = Job("first", lambda p, c: gate.wait(20.0), lambda r: None)
    with qtbot.waitSignal(jobs.idle):
        assert jobs.start(first)
        assert not jobs.start(Job("second", lambda p, c: None, lambda r: None))
        gate.set()


def test_errors_are_told_and_cancel_is_heeded(jobs: Jobs, qtbot: QtBot) -> None:
    def broken(progress: Progress, cancel: CancelToken) -> None:
        raise EditError("no")

    with qtbot.waitSignal(jobs.failed) as caught:
        jobs.start(Job("broken", broken, lambda r: pytest.fail("no result was made")))
    assert isinstance(caught.args[0], EditError)

    def patient(progress: Progress, cancel: CancelToken) -> None:
        while True:
            cancel.check()

    with qtbot.waitSignal(jobs.failed) as caught:
        jobs.start(Job("patient", patient, lambda r: pytest.fail("it was cancelled")))
        jobs.cancel()
    assert isinstance(caught.args[0], CancelledError)
    assert jobs.quiet


def test_a_newer_background_job_takes_the_place_of_an_older_one(jobs: Jobs, qtbot: QtBot) -> None:
    results: list[int] = []

    def number(value: int) -> Job:
        def work(progress: Progress, cancel: CancelToken) -> int:
            if value < 3:
                while True:
                    cancel.check()
            return value

        return Job("same", work, results.append, background=True)

    with qtbot.waitSignal(jobs.idle, timeout=20_000):
        for value in (1, 2, 3):
            assert jobs.start(number(value))
    assert results == [3]


def test_a_dropped_job_tells_nobody(jobs: Jobs, qtbot: QtBot) -> None:
    gate = threading.Event()

    def work(progress: Progress, cancel: CancelToken) -> None:
        gate.wait(20.0)

    jobs.start(Job("old", work, lambda r: pytest.fail("it was dropped"), background=True))
    jobs.drop_background()
    assert jobs.quiet
    heard: list[int] = []
    with qtbot.waitSignal(jobs.idle, timeout=20_000):
        jobs.start(Job("old", lambda p, c: 7, heard.append, background=True))
        gate.set()
    qtbot.waitUntil(lambda: heard == [7])


class _Store:
    """Stands where a session's folder would."""


def document(write_journal: object = lambda session: None) -> Document:
    session = Session(id="s", name="S", sample_rate_hz=48_000)
    return Document(session, _Store(), Path("x"), read_only=False, write_journal=write_journal)


def test_the_document_says_what_changed(qtbot: QtBot) -> None:
    held = document()
    with qtbot.waitSignal(held.changed) as caught:
        assert held.apply(edits.set_info(tempo_bpm=90.0))
    before, after = caught.args
    assert (before.tempo_bpm, after.tempo_bpm) == (120.0, 90.0)
    assert held.dirty
    held.mark_saved(held.session)
    assert not held.dirty
    held.undo()
    assert held.dirty
    held.close()


def test_a_failed_edit_changes_nothing_and_is_told(qtbot: QtBot) -> None:
    held = document()
    before = held.session
    with qtbot.waitSignal(held.failed) as caught:
        assert not held.apply(edits.rename_pass("t0001", "p01", "X"))
    assert isinstance(caught.args[0], EditError)
    assert held.session is before
    assert held.undo_label == ""
    held.close()


def test_turning_a_knob_is_one_step(qtbot: QtBot) -> None:
    held = document()
    for tempo in (100.0, 110.0, 115.0):
        held.apply(edits.set_info(tempo_bpm=tempo), merge="tempo")
    held.apply(edits.set_info(name="Other"))
    held.apply(edits.set_info(tempo_bpm=70.0), merge="tempo")
    held.undo()
    held.undo()
    assert held.session.tempo_bpm == 115.0
    held.undo()
    assert held.session.tempo_bpm == 120.0
    held.close()


def test_the_journal_is_written_only_for_what_is_new(qtbot: QtBot) -> None:
    written: list[Session] = []
    held = document(written.append)
    held.journal_now()
    held.apply(edits.set_info(tempo_bpm=90.0), journal=True)
    qtbot.waitUntil(lambda: len(written) == 1)
    held.journal_now()
    held.mark_saved(held.session)
    held.journal_now()
    assert [s.tempo_bpm for s in written] == [90.0]
    held.close()


def test_recent_sessions_are_offered(opened: Desk) -> None:
    window = opened.window
    window._fill_recent()
    assert [a.text() for a in window._recent.actions()] == [str(opened.folder.path)]


def test_background_jobs_begin_when_the_view_is_laid_out(jobs: Jobs, qtbot: QtBot) -> None:
    ran: list[str] = []

    def job(title: str, word: str) -> Job:
        return Job(title, lambda _p, _c: word, ran.append, background=True)

    with jobs.held():
        with jobs.held():
            assert jobs.start(job("one", "old"))
        assert jobs.start(job("one", "new"))  # in place of the one that waits
        assert jobs.start(job("two", "other"))
        qtbot.wait(20)
        assert ran == []
        assert not jobs.quiet

    qtbot.waitUntil(lambda: jobs.quiet)
    assert sorted(ran) == ["new", "other"]


def test_what_waits_is_dropped_with_the_rest(jobs: Jobs, qtbot: QtBot) -> None:
    ran: list[str] = []
    with jobs.held():
        jobs.start(Job("one", lambda _p, _c: "one", ran.append, background=True))
        jobs.drop_background()

    qtbot.wait(20)
    assert jobs.quiet
    assert ran == []
