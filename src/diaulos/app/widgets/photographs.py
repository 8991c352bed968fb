"""Photographs in a row; one of them large."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt, Signal
from PySide6.QtGui import QIcon, QImage, QImageReader, QKeyEvent, QPixmap
from PySide6.QtWidgets import QDialog, QLabel, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import fix_height

SMALL = QSize(112, 84)
LARGE = QSize(960, 620)


def picture_of(data: bytes) -> QImage:
    """A picture from a file's bytes, turned as its camera was held, no larger than it is shown;
    empty for what cannot be read."""
    buffer = QBuffer()
    buffer.setData(QByteArray(data))
    buffer.open(QIODevice.OpenModeFlag.ReadOnly)
    reader = QImageReader(buffer)
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and (size.width() > LARGE.width() or size.height() > LARGE.height()):
        # Read small: a picture of a hundred megapixels is never held whole.
        reader.setScaledSize(size.scaled(LARGE, Qt.AspectRatioMode.KeepAspectRatio))
    return reader.read()


def _small(picture: QImage) -> QIcon:
    """As it stands in a row; an empty frame for what cannot be shown."""
    if picture.isNull():
        blank = QPixmap(SMALL)
        blank.fill(theme.current().colour("line"))
        return QIcon(blank)
    small = picture.scaled(
        SMALL, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
    )
    return QIcon(QPixmap.fromImage(small))


class Photographs(QListWidget):
    """Small ones in a row. Enter, or a double click, shows one large; Del removes it."""

    removed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._pictures: tuple[tuple[str, QImage], ...] = ()
        self.setAccessibleName("Photographs")
        self.setToolTip("Enter shows one large, Del removes it")
        self.setViewMode(QListWidget.ViewMode.IconMode)
        self.setFlow(QListWidget.Flow.LeftToRight)
        self.setWrapping(False)
        self.setMovement(QListWidget.Movement.Static)
        self.setIconSize(SMALL)
        self.setUniformItemSizes(True)
        fix_height(self, 112)
        self.itemActivated.connect(lambda item: self.show_large(self.row(item)))
        self.hide()

    def show_pictures(self, found: Sequence[tuple[str, QImage]]) -> None:
        """By the names of their files; none hides the row."""
        self._pictures = tuple(found)
        self.clear()
        for at, (name, picture) in enumerate(found, start=1):
            words = f"Photograph {at} of {len(found)}"
            item = QListWidgetItem(_small(picture), "")
            item.setToolTip(words if not picture.isNull() else f"{name} cannot be shown")
            item.setData(Qt.ItemDataRole.AccessibleTextRole, words)
            self.addItem(item)
        self.setVisible(bool(found))

    def show_large(self, at: int) -> None:
        """One of them in a window of its own; Esc closes it."""
        if not 0 <= at < len(self._pictures) or self._pictures[at][1].isNull():
            return
        Large(self._pictures[at][1], self).exec()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        at = self.currentRow()
        if event.key() == Qt.Key.Key_Delete and 0 <= at < len(self._pictures):
            self.removed.emit(self._pictures[at][0])
            return
        super().keyPressEvent(event)


class Large(QDialog):
    """A photograph as large as there is room for."""

    def __init__(self, picture: QImage, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Photograph")
        self.picture = QLabel()
        self.picture.setAccessibleName("Photograph")
        self.picture.setPixmap(QPixmap.fromImage(picture))
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        column = QVBoxLayout(self)
        column.addWidget(self.picture)
        theme.dress(self)
