"""Words, ids and tables: one place for each, and what others would execute is disarmed."""

from __future__ import annotations

import ast
import csv
import io
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diaulos.ids import free_id
from diaulos.tables import FORMULA, TextTable, csv_text, spreadsheet_safe

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "diaulos"


@pytest.mark.parametrize(
    ("text", "safe"),
    [
        ("=1+2", "'=1+2"), ("+cmd|' /C x'!A0", "'+cmd|' /C x'!A0"), ("@SUM(A1)", "'@SUM(A1)"),
        ("-2+3", "'-2+3"), ("\tx", "'\tx"), ("\r=1", "'\r=1"), ("  =1", "'  =1"),
        ("-12.5", "-12.5"), ("+4", "+4"), ("-inf", "-inf"), ("Amp = loud", "Amp = loud"), ("", ""),
    ],
)  # fmt: skip
def test_a_spreadsheet_executes_nothing(text: str, safe: str) -> None:
    """What spreadsheets take for a formula: OWASP, CSV Injection (from memory)."""
    assert spreadsheet_safe(text) == safe


@given(st.lists(st.lists(st.text(max_size=12), min_size=3, max_size=3), max_size=5))
def test_what_is_written_is_read_back(rows: list[list[str]]) -> None:
    text = csv_text(("a", "b", "c"), rows)
    read = list(csv.reader(io.StringIO(text, newline="")))[1:]
    assert read == [[spreadsheet_safe(cell) for cell in row] for row in rows]
    for row in read:
        for cell in row:
            assert not cell.startswith(FORMULA) or float(cell) is not None


def test_figures_stay_figures() -> None:
    table = TextTable(("Level", "Name"), (("-12.0", "=x"), ("3", "Ann")))
    assert table.csv() == "Level,Name\n-12.0,'=x\n3,Ann\n"


def test_only_one_place_writes_csv_and_one_finds_ids() -> None:
    for path in SOURCE.rglob("*.py"):
        text = path.read_text("utf-8")
        if path.name != "tables.py":
            assert not re.search(r"^import csv|csv\.writer", text, re.M), path
        if path.name != "ids.py":
            assert not re.search(r"for \w+ in (itertools\.)?count\(", text), path


def test_what_is_slow_to_import_is_imported_where_it_is_used() -> None:
    """SciPy takes longer to import than the window to come up."""
    found = []
    for path in sorted((ROOT / "src" / "diaulos").rglob("*.py")):
        for node in ast.parse(path.read_text(encoding="utf-8")).body:
            names = [one.name for one in node.names] if isinstance(node, ast.Import) else []
            if isinstance(node, ast.ImportFrom):
                names = [node.module or ""]
            if any(name.split(".")[0] in ("scipy", "soxr", "soundfile") for name in names):
                found.append(str(path.relative_to(ROOT)))
    assert found == []


def test_a_free_id_is_the_first_that_nobody_has() -> None:
    assert free_id({"amp"}, "box") == "box"
    assert free_id({"amp", "amp2"}, "amp") == "amp3"
    assert free_id({"Take"}, "Take", between=" ") == "Take 2"
    assert free_id({"t0001", "t0003"}, "t", digits=4) == "t0002"
    assert free_id(lambda one: int(one[1:]) < 9, "t", digits=4, first=5) == "t0009"


def documented() -> list[tuple[str, ast.FunctionDef]]:
    """Every public function of the rooms whose functions are pages of a reference."""
    found = []
    for path in sorted([*SOURCE.glob("circuit/*.py"), *SOURCE.glob("signal/*.py"),
                        *SOURCE.glob("rig/levels/*.py"), SOURCE / "rig" / "plan.py"]):  # fmt: skip
        for one in ast.parse(path.read_text("utf-8")).body:
            if isinstance(one, ast.FunctionDef) and not one.name.startswith("_"):
                found.append((f"{path.stem}.{one.name}", one))
    assert len(found) > 100
    return found


def test_docstrings_tell_every_parameter_and_what_comes_back() -> None:
    for name, one in documented():
        doc = ast.get_docstring(one) or ""
        parameters = [a.arg for a in (*one.args.args, *one.args.kwonlyargs)]
        if parameters:
            part = doc.partition("Parameters\n----------\n")[2].partition("\n\n")[0]
            told = re.findall(r"^(\S[^\n]*)$", part, re.M)
            named = {word.strip() for line in told for word in line.split(",")}
            assert set(parameters) <= named, (name, parameters, named)
        returns = ast.unparse(one.returns) if one.returns is not None else "None"
        if returns != "None":
            assert "Returns\n-------\n" in doc or "Yields\n------\n" in doc, name


def test_the_glossary_has_the_words_of_the_program() -> None:
    text = (ROOT / "docs" / "glossary.md").read_text("utf-8")
    words = (
        "course", "station", "tap", "take", "pass", "trim", "tone", "send", "return", "finding",
        "excerpt", "slate", "headroom", "target peak", "pad", "bench",
    )  # fmt: skip
    for word in words:
        assert f"| {word}" in text, word
