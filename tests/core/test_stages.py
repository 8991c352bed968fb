"""A device type with a kind of stage that there never was: what must be touched, and that it
works once it is. The files are those that CONTRIBUTING names."""

from __future__ import annotations

import ast
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
GUIDE = (ROOT / "CONTRIBUTING.md").read_text("utf-8")

STAGE = '''

class TurnStage(Frozen):
    """Turns polarity, and loses some level."""

    kind: Literal["turn"] = "turn"
    loss_db: float = 0.0
'''
METHOD = "    @abstractmethod\n    def turn(self, stage: TurnStage) -> T: ...\n"
ANSWERS = {
    "plan.py": {"_Response": "Complex: return self._flat(stage)",
                "_PlainGain": "float: return -float(10.0 ** (-stage.loss_db / 20.0))"},
    "course.py": {"_Delay": "float: return 0.0"},
    "elements.py": {
        "_Elements": "list[Element]: return [Gain(-stage.loss_db)]"
    },
    "bench/steps.py": {
        "_StageSteps": "None: self.maker._add("
        "Filter(np.array([stage_gain(stage, self.device)])), 'turn', *self.key)"
    },
}  # fmt: skip
DEVICE = """

def turner(device_id: str) -> Device:
    return Device(
        id=device_id, kind="box", name="Turner",
        ports=(line_in("in", "Input"), line_out("out", "Output")),
        paths=(Path(source="in", target="out", stages=(TurnStage(loss_db=3.0),)),),
    )
"""
USE = """
import numpy as np
from diaulos.rig.bench import Bench, BenchFaults
from diaulos.rig.catalogue import cable, interface, recorder
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import linear_responses, stations

devices = (recorder(), interface(), make("turner", "turner"))
cables = (
    cable("c1", "recorder.play3", "interface.play3", 2.0),
    cable("c2", "interface.line_out3", "turner.in", 2.0),
    cable("c3", "turner.out", "interface.line_in5", 2.0),
    cable("c4", "interface.rec5", "recorder.track5", 2.0),
)
rig = Rig(id="loop", name="Loop", devices=devices, cables=cables)
assert Rig.model_validate_json(rig.model_dump_json()) == rig
course = reamp_course(rig)
points = stations(course)
planned = linear_responses(course, np.array([1000.0]))[points[-1].point][0]
tone = 0.1 * np.sin(2.0 * np.pi * 1000.0 * np.arange(4800) / 48000)
played = Bench(course, 48000, BenchFaults.none()).process(tone)
gain = float(played @ tone / (tone @ tone))
assert planned.real < 0.0 and gain < 0.0, (planned, gain)
assert abs(20.0 * np.log10(gain / planned.real)) < 0.1, (planned, gain)
print("the plan says", planned.real, "the bench plays", gain)
"""


def add_method(path: Path, name: str, text: str) -> None:
    """Add a method at the end of a class."""
    lines = path.read_text("utf-8").splitlines()
    found = next(one for one in ast.parse(path.read_text("utf-8")).body
                 if isinstance(one, ast.ClassDef) and one.name == name)  # fmt: skip
    lines[found.end_lineno : found.end_lineno] = ["", *text.splitlines()]
    path.write_text("\n".join(lines) + "\n", "utf-8")


def replaced(path: Path, old: str, new: str) -> None:
    text = path.read_text("utf-8")
    assert text.count(old) == 1, (path.name, old, text.count(old))
    path.write_text(text.replace(old, new), "utf-8")


def knows(path: Path) -> None:
    """Import the new kind."""
    first = "from __future__ import annotations\n"
    replaced(path, first, f"{first}\nfrom diaulos.rig.model import TurnStage\n")


def type_errors(copy: Path) -> dict[str, str]:
    """Message of the last type error of every file that has one."""
    command = [
        sys.executable, "-m", "mypy", "--config-file", str(ROOT / "pyproject.toml"),
        "--cache-dir", str(copy / "cache"), str(copy / "src" / "diaulos" / "rig"),
    ]  # fmt: skip
    told = subprocess.run(command, cwd=copy, capture_output=True, text=True, check=False).stdout
    rows = [line for line in told.splitlines() if ": error:" in line]
    return {row.partition("diaulos/rig/")[2].partition(":")[0]: row for row in rows}


@pytest.fixture(scope="module")
def copy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("stage")
    shutil.copytree(ROOT / "src", made / "src", ignore=shutil.ignore_patterns("__pycache__"))
    return made


def test_a_new_kind_of_stage(copy: Path) -> None:
    rig = copy / "src" / "diaulos" / "rig"
    # A kind that nobody answers for is a type error: at the dispatch, and where the model
    # asks which settings a stage names.
    replaced(rig / "model.py", "\n\nStage = Annotated[\n    GainStage\n",
             f"{STAGE}\n\nStage = Annotated[\n    GainStage\n    | TurnStage\n")  # fmt: skip
    found = type_errors(copy)
    assert set(found) == {"model.py", "stages.py"}, found
    assert all("assert_never" in words for words in found.values()), found
    # Once it is dispatched, every reader that has no answer is one.
    cabinet = "        case CabinetStage():\n            return {stage.setting}, numbers\n"
    turn = "        case TurnStage():\n            return words, numbers\n"
    replaced(rig / "model.py", cabinet, turn + cabinet)
    knows(rig / "stages.py")
    turn = "            case TurnStage():\n                return self.turn(stage)\n"
    replaced(rig / "stages.py", "            case _:\n", f"{turn}            case _:\n")
    add_method(rig / "stages.py", "StageReader", METHOD)
    found = type_errors(copy)
    assert set(found) == set(ANSWERS), found
    assert all("abstract" in words for words in found.values()), found
    # With those answers and a row in the catalogue it is planned, played and stored.
    for name, answers in ANSWERS.items():
        for reader, answer in answers.items():
            kind, _, body = answer.partition(": ")
            answer = f"    def turn(self, stage: TurnStage) -> {kind}:\n        {body}"
            add_method(rig / name, reader, answer)
        knows(rig / name)
    boxes = rig / "catalogue" / "boxes.py"
    knows(boxes)
    boxes.write_text(boxes.read_text("utf-8") + DEVICE, "utf-8")
    replaced(rig / "catalogue" / "types.py", '            ("passive_splitter",',
             '            ("turner", boxes.turner),\n            ("passive_splitter",')  # fmt: skip
    run = subprocess.run(
        [sys.executable, "-c", USE], capture_output=True, text=True, check=False, cwd=copy,
        env={**os.environ, "PYTHONPATH": str(copy / "src")},
    )  # fmt: skip
    assert run.returncode == 0, run.stderr
    for name in ("model.py", "stages.py", *ANSWERS, "catalogue/boxes.py", "catalogue/types.py"):
        assert f"`{name}`" in GUIDE, f"CONTRIBUTING does not name {name}"
