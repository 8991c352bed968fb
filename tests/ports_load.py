"""What is lost while eight inputs come in by JACK, a window paints meters and a job computes.

Run by the benchmark: `python ports_load.py SECONDS BLOCK INPUTS [alone]`. Prints JSON: frames lost
and skipped, the server's xruns and which program was late at each, processor seconds of this
process and of the one that holds the ports, the memory of both after a fifth of the time and at
the end (MB), and whether the server had real-time rights. Every sample is held to the server's
time: frames whose channels are apart, and frames that are not in their place. `alone`: no job
computes beside.
"""

from __future__ import annotations

import json
import os
import re
import resource
import sys
import tempfile
import threading
import time
from collections import Counter
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from foreign_amp import RAMP
from jack_server import JackServer, environment
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from diaulos.app import theme
from diaulos.app.views.takes.board import Board, BoardRow
from diaulos.audio.jack_backend import JackBackend
from diaulos.figures import LevelFigures
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import StreamSpec

LATE = r"XRun: client = (.+?) was not finished"


class Ports:
    """The other program's ports."""

    def open(self, spec, callback):  # type: ignore[no-untyped-def]
        self.stream = JackBackend().open(replace(spec, device="ramp"), callback)
        return self.stream


def main() -> None:
    seconds, block, inputs = float(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
    name = "diaulos-bench"
    os.environ.update(environment(name))
    app = QApplication([])
    theme.load_fonts()
    theme.apply(app, theme.DAY)
    board = Board()
    board.resize(900, 600)
    board.show()
    level = [-20.0] * inputs

    def row(n: int) -> BoardRow:
        figures = LevelFigures("dBFS", -110.0, 0.0, level[n], level[n] - 6.0)
        return BoardRow(str(n), f"Track {n + 1}", "di", figures, level[n], live=True)

    paint = QTimer()
    paint.timeout.connect(lambda: board.show_rows(tuple(row(n) for n in range(inputs))))
    paint.start(33)
    with tempfile.TemporaryDirectory() as folder:
        server = JackServer(name, Path(folder) / "log", block=block, sync=False)
        server.realtime = True
        server.start()
        server.amp("ramp", channels=inputs, ramp=1)
        ports, wrong = Ports(), [0, 0]
        begins: list[int] = []
        place, shift = [0], Counter[int]()

        def consume(taken) -> None:  # type: ignore[no-untyped-def]
            whole = np.round(taken.samples.astype(np.float64) * RAMP).astype(np.int64)
            wrong[0] += int(np.count_nonzero(whole != whole[:, :1]))
            wrong[1] += int(np.count_nonzero(np.diff(whole[:, 0]) % RAMP != 1))
            first = place[0] + taken.lost
            place[0] = first + whole.shape[0]
            begins.extend(() if begins else (int(whole[0, 0]) - first,))
            off = (whole[:, 0] - np.arange(first, place[0]) - begins[0] + RAMP // 2) % RAMP
            shift.update((off - RAMP // 2).tolist())
            level[:] = [float(-60.0 + 40.0 * np.random.default_rng(1).random())] * inputs

        capture = Capture(ports, StreamSpec(48_000, block, inputs, 0), frames=int(seconds * 48_000))
        thread = threading.Thread(target=lambda: capture.run(consume))
        begun = _spent()
        thread.start()
        working = [True]

        def compute() -> None:
            data = np.random.default_rng(2).standard_normal(1 << 18)
            while working[0]:
                np.fft.rfft(data)

        job = threading.Thread(target=compute)
        if "alone" not in sys.argv[4:]:
            job.start()
        started, memory = time.monotonic(), list[list[float]]()
        while thread.is_alive():
            app.processEvents()
            time.sleep(0.002)
            gone = time.monotonic() - started
            if (not memory and gone > seconds / 5.0) or (len(memory) == 1 and gone > seconds - 1.0):
                memory.append(_held())
        working[0] = False
        if job.ident is not None:
            job.join()
        spent = [now - then for now, then in zip(_spent(), begun, strict=True)]
        server.stop()
        late = Counter(re.findall(LATE, (Path(folder) / "log").read_text(errors="replace")))
    counts = ports.stream.counts
    print(json.dumps({
        "lost": counts["lost"], "skipped": counts["skipped"], "xruns": counts["xruns"],
        "late": dict(late),
        "apart": wrong[0], "breaks": wrong[1],
        "shifted": sum(shift.values()) - shift[0],
        "realtime": ports.stream.server_realtime,
        "ports_cpu_s": round(spent[1], 2), "memory_mb": memory,
    }))  # fmt: skip


def _held() -> list[float]:
    """MB of memory that this process and the one that holds the ports have in use."""
    found, begun = [], [str(os.getpid())]
    for task in Path("/proc/self/task").iterdir():
        begun += (task / "children").read_text(encoding="ascii").split()
    for one in begun:
        words = Path(f"/proc/{one}/status").read_text(encoding="ascii", errors="replace")
        if "jackd" not in words.splitlines()[0]:
            kilobytes = next(row for row in words.splitlines() if row.startswith("VmRSS"))
            found.append(round(int(kilobytes.split()[1]) / 1000.0, 1))
    return found


def _spent() -> tuple[float, float]:
    one, two = (resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return one.ru_utime + one.ru_stime, two.ru_utime + two.ru_stime


if __name__ == "__main__":
    main()
