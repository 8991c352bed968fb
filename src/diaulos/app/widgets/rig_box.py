"""Which rig a view works on: its name, and the others to choose from."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSignalBlocker, QSize, Signal
from PySide6.QtWidgets import QComboBox, QSizePolicy

from diaulos.app.widgets.controls import NarrowBox
from diaulos.rig.model import Rig
from diaulos.session.model import Session


class RigBox(NarrowBox):
    """The rigs of a session that a view can use."""

    asked = Signal(str)
    """The id of the rig that a person chose."""

    def __init__(self, name: str, fits: Callable[[Rig], bool] = lambda _rig: True) -> None:
        super().__init__()
        self._fits = fits
        self.setAccessibleName(name)
        self.setToolTip(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(14)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.activated.connect(lambda _i: self.asked.emit(str(self.currentData())))

    def show_rigs(self, session: Session, chosen: str, writable: bool) -> None:
        """The session's rigs, with the one that is used."""
        blocker = QSignalBlocker(self)
        self.clear()
        for rig in session.rigs:
            if rig.id == chosen or self._fits(rig):
                self.addItem(rig.name, rig.id)
        self.setCurrentIndex(self.findData(chosen))
        self.setEnabled(writable and self.count() > 0)
        del blocker
        self.updateGeometry()

    def sizeHint(self) -> QSize:
        """Usual names whole, a third wider at most; the same width whichever rig is chosen."""
        hint = super().sizeHint()
        metrics, least = self.fontMetrics(), self.minimumContentsLength()
        beside = hint.width() - least * metrics.horizontalAdvance("X")
        names = [metrics.horizontalAdvance(self.itemText(i)) for i in range(self.count())]
        wanted = max(names, default=0) + beside
        return QSize(max(hint.width(), min(wanted, 4 * hint.width() // 3)), hint.height())
