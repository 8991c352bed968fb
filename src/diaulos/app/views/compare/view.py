"""Compare: which is better, honestly? And may they be stacked?

The candidates stand at the left, the answer in the middle, stack or pan at the right. Listening is
by one key a candidate, at the same moment and the same loudness; a blind test takes the whole view.
"""

from __future__ import annotations

import secrets
from functools import partialmethod
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QListView,
    QPushButton,
    QSlider,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.asking import ask_file, ask_to_save
from diaulos.app.dialogs.candidates import CandidatesDialog
from diaulos.app.dialogs.low_cut import LowCutDialog
from diaulos.app.jobs import Job
from diaulos.app.view import Ending, ViewContext
from diaulos.app.views.compare.answer import AnswerPanel
from diaulos.app.views.compare.blind import BlindPage
from diaulos.app.views.compare.rows import CandidateDelegate, CandidateModel, CandidateRow
from diaulos.app.views.compare.stacking import StackPanel
from diaulos.app.views.compare.work import CompareWork
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.curve_plot import CurvePlot
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_width
from diaulos.app.widgets.wrapping import WrappingRow, scrolled
from diaulos.figures import clock, counted, number
from diaulos.ids import free_id
from diaulos.session import compare_edits
from diaulos.session.compared import BlindSide, BlindTest, Moved
from diaulos.session.model import Session
from diaulos.work.compare.blindrun import BlindPlan, BlindRun, Draw, trials_table
from diaulos.work.compare.choices import (
    MOST,
    Candidate,
    candidates_of,
    open_candidate,
    outside_file,
    usual_candidates,
)
from diaulos.work.compare.cutting import LowCutFor, low_cut_for
from diaulos.work.listening.aligned import record_of
from diaulos.work.listening.placing import moved_record
from diaulos.work.listening.player import LOUDEST_LEVEL_DB, START_LEVEL_DB
from diaulos.work.ports import CancelToken, Progress

TICK_MS = 50
CUT_S = 60
"""So many seconds tell what lies below the lowest note."""
IN_TIME_SAMPLES = 0.005
"""Less than a delay can be told."""
MATCHES = {"loudness": "as loud (BS.1770)", "peak": "at one true peak"}


