"""Installed like any program, and taken away again."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from test_cli import documented, run_json

from diaulos import wiring
from diaulos.cli import VERBS
from diaulos.cli.installing import told_verbs
from diaulos.errors import InputError, StorageError
from diaulos.storage.installing import Places, Verb, exec_quoted, install, uninstall

HERE = Path(__file__).resolve().parents[2]
ALL = (
    "applications/org.diaulos.Diaulos.desktop",
    "icons/hicolor/scalable/apps/org.diaulos.Diaulos.svg",
    "metainfo/org.diaulos.Diaulos.metainfo.xml",
    "mime/packages/org.diaulos.Diaulos.xml",
    "bash-completion/completions/diaulos",
    "zsh/site-functions/_diaulos",
    "man/man1/diaulos.1",
)


@pytest.fixture
def command(tmp_path: Path) -> Path:
    """A launcher in a folder whose name has a space and a quote."""
    path = tmp_path / 'my "own" tools' / "diaulos"
    path.parent.mkdir()
    path.write_text('#!/bin/sh\nprintf "%s" "$1" > "$0.got"\n')
    path.chmod(0o755)
    return path


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, command: Path) -> Path:
    there = tmp_path / "home"
    monkeypatch.setenv("HOME", str(there))
    monkeypatch.delenv("XDG_DATA_HOME", raising=False)
    monkeypatch.setenv("DIAULOS_LAUNCHER", str(command))
    return there


def test_everything_is_written_and_taken_away(
    home: Path, command: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    code, data = run_json(capsys, "install", "--user")
    assert code == 0
    assert set(data) == documented("install")
    share = home / ".local" / "share"
    assert all((share / name).is_file() for name in ALL)
    link = home / ".local" / "bin" / "diaulos"
    assert link.resolve() == command.resolve()
    assert {Path(one) for one in data["files"]} == {*(share / name for name in ALL), link}
    assert run_json(capsys, "install", "--user")[0] == 0, "again"
    mine = share / "man" / "man1" / "diaulos.1"
    mine.write_text("changed by somebody")
    code, gone = run_json(capsys, "uninstall", "--user")
    assert code == 0
    assert set(gone) == documented("uninstall")
    assert len(gone["files"]) == len(ALL)
    left = [path for path in home.rglob("*") if path.is_file() or path.is_symlink()]
    # What the desktop's own tools made of it is theirs.
    ours = [path for path in left if "mime" not in str(path.relative_to(home))]
    assert ours == [mine], "what somebody changed stays"
    assert run_json(capsys, "uninstall", "--user")[1]["files"] == []


def test_another_program_of_the_name_is_left_alone(
    home: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    other = home / ".local" / "bin" / "diaulos"
    other.parent.mkdir(parents=True)
    other.write_text("#!/bin/sh\n")
    code, data = run_json(capsys, "install", "--user")
    assert code == 1
    assert "another program" in data["error"]
    assert other.read_text() == "#!/bin/sh\n"
    assert not (home / ".local" / "share").exists()


def test_the_desktop_entry_s_line_starts_the_program_with_a_file(
    home: Path, command: Path, tmp_path: Path
) -> None:
    install(Places(home / "share", home / "bin"), command, "1.2.3", "2026-01-02", [])
    entry = (home / "share" / ALL[0]).read_text("utf-8")
    line = re.search(r"^Exec=(.*)$", entry, re.M)
    assert line is not None
    # As a desktop takes it: the file's own escapes, then the quotes, then the fields.
    text = line[1].replace("\\\\", "\\")
    words = [word.replace("%%", "%") for word in shlex.split(text)]
    assert words == [str(command), "%f"]
    packed = tmp_path / "a session.diaulosz"
    subprocess.run([words[0], str(packed)], check=True)
    assert Path(f"{command}.got").read_text() == str(packed)
    assert exec_quoted("/opt/diaulos/diaulos") == "/opt/diaulos/diaulos"


def test_the_files_pass_the_validators(home: Path, command: Path) -> None:
    where = Places(home / "share", home / "bin")
    plain = home / "diaulos"
    home.mkdir()
    plain.write_text("#!/bin/sh\n")
    verbs = [Verb(name, words, options) for name, words, options in told_verbs()]
    install(where, plain, "0.2.0", "2026-11-30", verbs)
    if shutil.which("desktop-file-validate"):
        done = subprocess.run(
            ["desktop-file-validate", str(where.share / ALL[0])], capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        assert (done.returncode, done.stdout) == (0, "")
    if shutil.which("appstreamcli"):
        done = subprocess.run(
            ["appstreamcli", "validate", "--no-net", str(where.share / ALL[2])],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stdout
    for name in ALL[1:4]:
        ET.fromstring((where.share / name).read_text("utf-8"))
    mime = (where.share / ALL[3]).read_text("utf-8")
    assert f'glob pattern="*{wiring.PACKED}"' in mime
    done = subprocess.run(
        ["bash", "-n", str(where.share / ALL[4])], capture_output=True, text=True, check=False
    )
    assert (done.returncode, done.stderr) == (0, "")
    script = (
        f"source {shlex.quote(str(where.share / ALL[4]))};"
        ' COMP_WORDS=(diaulos she); COMP_CWORD=1; _diaulos; echo "${COMPREPLY[@]}";'
        ' COMP_WORDS=(diaulos sheet --pa); COMP_CWORD=2; _diaulos; echo "${COMPREPLY[@]}"'
    )
    done = subprocess.run(
        ["bash", "-c", script], capture_output=True, text=True, check=True, cwd=home
    )
    assert done.stdout.split() == ["sheet", "--pass", "--paper"]
    if shutil.which("man"):
        done = subprocess.run(
            ["man", "--warnings", "-l", str(where.share / ALL[6])], capture_output=True, text=True,
            check=False, env={**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8"},
        )  # fmt: skip
        assert done.returncode == 0
        assert done.stderr == ""
        assert all(verb in done.stdout for verb in VERBS)
    assert {verb.name for verb in verbs} == set(VERBS)


def test_a_list_of_somebody_else_takes_nothing_away(tmp_path: Path) -> None:
    share = tmp_path / "share"
    victim = tmp_path / "victim"
    victim.write_text("mine")
    for text in ('{"files": {"../victim": "x"}}', "[]", "{", '{"files": 3}'):
        (share / "diaulos").mkdir(parents=True, exist_ok=True)
        (share / "diaulos" / "installed.json").write_text(text)
        assert uninstall(Places(share, tmp_path / "bin")) == ()
    assert victim.read_text() == "mine"


def test_what_cannot_be_written_is_told(tmp_path: Path, command: Path) -> None:
    blocked = tmp_path / "share"
    blocked.write_text("a file")
    with pytest.raises(StorageError):
        install(Places(blocked, tmp_path / "bin"), command, "1", "2026-01-01", [])


def test_the_launcher_names_itself(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.delenv("DIAULOS_LAUNCHER", raising=False)
    monkeypatch.setattr(sys, "argv", [str(tmp_path / "__main__.py")])
    monkeypatch.setattr(sys, "executable", str(tmp_path / "python"))
    with pytest.raises(InputError, match="nobody knows"):
        wiring.own_command()
    assert "export DIAULOS_LAUNCHER" in (HERE / "diaulos").read_text("utf-8")
