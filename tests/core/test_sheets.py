"""Sheets: the figures of the screen, in files that stay readable, whatever names are in them."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import subprocess
import xml.etree.ElementTree as ET
from dataclasses import replace
from pathlib import Path

import html5lib
import pytest
from test_cli import documented

from diaulos import wiring
from diaulos.__main__ import main
from diaulos.demo.rigs import live_room
from diaulos.demo.saltmarsh import bare_demo
from diaulos.errors import EditError, InputError
from diaulos.figures import level
from diaulos.reports import look
from diaulos.reports.drawing import BAR_LEFT, RIGHT, WIDE, level_svg, windows_svg
from diaulos.rig.safety import notices
from diaulos.session.model import Session
from diaulos.work.compare.pairs import compare_pair
from diaulos.work.compare.words import difference_words
from diaulos.work.rigs.levels import levels_of
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.tables import patch_rows
from diaulos.work.sheets.making import NO_TIME, make_sheet, part_titles
from diaulos.work.sheets.model import (
    KINDS,
    Levels,
    Notices,
    Rows,
    Sheet,
    Wanted,
    Windows,
    Words,
)

HOSTILE = '<script>alert(1)</script> & "=SUM(A1)" \N{ZERO WIDTH SPACE}\N{GRINNING FACE}'


def demo() -> Session:
    """Instruments, tones and rigs without takes: a live room among them."""
    session = bare_demo()
    room = live_room(session.instruments[0].id, session.instruments[0].name)
    return session.model_copy(update={"rigs": (*session.rigs, room), "recording_rig": room.id})


@pytest.fixture(scope="module")
def recorded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A take of a dry DI and two modeled tracks, reamped once."""
    where = tmp_path_factory.mktemp("sheets") / "s.diaulos"
    for words in (
        ["new", str(where)],
        ["rig", str(where), "--add", "modeler-usb", "--current"],
        ["record", str(where), "--seconds", "4", "--seed", "4", "--name", "One"],
        ["rig", str(where), "--add", "reamp-box", "--name", "Out", "--current"],
        ["reamp", str(where), "--take", "One", "--rig", "Out", "--no-slate"],
    ):
        assert main(words) == 0, words
    return where


def part(sheet: Sheet, title: str) -> Rows:
    found = next(one for one in sheet.parts if one.title.startswith(title))
    assert isinstance(found, Rows)
    return found


def text_of_pdf(data: bytes, tmp_path: Path) -> str:
    if shutil.which("pdftotext") is None:
        pytest.skip("pdftotext is not here")
    path = tmp_path / "sheet.pdf"
    path.write_bytes(data)
    done = subprocess.run(
        ["pdftotext", "-layout", str(path), "-"], capture_output=True, check=True, text=True
    )
    return done.stdout


# --- what stands on them ---


def test_a_patch_sheet_has_every_cable_once_and_the_notices_first() -> None:
    session = demo()
    rig = session.rig("rig04")
    sheet = make_sheet(session, Wanted("patch"))
    assert isinstance(sheet.parts[0], Notices)
    assert [title for title, _ in sheet.parts[0].lines] == [one.title for one in notices(rig)]
    told = part(sheet, "Cables")
    screen = {row.cells for row in patch_rows(look_at(session, rig.id))}
    assert {(*row[1:5], *row[6:]) for row in told.rows} == screen
    cables = {row.cells[:2]: row.cable for row in patch_rows(look_at(session, rig.id))}
    assert all(row[5] == f"{cables[row[1:3]].pf_per_m:g}" for row in told.rows)
    assert len(told.rows) == len(rig.cables)
    # What carries the amplifier's power comes before anything is fed, what is heard at the end.
    kinds = [row[3] for row in told.rows]
    assert kinds.index("speaker") < kinds.index("instrument")
    assert set(kinds[: kinds.index("speaker") + 1]) <= {"speaker", "power"}
    assert told.rows[-1][2].startswith("Headphones")
    settings = part(sheet, "Switches and gains")
    assert ("Four-input interface", "Input 4", "Gain 4", "26.0 dB") in settings.rows
    each = [(device, name) for device, _, name, _ in settings.rows]
    assert len(each) == len(set(each)), "each stands there once"
    mute = next(one for one in sheet.parts if one.title == "Mute first")
    assert isinstance(mute, Words)
    assert any(line.startswith("Headphones") for line in mute.lines)