class CompareView(CompareWork):
    """Candidates, answer, verdict; and the blind page."""

    ident = "compare"
    plot: CurvePlot

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self.draw: Draw = secrets.randbelow
        """Where the order of a blind test comes from."""
        self._begun = False
        self._shuffled: tuple[int, ...] = ()
        """Of unnamed listening: which candidate each key plays."""
        self._kept_test: BlindTest | None = None
        self._build()
        self._wire()
        self._tick = QTimer(self)
        self._tick.setInterval(TICK_MS)
        self._tick.timeout.connect(self._on_tick)
        self._document.changed.connect(self._on_change)

    # --- layout ---

    def _build(self) -> None:
        self.model = CandidateModel()
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setItemDelegate(CandidateDelegate(self.list))
        self.list.setAccessibleName("What is compared")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.add_button = QPushButton("Add\N{HORIZONTAL ELLIPSIS} (A)")
        self.add_button.setToolTip("Tracks and passes of any take, or a file; up to nine")
        self.remove_button = QPushButton("Take out (Del)")
        self.reference_button = QPushButton("Make reference (R)")
        self.reference_button.setToolTip("The others are held against it and matched to it")
        self.match = combo("Match level", MATCHES, least=14)
        self.match.setToolTip(
            "Gain alone: A's loudness less the other's; all come down together where one would pass"
            " \N{MINUS SIGN}1 dBTP"
        )
        row = WrappingRow()
        row.setContentsMargins(0, 0, 0, 0)
        self.cut_button = QPushButton("Low cut\N{HORIZONTAL ELLIPSIS} (C)")
        self.cut_button.setToolTip("Of the marked one, below its lowest note; its file stays")
        for button in (self.add_button, self.remove_button, self.reference_button, self.cut_button):
            row.addWidget(button)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        title = TextLabel("Candidates")
        title.setProperty("role", "title")
        column.addWidget(title)
        column.addWidget(self.list, 1)
        column.addLayout(row)
        matching = WrappingRow()
        matching.setContentsMargins(0, 0, 0, 0)
        matching.add_pair("Heard", self.match)
        column.addLayout(matching)
        self.answer = AnswerPanel()
        self.plot = self.answer.plot
        self.stack = StackPanel()
        self.blind = BlindPage()
        self.split = QSplitter(Qt.Orientation.Horizontal)
        self.split.setChildrenCollapsible(False)
        self.split.addWidget(left)
        middle = QWidget()
        inner = QVBoxLayout(middle)
        inner.setContentsMargins(8, 0, 8, 0)
        inner.addWidget(self.answer)
        self.split.addWidget(middle)
        self.split.addWidget(scrolled(self.stack, "Stack or pan"))
        self.split.setStretchFactor(1, 1)
        self.split.setSizes([264, 540, 316])
        named = QWidget()
        column = QVBoxLayout(named)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.split, 1)
        column.addLayout(self._bar())
        self.pages = QStackedWidget()
        self.pages.addWidget(named)
        self.pages.addWidget(self.blind)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(12, 10, 12, 10)
        whole.addWidget(self.pages)

    def _bar(self) -> WrappingRow:
        row = WrappingRow()
        row.setContentsMargins(0, 4, 0, 0)
        self.play = QPushButton("Play (Space)")
        fix_width(self.play, 118)
        row.addWidget(self.play)
        self.hear_buttons: list[QPushButton] = []
        for place in range(MOST):
            button = QPushButton(f"{'ABCDEFGHI'[place]} ({place + 1})")
            button.setCheckable(True)
            button.setAccessibleName(f"Hear {'ABCDEFGHI'[place]}")
            button.clicked.connect(lambda _on=False, at=place: self._hear(at))
            button.hide()
            self.hear_buttons.append(button)
            row.addWidget(button)
        self.unnamed = QCheckBox("Unnamed (U)")
        self.unnamed.setToolTip(
            "The keys play the candidates in an order that is drawn anew; it is shown when this is"
            " switched off"
        )
        row.addWidget(self.unnamed)
        self.loop = QCheckBox("Loop (L)")
        self.loop.setToolTip("Ten seconds from here, round and round")
        row.addWidget(self.loop)
        self.blind_button = QPushButton("Blind test\N{HORIZONTAL ELLIPSIS} (B)")
        self.blind_button.setToolTip("Of the reference and the chosen one")
        row.addWidget(self.blind_button)
        row.add_stretch()
        self.seek = QSlider(Qt.Orientation.Horizontal)
        self.seek.setRange(0, 1000)
        self.seek.setAccessibleName("Place in seconds")
        fix_width(self.seek, 140)
        self.time = TextLabel()
        row.addWidget(self.seek)
        row.addWidget(self.time)
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(-60, int(LOUDEST_LEVEL_DB))
        self.level.setValue(int(START_LEVEL_DB))
        self.level.setAccessibleName("Listening level in dB")
        self.level.setToolTip("Of all that is heard; it starts quiet")
        fix_width(self.level, 90)
        self.level_words = TextLabel()
        fix_width(self.level_words, 58)
        row.add_pair("Level", self.level, self.level_words)
        self._show_level(START_LEVEL_DB)
        return row

    def _wire(self) -> None:
        self.list.selectionModel().currentChanged.connect(lambda *_: self._on_chosen())
        self.add_button.clicked.connect(self.ask_candidates)
        self.remove_button.clicked.connect(self.take_out)
        self.reference_button.clicked.connect(self.make_reference)
        self.cut_button.clicked.connect(self.ask_low_cut)
        self.match.activated.connect(lambda _i: self._on_match())
        self.stack.move_button.clicked.connect(self.move_into_time)
        self.stack.turn_button.clicked.connect(self.turn_over)
        self.play.clicked.connect(self.toggle_play)
        self.unnamed.toggled.connect(lambda on: self._on_unnamed(on=on))
        self.loop.toggled.connect(lambda _on: self._set_loop())
        self.blind_button.clicked.connect(self.blind_test)
        self.level.valueChanged.connect(self._on_level)
        self.seek.sliderMoved.connect(self._on_seek)
        page = self.blind
        page.begin_asked.connect(self._begin_blind)
        page.heard.connect(self._blind_heard)
        page.play_asked.connect(self.toggle_play)
        page.answered.connect(self._on_answered)
        page.stop_asked.connect(self._stop_blind)
        page.back_asked.connect(self._leave_blind)
        page.export_asked.connect(self.ask_export)
        page.level_asked.connect(self.level.setValue)

    # --- the frame's calls ---

    def take_focus(self) -> None:
        """The view is shown: the candidates that are worth a look, if none were chosen yet."""
        self._tell_loops(self._document.session)
        self.said.emit("Space plays, the figures switch between candidates, A adds more.")
        self._shown = True
        if not self._begun:
            self._begun = True
            self._candidates = usual_candidates(self._document.session)
            self._chosen = 1
        self._gone()
        self._show()
        self._go_on()
        if self._blinded:
            self.blind.setFocus()
        else:
            self.list.setFocus()

    def leave(self) -> None:
        """Another view is shown."""
        self._shown = False

    def escape(self) -> None:
        """Out of the blind page; a test under way is stopped and kept."""
        if self._blinded:
            self.blind.escape()

    def close_down(self) -> None:
        """The session goes."""
        self._tick.stop()

    def ending(self) -> Ending | None:
        """A blind test under way is not lost without a word."""
        run = self.blind.run
        if run is None or not run.answered:
            return None
        return Ending(
            self._stop_blind,
            "A blind test is running.",
            f"{counted(run.answered, 'answer')} so far. Stop it, keep the answers and close?",
            "Stop and close",
            "Go on",
        )

    def _on_change(self, before: Session, after: Session) -> None:
        if before is after or not self._begun:
            return
        self._tell_loops(after)
        self._gone()
        self._chosen = min(self._chosen, max(0, len(self._candidates) - 1))
        if self._shown:
            self._show()
            self._go_on()

    # --- what is compared ---

    @property
    def _blinded(self) -> bool:
        """Whether the blind page is in front: keys of what is behind it do nothing then."""
        return self.pages.currentIndex() == 1

    @property
    def candidates(self) -> tuple[Candidate, ...]:
        """What is compared; the first is the reference."""
        return self._candidates

    @property
    def chosen(self) -> Candidate | None:
        """The one that is held against the reference."""
        return self._candidates[self._chosen] if self._chosen < len(self._candidates) else None

    def set_candidates(self, candidates: tuple[Candidate, ...]) -> None:
        """Compare these, up to nine."""
        self._begun = True
        self._candidates = candidates[:MOST]
        self._chosen = min(1, max(0, len(self._candidates) - 1))
        self._show()
        self._go_on()

    def ask_candidates(self) -> None:
        """Which tracks, passes and files are to be compared as well?"""
        if self._blinded:
            return
        there = {one.key for one in self._candidates}
        room = MOST - len(there)
        if room <= 0:
            self.said.emit("Nine are compared already. Take one out first.")
            return
        dialog = CandidatesDialog(candidates_of(self._document.session), there, room, self.window())
        if dialog.exec() != CandidatesDialog.DialogCode.Accepted:
            return
        if dialog.file_asked:
            self._ask_file()
            return
        self._add(dialog.chosen)

    def _ask_file(self) -> None:
        path = ask_file(self.window(), "A file to compare", "Audio (*.wav *.flac)")
        if path:
            self._add((outside_file(path),))

    def _add(self, more: tuple[Candidate, ...]) -> None:
        if not more:
            return
        self._candidates = (*self._candidates, *more)[:MOST]
        if self._chosen == 0 and len(self._candidates) > 1:
            self._chosen = 1
        self._show()
        self._go_on()

    def take_out(self) -> None:
        """The chosen one is no longer compared. Nothing is deleted."""
        if self._blinded:
            return
        one = self._candidates[self.list.currentIndex().row()] if self._candidates else None
        if one is None:
            return
        self._candidates = tuple(other for other in self._candidates if other.key != one.key)
        self._chosen = min(self._chosen, max(0, len(self._candidates) - 1))
        self._show()
        self._go_on()

    def make_reference(self) -> None:
        """The chosen one becomes the reference."""
        if self._blinded:
            return
        at = self.list.currentIndex().row()
        if not 0 < at < len(self._candidates):
            return
        one = self._candidates[at]
        rest = tuple(other for other in self._candidates if other.key != one.key)
        self._candidates, self._chosen = (one, *rest), 1
        self._show()
        self._go_on()

    def _on_chosen(self) -> None:
        row = self.list.currentIndex().row()
        if row > 0 and row != self._chosen:
            self._chosen = row
            self._show_answer()
            self._go_on()

    def _on_match(self) -> None:
        self._match_by = str(self.match.currentData())
        self._show()

    # --- on screen ---

    def _show(self) -> None:
        matched = self._matched()
        measured, signs = self._measured(), self._signatures()
        rows = []
        for at, (one, sign) in enumerate(zip(self._candidates, signs, strict=True)):
            levels = measured.get(sign)
            gain = matched.gains_db[levels.key] if matched and levels is not None else None
            rows.append(
                CandidateRow(
                    at + 1, one, levels, gain, self._edited(one), self._problems.get(sign, "")
                )
            )
        self.model.set_items(tuple(rows))
        if rows and self.list.currentIndex().row() != self._chosen:
            self.list.setCurrentIndex(self.model.index(min(self._chosen, len(rows) - 1)))
        for at, button in enumerate(self.hear_buttons):
            button.setVisible(at < len(rows))
            if at < len(rows):
                button.setToolTip("" if self.unnamed.isChecked() else rows[at].candidate.name)
        self.remove_button.setEnabled(bool(rows))
        self.reference_button.setEnabled(len(rows) > 1)
        self.cut_button.setEnabled(bool(rows))
        self.blind_button.setEnabled(matched is not None and len(rows) > 1)
        self.play.setEnabled(matched is not None)
        self._bring_channels()
        if matched is not None and not self.player.heard:
            self._hear(0)
        self._show_answer()
        self._say_time()

    def _edited(self, one: Candidate) -> str:
        session = self._document.session
        file = one.files[0] if one.files else ""
        words = []
        moved = session.moves.get(file)
        if moved is not None and moved.delay_samples:
            words.append(f"moved {number(-moved.delay_samples, 1, sign=True)} samples")
        if moved is not None and moved.polarity < 0:
            words.append("turned over")
        cut = session.low_cuts.get(file)
        if cut is not None:
            words.append(f"low cut {cut:g} Hz")
        return ", ".join(words)

    def _show_answer(self) -> None:
        self._say_match()
        if len(self._candidates) < 2:
            self.answer.show_nothing(
                "Add two things to compare: tracks, passes or files (A)."
                if not self._candidates
                else "Add one more to hold against it (A)."
            )
            self.stack.show_pair(None, moves=False, turns=False)
            self.stack.show_matrix((), {})
            return
        chosen = min(max(1, self._chosen), len(self._candidates) - 1)
        a, b = self._candidates[0], self._candidates[chosen]
        pair = self.pair(0, chosen)
        signs = self._signatures()
        problem = self._problems.get(signs[chosen]) or self._problems.get(signs[0])
        if problem:
            self.answer.show_nothing(problem)
            self.stack.show_pair(None, moves=False, turns=False)
        else:
            whole = pair is not None and ((signs[0], signs[chosen]) in self._split
                                          or pair.found is None)  # fmt: skip
            names = (_name(a, b), _name(b, a))
            self.answer.show_pair(names, pair, working=not whole)
            inside = bool(b.files)
            self.stack.show_pair(pair, moves=inside, turns=inside)
        letters = [CandidateRow(at + 1, one).letter for at, one in enumerate(self._candidates)]
        known = {
            (at, other): found
            for at in range(len(signs))
            for other in range(at + 1, len(signs))
            if (found := self._pairs.get((signs[at], signs[other]))) is not None
        }
        self.stack.show_matrix(letters, known)

    def _say_match(self) -> None:
        matched = self._matched()
        lowered = matched.lowered_db if matched else 0.0
        if lowered < -0.05:
            self.match.setToolTip(
                f"All are heard {number(-lowered, 1)} dB lower, so that none passes"
                " \N{MINUS SIGN}1 dBTP"
            )

    def next_curve(self) -> None:
        """The next curve."""
        if self._blinded:
            return
        self.answer.next_curve()

    # --- edits ---

    def move_into_time(self) -> None:
        """B is heard in A's time and polarity from now on."""
        if self._blinded:
            return
        one = self.chosen
        pair = self.pair(0, self._chosen)
        if one is None or pair is None or pair.found is None or not one.files:
            return
        found, known = record_of(pair.found), self._document.session.moves.get(one.files[0])
        # What was found holds for it as it is heard now: it comes on top of an earlier move.
        on_top = Moved(delay_samples=found.delay_samples, drift_ppm=found.told_drift_ppm)
        both = moved_record(moved_record(None, known), on_top)
        if both is None or abs(found.delay_samples) < IN_TIME_SAMPLES:
            self.said.emit("It is in time already.")
            return
        moved = Moved(
            delay_samples=both.delay_samples,
            drift_ppm=both.told_drift_ppm,
            polarity=known.polarity if known else 1,
            against=self._candidates[0].name,
        )
        self._document.apply(compare_edits.move_into_time(one.files, moved))
        late = pair.found.delay_samples
        self.said.emit(
            f"{one.name} is heard {number(abs(late), 2)} samples "
            f"{'earlier' if late > 0.0 else 'later'} everywhere. Undo takes it back."
        )

    def turn_over(self) -> None:
        """B's polarity is turned wherever it is heard."""
        if self._blinded:
            return
        one = self.chosen
        if one is None or not one.files:
            return
        self._document.apply(compare_edits.turn_polarity(one.files))
        self.said.emit(f"{one.name} is turned over wherever it is heard. Undo takes it back.")

    def ask_low_cut(self) -> None:
        """A low cut of the chosen row, by the strings of its instrument."""
        if self._blinded:
            return
        at = self.list.currentIndex().row()
        one = self._candidates[at] if 0 <= at < len(self._candidates) else None
        levels = self._levels.get(self._signature(one)) if one is not None else None
        if one is None or levels is None or not one.files:
            self.said.emit("Choose a track or pass of the session.")
            return
        session = self._document.session
        rate = session.sample_rate_hz
        take_id = one.key.partition(":")[0]
        bare = session.model_copy(update={"low_cuts": {}})
        store = self._document.store

        def work(_progress: Progress, _cancel: CancelToken) -> LowCutFor:
            heard = open_candidate(bare, one, store)
            samples = heard.mono(0, min(heard.frames, CUT_S * rate))
            return low_cut_for(session, take_id, np.asarray(samples), float(rate))

        def done(known: LowCutFor) -> None:
            now = self._document.session.low_cuts.get(one.files[0])
            dialog = LowCutDialog(one.name, known, now, self.window())
            if dialog.exec() != LowCutDialog.DialogCode.Accepted or dialog.answer is None:
                return
            self._document.apply(compare_edits.set_low_cut(one.files, dialog.answer.corner_hz))

        self._jobs.start(Job("Looking below the lowest note", work, done))

    # --- listening ---

    def _key_of(self, place: int) -> str | None:
        at = self._shuffled[place] if self._shuffled and place < len(self._shuffled) else place
        return self._candidates[at].key if at < len(self._candidates) else None

    def _hear(self, place: int) -> None:
        key = self._key_of(place)
        if key is None:
            return
        for at, button in enumerate(self.hear_buttons):
            button.setChecked(at == place)
        self.player.hear({key})

    def _hear_number(self, number_: int) -> None:
        if self._blinded:
            self.blind.hear_number(number_)
        else:
            self._hear(number_ - 1)

    hear_1 = partialmethod(_hear_number, 1)
    hear_2 = partialmethod(_hear_number, 2)
    hear_3 = partialmethod(_hear_number, 3)
    hear_4 = partialmethod(_hear_number, 4)
    hear_5 = partialmethod(_hear_number, 5)
    hear_6 = partialmethod(_hear_number, 6)
    hear_7 = partialmethod(_hear_number, 7)
    hear_8 = partialmethod(_hear_number, 8)
    hear_9 = partialmethod(_hear_number, 9)

    def toggle_play(self) -> None:
        """Play or pause."""
        if self.player.playing:
            self.player.pause()
        elif self._matched() is not None:
            self.player.play()
            self._show_level(self.player.level_db)
            silent = self.player.silent
            self.said.emit(
                "No sound device: playing in silence."
                if silent
                else f"Playing: {self.player.device}"
            )
            self._tick.start()
        self._show_playing()

    def toggle_loop(self) -> None:
        """As if its box were pressed."""
        self.loop.toggle()

    def toggle_unnamed(self) -> None:
        """As if its box were pressed."""
        if self._blinded:
            return
        self.unnamed.toggle()

    def _on_unnamed(self, *, on: bool) -> None:
        count = len(self._candidates)
        if on:
            left = list(range(count))
            self._shuffled = tuple(left.pop(self.draw(len(left))) for _ in range(count))
            self.said.emit("The keys play the candidates in an order that nobody knows.")
        else:
            told = ", ".join(
                f"{place + 1}: {self._candidates[at].name}"
                for place, at in enumerate(self._shuffled)
                if at < count
            )
            self._shuffled = ()
            if told:
                self.said.emit(f"It was {told}")
        for button in self.hear_buttons:
            at = self.hear_buttons.index(button)
            button.setText(f"{at + 1}" if on else f"{'ABCDEFGHI'[at]} ({at + 1})")
        self._show()
        self._hear(0)

    def _set_loop(self) -> None:
        rate = self._document.session.sample_rate_hz
        at = self.player.position
        self.player.set_loop((at, at + 10 * rate) if self.loop.isChecked() else None)

    def _frames(self) -> int:
        signs = self._signatures()
        found = self._levels.get(signs[0]) if signs else None
        return found.heard.frames if found is not None else 0

    def _on_seek(self, value: int) -> None:
        self.player.seek(round(value / 1000.0 * self._frames()))
        self._say_time()

    def _on_level(self, value: int) -> None:
        self.player.set_level(float(value))
        self._show_level(float(value))

    def _show_level(self, level_db: float) -> None:
        blocked = self.level.blockSignals(True)
        self.level.setValue(round(level_db))
        self.level.blockSignals(blocked)
        other = self.blind.level
        blocked = other.blockSignals(True)
        other.setValue(round(level_db))
        other.blockSignals(blocked)
        self.level_words.setText(f"{number(level_db, 0)} dB")

    def _say_time(self) -> None:
        rate, frames = self._document.session.sample_rate_hz, self._frames()
        self.time.setText(f"{clock(self.player.position / rate)} / {clock(frames / rate)}")
        if frames and not self.seek.isSliderDown():
            blocked = self.seek.blockSignals(True)
            self.seek.setValue(round(1000.0 * self.player.position / frames))
            self.seek.blockSignals(blocked)

    def _show_playing(self) -> None:
        playing = self.player.playing
        self.play.setText("Pause (Space)" if playing else "Play (Space)")
        self.blind.show_playing(playing)

    def _on_tick(self) -> None:
        self._say_time()
        error = self.player.taken_error()
        if error is not None:
            self.problem.emit(error)
        if not self.player.playing:
            self._tick.stop()
            self._show_playing()

    # --- blind ---

    def blind_test(self) -> None:
        """A test of the reference and the chosen one."""
        if self._blinded or self._matched() is None or self.chosen is None:
            return
        if self.unnamed.isChecked():
            self.unnamed.setChecked(False)
        self.player.pause()
        self._show_playing()
        a, b = self._candidates[0], self._candidates[max(1, self._chosen)]
        files = {a.key, b.key}
        earlier = tuple(
            one for one in self._document.session.blind_tests if {one.a.file, one.b.file} == files
        )
        self.pages.setCurrentIndex(1)
        self.blind.show_before(_name(a, b), _name(b, a), earlier[-5:])

    def _begin_blind(self, kind: str, planned: int) -> None:
        matched = self._matched()
        if matched is None:
            return
        a, b = self._candidates[0], self._candidates[max(1, self._chosen)]
        sides = [
            BlindSide(name=_name(one, other), file=one.key,
                      gain_db=round(matched.gains_db.get(one.key, 0.0), 4))
            for one, other in ((a, b), (b, a))
        ]  # fmt: skip
        first, last = self.player.loop or (0, 0)
        plan = BlindPlan(
            "preference" if kind == "preference" else "abx", planned, sides[0], sides[1],
            first, last,
        )  # fmt: skip
        self.blind.start(BlindRun(plan, self.draw))
        if not self.player.playing:
            self.toggle_play()

    def _blind_heard(self, button: str) -> None:
        run = self.blind.run
        if run is None:
            return
        letter = run.heard(button)  # type: ignore[arg-type]
        side = run.plan.a if letter == "a" else run.plan.b
        self.player.hear({side.file})

    def _on_answered(self) -> None:
        run = self.blind.run
        if run is not None and run.ended:
            self._stop_blind()

    def _stop_blind(self) -> None:
        run = self.blind.run
        self.player.pause()
        self._show_playing()
        if run is None or not run.answered:
            self._leave_blind()
            return
        taken = {one.id for one in self._document.session.blind_tests}
        made_at = self._services.clock().isoformat(timespec="seconds")
        test = run.record(free_id(taken, "blind"), made_at)
        self.blind.run = None
        self._kept_test = test
        self._document.apply(compare_edits.keep_blind_test(test))
        self.blind.show_result(test)

    def _leave_blind(self) -> None:
        self.blind.run = None
        self.player.pause()
        self._show_playing()
        self.pages.setCurrentIndex(0)
        self._hear(0)
        self.list.setFocus()

    def ask_export(self) -> None:
        """The trials of the last test as CSV."""
        test = self._kept_test
        if test is None or not self._blinded:
            self.said.emit("No blind test is shown.")
            return
        path = ask_to_save(self.window(), "Export blind test", f"{test.id}.csv", "CSV (*.csv)")
        if path:
            try:
                Path(path).write_text(trials_table(test).csv(), encoding="utf-8")
            except OSError as error:
                self.problem.emit(error)
                return
            self.said.emit(f"Exported: {path}")


def _name(one: Candidate, other: Candidate) -> str:
    """A candidate's name, with its take's where both are called the same."""
    return one.name if one.name != other.name else f"{one.name} ({one.take_name})"
