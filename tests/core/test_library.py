"""Own gear: kept, searched, taken into a session, carried to another machine, merged."""

from __future__ import annotations

import json
import os
import random
from pathlib import Path

import pytest
from gear import ENTRIES, good_entry, mutated
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from test_cli import documented

from diaulos import wiring
from diaulos.__main__ import main
from diaulos.demo.saltmarsh import bare_demo
from diaulos.errors import EditError, InputError, SessionFileError, StorageError
from diaulos.session import edits
from diaulos.session.library import Entry, OwnCable, change_lines
from diaulos.session.model import Session
from diaulos.storage.entry_file import SUFFIX, export_entry, read_entry_file
from diaulos.storage.library import LibraryFolder, entry_from, entry_text, kept_of, searched
from diaulos.work.library.keeping import find, keep, remember, standings, take, what_would_change
from diaulos.work.library.merging import merge, plan_merge
from diaulos.work.library.photographs import (
    MOST_BYTES,
    MOST_PHOTOGRAPHS,
    photographs,
    with_photograph,
    without_photograph,
)

NOW = "2026-05-09T12:00:00"
LATER = "2026-06-01T12:00:00"


class Folder:
    """A session's files in memory."""

    def __init__(self) -> None:
        self.files: dict[str, bytes] = {}

    def read_file(self, file: str) -> bytes:
        if file not in self.files:
            raise SessionFileError("the file is missing.", where=file)
        return self.files[file]

    def add_file(self, file: str, data: bytes) -> None:
        assert file not in self.files
        self.files[file] = data

    def has_file(self, file: str) -> bool:
        return file in self.files


def with_strum() -> tuple[Session, Folder]:
    """A demo session whose baritone has a stored strum."""
    from diaulos.session.instrument import StrengthReading

    session, folder = bare_demo(), Folder()
    one = session.instruments[0]
    reading = StrengthReading(
        position_id=one.position_id, label="hard", made_at=NOW, peak_dbfs=-9.0,
        true_peak_dbtp=-8.9, loudest_400ms_dbfs=-15.0, full_scale_dbu=13.0,
        file="audio/i01_s01.wav",
    )  # fmt: skip
    folder.add_file("audio/i01_s01.wav", b"RIFF strum")
    edit = edits.replace_instrument(one.model_copy(update={"strength": (reading,)}))
    return edit(session), folder


def test_an_instrument_goes_to_another_machine_with_its_sound(tmp_path: Path) -> None:
    session, folder = with_strum()
    home = LibraryFolder(tmp_path / "home")
    entry, edit = keep(session, "instrument", session.instruments[0].name, home, folder, NOW)
    session = edit(session)
    assert session.origins[f"instrument:{session.instruments[0].id}"].entry == entry.id
    assert home.data(entry, "i01_s01.wav") == b"RIFF strum"
    carried = tmp_path / f"guitar{SUFFIX}"
    export_entry(home, entry.id, carried)
    with pytest.raises(StorageError, match="exists"):
        export_entry(home, entry.id, carried)
    again = carried.read_bytes()
    export_entry(home, entry.id, carried, replace=True)
    assert carried.read_bytes() == again, "same bytes"
    away = LibraryFolder(tmp_path / "away")
    assert [one["way"] for one in wiring.import_entry(away, carried)] == ["new"]
    fresh, there = Session(id="s", name="New", sample_rate_hz=48_000), Folder()
    there.files["audio/i01_s01.wav"] = b"another take's"
    taken = take(away.read(entry.id), away, there)(fresh)
    one = taken.instruments[0]
    original = session.instruments[0]
    assert one.model_copy(update={"strength": ()}) == original.model_copy(update={"strength": ()})
    file = one.strength[0].file
    assert file == "audio/i01_s01_2.wav"
    assert there.files[file] == b"RIFF strum"
    assert there.files["audio/i01_s01.wav"] == b"another take's"
    assert [s.state for s in standings(taken, away.entries(), there)] == ["same"]
    # Taken once more it is a second instrument, and the sound is not doubled.
    twice = take(away.read(entry.id), away, there)(taken)
    assert len({one.id for one in twice.instruments}) == 2
    assert len(there.files) == 2