def test_a_level_sheet_has_the_figures_of_the_plan() -> None:
    session = demo()
    sheet = make_sheet(session, Wanted("levels"))
    told = part(sheet, "Courses")
    for one, row in zip(levels_of(session, "rig04"), told.rows, strict=True):
        assert row[0] == one.name
        assert one.diagram is not None
        station = one.diagram.converter
        assert row[2] == level(station.peak, "dBFS")
        drawn = next(
            p for p in sheet.parts if isinstance(p, Levels) and p.title == f"Levels of {one.name}"
        )
        figures = {column.peak for column in drawn.columns}
        assert level(station.peak, station.unit) in figures
        stations = part(sheet, f"Stations of {one.name}")
        assert len(stations.rows) == len(one.diagram.stations)


def test_level_windows_of_a_sheet_are_those_of_the_screen() -> None:
    """Peak, floor, clip point and target of every converter, drawn to one scale."""
    session = demo()
    sheet = make_sheet(session, Wanted("levels"))
    drawn = next(one for one in sheet.parts if isinstance(one, Windows))
    found = {one.name: one.diagram for one in levels_of(session, "rig04")}
    assert [one.name for one in drawn.windows] == list(found)
    tree = ET.fromstring(windows_svg(drawn))
    words = [one.text for one in tree.iter("{http://www.w3.org/2000/svg}text")]
    lines = list(tree.iter("{http://www.w3.org/2000/svg}line"))
    for one in drawn.windows:
        diagram = found[one.name]
        assert diagram is not None
        track = diagram.track
        assert one.figures.peak == track.peak
        assert one.figures.floor == track.noise
        assert one.figures.target == (-13.0, -11.0)
        assert f"{level(track.peak, 'dBFS')} peak" in words
        assert one.figures.words() in drawn.words
        low, high = one.figures.span()
        at = BAR_LEFT + (track.peak - low) / (high - low) * (WIDE - RIGHT - BAR_LEFT)
        assert any(
            float(line.attrib["x1"]) == pytest.approx(min(at, WIDE - RIGHT), abs=0.01)
            and line.attrib["stroke-width"] == "2.5"
            for line in lines
        ), one.name
    clips = sum(diagram.track.headroom_db <= 0.05 for diagram in found.values())
    assert words.count("CLIPS") == clips
    for peak, told in ((-0.2, 0), (1.0, 1)):
        one = replace(drawn.windows[0], figures=replace(drawn.windows[0].figures, peak=peak))
        assert windows_svg(Windows("T", (one,))).count("CLIPS") == told


def test_two_tone_cards_stand_on_a_page_each_on_its_half(tmp_path: Path) -> None:
    session = demo()
    tone = session.tones[0]
    four = tuple(tone.model_copy(update={"id": f"n{at}", "name": f"T{at}"}) for at in range(4))
    session = session.model_copy(update={"tones": four})
    data = wiring.sheet_bytes(make_sheet(session, Wanted("tone")), ".pdf")
    pages = text_of_pdf(data, tmp_path).split("\f")[:-1]
    assert [re.findall(r"Tone (T\d)", page) for page in pages] == [["T0", "T1"], ["T2", "T3"]]
    places = subprocess.run(
        ["pdftotext", "-bbox", str(tmp_path / "sheet.pdf"), "-"],
        capture_output=True, check=True, text=True,
    ).stdout  # fmt: skip
    tops = [float(top) for top in re.findall(r'yMin="([\d.]+)"[^>]*>T\d<', places)]
    assert [top > 841.89 / 2.0 for top in tops] == [False, True, False, True]


def test_every_kind_is_made_of_a_session_without_takes() -> None:
    for kind in KINDS:
        sheet = make_sheet(demo(), Wanted(kind))
        assert sheet.parts, kind
        assert sheet.made_at == NO_TIME
    with pytest.raises(InputError, match="there is no sheet"):
        make_sheet(demo(), Wanted("poster"))  # type: ignore[arg-type]
    with pytest.raises(EditError):
        make_sheet(demo(), Wanted("tone", tone="None such"))


