"""Which socket of the chosen device is which track or send; play or tap to find out."""

from __future__ import annotations

import threading
from collections.abc import Callable
from queue import Empty, SimpleQueue

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.dialogs.device_look import DeviceLook
from diaulos.app.services import Services
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.tables import Cell, Table
from diaulos.errors import DiaulosError
from diaulos.figures import LevelFigures, counted, number, plain
from diaulos.ids import BENCH
from diaulos.records import dataclass
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import DeviceMap, Rig, Tie
from diaulos.session.edits import (
    Edit,
    keep_program_latency,
    set_sample_rate,
    tie_program,
    tie_sockets,
)
from diaulos.session.model import Session
from diaulos.work.capture.mapping import Socket, sockets_of, tied_program
from diaulos.work.capture.movers import Movement
from diaulos.work.capture.rates import other_rate, rate_words
from diaulos.work.ports import CancelToken, DeviceInfo, Found
from diaulos.work.rigs.look import rig_graph

HEAD = ("For", "In the rig", "Channel", "", "Rig")
RIG_W = 130
POLL_MS = 33
MOST_INPUTS = 32
AS_NUMBERED = 0
LISTEN = "Play or tap to find out (P)"


@dataclass(frozen=True)
class _Row:
    rig: Rig
    socket: Socket

    @property
    def key(self) -> str:
        """Unique over all rigs."""
        return f"{self.rig.id} {self.socket.port}"