def test_a_newer_calibration_is_offered_with_what_would_change(tmp_path: Path) -> None:
    session, folder = with_strum()
    shelf = LibraryFolder(tmp_path / "l")
    entry, edit = keep(session, "instrument", session.instruments[0].id, shelf, folder, NOW)
    session = edit(session)
    key = f"instrument:{session.instruments[0].id}"
    # Another session kept a newer state of it.
    turned = edits.change_instrument(session.instruments[0].id, "x", trim_db=-6.0)(session)
    newer, _ = keep(turned, "instrument", session.instruments[0].id, shelf, folder, LATER)
    assert newer.id == entry.id
    assert newer.earlier == (entry.hash,)
    (one,) = standings(session, shelf.entries(), folder)
    assert one.state == "newer"
    assert what_would_change(session, key, newer) == (("trim (dB)", "-4", "-6"),)
    over = take(newer, shelf, folder, key)(session)
    assert over.instruments[0].trim_db == -6.0
    assert len(over.instruments) == len(session.instruments)
    assert [s.state for s in standings(over, shelf.entries(), folder)] == ["same"]
    mine = edits.change_instrument(session.instruments[0].id, "x", cable_m=9.0)(session)
    assert [s.state for s in standings(mine, shelf.entries(), folder)] == ["both"]
    mine = edits.change_instrument(session.instruments[0].id, "x", cable_m=9.0)(over)
    assert [s.state for s in standings(mine, shelf.entries(), folder)] == ["own"]
    shelf.remove(newer)
    assert [s.state for s in standings(over, shelf.entries(), folder)] == ["gone"]
    assert list((shelf.path / "earlier" / "instruments").iterdir()), "nothing is lost"


def test_what_both_changed_is_put_beside_the_librarys(tmp_path: Path) -> None:
    session, folder = with_strum()
    shelf = LibraryFolder(tmp_path / "l")
    ident = session.instruments[0].id
    entry, edit = keep(session, "instrument", ident, shelf, folder, NOW)
    session = edit(session)
    theirs = edits.change_instrument(ident, "x", cable_m=1.0)(session)
    keep(theirs, "instrument", ident, shelf, folder, LATER)
    mine = edits.change_instrument(ident, "x", cable_m=9.0)(session)
    beside, edit = keep(mine, "instrument", ident, shelf, folder, LATER)
    assert beside.id != entry.id
    assert "conflict" in beside.tags
    assert beside.name.endswith(f"({session.name})")
    lengths = {
        one.instrument.cable_m
        for one in (shelf.read(listed.id) for listed in shelf.entries())
        if one.instrument is not None
    }
    assert lengths == {1.0, 9.0}
    assert [one.state for one in standings(edit(mine), shelf.entries(), folder)] == ["same"]


def test_every_kind_is_kept_and_taken(tmp_path: Path) -> None:
    from diaulos.session.model import Impulse

    session, folder = with_strum()
    folder.add_file("impulses/room.wav", b"RIFF room")
    impulse = Impulse(name="Room", file="impulses/room.wav")
    session = edits.add_impulse(impulse)(session)
    shelf = LibraryFolder(tmp_path / "l")
    device = session.rigs[0].devices[0].name
    wanted = {
        "instrument": session.instruments[0].name, "device": device,
        "cable": session.instruments[0].name, "tone": session.tones[0].name,
        "impulse": "Room", "arrangement": session.rigs[0].name,
    }  # fmt: skip
    empty, there = Session(id="s", name="New", sample_rate_hz=48_000), Folder()
    for kind, name in wanted.items():
        entry, edit = keep(session, kind, name, shelf, folder, NOW, ["mine"])  # type: ignore[arg-type]
        session = edit(session)
        assert shelf.read(entry.id) == entry
        key = f"cable:{empty.instruments[0].id}" if kind == "cable" else ""
        empty = take(entry, shelf, there, key)(empty)
    assert {one.kind for one in shelf.entries()} == set(wanted)
    assert empty.impulses[0].name == "Room"
    assert there.files["impulses/room.wav"] == b"RIFF room"
    assert empty.own_types[0].name == device
    assert empty.rigs[0].name == wanted["arrangement"]
    states = [one.state for one in standings(session, shelf.entries(), folder)]
    assert states == ["same"] * 6
    with pytest.raises(EditError, match="There is no tone"):
        find(session, "tone", "None such")
    cable = next(one.id for one in shelf.entries() if one.kind == "cable")
    edit = take(shelf.read(cable), shelf, there)
    with pytest.raises(EditError, match="choose the instrument"):
        edit(empty)
    assert remember("tone:x", shelf.read(cable))(empty).origins["tone:x"].entry == cable


