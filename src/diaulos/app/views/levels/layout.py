"""What the Levels view is made of."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.view import View
from diaulos.app.views.levels.controls import ControlsRow
from diaulos.app.views.levels.diagram import LevelDiagramWidget
from diaulos.app.views.levels.pages import CheckPage, DistancePage, NoisePage, VerdictPanel
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.holders import Split, Tabs
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.own_words import own_word
from diaulos.app.widgets.painted import least_width
from diaulos.app.widgets.rig_box import RigBox
from diaulos.app.widgets.wrapping import Flowing, Pages, WrappingRow, unfilled
from diaulos.work.rigs.levels import (
    TARGET_CHOICES,
)


class LevelsLayout(View):
    """Widgets and their places."""

    # --- building ---

    def _build(self) -> None:
        self.rigs = RigBox("The rig whose levels are shown")
        self.course = combo("Course to show", least=14)
        self.target = combo("Target", least=13)
        for one in TARGET_CHOICES:
            self.target.addItem(one.words, (one.statistic, one.value))
            self.target.setItemData(
                self.target.count() - 1, one.reason, Qt.ItemDataRole.ToolTipRole
            )
        self.question = combo("What if", least=17)
        self.loudest = NumberField()
        self.loudest.setRange(-60.0, 30.0)
        self.loudest.setDecimals(1)
        self.loudest.setSingleStep(0.5)
        self.loudest.setSuffix(" dBu")
        self.loudest.setKeyboardTracking(False)
        self.loudest.setAccessibleName("Loudest peak at the jack")
        self.measured = QPushButton("Measured")
        self.measured.setToolTip("Use the strength that was measured in Instruments again")
        self.lay = QPushButton("Overlay")
        self.lay.setToolTip("Other courses over this one")
        self.lay_menu = QMenu(self.lay)
        self.lay.setMenu(self.lay_menu)
        self.every = QCheckBox("All stations")
        self.every.setToolTip(own_word("station"))
        self.tone = QCheckBox("Allow tone controls to change")
        self.tone.setToolTip(
            "The solver may also turn what stands ahead of an amplifier: there a pad or a trim is "
            "not volume but drive"
        )
        self.boxes = QCheckBox("Other DI boxes")
        self.boxes.setToolTip("A DI box of another kind is at hand: the solver may ask for it")
        self.distance_button = QPushButton("Large display (V)")
        self.distance_button.setToolTip("Readable at two metres: one figure, one instruction")
        self.diagram = LevelDiagramWidget()
        self.plot = self.diagram
        self.controls = ControlsRow()
        self.board = QWidget()
        inside = QVBoxLayout(self.board)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(0)
        inside.addWidget(self.diagram, 1)
        inside.addWidget(self.controls)
        self.area = QScrollArea()
        self.area.setWidget(self.board)
        unfilled(self.area)
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._between()
        self.verdict = VerdictPanel()
        self.loud = self.verdict.room
        self.verdict_area = QScrollArea()
        self.verdict_area.setWidget(self.verdict)
        unfilled(self.verdict_area)
        self.verdict_area.setWidgetResizable(True)
        self.verdict_area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.verdict_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.verdict_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.noise = NoisePage()
        self.check = CheckPage()
        self.pages = Tabs()
        self.pages.setUsesScrollButtons(False)
        self.pages.setElideMode(Qt.TextElideMode.ElideRight)
        self.pages.setAccessibleName("Pages")
        self.pages.tabBar().setAccessibleName("Pages")
        for page, name in (
            (self.verdict_area, "Verdict (1)"), (self.noise, "Noise (2)"),
            (self.check, "Sound check (3)"),
        ):  # fmt: skip
            self.pages.addTab(page, name)
        self.calibrate_button = QPushButton("Calibrate (C)")
        self.calibrate_button.setToolTip(
            "What reaches 0 dBFS at an input, an output or a box: measured, dated, reused"
        )
        self.solve_all = QPushButton("Set all courses (Shift+G)")
        self.distance = DistancePage()
        self._between()
        self._place()

    def _place(self) -> None:
        top = WrappingRow()
        for words, widget in (
            ("Rig", self.rigs), ("Course", self.course), ("Loudest", self.loudest),
            ("", self.measured), ("Target", self.target), ("What if", self.question),
            ("", self.lay),
        ):  # fmt: skip
            if words:
                top.add_pair(words, widget)
            else:
                top.addWidget(widget)
        top.add_stretch()
        top.addWidget(self.distance_button)
        foot = WrappingRow()
        foot.addWidget(self.every)
        foot.addWidget(self.tone)
        foot.addWidget(self.boxes)
        hint = TextLabel("L locks a control.")
        hint.setProperty("role", "muted")
        foot.addWidget(hint)
        foot.add_stretch()
        foot.addWidget(self.calibrate_button)
        foot.addWidget(self.solve_all)
        left = Flowing()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.area, 1)
        column.addLayout(foot)
        least_width(self.pages, 300)
        self.pages.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        split = Split(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        split.addWidget(left)
        split.addWidget(self.pages)
        split.setStretchFactor(0, 1)
        split.setSizes([866, 314])
        near = QWidget()
        whole = QVBoxLayout(near)
        whole.setContentsMargins(8, 6, 8, 4)
        whole.setSpacing(4)
        whole.addLayout(top)
        whole.addWidget(split, 1)
        self._stack = Pages()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(self._stack)
        self._stack.addWidget(near)
        self._stack.addWidget(self.distance)
