"""Damaged and hostile sessions and audio files: each loads or is refused in words, at once."""

from __future__ import annotations

import copy
import json
import random
import resource
import struct
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from diaulos.demo.rigs import reamp_rigs
from diaulos.demo.saltmarsh import PLAYERS
from diaulos.errors import DiaulosError
from diaulos.rig.templates import build
from diaulos.session.model import Session, Take, Track
from diaulos.storage.audiofile import audio_info, read_blocks
from diaulos.storage.bwf import Bext, WavWriter
from diaulos.storage.session_file import read_session, session_text

SESSIONS, AUDIO = 3_000, 2_000
SLOW_S = 20.0
"""No single file may take so long: a hang is a failure, a busy machine is none."""
NASTY: tuple[Any, ...] = (
    None, True, -1, 0, 1e308, -1e-308, 2**63, 10**30, "", "x" * 100_000, "../../etc/passwd",
    "/etc/passwd", "audio/../../x", "a\x00b", "a\nb", "=1+1", "<b>x</b>", [], {}, [[]] * 50,
    {"a": {"b": {"c": 1}}}, float("nan"), float("inf"), "\ud800", 5, 6, 7, "t0001",
)  # fmt: skip


def model_sessions() -> list[str]:
    """Sessions to damage: rigs of all kinds, takes, instruments."""
    track = Track(id="k01", name="DI", tap="di", file="audio/t0001_k01.wav", frames=10,
                  peak_dbfs=-3.0)  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track,))
    session = Session(
        id="s", name="Test", sample_rate_hz=48_000, rigs=reamp_rigs()[:1], current_rig="rig01",
        takes=(take,), instruments=tuple(player.instrument for player in PLAYERS[:2]),
    )  # fmt: skip
    rigs = (build("hybrid", "r0"), build("bass", "r1"))
    other = session.model_copy(update={"rigs": rigs, "current_rig": "r0"})
    return [session_text(session), session_text(other)]


def _places(data: Any, found: list[tuple[Any, Any]]) -> None:
    waiting = [data]
    while waiting:
        parent = waiting.pop()
        items = parent.items() if isinstance(parent, dict) else enumerate(parent)
        for key, value in list(items):
            found.append((parent, key))
            if isinstance(value, (dict, list)):
                waiting.append(value)


def session_mutant(texts: list[str], rng: random.Random) -> bytes:
    """One damaged session file."""
    text = rng.choice(texts)
    kind = rng.randrange(6)
    if kind == 0:
        return text[: rng.randrange(len(text))].encode()
    if kind == 1:
        raw = bytearray(text.encode())
        for _ in range(rng.randrange(1, 20)):
            raw[rng.randrange(len(raw))] = rng.randrange(256)
        return bytes(raw)
    data = json.loads(text)
    if kind == 2:
        data["schema_version"] = rng.choice([1, 2, 3, 4, 5])
    for _ in range(rng.randrange(1, 6)):
        places: list[tuple[Any, Any]] = []
        _places(data, places)
        parent, key = rng.choice(places)
        what = rng.randrange(4)
        if what == 0 and isinstance(parent, dict):
            parent.pop(key)
        elif what == 1 and isinstance(parent, dict):
            name = rng.choice(["extra", "id", "name", "file", "frames"])
            parent[name] = copy.deepcopy(rng.choice(NASTY))
        elif what == 2 and isinstance(parent, list):
            parent.extend([parent[key]] * rng.randrange(1, 50))
        else:
            parent[key] = copy.deepcopy(rng.choice(NASTY))
    return json.dumps(data).encode("utf-8", "surrogatepass")


def model_audio(place: Path) -> list[bytes]:
    """Audio files to damage: three word lengths, RF64, FLAC."""
    samples = 0.3 * np.sin(np.arange(3_000) / 9.0)
    found = []
    for word, limit in (("24", None), ("float", None), ("24", 2_000)):
        path = place / f"{len(found)}.wav"
        more = {} if limit is None else {"riff_limit": limit}
        writer = WavWriter(path, 48_000, 1, word, Bext("words"), **more)  # type: ignore[arg-type]
        writer.write(samples)
        writer.close()
        found.append(path.read_bytes())
    for kind, subtype in (("WAV", "PCM_16"), ("FLAC", "PCM_24"), ("AIFF", "PCM_16")):
        path = place / f"x.{kind.lower()}"
        soundfile.write(str(path), np.stack([samples, samples], 1), 44_100, subtype, format=kind)
        found.append(path.read_bytes())
    return found


def audio_mutant(files: list[bytes], rng: random.Random) -> bytes:
    """One damaged audio file."""
    raw = bytearray(rng.choice(files))
    kind = rng.randrange(4)
    if kind == 0:
        return bytes(raw[: rng.randrange(len(raw))])
    if kind == 1:  # the header: sizes, counts, rates
        for _ in range(rng.randrange(1, 5)):
            at = rng.randrange(min(len(raw) - 8, 1_000))
            value = rng.choice([0, 1, 8, 0x7FFFFFFF, 0xFFFFFFFF, 0xFFFFFFFE, rng.getrandbits(32)])
            struct.pack_into("<I", raw, at, value)
    elif kind == 2:
        for _ in range(rng.randrange(1, 50)):
            raw[rng.randrange(len(raw))] = rng.randrange(256)
    else:
        at = rng.randrange(len(raw))
        raw[at:at] = bytes(rng.randrange(256) for _ in range(rng.randrange(1, 300)))
    return bytes(raw)


def _read_all(path: Path) -> None:
    info = audio_info(path)
    for _ in read_blocks(info, count=1_000_000):
        pass


def _held(path: Path, read: Callable[[Path], object]) -> str:
    """ "" where it was read or refused in words."""
    begun = time.monotonic()
    try:
        read(path)
    except DiaulosError as error:
        if not str(error).strip():
            return "refused without a word"
    except BaseException as error:
        return f"{type(error).__name__}: {error}"[:300]
    return "" if time.monotonic() - begun < SLOW_S else "too slow"


def run(sessions: int = SESSIONS, audio: int = AUDIO, seed: int = 1) -> tuple[str, int]:
    """So many of each; (what to print, how many were not held)."""
    rng = random.Random(seed)
    limit = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (8 * 2**30, limit[1]))
    failures: list[str] = []
    with tempfile.TemporaryDirectory(prefix="diaulos-soak-") as name:
        place = Path(name)
        texts, files = model_sessions(), model_audio(place)
        for number in range(sessions):
            path = place / "session.json"
            path.write_bytes(session_mutant(texts, rng))
            what = _held(path, read_session)
            if what:
                failures.append(f"session {number}: {what}")
        for number in range(audio):
            path = place / "mutant.wav"
            path.write_bytes(audio_mutant(files, rng))
            what = _held(path, _read_all)
            if what:
                failures.append(f"audio {number}: {what}")
    resource.setrlimit(resource.RLIMIT_AS, limit)
    line = f"mutants: {sessions} sessions, {audio} audio files; {len(failures)} not held"
    return "\n".join([line, *failures[:20]]), len(failures)