class SocketsDialog(QDialog):
    """What is tied here is an edit of the session: at once, and undone by Undo."""

    tied = Signal(object)
    """An edit."""
    _measured = Signal(object)

    def __init__(
        self,
        device: str,
        session: Callable[[], Session],
        rigs: tuple[str, ...],
        services: Services,
        parent: QWidget | None = None,
        *,
        writable: bool = True,
    ) -> None:
        super().__init__(parent)
        self._device, self._session, self._rigs = device, session, rigs
        self._services, self._writable = services, writable
        self._there: DeviceInfo | None = None
        self._programs: dict[str, DeviceInfo] = {}
        self._measuring = False
        self._ear = _Ear(self)
        self._ear.moved.connect(self._on_movement)
        self._ear.failed.connect(self._on_failed)
        self._mover: int | None = None
        self.setWindowTitle("Which socket is which")
        self.resize(1010, 560)
        self.about = TextLabel(f"Looking for {device}\N{HORIZONTAL ELLIPSIS}")
        self.about.setWordWrap(True)
        self.table = Table("Tracks and sends", HEAD, 1, {4: RIG_W})
        self.table.itemSelectionChanged.connect(self._on_chosen)
        self.channel = combo("Channel", {}, least=22)
        self.channel.activated.connect(self._on_channel)
        self.listen = QPushButton(LISTEN)
        self.listen.setCheckable(True)
        self.listen.setToolTip(
            "Shows the level of every input. The one that rises by 12 dB over what it was, and by "
            "6 dB more than any other, is marked"
        )
        self.listen.clicked.connect(self._on_listen)
        self.tie = QPushButton("Tie to the input that moves (Enter)")
        self.tie.setProperty("main", "true")
        self.tie.setDefault(True)
        self.tie.clicked.connect(self._on_tie)
        self.measure = QPushButton("Measure its latency")
        self.measure.setAutoDefault(False)
        self.measure.setToolTip(
            "A quiet sweep goes into the program and comes back: its delay less the block that the "
            "way there and back costs"
        )
        self.measure.clicked.connect(self._on_measure)
        self._measured.connect(self._on_measured, Qt.ConnectionType.QueuedConnection)
        self.rate = TextLabel()
        self.rate.setProperty("role", "problem")
        self.rate.setWordWrap(True)
        self.follow = QPushButton()
        self.follow.setAutoDefault(False)
        self.follow.setToolTip("The other way out is at the device; this one is undone by Undo")
        self.follow.clicked.connect(self._on_follow)
        self.problem = TextLabel()
        self.problem.setProperty("role", "problem")
        self.problem.setWordWrap(True)
        self.told = TextLabel()
        self.told.setWordWrap(True)
        self._levels = QWidget()
        self._grid = QGridLayout(self._levels)
        self._grid.setContentsMargins(0, 0, 6, 0)
        self._names: list[TextLabel] = []
        self._windows: list[LevelWindow] = []
        self._lay_out()
        QShortcut(QKeySequence("P"), self, self.listen.click)
        self._look = DeviceLook(services.devices, self)
        self._look.found.connect(self._on_found)
        self._show()
        self.table.choose_first()
        self._look.look()
        self.table.setFocus()

    def _lay_out(self) -> None:
        scroll = QScrollArea()
        scroll.setWidget(self._levels)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setAccessibleName("Level of every input")
        self._levels.setMinimumWidth(theme.px(220))
        close = QPushButton("Close")
        close.setAutoDefault(False)
        close.clicked.connect(self.reject)
        self.listen.setAutoDefault(False)
        row = QHBoxLayout()
        row.addWidget(TextLabel("Channel"))
        row.addWidget(self.channel, 1)
        row.addWidget(self.tie)
        row.addWidget(self.measure)
        left = QVBoxLayout()
        left.addWidget(self.table, 1)
        left.addLayout(row)
        right = QVBoxLayout()
        right.addWidget(self.listen)
        right.addWidget(scroll, 1)
        body = QHBoxLayout()
        body.addLayout(left, 2)
        body.addLayout(right, 1)
        foot = QHBoxLayout()
        foot.addWidget(self.told, 1)
        foot.addWidget(self.problem, 1)
        foot.addWidget(close)
        whole = QVBoxLayout(self)
        rates = QHBoxLayout()
        rates.addWidget(self.rate, 1)
        rates.addWidget(self.follow)
        whole.addWidget(self.about)
        whole.addLayout(rates)
        whole.addLayout(body, 1)
        whole.addLayout(foot)

    # --- what is tied ---

    def _rows(self) -> list[_Row]:
        session = self._session()
        inputs = self._there.inputs if self._there is not None else 512
        found = []
        for ident in self._rigs:
            rig = session.rig(ident)
            found += [_Row(rig, one) for one in sockets_of(rig_graph(session, rig), inputs)]
        return found

    @property
    def _row(self) -> _Row | None:
        key = self.table.chosen()
        return next((row for row in self._rows() if row.key == key), None)

    def _show(self) -> None:
        rows = []
        for row in self._rows():
            if row.socket.program:
                rows.append((row.key, self._program_cells(row)))
                continue
            tied = row.rig.tied(self._device).get(row.socket.port)
            channel = tied or row.socket.proposed
            missing = self._there is not None and channel > self._has(row.socket.hears)
            how = "tied" if tied else "proposed"
            rows.append(
                (row.key, (
                    Cell(row.socket.name, bold=True),
                    Cell(row.socket.place),
                    Cell(self._channel_words(channel, row.socket.hears)),
                    Cell("not there" if missing else how, token="danger" if missing else "muted"),
                    Cell(row.rig.name),
                ))
            )  # fmt: skip
        self.table.show_rows(rows)
        self._on_chosen()

    def _program_cells(self, row: _Row) -> tuple[Cell, ...]:
        """Of a socket of another program: which, and whether it is there."""
        tied = tied_program(row.rig, row.socket.port)
        words, how, token = "no program", "to be tied", "danger"
        if tied is not None:
            name, channel = tied
            there = self._programs.get(name)
            has = (there.inputs if row.socket.hears else there.outputs) if there else 0
            words = _program_words(name, channel + 1, row.socket.hears)
            how, token = ("tied", "muted") if channel < has else ("not there", "danger")
        return (
            Cell(row.socket.name, bold=True),
            Cell(row.socket.place),
            Cell(words),
            Cell(how, token=token),
            Cell(row.rig.name),
        )

    def _has(self, hears: bool) -> int:
        if self._there is None:
            return 0
        return self._there.inputs if hears else self._there.outputs

    def _channel_words(self, channel: int, hears: bool) -> str:
        names: tuple[str, ...] = ()
        if self._there is not None:
            names = self._there.input_names if hears else self._there.output_names
        way = "input" if hears else "output"
        name = f" ({names[channel - 1]})" if channel <= len(names) else ""
        return f"{way} {channel}{name}"

    def _on_chosen(self) -> None:
        row = self._row
        self.channel.clear()
        ready = row is not None and self._writable
        self.channel.setEnabled(ready and self._there is not None)
        if row is None:
            self._show_tie()
            return
        hears = row.socket.hears
        if row.socket.program:
            self._list_programs(row)
            self._show_tie()
            return
        self.channel.addItem(
            f"proposed: {self._channel_words(row.socket.proposed, hears)}", AS_NUMBERED
        )
        for channel in range(1, self._has(hears) + 1):
            self.channel.addItem(self._channel_words(channel, hears), channel)
        choose(self.channel, row.rig.tied(self._device).get(row.socket.port, AS_NUMBERED))
        self._show_tie()

    def _list_programs(self, row: _Row) -> None:
        """Every channel of every other program."""
        hears = row.socket.hears
        self.channel.addItem("no program", None)
        for name, one in self._programs.items():
            for channel in range(1, (one.inputs if hears else one.outputs) + 1):
                self.channel.addItem(_program_words(name, channel, hears), (name, channel))
        tied = tied_program(row.rig, row.socket.port)
        at = 0 if tied is None else self.channel.findText(
            _program_words(tied[0], tied[1] + 1, hears)
        )  # fmt: skip
        self.channel.setCurrentIndex(max(0, at))
        self.channel.setEnabled(self._writable and bool(self._programs))

    def _show_tie(self) -> None:
        row = self._row
        program = row is not None and row.socket.program
        way = self._way_round(row.rig, row.socket) if row is not None and program else None
        self.measure.setVisible(program)
        self.measure.setEnabled(way is not None and not self._measuring)
        self.tie.setVisible(not program)
        able = row is not None and row.socket.hears and self._mover is not None and self._writable
        self.tie.setEnabled(able)
        words = "Tie to the input that moves (Enter)"
        if able and row is not None and self._mover is not None:
            words = f"Tie {row.socket.name} to input {self._mover + 1} (Enter)"
        self.tie.setText(words)

    def _on_channel(self) -> None:
        row = self._row
        if row is not None and row.socket.program:
            self._tie_program(row, self.channel.currentData())
        else:
            self._tie_to(int(self.channel.currentData()))

    def _tie_program(self, row: _Row, chosen: tuple[str, int] | None) -> None:
        """A socket of another program: the tie that it had elsewhere goes."""
        edit = tie_program(row.rig.id, row.socket.port, chosen, {
            name: (one.inputs, one.outputs) for name, one in self._programs.items()
        })  # fmt: skip
        self.tied.emit(edit)
        self.problem.setText("")
        self._show()

    # --- how late a program is ---

    def _way_round(self, rig: Rig, socket: Socket) -> tuple[str, int, int] | None:
        """The program of a socket, and the channels (from 1) into and out of it."""
        ends: dict[bool, tuple[str, int]] = {}
        for one in _program_ends(rig, socket.port.device):
            tied = tied_program(rig, one.port)
            if tied is not None:
                ends.setdefault(one.hears, tied)
        if len(ends) < 2 or ends[True][0] != ends[False][0]:
            return None
        return ends[True][0], ends[False][1] + 1, ends[True][1] + 1

    def _on_measure(self) -> None:
        row = self._row
        way = self._way_round(row.rig, row.socket) if row is not None else None
        if row is None or way is None:
            return
        program, into, out_of = way
        measure = self._services.measure_trip
        self._measuring = True
        self.problem.setText("")
        self.told.setText(f"Measuring {program}: a quiet sweep goes through it.")
        self._show_tie()

        def work() -> None:
            try:
                trip = measure(program, into, out_of, CancelToken(), 0, 0)
            except Exception as error:
                self._measured.emit(error)
            else:
                late = max(0.0, trip.samples - trip.block_frames)
                self._measured.emit((program, late, trip))

        threading.Thread(target=work, name="program latency", daemon=True).start()

    def _on_measured(self, found: object) -> None:
        self._measuring = False
        if isinstance(found, Exception):
            words = str(found) if isinstance(found, DiaulosError) else type(found).__name__
            self.told.setText("")
            self.problem.setText(words)
        else:
            assert isinstance(found, tuple)
            program, late, trip = found
            self.tied.emit(keep_program_latency(program, late))
            ms = 1000.0 * late / trip.rate_hz
            turned = ", and turns the polarity over" if trip.polarity < 0 else ""
            self.told.setText(
                f"{program} is {plain(late, 2)} samples ({plain(ms, 2)} ms) later than the dry "
                f"DI, give or take {number(trip.error_samples, 3)}{turned}. Kept with "
                "every rig that it is in."
            )
        self._show()

    def _on_tie(self) -> None:
        if self._mover is not None:
            self._tie_to(self._mover + 1)

    def _tie_to(self, channel: int) -> None:
        row, there = self._row, self._there
        if row is None or there is None:
            return
        ties = {**row.rig.tied(self._device), row.socket.port: channel}
        if channel == AS_NUMBERED:
            del ties[row.socket.port]
        edit: Edit = tie_sockets(
            row.rig.id,
            DeviceMap(
                device=self._device,
                ties=tuple(Tie(port=port, channel=one) for port, one in ties.items()),
                inputs=there.inputs,
                outputs=there.outputs,
            ),
        )
        self.tied.emit(edit)
        twice = [
            one.socket.name
            for one in self._rows()
            if one.rig.id == row.rig.id
            and one.socket.hears == row.socket.hears
            and one.key != row.key
            and one.rig.tied(self._device).get(one.socket.port) == channel
        ]
        way = "input" if row.socket.hears else "output"
        said = f"{' and '.join(twice)} is tied to {way} {channel}, too." if twice else ""
        self.problem.setText(said)
        self._mover = None
        self._show()

    # --- what is there ---

    def _on_found(self, found: Found) -> None:
        self._there = found.device(self._device)
        there = self._there
        self._programs = {
            one.name: one
            for one in found.devices
            if one.name not in (self._device, BENCH) and one.backend in ("jack", "pipewire")
        }
        if there is None:
            missing = " ".join(found.missing)
            self.about.setText(f"{self._device} is not there now. {missing}".rstrip())
        else:
            self.about.setText(
                f"{there.name}: {counted(there.inputs, 'input')}, "
                f"{counted(there.outputs, 'output')}. A rig keeps its ties for every device."
            )
        self._show_rate()
        self.listen.setEnabled(there is not None and there.inputs > 0)
        self._show_levels(there)
        self._show()

    def _show_rate(self) -> None:
        """The session's rate against the device's, and both ways out."""
        session, there = self._session(), self._there
        words = rate_words(session, there) if there is not None else ""
        other = other_rate(session, there) if there is not None else None
        self.rate.setText(words)
        self.rate.setVisible(bool(words))
        self.follow.setText(f"Session at {other} Hz")
        self.follow.setVisible(other is not None and not session.holds_audio and self._writable)

    def _on_follow(self) -> None:
        session, there = self._session(), self._there
        other = other_rate(session, there) if there is not None else None
        if other is not None:
            self.tied.emit(set_sample_rate(other))
            self._show_rate()
            self._show()

    def _show_levels(self, there: DeviceInfo | None) -> None:
        for widget in (*self._names, *self._windows):
            self._grid.removeWidget(widget)
            widget.deleteLater()
        self._names, self._windows = [], []
        for index in range(min(MOST_INPUTS, there.inputs if there is not None else 0)):
            name = TextLabel(self._channel_words(index + 1, True))
            window = LevelWindow()
            window.setAccessibleName(f"Level of input {index + 1}")
            self._grid.addWidget(name, index, 0, Qt.AlignmentFlag.AlignVCenter)
            self._grid.addWidget(window, index, 1)
            self._names.append(name)
            self._windows.append(window)
        self._grid.setColumnStretch(1, 1)
        self._grid.setRowStretch(len(self._windows), 1)

    # --- play or tap ---

    def _on_listen(self, listening: bool) -> None:
        if not listening:
            self._ear.stop()
            self.listen.setText(LISTEN)
            return
        there = self._there
        if there is None:
            self.listen.setChecked(False)
            return
        self.problem.setText("")
        self.listen.setText("Stop (P)")
        count = min(MOST_INPUTS, there.inputs)
        hear, block = self._services.hear_inputs, self._services.block()
        self._ear.start(lambda tell, stopped: hear(self._device, count, tell, stopped, block))

    def _on_movement(self, movement: Movement) -> None:
        if movement.moves is not None and movement.moves != self._mover:
            self._mover = movement.moves
            self._show_tie()
        for index, (name, window) in enumerate(zip(self._names, self._windows, strict=False)):
            if index >= len(movement.peak_dbfs):
                break
            window.set_figures(
                LevelFigures(
                    "dBFS", movement.quiet_dbfs[index], 0.0, movement.held_dbfs[index],
                    movement.peak_dbfs[index],
                )
            )  # fmt: skip
            moves = index == self._mover
            words = self._channel_words(index + 1, True) + (" moves" if moves else "")
            if name.text() != words:
                name.setText(words)
                name.setFont(theme.bold_font() if moves else self.about.font())

    def _on_failed(self, error: Exception) -> None:
        self.listen.setChecked(False)
        self.listen.setText(LISTEN)
        words = str(error) if isinstance(error, DiaulosError) else type(error).__name__
        self.problem.setText(words)

    def done(self, result: int) -> None:
        self._ear.stop()
        super().done(result)


