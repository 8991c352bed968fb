"""Preferences: the look, the size of text, folders, and what is remembered. They hold at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.dialogs.audio_choice import AudioChoice
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_width
from diaulos.figures import counted, number

Dress = Callable[[theme.Look, float], None]


class PreferencesDialog(QDialog):
    """What is changed here is changed at once, and can be changed back here."""

    def __init__(
        self,
        preferences: Preferences,
        dress: Dress,
        parent: QWidget | None = None,
        services: Services | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self._preferences, self._dress = preferences, dress
        form = QFormLayout()
        form.addRow("Look", self._looks())
        self.zoom = combo("Size of text", {f"{zoom:g}": f"{zoom:.0%}" for zoom in theme.ZOOMS})
        choose(self.zoom, f"{theme.zoom():g}")
        self.zoom.activated.connect(self._on_look)
        form.addRow("Size of text", self.zoom)
        self.audio = AudioChoice(preferences, services) if services is not None else None
        if self.audio is not None:
            form.addRow("Sound", self.audio)
        form.addRow("New sessions in", self._folder())
        form.addRow("Recent sessions", self._forget("recent", "Forget them"))
        form.addRow("Folders of file questions", self._forget("folders", "Forget them"))
        form.addRow("Listening levels", self._forget("levels", "Start quietly again"))
        form.addRow("Safety notices", self._forget("safety", "Show them at the start again"))
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        said = TextLabel("What is set here holds at once.")
        said.setProperty("role", "muted")
        whole = QVBoxLayout(self)
        whole.addLayout(form)
        whole.addWidget(said)
        whole.addWidget(buttons)
        self.looks[theme.current().name].setFocus()  # Qt's own choice is the first, chosen or not

    def done(self, result: int) -> None:
        if self.audio is not None:
            self.audio.close_down()
        super().done(result)

    def _looks(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.looks: dict[str, QRadioButton] = {}
        group = QButtonGroup(self)
        for name, words in (("day", "Day"), ("night", "Night")):
            button = QRadioButton(words)
            button.setChecked(theme.current().name == name)
            button.clicked.connect(self._on_look)
            group.addButton(button)
            row.addWidget(button)
            self.looks[name] = button
        row.addStretch(1)
        return row

    def _on_look(self) -> None:
        name = next(name for name, button in self.looks.items() if button.isChecked())
        self._dress(theme.LOOKS[name], float(self.zoom.currentData()))

    def _folder(self) -> QHBoxLayout:
        self.folder = QLineEdit(str(self._preferences.sessions_folder))
        self.folder.setAccessibleName("Folder of new sessions")
        self.folder.setProperty("field", "true")
        least_width(self.folder, 280)
        self.folder.editingFinished.connect(self._on_folder)
        browse = QPushButton("Browse\N{HORIZONTAL ELLIPSIS}")
        browse.clicked.connect(self._on_browse)
        self.problem = TextLabel()
        self.problem.setProperty("role", "reason")
        row = QHBoxLayout()
        row.addWidget(self.folder, 1)
        row.addWidget(browse)
        row.addWidget(self.problem)
        return row

    def _on_folder(self) -> None:
        path = Path(self.folder.text()).expanduser()
        known = path.is_dir()
        self.problem.setText("" if known else "There is no such folder.")
        if known:
            self._preferences.sessions_folder = path

    def _on_browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(
            self, "Folder of new sessions", self.folder.text()
        )
        if chosen:
            self.folder.setText(chosen)
            self._on_folder()

    # --- what is remembered ---

    def _forget(self, what: str, words: str) -> QHBoxLayout:
        told = TextLabel(self._kept(what))
        button = QPushButton(words)
        button.setEnabled(self._some(what))
        button.setAutoDefault(False)

        def on_click() -> None:
            self._preferences.forget(what)
            told.setText(self._kept(what))
            button.setEnabled(False)

        button.clicked.connect(on_click)
        row = QHBoxLayout()
        row.addWidget(told, 1)
        row.addWidget(button)
        self.forgetting = {**getattr(self, "forgetting", {}), what: button}
        return row

    def _some(self, what: str) -> bool:
        kept = self._preferences
        return bool(
            {
                "recent": kept.recent,
                "folders": kept.folders,
                "levels": kept.levels_db,
                "safety": kept.acknowledged,
            }[what]
        )

    def _kept(self, what: str) -> str:
        kept = self._preferences
        if what == "recent":
            return counted(len(kept.recent), "session")
        if what == "folders":
            return counted(len(kept.folders), "folder")
        if what == "levels":
            told = (f"{name}: {number(db, 0)} dB" for name, db in kept.levels_db.items())
            return ", ".join(told) or "none"
        return "read" if kept.acknowledged else "not read yet"
