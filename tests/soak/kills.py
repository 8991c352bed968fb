"""A thousand deaths: SIGKILL while it records, after a take is saved, during a reamp, and
while the window saves. Nothing that was told to be there may be gone.

Children are forked from a process that has everything imported and no thread, so that a death
costs a moment. What a child has done it writes into memory that outlives it.
"""

from __future__ import annotations

import mmap
import os
import random
import shutil
import signal
import struct
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
import soundfile
from known_source import KnownBackend, known

from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.storage.folder import SessionFolder
from diaulos.storage.sources import ExternalAudio
from diaulos.wiring import bench_for, resampled
from diaulos.work.capture.recorder import Recorder
from diaulos.work.capture.ring import RING_S
from diaulos.work.reamp.passes import ReampRequest, make_pass
from diaulos.work.reamp.recovery import bring_back, remains_of
from diaulos.work.takes.importing import ImportRequest, import_di
from diaulos.work.takes.keeping import save_session
from diaulos.work.takes.recording import RecordRequest, prepare

RATE = 48_000
NOON = datetime(2026, 5, 9, 12, 0, 0)
WHOLE = 1_000


SECONDS_LOST: list[float] = []
"""Of every recording that was brought back: what had come and is not in its files."""


class Board:
    """A few numbers that a child writes and its parent reads after its death."""

    def __init__(self) -> None:
        self._memory = mmap.mmap(-1, 64)

    def __setitem__(self, place: int, value: int) -> None:
        struct.pack_into("<q", self._memory, 8 * place, value)

    def __getitem__(self, place: int) -> int:
        return int(struct.unpack_from("<q", self._memory, 8 * place)[0])


@dataclass(frozen=True)
class Kind:
    """One kind of death: what the child does, how long at most, and what must hold after."""

    name: str
    share: float
    make: Callable[[Path], None]
    child: Callable[[Path, Board], None]
    most_s: float
    check: Callable[[Path, Board], None]


# --- while it records ---


def record_session(path: Path) -> None:
    rig = build("hybrid", "rig01")
    session = Session(id="s", name="Test", sample_rate_hz=RATE, rigs=(rig,), current_rig="rig01")
    SessionFolder.create(path, session).close()


class Told(KnownBackend):
    """Tells how far it is: what came, and what was handed to the files."""

    board: Board
    recorder: Recorder

    def open(self, spec, callback):  # type: ignore[no-untyped-def]
        def told(inputs, outputs, count, at, status) -> bool:  # type: ignore[no-untyped-def]
            go_on = callback(inputs, outputs, count, at, status)
            self.board[0] = at.frame + count
            if self.recorder.meters is not None:
                self.board[1] = self.recorder.meters.frame
            return bool(go_on)

        return super().open(spec, told)


