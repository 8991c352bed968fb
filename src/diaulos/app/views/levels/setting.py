"""What is set in the Levels view: controls, locks, target, loudest playing, verdicts."""

from __future__ import annotations

from PySide6.QtCore import Qt

from diaulos.app.jobs import Job
from diaulos.app.views.levels.checking import LevelsChecking
from diaulos.errors import DiaulosError, EditError
from diaulos.rig.model import SettingRef
from diaulos.session import edits
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.levels import (
    forget_played_edit,
    lock_edit,
    set_played_edit,
    typed_played,
)
from diaulos.work.rigs.solving import Solved, second_edit, solve_edit, solve_rig
from diaulos.work.rigs.stored import stored_of

OWN_TARGET = "own"


class LevelsSetting(LevelsChecking):
    """Edits of levels."""

    # --- edits ---

    def _on_value(self, ref: SettingRef, value: float | str) -> None:
        name = self.rig.device(ref.device).setting(ref.setting).name
        self._document.apply(
            edits.change_rig(
                self.rig.id,
                f"Set {name}",
                lambda rig: rig.with_setting(ref.device, ref.setting, value),
            ),
            merge=str(ref),
        )

    def _on_lock(self, ref: SettingRef, locked: bool) -> None:
        self._document.apply(lock_edit(self.rig.id, ref, locked))

    def toggle_lock(self) -> None:
        """The control that has the keyboard: locked against the solver, or no longer."""
        field = self.controls.focused()
        if field is None:
            self.said.emit("Tab to a control first: L locks it against the solver.")
        elif field.lock.isEnabled():
            field.lock.toggle()

    def _on_target(self) -> None:
        data = self.target.currentData()
        if data == OWN_TARGET:
            return
        statistic, value = data
        field = "target_peak_dbfs" if statistic == "peak" else "target_rms_dbfs"
        self._document.apply(edits.set_target(target_statistic=statistic, **{field: value}))
        self.said.emit(str(self.target.currentData(Qt.ItemDataRole.ToolTipRole) or ""))

    def _on_loud(self, on: bool) -> None:
        if on != self._document.session.loud_moments:
            self._document.apply(edits.set_target(loud_moments=on))

    def _on_loudest(self, value: float) -> None:
        chosen = self.report.chosen if self.report is not None else None
        if chosen is None or chosen.diagram is None:
            return
        device = chosen.diagram.course.start.device.id
        try:
            level = typed_played(self._document.session, self.rig.id, device, value)
        except DiaulosError as error:
            self.problem.emit(error)
            self._timer.start()
            return
        self._document.apply(set_played_edit(self.rig.id, level), merge=f"played {device}")

    def _on_measured(self) -> None:
        chosen = self.report.chosen if self.report is not None else None
        if chosen is not None and chosen.diagram is not None:
            device = chosen.diagram.course.start.device.id
            self._document.apply(forget_played_edit(self.rig.id, device))

    def set_gains(self) -> None:
        """What the verdict says, as one step of undo."""
        report = self.report
        if report is None or report.solved is None or report.solved.solution is None:
            self.said.emit("There is nothing to set on this course.")
            return
        if not report.solved.solution.changes and report.solved.swapped is None:
            self.said.emit("Nothing to change: this is the best that its steps allow.")
            return
        if self._document.apply(solve_edit(report.rig.id, (report.solved,))):
            self.said.emit("Set. Ctrl+Z takes it back.")

    def set_second(self) -> None:
        """The second best of the course."""
        report = self.report
        if report is None or report.solved is None:
            return
        try:
            edit = second_edit(report.rig.id, report.solved)
        except EditError as error:
            self.problem.emit(error)
            return
        if self._document.apply(edit):
            self.said.emit("The second best is set. Ctrl+Z takes it back.")

    def set_all(self) -> None:
        """Every course of the rig, one after the other."""
        session, rig_id = self._document.session, self.rig.id
        free, other_di = self.tone.isChecked(), self.boxes.isChecked()
        store = self._document.store

        def work(progress: Progress, cancel: CancelToken) -> tuple[Solved, ...]:
            stored = stored_of(session, store)
            return solve_rig(
                session,
                rig_id,
                None,
                stored,
                free_tone=free,
                other_di=other_di,
                with_freeings=False,
            )

        def done(solved: tuple[Solved, ...]) -> None:
            count = sum(len(one.solution.changes) for one in solved if one.solution)
            if not count:
                self.said.emit("Nothing to change on any course.")
            elif self._document.apply(solve_edit(rig_id, solved)):
                self.said.emit(f"{count} controls are set. Ctrl+Z takes them back.")

        self._jobs.start(Job("Setting all courses", work, done, self.problem.emit))
