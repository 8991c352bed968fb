"""Which device is recorded from and reamped through, and how long its way round is."""

from __future__ import annotations

import threading

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout

from diaulos.app.dialogs.device_look import DeviceLook
from diaulos.app.preferences import STUDIO, Preferences
from diaulos.app.services import Services
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import WholeField
from diaulos.app.widgets.painted import least_width
from diaulos.app.widgets.wrapping import Flowing
from diaulos.errors import CancelledError, DiaulosError
from diaulos.figures import counted, number, plain
from diaulos.ids import BENCH
from diaulos.work.capture.roundtrip import RoundTrip
from diaulos.work.capture.smallest import BlockTrial
from diaulos.work.capture.trips import WayRound
from diaulos.work.ports import CancelToken, DeviceInfo, Found

WORK_MS = 16
LOOK_MS = 3_000
"""How often it is looked whether something was plugged in or is gone."""


class _Wires(QObject):
    """From the threads that ask to the window."""

    measured = Signal(str, object)
    failed = Signal(object)
    tried = Signal(object)
    told = Signal(float, str)


class AudioChoice(Flowing):
    """The list of devices, asked for beside the window; nothing is played before a button is
    pressed."""

    changed = Signal(str)
    """Another device was chosen."""

    def __init__(self, preferences: Preferences, services: Services) -> None:
        super().__init__()
        self._preferences, self._services = preferences, services
        self._wires = _Wires()
        queued = Qt.ConnectionType.QueuedConnection
        self._wires.measured.connect(self._on_measured, queued)
        self._wires.failed.connect(self._on_failed, queued)
        self._wires.tried.connect(self._on_tried, queued)
        self._wires.told.connect(self._on_told, queued)
        self._devices: dict[str, DeviceInfo] = {}
        self._look = DeviceLook(services.devices, self)
        self._look.found.connect(self._on_found)
        self._often = QTimer(self)
        self._often.setInterval(LOOK_MS)
        self._often.timeout.connect(self.look)
        self._token: CancelToken | None = None
        self.device = combo("Device", {BENCH: STUDIO}, least=26)
        self.device.activated.connect(self._on_device)
        self.again = QPushButton("Look again")
        self.again.setAutoDefault(False)
        self.again.clicked.connect(self.look)
        self.told = TextLabel("Looking for devices\N{HORIZONTAL ELLIPSIS}")
        self.told.setProperty("role", "muted")
        self.told.setWordWrap(True)
        least_width(self.told, 380)
        self.out, self.back = WholeField(), WholeField()
        for field, name in ((self.out, "Output"), (self.back, "Input")):
            field.setRange(1, 64)
            field.setAccessibleName(f"{name} of the cable, from 1")
        self.measure = QPushButton("Measure round trip")
        self.measure.setAutoDefault(False)
        self.measure.setToolTip(
            "Plug a cable from this output to this input. A quiet sweep goes round twice; never "
            "over a speaker output, and with phantom power off"
        )
        self.measure.clicked.connect(self._on_measure)
        self.shortest = QPushButton("Find shortest block")
        self.shortest.setAutoDefault(False)
        self.shortest.setToolTip(
            "Runs 64, 128, 256 ... frames for 30 s each while this window works, until one loses "
            "nothing. Silence goes out; a server has its own block back afterwards"
        )
        self.shortest.clicked.connect(self._on_shortest)
        self._work = QTimer(self)
        self._work.setInterval(WORK_MS)
        self._work.timeout.connect(lambda: self.window().update())
        self.trip = TextLabel()
        self.trip.setWordWrap(True)
        self.trip.setToolTip(
            "From what is put out to what comes in: an overdub is moved by it. Measured as the "
            "latency of a sweep, beside the driver's claim"
        )
        self.listen = combo("Listen by", {}, least=20)
        self.listen.setToolTip(
            "Where takes and passes are heard; on a device that is new it begins at -20 dB. A "
            "reamp never sends to these outputs"
        )
        self.listen.activated.connect(self._on_listen)
        first, second, third = QHBoxLayout(), QHBoxLayout(), QHBoxLayout()
        third.addWidget(TextLabel("Listen by"))
        third.addWidget(self.listen, 1)
        self.block = combo("Block", {}, least=10)
        self.block.setToolTip(
            "Frames that the computer works on at once. Longer blocks lose nothing on a busy "
            "computer; they cost delay only where the software is heard"
        )
        self.block.activated.connect(self._on_block)
        third.addWidget(TextLabel("Block"))
        third.addWidget(self.block)
        first.addWidget(self.device, 1)
        first.addWidget(self.again)
        for words, field in (("Output", self.out), ("to input", self.back)):
            second.addWidget(TextLabel(words))
            second.addWidget(field)
        second.addWidget(self.measure)
        second.addWidget(self.shortest)
        second.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for row in (first, third, second):
            column.addLayout(row)
        column.addWidget(self.trip)
        column.addWidget(self.told)
        self._show()
        self.look()
        self._often.start()

    @property
    def busy(self) -> bool:
        """Whether a sweep is under way."""
        return self._token is not None

    def look(self) -> None:
        """Ask what is there, in a thread: a server may take its time."""
        if not self.busy and not self.device.view().isVisible():
            self._look.look()

    def close_down(self) -> None:
        """The page goes: a sweep ends."""
        self._often.stop()
        if self._token is not None:
            self._token.cancel()

    def _on_found(self, found: Found) -> None:
        self._devices = {one.name: one for one in found.devices if one.backend != BENCH}
        chosen = self._preferences.device
        self.device.clear()
        self.device.addItem(STUDIO, BENCH)
        for name, one in self._devices.items():
            words = f"{name} ({one.backend}: {one.inputs} in, {one.outputs} out)"
            self.device.addItem(words, name)
        if chosen != BENCH and chosen not in self._devices:
            # It is waited for, not forgotten.
            self.device.addItem(f"{chosen} (not there now)", chosen)
        choose(self.device, chosen)
        self.told.setText(" ".join(found.missing))
        self._show()

    def _on_listen(self) -> None:
        self._preferences.listen_by(self._preferences.device, int(self.listen.currentData()))
        self.changed.emit(self._preferences.device)

    def _on_block(self) -> None:
        self._preferences.keep_block(self._preferences.device, int(self.block.currentData()))
        self._show()
        self.changed.emit(self._preferences.device)

    def _show_blocks(self, there: DeviceInfo | None) -> None:
        self.block.clear()
        blocks = there.block_frames if there is not None else ()
        for frames in sorted(blocks):
            self.block.addItem(f"{frames} frames", frames)
        device = self._preferences.device
        choose(self.block, self._preferences.block_of(device) or (blocks[0] if blocks else 0))
        # One alone is the server's own: it is set there.
        self.block.setEnabled(len(blocks) > 1)

    def _show_outputs(self, there: DeviceInfo | None) -> None:
        device = self._preferences.device
        self.listen.clear()
        self.listen.addItem("the system's output", 0)
        chosen = self._preferences.listens_by(device)
        count = there.outputs if there is not None else chosen + 1
        if device != BENCH:
            for first in range(1, count, 2):
                self.listen.addItem(f"its outputs {first} and {first + 1}", first)
        choose(self.listen, chosen)
        self.listen.setEnabled(device != BENCH)

    def _on_device(self) -> None:
        self._preferences.device = self.device.currentData()
        self._show()
        self.changed.emit(self._preferences.device)

    def _show(self) -> None:
        device = self._preferences.device
        there = self._devices.get(device)
        self._show_outputs(there)
        self._show_blocks(there)
        for widget in (self.out, self.back, self.measure, self.shortest):
            widget.setEnabled(there is not None or self.busy)
        if there is not None:
            self.out.setMaximum(max(1, there.outputs))
            self.back.setMaximum(max(1, there.inputs))
        if device == BENCH:
            self.trip.setText("The simulated studio plays the rig; nothing is plugged in.")
            return
        self.trip.setText(self._trip_words(device, there))

    def _trip_words(self, device: str, there: DeviceInfo | None) -> str:
        """What is known of the way round as the device runs now."""
        if there is None:
            return f"{device} is waited for. It is used as soon as it is there."
        rate = there.rates_hz[0]
        block = self._preferences.block_of(device) or there.block_frames[0]
        at = f"at {rate} Hz, {block} frames"
        measured = WayRound(device, self._services.trips.known()).measured(rate, block)
        if measured is not None:
            return f"Round trip {at}: {plain(measured.samples, 2)} samples, measured."
        if there.latency_claimed_s is None:
            return f"Round trip {at}: never measured."
        claimed = there.latency_claimed_s * rate
        return (
            f"Round trip {at}: {number(claimed, 0)} samples as the driver claims; never measured."
        )

    def _on_measure(self) -> None:
        if self._token is not None:
            self._token.cancel()
            return
        device, token = self._preferences.device, CancelToken()
        out, back = self.out.value(), self.back.value()
        measure, wires = self._services.measure_trip, self._wires
        block = self._preferences.block_of(device)
        self._token = token
        self.measure.setText("Cancel")
        self.trip.setText("Measuring\N{HORIZONTAL ELLIPSIS} a quiet sweep goes round, twice.")

        def work() -> None:
            try:
                wires.measured.emit(device, measure(device, out, back, token, 0, block))
            except Exception as error:
                wires.failed.emit(error)

        threading.Thread(target=work, name="round trip", daemon=True).start()

    def _on_shortest(self) -> None:
        if self._token is not None:
            self._token.cancel()
            return
        device, token = self._preferences.device, CancelToken()
        attempt, wires = self._services.try_blocks, self._wires
        self._token = token
        self.shortest.setText("Cancel")
        self.measure.setEnabled(False)
        self._work.start()

        def work() -> None:
            try:
                wires.tried.emit(attempt(device, token, wires.told.emit))
            except Exception as error:
                wires.failed.emit(error)

        threading.Thread(target=work, name="blocks", daemon=True).start()

    def _on_told(self, done: float, words: str) -> None:
        if self._token is not None:
            self.trip.setText(f"{words}, {done:.0%} of all\N{HORIZONTAL ELLIPSIS}")

    def _on_tried(self, trials: tuple[BlockTrial, ...]) -> None:
        self._ended()
        self._show()
        told = [
            f"{one.block_frames} frames: "
            + ("nothing lost" if one.clean else f"lost {counted(max(1, one.xruns), 'time')}")
            for one in trials
        ]
        last = trials[-1]
        verdict = (
            f"The shortest block that lost nothing in {last.seconds:.0f} s is "
            f"{last.block_frames} frames."
            if last.clean
            else "Every block lost something: see the server's rights, and end what else runs."
        )
        self.trip.setText(f"{verdict} {'; '.join(told)}.")

    def _ended(self) -> None:
        self._token = None
        self._work.stop()
        self.measure.setText("Measure round trip")
        self.shortest.setText("Find shortest block")

    def _on_measured(self, device: str, found: RoundTrip) -> None:
        self._ended()
        self._show()
        ms = 1000.0 * found.samples / found.rate_hz
        turned = ", turned" if found.polarity < 0 else ""
        self.trip.setText(
            f"Round trip: {plain(found.samples, 2)} samples, {plain(ms, 2)} ms, measured to "
            f"{number(found.error_samples, 3)}{turned}. "
            f"The driver claims {plain(found.claimed_samples, 0)}."
        )

    def _on_failed(self, error: Exception) -> None:
        self._ended()
        self._show()
        if isinstance(error, CancelledError):
            return
        words = str(error) if isinstance(error, DiaulosError) else type(error).__name__
        self.trip.setText(words)
