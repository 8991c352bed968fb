"""Each signal class has a line pattern and a short label of its own."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPen

from diaulos.app.theme import Look
from diaulos.rig.model import SignalClass

LABELS = {
    SignalClass.INSTRUMENT: "inst",
    SignalClass.MIC: "mic",
    SignalClass.LINE: "line",
    SignalClass.SPEAKER: "spkr",
    SignalClass.DIGITAL: "dig",
    SignalClass.STREAM: "USB",
    SignalClass.SOUND: "air",
    SignalClass.POWER: "DC",
}
_PATTERNS: dict[SignalClass, tuple[float, list[float]]] = {
    SignalClass.INSTRUMENT: (1.8, []),
    SignalClass.MIC: (1.8, [6, 2, 1, 2]),
    SignalClass.LINE: (1.8, [6, 3]),
    SignalClass.SPEAKER: (4.0, []),
    SignalClass.DIGITAL: (1.8, [1, 2]),
    SignalClass.STREAM: (1.2, [3, 3]),
    SignalClass.SOUND: (1.8, [1, 5]),
    SignalClass.POWER: (1.0, []),
}
"""Width, and dashes in widths."""


def cable_pen(signal_class: SignalClass, look: Look, token: str = "", wider: float = 0.0) -> QPen:
    """The pen of a cable; quiet classes are muted unless a token is asked for."""
    width, dashes = _PATTERNS[signal_class]
    quiet = signal_class in (SignalClass.STREAM, SignalClass.POWER)
    pen = QPen(look.colour(token or ("muted" if quiet else "ink")), width + wider)
    pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    if dashes:
        pen.setDashPattern(dashes)
    return pen
