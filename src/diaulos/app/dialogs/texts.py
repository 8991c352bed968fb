"""Dialogs that only say something: the keys, the words, the safety notices, about."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QTextBrowser, QVBoxLayout, QWidget

SAFETY = """
<h3>Before anything is plugged</h3>
<ul>
<li><b>A speaker output</b> goes through speaker cable (never shielded instrument cable) to a
speaker or a load of the right impedance and power: never to an instrument, line or microphone
input, a DI box not made for it, or a headphone. On bridged outputs the minus is live: an earthed
DI or line tap shorts the amplifier.</li>
<li><b>A valve amplifier never runs without its load</b>: the output transformer and valves fail.
A transistor amplifier needs no load but has a least impedance. Power off before changing speaker
cables.</li>
<li><b>Never lift a safety earth</b> to cure hum. Isolate the signal instead. Amplifiers hold
lethal voltages after switch-off; inside work is for a licensed technician. Mains wiring follows
local code; a residual-current device protects the outlet.</li>
<li><b>Load boxes and attenuators run hot</b>: rated at twice the amplifier's power when it is
driven hard (common practice), with air around them.</li>
<li><b>The send level starts low and is raised.</b> Mute monitors before re-plugging; phantom power
off before plugging. Watch sound level and exposure time at a cranked amplifier and in
headphones.</li>
</ul>
"""


def about() -> str:
    """Version and licences."""
    from diaulos import __version__

    return (
        f"<h2>Diaulos {__version__}</h2>"
        "<p>The footrace out to the turning post and back: a take goes out of the session, through "
        "an amplifier, and comes back as a new track.</p>"
        "<p>Licence: see the file LICENSE. Fonts: B612 and B612 Mono, SIL Open Font License 1.1. "
        "Made with Qt for Python (LGPL 3), NumPy and SciPy (BSD 3-clause), libsndfile (LGPL 2.1) "
        "and the soxr resampler (LGPL 2.1).</p>"
    )


def manual_page(name: str) -> str:
    """A page as Markdown: beside this module in a wheel, in docs/ of a checkout."""
    here = Path(__file__).resolve().parent
    shipped = here / f"{name}.md"
    page = shipped if shipped.exists() else here.parents[3] / "docs" / f"{name}.md"
    return page.read_text("utf-8")


class TextDialog(QDialog):
    """A text to read."""

    def __init__(
        self, title: str, words: str, parent: QWidget | None = None, *, markdown: bool = False
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(620, 460)
        column = QVBoxLayout(self)
        text = QTextBrowser()
        text.setAccessibleName(title)
        if markdown:
            text.setMarkdown(words)
        else:
            text.setHtml(words)
        column.addWidget(text)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok)
        buttons.accepted.connect(self.accept)
        column.addWidget(buttons)
