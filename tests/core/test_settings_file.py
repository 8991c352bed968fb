"""What the window remembers, in its file: damaged, foreign, shared, too much."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from diaulos.errors import StorageError
from diaulos.storage.settings import MOST_BYTES, SettingsFile, settings_path


def test_words_are_kept_changed_and_forgotten(tmp_path: Path) -> None:
    file = SettingsFile(tmp_path / "deep" / "settings.json")
    assert file.known() == {}
    file.keep({"look": "night", "recent": '["/Früh/\\"a\\""]'})
    file.keep({"look": "day", "zoom": "1.25"})
    file.keep({"zoom": None, "never there": None})
    assert file.known() == {"look": "day", "recent": '["/Früh/\\"a\\""]'}
    assert [one.name for one in file.path.parent.iterdir()] == ["settings.json"]


def test_it_stands_beside_the_round_trips(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    assert settings_path() == tmp_path / "Diaulos" / "settings.json"
    monkeypatch.delenv("XDG_CONFIG_HOME")
    monkeypatch.setenv("HOME", str(tmp_path))
    assert settings_path() == tmp_path / ".config" / "Diaulos" / "settings.json"


@pytest.mark.parametrize(
    "data",
    [
        b"", b"{", b"[]", b"null", b'{"settings": []}', b'{"settings": {"look": 7}}',
        b"\xff\xfe", b"[" * 100_000, b" " * (MOST_BYTES + 1),
    ],
)  # fmt: skip
def test_what_is_damaged_holds_nothing_and_is_begun_anew(data: bytes, tmp_path: Path) -> None:
    file = SettingsFile(tmp_path / "settings.json")
    file.path.write_bytes(data)
    assert file.known() == {}
    file.keep({"look": "night"})
    assert file.known() == {"look": "night"}


def test_no_link_is_read_and_none_is_written_through(tmp_path: Path) -> None:
    other = tmp_path / "other.json"
    other.write_text('{"settings": {"look": "night"}}')
    file = SettingsFile(tmp_path / "settings.json")
    file.path.symlink_to(other)
    assert file.known() == {}
    file.keep({"zoom": "1"})
    assert other.read_text() == '{"settings": {"look": "night"}}'
    assert file.known() == {"zoom": "1"}


def test_a_path_that_is_no_text_is_kept(tmp_path: Path) -> None:
    """File names are bytes: what is none in UTF-8 reaches us as lone surrogates."""
    file = SettingsFile(tmp_path / "settings.json")
    file.keep({"folder": os.fsdecode(b"/caf\xe9")})
    assert os.fsencode(file.known()["folder"]) == b"/caf\xe9"


def test_too_much_is_refused_and_what_was_there_stays(tmp_path: Path) -> None:
    file = SettingsFile(tmp_path / "settings.json")
    file.keep({"look": "night"})
    with pytest.raises(StorageError, match="too much"):
        file.keep({"recent": "a" * MOST_BYTES})
    assert file.known() == {"look": "night"}


def test_a_folder_that_cannot_be_made_is_told(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(StorageError, match="could not be written"):
        SettingsFile(tmp_path / "file" / "settings.json").keep({"look": "night"})
