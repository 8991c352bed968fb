"""The noise hunt, over the body of Takes: what is heard now in large figures, the next test, what
each test did, and what is left."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import ElidedLabel, TextLabel, tip
from diaulos.app.widgets.painted import fix_width, least_height
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number, typeset
from diaulos.rig.model import PortRef
from diaulos.units import LOWEST_DB
from diaulos.work.hunting.causes import Cause
from diaulos.work.hunting.hunt import Hunt
from diaulos.work.hunting.listens import Kinds, Listen
from diaulos.work.hunting.words import (
    CAUTION,
    brought_words,
    hunted_words,
    outcome_words,
    share_words,
    verdict_words,
)

KINDS = (
    ("hum", "Hum", "The mains and its harmonics up to the fourth, RMS after AES17"),
    ("buzz", "Buzz", "Harmonics of the mains from the fifth to 1 kHz, RMS after AES17"),
    ("whine", "Whine", "Whole kilohertz of a computer's bus, RMS after AES17"),
    ("hiss", "Hiss", "What is left without tones, 20 Hz to 20 kHz, RMS after AES17"),
)
BEGIN = (
    "Hold the strings, turn everything up as for the take, and listen. Then one test after another "
    "is proposed, each the one that splits the causes left best."
)
DRILL = "Something hums in the simulated studio. Listen, and find it."
FIGURE = 134
"""Width of a large figure."""
ASK_FIRST, ASK_AGAIN = "Listen (H)", "Done: listen (H)"


class HuntPanel(QWidget):
    """Shows a hunt; asks for the next step."""

    listen_asked = Signal()
    refused = Signal()
    undo_asked = Signal()
    begin_asked = Signal()
    practise_asked = Signal()
    track_chosen = Signal(object)
    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._names: dict[PortRef, str] = {}
        self._first: Listen | None = None
        self.listen = QPushButton(ASK_FIRST)
        self.listen.setProperty("main", "true")
        self.listen.clicked.connect(self.listen_asked)
        self.cannot = QPushButton("Cannot be done here")
        self.cannot.clicked.connect(self.refused)
        self.undo = QPushButton("Undo the last test")
        self.undo.clicked.connect(self.undo_asked)
        self.again = QPushButton("Begin anew")
        self.again.clicked.connect(self.begin_asked)
        self.practise = QPushButton("Practise")
        self.practise.setToolTip(
            "The simulated studio lets one thing hum: find it as you would in a real room."
        )
        self.practise.clicked.connect(self.practise_asked)
        self.back = QPushButton("Back (Q)")
        self.back.clicked.connect(self.left)
        self.track = combo("The track whose noise is shown", {}, least=14)
        self.track.currentIndexChanged.connect(
            lambda _at: self.track_chosen.emit(self.track.currentData())
        )
        self.step = TextLabel(BEGIN)
        self.step.setProperty("role", "headline")
        self.step.setWordWrap(True)
        self.step.setAccessibleName("What to do next")
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.said.setAccessibleName("What was found")
        self.caution = TextLabel(CAUTION)
        self.caution.setWordWrap(True)
        self.caution.setProperty("role", "notice")
        self.tests = Table("Tests", ("Test", "What it did"), 0, {1: 250})
        self.causes = Table("Causes", ("Cause", "Now"), 0, {1: 96})
        for one in (self.tests, self.causes):
            least_height(one, 84)
        self._place()

    def _place(self) -> None:
        top = WrappingRow()
        for one in (self.listen, self.cannot, self.undo, self.again, self.practise):
            top.addWidget(one)
        top.addWidget(self.track)
        top.add_stretch()
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        column.addLayout(self._figures())
        column.addWidget(self.step)
        column.addWidget(self.said)
        column.addWidget(self.causes, 3)
        column.addWidget(self.tests, 2)
        # Without tables what is left stays together, at the top.
        self.rest = QWidget()
        self.rest.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        column.addWidget(self.rest, 1)
        column.addWidget(self.caution)

    def _figures(self) -> QGridLayout:
        """Large, each in a place of its own that does not move."""
        grid = QGridLayout()
        self.live: dict[str, TextLabel] = {}
        self.against: dict[str, ElidedLabel] = {}
        for at, (kind, name, how) in enumerate(KINDS):
            title = TextLabel(f"{name}, dBFS")
            title.setProperty("role", "muted")
            figure = TextLabel("\N{EN DASH}")
            figure.setProperty("role", "far")
            figure.setToolTip(tip(how))
            figure.setAccessibleName(f"{name} now, dBFS")
            against = ElidedLabel()
            against.setToolTip(tip("The newest 2.6 s against the first listen"))
            against.setAccessibleName(f"{name} against the first listen")
            for row, one in enumerate((title, figure, against)):
                one.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                fix_width(one, FIGURE)
                grid.addWidget(one, row, at)
            self.live[kind], self.against[kind] = figure, against
        grid.setColumnStretch(len(KINDS), 1)
        return grid

    # --- what is shown ---

    @property
    def chosen_track(self) -> PortRef | None:
        """Whose figures are shown."""
        found: PortRef | None = self.track.currentData()
        return found

    def show_tracks(self, names: dict[PortRef, str]) -> None:
        """What there is to listen to; the chosen one stays chosen."""
        kept = self.chosen_track
        self._names = dict(names)
        self.track.blockSignals(True)
        self.track.clear()
        for port, name in names.items():
            self.track.addItem(name, port)
        at = self.track.findData(kept) if kept is not None else 0
        self.track.setCurrentIndex(max(0, at))
        self.track.blockSignals(False)

    def choose_track(self, port: PortRef) -> None:
        """The figures of another track."""
        self.track.setCurrentIndex(max(0, self.track.findData(port)))

    def show_live(self, heard: Listen) -> None:
        """What is heard now."""
        track = self.chosen_track
        if track is None or track not in heard.spans:
            return
        now = heard.spans[track][-1]
        first = self._first.spans[track] if self._first and track in self._first.spans else ()
        for kind, _, _ in KINDS:
            level = float(getattr(now, kind))
            self.live[kind].setText(number(level) if level > LOWEST_DB else "none")
            self.against[kind].setText(_against(kind, level, first))

    def show_hunt(
        self, hunt: Hunt | None, brought: float | None = None, planted: Cause | None = None,
        *, simulated: bool = False,
    ) -> None:  # fmt: skip
        """A hunt as far as it has come; `brought` is what the remedy did, in dB, `planted` what is
        wrong in a drill."""
        self._first = hunt.first if hunt is not None else None
        verdict = hunt.verdict if hunt is not None else None
        trial = hunt.next_trial if hunt is not None and verdict is None else None
        quiet = hunt is not None and not hunt.standing
        self.cannot.setVisible(trial is not None)
        self.undo.setVisible(hunt is not None and bool(hunt.results) and brought is None)
        self.again.setVisible(hunt is not None)
        self.listen.setVisible(not quiet and brought is None)
        self.listen.setText(ASK_FIRST if hunt is None else ASK_AGAIN)
        over = quiet or brought is not None
        self.practise.setVisible(simulated and (hunt is None or over))
        drill = hunt is None and planted is not None
        step = DRILL if drill else _step(hunt, brought, self._names)
        said = _said(hunt, brought, self._names)
        if planted is not None and verdict is not None:
            right = (verdict.kind, verdict.at) == (planted.kind, planted.at)
            said = f"{said} {'Found' if right else 'It was'}: {planted.words}.".strip()
        self.step.setText(typeset(step))
        self.said.setText(typeset(said))
        self.said.setVisible(bool(self.said.text()))
        self._show_tables(hunt)

    def _show_tables(self, hunt: Hunt | None) -> None:
        told = hunt is not None and bool(hunt.standing)
        self.rest.setVisible(not told)
        for one in (self.tests, self.causes):
            one.setVisible(told)
        if hunt is None or not hunt.standing:
            return
        worst = hunt.standing[0]
        self.tests.show_rows(
            [
                (at, (Cell(one.trial.words, one.trial.words), Cell(
                    outcome_words(hunt, one, worst),
                    f"On {self._names.get(worst, worst)}: after, against the first listen; the "
                    "spread is how far stretches of 2.6 s differ")))
                for at, one in enumerate(hunt.results)
            ]
        )  # fmt: skip
        self.causes.show_rows(
            [
                (at, (Cell(one.cause.words, f"{one.cause.words}. {one.cause.remedy}",
                           bold=one.cause == hunt.verdict),
                      Cell(f"{share_words(one)}", f"{100.0 * one.share:.1f} %: what the rig says "
                           "each test does to it, weighed by what was heard (Bayes)",
                           sort=one.share)))
                for at, one in enumerate(hunt.left)
            ]
        )  # fmt: skip


def _against(kind: str, level: float, first: tuple[Kinds, ...]) -> str:
    if not first:
        return ""
    before = sum(float(getattr(one, kind)) for one in first) / len(first)
    if before <= LOWEST_DB + 100.0 or level <= LOWEST_DB:
        return ""
    return f"{number(level - before, sign=True)} dB"


def _step(hunt: Hunt | None, brought: float | None, names: dict[PortRef, str]) -> str:
    """What to do next, in one sentence."""
    if hunt is None:
        return BEGIN
    if not hunt.standing:
        return "Nothing to hunt."
    if brought is not None:
        worst = hunt.standing[0]
        return brought_words(hunt, brought, names.get(worst, str(worst)))
    if hunt.verdict is not None:
        return verdict_words(hunt)
    trial = hunt.next_trial
    return trial.words if trial is not None else ""


def _said(hunt: Hunt | None, brought: float | None, names: dict[PortRef, str]) -> str:
    """What was found, and how the last test is undone."""
    if hunt is None or brought is not None:
        return ""
    if hunt.verdict is not None and hunt.standing:
        return f"{hunt.verdict.remedy} Do that, and listen: what it brings is measured."
    undo = hunt.results[-1].trial.undo if hunt.results else ""
    first = f"Before that: {undo[0].lower()}{undo[1:]} " if undo else ""
    return f"{first}{hunted_words(hunt, names)}"
