"""What the Reamp view does with a take and its passes: edits, and jobs that return edits."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import (
    QInputDialog,
    QPushButton,
)

from diaulos.app.asking import ask, ask_file, ask_to_save
from diaulos.app.breathing import beside
from diaulos.app.jobs import Job
from diaulos.app.views.reamp.parts import ReampParts
from diaulos.errors import DiaulosError, RefusedError, RigError
from diaulos.session import edits, take_edits
from diaulos.session.model import MatchRecord
from diaulos.session.roles import reamp_rig
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.loopcheck import LoopChecked, check_loop
from diaulos.work.reamp.matching import match_pass
from diaulos.work.reamp.passes import ReampOutcome, ReampRequest, make_pass
from diaulos.work.reamp.planning import ReampPlan
from diaulos.work.reamp.reference import ReferenceFound, find_reference
from diaulos.work.reamp.words import (
    made_words,
)
from diaulos.work.takes.exporting import export_names, export_pass, named_beside
from diaulos.work.takes.impulses import import_impulse, load_impulses
from diaulos.work.takes.unloading import UnloadedTake, store_unloaded

MAY_GO_ON = ("slate_unheard", "slate_far")
"""What a person may know better than a sweep."""


class ReampWork(ReampParts):
    """Edits and work."""

    _rematch: QPushButton
    _export: QPushButton
    _plan: ReampPlan | None

    # --- edits ---

    def _on_setting(self, device: str, setting: str, value: object) -> None:
        assert isinstance(value, (str, float))
        rig = reamp_rig(self._document.session).id
        change = edits.set_device_setting(rig, device, setting, value, "reamp")
        if not self._document.apply(change):
            self.tone.show_rig(self._document.session, reamp_rig(self._document.session))

    def keep(self) -> None:
        """Mark or unmark the chosen pass."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            self._document.apply(edits.keep_pass(take.id, one.id, not one.keeper))

    def discard(self) -> None:
        """The chosen pass into the bin."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            self.player.pause()
            if self._document.apply(edits.discard_pass(take.id, one.id)):
                self.said.emit(f"{one.name} is in the bin. Ctrl+Z brings it back.")

    def rename(self) -> None:
        """Another name for the chosen pass."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            name, good = QInputDialog.getText(self, "Rename pass", "Name:", text=one.name)
            if good and name.strip():
                self._document.apply(edits.rename_pass(take.id, one.id, name.strip()))

    def recall_pass(self) -> None:
        """The rig and the instrument as the chosen pass had them."""
        take, one = self.take, self.chosen_pass
        if take is None or one is None:
            self.said.emit("Choose a pass first.")
        elif self._document.apply(take_edits.recall_pass(take.id, one.id)):
            self.said.emit(f"Set as {one.name} was made. Ctrl+Z takes it back.")

    def ask_differs(self) -> None:
        """Ask for another pass of the take, and say what is otherwise in the chosen one."""
        take, one = self.take, self.chosen_pass
        others = [made for made in take.passes if one and made.id != one.id] if take else []
        if one is None or not others:
            self.said.emit("There is no other pass of this take.")
            return
        names = [made.name for made in others]
        name, good = QInputDialog.getItem(
            self, "What differs", f"{one.name} against:", names, len(names) - 1, False
        )
        if good:
            other = others[names.index(name)]
            found = take_edits.pass_differences(self._document.session, one, other)
            told = "\n".join(
                f"{each.words}: {each.then} \N{RIGHTWARDS ARROW} {each.now}" for each in found
            )
            title = f"{one.name} against {other.name}"
            ask(self, title, told or "Nothing differs.", no="Close")

    # --- work ---

    def reamp(self) -> None:
        """Send the chosen take out and bring it back as a new pass."""
        self._reamp(go_on=False)

    def _reamp(self, *, go_on: bool) -> None:
        take = self.take
        if take is None or self._jobs.refuse_if_busy() or not self.tone.reamp_button.isEnabled():
            return
        session, store = self._document.session, self._document.store
        request = ReampRequest(
            session,
            take.id,
            target=self.tone.target,
            auto_return=self.tone.auto_return,
            undo_load=self.tone.undo_load,
            slate=self.tone.slate,
            go_on=go_on,
            device=self._services.device(),
            stretch=self.stretch,
            join=self.tone.join,
        )
        services = self._services

        def work(progress: Progress, cancel: CancelToken) -> ReampOutcome:
            impulses = load_impulses(session, store)
            return make_pass(
                request,
                store=store,
                backend_for=services.bench_for(impulses),
                clock=services.clock,
                impulses=impulses,
                progress=progress,
                cancel=cancel,
            )

        def failed(error: Exception) -> None:
            if not isinstance(error, RefusedError) or error.reason not in MAY_GO_ON:
                self.problem.emit(error)
                return
            told = f"{error.remedy}\nNothing of the take was sent yet."
            if ask(self, error.what, told, "Go on", no="Stop") == 0:
                self._reamp(go_on=True)
            else:
                self.said.emit(error.what)

        title = f"Reamping {take.name}"
        self._jobs.start(Job(title, work, self._on_reamped, failed, captures=True))

    def _on_reamped(self, outcome: ReampOutcome) -> None:
        if not self._document.apply(outcome.edit, journal=True):
            self.said.emit("The take is gone; the return's file was kept in the session's folder.")
            return
        made = outcome.made
        if self.take is not None and self.take.id == outcome.take_id:
            row = self.passes.row_of(made.id)
            self.pass_list.setCurrentIndex(self.passes.index(row))
        self.said.emit(made_words(made, self._document.session.sample_rate_hz))

    def check_loop(self) -> None:
        """A quiet sweep round the loop, held against the last good one."""
        session, store, services = self._document.session, self._document.store, self._services
        if not session.rigs or self._jobs.refuse_if_busy():
            return
        # As a pass would be made now: where its plan sets the return gain, with that.
        played = self._plan.rig if self._plan is not None and self.settled else None

        def work(progress: Progress, cancel: CancelToken) -> LoopChecked:
            impulses = load_impulses(session, store)
            return check_loop(
                session,
                played=played,
                backend_for=services.bench_for(impulses),
                clock=services.clock,
                device=services.device(),
                impulses=impulses,
                progress=progress,
                cancel=cancel,
            )

        self._jobs.start(
            Job("Checking the loop", work, self._on_checked, self.problem.emit, captures=True)
        )

    def _on_checked(self, checked: LoopChecked) -> None:
        if self._document.read_only:
            self.said.emit(checked.words)
            return
        good = checked.good
        if not good and checked.heard:
            told = "Held against the last good check. Where it is meant so, keep it as it is now."
            good = ask(self, checked.words, told, "Keep as it is now", no="Leave it") == 0
        if good:
            self._document.apply(checked.keep)
        self.said.emit(checked.words)

    def ask_reference(self) -> None:
        """Ask which track the take's passes are in time with, and turned like."""
        take = self.take
        if take is None:
            self.said.emit("Choose a take first.")
            return
        names = [track.name for track in take.tracks]
        now = take.reference_track
        at = names.index(now.name) if now is not None else 0
        name, good = QInputDialog.getItem(
            self, "In time with", "Passes of this take keep the time and polarity of:", names, at,
            False,
        )  # fmt: skip
        if good:
            self.choose_reference(take.tracks[names.index(name)].id)

    def choose_reference(self, track_id: str) -> None:
        """Another track as the take's time and polarity reference; its passes are measured
        against it."""
        take, store = self.take, self._document.store
        if take is None:
            return

        def work(progress: Progress, cancel: CancelToken) -> ReferenceFound:
            return find_reference(take, track_id, store, progress, cancel)

        def done(found: ReferenceFound) -> None:
            if self._document.apply(found.edit):
                self.said.emit(found.words)

        self._jobs.start(Job("Lining up", work, done, self.problem.emit))

    def match_again(self) -> None:
        """Match the chosen pass to the reference that is set now."""
        take, one = self.take, self.chosen_pass
        if take is None or one is None or not self._rematch.isEnabled():
            return
        target, store = self.tone.target, self._document.store
        if target.kind == "pass" and target.ident == one.id:
            self.said.emit("A pass cannot be its own reference. Choose another one.")
            return

        def work(progress: Progress, cancel: CancelToken) -> dict[str, MatchRecord | None]:
            progress(0.2, "Measuring loudness")
            return match_pass(take, one, target, store)

        def done(records: dict[str, MatchRecord | None]) -> None:
            self._document.apply(edits.rematch_pass(take.id, one.id, records))

        self._jobs.start(Job("Matching", work, done))

    def store_unloaded(self) -> None:
        """The DI with its load undone as a new take."""
        take, session = self.take, self._document.session
        if take is None or not session.rigs:
            return
        store, clock, rig = self._document.store, self._services.clock, reamp_rig(session)

        def work(progress: Progress, cancel: CancelToken) -> UnloadedTake:
            return store_unloaded(
                session, take, rig, store=store, clock=clock, progress=progress, cancel=cancel
            )

        def done(made: UnloadedTake) -> None:
            if self._document.apply(made.edit, journal=True):
                self._choose_take(self.takes.row_of(made.take.id))
                self.said.emit(f"{made.take.name} is in the session: {made.words}.")

        self._jobs.start(Job("Undoing the load", work, done))

    def ask_cabinet(self) -> None:
        """Ask for an impulse response and use it."""
        path = ask_file(self, "Load an impulse response", "Audio (*.wav *.flac)")
        if path:
            self.load_cabinet(path)
        else:
            self.tone.show_rig(self._document.session, reamp_rig(self._document.session))

    def load_cabinet(self, path: str) -> None:
        """Bring an impulse response into the session and choose it as the cabinet."""
        from pathlib import Path

        session, store, services = self._document.session, self._document.store, self._services
        rig = reamp_rig(session)
        brings = [d for d in rig.devices if d.has_setting("cabinet")]
        device = next((d for d in brings if d.kind == "load_box"), brings[0] if brings else None)
        try:
            if device is None:
                raise RigError("No device of this rig adds a cabinet.", where=rig.name)
            outcome = beside(
                partial(
                    import_impulse,
                    Path(path),
                    session,
                    store=store,
                    files=services.files,
                    resample=services.resample,
                    clock=services.clock,
                )
            )
        except DiaulosError as error:
            self.tone.show_rig(session, rig)
            self.problem.emit(error)
            return
        use = edits.set_device_setting(rig.id, device.id, "cabinet", outcome.impulse.file, "reamp")
        both = edits.Edit(outcome.edit.label, lambda current: use(outcome.edit(current)))
        self._document.apply(both)
        if outcome.note:
            self.said.emit(outcome.note)

    def ask_export(self) -> None:
        """Ask where to, and write the chosen pass there."""
        take, one = self.take, self.chosen_pass
        if take is None or one is None or not self._export.isEnabled():
            return
        name = f"{take.name} - {one.name}.wav".replace("/", "-")
        through = True
        if any(file in self._document.session.cabinets for file in one.files):
            told = "A cabinet was put behind it. Its file is as the amplifier gave it."
            answer = ask(self, f"Export {one.name}", told, "With the cabinet", "Without")
            if answer < 0:
                return
            through = answer == 0
        path = ask_to_save(self, "Export pass", name, "Broadcast Wave (*.wav)")
        if path:
            self.export_to(path, through)

    def export_to(self, path: str, cabinets: bool = True) -> None:
        """Write the chosen pass to a file, through the cabinet that is in place or not."""
        from pathlib import Path

        take, one = self.take, self.chosen_pass
        assert take is not None
        assert one is not None
        session, store, services = self._document.session, self._document.store, self._services
        names = export_names(one)
        there = [named_beside(Path(path), added) for added in names if added]
        there = [file for file in there if file.exists()]
        if there:
            told = "\n".join(file.name for file in there)
            if ask(self, "These files exist already.", told, "Replace", no="Cancel") != 0:
                return

        def work(progress: Progress, cancel: CancelToken) -> str:
            progress(0.1, "Writing")
            target = Path(path)
            export_pass(
                session,
                take,
                one,
                store,
                lambda added, channels, notes: services.files.create(
                    named_beside(target, added), session.sample_rate_hz, channels,
                    session.word_length, notes, True,
                ),
                services.clock,
                cabinets=cabinets,
            )  # fmt: skip
            return " and ".join(named_beside(target, one).name for one in names)

        self._jobs.start(
            Job(
                "Exporting",
                work,
                lambda name: self.said.emit(f"Written: {name}, aligned to the DI."),
            )
        )
