"""Installed like any program: desktop entry, icon, metainfo, the type of packed sessions, shell
completion, a manual page, and a command; and all of it taken away again.

What was written is listed with its hashes. Taking it away removes what is still as it was written,
and nothing else.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from importlib.resources import files
from pathlib import Path

from diaulos.errors import DiaulosError, StorageError
from diaulos.records import dataclass
from diaulos.storage.beside import read_regular, write_failed, write_whole

APP = "org.diaulos.Diaulos"
LIST = "diaulos/installed.json"
MOST_LIST = 1 << 20
UPDATES = (
    ("update-mime-database", "mime"), ("update-desktop-database", "applications"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)  # fmt: skip


@dataclass(frozen=True)
class Verb:
    """A command of the shell: its name, what it does in a sentence, its options."""

    name: str
    words: str
    options: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Places:
    """Where it goes: `share` (data) and `bin` (commands)."""

    share: Path
    bin: Path


def places(environment: Mapping[str, str], *, user: bool) -> Places:
    """A person's own places, or those of everybody on this machine."""
    if not user:
        return Places(Path("/usr/local/share"), Path("/usr/local/bin"))
    home = Path(environment.get("HOME") or Path.home())
    share = environment.get("XDG_DATA_HOME") or home / ".local" / "share"
    return Places(Path(share), home / ".local" / "bin")


def install(
    where: Places, command: Path, version: str, date: str, verbs: Sequence[Verb]
) -> tuple[Path, ...]:
    """Write everything; the files. `command` is what starts the program. StorageError where it
    cannot be written, or where a command of that name is somebody else's."""
    link = where.bin / "diaulos"
    if os.path.lexists(link) and not _same(link, command):
        raise StorageError(
            "there is another program of this name.", where=str(link),
            remedy="Move it away first, or leave this one where it is.",
        )  # fmt: skip
    uninstall(where)
    written: dict[str, str] = {}
    for name, text in desktop_files(command, version, date, verbs).items():
        path = where.share / name
        _make(path.parent)
        write_whole(path, text.encode("utf-8"))
        written[name] = hashlib.sha256(text.encode("utf-8")).hexdigest()
    made_link = False
    if not os.path.lexists(link) and command.resolve() != link.resolve():
        _make(link.parent)
        try:
            link.symlink_to(command)
        except OSError as error:
            raise write_failed(link, error) from error
        made_link = True
    told = {"files": written, "command": str(link) if made_link else "", "starts": str(command)}
    _make((where.share / LIST).parent)
    write_whole(where.share / LIST, json.dumps(told, indent=1).encode("utf-8"))
    _update(where)
    paths = [where.share / name for name in written]
    return (*paths, link) if made_link else tuple(paths)


