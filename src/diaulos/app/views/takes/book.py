"""The takes at the right: the list, the bin behind it, and what is known of the chosen one."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.tables import Cell, Table
from diaulos.figures import clock, counted, number, typeset
from diaulos.session.model import Doubt, Session, Take, Track
from diaulos.session.take_edits import differences_since
from diaulos.work.takes.over import over_words
from diaulos.work.takes.proving import doubt_words

HOW_PROVED = (
    "From ten seconds of the take: the dry DI is put through the rig as it is described, and what "
    "comes out is held against the other tracks; an instrument by its own noise and lowest note."
)
STARS = ("", "1 of 5", "2 of 5", "3 of 5", "4 of 5", "5 of 5")


class TakeBook(QWidget):
    """Shows takes; asks for what is to be done with the chosen one."""

    chosen_changed = Signal()
    turned = Signal()
    """From the takes to the bin, or back."""

    def __init__(self) -> None:
        super().__init__()
        self.takes = Table("Takes", ("", "Take", "Length", "Peak"), 1, {0: 58, 2: 62, 3: 62})
        self.binned = Table("Discarded takes", ("Take", "Length"), 0, {1: 62})
        self.keep = QPushButton("Keep (K)")
        self.recall = QPushButton("Recall (C)")
        self.discard = QPushButton("Discard (Del)")
        self.restore = QPushButton("Restore (U)")
        self.empty = QPushButton("Empty the bin\N{HORIZONTAL ELLIPSIS}")
        self.bin = QPushButton("Bin (D)")
        self.bin.setCheckable(True)
        self.about = TextLabel()
        self.about.setWordWrap(True)
        self.about.setProperty("role", "muted")
        self.about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.about.setAccessibleName("About the chosen take")
        self.off_plan = TextLabel()
        self.off_plan.setWordWrap(True)
        self.off_plan.setProperty("role", "problem")
        self.off_plan.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.off_plan.setAccessibleName("The chosen take against its plan")
        self.off_plan.hide()
        lists = QWidget()
        self._stack = QStackedLayout(lists)
        self._stack.addWidget(self.takes)
        self._stack.addWidget(self.binned)
        head = QHBoxLayout()
        self._title = TextLabel("Takes")
        self._title.setProperty("role", "title")
        head.addWidget(self._title)
        head.addStretch(1)
        head.addWidget(self.bin)
        foot = QHBoxLayout()
        for button in (self.keep, self.recall, self.discard, self.restore, self.empty):
            foot.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(lists, 1)
        column.addWidget(self.about)
        column.addWidget(self.off_plan)
        column.addLayout(foot)
        self.takes.currentCellChanged.connect(lambda *_: self.chosen_changed.emit())
        self.binned.currentCellChanged.connect(lambda *_: self._on_binned())
        self.bin.clicked.connect(lambda on: self.show_bin(bool(on)))
        self._writable = True
        self._show_buttons()

    def _on_binned(self) -> None:
        self._show_buttons()
        if self.in_bin:
            self.chosen_changed.emit()

    @property
    def in_bin(self) -> bool:
        """Whether the bin is shown."""
        return self._stack.currentWidget() is self.binned

    def show_bin(self, on: bool) -> None:
        """The bin, or the takes."""
        self._stack.setCurrentWidget(self.binned if on else self.takes)
        self.bin.setChecked(on)
        self._title.setText("Discarded takes" if on else "Takes")
        self._show_buttons()
        self.turned.emit()

    def show_session(self, session: Session, between: Callable[[], None] = lambda: None) -> None:
        """Fill both lists; `between` is called between two parts of them."""
        rate = session.sample_rate_hz
        rows = []
        for one in reversed(session.takes):
            peak = max(track.peak_dbfs for track in one.tracks)
            clipped = any(track.clipped_samples for track in one.tracks)
            ahead = [track.name for track in one.tracks if track.clips_ahead]
            told = f"Flat tops: clipped ahead of the converter on {', '.join(ahead)}"
            mark = ("keep " if one.keeper else "") + ("*" * one.rating)
            cells = (
                Cell(mark, STARS[one.rating], bold=one.keeper, sort=float(one.rating)),
                Cell(one.name, bold=one.keeper),
                _length(one, rate),
                Cell("CLIPS" if clipped or ahead else number(min(0.0, peak)),
                     told if ahead else "", figure=True, sort=peak,
                     token="danger" if clipped or ahead else ""),
            )  # fmt: skip
            rows.append((one.id, cells))
        self.takes.show_rows(rows, between)
        self.binned.show_rows(
            [(one.id, (Cell(one.name), _length(one, rate))) for one in reversed(session.take_bin)]
        )
        count = len(session.take_bin)
        self.bin.setText(f"Bin: {count} (D)" if count else "Bin (D)")
        if self.binned.rowCount() and self.binned.chosen() is None:
            self.binned.choose_first()
        self._show_buttons()

    def enable(self, writable: bool, take: Take | None) -> None:
        """What can be done now."""
        self._writable = writable
        for button in (self.keep, self.discard):
            button.setEnabled(writable and take is not None)
        self.recall.setEnabled(writable and take is not None and bool(take.rig_hash))
        self._show_buttons()

    def _show_buttons(self) -> None:
        in_bin = self.in_bin
        for button in (self.keep, self.recall, self.discard):
            button.setVisible(not in_bin)
        for button in (self.restore, self.empty):
            button.setVisible(in_bin)
        full = self.binned.rowCount() > 0
        self.restore.setEnabled(self._writable and self.binned.chosen() is not None)
        self.empty.setEnabled(self._writable and full)

    def show_check(
        self, words: str, doubts: Sequence[Doubt] = (), *, settable: bool = True
    ) -> None:
        """Which tracks are not what they say, how the take differs from its plan, and the likely
        culprit; nothing where all agrees. `settable`: whether a gain can be set by it."""
        if words and settable:
            words += " E sets the gain for what was heard."
        mend = doubts[0].remedy if doubts else ""
        words = " ".join(part for part in (doubt_words(doubts), mend, words) if part)
        self.off_plan.setText(typeset(words))
        lines = [f"{one.words} {one.remedy}" for one in doubts]
        if lines:
            lines.append(HOW_PROVED)
        self.off_plan.setToolTip(typeset("\n".join(lines)))
        self.off_plan.setVisible(bool(words) and not self.in_bin)

    def show_about(self, session: Session, take: Take | None) -> None:
        """What is known of a take; the tooltip has every track's figures."""
        self.about.setText(typeset(_about(session, take, self.in_bin)))
        lines = [_track_words(track) for track in take.tracks] if take is not None else []
        self.about.setToolTip(typeset("\n".join(lines)))


