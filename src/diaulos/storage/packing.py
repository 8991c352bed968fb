"""A whole session in one file (.diaulosz): a zip with a list of what is in it and its hashes.

Audio is stored as it is, only texts are deflated: no archive can grow into something else. The same
session gives the same bytes. What is unpacked comes from a stranger: nothing leads out of the
folder, no links, no name twice, nothing larger than it says; every file is held against its hash,
and the folder appears only when it is whole.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import shutil
import stat
import struct
import zipfile
import zlib
from pathlib import Path
from typing import Any, BinaryIO

from diaulos.errors import DiaulosError, SessionFileError, StorageError
from diaulos.records import dataclass
from diaulos.storage.beside import place_for, write_failed
from diaulos.storage.folder import FOLDERS, SUFFIX, SessionFolder
from diaulos.storage.session_file import read_session, session_text
from diaulos.work.handing.packing import Packing
from diaulos.work.ports import CancelToken, Progress, no_progress

PACKED = ".diaulosz"
LIST = "contents.json"
FORMAT = 1
MOST_FILES = 50_000
MOST_TEXT = 256 * 1024 * 1024
"""Bytes of the session and of the list, unpacked."""
MOST_BYTES = 4 * 1024**4
CHUNK = 1 << 20
DATE = (1980, 1, 1, 0, 0, 0)
"""Of every entry: nobody's clock gets into it."""
NAME = re.compile(r"(audio|impulses|sheets)/[A-Za-z0-9_][A-Za-z0-9_ .,()+-]{0,200}")


@dataclass(frozen=True)
class Unpacked:
    """What came out: where it lies, how many files, what the sender left out or did not have."""

    path: Path
    files: int
    left_out: tuple[str, ...]
    missing: tuple[str, ...]


def pack(
    folder: SessionFolder, packing: Packing, target: Path, *, replace: bool = False,
    progress: Progress = no_progress, cancel: CancelToken | None = None,
) -> int:  # fmt: skip
    """Write a packed session; how many bytes it has. It appears under its name when it is whole."""
    cancel = cancel or CancelToken()
    if os.path.lexists(target) and not replace:
        raise StorageError("the file exists already.", where=str(target),
                           remedy="Choose another name, or replace it.")  # fmt: skip
    beside = target.with_name(f".{target.name}.part")
    text = session_text(packing.session).encode("utf-8")
    sizes = {file: folder.inside(file).stat().st_size for file in packing.files}
    total, done = max(1, sum(sizes.values())), 0
    contents: list[dict[str, Any]] = [_entry("session.json", text)]
    try:
        place_for(beside)
        with zipfile.ZipFile(beside, "w", allowZip64=True) as archive:
            archive.writestr(_info("session.json", deflate=True), text)
            for file in packing.files:
                hashed, count = hashlib.sha256(), 0
                with (
                    folder.inside(file).open("rb") as source,
                    archive.open(_info(file), "w", force_zip64=sizes[file] >= 2**31) as sink,
                ):
                    while chunk := source.read(CHUNK):
                        cancel.check()
                        hashed.update(chunk)
                        sink.write(chunk)
                        count += len(chunk)
                        done += len(chunk)
                        progress(min(1.0, done / total), file)
                contents.append({"file": file, "bytes": count, "sha256": hashed.hexdigest()})
            told = {
                "format": FORMAT, "name": packing.session.name, "contents": contents,
                "left_out": list(packing.left_out), "missing": list(packing.missing),
            }  # fmt: skip
            listed = json.dumps(told, indent=1, ensure_ascii=False).encode("utf-8")
            archive.writestr(_info(LIST, deflate=True), listed)
        os.replace(beside, target)
    except OSError as error:
        with contextlib.suppress(OSError):
            beside.unlink(missing_ok=True)
        raise write_failed(target, error) from error
    except BaseException:
        with contextlib.suppress(OSError):
            beside.unlink(missing_ok=True)
        raise
    return target.stat().st_size


def _entry(file: str, data: bytes) -> dict[str, Any]:
    return {"file": file, "bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()}


def _info(name: str, *, deflate: bool = False) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, DATE)
    info.compress_type = zipfile.ZIP_DEFLATED if deflate else zipfile.ZIP_STORED
    info.external_attr = (stat.S_IFREG | 0o644) << 16
    info.create_system = 3
    return info


def unpack(
    packed: Path, target: Path, *, progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Unpacked:  # fmt: skip
    """Make a session folder of a packed session. SessionFileError names what is wrong with it;
    then nothing is left behind."""
    cancel = cancel or CancelToken()
    target = target if target.suffix == SUFFIX else target.with_name(target.name + SUFFIX)
    if os.path.lexists(target):
        raise StorageError("there is something of this name already.", where=str(target),
                           remedy="Choose another name.")  # fmt: skip
    beside = target.with_name(f".{target.name}.part")
    try:
        with packed.open("rb") as raw:
            return _unpack(raw, packed, target, beside, progress, cancel)
    except (zipfile.BadZipFile, zlib.error, struct.error, EOFError, NotImplementedError) as error:
        raise _damaged(packed, str(error)) from error
    except OSError as error:
        if isinstance(error, FileNotFoundError) and not packed.exists():
            raise SessionFileError("there is no such file.", where=str(packed)) from error
        raise write_failed(target, error) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)