def _program_words(name: str, channel: int, hears: bool) -> str:
    return f"{name}, {'its output' if hears else 'its input'} {channel}"


def _program_ends(rig: Rig, device: str) -> list[Socket]:
    return [
        one for one in sockets_of(RigGraph(rig), 0) if one.program and one.port.device == device
    ]


class _Ear(QObject):
    """Listens in a thread of its own; the newest movement alone is shown."""

    moved = Signal(object)
    failed = Signal(object)
    _broke = Signal(object)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._stop: threading.Event | None = None
        self._newest: SimpleQueue[Movement] = SimpleQueue()
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)
        self._broke.connect(self._on_broke, Qt.ConnectionType.QueuedConnection)

    def start(self, hear: Callable[[Callable[[Movement], None], Callable[[], bool]], None]) -> None:
        """Begin; whoever listened before ends."""
        self.stop()
        stop, newest = threading.Event(), SimpleQueue[Movement]()
        self._stop, self._newest = stop, newest

        def work() -> None:
            try:
                hear(newest.put, stop.is_set)
            except Exception as error:
                if not stop.is_set():
                    self._broke.emit(error)

        threading.Thread(target=work, name="sockets", daemon=True).start()
        self._timer.start()

    def stop(self) -> None:
        """End it."""
        self._timer.stop()
        if self._stop is not None:
            self._stop.set()
            self._stop = None

    def _poll(self) -> None:
        moved: Movement | None = None
        try:
            while True:
                one = self._newest.get_nowait()
                # A movement is not passed over for a quieter one behind it.
                if moved is None or one.moves is not None or moved.moves is None:
                    moved = one
        except Empty:
            if moved is not None:
                self.moved.emit(moved)

    def _on_broke(self, error: Exception) -> None:
        self.stop()
        self.failed.emit(error)