def test_search_and_tags_and_the_index(tmp_path: Path) -> None:
    shelf = LibraryFolder(tmp_path / "l")
    for at in range(30):
        shelf.write(
            Entry(
                id=f"c{at}", kind="cable", name=f"Cable {at}", cable=OwnCable(),
                tags=("stage",) if at % 3 == 0 else ("studio",),
            )
        )  # fmt: skip
    listed = shelf.entries()
    assert len(listed) == 30
    assert [one.id for one in searched(listed, "cable 7")] == ["c7", "c17", "c27"]
    assert len(searched(listed, "", ["Stage"])) == 10
    assert (shelf.path / "index.json").is_file()
    assert shelf.entries() == listed, "from the index"
    # What is changed from outside is read anew; a spoiled index is no harm.
    path = shelf.path / "cables" / "c3.json"
    path.write_text(path.read_text().replace("Cable 3", "Long one"))
    os.utime(path, ns=(1, 1))
    assert [one.id for one in searched(shelf.entries(), "long")] == ["c3"]
    (shelf.path / "index.json").write_text('{"version": 1, "entries": {"cables/c3.json": 5}}')
    assert len(shelf.entries()) == 30
    path.write_text("{}")
    assert len(shelf.entries()) == 29
    assert shelf.unread[0].file == "cables/c3.json"
    assert "field" in shelf.unread[0].problem.casefold()


def test_a_library_of_a_stranger_leads_nowhere(tmp_path: Path) -> None:
    outside = tmp_path / "secret.json"
    entry, files = good_entry()
    outside.write_text(entry_text(entry))
    shelf = LibraryFolder(tmp_path / "l")
    (shelf.path / "instruments").mkdir(parents=True)
    (shelf.path / "instruments" / "baritone.json").symlink_to(outside)
    assert shelf.entries() == ()
    assert shelf.unread
    with pytest.raises(SessionFileError):
        shelf.read("baritone")
    other = LibraryFolder(tmp_path / "m")
    other.write(entry, files)
    place = other.file(entry, "front.jpg")
    place.unlink()
    place.symlink_to(outside)
    with pytest.raises(SessionFileError):
        other.data(entry, "front.jpg")
    place.unlink()
    place.write_bytes(b"other")
    with pytest.raises(SessionFileError, match="not what was kept"):
        other.data(entry, "front.jpg")
    for bad in ("../evil.wav", "/etc/passwd", "a/b.wav", "x.exe", ".hidden.wav"):
        data = json.loads(entry_text(entry))
        data["files"][0]["file"] = bad
        with pytest.raises(SessionFileError, match=r"files\.0\.file"):
            entry_from(json.dumps(data).encode(), "x")


def test_a_file_of_an_entry_is_checked_whole(tmp_path: Path) -> None:
    import zipfile

    entry, files = good_entry()
    shelf = LibraryFolder(tmp_path / "l")
    shelf.write(entry, files)
    good = tmp_path / f"a{SUFFIX}"
    export_entry(shelf, entry.id, good)
    assert read_entry_file(good) == (entry, files)

    def spoiled(**change: object) -> Path:
        path = tmp_path / f"b{SUFFIX}"
        with zipfile.ZipFile(path, "w", change.get("compress", zipfile.ZIP_STORED)) as out:  # type: ignore[arg-type]
            out.writestr("entry.json", str(change.get("text", entry_text(entry))))
            out.writestr(str(change.get("name", "front.jpg")), change.get("data", b"picture"))  # type: ignore[arg-type]
        return path

    for change, words in (
        ({"name": "../../evil.jpg"}, "does not hold the files"),
        ({"data": b"another"}, "not what was exported"),
        ({"text": "{}"}, "Field required"),
        ({"compress": zipfile.ZIP_DEFLATED}, "compressed"),
    ):
        with pytest.raises(SessionFileError, match=words):
            read_entry_file(spoiled(**change))
    plain = tmp_path / "entry.json"
    plain.write_text(entry_text(entry))
    with pytest.raises(SessionFileError, match="belongs to it"):
        read_entry_file(plain)
    with pytest.raises(SessionFileError, match="cannot be read"):
        read_entry_file(tmp_path / "none")
    assert not (tmp_path.parent / "evil.jpg").exists()


