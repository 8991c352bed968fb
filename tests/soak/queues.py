"""Queues of twelve passes of 20 s, cancelled at random moments and gone on with, now and then after
the session was closed and opened again: none is lost, none doubled, none other than undisturbed.
"""

from __future__ import annotations

import random
import tempfile
from datetime import datetime
from pathlib import Path

import numpy as np
import soundfile

from diaulos.errors import CancelledError
from diaulos.rig.catalogue import reamp_rig
from diaulos.session.model import Session, Take, Track
from diaulos.signal.strings import Part, StringCharacter, play, render_notes
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for
from diaulos.work.ports import CancelToken, FileNotes
from diaulos.work.reamp.queue import (
    QueueFile,
    asked_passes,
    line_up,
    make_queued,
    next_waiting,
)
from support import RATE

WHOLE = 10
"""Queues."""
PASSES, SECONDS = 12, 20.0
SHORT = (4, 3.0)
"""The same of a tenth: most of a pass's time is its slates, whatever its length."""
NOON = datetime(2026, 5, 9, 12, 0, 0)
GIVE_UP = 2.5
"""A pass is cancelled at a moment drawn between its begin and so many times its length: two times
in five."""
AGAIN = 0.3
"""How often the session is closed and opened again."""
LINE = Part(((40,), (43,), (45,), (47,), (), (50,), (47,), (45,)))


def prepared(where: Path, passes: int, seconds: float) -> tuple[SessionFolder, Session]:
    """A take, and so many tones of it lined up."""
    rig = reamp_rig()
    track = Track(id="k01", name="DI", tap="di", file="audio/t0001_k01.wav",
                  frames=round(seconds * RATE), peak_dbfs=-12.0, full_scale_dbu=12.0)  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track,))
    session = Session(id="q", name="Q", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id,
                      takes=(take,))  # fmt: skip
    folder = SessionFolder.create(where, session)
    sink = folder.create_audio(track.file, RATE, 1, "24", FileNotes("DI", NOON))
    notes = play(LINE, 110.0, seconds, 5)
    sink.write(0.5 * render_notes(notes, float(RATE), seconds, StringCharacter(), 5)[:, None])
    sink.close()
    drives = [10.0 * number / (passes - 1) for number in range(passes)]
    tones = [{"name": f"{drive:.1f}", "settings": {"amp.drive": drive}} for drive in drives]
    asked = QueueFile.model_validate({"takes": ["One"], "tones": tones})
    session = line_up(asked_passes(session, asked))(session)
    folder.save(session)
    return folder, session


def worked_off(
    folder: SessionFolder, session: Session, rng: random.Random | None
) -> tuple[SessionFolder, Session, int, int]:
    """The queue to its end; how often it was cancelled, and how often opened again."""
    cancelled = opened = 0
    while (item := next_waiting(session)) is not None:
        token = CancelToken()
        until = rng.uniform(0.0, GIVE_UP) if rng is not None else GIVE_UP

        def told(
            fraction: float, _text: str, token: CancelToken = token, at: float = until
        ) -> None:
            if fraction >= at:
                token.cancel()

        try:
            outcome = make_queued(session, item, store=folder, backend_for=bench_for(seed=7),
                                  clock=lambda: NOON, progress=told, cancel=token)  # fmt: skip
        except CancelledError:
            cancelled += 1
        else:
            session = outcome.edit(session)
            folder.save(session)
        if rng is not None and rng.random() < AGAIN:
            path = folder.path
            folder.close()
            folder = SessionFolder.open(path)
            session = folder.load()
            opened += 1
    return folder, session, cancelled, opened


def sounds(folder: SessionFolder, session: Session) -> dict[str, np.ndarray]:
    """What every tone sounds like."""
    made = {one.pass_id: one.tone.name for one in session.queue}
    return {
        made[one.id]: soundfile.read(str(folder.path / one.main.file), dtype="float32")[0]
        for one in session.take("t0001").passes
    }


def run(count: int, seed: int, passes: int = PASSES, seconds: float = SECONDS) -> tuple[str, int]:
    """So many queues; (what to print, in how many something was wrong)."""
    rng = random.Random(seed)
    wrong: list[str] = []
    cancelled = opened = 0
    with tempfile.TemporaryDirectory(prefix="diaulos-soak-") as place:
        folder, session = prepared(Path(place) / "undisturbed.diaulos", passes, seconds)
        folder, session, _, _ = worked_off(folder, session, None)
        truth = sounds(folder, session)
        folder.close()
        for number in range(count):
            folder, session = prepared(Path(place) / f"{number}.diaulos", passes, seconds)
            folder, session, stops, again = worked_off(folder, session, rng)
            cancelled, opened = cancelled + stops, opened + again
            made = session.take("t0001").passes
            heard = sounds(folder, session)
            if len(made) != passes or set(heard) != set(truth):
                wrong.append(f"{number}: {len(made)} passes of {len(heard)} tones")
            elif any(not np.array_equal(heard[name], truth[name]) for name in truth):
                wrong.append(f"{number}: a pass sounds otherwise than undisturbed")
            if left := folder.orphans(session):
                wrong.append(f"{number}: {len(left)} files left over")
            folder.close()
    told = (
        f"queues: {count} of {passes} passes of {seconds:g} s, cancelled {cancelled} times, opened"
        f" again {opened} times; {len(wrong)} wrong"
    )
    return "\n".join([told, *wrong[:20]]), len(wrong) + (cancelled == 0)