def recording_child(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    backend = Told(realtime=True)
    backend.board = board
    recording = prepare(RecordRequest(folder.load()), folder, lambda *_: backend, lambda: NOON)
    backend.recorder = recording.recorder
    recording.run()


def recording_check(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)  # a dead holder keeps nobody out
    session = folder.load()
    captured, written = board[0], board[1]
    found = bring_back(session, folder, remains_of(session, folder))
    if written > RATE:
        assert found.edits, (captured, written, found.failed)
    for edit in found.edits:
        session = edit(session)
    for take in session.takes:
        # Headers are true every half second of what is written; a writer that the machine
        # holds up has no more to come than the ring holds.
        kept = take.tracks[0].frames
        assert kept >= written - RATE // 2, (kept, written)
        assert kept >= captured - RATE // 2 - RING_S * RATE, (kept, captured)
        SECONDS_LOST.append((captured - kept) / RATE)
        for channel, track in enumerate(take.tracks):
            samples, _ = soundfile.read(str(path / track.file))
            wanted = np.rint(known(np.arange(samples.size), channel) * 2**23) / 2**23
            assert np.array_equal(samples, wanted), track.file
    folder.close()


# --- after a take is saved ---


def saving_child(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    session = folder.load()
    while True:
        request = RecordRequest(session, seconds=0.1)
        done = prepare(request, folder, lambda *_: KnownBackend(), lambda: NOON).run()
        board[0] = board[0] + 1  # recorded
        session = done.edit(session)
        folder.write_journal(session)
        save_session(folder, session)
        board[1] = board[1] + 1  # saved


def saving_check(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    session = folder.load()
    assert len(session.takes) >= board[1], (len(session.takes), board[1])
    assert all(folder.has_file(file) for file in session.used_files())
    journal = folder.journal()
    newest = journal if journal is not None and len(journal.takes) > len(session.takes) else session
    found = remains_of(newest, folder)
    recovery = bring_back(newest, folder, found)
    assert len(newest.takes) + len(recovery.edits) >= board[0], (board[0], found)
    # A take without its audio under way is no loss: nothing of it came.
    for problem in recovery.failed:
        assert "holds audio" in str(problem), problem
    folder.close()


# --- during a reamp ---


def reamp_session(path: Path) -> None:
    rig = reamp_rig()
    session = Session(id="s", name="Test", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    folder = SessionFolder.create(path, session)
    wav = path.with_suffix(".wav")
    time_s = np.arange(2 * RATE) / RATE
    soundfile.write(str(wav), 0.2 * np.sin(2 * np.pi * 110.0 * time_s) * np.exp(-time_s), RATE)
    out = import_di(
        ImportRequest(wav, "DI", full_scale_dbu=12.0), session, store=folder,
        files=ExternalAudio(), resample=resampled, clock=lambda: NOON,
    )  # fmt: skip
    save_session(folder, out.edit(session))
    folder.close()
    wav.unlink()


def reamp_child(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    session = folder.load()
    while True:
        outcome = make_pass(
            ReampRequest(session, "t0001"), store=folder, backend_for=bench_for(),
            clock=lambda: NOON,
        )  # fmt: skip
        session = outcome.edit(session)
        folder.write_journal(session)
        board[0] = board[0] + 1


def reamp_check(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    session = folder.journal() or folder.load()
    assert len(session.take("t0001").passes) >= board[0]
    recovery = bring_back(session, folder, remains_of(session, folder))
    for edit in recovery.edits:
        session = edit(session)
    for one in session.take("t0001").passes:
        assert one.files
        assert all(folder.open_audio(file).frames > 0 for file in one.files)
    for problem in recovery.failed:  # killed before the first half second was written
        assert "audio" in str(problem), problem
    folder.close()


# --- while the window saves ---


def window_child(path: Path, board: Board) -> None:
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    os.environ["QT_LOGGING_RULES"] = "default.warning=false"
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from diaulos.app import theme
    from diaulos.app.desk import Desk
    from diaulos.app.main_window import MainWindow
    from diaulos.app.preferences import Preferences
    from diaulos.app.services import Services
    from diaulos.storage.settings import SettingsFile

    app = QApplication([])
    theme.load_fonts()
    settings = SettingsFile(path.with_suffix(".json"))
    window = MainWindow(Preferences(settings))
    desk = Desk(window, Services.of_this_machine())
    window.show()
    assert desk.open_path(path)
    document = desk.document
    assert document is not None

    def step() -> None:
        if desk.jobs._back.get("save") is not None:
            return
        board[0] = round(document._saved.tempo_bpm * 10)  # what is told to be saved
        # Above the tempo that it began with: the newest is the highest.
        tempo = document._saved.tempo_bpm + 0.1
        board[1] = board[1] + 1
        document.apply(edits.set_info(tempo_bpm=tempo), journal=board[1] % 3 == 0)
        desk.saving.save()

    timer = QTimer()
    timer.timeout.connect(step)
    timer.start(0)
    board[2] = 1
    app.exec()


def window_check(path: Path, board: Board) -> None:
    folder = SessionFolder.open(path)
    saved = folder.load()  # whole, whatever moment it was
    journal = folder.journal()
    newest = max(saved.tempo_bpm, journal.tempo_bpm if journal else 0.0)
    assert round(newest * 10) >= board[0], (newest, board[0])
    folder.close()


KINDS = (
    Kind("recording", 0.5, record_session, recording_child, 1.6, recording_check),
    Kind("take saved", 0.2, record_session, saving_child, 0.6, saving_check),
    Kind("reamp", 0.15, reamp_session, reamp_child, 1.2, reamp_check),
    Kind("window saves", 0.15, record_session, window_child, 1.0, window_check),
)
AT_ONCE = 4


def _begin(kind: Kind, path: Path) -> tuple[int, Board]:
    board = Board()
    sys.stdout.flush()
    pid = os.fork()
    if pid == 0:
        try:
            null = os.open(os.devnull, os.O_WRONLY)
            os.dup2(null, 1)
            kind.child(path, board)
        except BaseException:
            traceback.print_exc()
        finally:
            os._exit(9)
    return pid, board


def run(count: int = WHOLE, seed: int = 1) -> tuple[str, int]:
    """So many deaths; (what to print, how many of them lost something)."""
    rng = random.Random(seed)
    plan = [kind for kind in KINDS for _ in range(max(1, round(kind.share * count)))]
    rng.shuffle(plan)
    failures: list[str] = []
    died: dict[str, int] = {}
    with tempfile.TemporaryDirectory(prefix="diaulos-soak-") as place:
        models = {}
        for kind in KINDS:
            models[kind.name] = Path(place) / kind.name.replace(" ", "-")
            kind.make(models[kind.name].with_suffix(".diaulos"))
        for first in range(0, len(plan), AT_ONCE):
            batch = []
            for number, kind in enumerate(plan[first : first + AT_ONCE], start=first):
                path = Path(place) / f"{number}.diaulos"
                shutil.copytree(models[kind.name].with_suffix(".diaulos"), path)
                batch.append((number, kind, path, *_begin(kind, path)))
            # All run at once; each has its own moment.
            moments = sorted((rng.uniform(0.0, one[1].most_s), one[0]) for one in batch)
            if any(kind.name == "window saves" for _, kind, *_ in batch):
                end = time.monotonic() + 30.0
                while time.monotonic() < end and not all(
                    board[2] for _, kind, _, _, board in batch if kind.name == "window saves"
                ):
                    time.sleep(0.02)
            begun = time.monotonic()
            for moment, number in moments:
                time.sleep(max(0.0, begun + moment - time.monotonic()))
                pid = next(one[3] for one in batch if one[0] == number)
                os.kill(pid, signal.SIGKILL)
            for number, kind, path, pid, board in batch:
                _, status = os.waitpid(pid, 0)
                died[kind.name] = died.get(kind.name, 0) + 1
                if not os.WIFSIGNALED(status):
                    failures.append(f"{number} {kind.name}: ended by itself")
                try:
                    kind.check(path, board)
                except BaseException as error:
                    failures.append(f"{number} {kind.name}: {type(error).__name__}: {error}")
                shutil.rmtree(path, ignore_errors=True)
    told = ", ".join(f"{number} {name}" for name, number in died.items())
    lines = [f"kills: {sum(died.values())} ({told}); {len(failures)} lost something"]
    if SECONDS_LOST:
        most, usual = max(SECONDS_LOST), sorted(SECONDS_LOST)[len(SECONDS_LOST) // 2]
        lines.append(f"recordings lose their last {usual:.2f} s (median), {most:.2f} s at most")
    return "\n".join([*lines, *failures[:20]]), len(failures)
