"""Compare: which is better, honestly? And may they be stacked?

The candidates stand at the left, the answer in the middle, stack or pan at the right. Listening is
by one key a candidate, at the same moment and the same loudness; a blind test takes the whole view.
"""

from __future__ import annotations

import secrets

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QListView,
    QPushButton,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.asking import ask_file
from diaulos.app.dialogs.candidates import CandidatesDialog
from diaulos.app.view import Ending, ViewContext
from diaulos.app.views.compare.answer import AnswerPanel
from diaulos.app.views.compare.blind import BlindPage
from diaulos.app.views.compare.judging import JudgePanel
from diaulos.app.views.compare.paging import ComparePages
from diaulos.app.views.compare.playing import name_beside
from diaulos.app.views.compare.rows import CandidateDelegate, CandidateModel, CandidateRow
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.curve_plot import CurvePlot
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_width
from diaulos.app.widgets.wrapping import WrappingRow, scrolled
from diaulos.figures import counted, level, number, plain
from diaulos.session.compared import BlindTest
from diaulos.session.model import Session
from diaulos.work.compare.blindrun import Draw
from diaulos.work.compare.choices import (
    MOST,
    Candidate,
    candidates_of,
    outside_file,
    remembered,
    usual_candidates,
)
from diaulos.work.listening.player import LOUDEST_LEVEL_DB, START_LEVEL_DB

TICK_MS = 50
CUT_S = 60
"""So many seconds tell what lies below the lowest note."""
IN_TIME_SAMPLES = 0.005
"""Less than a delay can be told."""
MATCHES = {
    "loudness": "as loud (BS.1770)", "lows": "as loud, 50 to 250 Hz",
    "mids": "as loud, 250 Hz to 2 kHz", "highs": "as loud, 2 to 8 kHz", "peak": "at one true peak",
}  # fmt: skip


class CompareView(ComparePages):
    """Candidates, answer, verdict; and the blind page."""

    ident = "compare"
    plot: CurvePlot

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self.draw: Draw = secrets.randbelow
        """Where the order of a blind test comes from."""
        self._behind = False
        """Whether the session is another one than that on screen."""
        self._preferences = context.preferences
        self._usual: tuple[Candidate, ...] = ()
        """What nobody chose, or is remembered already."""
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
        self._between()
        self.judge = JudgePanel()
        self.stack = self.judge.stack
        self._between()
        self.blind = BlindPage()
        self._between()
        self.split = Split(Qt.Orientation.Horizontal)
        self.split.setChildrenCollapsible(False)
        self.split.addWidget(left)
        middle = QWidget()
        inner = QVBoxLayout(middle)
        inner.setContentsMargins(8, 0, 8, 0)
        inner.addWidget(self.answer)
        self.split.addWidget(middle)
        self.split.addWidget(scrolled(self.judge, "Judge"))
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
        self.together = QCheckBox("Together (G)")
        self.together.setToolTip(
            "A and B at once (all of them under Into time and Microphone places), where each lies"
            " now; panned hard under Played twice. So much lower that the sum cannot clip."
        )
        row.addWidget(self.together)
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
        judge = self.judge
        judge.turned.connect(self._on_page)
        judge.timing.nudged.connect(self.nudge)
        judge.timing.split_changed.connect(self._on_page)
        judge.timing.pass_asked.connect(self.put_all_pass)
        judge.doubled.asked.connect(self._on_page)
        judge.doubled.place_asked.connect(self.hear_place)
        judge.doubled.pan_asked.connect(self.pan_apart)
        judge.places.placed.connect(self.place_microphone)
        judge.ways.blind_asked.connect(self.blind_test)
        judge.ways.note_asked.connect(self.note_verdict)
        self.together.toggled.connect(lambda on: self._on_together(on=on))
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

    def begin(self) -> None:
        """The candidates that are worth a look, if none were chosen yet."""
        session = self._document.session
        self._tell_loops(session)
        before = remembered(session, self._preferences.compared(session.id))
        self._candidates = before or usual_candidates(session)
        self._usual = self._candidates
        self._chosen = 1
        self._gone()
        self._show()

    def take_focus(self) -> None:
        """The view is shown."""
        self.said.emit("Space plays, the figures switch between candidates, A adds more.")
        self._shown = True
        if self._behind:
            self._show()
        self._go_on()
        if self._blinded:
            self.blind.setFocus()
        else:
            self.list.setFocus()

    def leave(self) -> None:
        """Another view is shown."""
        self._shown = False
        self._remember()

    def _remember(self) -> None:
        """What is compared, for the next start; not what nobody chose."""
        if self._candidates != self._usual:
            self._usual = self._candidates
            keys = [one.key for one in self._candidates]
            self._preferences.keep_compared(self._document.session.id, keys)

    def escape(self) -> None:
        """Out of the blind page; a test under way is stopped and kept."""
        if self._blinded:
            self.blind.escape()

    def close_down(self) -> None:
        """The session goes."""
        self._tick.stop()
        self._remember()

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
        if before is after:
            return
        self._tell_loops(after)
        self._gone()
        self._chosen = min(self._chosen, max(0, len(self._candidates) - 1))
        self._behind = True
        if self._shown:
            self._show()
            self._go_on()

    # --- what is compared ---

    @property
    def candidates(self) -> tuple[Candidate, ...]:
        """What is compared; the first is the reference."""
        return self._candidates

    def set_candidates(self, candidates: tuple[Candidate, ...]) -> None:
        """Compare these, up to nine."""
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
            if self._together:
                self._on_together(on=True)
        elif row >= 0:
            self._show_page()

    def _on_match(self) -> None:
        self._match_by = str(self.match.currentData())
        self._show()
        self._go_on()

    # --- on screen ---

    def _show(self) -> None:
        self._behind = False
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
        # The reference can be marked, too; then the pair stays what it is.
        if rows and self.list.currentIndex().row() not in (0, self._chosen):
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
            words.append(f"moved {plain(-moved.delay_samples, 1, sign=True)} samples")
        if moved is not None and moved.polarity < 0:
            words.append("turned over")
        if moved is not None and moved.allpass_hz is not None:
            words.append(f"all-pass {moved.allpass_hz:.0f} Hz")
        cut = session.low_cuts.get(file)
        if cut is not None:
            words.append(f"low cut {cut:g} Hz")
        gate = session.gates.get(file)
        if gate is not None:
            words.append(f"gate at {level(gate.open_dbfs, 'dBFS')}")
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
            self._show_page()
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
            names = (name_beside(a, b), name_beside(b, a))
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
        self._show_page()

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