def _unpack(
    raw: BinaryIO, packed: Path, target: Path, beside: Path, progress: Progress,
    cancel: CancelToken,
) -> Unpacked:  # fmt: skip
    with zipfile.ZipFile(raw) as archive:
        entries = _checked(archive, packed)
        told = _list(archive, entries, packed)
        contents = told["contents"]
        names = {one["file"] for one in contents} | {LIST}
        if names != set(entries):
            odd = sorted(names ^ set(entries))[0]
            raise _damaged(packed, f"{odd} is not where the list of contents says")
        shutil.rmtree(beside, ignore_errors=True)
        for name in FOLDERS:
            (beside / name).mkdir(parents=True, exist_ok=True)
        total, done = max(1, sum(one["bytes"] for one in contents)), 0
        for one in contents:
            done = _take_out(archive, entries[one["file"]], one, beside, packed, cancel, done,
                             total, progress)  # fmt: skip
    try:
        session = read_session(beside / "session.json")
    except DiaulosError as error:
        raise _damaged(packed, str(error)) from error
    there = {one["file"] for one in contents}
    gone = sorted(session.used_files() - there - set(told["left_out"]) - set(told["missing"]))
    if gone:
        raise _damaged(packed, f"{gone[0]} is in the session and not in the file")
    os.replace(beside, target)
    return Unpacked(target, len(contents), tuple(told["left_out"]), tuple(told["missing"]))


def _checked(archive: zipfile.ZipFile, packed: Path) -> dict[str, zipfile.ZipInfo]:
    """The entries by name, all of them harmless."""
    infos = archive.infolist()
    if len(infos) > MOST_FILES:
        raise _damaged(packed, f"it holds {len(infos)} files")
    found: dict[str, zipfile.ZipInfo] = {}
    total = 0
    for info in infos:
        name = info.filename
        text = name in ("session.json", LIST)
        if name in found:
            raise _damaged(packed, f"{name!r} is in it twice")
        if info.orig_filename != name or not (text or NAME.fullmatch(name)) or ".." in name:
            raise _damaged(packed, f"{name[:200]!r} is no file of a session")
        kind = stat.S_IFMT(info.external_attr >> 16)
        if info.is_dir() or kind not in (0, stat.S_IFREG):
            raise _damaged(packed, f"{name} is no plain file")
        if info.flag_bits & 0x1:
            raise _damaged(packed, f"{name} is encrypted")
        wanted = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) if text else (zipfile.ZIP_STORED,)
        if info.compress_type not in wanted:
            raise _damaged(packed, f"{name} is compressed; sound is stored as it is")
        if text and info.file_size > MOST_TEXT:
            raise _damaged(packed, f"{name} is larger than a session can be")
        if not text and info.file_size != info.compress_size:
            raise _damaged(packed, f"the sizes of {name} do not fit")
        total += info.file_size
        found[name] = info
    if total > MOST_BYTES:
        raise _damaged(packed, "it is larger than a session can be")
    lower = [name.casefold() for name in found]
    if len(set(lower)) != len(lower):
        raise _damaged(packed, "two of its names differ in case only")
    for name in ("session.json", LIST):
        if name not in found:
            raise _damaged(packed, f"it has no {name}")
    return found


def _list(
    archive: zipfile.ZipFile, entries: dict[str, zipfile.ZipInfo], packed: Path
) -> dict[str, Any]:
    """The list of contents, checked for its shape."""
    data = _read(archive, entries[LIST], packed)
    try:
        told = json.loads(data)
        contents, left, missing = told["contents"], told["left_out"], told["missing"]
        fine = (
            told["format"] == FORMAT
            and all(isinstance(one, str) for one in (*left, *missing))
            and all(
                isinstance(one["file"], str)
                and isinstance(one["bytes"], int)
                and isinstance(one["sha256"], str)
                for one in contents
            )
            and len({one["file"] for one in contents}) == len(contents)
        )
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise _damaged(packed, "its list of contents cannot be read") from error
    if not fine:
        raise _damaged(packed, "its list of contents is of another kind")
    return dict(told)


def _read(archive: zipfile.ZipFile, info: zipfile.ZipInfo, packed: Path) -> bytes:
    with archive.open(info) as source:
        data = source.read(MOST_TEXT + 1)
    if len(data) > MOST_TEXT or len(data) != info.file_size:
        raise _damaged(packed, f"{info.filename} is not as large as it says")
    return data


def _take_out(
    archive: zipfile.ZipFile, info: zipfile.ZipInfo, told: dict[str, Any], beside: Path,
    packed: Path, cancel: CancelToken, done: int, total: int, progress: Progress,
) -> int:  # fmt: skip
    """One file, held against its hash while it is written."""
    if info.file_size != told["bytes"]:
        raise _damaged(packed, f"{info.filename} is not as large as the list of contents says")
    hashed, left = hashlib.sha256(), info.file_size
    path = beside / info.filename
    with archive.open(info) as source, path.open("xb") as sink:
        while left > 0:
            cancel.check()
            chunk = source.read(min(CHUNK, left))
            if not chunk:
                break
            left -= len(chunk)
            hashed.update(chunk)
            sink.write(chunk)
            done += len(chunk)
            progress(min(1.0, done / total), info.filename)
        if left or source.read(1):
            raise _damaged(packed, f"{info.filename} is not as large as it says")
    if hashed.hexdigest() != told["sha256"]:
        raise _damaged(packed, f"{info.filename} is not what was packed")
    return done


def _damaged(packed: Path, what: str) -> SessionFileError:
    return SessionFileError(
        f"the packed session is damaged or no such file: {what}.", where=packed.name,
        remedy="Ask for it again. Nothing was unpacked.",
    )  # fmt: skip
