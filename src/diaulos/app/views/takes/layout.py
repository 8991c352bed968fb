"""What the Takes view is made of."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QSizePolicy,
    QVBoxLayout,
)

from diaulos.app.view import View
from diaulos.app.views.takes.board import Board
from diaulos.app.views.takes.book import TakeBook
from diaulos.app.views.takes.hunt import HuntPanel
from diaulos.app.views.takes.live import LiveRow
from diaulos.app.views.takes.mix import MixPanel
from diaulos.app.views.takes.noise import NoisePanel
from diaulos.app.views.takes.player import TakePlayer
from diaulos.app.views.takes.setup import SetupBar
from diaulos.app.views.takes.tuner import TunerPanel
from diaulos.app.widgets.cabinet_panel import CabinetPanel
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.in_hand import InHand
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_width
from diaulos.app.widgets.rig_box import RigBox
from diaulos.app.widgets.tables import Table
from diaulos.app.widgets.wrapping import Flowing, Pages, WrappingRow
from diaulos.session.model import Take
from diaulos.session.roles import records


class TakesLayout(View):
    """Widgets and their places."""

    # --- building ---

    def _build(self) -> None:
        self.setup = SetupBar()
        self.record_button = self.setup.record
        self.hand = InHand()
        self.live_row = LiveRow()
        self.rigs = RigBox("The rig that takes are recorded with", records)
        self.conditions = TextLabel()
        self.conditions.setWordWrap(True)
        self.conditions.setAccessibleName("What must be true now")
        self._between()
        self.board = Board()
        self.noise = NoisePanel()
        self.hunting = HuntPanel()
        self.tuner = TunerPanel()
        self._between()
        self.mix = MixPanel()
        self.cabinets = CabinetPanel()
        self.book = TakeBook()
        self.player = TakePlayer(self._document, self._jobs, self._sound, self.mix)
        self.plot = self.player.wave
        self.sentence = TextLabel()
        self.sentence.setProperty("role", "headline")
        self.sentence.setAccessibleName("What is happening")
        # A new second must not lay the whole view out again.
        self.sentence.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._between()
        self._place()

    def _place(self) -> None:
        self._stack = over = Pages()
        for page in (
            self.board,
            self.noise,
            self.hunting,
            self.tuner,
            self.mix,
            self.cabinets,
        ):
            self._stack.addWidget(page)
        left = Flowing()
        body = QVBoxLayout(left)
        body.setContentsMargins(0, 0, 0, 0)
        body.addWidget(over, 1)
        body.addWidget(self.player)
        split = Split(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        split.addWidget(left)
        split.addWidget(self.book)
        split.setStretchFactor(0, 1)
        least_width(self.book, 281)
        split.setSizes([800, 370])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 6, 8, 6)
        whole.setSpacing(4)
        whole.addWidget(self.setup)
        where = WrappingRow(spacing=8)
        where.add_pair("Rig", self.rigs)
        where.add_growing(self.hand)
        where.addWidget(self.live_row)
        whole.addLayout(where)
        whole.addWidget(self.conditions)
        whole.addWidget(split, 1)
        whole.addWidget(self.sentence)

    # --- what is shown ---

    @property
    def takes(self) -> Table:
        """The list of takes."""
        return self.book.takes

    @property
    def take(self) -> Take | None:
        """The chosen take; none while the bin is shown, so that no key changes what is hidden."""
        if self.book.in_bin:
            return None
        key = self.takes.chosen()
        return next((one for one in self._document.session.takes if one.id == key), None)

    @property
    def heard_take(self) -> Take | None:
        """What is seen and heard: the chosen take, or the chosen one of the bin."""
        if not self.book.in_bin:
            return self.take
        key = self.book.binned.chosen()
        return next((one for one in self._document.session.take_bin if one.id == key), None)

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The marked range of the chosen take."""
        return self.player.stretch
