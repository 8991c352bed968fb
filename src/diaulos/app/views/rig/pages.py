"""Below the diagram: findings, tracks, the patch list, monitoring."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.labels import RichLabel, TextLabel, escaped, tip
from diaulos.app.widgets.marks import TAP_TOKENS
from diaulos.app.widgets.tables import KEY, Cell, Table
from diaulos.figures import TAP_WORDS, number, typeset
from diaulos.rig.checks import Finding, Severity
from diaulos.rig.model import PortRef
from diaulos.work.rigs.look import RigReport
from diaulos.work.rigs.tables import PATCH_HEAD, TRACK_HEAD, patch_rows, track_rows

SEVERITY_TOKENS = {
    Severity.NOTE: "muted", Severity.CAUTION: "cabinet", Severity.FAULT: "danger",
    Severity.DANGER: "danger",
}  # fmt: skip


def _wrapped(role: str = "", *, rich: bool = False) -> QLabel:
    label = RichLabel() if rich else TextLabel()
    label.setWordWrap(True)
    label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
    if role:
        label.setProperty("role", role)
    return label


class FindingsPage(QWidget):
    """What the checks found, the worst first."""

    show_asked = Signal(object)
    mend_asked = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._findings: tuple[Finding, ...] = ()
        self.table = Table("Findings", ("", "Where", "What"), 2, {1: 210})
        self.table.currentCellChanged.connect(lambda *_: self._detail())
        self.detail = _wrapped(rich=True)
        self.detail.setAccessibleName("The finding in full")
        self.show_button = QPushButton("Show (S)")
        self.show_button.clicked.connect(self.show_chosen)
        self.mend_button = QPushButton("Apply remedy (A)")
        self.mend_button.clicked.connect(self.mend_chosen)
        row = QHBoxLayout()
        row.addWidget(self.detail, 1)
        buttons = QVBoxLayout()
        buttons.addWidget(self.mend_button)
        buttons.addWidget(self.show_button)
        buttons.addStretch(1)
        row.addLayout(buttons)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.table, 1)
        column.addLayout(row)

    def show_findings(self, findings: tuple[Finding, ...], writable: bool) -> None:
        """Fill the list; the worst is chosen where nothing is."""
        self._findings, self._writable = findings, writable
        self.table.show_rows(
            [
                (
                    one.key,
                    (
                        Cell(one.severity.word, sort=-float(one.severity), bold=True,
                             token=SEVERITY_TOKENS[one.severity]),
                        Cell(one.where),
                        Cell(
                            typeset(one.cause),
                            typeset(f"{one.cause}\n{one.consequence}\n[{one.id}]"),
                        ),
                    ),
                )
                for one in findings
            ]
        )  # fmt: skip
        if self.table.currentRow() < 0 and findings:
            self.table.setCurrentCell(0, 0)
        self._detail()

    @property
    def chosen(self) -> Finding | None:
        """The chosen finding."""
        key = self.table.chosen()
        return next((one for one in self._findings if one.key == key), None)

    def _detail(self) -> None:
        one = self.chosen
        if one is None:
            self.detail.setText("Nothing is found: no danger, no fault, nothing to note.")
        else:
            remedy = one.mend.label if one.mend else one.remedy
            self.detail.setText(
                f"<b>{one.severity.word.capitalize()}.</b> {escaped(typeset(one.consequence))} "
                f"<b>Remedy:</b> {escaped(typeset(one.remedy))}"
            )
            self.mend_button.setToolTip(tip(f"{remedy}. Undo takes it back."))
            self.detail.setToolTip(
                tip(f"{typeset(one.cause)}\nFrom this rig's planned levels, settings and cables "
                    f"[{one.id}]")
            )  # fmt: skip
        self.mend_button.setEnabled(one is not None and one.mend is not None and self._writable)
        self.show_button.setEnabled(one is not None)

    def show_chosen(self) -> None:
        """Ask for the chosen finding to be shown in the diagram."""
        if self.chosen is not None:
            self.show_asked.emit(self.chosen)

    def mend_chosen(self) -> None:
        """Ask for the chosen finding's remedy."""
        one = self.chosen
        if one is not None and one.mend is not None:
            self.mend_asked.emit(one)

    _writable = True


