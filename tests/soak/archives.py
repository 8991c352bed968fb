"""Packed sessions with something wrong in them: each is refused with a clear error and nothing is
left behind, or comes out as it was packed."""

from __future__ import annotations

import io
import json
import random
import shutil
import stat
import tempfile
import warnings
import zipfile
from pathlib import Path

import numpy as np

from diaulos.errors import DiaulosError
from diaulos.session.model import Session, Take, Track
from diaulos.storage.folder import SessionFolder
from diaulos.storage.packing import LIST, pack, unpack
from diaulos.work.handing.packing import PackChoice, plan_packing
from diaulos.work.ports import FileNotes
from support import NOON, RATE

ARCHIVES = 5_000
NAMES = ("/etc/x", "../x.wav", "audio/../../x", "audio\\x.wav", "audio/x\x00.wav", "c:x.wav",
         "audio/" + "x" * 300, "session.json", LIST, "audio/t0001_k01.wav/x", "")  # fmt: skip


def small(where: Path) -> bytes:
    """A packed session of two short tracks."""
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    folder = SessionFolder.create(where / "s.diaulos", session)
    tracks = []
    for at in (1, 2):
        file = f"audio/t0001_k{at:02d}.wav"
        sink = folder.create_audio(file, RATE, 1, "24", FileNotes("DI", NOON))
        sink.write(np.linspace(-0.5, 0.5, 300, dtype=np.float32)[:, None])
        sink.close()
        tracks.append(
            Track(id=f"k{at:02d}", name=f"T{at}", tap="amp", file=file, frames=300, peak_dbfs=-6.0)
        )
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tuple(tracks))
    session = session.model_copy(update={"takes": (take,)})
    folder.save(session)
    pack(folder, plan_packing(session, PackChoice(), folder.has_file), where / "good.diaulosz")
    folder.close()
    return (where / "good.diaulosz").read_bytes()


def _bytes_changed(good: bytes, rng: random.Random) -> bytes:
    data = bytearray(good)
    for _ in range(rng.choice((1, 1, 2, 5, 20))):
        at = rng.randrange(len(data))
        what = rng.randrange(5)
        if what == 0:
            data[at] ^= 1 << rng.randrange(8)
        elif what == 1:
            data[at] = rng.randrange(256)
        elif what == 2:
            del data[at : at + rng.randrange(1, 40)]
        elif what == 3:
            data[at:at] = rng.randbytes(rng.randrange(1, 40))
        else:
            data = data[: max(1, at)]
        if not data:
            data = bytearray(b"x")
    return bytes(data)


def _entries_changed(good: bytes, rng: random.Random) -> bytes:
    out = io.BytesIO()
    with (
        warnings.catch_warnings(action="ignore"),  # a name that is there twice is wanted here
        zipfile.ZipFile(io.BytesIO(good)) as archive,
        zipfile.ZipFile(out, "w") as made,
    ):
        infos = archive.infolist()
        rng.shuffle(infos)
        for info in infos:
            data = archive.read(info)
            what = rng.randrange(12)
            if what == 0:
                continue
            if what == 1:
                data = data[: len(data) // 2]
            elif what == 2:
                info.filename = rng.choice(NAMES)
            elif what == 3:
                info.external_attr = (rng.choice((stat.S_IFLNK, stat.S_IFDIR, stat.S_IFIFO))) << 16
            elif what == 4:
                info.compress_type = rng.choice((zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2))
            elif what == 5 and info.filename == LIST:
                told = json.loads(data)
                rng.choice(told["contents"])[rng.choice(("file", "bytes", "sha256"))] = rng.choice(
                    (None, -1, "x", 1e300, [], "../x", 2**70)
                )
                data = json.dumps(told).encode()
            elif what == 6:
                data = b"[" * 100_000
            made.writestr(info, data)
            if rng.randrange(20) == 0:
                made.writestr(rng.choice(NAMES) or "x", data)
    return out.getvalue()


def mutated(good: bytes, where: Path, count: int, rng: random.Random) -> list[str]:
    """What went wrong, in words; empty where nothing did."""
    wrong: list[str] = []
    room = where / "room"
    room.mkdir()
    fine = unpack_all(good, room)
    for number in range(count):
        make = _bytes_changed if rng.randrange(3) else _entries_changed
        try:
            data = make(good, rng)
        except (ValueError, OSError, KeyError):
            continue  # the tool that changes it could not write such a thing
        path = room / "m.diaulosz"
        path.write_bytes(data)
        try:
            found = unpack(path, room / "out")
        except DiaulosError as error:
            if not error.what:
                wrong.append(f"{number}: an error without words")
        except Exception as error:
            wrong.append(f"{number}: {type(error).__name__}: {error}")
        else:
            if _files(found.path) != fine:
                wrong.append(f"{number}: it came out as something else")
        left = {one.name for one in room.iterdir()} - {"m.diaulosz"}
        if left - {"out.diaulos"}:
            wrong.append(f"{number}: left behind: {sorted(left)}")
        for name in left:
            shutil.rmtree(room / name, ignore_errors=True)
        if {one.name for one in where.iterdir()} - {"room"} - _BEFORE.get(where, set()):
            wrong.append(f"{number}: something lies outside")
    shutil.rmtree(room)
    return wrong


_BEFORE: dict[Path, set[str]] = {}


def unpack_all(good: bytes, room: Path) -> dict[str, bytes]:
    """The files of a good one; and what lies beside its room before anything is tried."""
    _BEFORE[room.parent] = {one.name for one in room.parent.iterdir()}
    path = room / "good.diaulosz"
    path.write_bytes(good)
    found = _files(unpack(path, room / "good").path)
    shutil.rmtree(room / "good.diaulos")
    path.unlink()
    return found


def _files(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def run(count: int, seed: int) -> tuple[str, int]:
    """The whole check: words, and how many went wrong."""
    with tempfile.TemporaryDirectory() as kept:
        where = Path(kept)
        good = small(where)
        wrong = mutated(good, where, count, random.Random(seed))
    for words in wrong[:20]:
        print(words)
    return f"{count} packed sessions with something wrong, {len(wrong)} did harm", len(wrong)
