"""A gate for a track or pass: the thresholds, and what it would cut, drawn on the recording."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QPainter, QPen
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QVBoxLayout, QWidget

from diaulos.app import theme
from diaulos.app.widgets.columns import fill_columns
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.plot import Plot
from diaulos.figures import counted, level, number, plain
from diaulos.records import dataclass
from diaulos.session.compared import Gate
from diaulos.signal.gate import STEP_S, GateProposal, gate_effect, open_steps
from diaulos.tables import csv_text
from diaulos.units import LOWEST_DB
from diaulos.work.listening.placing import gate_setting

LOWEST_DBFS = -100.0
Real = NDArray[np.floating]


@dataclass(frozen=True)
class GateFor:
    """What is known ahead of a gate of a recording: its peaks by the millisecond, a proposal or
    why there is none, the noise's peaks."""

    peaks: Real
    proposal: GateProposal | None
    why_not: str
    floor_dbfs: float


@dataclass(frozen=True)
class GateAnswer:
    """A gate, or None: no gate."""

    gate: Gate | None


class GatePlot(Plot):
    """Level over time; what the gate closes is hatched, its two thresholds are lines."""

    def __init__(self, peaks: Real) -> None:
        super().__init__()
        self._peaks = peaks
        self._gate: Gate | None = None
        self.setMinimumHeight(theme.px(180))
        self.setAccessibleName("What the gate would cut")

    def show_gate(self, gate: Gate | None, words: str) -> None:
        """Draw with these thresholds."""
        self._gate = gate
        self.setAccessibleDescription(words)
        self.update()

    def as_csv(self) -> str:
        """Level and state of every millisecond."""
        level_db = 20.0 * np.log10(np.maximum(self._peaks, 1e-10))
        state = self._open()
        return csv_text(
            ("Time, s", "Peak, dBFS", "Open"),
            [
                (f"{at * STEP_S:.3f}", f"{one:.1f}", "yes" if on else "no")
                for at, (one, on) in enumerate(zip(level_db, state, strict=True))
            ],
        )

    def _open(self) -> Real:
        if self._gate is None:
            return np.ones(self._peaks.size, dtype=bool)
        return open_steps(self._peaks, gate_setting(self._gate))

    def draw(self, painter: QPainter) -> None:
        look = theme.current()
        box = QRectF(self.box).adjusted(44, 8, -8, -24)
        painter.fillRect(box, look.colour("paper"))
        wide = max(1, int(box.width()))
        columns = np.array_split(np.arange(self._peaks.size), wide)
        state = self._open()
        tops = np.array([np.max(self._peaks[one], initial=0.0) for one in columns])
        shut = np.array([one.size > 0 and not np.any(state[one]) for one in columns])
        height = box.height() / -LOWEST_DBFS

        def y(dbfs: float) -> float:
            return box.top() + min(box.height(), max(0.0, -dbfs * height))

        self._axis(painter, box, y)
        levels = 20.0 * np.log10(np.maximum(tops, 1e-10))
        heights = box.top() + np.clip(-levels * height, 0.0, box.height())
        fill_columns(painter, QRectF(box.left(), box.top(), wide, box.height()),
                     heights, np.full(wide, box.bottom()), look.colour("di"))  # fmt: skip
        edges = np.flatnonzero(np.diff(np.concatenate([[0], shut.astype(int), [0]])))
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            painter.fillRect(
                QRectF(box.left() + float(first), box.top(), float(last - first), box.height()),
                QBrush(look.colour("muted"), Qt.BrushStyle.BDiagPattern),
            )
        if self._gate is not None:
            for dbfs, pattern, name in (
                (self._gate.open_dbfs, Qt.PenStyle.SolidLine, "opens"),
                (self._gate.close_dbfs, Qt.PenStyle.DashLine, "closes"),
            ):
                line = QPointF(box.left(), y(dbfs)), QPointF(box.right(), y(dbfs))
                # On paper of its own: it runs over the recording.
                painter.setPen(QPen(look.colour("paper"), 4.0))
                painter.drawLine(*line)
                painter.setPen(QPen(look.colour("ink"), 1.5, pattern))
                painter.drawLine(*line)
                painter.setFont(theme.text_font(9))
                words = painter.fontMetrics().boundingRect(name)
                top = y(dbfs) - words.height() - 3 if name == "opens" else y(dbfs) + 3
                plate = QRectF(
                    box.right() - words.width() - 12, top, words.width() + 8, words.height()
                )
                painter.fillRect(plate, look.colour("paper"))
                painter.drawText(plate, Qt.AlignmentFlag.AlignCenter, name)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(look.colour("muted"), 1))
        painter.drawRect(box)

    def _axis(self, painter: QPainter, box: QRectF, y) -> None:  # type: ignore[no-untyped-def]
        look = theme.current()
        painter.setFont(theme.figure_font(9))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for dbfs in range(0, int(LOWEST_DBFS), -20):
            painter.setPen(QPen(look.colour("line"), 1))
            painter.drawLine(QPointF(box.left(), y(dbfs)), QPointF(box.right(), y(dbfs)))
            painter.setPen(look.colour("muted"))
            painter.drawText(QRectF(0, y(dbfs) - 8, 40, 16), right, plain(dbfs, 0))
        seconds = self._peaks.size * STEP_S
        painter.setFont(theme.text_font(9))
        foot = QRectF(box.left(), box.bottom() + 4, box.width(), 16)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, "0 s, peaks in dBFS")
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight, f"{seconds:.1f} s")


