"""The tuner and the noise check over the body of the Takes view."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QWidget

from diaulos.app.asking import ask_file
from diaulos.app.jobs import Job
from diaulos.app.views.takes.board import BoardRow
from diaulos.app.views.takes.hunt_ear import HuntEar
from diaulos.app.views.takes.keeping import TakesKeeping
from diaulos.app.views.takes.tuner_ear import TunerEar
from diaulos.errors import DiaulosError
from diaulos.figures import counted
from diaulos.rig.model import PortRef
from diaulos.session import edits
from diaulos.session.instrument import IntonationReading
from diaulos.session.roles import recording_rig
from diaulos.work.instruments.tuning import instrument_on, keep_intonation, track_to_tune
from diaulos.work.measuring import read_mono
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.look import RigReport
from diaulos.work.takes.noisecheck import Attempt, check_file, check_noise, kept_check
from diaulos.work.takes.ready import Armed, Condition

MOST_NOISE_S = 120.0
"""So much of a file is looked at."""


class Ready:
    """What is armed and what must be true, with the levels as planned."""

    def __init__(
        self, armed: tuple[Armed, ...], lines: tuple[Condition, ...], rows: tuple[BoardRow, ...],
        report: RigReport | None = None,
    ) -> None:  # fmt: skip
        self.armed, self.lines, self.rows, self.report = armed, lines, rows, report

    @property
    def armed_rows(self) -> tuple[BoardRow, ...]:
        """Of what is recorded."""
        return tuple(row for row in self.rows if row.armed)


class TakesTuning(TakesKeeping):
    """What listens without recording."""

    def _say(self) -> None:
        """What is happening, in one sentence."""

    @property
    def under_way(self) -> bool:
        """Whether a recording is."""
        return False

    def record(self) -> None:
        """Begin a recording."""

    ready: Ready | None
    _tuned_port: PortRef | None
    _then_record: bool
    ear: TunerEar
    hunt_ear: HuntEar

    def hunt_listen(self) -> None:
        """Listen to what was done in a hunt."""

    def _open(self, page: QWidget) -> None:
        """Show a page; leaving the tuner ends its listening."""
        if self._page is self.tuner and page is not self.tuner:
            self.tuner.close_check()
            self.ear.stop()
        if self._page is self.cabinets and page is not self.cabinets:
            self._leave_cabinets()
        if self._page is self.hunting and page is not self.hunting:
            self.hunt_ear.stop()
        self._stack.setCurrentWidget(page)
        # Tuning and noise need the room, and nothing of a take.
        with_take = (self.board, self.mix, self.cabinets)
        self.player.setVisible(page in with_take and not self.board.far)

    def _toggle(self, page: QWidget, focus: QWidget, words: str) -> bool:
        """A page over the body, or the body again; whether it is open now."""
        opened = self._page is not page
        self._open(page if opened else self.board)
        (focus if opened else self.board).setFocus()
        self.said.emit(words if opened else "")
        return opened

    # --- tuning ---

    def toggle_tuner(self) -> None:
        """The tuner over the body, or the body again."""
        if self._page is not self.tuner and (
            self.ready is None or self._jobs.refuse_if_busy()
        ):  # fmt: skip
            return
        if self._toggle(self.tuner, self.tuner.face, "T goes back."):
            self._show_tuning()
            self._listen()
        self._say()

    def _track_to_tune(self) -> Armed:
        """The armed track that was chosen, else the one that tells a string best."""
        armed = self.ready.armed if self.ready is not None else ()
        chosen = next((one for one in armed if one.port == self._tuned_port), None)
        return chosen or track_to_tune(armed)

    def _show_tuning(self) -> None:
        session = self._document.session
        try:
            track = self._track_to_tune()
        except DiaulosError as error:
            self.tuner.show_inputs((), None)
            self.tuner.show_setup(None, session.a4_hz, str(error), "")
            return
        armed = self.ready.armed if self.ready is not None else ()
        names = {}
        for one in armed:
            player = instrument_on(session, one)
            names[one.port] = f"{one.name}, {player.name}" if player is not None else one.name
        self.tuner.show_inputs(tuple(names.items()), track.port)
        instrument = instrument_on(session, track)
        where = "" if instrument is not None else (
            "No instrument assigned to it: choose one in Rig, page Settings, to keep a check."
        )  # fmt: skip
        made = self._services.clock().isoformat(timespec="seconds")
        self.tuner.show_setup(instrument, session.a4_hz, where, made)

    def _tune_on(self, port: PortRef) -> None:
        """Listen on another track."""
        self.tuner.close_check()
        self._tuned_port = port
        self._show_tuning()
        self._listen_again()

    def _listen(self) -> None:
        try:
            track = self._track_to_tune()
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self._tuned_port = track.port
        frets = (0, 12) if self.tuner.check is not None else (0,)
        self.ear.start(self._document.session, track, frets)
        self._say()

    def _listen_again(self) -> None:
        """The player is told to play other frets: the ear starts anew."""
        if self.ear.listening:
            self.ear.stop()

    def _on_ear_ended(self) -> None:
        if self._page is self.tuner:
            if not self._jobs.busy and not self.ear.was_cancelled:
                self._listen()
            else:
                self.said.emit("The tuner stopped listening. T closes it.")
        elif self._then_record:
            self._then_record = False
            self.record()
        self._say()

    def toggle_check(self) -> None:
        """The intonation check."""
        if self._page is not self.tuner:
            self.toggle_tuner()
        if self._page is self.tuner:
            self.tuner.toggle_check()

    def _keep_check(self, readings: tuple[IntonationReading, ...]) -> None:
        instrument = self.tuner.instrument
        if instrument is None or self._document.read_only:
            self.said.emit("Not kept: nobody said which instrument it is, or it is read-only.")
            return
        if self._document.apply(keep_intonation(instrument, readings)):
            self.said.emit(f"{counted(len(readings), 'string')} kept with {instrument.name}.")

    def _make_own(self, names: tuple[str, ...]) -> None:
        if self.tuner.instrument is not None:
            ident = self.tuner.instrument.id
            self._document.apply(edits.change_instrument(ident, "Another tuning", strings=names))

    # --- the noise check ---

    def toggle_noise(self) -> None:
        """The noise check over the body, or the body again."""
        self._toggle(self.noise, self.noise.listen, "H listens for five seconds, S goes back.")

    def listen(self) -> None:
        """Five seconds of silence, with the label that is typed."""
        if self._page is self.hunting:
            self.hunt_listen()
            return
        if self._page is not self.noise:
            self.toggle_noise()
        self.check_noise(self.noise.label.currentText())

    def ask_noise_file(self, label: str) -> None:
        """Ask for a file whose silence is looked at."""
        path = ask_file(self, "A silence, or a recording", "Audio (*.wav *.flac)")
        if path:
            self.check_noise_file(Path(path), label)

    def check_noise_file(self, path: Path, label: str) -> None:
        """A file as another attempt."""
        files = self._services.files

        def work(progress: Progress, cancel: CancelToken) -> Attempt:
            progress(0.2, "Looking at the silence")
            source = files.open(path)
            count = min(source.frames, int(MOST_NOISE_S * source.rate_hz))
            samples = read_mono(source, count=count)
            return check_file(path.name, samples, float(source.rate_hz), label)

        self._jobs.start(Job("Noise of a file", work, self.noise.add, self.problem.emit))

    def check_noise(self, label: str) -> None:
        """Another attempt."""
        if self.under_way:
            self.said.emit("Not while it records.")
            return
        session, source = self._document.session, self._services.silence_from

        def work(progress: Progress, cancel: CancelToken) -> Attempt:
            return check_noise(session, source, label, should_stop=lambda: cancel.cancelled)

        rig, device = recording_rig(session), self._services.device()

        def done(attempt: Attempt) -> None:
            self.noise.add(attempt)
            made_at = self._services.clock().isoformat(timespec="seconds")[:19]
            kept = kept_check(attempt, rig, made_at, device)
            if kept is not None and not self._document.read_only:
                self._document.apply(edits.keep_noise_check(kept, rig))

        job = Job("Listening to the silence", work, done, self.problem.emit, captures=True)
        if self._jobs.start(job):
            self.sentence.setText("Listening to the silence: hold the strings. Esc ends it.")