def test_a_recall_sheet_has_every_knob_as_it_stood(recorded: Path) -> None:
    folder = wiring.SessionFolder.open(recorded, read_only=True)
    session = folder.load()
    take = session.take("One")
    then = session.snapshots[take.rig_hash]
    sheet = make_sheet(session, Wanted("recall", take="One"))
    told = part(sheet, f"Rig {then.name}")
    count = sum(len(device.settings) for device in then.devices)
    assert len(told.rows) == count
    assert all(row[3] == "" for row in told.rows), "nothing was turned since"
    modeler = next(one for one in then.devices if one.id == "modeler")
    control = next(one for one in modeler.settings if one.kind == "control")
    value = control.minimum if control.value != control.minimum else control.maximum
    rig = session.rig(then.id).with_setting("modeler", control.id, value)
    turned = session.model_copy(
        update={"rigs": tuple(rig if one.id == rig.id else one for one in session.rigs)}
    )
    now = part(make_sheet(turned, Wanted("recall", take="One")), f"Rig {then.name}")
    differs = [row for row in now.rows if row[3]]
    assert [row[:2] for row in differs] == [(modeler.name, control.name)]
    peaks = part(sheet, "Peaks")
    for track, row in zip(take.tracks, peaks.rows, strict=True):
        assert row[2] == level(track.peak_dbfs, "dBFS")
        assert track.planned_dbfs is not None
        assert row[1] == level(track.planned_dbfs, "dBFS")
    made = take.passes[0]
    of_pass = make_sheet(session, Wanted("recall", take="One", made=made.name))
    words = next(one for one in of_pass.parts if one.title == made.name)
    assert isinstance(words, Words)
    assert any(level(made.amp_peak_dbu, "dBu") in line for line in words.lines)
    with pytest.raises(EditError):
        make_sheet(session, Wanted("recall", take="One", made="None such"))


def test_what_was_compared_is_what_compare_says(recorded: Path) -> None:
    from diaulos.work.compare.choices import (
        as_monitored,
        measure_candidate,
        open_candidate,
        side_of,
        usual_candidates,
    )
    from diaulos.work.ports import CancelToken

    folder = wiring.SessionFolder.open(recorded, read_only=True)
    session = folder.load()
    sheet = make_sheet(session, Wanted("compare"), folder)
    token, rate = CancelToken(), session.sample_rate_hz
    chosen = usual_candidates(session)
    measured = as_monitored(
        [measure_candidate(open_candidate(session, one, folder), rate, token) for one in chosen]
    )
    sides = [side_of(one, rate, token) for one in measured]
    told = part(sheet, "What differs")
    pair = compare_pair(sides[0], sides[1], token)
    assert told.rows[0][:2] == (pair.b, difference_words(pair))


# --- the files ---


def sheets_of_everything(session: Session) -> list[Sheet]:
    return [make_sheet(session, Wanted(kind)) for kind in KINDS]


def test_pdf_has_the_figures_in_embedded_type_and_the_same_bytes_twice(tmp_path: Path) -> None:
    session = demo()
    for kind in ("patch", "levels"):
        sheet = make_sheet(session, Wanted(kind, note="Take the long cable."))  # type: ignore[arg-type]
        data = wiring.sheet_bytes(sheet, ".pdf")
        assert data == wiring.sheet_bytes(sheet, ".pdf"), "same bytes twice"
        text = re.sub(r"\s+", " ", text_of_pdf(data, tmp_path))
        assert "Take the long cable." in text
        for one in sheet.parts:
            assert one.title in text, one.title
            if isinstance(one, Rows):
                for row in one.rows:
                    assert row[-3].split()[0] in text if row[-3] else True
            if isinstance(one, Levels):
                assert one.columns[0].peak in text
        fonts = subprocess.run(
            ["pdffonts", str(tmp_path / "sheet.pdf")], capture_output=True, check=True, text=True
        ).stdout.splitlines()[2:]
        assert fonts
        for line in fonts:
            assert "B612" in line
            assert line.split()[-5] == "yes", line


