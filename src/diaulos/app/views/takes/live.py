"""Hearing it live: software monitoring by a real device, from the Takes view."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from diaulos.app.dialogs.device_look import DeviceLook
from diaulos.app.jobs import Job, Jobs
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.number_field import NumberField
from diaulos.ids import BENCH
from diaulos.records import dataclass
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig
from diaulos.wiring import HeardLive
from diaulos.work.ports import CancelToken, Found, Progress
from diaulos.work.rigs.look import RigReport
from diaulos.work.takes.impulses import load_impulses
from diaulos.work.takes.live import (
    LATE_MS,
    LiveChoice,
    LiveLatency,
    heard_already,
    live_choices,
    live_latency,
    own_samples,
)
from diaulos.work.takes.notes import RecordingStore
from diaulos.work.takes.ready import Armed

TITLE = "heard live"
START_DB, LEAST_DB, MOST_DB = -20.0, -60.0, 0.0


@dataclass(frozen=True)
class _Shown:
    session: Session
    armed: tuple[Armed, ...]
    report: RigReport


class LiveRow(QWidget):
    """What is heard, how loud, how late; there is none in the simulated studio."""

    asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.switch = QPushButton()
        self.switch.setCheckable(True)
        self.switch.clicked.connect(lambda _on: self.asked.emit())
        self.what = combo("What is heard live", {}, least=14)
        self.level = NumberField()
        self.level.setRange(LEAST_DB, MOST_DB)
        self.level.setDecimals(0)
        self.level.setSuffix(" dB")
        self.level.setAccessibleName("Level of what is heard live")
        self.level.setToolTip(f"A new device begins at {START_DB:.0f} dB")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.switch)
        row.addWidget(self.what)
        row.addWidget(self.level)

    @property
    def choice(self) -> LiveChoice | None:
        """What is chosen."""
        found: LiveChoice | None = self.what.currentData()
        return found


class HearLive(QObject):
    """Opens a stream of its own, beside whatever records: on a sound server they do not meet."""

    said = Signal(str)
    failed = Signal(object)

    def __init__(
        self, row: LiveRow, jobs: Jobs, services: Services, store: RecordingStore,
        preferences: Preferences, parent: QObject,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.row, self._jobs, self._services, self._store = row, jobs, services, store
        self._preferences = preferences
        self._shown: _Shown | None = None
        self._found = Found(())
        self._token: CancelToken | None = None
        self._look = DeviceLook(services.devices, self)
        self._look.found.connect(self._on_found)
        row.asked.connect(self.toggle)
        row.what.activated.connect(lambda _at: self._changed())
        row.level.valueChanged.connect(lambda _value: self._on_level())
        row.setVisible(False)

    @property
    def on(self) -> bool:
        """Whether something is heard."""
        return self._token is not None

    def show(self, session: Session, armed: tuple[Armed, ...], report: RigReport) -> None:
        """What can be heard of what is armed; the choice stays where it can."""
        self._shown = _Shown(session, armed, report)
        device = self._preferences.device
        self.row.setVisible(device != BENCH and bool(armed))
        if device == BENCH:
            self.stop()
            return
        kept = self.row.choice
        names = {one.file: one.name for one in session.impulses}
        self.row.what.clear()
        for one in live_choices(armed, names):
            self.row.what.addItem(one.words, one)
        at = next((n for n in range(self.row.what.count())
                   if self.row.what.itemData(n) == kept), 0)  # fmt: skip
        self.row.what.setCurrentIndex(at)
        self.row.level.blockSignals(True)
        self.row.level.setValue(self._preferences.live_level(device))
        self.row.level.blockSignals(False)
        self._look.look()
        self._tell()

    def latency(self) -> LiveLatency | None:
        """How late what is chosen would be heard; None where nothing can be."""
        shown, choice = self._shown, self.row.choice
        if shown is None or choice is None:
            return None
        device = self._preferences.device
        there = self._found.device(device)
        block = there.block_frames[0] if there is not None and there.block_frames else 0
        one = next((one for one in shown.armed if one.port == choice.track), None)
        return live_latency(
            self._services.way_round(), shown.session.sample_rate_hz, block,
            there.latency_claimed_s if there is not None else None,
            own_samples(one) if one is not None else 0.0,
        )  # fmt: skip

    def toggle(self) -> None:
        """Hear it, or not any more."""
        if self.on:
            self.stop()
            self._tell()
            return
        shown, choice = self._shown, self.row.choice
        device, first, _ = self._preferences.sounding
        if device == BENCH or shown is None or choice is None:
            self.said.emit("The simulated studio is heard by nobody: choose a device in "
                           "Edit > Preferences > Sound.")  # fmt: skip
            self._tell()
            return
        if not first:
            self.said.emit("Choose the outputs to listen by first (Edit > Preferences > Sound).")
            self._tell()
            return
        token, level = CancelToken(), self.row.level.value()
        session, store, services = shown.session, self._store, self._services

        def work(progress: Progress, cancel: CancelToken) -> None:
            taps = choice.taps(session.sample_rate_hz, load_impulses(session, store))
            heard = HeardLive((choice.track,), (first - 1, first), level, taps)
            services.hear_live(
                session, recording_rig(session), heard,
                lambda: cancel.cancelled or token.cancelled,
            )  # fmt: skip

        self._token = token

        def done(_result: object) -> None:
            if self._token is token:
                self._token = None
            self._tell()

        def failed(error: Exception) -> None:
            done(None)
            self.failed.emit(error)

        self._jobs.start(Job(TITLE, work, done, failed, background=True))
        told = [one for one in (self._words(), self._already()) if one]
        self.said.emit(" ".join(told))
        self._tell()

    def stop(self) -> None:
        """Nothing is heard any more."""
        if self._token is not None:
            self._token.cancel()
            self._token = None

    def _changed(self) -> None:
        """Another track, or another level: what is heard changes with it."""
        if self.on:
            self.stop()
            self.toggle()
        self._tell()

    def _on_level(self) -> None:
        self._preferences.keep_live_level(self._preferences.device, self.row.level.value())
        self._changed()

    def _on_found(self, found: Found) -> None:
        self._found = found
        self._tell()

    def _words(self) -> str:
        late = self.latency()
        choice = self.row.choice
        if late is None or choice is None:
            return ""
        told = f"{choice.words} is heard live. {late.sentence}"
        if late.known and late.ms > LATE_MS:
            told += " A player feels that: a shorter block is quicker (Preferences, Sound)."
        return told

    def _already(self) -> str:
        shown, choice = self._shown, self.row.choice
        if shown is None or choice is None:
            return ""
        one = next((one for one in shown.armed if one.port == choice.track), None)
        return heard_already(shown.report, one) if one is not None else ""

    def _tell(self) -> None:
        """The latency stands on the switch before anybody presses it."""
        late = self.latency()
        words = f", {late.words}" if late is not None else ""
        self.row.switch.setChecked(self.on)
        self.row.switch.setText(f"{'Heard' if self.on else 'Hear'} live{words} (Y)")
        choice = self.row.choice
        self.row.what.setToolTip(tip(choice.words) if choice is not None else "")
        already = self._already()
        how = (
            "From the string to the ear: the device's way round as measured (Preferences, Sound), "
            "or as its driver claims, and the latency of a software amplifier on the way"
        )
        self.row.switch.setToolTip(tip(f"{how}\n{already}".rstrip()))
