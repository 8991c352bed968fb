"""The Instruments view: a list, what the inputs do, the values; strength, trims, the pad."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from PySide6.QtCore import QItemSelectionModel, Qt, QTimer
from PySide6.QtWidgets import (
    QHBoxLayout,
    QListView,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.jobs import Job
from diaulos.app.view import ViewContext
from diaulos.app.views.instruments.by_sweeps import BySweeps
from diaulos.app.views.instruments.circuit_form import CircuitForm
from diaulos.app.views.instruments.drive_page import DrivePage
from diaulos.app.views.instruments.instrument_list import InstrumentDelegate, InstrumentModel
from diaulos.app.views.instruments.loading_page import LoadingFigures, LoadingPage, work_out
from diaulos.app.views.instruments.trims_page import TrimsPage
from diaulos.app.widgets.holders import Split, Tabs
from diaulos.app.widgets.in_hand import InHand
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.own_words import own_word
from diaulos.app.widgets.painted import most_width
from diaulos.app.widgets.wrapping import scrolled
from diaulos.circuit.loading import Load
from diaulos.figures import number
from diaulos.ids import BENCH, free_id
from diaulos.quantities import RESISTANCE, show
from diaulos.records import dataclass
from diaulos.session import edits
from diaulos.session.instrument import Instrument, StrengthReading
from diaulos.session.model import Session
from diaulos.session.representative import representative
from diaulos.session.tone_stage import stage_of
from diaulos.work.instruments.strength import (
    read_strum,
    record_strength,
    store_strum,
    strength_reading,
)
from diaulos.work.instruments.trims import solve_trims, trim_rows, trims_table
from diaulos.work.ports import CancelToken, FileNotes, Progress
from diaulos.work.takes.ready import calibration_of, dry_input_of

if TYPE_CHECKING:
    from diaulos.app.dialogs.measure import MeasureRequest

FIGURES_DELAY_MS = 40
STRUM_SECONDS = 7.0


@dataclass(frozen=True)
class _Measured:
    """A reading, and for whom."""

    instrument_id: str
    reading: StrengthReading


class InstrumentsView(BySweeps):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "instruments"

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self._build()
        self._wire()

    def begin(self) -> None:
        """Show the session for the first time."""
        session = self._document.session
        self._on_changed(None, session)
        if session.instruments:
            self.list.setCurrentIndex(self.model.index(0))

    # --- building ---

    def _build(self) -> None:
        self.model = InstrumentModel()
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setItemDelegate(InstrumentDelegate(self.list))
        self.list.setAccessibleName("Instruments")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._empty = TextLabel(
            "No instruments yet.\nAdd one: it starts with representative values."
        )
        self._empty.setProperty("role", "muted")
        self._empty.setWordWrap(True)
        self.add = QPushButton("Add")
        self.add.setToolTip("Ctrl+Shift+A")
        self.duplicate = QPushButton("Duplicate")
        self.duplicate.setToolTip("Ctrl+D")
        self.remove = QPushButton("Remove")
        self.remove.setToolTip("Ctrl+Del. Undo brings it back.")
        self.form = CircuitForm()
        self._between()
        self.loading = LoadingPage()
        self.plot = self.loading.plot
        self._between()
        self.trims = TrimsPage()
        self.drive = DrivePage()
        self._between()
        self.pages = Tabs()
        self.pages.setUsesScrollButtons(False)
        self.pages.setElideMode(Qt.TextElideMode.ElideRight)
        self.pages.addTab(scrolled(self.loading, "Loading"), "Loading (1)")
        index = self.pages.addTab(scrolled(self.trims, "Strength and trims"), "Strength (2)")
        self.pages.setTabToolTip(index, f"{own_word('strength')}\n{own_word('trim')}")
        self.pages.addTab(scrolled(self.drive, "Pad and tone"), "Pad, tone (3)")
        self.pages.setAccessibleName("Pages")
        self.pages.tabBar().setAccessibleName("Pages")
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 8, 0)
        column.setSpacing(5)
        title = TextLabel("Instruments")
        title.setProperty("role", "title")
        column.addWidget(title)
        column.addWidget(self._empty)
        column.addWidget(self.list, 1)
        self.hand = InHand(upright=True)
        column.addWidget(self.hand)
        row = QHBoxLayout()
        row.setSpacing(4)
        for button in (self.add, self.duplicate, self.remove):
            button.setProperty("tight", "true")
            row.addWidget(button)
        column.addLayout(row)
        middle = QWidget()
        centre = QVBoxLayout(middle)
        centre.setContentsMargins(8, 0, 8, 0)
        centre.addWidget(self.pages, 1)
        split = Split(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        for part in (left, middle, self.form):
            split.addWidget(part)
        most_width(left, 226)
        split.setSizes([180, 700, 300])
        split.setStretchFactor(1, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 6, 8, 4)
        whole.addWidget(split)

    def _wire(self) -> None:
        self._figures_timer = QTimer(self)
        self._figures_timer.setSingleShot(True)
        self._figures_timer.setInterval(FIGURES_DELAY_MS)
        self._figures_timer.timeout.connect(self._show_figures)
        self._document.changed.connect(self._on_changed)
        self.list.selectionModel().currentChanged.connect(lambda *_: self._show())
        self.form.edit_asked.connect(self._apply)
        self.form.said.connect(self.said)
        self.hand.edit_asked.connect(self._apply)
        self.trims.edit_asked.connect(self._apply)
        self.trims.measure_asked.connect(self.ask_measure)
        self.trims.strum_asked.connect(self.measure_on_bench)
        self.trims.solve_asked.connect(self.solve_trims)
        self.trims.sheet_asked.connect(self.send_to_sheet)
        self.drive.edit_asked.connect(self._apply)
        self.drive.make_up_asked.connect(self.measure_make_up)
        self.drive.export_asked.connect(self.ask_export_tone)
        self.drive.read_asked.connect(self.ask_read_tone)
        self.loading.figures_asked.connect(self._figures_timer.start)
        self.loading.impedance_asked.connect(
            lambda ohm: self._apply(edits.set_tone_stage(impedance_ohm=ohm), "")
        )
        self.add.clicked.connect(self.add_instrument)
        self.duplicate.clicked.connect(self.duplicate_instrument)
        self.remove.clicked.connect(self.remove_instrument)
        self.pages.currentChanged.connect(lambda _i: self._show())

    # --- what is chosen ---

    @property
    def instrument(self) -> Instrument | None:
        """The chosen instrument, as it is in the session now."""
        row = self.model.item(self.list.currentIndex().row())
        return row.instrument if row else None

    @property
    def settled(self) -> bool:
        """Whether the figures of what is chosen are on screen."""
        return not self._figures_timer.isActive() and self._jobs.quiet

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.list.setFocus()
        self.said.emit(
            "Arrows choose an instrument, 1 to 3 a page. M measures its strength, T calculates "
            "trims."
        )

    def choose(self, instrument_id: str) -> None:
        """Choose an instrument."""
        row = self.model.row_of(instrument_id)
        if row >= 0:
            self.list.setCurrentIndex(self.model.index(row))

    def show_loading(self) -> None:
        """The loading page."""
        self.pages.setCurrentIndex(0)

    def show_trims(self) -> None:
        """The strength and trims page."""
        self.pages.setCurrentIndex(1)

    def show_drive(self) -> None:
        """The pad and tone page."""
        self.pages.setCurrentIndex(2)

    # --- following the document ---

    def _on_changed(self, before: Session | None, session: Session) -> None:
        self._tell_loops(session)
        if before is not None and _same(before, session):
            return
        chosen = self.instrument.id if self.instrument else ""
        row_before = self.list.currentIndex().row()
        self.model.show(session, trim_rows(session))
        row = self.model.row_of(chosen)
        if row < 0 and session.instruments:
            row = min(max(row_before, 0), len(session.instruments) - 1)
        if row >= 0:
            blocked = self.list.selectionModel().blockSignals(True)
            self.list.selectionModel().setCurrentIndex(
                self.model.index(row), QItemSelectionModel.SelectionFlag.ClearAndSelect
            )
            self.list.selectionModel().blockSignals(blocked)
            self.list.viewport().update()
        self._show()

    def menus(self) -> tuple[tuple[QWidget, tuple[str, ...]], ...]:
        """Of an instrument."""
        return ((self.list, ("measure", "strum", "duplicate_instrument", "remove_instrument")),)

    def _page(self) -> QWidget | None:
        """The page that is shown."""
        area = self.pages.currentWidget()
        return area.widget() if isinstance(area, QScrollArea) else area

    def _show(self) -> None:
        session, instrument = self._document.session, self.instrument
        writable = not self._document.read_only
        self._empty.setVisible(not session.instruments)
        self.hand.show_session(session, writable)
        self.form.setEnabled(instrument is not None and writable)
        self.add.setEnabled(writable)
        for button in (self.duplicate, self.remove):
            button.setEnabled(instrument is not None and writable)
        if instrument is not None:
            stage = stage_of(session)
            self.form.show_instrument(session, instrument, show(stage.impedance_ohm, RESISTANCE))
            if instrument.position is not None and self._page() is self.loading:
                self.loading.show_curves(session, instrument)
        self._show_page()

    def _show_page(self) -> None:
        """The page that is seen; the others follow when they are shown."""
        session, instrument = self._document.session, self.instrument
        page = self._page()
        if page is self.trims:
            self.trims.show_all(session, instrument, trim_rows(session))
        elif page is self.drive:
            self.drive.show_all(session, instrument)
        else:
            self._figures_timer.start()

    def _show_figures(self) -> None:
        session, instrument = self._document.session, self.instrument
        if instrument is None or instrument.position is None:
            self.loading.plot.clear("Add an instrument to see what inputs do to it.")
            self.loading.table.setRowCount(0)
            return
        wanted = self.loading.wanted.value

        def work(progress: Progress, cancel: CancelToken) -> LoadingFigures:
            return work_out(session, instrument, wanted, cancel.check)

        def done(figures: LoadingFigures) -> None:
            if self.instrument == instrument:
                self.loading.show_figures(figures)

        self._jobs.start(Job("loading", work, done, background=True))

    # --- edits ---

    def _apply(self, edit: edits.Edit, merge: str = "") -> None:
        if not self._document.read_only and not self._document.apply(edit, merge=merge):
            self._show()

    def add_instrument(self) -> None:
        """One more, with representative values."""
        session = self._document.session
        made = representative(_new_id(session, "instrument"), "New instrument")
        self._apply(edits.add_instrument(made))
        self.choose(made.id)
        self.form.name.setFocus()
        self.form.name.selectAll()

    def duplicate_instrument(self) -> None:
        """The chosen one again, under another name; its readings stay with the first."""
        instrument = self.instrument
        if instrument is not None:
            ident = _new_id(self._document.session, instrument.id)
            name = f"{instrument.name} (copy)"[:200]
            made = instrument.model_copy(update={"id": ident, "name": name, "strength": ()})
            self._apply(edits.add_instrument(made))
            self.choose(ident)

    def remove_instrument(self) -> None:
        """The chosen one out of the session."""
        instrument = self.instrument
        if instrument is not None:
            self._apply(edits.remove_instrument(instrument.id))
            self.said.emit(f"{instrument.name} is removed. Ctrl+Z brings it back.")

    def solve_trims(self) -> None:
        """Every trim to the step that brings its peak closest to the target."""
        session = self._document.session
        solved = solve_trims(session)
        if not solved:
            self.said.emit("No instrument has a calibrated reading yet. M measures one.")
            return
        self._apply(edits.set_trims(solved))
        rows = {row.instrument_id: row for row in trim_rows(self._document.session)}
        worst = max(abs(rows[i].left_over_db or 0.0) for i in solved)
        self.show_trims()
        self.said.emit(
            f"{len(solved)} trims set; at most {number(worst)} dB is left over to the target."
        )

    # --- work ---

    def send_to_sheet(self) -> None:
        """The trims as profiles into the session's sheets."""
        session, store = self._document.session, self._document.store

        def work(progress: Progress, cancel: CancelToken) -> str:
            return store.write_sheet("trims.csv", trims_table(session).csv())

        self._jobs.start(Job("Sheet", work, lambda file: self.said.emit(f"Written: {file}.")))

    def ask_measure(self) -> None:
        """Ask for a recording of hard strumming and measure it."""
        from diaulos.app.dialogs.measure import MeasureDialog

        instrument = self.instrument
        if instrument is None:
            return
        dialog = MeasureDialog(self._document.session, instrument, self)
        if dialog.exec():
            self.measure(dialog.request())

    def measure(self, request: MeasureRequest) -> None:
        """Measure a recording as a reading of the chosen instrument."""
        instrument = self.instrument
        if instrument is None:
            return
        store, files = self._document.store, self._services.files
        made_at = self._services.clock()
        now = made_at.isoformat(timespec="seconds")
        notes = FileNotes(f"{instrument.name}; {request.label}", made_at, history="strum")

        def work(progress: Progress, cancel: CancelToken) -> _Measured:
            progress(0.2, "Measuring strength")
            source = (
                store.open_audio(request.take_file)
                if request.path is None
                else files.open(request.path)
            )
            strum = read_strum(source, min(request.channel, source.channels - 1))
            reading = strength_reading(
                strum.strength, instrument.position_id, request.label, now,
                request.full_scale_dbu, store_strum(store, strum, notes), instrument.controls,
            )  # fmt: skip
            return _Measured(instrument.id, reading)

        self.show_trims()
        self._jobs.start(Job("Measuring", work, self._on_measured))

    def measure_on_bench(self) -> None:
        """Some seconds of strumming: the simulated player's, or somebody's by a real device."""
        instrument, session = self.instrument, self._document.session
        if instrument is None or instrument.position is None:
            return
        rate, number_ = session.sample_rate_hz, len(instrument.strength) + 1
        made_at, store = self._services.clock(), self._document.store
        now = made_at.isoformat(timespec="seconds")
        services = self._services
        real = services.device() != BENCH
        label = f"Strum {number_}" if real else f"Bench strum {number_}"
        history = services.device() if real else BENCH
        notes = FileNotes(f"{instrument.name}; {label}", made_at, history=history)

        def work(progress: Progress, cancel: CancelToken) -> _Measured:
            if real:
                rig, armed = dry_input_of(session, instrument.id)
                live = services.live(rig)
                assert live is not None
                backend, full_scale_dbu = live.hear((armed.port,)), calibration_of(armed)[0]
            else:
                progress(0.05, "Simulating")
                backend, full_scale_dbu = services.strums(instrument, Load(1e6, 50e-12), rate)
            strum = record_strength(backend, rate, STRUM_SECONDS, progress, cancel)
            reading = strength_reading(
                strum.strength, instrument.position_id, label, now, full_scale_dbu,
                store_strum(store, strum, notes), instrument.controls,
            )  # fmt: skip
            return _Measured(instrument.id, reading)

        self.show_trims()
        self._jobs.start(Job("Strumming", work, self._on_measured, captures=True))

    def _on_measured(self, measured: _Measured) -> None:
        edit = edits.add_strength(measured.instrument_id, measured.reading)
        if self._document.apply(edit, journal=True):
            reading = measured.reading
            dbu = "" if reading.peak_dbu is None else f", {number(reading.peak_dbu)} dBu"
            self.said.emit(f"{reading.label}: peak {number(reading.peak_dbfs)} dBFS{dbu}.")

    def close_down(self) -> None:
        """The window is closing, or another session takes its place."""
        self._figures_timer.stop()


def _same(before: Session, after: Session) -> bool:
    """Whether nothing changed that this view shows."""
    return all(
        getattr(before, field) is getattr(after, field)
        for field in ("instruments", "tone_stage", "compared_inputs", "tones", "rigs",
                      "recording_rig", "current_rig", "trim_said",
                      "reference_instrument", "takes", "target_peak_dbfs")
    )  # fmt: skip


def _new_id(session: Session, base: str) -> str:
    stem = re.sub(r"_\d+$", "", base)[:32]
    return free_id({i.id for i in session.instruments}, stem, between="_")