@pytest.mark.parametrize("paper", ["A4", "Letter"])
def test_sixty_cables_go_on_over_pages_under_their_head(tmp_path: Path, paper: str) -> None:
    rows = tuple(
        (f"{at}", f"Device {at}", "A very long name of a device that has to wrap " * 3, "1.5 m")
        for at in range(60)
    )
    table = Rows("Cables", ("", "From", "To the end", "Length"), rows, frozenset({0, 3}), tick=True)
    sheet = Sheet("patch", "Patch sheet", "Sixty", NO_TIME, (table,))
    data = wiring.sheet_bytes(sheet, ".pdf", paper)
    text = text_of_pdf(data, tmp_path)
    pages = text.split("\f")[:-1]
    assert len(pages) >= 3
    for number, page in enumerate(pages, start=1):
        assert "To the end" in page, "the head is repeated"
        assert re.search(rf"{number}\s*/\s*{len(pages)}\b", page)
    assert all(f"Device {at}" in text for at in range(60))
    box = subprocess.run(
        ["pdfinfo", str(tmp_path / "sheet.pdf")], capture_output=True, check=True, text=True
    ).stdout
    assert ("595.28 x 841.89" if paper == "A4" else "612 x 792") in box


def test_no_sign_is_left_out_silently() -> None:
    assert look.drawable("Ω −3 → “x” ☐") == "Ω −3 → “x” ☐"
    assert look.drawable("a\N{CIRCLED DIGIT ONE}b") == "a[U+2460]b"
    for sheet in sheets_of_everything(demo()):
        text = wiring.sheet_bytes(sheet, ".csv").decode()
        assert look.drawable(text) == text, sheet.kind


def test_html_is_valid_whole_and_asks_for_nothing(tmp_path: Path) -> None:
    """By the parser of the HTML standard, in its strict mode: an error in the markup raises."""
    for sheet in sheets_of_everything(demo()):
        text = wiring.sheet_bytes(sheet, ".html").decode()
        parser = html5lib.HTMLParser(strict=True)
        parser.parse(text)
        assert "<script" not in text
        assert "http://" not in text.replace("http://www.w3.org/2000/svg", "")
        assert "https://" not in text
        assert text == wiring.sheet_bytes(sheet, ".html").decode()
        for one in sheet.parts:
            if isinstance(one, Rows):
                for row in one.rows:
                    for cell in row:
                        shown = cell.replace("&", "&amp;").replace("<", "&lt;")
                        assert shown in text.replace("&#39;", "'").replace("&#34;", '"')


def test_a_drawing_is_svg_whose_labels_do_not_meet() -> None:
    session = demo()
    for sheet in (make_sheet(session, Wanted("levels", rig=rig.id)) for rig in session.rigs):
        for one in sheet.parts:
            if not isinstance(one, Levels):
                continue
            tree = ET.fromstring(level_svg(one))
            boxes = []
            for element in tree.iter("{http://www.w3.org/2000/svg}text"):
                size = float(element.attrib["font-size"])
                wide = look_width(element.text or "") * size
                x, y = float(element.attrib["x"]), float(element.attrib["y"])
                left = (
                    x
                    - {"middle": wide / 2, "end": wide, "start": 0.0}[element.attrib["text-anchor"]]
                )
                boxes.append((left, y - size * 0.75, left + wide, y, element.text))
            for at, a in enumerate(boxes):
                for b in boxes[at + 1 :]:
                    apart = a[2] <= b[0] or b[2] <= a[0] or a[3] <= b[1] or b[3] <= a[1]
                    assert apart, (sheet.under, one.title, a[4], b[4])


def look_width(text: str) -> float:
    """Width of a text in the shipped type, re its height."""
    from fontTools.ttLib import TTFont

    face = TTFont(io.BytesIO(look.font("B")))
    names, widths = face.getBestCmap(), face["hmtx"]
    total = sum(widths[names.get(ord(sign), "space")][0] for sign in text)
    return float(total) / float(face["head"].unitsPerEm)


