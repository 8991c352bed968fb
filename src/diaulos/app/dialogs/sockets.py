"""Which socket of the chosen device is which track or send; play or tap to find out."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
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
from diaulos.app.widgets.level_window import LevelFigures, LevelWindow
from diaulos.app.widgets.tables import Cell, Table
from diaulos.errors import DiaulosError
from diaulos.figures import counted
from diaulos.rig.model import DeviceMap, Rig, Tie
from diaulos.session.edits import Edit, set_sample_rate, tie_sockets
from diaulos.session.model import Session
from diaulos.work.capture.mapping import Socket, sockets_of
from diaulos.work.capture.movers import Movement
from diaulos.work.capture.rates import other_rate, rate_words
from diaulos.work.ports import DeviceInfo, Found
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
        self.channel.addItem(
            f"proposed: {self._channel_words(row.socket.proposed, hears)}", AS_NUMBERED
        )
        for channel in range(1, self._has(hears) + 1):
            self.channel.addItem(self._channel_words(channel, hears), channel)
        choose(self.channel, row.rig.tied(self._device).get(row.socket.port, AS_NUMBERED))
        self._show_tie()

    def _show_tie(self) -> None:
        row = self._row
        able = row is not None and row.socket.hears and self._mover is not None and self._writable
        self.tie.setEnabled(able)
        words = "Tie to the input that moves (Enter)"
        if able and row is not None and self._mover is not None:
            words = f"Tie {row.socket.name} to input {self._mover + 1} (Enter)"
        self.tie.setText(words)

    def _on_channel(self) -> None:
        self._tie_to(int(self.channel.currentData()))

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