class TracksPage(QWidget):
    """What is recorded: every track with its tap, group, delay and level."""

    rename_asked = Signal(object, str)
    group_asked = Signal(object, str)
    move_asked = Signal(object, int)
    plan_asked = Signal()
    play_asked = Signal()
    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.table = Table(
            "Tracks",
            TRACK_HEAD,
            4,
            {1: 130, 2: 112},
        )
        self.table.itemChanged.connect(self._on_edited)
        self.table.currentCellChanged.connect(lambda *_: self._on_chosen())
        self.summary = _wrapped("muted")
        self.plan = QPushButton("Plan tracks as plugged (T)")
        self.plan.setToolTip("Names and taps of all plugged tracks, from their courses.")
        self.plan.clicked.connect(self.plan_asked)
        self.play = QPushButton("Play the rig (R)")
        self.play.setToolTip("The bench renders what every input receives, as a new take.")
        self.play.clicked.connect(self.play_asked)
        self.up = QPushButton("Up")
        self.up.clicked.connect(lambda: self._move(-1))
        self.down = QPushButton("Down")
        self.down.clicked.connect(lambda: self._move(1))
        row = QHBoxLayout()
        row.addWidget(self.summary, 1)
        for button in (self.up, self.down, self.plan, self.play):
            row.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.table, 1)
        column.addLayout(row)

    def show_report(self, report: RigReport, rate_hz: float, writable: bool) -> None:
        """Fill the table in the plan's order."""
        rows = []
        for one in track_rows(report, rate_hz):
            course, cells = one.plan.course, one.cells
            planned = one.meant is not None
            rows.append(
                (
                    one.track,
                    (
                        Cell(cells[0], figure=True),
                        Cell(cells[1], editable=writable and planned, bold=True),
                        Cell(cells[2], editable=writable and planned),
                        Cell(cells[3], one.problem, token=TAP_TOKENS[course.tap] if course else
                             "danger"),
                        Cell(cells[4]),
                        Cell(cells[5], "Analog to digital or back, counted along the course",
                             figure=True),
                        Cell(cells[6], "Converters + processing + air (length / speed of sound)",
                             one.delay_ms, True),
                        Cell(cells[7], f"Loudest planned peak:\n{one.stations}",
                             one.plan.unclipped_dbfs, True),
                        Cell(cells[8], one.clips or "Nothing on its way clips.",
                             token="danger" if one.clips else ""),
                    ),
                )
            )  # fmt: skip
        self.table.show_rows(rows)
        left = len(report.inputs_free)
        groups = {track.group for track in report.rig.tracks if track.group}
        words = f"{report.inputs_used} inputs used, {left} left."
        for group in sorted(groups):
            count = sum(track.group == group for track in report.rig.tracks)
            words += f" {group}: {count} at once."
        self.summary.setText(words)
        free = [report.graph.plug(ref).words for ref in report.inputs_free]
        self.summary.setToolTip("Free inputs:\n" + ("\n".join(free) or "none"))
        for button in (self.plan, self.up, self.down):
            button.setEnabled(writable)

    def _on_edited(self, item: QTableWidgetItem) -> None:
        signal = {1: self.rename_asked, 2: self.group_asked}.get(item.column())
        if signal is not None:
            signal.emit(item.data(KEY), item.text())

    def _on_chosen(self) -> None:
        key = self.table.chosen()
        if isinstance(key, PortRef):
            self.chosen.emit(str(key))

    def _move(self, by: int) -> None:
        key = self.table.chosen()
        if key is not None:
            self.move_asked.emit(key, by)


