"""Columns are filled where they are, at any size of text, and as a polygon would be."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPolygonF

from diaulos.app.widgets.columns import fill_columns

WIDE, HIGH = 60, 40


def canvas(scale: float) -> QImage:
    image = QImage(round(WIDE * scale), round(HIGH * scale), QImage.Format.Format_RGB32)
    image.fill(Qt.GlobalColor.white)
    return image


def filled(image: QImage) -> np.ndarray:
    return np.array(
        [
            [image.pixelColor(x, y) != QColor(Qt.GlobalColor.white) for x in range(image.width())]
            for y in range(image.height())
        ]
    )


@pytest.mark.parametrize("scale", [1.0, 1.25, 2.0])
def test_each_column_is_filled_between_its_heights(qapp: object, scale: float) -> None:
    tops = np.array([5.0, 10.0, -50.0, 20.0, 38.0])
    bottoms = np.array([30.0, 10.0, 100.0, 21.0, 40.0])
    image = canvas(scale)
    painter = QPainter(image)
    painter.scale(scale, scale)
    fill_columns(painter, QRectF(10.0, 4.0, 50.0, 30.0), tops, bottoms, QColor(Qt.GlobalColor.red))
    painter.end()
    found = filled(image)
    for at, (top, bottom) in enumerate(zip(tops, bottoms, strict=True)):
        rows = np.flatnonzero(found[:, round((15.0 + 10.0 * at) * scale)]) / scale
        wanted = max(top, 4.0), min(bottom, 34.0)
        if wanted[1] <= wanted[0]:
            assert rows.size == 0
            continue
        assert rows[0] == pytest.approx(wanted[0], abs=0.6)
        assert rows[-1] + 1.0 / scale == pytest.approx(wanted[1], abs=0.6)
    assert not found[:, : round(9.0 * scale)].any()


def test_it_is_what_the_polygon_was(qapp: object) -> None:
    """Of smooth curves, a pixel at their edges apart."""
    tops = 20.0 - 15.0 * np.abs(np.sin(np.arange(WIDE) / 9.0))
    bottoms = 40.0 - tops
    ours, plain = canvas(1.0), canvas(1.0)
    painter = QPainter(ours)
    fill_columns(painter, QRectF(0, 0, WIDE, HIGH), tops, bottoms, QColor(Qt.GlobalColor.red))
    painter.end()
    painter = QPainter(plain)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(Qt.GlobalColor.red)
    xs = np.arange(WIDE) + 0.5
    corners = [*zip(xs, tops, strict=True), *zip(xs[::-1], bottoms[::-1], strict=True)]
    painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in corners]))
    painter.end()
    other = filled(ours) ^ filled(plain)
    assert other[:, 1:-1].sum(axis=0).max() <= 2


def test_nothing_is_drawn_of_nothing(qapp: object) -> None:
    image = canvas(1.0)
    painter = QPainter(image)
    fill_columns(painter, QRectF(0, 0, 10, 10), np.zeros(0), np.zeros(0), QColor("red"))
    fill_columns(painter, QRectF(0, 0, 10, 0), np.zeros(3), np.ones(3), QColor("red"))
    painter.end()
    assert not filled(image).any()
