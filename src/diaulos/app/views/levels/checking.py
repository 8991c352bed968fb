"""The Levels view against reality: sound check and calibration."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer

from diaulos.app.asking import ask_file
from diaulos.app.dialogs.calibrate import CalibrateDialog
from diaulos.app.jobs import Job
from diaulos.app.views.levels.layout import LevelsLayout
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.ids import BENCH
from diaulos.rig.levels.causes import Cause, Difference
from diaulos.rig.model import PortRef, Rig
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.levels import (
    traced_courses,
)
from diaulos.work.rigs.report import LevelsReport
from diaulos.work.rigs.soundcheck import (
    SoundCheck,
    bench_check,
    file_check,
    live_check,
    take_calibration_edit,
    take_cause_edit,
    take_level_edit,
)
from diaulos.work.rigs.stored import stored_of


class LevelsChecking(LevelsLayout):
    """What was heard, beside what was planned."""

    _timer: QTimer

    def _show_diagram(self, report: LevelsReport) -> None:
        """The diagram, with what was heard over it."""

    report: LevelsReport | None
    _check: SoundCheck | None

    # --- what is shown ---

    @property
    def rig(self) -> Rig:
        """The current rig as it is now."""
        return self._document.session.rig()

    def _show_check(self) -> None:
        self.check.show_who(real=self._services.device() != BENCH)
        report = self.report
        names = {one.track: one.name for one in report.courses} if report is not None else {}
        self.check.show_check(self._check, names, not self._document.read_only)

    def show_check_page(self) -> None:
        self.pages.setCurrentIndex(2)

    # --- against reality ---

    def sound_check(self, *, surprise: bool = False) -> None:
        """Ten seconds, beside the plan: on the bench, or of whoever plays by a real device."""
        session = self._document.session
        seed = 1 + len(session.rigs) + (self._services.clock().second if surprise else 0)
        rig_id, audio, store = self.rig.id, self._services.rig_audio, self._document.store

        live = self._services.live(self.rig)

        def work(progress: Progress, cancel: CancelToken) -> SoundCheck:
            if live is not None:
                return live_check(session, live, rig_id, stored=stored_of(session, store),
                                  progress=progress, cancel=cancel)  # fmt: skip
            return bench_check(
                session,
                audio,
                rig_id,
                stored=stored_of(session, store),
                seed=seed,
                surprise=surprise,
                progress=progress,
                cancel=cancel,
            )

        self._jobs.start(Job("Sound check", work, self._on_check, self.problem.emit, captures=True))

    def check_bench(self) -> None:
        """The sound check by its key."""
        self.show_check_page()
        self.sound_check()

    def ask_check_file(self) -> None:
        """A recording of the loudest playing on the chosen course."""
        path = ask_file(self, "A sound check", "Audio (*.wav *.flac)")
        if path:
            self.check_file(Path(path))

    def check_file(self, path: Path) -> None:
        """This recording against the chosen course."""
        report = self.report
        if report is None or report.chosen is None:
            return
        session, track, files = self._document.session, report.chosen.track, self._services.files
        store = self._document.store

        def work(progress: Progress, cancel: CancelToken) -> SoundCheck:
            return file_check(session, {track: files.open(path)}, stored=stored_of(session, store))

        self._jobs.start(Job("Reading the sound check", work, self._on_check, self.problem.emit))

    def _on_check(self, check: SoundCheck) -> None:
        self._check = check
        self.show_check_page()
        self._show_check()
        if self.report is not None:
            self._show_diagram(self.report)
        worst = max((abs(one.db) for one in check.differences), default=0.0)
        self.said.emit(
            "Plan and sound check agree within 1 dB."
            if check.agrees
            else f"Differs by up to {number(worst)} dB: the likely cause stands at the right."
        )

    def _take_cause(self, cause: Cause) -> None:
        if self._document.apply(take_cause_edit(self.rig.id, cause)):
            self.said.emit("The session now says what stands there. Ctrl+Z takes it back.")

    def _take_input(self, difference: Difference) -> None:
        course = traced_courses(self._document.session).get(difference.track)
        if course is None:
            return
        now = self._services.clock().isoformat(timespec="minutes")
        try:
            edit = take_calibration_edit(course, difference, now)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        if self._document.apply(edit):
            self.said.emit("Taken over as the input's calibration, with its date.")

    def _take_level(self, difference: Difference) -> None:
        course = traced_courses(self._document.session).get(difference.track)
        if course is not None and self._document.apply(
            take_level_edit(self.rig.id, course, difference.db)
        ):
            self.said.emit("Taken over as the loudest playing of this instrument here.")

    def _recording_input(self) -> PortRef | None:
        """The input whose converter records the chosen course."""
        chosen = self.report.chosen if self.report is not None else None
        legs = chosen.diagram.course.legs if chosen is not None and chosen.diagram else ()
        for leg in reversed(legs):
            if leg.path is not None and leg.entry is not None:
                if any(stage.kind == "adc" for stage in leg.path.stages):
                    return PortRef(device=leg.device.id, port=leg.entry.id)
        return None

    def ask_calibrate(self) -> None:
        """Measure an input, an output or a box."""
        dialog = CalibrateDialog(
            self._document.session,
            self._jobs,
            self._services.files,
            self._services.rig_audio,
            self,
            self._recording_input(),
            self._services.live(self._document.session.rig()),
        )
        if dialog.exec() and dialog.found is not None:
            now = self._services.clock().isoformat(timespec="minutes")
            if self._document.apply(dialog.found.edit(now)):
                self.said.emit("Calibrated. Every rig with this unit now stands on it.")