def test_a_tenth_of_the_mutated_entries(tmp_path: Path) -> None:
    """All five thousand: ./diaulos soak gear."""
    assert mutated(tmp_path, ENTRIES // 10, random.Random(7)) == []


# --- two machines ---

CHANGES = st.lists(st.tuples(st.sampled_from(["a", "b", "c", "d"]), st.integers(1, 60)), max_size=8)


def edited(shelf: LibraryFolder, changes: list[tuple[str, int]]) -> set[float]:
    """A library after somebody worked with it; every length that a cable of it ever had."""
    seen: set[float] = set()
    for ident, length in changes:
        cable = OwnCable(length_m=float(length))
        try:
            entry = shelf.read(ident).revised(cable, (), NOW)
        except SessionFileError:
            entry = Entry(id=ident, kind="cable", name=ident.upper(), cable=cable, changed_at=NOW)
        shelf.write(entry)
    for one in shelf.entries():
        thing = shelf.read(one.id).thing
        assert isinstance(thing, OwnCable)
        seen.add(thing.length_m)
    return seen


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(common=CHANGES, mine=CHANGES, theirs=CHANGES)
def test_merging_two_edited_copies_loses_nothing(
    tmp_path_factory: pytest.TempPathFactory, common: list[tuple[str, int]],
    mine: list[tuple[str, int]], theirs: list[tuple[str, int]],
) -> None:  # fmt: skip
    root = tmp_path_factory.mktemp("merge")
    one, two = LibraryFolder(root / "one"), LibraryFolder(root / "two")
    edited(one, common)
    edited(two, common)
    before = {e.id: one.read(e.id) for e in one.entries()}
    here, there = edited(one, mine), edited(two, theirs)
    own = [one.read(e.id) for e in one.entries()]
    other = [two.read(e.id) for e in two.entries()]
    steps = plan_merge(own, other)
    merge(steps, one, two, "two")
    after = [one.read(e.id) for e in one.entries()]
    lengths = {e.thing.length_m for e in after}  # type: ignore[attr-defined]
    kept = {
        json.loads(path.read_text())["cable"]["length_m"]
        for path in (root / "one").glob("earlier/cables/*.json")
    }
    assert here | there <= lengths | kept
    # What both changed is there twice; what one changed is there as it was left.
    for step in steps:
        start = before.get(step.entry.id)
        changed_here = any(ident == step.entry.id for ident, _ in mine)
        if start is not None and not changed_here and step.way != "same":
            assert step.way == "newer"
            assert one.read(step.entry.id).hash == step.entry.hash
        if step.way == "conflict":
            assert any(e.hash == step.entry.hash and "conflict" in e.tags for e in after)
    # Once more changes nothing that counts.
    again = plan_merge(after, other)
    assert {step.way for step in again} <= {"same", "older", "conflict"}


def test_tags_notes_and_photographs_of_both_are_kept(tmp_path: Path) -> None:
    one, two = LibraryFolder(tmp_path / "one"), LibraryFolder(tmp_path / "two")
    entry, files = good_entry(b"from here")
    one.write(entry.model_copy(update={"notes": "heavy"}), files)
    other, more = good_entry(b"from there")
    two.write(other.model_copy(update={"tags": ("lent",), "notes": "light"}), more)
    steps = plan_merge([one.read("baritone")], [two.read("baritone")])
    assert [step.way for step in steps] == ["same"]
    merge(steps, one, two)
    both = one.read("baritone")
    assert both.tags == ("own", "baritone", "lent")
    assert both.notes == "heavy\nlight"
    assert {one.data(both, kept.file) for kept in both.files} == {b"from here", b"from there"}


def test_photographs_are_pictures_few_and_not_too_large(tmp_path: Path) -> None:
    entry = good_entry()[0]
    there = len(photographs(entry))
    png = b"\x89PNG\r\n\x1a\n" + bytes(40)
    new, name = with_photograph(entry, png, "a.png")
    assert name.endswith(".png")
    assert len(photographs(new)) == there + 1
    assert new.hash == entry.hash, "a photograph is no new state of the thing"
    assert with_photograph(new, png, "again.png") == (new, name)
    assert without_photograph(new, name) == entry
    webp = b"RIFF" + bytes(4) + b"WEBP" + bytes(10)
    assert with_photograph(entry, webp, "x")[1].endswith(".webp")
    for bad in (b"", b"GIF89a", b"<svg/>", b"RIFF" + bytes(4) + b"WAVE"):
        with pytest.raises(InputError, match="no picture"):
            with_photograph(entry, bad, "x")
    with pytest.raises(InputError, match="MB, more than"):
        with_photograph(entry, png + bytes(MOST_BYTES), "x")
    for at in range(MOST_PHOTOGRAPHS - there):
        entry, _ = with_photograph(entry, png + bytes([at]), "x")
    with pytest.raises(InputError, match="photographs already"):
        with_photograph(entry, png, "x")
    with pytest.raises(InputError, match="has no photograph"):
        without_photograph(entry, "strum.wav")


def test_differences_are_told_by_place() -> None:
    one = bare_demo().instruments[0]
    pickup = one.pickups[0]
    values = pickup.values.model_copy(update={"inductance_h": 4.2})
    other = one.model_copy(
        update={"pickups": (pickup.model_copy(update={"values": values}), *one.pickups[1:])}
    )
    ((where, old, new),) = change_lines(one, other)
    assert where == f"pickups, {pickup.name}, values, inductance (H)"
    assert (old, new) == ("5.1", "4.2")
    assert kept_of("a.wav", b"x").size == 1


def test_the_schema_in_docs_is_the_entries() -> None:
    path = Path(__file__).parents[2] / "docs" / "library.schema.json"
    assert json.loads(path.read_text("utf-8")) == Entry.model_json_schema()


# --- the shell ---


def test_the_shell_keeps_takes_and_carries(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    session = tmp_path / "s.diaulos"
    shelf = tmp_path / "shelf"
    for words in (
        ["new", str(session)],
        ["instrument", str(session), "--add", "guitar", "--name", "Mine"],
    ):
        assert main(words) == 0
    capsys.readouterr()

    def run(*words: object) -> dict[str, object]:
        code = main(["library", *map(str, words), "--at", str(shelf), "--json"])
        data = json.loads(capsys.readouterr().out)
        assert code == 0
        assert set(data) <= documented("library")
        return dict(data)

    kept = run("--keep", session, "--what", "instrument:Mine", "--tag", "home")
    assert kept["kept"] == "mine"
    entries = run("mine", "--tag", "home")["entries"]
    assert [one["name"] for one in entries] == ["Mine"]  # type: ignore[attr-defined, index]
    picture = tmp_path / "a picture of it.jpg"
    picture.write_bytes(b"\xff\xd8\xff" + bytes(200))
    name = run("--entry", "mine", "--photo", picture)["photographed"]
    assert (shelf / "instruments" / "mine" / str(name)).read_bytes() == picture.read_bytes()
    run("--entry", "mine", "--export", tmp_path / f"m{SUFFIX}")
    other = tmp_path / "other.diaulos"
    assert main(["new", str(other)]) == 0
    capsys.readouterr()
    run("--take", other, "--entry", "mine")
    told = run("--compare", other)["standings"]
    assert told[0]["state"] == "same"  # type: ignore[index]
    assert (
        main(["library", "--at", str(tmp_path / "b"), "--import", str(tmp_path / f"m{SUFFIX}")])
        == 0
    )
    assert main(["library", "--at", str(tmp_path / "b"), "--merge", str(shelf), "--dry"]) == 0
    assert "is the same" in capsys.readouterr().out
    assert main(["library", "--at", str(shelf), "--keep", str(session), "--what", "guitar"]) == 1
    assert "KIND:NAME" in capsys.readouterr().err
    assert main(["library", "--at", str(tmp_path / "none")]) == 0
    assert "nothing is kept yet" in capsys.readouterr().out
