"""Listening: what is heard, at which level, over which stretch."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QPushButton, QSlider, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_width
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import clock, number
from diaulos.work.listening.player import LOUDEST_LEVEL_DB, START_LEVEL_DB

CHANNELS = (("di", "DI"), ("reference", "Reference"), ("pass", "Pass"))


class PlayerBar(QWidget):
    """Buttons and a level; it asks, the view acts."""

    play_asked = Signal()
    heard_changed = Signal()
    level_changed = Signal(float)
    loop_changed = Signal(bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        row = WrappingRow(self)
        self.play_button = QPushButton("Play (Space)")
        fix_width(self.play_button, 118)
        self.play_button.clicked.connect(self.play_asked)
        row.addWidget(self.play_button)
        self._buttons: dict[str, QPushButton] = {}
        for number_, (key, name) in enumerate(CHANNELS, start=1):
            button = QPushButton(f"{name} ({number_})")
            button.setCheckable(True)
            button.setAccessibleName(f"Hear {name}")
            button.clicked.connect(lambda _=False, k=key: self._on_button(k))
            self._buttons[key] = button
            row.addWidget(button)
        self._solo = QCheckBox("Solo")
        self._solo.setChecked(True)
        self._solo.setToolTip("One at a time. Without it, what is chosen is heard together.")
        self._solo.toggled.connect(self._on_solo)
        row.addWidget(self._solo)
        self._loop = QCheckBox("Loop (L)")
        self._loop.setToolTip("Repeats what the waveform shows.")
        self._loop.toggled.connect(self.loop_changed)
        row.addWidget(self._loop)
        row.add_stretch()
        self._time = TextLabel()
        row.addWidget(self._time)
        self._level = QSlider(Qt.Orientation.Horizontal)
        self._level.setRange(-60, int(LOUDEST_LEVEL_DB))
        self._level.setPageStep(6)
        fix_width(self._level, 110)
        self._level.setAccessibleName("Listening level in dB")
        self._level.valueChanged.connect(self._on_level)
        self._level_text = TextLabel()
        self._level_text.setToolTip("Gain of what is heard, nothing that is recorded or exported")
        fix_width(self._level_text, 58)
        row.add_pair("Level", self._level, self._level_text)
        self.show_level(START_LEVEL_DB)
        self._buttons["pass"].setChecked(True)
        self.show_time(0, 0, 48_000)

    @property
    def heard(self) -> set[str]:
        """Keys of what is chosen to be heard."""
        return {key for key, button in self._buttons.items() if button.isChecked()}

    def button(self, key: str) -> QPushButton:
        """The button of a channel."""
        return self._buttons[key]

    def choose(self, key: str) -> None:
        """As if its button were pressed."""
        if self._buttons[key].isEnabled():
            self._buttons[key].click()

    def toggle_loop(self) -> None:
        """As if its box were pressed."""
        self._loop.toggle()

    @property
    def looping(self) -> bool:
        """Whether what is shown repeats."""
        return self._loop.isChecked()

    def set_available(self, keys: set[str]) -> None:
        """Which channels there are."""
        for key, button in self._buttons.items():
            button.setEnabled(key in keys)
        self.play_button.setEnabled(bool(keys))
        if keys and not self.heard & keys:
            first = "pass" if "pass" in keys else "di"
            self._buttons[first].setChecked(True)
            self._on_button(first)

    def show_playing(self, playing: bool) -> None:
        """The button says what it will do."""
        self.play_button.setText("Pause (Space)" if playing else "Play (Space)")

    def show_time(self, frame: int, frames: int, rate_hz: int) -> None:
        """Where playback is."""
        self._time.setText(f"{clock(frame / rate_hz)} / {clock(frames / rate_hz)}")

    def show_level(self, level_db: float) -> None:
        """The level, without asking for it."""
        blocked = self._level.blockSignals(True)
        self._level.setValue(round(level_db))
        self._level.blockSignals(blocked)
        self._level_text.setText(f"{number(level_db, 0)} dB")

    def _on_level(self, value: int) -> None:
        self._level_text.setText(f"{number(float(value), 0)} dB")
        self.level_changed.emit(float(value))

    def _on_button(self, key: str) -> None:
        if self._solo.isChecked():
            for other, button in self._buttons.items():
                button.setChecked(other == key)
        self.heard_changed.emit()

    def _on_solo(self, on: bool) -> None:
        if on:
            keys = [key for key, _ in reversed(CHANNELS) if self._buttons[key].isChecked()]
            if keys:
                self._on_button(keys[0])
