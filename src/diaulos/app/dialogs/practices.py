"""House practices: which one is followed, what departs from it, own ones by copying."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.figures import counted
from diaulos.session.practices import SHIPPED, Practice
from diaulos.work.practices.departures import Departure

CHOICES: tuple[tuple[str, str, tuple[tuple[str, str], ...]], ...] = (
    ("statistic", "Target of", (("peak", "the loudest peak"), ("rms", "the typical level"))),
    ("trims", "Trims", (("whole", "in whole dB"), ("fine", "all alike"), ("none", "none"))),
    ("pad", "Pad", (("hot", "for hot instruments"), ("always", "always"), ("never", "never"))),
    ("dry_di", "Dry DI", (("always", "always"), ("printed", "printed pedals will do"))),
    ("way_in", "Modeled tracks", (("any", "either way"), ("digital", "digital"),
                                  ("analog", "analog"))),
    ("heard", "Heard", (("any", "either way"), ("direct", "ahead of the computer"),
                        ("software", "through the computer"))),
    ("tones", "Tones of one part", (("any", "either way"), ("stack", "stacked in one place"),
                                    ("pan", "panned apart"))),
)  # fmt: skip
SWITCHES = (
    ("low_cut", "A low cut on every track"), ("tags", "Keepers are tagged"),
    ("noise_check", "A noise check before the first take"),
)  # fmt: skip


class PracticesDialog(QDialog):
    """Asks which practice is followed, and shows what that says of this session."""

    followed = Signal(str)
    kept = Signal(object)
    removed = Signal(str)

    def __init__(
        self, practices: Sequence[Practice], follows: str, writable: bool,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle("House practices")
        self._practices, self._writable = tuple(practices), writable
        title = TextLabel("How is it done here?")
        title.setProperty("role", "title")
        self.which = QComboBox()
        self.which.setAccessibleName("Practice that is followed")
        self.about = TextLabel()
        self.about.setWordWrap(True)
        self.copy = QPushButton("&Copy and change")
        self.copy.setToolTip("An own practice that begins as this one")
        self.remove = QPushButton("&Remove")
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the practice")
        self.target = NumberField()
        self.target.setRange(-60.0, 0.0)
        self.target.setDecimals(1)
        self.target.setSuffix(" dBFS")
        self.target.setAccessibleName("Target")
        self.fields: dict[str, QComboBox] = {}
        self.switches: dict[str, QCheckBox] = {}
        self.form = QWidget()
        form = QFormLayout(self.form)
        form.setContentsMargins(0, 0, 0, 0)
        form.addRow("Name", self.name)
        for field, words, options in CHOICES:
            box = QComboBox()
            box.setAccessibleName(words)
            for value, told in options:
                box.addItem(told, value)
            self.fields[field] = box
            form.addRow(words, box)
            if field == "statistic":
                form.addRow("Target", self.target)
        for field, words in SWITCHES:
            switch = QCheckBox(words)
            self.switches[field] = switch
            form.addRow(switch)
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.notes = QListWidget()
        self.notes.setAccessibleName("What departs from it")
        self.notes.setWordWrap(True)
        self.notes.setSpacing(3)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        top = QHBoxLayout()
        top.addWidget(self.which, 1)
        top.addWidget(self.copy)
        top.addWidget(self.remove)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(close)
        column = QVBoxLayout(self)
        column.addWidget(title)
        column.addLayout(top)
        for part in (self.about, self.form, self.said):
            column.addWidget(part)
        column.addWidget(self.notes, 1)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)
        self.resize(620, 640)
        theme.dress(self)
        self.show_practices(practices, follows)
        self._wire()

    def _wire(self) -> None:
        self.which.activated.connect(lambda _at: self.followed.emit(self.chosen_id))
        self.copy.clicked.connect(self._on_copy)
        self.remove.clicked.connect(lambda: self.removed.emit(self.chosen_id))
        self.name.editingFinished.connect(self._on_changed)
        self.target.editingFinished.connect(self._on_changed)
        for box in self.fields.values():
            box.activated.connect(lambda _at: self._on_changed())
        for switch in self.switches.values():
            switch.clicked.connect(lambda _on=False: self._on_changed())

    @property
    def chosen_id(self) -> str:
        """Id of the practice that is shown, "" for none."""
        return str(self.which.currentData() or "")

    @property
    def chosen(self) -> Practice | None:
        """The practice that is shown."""
        return next((one for one in self._practices if one.id == self.chosen_id), None)

    @property
    def own(self) -> bool:
        """Whether it can be changed."""
        one = self.chosen
        return one is not None and one not in SHIPPED

    def show_practices(self, practices: Sequence[Practice], follows: str) -> None:
        """All that there are, and the one that is followed."""
        self._practices = tuple(practices)
        self.which.clear()
        self.which.addItem("None: nothing is said", "")
        for one in practices:
            self.which.addItem(one.name, one.id)
        self.which.setCurrentIndex(max(0, self.which.findData(follows)))
        self._show()

    def _show(self) -> None:
        one = self.chosen
        self.which.setEnabled(self._writable)
        self.copy.setEnabled(one is not None and self._writable)
        self.remove.setVisible(self.own)
        self.form.setVisible(one is not None)
        self.form.setEnabled(self.own and self._writable)
        self.about.setText(
            one.about
            if one is not None
            else "A practice is a set of habits. What departs from it is told as a note, with the "
            "price of either choice: never as a fault."
        )
        if one is None:
            return
        self.name.setText(one.name)
        self.target.setValue(one.target_dbfs)
        for field, box in self.fields.items():
            box.setCurrentIndex(max(0, box.findData(getattr(one, field))))
        for field, switch in self.switches.items():
            switch.setChecked(getattr(one, field))

    def show_departures(self, found: Sequence[Departure] | None) -> None:
        """What departs from it; None while that is worked out."""
        self.notes.clear()
        if found is None:
            self.said.setText("Looking\N{HORIZONTAL ELLIPSIS}")
            return
        if self.chosen is None:
            self.said.setText("")
            return
        self.said.setText(
            f"{counted(len(found), 'note')} on this session:"
            if found
            else "Nothing in this session departs from it."
        )
        for one in found:
            item = QListWidgetItem(f"{one.place}. {one.words}\n{one.price}")
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            self.notes.addItem(item)

    def _on_copy(self) -> None:
        one = self.chosen
        if one is None:
            return
        taken = {other.id for other in self._practices}
        number = 1
        while f"own_{number}" in taken:
            number += 1
        self.kept.emit(
            one.model_copy(update={"id": f"own_{number}", "name": f"{one.name} (own)"[:200],
                                   "about": ""})
        )  # fmt: skip

    def _on_changed(self) -> None:
        one = self.chosen
        name = self.name.text().strip()
        if one is None or not self.own or not name:
            return
        values: dict[str, object] = {field: box.currentData() for field, box in self.fields.items()}
        values |= {field: switch.isChecked() for field, switch in self.switches.items()}
        values |= {"name": name[:200], "target_dbfs": self.target.value()}
        new = one.model_copy(update=values)
        if new != one:
            self.kept.emit(new)