def uninstall(where: Places) -> tuple[Path, ...]:
    """Take away what was installed and is still as it was written; what was taken away."""
    path = where.share / LIST
    try:
        told = json.loads(read_regular(path, MOST_LIST))
        listed, link = dict(told["files"]), str(told.get("command", ""))
        starts = str(told.get("starts", ""))
    except (DiaulosError, OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return ()  # no list, or somebody else's: nothing of it is ours
    gone = []
    for name, told_hash in listed.items():
        target = where.share / str(name)
        if ".." in Path(str(name)).parts or Path(str(name)).is_absolute() or target.is_symlink():
            continue
        with contextlib.suppress(OSError):
            if target.is_file() and _hash(target) == told_hash:
                target.unlink()
                gone.append(target)
    command = where.bin / "diaulos"
    if link == str(command) and command.is_symlink() and str(command.readlink()) == starts:
        with contextlib.suppress(OSError):
            command.unlink()
            gone.append(command)
    with contextlib.suppress(OSError):
        path.unlink()
        path.parent.rmdir()
    if gone:
        _update(where)
    return tuple(gone)


def _same(link: Path, command: Path) -> bool:
    try:
        return link.resolve() == command.resolve()
    except OSError:
        return False


def _hash(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def _make(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise write_failed(folder, error) from error


def _update(where: Places) -> None:
    """Tell the desktop; where its tools are not there it finds out by itself."""
    for tool, folder in UPDATES:
        found = shutil.which(tool)
        if found is None or not (where.share / folder).is_dir():
            continue
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            subprocess.run(
                [found, str(where.share / folder)], check=False, capture_output=True, timeout=60
            )


def desktop_files(command: Path, version: str, date: str, verbs: Sequence[Verb]) -> dict[str, str]:
    """Every file that a desktop looks for, by its place below share."""
    told = {"EXEC": exec_quoted(str(command)), "VERSION": version, "DATE": date}

    def filled(name: str) -> str:
        text = (files("diaulos.storage") / "desktop" / f"{APP}.{name}").read_text("utf-8")
        for key, value in told.items():
            text = text.replace(f"@{key}@", value)
        return text

    return {
        f"applications/{APP}.desktop": filled("desktop"),
        f"icons/hicolor/scalable/apps/{APP}.svg": filled("svg"),
        f"metainfo/{APP}.metainfo.xml": filled("metainfo.xml"),
        f"mime/packages/{APP}.xml": filled("mime.xml"),
        "bash-completion/completions/diaulos": bash_completion(verbs),
        "zsh/site-functions/_diaulos": zsh_completion(verbs),
        "man/man1/diaulos.1": manual(version, date, verbs),
    }


def exec_quoted(command: str) -> str:
    """A path as an Exec line takes it (desktop entry specification 1.5, from memory)."""
    safe = set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-+,:@")
    text = command.replace("%", "%%")
    if set(command) <= safe:
        return text
    for sign in ("\\", '"', "`", "$"):
        text = text.replace(sign, f"\\{sign}")
    # The file's own strings are escaped once more.
    return '"' + text.replace("\\", "\\\\") + '"'


def bash_completion(verbs: Sequence[Verb]) -> str:
    """Verbs first, then the options of a verb and files."""
    lines = [
        "# Completion of diaulos for bash.",
        "_diaulos() {",
        '    local word="${COMP_WORDS[COMP_CWORD]}" verb="${COMP_WORDS[1]}" options=""',
        '    if [ "$COMP_CWORD" -eq 1 ]; then',
        f"        COMPREPLY=($(compgen -W '{' '.join(verb.name for verb in verbs)}' -- \"$word\"))",
        '        COMPREPLY+=($(compgen -f -- "$word"))',
        "        return",
        "    fi",
        '    case "$verb" in',
    ]
    for verb in verbs:
        names = " ".join(name for name, _ in verb.options)
        lines.append(f"        {verb.name}) options='{names}' ;;")
    lines += [
        "    esac",
        '    case "$word" in',
        '        -*) COMPREPLY=($(compgen -W "$options" -- "$word")) ;;',
        '        *) COMPREPLY=($(compgen -f -- "$word")) ;;',
        "    esac",
        "}",
        "complete -o filenames -F _diaulos diaulos",
    ]
    return "\n".join(lines) + "\n"


def zsh_completion(verbs: Sequence[Verb]) -> str:
    """The same for zsh, with what each verb does."""

    def quoted(text: str) -> str:
        return text.replace("'", "'\\''").replace(":", "\\:")

    lines = ["#compdef diaulos", "local -a verbs", "verbs=("]
    lines += [f"  '{verb.name}:{quoted(verb.words)}'" for verb in verbs]
    lines += [")", "if (( CURRENT == 2 )); then", "  _describe 'command' verbs", "  _files",
              "  return", "fi", 'case "$words[2]" in']  # fmt: skip
    for verb in verbs:
        options = " ".join(f"'{name}'" for name, _ in verb.options)
        lines.append(f"  {verb.name}) compadd -- {options} ;;" if options else f"  {verb.name}) ;;")
    lines += ["esac", "_files"]
    return "\n".join(lines) + "\n"


def manual(version: str, date: str, verbs: Sequence[Verb]) -> str:
    """The manual page, in the macros of man."""

    def safe(text: str) -> str:
        text = text.replace("\\", "\\e").replace("-", "\\-")
        return f"\\&{text}" if text[:1] in (".", "'") else text

    lines = [
        f'.TH DIAULOS 1 "{date}" "diaulos {version}"',
        ".SH NAME",
        "diaulos \\- record, reamp and compare guitar and bass at known levels",
        ".SH SYNOPSIS",
        ".B diaulos",
        "[\\fISESSION\\fR]",
        ".br",
        ".B diaulos",
        "\\fICOMMAND\\fR [\\fIOPTIONS\\fR]",
        ".SH DESCRIPTION",
        "Without a command the window opens, with the session or the packed session that is named.",
        "Every command takes \\fB\\-\\-help\\fR, most \\fB\\-\\-json\\fR for scripts.",
        ".SH COMMANDS",
    ]
    for verb in verbs:
        lines += [".TP", f".B {safe(verb.name)}", safe(verb.words)]
        for name, words in verb.options:
            lines += [".RS", ".TP", f".B {safe(name)}", safe(words) or "\\&", ".RE"]
    lines += [
        ".SH EXIT STATUS",
        "0 done; 1 error; 2 usage; 3 refused, with a reason.",
        "\\fBcheck\\fR: 0 up to note, 10 caution, 11 fault, 12 danger.",
        ".SH FILES",
        ".TP",
        ".I NAME.diaulos",
        "A session: a folder with session.json, audio, impulses and sheets.",
        ".TP",
        ".I NAME.diaulosz",
        "A packed session.",
    ]
    return "\n".join(lines) + "\n"