def test_hostile_names_are_text_everywhere(tmp_path: Path) -> None:
    name = "=cmd|' /C calc'!A0"
    sheet = Sheet(
        "session", "Session", HOSTILE, NO_TIME,
        (
            Rows("Takes", ("Name",), ((HOSTILE,), (name,), ("two\nlines",))),
            Words("Notes", (HOSTILE,)),
            Notices("Before", ((HOSTILE, HOSTILE),)),
        ),
        note=HOSTILE,
    )  # fmt: skip
    html = wiring.sheet_bytes(sheet, ".html").decode()
    assert "<script>" not in html
    html5lib.HTMLParser(strict=True).parse(html)
    assert "alert(1)" in text_of_pdf(wiring.sheet_bytes(sheet, ".pdf"), tmp_path)
    rows = list(csv.reader(io.StringIO(wiring.sheet_bytes(sheet, ".csv").decode())))
    cells = [cell for row in rows for cell in row]
    assert f"'{name}" in cells
    assert HOSTILE in cells
    assert "two\nlines" in cells


# --- the shell ---


def test_the_shell_writes_every_kind_in_every_form(
    recorded: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for kind in KINDS:
        for suffix in ("pdf", "html", "csv"):
            if kind == "compare" and suffix != "csv":
                continue  # the same parts, and seconds of work
            out = tmp_path / f"{kind}.{suffix}"
            capsys.readouterr()
            words = ["sheet", str(recorded), "--kind", kind, "--out", str(out), "--json"]
            assert main(words) == 0
            data = json.loads(capsys.readouterr().out)
            assert set(data) == documented("sheet")
            assert data["file"] == str(out)
            assert data["parts"]
            assert out.stat().st_size > 50
    out = tmp_path / "patch.csv"
    before = out.read_bytes()
    again = ["sheet", str(recorded), "--kind", "patch", "--out", str(out)]
    assert main(again) == 1
    assert "exists" in capsys.readouterr().err
    assert main([*again, "--replace"]) == 0
    assert out.read_bytes() == before
    less = tmp_path / "less.csv"
    assert main(["sheet", str(recorded), "--kind", "patch", "--out", str(less),
                 "--without", "Mute first", "--note", "Hello"]) == 0  # fmt: skip
    assert "Mute first" not in less.read_text()
    assert "Hello" in less.read_text()


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--kind", "poster", "--out", "a.pdf"], "there is no sheet"),
        (["--kind", "patch", "--out", "a.docx"], "ends in .pdf, .html, .csv"),
        (["--kind", "patch", "--out", "a.pdf", "--paper", "A9"], "no paper"),
        (["--kind", "recall", "--out", "a.pdf", "--pass", "x"], "Give --take"),
        (["--kind", "recall", "--out", "a.pdf", "--take", "None"], "no take"),
        (["--kind", "patch", "--out", "a.pdf", "--rig", "None"], "no rig"),
    ],
)
def test_the_shell_says_what_is_wrong(
    recorded: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], more: list[str], words: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    assert main(["sheet", str(recorded), *more]) == 1
    assert words in capsys.readouterr().err
    assert not list(tmp_path.iterdir())


def test_parts_can_be_left_out() -> None:
    session = demo()
    titles = part_titles(make_sheet(session, Wanted("patch")))
    less = make_sheet(session, Wanted("patch", without=frozenset(titles[:2])))
    assert part_titles(less) == titles[2:]
    never = make_sheet(session, Wanted("patch", without=frozenset({"Before plugging"})))
    assert isinstance(never.parts[0], Notices), "cautions are never off"


def test_tables_are_sorted_by_a_column() -> None:
    rows = (("b", "\N{MINUS SIGN}3.0 dB"), ("a", "10.0 dB"), ("", ""), ("C", "9.5 dB"))
    table = Rows("T", ("Name", "Level"), rows)
    assert [row[0] for row in table.by("Name").rows] == ["a", "b", "C", ""]
    assert [row[0] for row in table.by("Level").rows] == ["b", "C", "a", ""]
    assert table.by("Other") == table
    sheet = make_sheet(demo(), Wanted("patch", sort="Cable"))
    kinds = [row[3] for row in part(sheet, "Cables").rows]
    assert kinds == sorted(kinds, key=str.casefold)
