"""What every plot can do: be copied as an image or as CSV."""

from __future__ import annotations

from PySide6.QtGui import QGuiApplication

from diaulos.app.widgets.pictured import Pictured


class Plot(Pictured):
    """A plot that can be copied."""

    def as_csv(self) -> str:
        """What is shown as text."""
        raise TypeError("each plot knows its own figures")

    def copy_image(self) -> None:
        """The picture to the clipboard."""
        QGuiApplication.clipboard().setPixmap(self.grab())

    def copy_csv(self) -> None:
        """The figures to the clipboard."""
        QGuiApplication.clipboard().setText(self.as_csv())