class PatchPage(QWidget):
    """Every cable in a row."""

    length_asked = Signal(str, str)
    label_asked = Signal(str, str)
    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.table = Table("Patch list", PATCH_HEAD, 1, {0: 190, 5: 100})
        self.table.setSortingEnabled(True)
        self.table.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.table.itemChanged.connect(self._on_edited)
        self.table.currentCellChanged.connect(lambda *_: self._on_chosen())
        self.copy = QPushButton("Copy as CSV")
        self.copy.setToolTip("Ctrl+Alt+C")
        self.copy.clicked.connect(self.copy_csv)
        row = QHBoxLayout()
        hint = _wrapped("muted")
        hint.setText("Length and label can be edited: F2. Level: loudest planned peak.")
        row.addWidget(hint, 1)
        row.addWidget(self.copy)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.table, 1)
        column.addLayout(row)

    def show_report(self, report: RigReport, writable: bool) -> None:
        """Fill the list."""
        rows = []
        for one in patch_rows(report):
            cells = one.cells
            rows.append(
                (
                    one.cable.id,
                    (
                        Cell(cells[0]),
                        Cell(cells[1]),
                        Cell(cells[2], one.capacitance),
                        Cell(cells[3], "Capacitance = length × pF per metre", one.cable.length_m,
                             True, writable),
                        Cell(cells[4], "Loudest planned peak at the output",
                             -999.0 if one.peak is None else one.peak, True),
                        Cell(cells[5], editable=writable),
                    ),
                )
            )  # fmt: skip
        self.table.show_rows(rows)

    def copy_csv(self) -> None:
        """The list into the clipboard."""
        QGuiApplication.clipboard().setText(self.table.as_csv())

    def _on_edited(self, item: QTableWidgetItem) -> None:
        signal = {3: self.length_asked, 5: self.label_asked}.get(item.column())
        if signal is not None:
            signal.emit(item.data(KEY), item.text())

    def _on_chosen(self) -> None:
        key = self.table.chosen()
        if isinstance(key, str):
            self.chosen.emit(key)


SIDES: dict[tuple[int, ...], str] = {(-1,): ", left", (1,): ", right"}


class MonitorPage(QWidget):
    """Who hears what, by which way, how late."""

    def __init__(self) -> None:
        super().__init__()
        self.table = Table(
            "Monitoring",
            ("Listener", "Hears", "As", "By", "Fader", "Latency", "Equals distance", "Through"),
            7,
            {1: 110},
        )
        self.words = _wrapped(rich=True)
        self.words.setAccessibleName("What to mute")
        self.words.setToolTip(
            "Apart = the difference of the two ways' latencies: converters, buffers, processing, "
            "and air at the speed of sound. Under 10 ms software monitoring is played along with "
            "(common practice, no source)."
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.table, 1)
        column.addWidget(self.words)

    def show_report(self, report: RigReport) -> None:
        """Fill the table and the checklist."""
        plan = report.monitoring
        by = {"direct": "direct", "software": "through the software", "playback": "playback"}
        rows = []
        for one in plan.listeners:
            for index, way in enumerate(one.ways):
                rows.append(
                    (
                        f"{one.listener_id}/{index}",
                        (
                            Cell(one.listener, bold=True),
                            Cell(way.source),
                            Cell(TAP_WORDS[way.tap] if way.tap else "tracks"),
                            Cell(by[way.kind] + SIDES.get(way.sides, "")),
                            Cell(way.strip_name),
                            Cell(f"{number(way.delay_ms, 1)} ms", "Converters + buffers + "
                                 "processing", way.delay_ms, True),
                            Cell(f"{number(way.metres, 1)} m", "Delay × speed of sound at 20 °C",
                                 way.metres, True),
                            Cell(" → ".join(way.through)),
                        ),
                    )
                )  # fmt: skip
        self.table.show_rows(rows)
        lines = []
        for one in plan.listeners:
            who = escaped(one.listener)
            for twice in one.doubled:
                lines.append(
                    f"<b>{who} hears {escaped(twice.source)} twice</b>, "
                    f"{twice.apart_ms:.1f} ms apart."
                )
            for two in one.layered:
                lines.append(
                    f"<b>{who} hears {escaped(two.source)} dry and processed</b>, "
                    f"{two.apart_ms:.1f} ms apart."
                )
            if one.buffer_limit is not None:
                lines.append(
                    f"{who}: software monitoring stays under 10 ms up to a buffer of "
                    f"{one.buffer_limit} samples."
                    if one.buffer_limit
                    else f"{who}: no buffer keeps software monitoring under 10 ms."
                )
        lines += [f"☐ {escaped(line)}" for line in plan.mute]
        if plan.recorded_unchanged:
            lines.append("Muting, direct and software monitoring do not change what is recorded.")
        if not plan.listeners:
            lines.insert(0, "Nobody listens yet: add headphones or a monitor and plug them.")
        self.words.setText("<br>".join(lines))