class GateDialog(QDialog):
    """Asks for a gate; `answer` is what was chosen."""

    def __init__(
        self, name: str, known: GateFor, now: Gate | None, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Gate")
        self._known = known
        self.answer: GateAnswer | None = None
        title = TextLabel(f"Gate of {name}")
        title.setProperty("role", "title")
        about = TextLabel(_about(known))
        about.setWordWrap(True)
        about.setAccessibleName("What is proposed")
        self.plot = GatePlot(known.peaks)
        first = now or _start(known)
        self.opens = _field("Opens at", -120.0, 0.0, " dBFS", first.open_dbfs)
        self.closes = _field("Closes below", -120.0, 0.0, " dBFS", first.close_dbfs)
        self.hold = _field("Stays open for", 0.0, 2_000.0, " ms", first.hold_ms, 10.0)
        self.release = _field("Fades over", 1.0, 5_000.0, " ms", first.release_ms, 10.0)
        self.down = _field("Down by", -120.0, -1.0, " dB", first.depth_db)
        self.opens.setToolTip("Peak of a millisecond at which it opens, 4 ms ahead of it")
        self.closes.setToolTip("Peak of the last 20 ms below which it begins to close")
        self.release.setToolTip("A straight line in dB down to the depth")
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.said.setAccessibleName("What it does")
        self.problem = TextLabel()
        self.problem.setProperty("role", "problem")
        self.buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        self.ok = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.ok.setText("Gate")
        self.none = self.buttons.addButton("No gate", QDialogButtonBox.ButtonRole.ResetRole)
        self.none.setEnabled(now is not None)
        self.none.clicked.connect(lambda _on=False: self._take(None))
        self.buttons.accepted.connect(lambda: self._take(self.gate))
        self.buttons.rejected.connect(self.reject)
        form = QFormLayout()
        for words, field in (
            ("Opens at", self.opens), ("Closes below", self.closes), ("Stays open for", self.hold),
            ("Fades over", self.release), ("Down by", self.down),
        ):  # fmt: skip
            form.addRow(words, field)
            field.valueChanged.connect(lambda _v: self._show())
        hint = TextLabel(
            "Behind the amplifier and ahead of a cabinet added later; heard, compared and exported "
            "so. The file stays as it is."
        )
        hint.setWordWrap(True)
        hint.setProperty("role", "muted")
        column = QVBoxLayout(self)
        column.addWidget(title)
        column.addWidget(about)
        column.addWidget(self.plot, 1)
        column.addLayout(form)
        for part in (self.said, self.problem, hint, self.buttons):
            column.addWidget(part)
        self.resize(600, 600)
        theme.dress(self)
        self._show()

    @property
    def gate(self) -> Gate | None:
        """As it is set; None where it closes above what it opens at."""
        opened, closed = self.opens.value(), self.closes.value()
        if closed > opened:
            return None
        return Gate(
            open_dbfs=opened, close_dbfs=closed, hold_ms=self.hold.value(),
            release_ms=self.release.value(), depth_db=self.down.value(),
        )  # fmt: skip

    def _show(self) -> None:
        gate = self.gate
        self.ok.setEnabled(gate is not None)
        if gate is None:
            self.problem.setText("It has to close at or below the level at which it opens.")
            return
        self.problem.setText("")
        effect = gate_effect(self._known.peaks, gate_setting(gate), self._known.floor_dbfs)
        words = [
            f"Closed for {number(100.0 * effect.closed, 0)} % of the time, opens "
            f"{counted(effect.openings, 'time')}."
        ]
        before, after = effect.pauses_before_dbfs, effect.pauses_after_dbfs
        if before is not None and after is not None and before > LOWEST_DB:
            words.append(
                f"Peaks in the pauses: {level(before, 'dBFS', 0)} become {level(after, 'dBFS', 0)}."
            )
        if effect.missed:
            words.append(f"{counted(effect.missed, 'note')} never open it: lower the threshold.")
        self.said.setText(" ".join(words))
        self.plot.show_gate(gate, " ".join(words))

    def _take(self, gate: Gate | None) -> None:
        self.answer = GateAnswer(gate)
        self.accept()


def _start(known: GateFor) -> Gate:
    if known.proposal is None:
        return Gate(open_dbfs=-50.0, close_dbfs=-56.0)
    found = known.proposal.setting
    return Gate(
        open_dbfs=found.open_dbfs, close_dbfs=found.close_dbfs, hold_ms=found.hold_ms,
        release_ms=found.release_ms, depth_db=found.depth_db,
    )  # fmt: skip


def _about(known: GateFor) -> str:
    found = known.proposal
    if found is None:
        return f"Nothing is proposed: {known.why_not}"
    return (
        f"Noise peaks at {level(found.floor_dbfs, 'dBFS')} in the pauses; the quietest of "
        f"{counted(found.notes, 'note')} at {level(found.quietest_dbfs, 'dBFS')}. Proposed between."
    )


def _field(
    name: str, least: float, most: float, unit: str, value: float, step: float = 1.0
) -> NumberField:
    field = NumberField()
    field.setRange(least, most)
    field.setDecimals(0 if unit == " ms" else 1)
    field.setSingleStep(step)
    field.setSuffix(unit)
    field.setValue(value)
    field.setAccessibleName(name)
    return field
