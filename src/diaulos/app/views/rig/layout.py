"""What the Rig view is made of."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
)

from diaulos.app.views.rig.diagram import RigDiagram
from diaulos.app.views.rig.pages import FindingsPage, MonitorPage, PatchPage, TracksPage
from diaulos.app.views.rig.panel import PortPanel
from diaulos.app.views.rig.ways import RigWays
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.holders import Split, Tabs
from diaulos.app.widgets.labels import RichLabel, TextLabel
from diaulos.app.widgets.painted import fix_width
from diaulos.app.widgets.wrapping import WrappingRow, unfilled


class RigLayout(RigWays):
    """Widgets and their places."""

    def show_notice(self, notice_id: str) -> None:
        """A notice at one of the devices that it is about."""

    # --- building ---

    def _build(self) -> None:
        self.rigs = combo("Rig", least=22)
        self.arrange = QPushButton("Add an arrangement")
        self.arrange.setToolTip("A whole rig in one step (N)")
        self.add = QPushButton("Add a device")
        self.add.setToolTip("From the catalogue (D)")
        self.catalogue = QMenu(self.add)
        self.add.setMenu(self.catalogue)
        self.more = QPushButton("More")
        self.more_menu = QMenu(self.more)
        self.more.setMenu(self.more_menu)
        for words, call in (
            ("Rename the rig…", self.rename_rig), ("Duplicate the rig", self.duplicate_rig),
            ("Remove the rig", self.remove_rig), ("", None),
            ("Duplicate the device", self.duplicate_device),
            ("Remove the device (Del)", self.remove_device),
            ("Keep the device as a type", self.keep_type),
            ("Save the device as a type file…", self.ask_save_type),
            ("Add a device from a type file…", self.ask_load_type),
        ):  # fmt: skip
            if call is None:
                self.more_menu.addSeparator()
            else:
                self.more_menu.addAction(words).triggered.connect(lambda _=False, c=call: c())
        self.course = combo("Course to show", least=14)
        self.out = QPushButton("−")
        self.near = QPushButton("+")
        self.fit = QPushButton("Fit")
        for button, name in (
            (self.out, "Zoom out"), (self.near, "Zoom in"), (self.fit, "Zoom to fit"),
        ):  # fmt: skip
            button.setAccessibleName(name)
            button.setToolTip(name)
            fix_width(button, 34 if button is not self.fit else 44)
            button.setProperty("tiny", "true")
        self.verdict = TextLabel()
        self.verdict.setProperty("role", "title")
        self.safety = RichLabel()
        self.safety.setWordWrap(True)
        self.safety.setAccessibleName("Safety notices of this rig")
        self.safety.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse
            | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.safety.linkActivated.connect(self.show_notice)
        self.diagram = RigDiagram()
        self.area = QScrollArea()
        self.area.setWidget(self.diagram)
        unfilled(self.area)
        self.area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.area.viewport().installEventFilter(self)
        self.findings = FindingsPage()
        self.tracks = TracksPage()
        self.patch = PatchPage()
        self.monitor = MonitorPage()
        self.pages = Tabs()
        self.pages.setUsesScrollButtons(False)
        self.pages.setElideMode(Qt.TextElideMode.ElideRight)
        self.pages.setAccessibleName("Pages")
        self.pages.tabBar().setAccessibleName("Pages")
        for page, name in (
            (self.findings, "Findings (1)"), (self.tracks, "Tracks (2)"),
            (self.patch, "Patch list (3)"), (self.monitor, "Monitoring (4)"),
        ):  # fmt: skip
            self.pages.addTab(page, name)
        self._between()
        self.panel = PortPanel()
        self._between()
        self._place()

    def _place(self) -> None:
        top = WrappingRow()
        for widget in (self.rigs, self.arrange, self.add, self.more, self.verdict):
            top.addWidget(widget)
        top.add_stretch()
        top.add_pair("Show", self.course, self.out, self.fit, self.near)
        below = Split(Qt.Orientation.Horizontal)
        below.setChildrenCollapsible(False)
        below.addWidget(self.pages)
        below.addWidget(self.panel)
        below.setSizes([640, 520])
        split = Split(Qt.Orientation.Vertical)
        split.setChildrenCollapsible(False)
        split.addWidget(self.area)
        split.addWidget(below)
        split.setSizes([330, 320])
        split.setStretchFactor(0, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 6, 8, 4)
        whole.setSpacing(4)
        whole.addLayout(top)
        whole.addWidget(self.safety)
        whole.addWidget(split, 1)
