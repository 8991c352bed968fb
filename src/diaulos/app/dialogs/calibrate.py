"""Calibrate: what reaches 0 dBFS at an input, what a line output gives, what a box loses."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QPushButton,
    QWidget,
)

from diaulos.app.asking import ask_file
from diaulos.app.dialogs.foot import add_foot
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_height, least_width
from diaulos.app.widgets.tables import Cell, Table
from diaulos.errors import DiaulosError
from diaulos.figures import number, typeset
from diaulos.rig.levels.calibration import (
    TONE_HZ,
    CalibrationPoint,
    calibrated_inputs,
    known_dbu,
)
from diaulos.rig.model import AdcStage, DacStage, Device, PassiveStage, PortRef, Rig
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken, ExternalFiles, Progress
from diaulos.work.rigs.audio import LiveAudio, RigAudio
from diaulos.work.rigs.calibrating import (
    InputCalibration,
    OutputCalibration,
    calibrate_box,
    calibrate_by_loop,
    calibrate_input,
    calibrate_output,
    input_from_live,
    input_from_recording,
    raise_send,
    standing_gain,
)

WAYS = {
    "tone": "An input, by a tone of known voltage",
    "file": "An input, from a recording of such a tone",
    "loop": "An input, by looping back a known output",
    "output": "A line output, looped back to a calibrated input",
    "box": "A reamp box or DI box, between the two",
}
BENCH_UNIT = 1
"""Which unit stands on the bench: always the same one."""


class CalibrateDialog(QDialog):
    """Asks what to measure and how, shows what was found, keeps it when asked to."""

    def __init__(
        self,
        session: Session,
        jobs: Jobs,
        files: ExternalFiles,
        audio: RigAudio,
        parent: QWidget | None = None,
        first: PortRef | None = None,
        live: LiveAudio | None = None,
    ) -> None:
        """`first` is the input to begin with; `live` a real device, where one is chosen."""
        super().__init__(parent)
        self._files, self._audio, self._live = files, audio, live
        self._path: Path | None = None
        self.setWindowTitle("Calibrate")
        least_width(self, 620)
        self._session, self._jobs = session, jobs
        self.found: InputCalibration | OutputCalibration | None = None
        rig = session.rig()
        form = QFormLayout(self)
        self.way = combo("What to calibrate", WAYS, least=34)
        form.addRow("Calibrate", self.way)
        self.input = combo("Input", least=34)
        for device, port in _inputs(rig):
            name = f"{device.name}, {device.port(port).name}"
            self.input.addItem(name, PortRef(device=device.id, port=port))
        form.addRow("Input", self.input)
        self.output = combo("Output", least=34)
        for device, port in _outputs(rig):
            name = f"{device.name}, {device.port(port).name}"
            self.output.addItem(name, PortRef(device=device.id, port=port))
        form.addRow("Output", self.output)
        self.box = combo("Box", least=34)
        for device in rig.devices:
            if any(isinstance(s, PassiveStage) for path in device.paths for s in path.stages):
                self.box.addItem(device.name, device.id)
        form.addRow("Box", self.box)
        self.level = QLineEdit("1 V")
        self.level.setAccessibleName("What the meter shows at the input")
        self.level.setToolTip(
            f"RMS, with the cable plugged and the input loading it: 1.23 V, 500 mV, +4 dBu. "
            f"Tone of {TONE_HZ:g} Hz: cheap meters are wrong at 1 kHz."
        )
        form.addRow("Meter shows", self.level)
        self.file = QPushButton("Choose a recording…")
        self.file.setToolTip(
            "A second of the tone, recorded at the gain and switches as they stand"
        )
        self.file.clicked.connect(self.ask_file)
        form.addRow("Recording", self.file)
        self.measure = QPushButton("Measure")
        self.measure.clicked.connect(self.start)
        form.addRow(self.measure)
        self.table = Table(
            "Calibration",
            ("Gain", "0 dBFS is", "Nominal", "Difference"),
            0,
            {1: 120, 2: 120, 3: 100},
        )
        least_height(self.table, 190)
        form.addRow(self.table)
        self.words = TextLabel()
        self.words.setWordWrap(True)
        self.words.setAccessibleName("Linearity")
        form.addRow(self.words)
        hint = (
            "Mute the monitors first, and never plug a speaker output: sends start at their "
            "minimum\nand are raised from there. "
            + (
                "Phantom power off. The gain is measured as it stands in the rig"
                if live is not None
                else "The unit on the bench is measured"
            )
            + "; the figures\nare kept with their date at every rig that this unit stands in."
        )
        self._problem, self._buttons = add_foot(self, form, hint, "Keep")
        inputs = [self.input.itemData(index) for index in range(self.input.count())]
        if first in inputs:
            self.input.setCurrentIndex(inputs.index(first))
        self.way.currentIndexChanged.connect(self._on_way)
        self._on_way()

    def _on_way(self) -> None:
        way = self.way.currentData()
        self.output.setEnabled(way not in ("tone", "file"))
        self.level.setEnabled(way in ("tone", "file"))
        self.file.setEnabled(way == "file")
        self.box.setEnabled(way == "box")
        self._show(None)

    def ask_file(self) -> None:
        """Ask for a recording of the tone."""
        path = ask_file(self, "A recorded tone", "Audio (*.wav *.flac)")
        if path:
            self.choose_file(Path(path))

    def choose_file(self, path: Path) -> None:
        """This recording."""
        self._path = path
        self.file.setText(path.name)

    def start(self) -> None:
        """Measure what is asked for."""
        session, way = self._session, str(self.way.currentData())
        rig, ref, output = session.rig(), self.input.currentData(), self.output.currentData()
        box = self.box.currentData()
        plain = way in ("tone", "file")
        missing = {"input": ref is None, "output": not plain and output is None,
                   "box": way == "box" and box is None}  # fmt: skip
        if any(missing.values()):
            word = next(name for name, one in missing.items() if one)
            self._say(f"This rig has no {word} to calibrate.")
            return
        known = 0.0
        path, files, live = self._path, self._files, self._live
        audio: RigAudio = live if live is not None else self._audio
        gains = standing_gain(rig.device(ref.device), ref.port) if live is not None else None
        if way == "file" and path is None:
            self._say("Choose a recording of the tone first.")
            return
        if plain:
            try:
                known = known_dbu(self.level.text())
            except DiaulosError as error:
                self._say(f"{error.what} {error.remedy}")
                return

        def work(progress: Progress, cancel: CancelToken) -> InputCalibration | OutputCalibration:
            if live is not None and way not in ("tone", "file"):
                raise_send(live, rig, output, ref, session.sample_rate_hz,
                           str(box) if way == "box" else "")  # fmt: skip
            if way == "tone" and live is not None:
                return input_from_live(session, live, rig, ref, known)
            if way == "tone":
                return calibrate_input(session, audio, rig, ref, known, seed=BENCH_UNIT,
                                       progress=progress, cancel=cancel)  # fmt: skip
            if way == "file":
                assert path is not None
                return input_from_recording(rig, ref, known, files.open(path))
            if way == "loop":
                return calibrate_by_loop(
                    session, audio, rig, output, ref, gains=gains, seed=BENCH_UNIT,
                    progress=progress, cancel=cancel,
                )  # fmt: skip
            if way == "output":
                return calibrate_output(session, audio, rig, output, ref, seed=BENCH_UNIT)
            return calibrate_box(session, audio, rig, box, output, ref, seed=BENCH_UNIT)

        def failed(error: Exception) -> None:
            self._show(None)
            if isinstance(error, DiaulosError):
                self._say(f"{error.what} {error.remedy}".strip())
            else:
                self._say(f"{type(error).__name__}: {error}")

        self.measure.setEnabled(False)
        self._say("")
        if not self._jobs.start(Job("Calibrating", work, self._show, failed, captures=True)):
            self._say(f"Not now: {self._jobs.title} is running.")
            self.measure.setEnabled(True)

    def _say(self, text: str) -> None:
        self._problem.setText(typeset(text))

    def _show(self, found: InputCalibration | OutputCalibration | None) -> None:
        self.found = found
        self.measure.setEnabled(True)
        self._say("")
        points: tuple[CalibrationPoint, ...] = ()
        if isinstance(found, InputCalibration):
            points = found.points
        elif found is not None:
            points = (found.point,)
        box = isinstance(found, OutputCalibration) and found.box is not None
        self.table.show_rows([(str(n), _row(point, box)) for n, point in enumerate(points)])
        self.words.setText(typeset(_words(found)))
        if found is not None and found.odd:
            self._say("More than 3 dB from nominal: check switches, pad and the typed level.")
        keep = self._buttons.button(QDialogButtonBox.StandardButton.Ok)
        keep.setEnabled(found is not None)


def _row(point: CalibrationPoint, box: bool) -> tuple[Cell, ...]:
    off = Cell(f"{number(point.error_db, 2, sign=True)} dB", figure=True, sort=point.error_db,
               token="danger" if point.odd else "")  # fmt: skip
    gain = Cell("" if box else f"{point.gain_db:g} dB", figure=True, sort=point.gain_db)
    if box:
        return gain, Cell("box"), Cell(""), off
    full, nominal = point.full_scale_dbu, point.nominal_dbu
    return (
        gain,
        Cell(f"{number(full, 2)} dBu", "known level − reading", sort=full, figure=True),
        Cell(f"{number(nominal, 2)} dBu", sort=nominal, figure=True),
        off,
    )


def _words(found: InputCalibration | OutputCalibration | None) -> str:
    if not isinstance(found, InputCalibration):
        return ""
    words = []
    if found.linearity is not None:
        span = found.linearity.sent_db[-1]
        words.append(
            f"Linear to ±{found.linearity.worst_db:.2f} dB over {abs(span):g} dB of level."
        )
    if found.at_1khz_db is not None:
        words.append(f"At 1 kHz {number(found.at_1khz_db, 2, sign=True)} dB re {TONE_HZ:g} Hz.")
    return " ".join(words)


def _inputs(rig: Rig) -> list[tuple[Device, str]]:
    return [
        (device, port)
        for device in rig.devices
        if any(isinstance(s, AdcStage) for path in device.paths for s in path.stages)
        for port in calibrated_inputs(device)
    ]


def _outputs(rig: Rig) -> list[tuple[Device, str]]:
    found: dict[tuple[str, str], Device] = {}
    for device in rig.devices:
        for path in device.live_paths:
            if any(isinstance(stage, DacStage) for stage in path.stages):
                found[device.id, path.target] = device
    return [(device, port) for (_, port), device in found.items()]