def _track_words(track: Track) -> str:
    """One track in a line: peak, what was planned, loudness, noise, clips."""
    parts = [f"peak {number(track.peak_dbfs)} dBFS"]
    if track.planned_dbfs is not None and track.difference_db is not None:
        parts.append(
            f"planned {number(track.planned_dbfs)} ({number(track.difference_db, sign=True)} dB)"
        )
    if track.loudness_lufs is not None:
        parts.append(f"{number(track.loudness_lufs)} LUFS")
    if track.quietest_dbfs is not None:
        parts.append(f"noise at most {number(track.quietest_dbfs)} dBFS (quietest 0.3 s)")
    parts.append(counted(len(track.clips), "clip"))
    return f"{track.name}: {', '.join(parts)}"


def _length(take: Take, rate_hz: int) -> Cell:
    frames = take.tracks[0].frames
    return Cell(clock(frames / rate_hz), figure=True, sort=float(frames))


def _about(session: Session, take: Take | None, in_bin: bool) -> str:
    if in_bin:
        return (
            "U brings the chosen one back. Files stay until the bin is emptied."
            if session.take_bin else "The bin is empty. Del puts a take here."
        )  # fmt: skip
    if take is None:
        return "No take is chosen." if session.takes else "No take yet: Space records the first."
    rate = session.sample_rate_hz
    parts = [take.recorded_at.replace("T", " ")]
    if take.rig_name:
        parts.append(take.rig_name)
    if take.over:
        parts.append(over_words(session, take))
    for track in take.tracks:
        if track.clips:
            times = ", ".join(clock(frame / rate) for frame in track.clips[:3])
            more = " …" if len(track.clips) > 3 else ""
            parts.append(f"{track.name} {counted(len(track.clips), 'clip')} at {times}{more}")
    if take.marks:
        parts.append(counted(len(take.marks), "mark"))
    if take.cut is not None:
        parts.append(f"cut to {clock(take.cut[0] / rate)}-{clock(take.cut[1] / rate)}")
    if take.dropouts or take.xruns:
        parts.append(f"{take.xruns} xruns, {len(take.dropouts)} gaps")
    if take.tags:
        parts.append(f"tags: {', '.join(take.tags)}")
    if take.notes:
        parts.append(take.notes)
    differs = differences_since(session, take) if take.rig_hash else ()
    if differs:
        words = ", ".join(one.words for one in differs[:3])
        parts.append(f"Differs now: {words}{' …' if len(differs) > 3 else ''}")
    text = "; ".join(parts)
    return text if text.endswith((".", "!", "?", "…")) else f"{text}."  # notes bring their own
