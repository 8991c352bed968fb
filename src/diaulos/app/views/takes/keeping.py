"""What is done with a take that is there: heard, kept, named, cut, recalled, discarded."""

from __future__ import annotations

from collections.abc import Callable
from functools import partialmethod
from pathlib import Path

from PySide6.QtWidgets import (
    QInputDialog,
    QWidget,
)

from diaulos.app.asking import ask, ask_to_save
from diaulos.app.cabinets import CabinetDesk
from diaulos.app.jobs import Job
from diaulos.app.views.takes.layout import TakesLayout
from diaulos.errors import InputError
from diaulos.session import take_edits
from diaulos.session.edits import Edit
from diaulos.session.model import Take, Track, part_name
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.exporting import export_track
from diaulos.work.takes.planned import TOLD_DB, TakeCheck, check_take, heard_gain_edit


class TakesKeeping(TakesLayout):
    """Keys for the chosen take."""

    cabinet_desk: CabinetDesk

    # --- what opens over the body ---

    @property
    def _page(self) -> QWidget | None:
        return self._stack.currentWidget()

    def hear_track(self, number_: int) -> None:
        """The n-th track of the chosen take alone, or (0, or again) the mix; in the tuner, the
        n-th string; among the cabinets, the n-th alternative (0: none)."""
        if self._page is self.tuner:
            self.tuner.choose_string(number_)
        elif self._page is self.cabinets:
            self.cabinets.choose_key(number_)
        else:
            self.player.hear_track(number_)

    hear_0 = partialmethod(hear_track, 0)
    hear_1 = partialmethod(hear_track, 1)
    hear_2 = partialmethod(hear_track, 2)
    hear_3 = partialmethod(hear_track, 3)
    hear_4 = partialmethod(hear_track, 4)
    hear_5 = partialmethod(hear_track, 5)
    hear_6 = partialmethod(hear_track, 6)
    hear_7 = partialmethod(hear_track, 7)
    hear_8 = partialmethod(hear_track, 8)
    hear_9 = partialmethod(hear_track, 9)

    def _leave_cabinets(self) -> None:
        """What was only tried is not heard any more."""
        self.cabinet_desk.leave()
        self.mix.hear_alone(())

    def toggle_loop(self) -> None:
        """Loop, or play on."""
        self.player.loop.toggle()

    def mark_in(self) -> None:
        """The range begins at the nearest bar line."""
        self.player.mark_range(end=False, exact=False)

    def mark_out(self) -> None:
        """The range ends at the nearest bar line."""
        self.player.mark_range(end=True, exact=False)

    def mark_in_exactly(self) -> None:
        """The range begins here."""
        self.player.mark_range(end=False, exact=True)

    def mark_out_exactly(self) -> None:
        """The range ends here."""
        self.player.mark_range(end=True, exact=True)

    def clear_range(self) -> None:
        """No range."""
        self.player.clear_range()

    # --- edits ---

    def _change(self, edit_of: Callable[[Take], Edit]) -> None:
        take = self.take
        if take is None:
            self.said.emit("Choose a take first.")
            return
        self._document.apply(edit_of(take))

    def keep(self) -> None:
        """The keeper, or no longer."""
        self._change(lambda take: take_edits.keep_take(take.id, not take.keeper))

    def rate_up(self) -> None:
        """One better; from 5 back to none."""
        self._change(lambda take: take_edits.rate_take(take.id, (take.rating + 1) % 6))

    def discard(self) -> None:
        """Into the bin; Ctrl+Z or the bin brings it back."""
        self._change(lambda take: take_edits.discard_take(take.id))

    def toggle_bin(self) -> None:
        """What was discarded, or the takes again."""
        self.book.show_bin(not self.book.in_bin)
        (self.book.binned if self.book.in_bin else self.book.takes).setFocus()

    def restore_chosen(self) -> None:
        """The chosen take out of the bin."""
        key = self.book.binned.chosen()
        if key is None:
            self.said.emit("The bin is empty.")
            return
        if self._document.apply(take_edits.restore_take(str(key))):
            self.book.show_bin(False)
            self.takes.choose(key)

    def recall(self) -> None:
        """The session's controls as the take had them."""
        self._change(lambda take: take_edits.recall(take.id))

    def set_heard_gain(self) -> None:
        """The gains as the chosen take says: the target is what was really played."""
        session, take, store = self._document.session, self.take, self._document.store
        if take is None:
            self.said.emit("Choose a take first.")
            return

        def work(progress: Progress, cancel: CancelToken) -> Edit:
            return heard_gain_edit(session, take, stored=stored_of(session, store))

        def done(edit: Edit) -> None:
            self._document.apply(edit)

        self._jobs.start(Job("heard gain", work, done, self.problem.emit))

    def _ask_culprit(self) -> None:
        """Why the chosen take is off its plan, worked out beside the window."""
        session, take, store = self._document.session, self.heard_take, self._document.store
        doubts = take.doubts if take is not None else ()
        self.book.show_check("", doubts)
        if take is None or not any(abs(t.difference_db or 0.0) > TOLD_DB for t in take.tracks):
            return

        def work(progress: Progress, cancel: CancelToken) -> TakeCheck:
            return check_take(session, take, stored_of(session, store))

        def done(check: TakeCheck) -> None:
            if self.heard_take is take:
                self.book.show_check(check.words, doubts, settable=not check.silent)

        self._jobs.start(Job("culprit", work, done, self.problem.emit, background=True))

    def ask_export_track(self) -> None:
        """Ask where to, and write the track that is seen, as it is heard or as it was recorded."""
        take, session = self.heard_take, self._document.session
        if take is None:
            self.said.emit("Choose a take first.")
            return
        part = self.player.seen(take)
        called = part_name(part)
        through = True
        if any(one.file in session.cabinets for one in part):
            told = "A cabinet was put behind it. Its file is as it was recorded."
            answer = ask(self, f"Export {called}", told, "With the cabinet", "Without")
            if answer < 0:
                return
            through = answer == 0
        name = f"{take.name} - {called}.wav".replace("/", "-")
        path = ask_to_save(self, "Export track", name, "Broadcast Wave (*.wav)")
        if path:
            self.export_track_to(path, take, part, through)

    def export_track_to(
        self, path: str, take: Take, part: tuple[Track, ...], cabinets: bool = True
    ) -> None:
        """Write a track, or both sides of a pair, to a file, through the cabinet or not."""
        session, store, services = self._document.session, self._document.store, self._services

        def work(progress: Progress, cancel: CancelToken) -> None:
            progress(0.1, "Writing")
            export_track(
                session, take, part[0], store,
                lambda _added, channels, notes: services.files.create(
                    Path(path), session.sample_rate_hz, channels, session.word_length, notes, True
                ),
                services.clock,
                cabinets=cabinets,
                beside=part[1] if len(part) == 2 else None,
            )  # fmt: skip

        def done(_none: None) -> None:
            self.said.emit(f"Written: {Path(path).name}.")

        self._jobs.start(Job("Exporting", work, done, self.problem.emit))

    def rename(self) -> None:
        """Ask for another name."""
        take = self.take
        if take is None:
            return
        name, ok = QInputDialog.getText(self, "Rename take", "Name", text=take.name)
        if ok and name.strip():
            self._document.apply(take_edits.rename_take(take.id, name.strip()))

    def ask_cut(self) -> None:
        """Cut the take to whole bars, or give it back whole; its files stay as they are."""
        take = self.take
        if take is None:
            return
        if take.cut is not None:
            self._document.apply(take_edits.uncut(take.id))
            self.said.emit("The whole take again.")
            return
        text, ok = QInputDialog.getText(
            self, "Cut to bars", "First and last bar, such as 2-5", text="1-4"
        )
        if not ok:
            return
        first, _, last = text.partition("-")
        if not (first.strip().isdecimal() and last.strip().isdecimal()):
            self.problem.emit(InputError(f"{text!r} are no bars.", remedy="Write them like 2-5."))
            return
        bars = int(last) - int(first) + 1
        self._document.apply(take_edits.cut_to_bars(take.id, int(first) - 1, bars))

    def ask_notes(self) -> None:
        """Ask for notes on the take."""
        take = self.take
        if take is None:
            return
        text, ok = QInputDialog.getMultiLineText(self, "Notes", take.name, take.notes)
        if ok:
            self._document.apply(take_edits.note_take(take.id, text.strip()))

    def ask_tags(self) -> None:
        """Ask for tags, by commas."""
        take = self.take
        if take is None:
            return
        text, ok = QInputDialog.getText(self, "Tags", "Tags, by commas", text=", ".join(take.tags))
        if ok:
            tags = tuple(word.strip() for word in text.split(",") if word.strip())
            self._document.apply(take_edits.tag_take(take.id, tags))

    def choose_course(self, name: str) -> None:
        """The track of this name in the chosen take."""
        self.player.choose_track(name)
