"""What is chosen: a device's ports, what goes into one of them, its settings, its notices."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.views.rig.port_settings import PortSettings
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.holders import Tabs
from diaulos.app.widgets.labels import TextLabel, tip
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.app.widgets.wrapping import scrolled
from diaulos.figures import counted
from diaulos.quantities import GAIN, LEVEL, POWER, RESISTANCE, show
from diaulos.rig.fits import Fit, partners
from diaulos.rig.graph import Plug, RigGraph
from diaulos.rig.model import (
    AUDIO_CLASSES,
    Cable,
    CableKind,
    Device,
    Direction,
    PortRef,
    SignalClass,
)
from diaulos.rig.printed import Printed, converter_of, printed
from diaulos.rig.safety import at_device
from diaulos.session.instrument import Instrument

REF = Qt.ItemDataRole.UserRole


class PortPanel(PortSettings):
    """The chosen device. Asks for edits; holds nothing of the rig itself."""

    plug_asked = Signal(object, object)
    unplug_asked = Signal(str)
    cable_asked = Signal(str, str)
    port_figure_asked = Signal(object, str, object)
    printed_asked = Signal(object, str, object)
    ways_asked = Signal()
    rename_asked = Signal(str, str)
    notice_asked = Signal(str, bool)
    port_chosen = Signal(object)
    device_chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._graph: RigGraph | None = None
        self._instruments: tuple[Instrument, ...] = ()
        self._device = ""
        self._port: PortRef | None = None
        self._fits: tuple[Fit, ...] = ()
        self._writable = True
        self._free_shown = False
        self._shape: tuple[object, ...] = ()
        self._fields: dict[str, QComboBox | QDoubleSpinBox] = {}
        self._names: dict[str, TextLabel] = {}
        self._build()
        self.pages.currentChanged.connect(lambda _i: self._show_page())

    def _build(self) -> None:
        self.device_box = combo("Device", least=16)
        self.device_box.activated.connect(
            lambda _i: self.device_chosen.emit(self.device_box.currentData())
        )
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the device")
        self.name.setMaxLength(120)
        self.name.editingFinished.connect(self._on_name)
        self.ports = QListWidget()
        self.ports.setAccessibleName("Ports of the device")
        self.ports.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.ports.currentItemChanged.connect(self._on_port)
        self.ports.itemClicked.connect(self._on_head)
        self.ports.itemActivated.connect(self._on_head)
        self.question = TextLabel("What goes into this port?")
        self.question.setProperty("role", "title")
        self.question.setWordWrap(True)
        self.partner = combo("What goes into this port?", least=18)
        self.partner.currentIndexChanged.connect(self._on_partner)
        self.why = TextLabel()
        self.why.setWordWrap(True)
        self.why.setProperty("role", "reason")
        self.why.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.plug = QPushButton("Plug in")
        self.plug.setToolTip("Enter in the list does the same.")
        self.plug.clicked.connect(self._ask_plug)
        self.unplug = QPushButton("Unplug")
        self.unplug.clicked.connect(self._ask_unplug)
        self.ways = QPushButton("Ways in\N{HORIZONTAL ELLIPSIS} (W)")
        self.ways.setToolTip(
            "What this source can go through into this input (jack, DI box, isolator, reamp box), "
            "at each position of its switch: level, room, gain, noise."
        )
        self.ways.clicked.connect(self.ways_asked)
        self.ohm = QuantityField(RESISTANCE, "Impedance of the port")
        self.ohm.changed.connect(partial(self._on_figure, "impedance_ohm"))
        self.most = QuantityField(LEVEL, "Level at which the port clips", optional=True)
        self.most.changed.connect(partial(self._on_figure, "max_dbu"))
        self.sheet = {
            name: QuantityField(quantity, words)
            for name, quantity, words in (
                ("maximum_dbu", LEVEL, "Maximum input level at least gain, as printed"),
                ("gain_minimum_db", GAIN, "Least gain of the input"),
                ("gain_maximum_db", GAIN, "Most gain of the input"),
                ("gain_step_db", GAIN, "Step of the gain"),
            )
        }
        for name, field in self.sheet.items():
            field.changed.connect(partial(self._on_printed, name))
        self.sheet["maximum_dbu"].line.setToolTip(
            "As the data sheet prints it for this mode, with the gain at its least and the pad "
            "out: there the converter is full. It moves every figure behind it."
        )
        self.watts = QuantityField(POWER, "Power of the port", optional=True)
        self.watts.changed.connect(partial(self._on_figure, "power_w"))
        self.facts = TextLabel()
        self.facts.setWordWrap(True)
        self.facts.setProperty("role", "muted")
        self.facts.setToolTip("The port's own data, by which levels are planned: see Settings")
        self.facts.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.pages = Tabs()
        self.pages.setUsesScrollButtons(False)
        self.pages.setElideMode(Qt.TextElideMode.ElideRight)
        self.pages.setAccessibleName("About the device")
        self.pages.tabBar().setAccessibleName("About the device")
        self.plug_area = scrolled(self._port_page(), "What goes into the port")
        self.plug_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.pages.addTab(self.plug_area, "Plug")
        self.settings_area = QScrollArea()
        self.settings_area.setAccessibleName("Settings of the device")
        self.settings_area.setWidgetResizable(True)
        self.settings_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.settings_area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.pages.addTab(self.settings_area, "Settings")
        self.notices = QScrollArea()
        self.notices.setAccessibleName("Safety notices of the device")
        self.notices.setWidgetResizable(True)
        self.notices.setFrameShape(QScrollArea.Shape.NoFrame)
        self.pages.addTab(self.notices, "Safety")
        left = QVBoxLayout()
        left.setSpacing(4)
        left.addWidget(self.device_box)
        left.addWidget(self.name)
        left.addWidget(self.ports, 1)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(8)
        whole.addLayout(left, 5)
        whole.addWidget(self.pages, 6)

    def _port_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(6, 6, 2, 2)
        column.setSpacing(4)
        column.addWidget(self.question)
        column.addWidget(self.partner)
        buttons = QHBoxLayout()
        buttons.addWidget(self.plug, 1)
        buttons.addWidget(self.unplug, 1)
        column.addLayout(buttons)
        column.addWidget(self.ways)
        column.addWidget(self.why)
        self.figures = QWidget()
        form = QFormLayout(self.figures)
        form.setContentsMargins(0, 0, 0, 0)
        self.kind = combo("Kind of the cable", {k.value: k.value for k in CableKind}, least=10)
        self.kind.activated.connect(self._on_kind)
        form.addRow("Cable", self.kind)
        form.addRow("Impedance", self.ohm)
        form.addRow("Clips at", self.most)
        self._mode = TextLabel()
        self._mode.setProperty("role", "muted")
        self._mode.setWordWrap(True)
        form.addRow(self._mode)
        for words, field in zip(
            ("Full at", "Gain from", "Gain to", "In steps of"), self.sheet.values(), strict=True
        ):
            form.addRow(words, field)
        form.addRow("Power", self.watts)
        self._figure_form = form
        column.addWidget(self.figures)
        column.addWidget(self.facts)
        column.addStretch(1)
        return page

    # --- showing ---

    def show_rig(
        self,
        graph: RigGraph,
        device: str,
        port: PortRef | None,
        instruments: tuple[Instrument, ...],
        writable: bool,
    ) -> None:
        """Show a device of a rig and one of its ports."""
        self._graph, self._instruments, self._writable = graph, instruments, writable
        blocker = QSignalBlocker(self.device_box)
        names = [(d.name, d.id) for d in graph.rig.devices]
        shown = [
            (self.device_box.itemText(i), self.device_box.itemData(i))
            for i in range(self.device_box.count())
        ]
        if names != shown:
            self.device_box.clear()
            for name, ident in names:
                self.device_box.addItem(name, ident)
        del blocker
        if device not in graph.devices:
            device = graph.rig.devices[0].id if graph.rig.devices else ""
            port = None
        self._device, self._port = device, port
        blocker = QSignalBlocker(self.device_box)
        self.device_box.setCurrentIndex(self.device_box.findData(device))
        del blocker
        one = graph.devices.get(device)
        self.setEnabled(one is not None)
        if one is None:
            self.ports.clear()
            return
        blocker = QSignalBlocker(self.name)
        self.name.setText(one.name)
        del blocker
        self.name.setEnabled(writable)
        self._fill_ports(one)
        self._show_port()
        self._show_page()
        self._name_safety(one)

    def _show_page(self) -> None:
        """The page that is on top; the others are filled when they are asked for."""
        one = self._graph.devices.get(self._device) if self._graph else None
        if one is None:
            return
        if self.pages.currentWidget() is self.settings_area:
            self._show_settings(one)
        elif self.pages.currentWidget() is self.notices:
            self._fill_notices(one)

    def _fill_ports(self, device: Device) -> None:
        assert self._graph is not None
        blocker = QSignalBlocker(self.ports)
        self.ports.clear()
        plugs = [
            self._graph.plug(PortRef(device=device.id, port=port.id))
            for port in sorted(device.ports, key=lambda p: p.direction is Direction.OUT)
        ]
        used = [one for one in plugs if self._graph.used(one)]
        free = [one for one in plugs if not self._graph.used(one)]
        for plug in used:
            self._add_port(plug)
        # What is free is folded away, unless it is chosen or there is nothing else.
        shown = self._free_shown or not used or any(one.ref == self._port for one in free)
        if free and used:
            mark = (
                "\N{BLACK DOWN-POINTING TRIANGLE}" if shown else "\N{BLACK RIGHT-POINTING TRIANGLE}"
            )
            head = QListWidgetItem(f"{mark} {counted(len(free), 'free port')}")
            head.setToolTip("Enter or a click shows and hides them.")
            self.ports.addItem(head)
        for plug in free if shown else ():
            self._add_port(plug)
        del blocker

    def _add_port(self, plug: Plug) -> None:
        item = QListWidgetItem(self._port_words(plug))
        item.setData(REF, plug.ref)
        item.setToolTip(tip(item.text()))
        self.ports.addItem(item)
        if plug.ref == self._port:
            self.ports.setCurrentItem(item)

    def _on_head(self, item: QListWidgetItem) -> None:
        """The head over the free ports was pressed."""
        if item.data(REF) is None and self._graph is not None:
            self._free_shown = not self._free_shown
            self._fill_ports(self._graph.devices[self._device])

    def _port_words(self, plug: Plug) -> str:
        assert self._graph is not None
        key = (plug.device.id, plug.port.id)
        inward = plug.port.direction is Direction.IN
        cables = (self._graph.into if inward else self._graph.out_of).get(key, [])
        ends = [(self._graph.source(c) if inward else self._graph.target(c)).words for c in cables]
        arrow = "\N{LEFTWARDS ARROW}" if inward else "\N{RIGHTWARDS ARROW}"
        return f"{plug.port.name} {arrow} " + ("; ".join(ends) or "free")

    def _show_port(self) -> None:
        graph, ref = self._graph, self._port
        assert graph is not None
        blocker = QSignalBlocker(self.partner)
        self.partner.clear()
        self._fits = ()
        if ref is None:
            self.question.setText("Choose a port.")
            self.facts.setText("")
        else:
            plug = graph.plug(ref)
            inward = plug.port.direction is Direction.IN
            verb = "What goes into" if inward else "Where does"
            tail = "?" if inward else " go?"
            self.question.setText(f"{verb} {plug.port.name}{tail}")
            self._fits = partners(graph, ref)
            for fit in self._fits:
                mark = f"{fit.severity.word}: " if fit.severity else ""
                self.partner.addItem(f"{mark}{fit.words}")
                self.partner.setItemData(
                    self.partner.count() - 1, fit.misfit, Qt.ItemDataRole.ToolTipRole
                )
            if not self._fits:
                self.partner.addItem("Nothing here fits. Add a device.")
            here = self._ends_here()
            for index, fit in enumerate(self._fits):
                if fit.plug.ref in here:
                    self.partner.setCurrentIndex(index)
                    break
            self.facts.setText(_facts(plug))
        del blocker
        analog = ref is not None and graph.plug(ref).port.signal_class in (
            *AUDIO_CLASSES, SignalClass.SPEAKER,
        )  # fmt: skip
        self.figures.setVisible(analog)
        if ref is not None and analog:
            base = graph.plug(ref).port
            speaker = base.signal_class is SignalClass.SPEAKER
            for field, value in (
                (self.ohm, base.impedance_ohm), (self.most, base.max_dbu),
                (self.watts, base.power_w),
            ):  # fmt: skip
                field.show_value(value)
                field.setEnabled(self._writable)
            self._figure_form.setRowVisible(self.watts, speaker)
            sheet = printed(graph.rig, ref)
            self._figure_form.setRowVisible(self.most, not speaker and sheet is None)
            self._show_printed(sheet)
        cables = self._cables_here()
        self.unplug.setEnabled(self._writable and bool(cables))
        self._figure_form.setRowVisible(self.kind, bool(cables))
        if cables:
            choose(self.kind, cables[-1].kind.value)
            self.kind.setEnabled(self._writable)
        self._on_partner()

    def _show_printed(self, sheet: Printed | None) -> None:
        """An input's figures as a data sheet has them, for the mode that stands."""
        self._figure_form.setRowVisible(self._mode, sheet is not None)
        for name, field in self.sheet.items():
            value = getattr(sheet, name) if sheet is not None else None
            self._figure_form.setRowVisible(field, value is not None)
            field.show_value(value)
            field.setEnabled(self._writable)
        if sheet is not None:
            mode = f" as {sheet.mode.lower()}" if sheet.mode else ""
            self._mode.setText(f"This input{mode}, as printed, at least gain:")

    def _cables_here(self) -> list[Cable]:
        if self._graph is None or self._port is None:
            return []
        key = (self._port.device, self._port.port)
        return [*self._graph.into.get(key, []), *self._graph.out_of.get(key, [])]

    def _ends_here(self) -> set[PortRef]:
        """Where the chosen port's cables lead."""
        return {
            end for cable in self._cables_here() for end in (cable.source, cable.target)
            if end != self._port
        }  # fmt: skip

    def _on_partner(self) -> None:
        index = self.partner.currentIndex()
        fit = self._fits[index] if 0 <= index < len(self._fits) else None
        there = fit is not None and fit.plug.ref in self._ends_here()
        self.plug.setText("Plug in instead" if self._cables_here() and not there else "Plug in")
        self.plug.setEnabled(self._writable and fit is not None and not there)
        self.ways.setVisible(self.ends is not None)
        self.why.setText(fit.misfit if fit else "")

    # --- notices ---

    def _fill_notices(self, device: Device) -> None:
        assert self._graph is not None
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(6, 6, 6, 2)
        rig = self._graph.rig
        found = at_device(rig, device)
        for notice in found:
            title = TextLabel(notice.title)
            title.setProperty("role", "title")
            text = TextLabel(notice.text)
            text.setWordWrap(True)
            read = QCheckBox("I have read this")
            read.setAccessibleName(f"{notice.title}: I have read this")
            read.setChecked(notice.id in rig.acknowledged)
            read.setEnabled(self._writable)
            read.toggled.connect(partial(self.notice_asked.emit, notice.id))
            for part in (title, text, read):
                column.addWidget(part)
        if not found:
            column.addWidget(TextLabel("Nothing beyond the usual care."))
        column.addStretch(1)
        self.notices.setWidget(page)

    def _name_safety(self, device: Device) -> None:
        assert self._graph is not None
        rig = self._graph.rig
        found = at_device(rig, device)
        unread = [n for n in found if n.id not in rig.acknowledged]
        # Short enough to be whole beside its neighbours on a narrow window.
        self.pages.setTabText(2, f"Safety {len(unread)}" if unread else "Safety")
        self.pages.setTabToolTip(2, f"{len(unread)} not read yet" if unread else "All read")

    # --- asking ---

    def focus_partner(self) -> None:
        """The keyboard to the list of partners."""
        self.pages.setCurrentIndex(0)
        self.partner.setFocus()

    @property
    def ends(self) -> tuple[PortRef, PortRef] | None:
        """The chosen partner and the chosen input, where that input is recorded."""
        graph, ref = self._graph, self._port
        index = self.partner.currentIndex()
        if graph is None or ref is None or not 0 <= index < len(self._fits):
            return None
        plug = graph.plug(ref)
        if plug.port.direction is not Direction.IN or converter_of(plug.device, ref.port) is None:
            return None
        return self._fits[index].plug.ref, ref

    def _on_port(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(REF) is not None:
            self.port_chosen.emit(item.data(REF))

    def _on_name(self) -> None:
        if self._graph is None or self._device not in self._graph.devices:
            return
        if self.name.text() != self._graph.devices[self._device].name:
            self.rename_asked.emit(self._device, self.name.text())

    def _on_kind(self) -> None:
        cables = self._cables_here()
        if cables:
            self.cable_asked.emit(cables[-1].id, self.kind.currentData())

    def _on_figure(self, field: str, value: object) -> None:
        if self._port is not None and (value is not None or field != "impedance_ohm"):
            self.port_figure_asked.emit(self._port, field, value)

    def _on_printed(self, field: str, value: object) -> None:
        if self._port is not None and value is not None:
            self.printed_asked.emit(self._port, field, value)

    def _ask_plug(self) -> None:
        index = self.partner.currentIndex()
        if self._port is not None and 0 <= index < len(self._fits):
            self.plug_asked.emit(self._port, self._fits[index].plug.ref)

    def _ask_unplug(self) -> None:
        cables = self._cables_here()
        if cables:
            self.unplug_asked.emit(cables[-1].id)


def _facts(plug: Plug) -> str:
    port = plug.port
    words = [f"{port.connector.value}, {port.signal_class.label}"]
    if port.signal_class in AUDIO_CLASSES:
        words.append(port.balance.value)
        side = "loads with" if port.direction is Direction.IN else "source"
        words.append(f"{side} {show(port.impedance_ohm, RESISTANCE)}")
        if port.max_dbu is not None:
            words.append(f"clips at {port.max_dbu:g} dBu")
    if port.format is not None:
        words.append(port.format.words)
    if port.channels > 1:
        words.append(f"{port.channels} channels")
    if port.power_w is not None:
        words.append(f"{port.power_w:g} W")
    if port.rated_ohm is not None:
        words.append(f"made for {port.rated_ohm:g} Ω")
    if port.phantom:
        words.append("gives phantom power")
    if port.needs_phantom:
        words.append("needs phantom power")
    return "; ".join(words) + "."
