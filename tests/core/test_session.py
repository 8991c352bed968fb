"""The document: edits, undo, the folder on disk, and what strangers put into it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from diaulos.errors import (
    CancelledError,
    EditError,
    RigError,
    SessionFileError,
    SessionLockedError,
    StorageError,
)
from diaulos.rig.catalogue import reamp_rig
from diaulos.session import edits
from diaulos.session.history import History
from diaulos.session.migrations import migrate
from diaulos.session.model import (
    SCHEMA_VERSION,
    MatchTarget,
    Pass,
    Return,
    Session,
    Take,
    Track,
    rig_hash,
    tone_words,
)
from diaulos.storage.folder import SessionFolder
from diaulos.storage.session_file import read_session, session_text
from diaulos.work.ports import CancelToken

RIG = reamp_rig()


def track(ident: str = "k01", tap: str = "di", file: str = "audio/t0001_k01.wav") -> Track:
    return Track(id=ident, name=ident, tap=tap, file=file, frames=100, peak_dbfs=-12.0)


def one_pass(ident: str = "p01") -> Pass:
    return Pass(
        id=ident, name=f"Pass {ident}", track_id="k01", rig_hash=rig_hash(RIG), rig_name=RIG.name,
        made_at="2026-05-09T12:00:00", send_gain_db=1.0, amp_peak_dbu=-3.0,
        returns=(one_return(f"audio/t0001_{ident}_k01.wav"),),
    )  # fmt: skip


def one_return(file: str, name: str = "Return", **more: object) -> Return:
    return Return(
        name=name, file=file, frames=100, return_gain_db=8.0, alignment=None, peak_dbfs=-12.0,
        true_peak_dbtp=-11.8, loudness_lufs=-20.0, match=None, **more,
    )  # fmt: skip


def session(*passes: Pass) -> Session:
    take = Take(
        id="t0001", name="Verse", recorded_at="2026-05-09", tracks=(track(),), passes=passes
    )
    return Session(
        id="s", name="Saltmarsh", sample_rate_hz=48_000, rigs=(RIG,), current_rig=RIG.id,
        takes=(take,),
    )  # fmt: skip


# --- edits and undo ---


EDITS = [
    edits.add_pass("t0001", one_pass("p02"), RIG),
    edits.discard_pass("t0001", "p01"),
    edits.restore_pass("audio/t0001_p01_k01.wav"),
    edits.rename_pass("t0001", "p01", "Warm one"),
    edits.keep_pass("t0001", "p01", True),
    edits.rematch_pass("t0001", "p01", {"audio/t0001_p01_k01.wav": None}),
    edits.set_device_setting(RIG.id, "amp", "drive", 7.0),
    edits.set_device_setting(RIG.id, "amp", "drive", 99.0),
    edits.choose_rig(RIG.id),
    edits.set_info(tempo_bpm=88.0),
    edits.empty_bin(),
]


@given(st.lists(st.integers(0, len(EDITS) - 1), max_size=12))
@settings(max_examples=60)
def test_undo_restores_and_redo_repeats_exactly(order: list[int]) -> None:
    history = History(session(one_pass()))
    states = [history.current]
    for index in order:
        before = history.current
        try:
            history.apply(EDITS[index])
        except (EditError, RigError):
            assert history.current is before
            continue
        if history.current is not before:
            states.append(history.current)
    for state in reversed(states[:-1]):
        assert history.undo() == state
    assert history.undo_label == ""
    for state in states[1:]:
        assert history.redo() == state
    assert history.redo_label == ""


def test_a_new_edit_forgets_what_was_undone() -> None:
    history = History(session(one_pass()))
    history.apply(edits.rename_pass("t0001", "p01", "A"))
    history.undo()
    history.apply(edits.rename_pass("t0001", "p01", "B"))
    assert history.redo_label == ""
    assert history.current.take("Verse").pass_("B").id == "p01"


def test_edits_of_what_is_gone_change_nothing_and_say_so() -> None:
    empty = session().model_copy(update={"takes": ()})
    for edit in (EDITS[0], EDITS[1], EDITS[2], EDITS[3], EDITS[5]):
        with pytest.raises(EditError):
            edit(empty)
    with pytest.raises(EditError, match="Takes here: Verse"):
        session().take("Chorus")
    with pytest.raises(EditError, match="cannot be changed"):
        edits.set_info(sample_rate_hz=96_000)(session())
    with pytest.raises(EditError, match="tempo_bpm: Input should be greater"):
        edits.set_info(tempo_bpm=-3.0)(session())


def test_the_bin_names_the_undo_steps_that_need_it() -> None:
    history = History(session(one_pass()))
    history.apply(edits.discard_pass("t0001", "p01"))
    assert history.steps_needing({"audio/t0001_p01_k01.wav"}) == ["Discard pass"]
    assert history.steps_needing({"audio/other.wav"}) == []
    history.forget_steps()
    assert history.undo_label == ""


def test_settings_are_kept_as_they_were_and_only_once() -> None:
    changed = edits.add_pass("t0001", one_pass("p01"), RIG)(session())
    changed = edits.add_pass("t0001", one_pass("p02"), RIG)(changed)
    assert list(changed.snapshots) == [rig_hash(RIG)]
    later = edits.set_device_setting(RIG.id, "amp", "drive", 9.0)(changed)
    assert later.snapshots[rig_hash(RIG)].device("amp").number("drive") == 5.0
    assert "drive 9" in tone_words(later.rig())


# --- the folder ---


@pytest.fixture
def folder(tmp_path: Path) -> SessionFolder:
    made = SessionFolder.create(tmp_path / "Saltmarsh", session(one_pass()))
    yield made
    made.close()


def test_save_and_load_is_the_identity(folder: SessionFolder) -> None:
    assert folder.path.name == "Saltmarsh.diaulos"
    assert folder.load() == session(one_pass())
    changed = edits.keep_pass("t0001", "p01", True)(folder.load())
    folder.save(changed)
    assert folder.load() == changed
    assert read_session(folder.path / "session.previous.json") == session(one_pass())
    assert not [p for p in folder.path.iterdir() if p.name.endswith(".part")]


@pytest.mark.parametrize("wrong", [float("nan"), float("inf"), float("-inf")])
def test_a_figure_that_is_none_is_not_written(wrong: float) -> None:
    with pytest.raises(ValueError, match="not a number"):
        session_text(session(one_pass()).model_copy(update={"tempo_bpm": wrong}))
    inner = one_pass().model_copy(update={"send_gain_db": wrong})
    with pytest.raises(ValueError, match="not a number"):
        session_text(session(inner))


def test_words_that_look_like_no_number_are_written(folder: SessionFolder) -> None:
    names = ("NaN", "x: NaN", '"a": NaN', "Infinity,", "-Infinity")
    for name in names:
        named = session(one_pass()).model_copy(update={"name": name})
        assert json.loads(session_text(named))["name"] == name


def test_the_text_is_that_of_the_standard_library(folder: SessionFolder) -> None:
    """To the letter, but for the exponents of very large and small figures."""
    named = session(one_pass()).model_copy(update={"name": "Saltmärsh \N{EN DASH} „1“"})
    data = named.model_dump(mode="json")
    data["snapshots"] = dict(sorted(data["snapshots"].items()))
    assert session_text(named) == json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def test_the_text_is_stable_and_readable(folder: SessionFolder) -> None:
    text = (folder.path / "session.json").read_text("utf-8")
    assert text == session_text(session(one_pass()))
    assert json.loads(text)["schema_version"] == SCHEMA_VERSION
    assert text.index('"name"') < text.index('"takes"')


def test_the_journal_keeps_unsaved_work_until_the_next_save(folder: SessionFolder) -> None:
    changed = edits.keep_pass("t0001", "p01", True)(folder.load())
    folder.write_journal(changed)
    assert folder.load() == session(one_pass())
    assert folder.journal() == changed
    folder.save(changed)
    assert folder.journal() is None
    folder.write_journal(changed)
    folder.drop_journal()
    assert folder.journal() is None


def test_a_damaged_journal_is_no_reason_not_to_open(folder: SessionFolder) -> None:
    (folder.path / "journal.json").write_text('{"schema')
    assert folder.journal() is None
    assert folder.load() == session(one_pass())


def test_a_second_opener_is_told_who_has_it(folder: SessionFolder) -> None:
    with pytest.raises(SessionLockedError, match="open it here read-only") as caught:
        SessionFolder.open(folder.path)
    assert caught.value.pid == os.getpid()
    reader = SessionFolder.open(folder.path, read_only=True)
    assert reader.load() == session(one_pass())
    with pytest.raises(StorageError, match="read-only"):
        reader.save(session())
    with pytest.raises(StorageError, match="read-only"):
        reader.write_journal(session())
    reader.close()
    assert (folder.path / "lock").is_file()


def test_the_lock_of_a_dead_process_is_taken_over(folder: SessionFolder) -> None:
    folder.close()
    dead = subprocess.Popen([sys.executable, "-c", "pass"])
    dead.wait()
    (folder.path / "lock").write_text(f"{dead.pid} {os.uname().nodename}\n")
    again = SessionFolder.open(folder.path)
    assert str(os.getpid()) in (folder.path / "lock").read_text()
    again.close()
    assert not (folder.path / "lock").exists()


def test_the_lock_of_another_machine_is_respected(folder: SessionFolder) -> None:
    folder.close()
    (folder.path / "lock").write_text("1 some-other-machine\n")
    with pytest.raises(SessionLockedError):
        SessionFolder.open(folder.path)
    (folder.path / "lock").write_text("not a number\n")
    SessionFolder.open(folder.path).close()


def test_a_folder_with_a_session_is_not_made_again(folder: SessionFolder) -> None:
    with pytest.raises(StorageError, match="a session already"):
        SessionFolder.create(folder.path, session())


def test_save_as_takes_the_audio_along(folder: SessionFolder, tmp_path: Path) -> None:
    (folder.path / "audio" / "t0001_k01.wav").write_bytes(b"sound")
    (folder.path / "audio" / "unused.wav").write_bytes(b"other")
    copy = folder.copy_to(tmp_path / "Copy", session(one_pass()))
    assert (copy.path / "audio" / "t0001_k01.wav").read_bytes() == b"sound"
    assert not (copy.path / "audio" / "unused.wav").exists()
    copy.close()


def test_a_cancelled_save_as_leaves_nothing(folder: SessionFolder, tmp_path: Path) -> None:
    (folder.path / "audio" / "t0001_k01.wav").write_bytes(b"sound")
    token = CancelToken()
    token.cancel()
    with pytest.raises(CancelledError):
        folder.copy_to(tmp_path / "Copy", session(), cancel=token)
    assert not (tmp_path / "Copy.diaulos").exists()


def test_only_the_bin_deletes(folder: SessionFolder) -> None:
    target = folder.path / "audio" / "t0001_p01_k01.wav"
    target.write_bytes(b"sound")
    assert folder.orphans(session()) == ["audio/t0001_p01_k01.wav"]
    assert folder.orphans(session(one_pass())) == []
    folder.delete_files({"audio/t0001_p01_k01.wav"})
    assert not target.exists()


# --- what strangers put into session.json ---


def data() -> dict:
    return json.loads(session_text(session(one_pass())))


def refused(path: Path, text: str) -> SessionFileError:
    target = path / "session.json"
    target.write_text(text, encoding="utf-8")
    before = target.read_bytes()
    with pytest.raises(SessionFileError) as caught:
        read_session(target)
    assert target.read_bytes() == before
    assert str(target) in str(caught.value)
    return caught.value


def test_a_newer_version(tmp_path: Path) -> None:
    error = refused(tmp_path, json.dumps({**data(), "schema_version": 99}))
    assert "newer Diaulos" in error.what
    assert "Update Diaulos" in error.remedy


def test_an_unknown_field_is_named(tmp_path: Path) -> None:
    broken = data()
    broken["takes"][0]["tracks"][0]["colour"] = "blue"
    assert "takes.0.tracks.0.colour" in refused(tmp_path, json.dumps(broken)).what


@pytest.mark.parametrize(
    "name",
    ["../outside.wav", "/etc/passwd", "audio/../../x.wav", "audio/.hidden", "audio/a/b.wav", ""],
)
def test_a_path_that_leaves_the_folder(tmp_path: Path, name: str) -> None:
    broken = data()
    broken["takes"][0]["tracks"][0]["file"] = name
    assert "takes.0.tracks.0.file" in refused(tmp_path, json.dumps(broken)).what


def test_a_link_that_leaves_the_folder(folder: SessionFolder, tmp_path: Path) -> None:
    outside = tmp_path / "outside.wav"
    outside.write_bytes(b"x")
    (folder.path / "audio" / "t0001_k01.wav").symlink_to(outside)
    with pytest.raises(SessionFileError, match="out of the session folder"):
        folder.open_audio("audio/t0001_k01.wav")


@pytest.mark.parametrize("share", [0.1, 0.5, 0.99])
def test_a_file_cut_off(tmp_path: Path, share: float) -> None:
    text = session_text(session(one_pass()))
    error = refused(tmp_path, text[: int(len(text) * share)])
    assert "cut off or damaged at line" in error.what
    assert "session.previous.json" in error.remedy


@pytest.mark.parametrize(
    "text", ["", "[]", "42", "null", '{"schema_version": "one"}', "{}", "\x00\x01"]
)
def test_what_is_no_session_at_all(tmp_path: Path, text: str) -> None:
    refused(tmp_path, text)


def test_not_text(tmp_path: Path) -> None:
    (tmp_path / "session.json").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(SessionFileError):
        read_session(tmp_path / "session.json")


@pytest.mark.parametrize("number", ["NaN", "Infinity", "1e999"])
def test_numbers_that_are_none(tmp_path: Path, number: str) -> None:
    text = json.dumps({**data(), "tempo_bpm": "HERE"}).replace('"HERE"', number)
    refused(tmp_path, text)


def test_too_large_to_be_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("diaulos.storage.beside.MOST_BYTES", 100)
    assert "at most" in refused(tmp_path, session_text(session())).what


def test_migrations_run_in_order_and_do_not_touch_the_input() -> None:
    steps = {
        1: lambda d: {**d, "b": d["a"] + 1},
        2: lambda d: {**d, "c": d["b"] + 1},
    }
    old = {"schema_version": 1, "a": 1}
    assert migrate(old, "x", steps, 3) == {"schema_version": 3, "a": 1, "b": 2, "c": 3}
    assert old == {"schema_version": 1, "a": 1}


def test_the_schema_in_docs_is_the_models() -> None:
    path = Path(__file__).parents[2] / "docs" / "session.schema.json"
    assert json.loads(path.read_text("utf-8")) == Session.model_json_schema()


def test_a_match_target_has_bounds() -> None:
    with pytest.raises(ValidationError):
        MatchTarget(kind="lufs", lufs=6.0)


def test_saving_where_nothing_can_be_written(
    folder: SessionFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disk that fills up in the middle of a save: what was saved before stays."""

    def full(_handle: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(StorageError, match="disk is full"):
        folder.save(edits.keep_pass("t0001", "p01", True)(session(one_pass())))
    monkeypatch.undo()
    assert folder.load() == session(one_pass())
    assert not [p for p in folder.path.iterdir() if p.name.endswith(".part")]


def test_a_session_of_version_4_is_taken_over(folder: SessionFolder) -> None:
    """What version 5 adds has its usual value; all else stays."""
    before = session(one_pass())
    data = before.model_dump(mode="json")
    data["schema_version"] = 4
    for field in ("a4_hz", "mix"):
        del data[field]
    for take in data["takes"]:
        for field in ("over", "over_frame", "punched"):
            del take[field]
        for one in take["tracks"]:
            del one["quietest_dbfs"]
    for instrument in data["instruments"]:
        del instrument["intonation"]
    (folder.path / "session.json").write_text(json.dumps(data), encoding="utf-8")
    assert folder.load() == before
