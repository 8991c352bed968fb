"""Tones in a row, in the Reamp view: each pass is a job of its own, and one edit."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from diaulos.app.asking import ask, ask_file
from diaulos.app.jobs import Job
from diaulos.app.views.reamp.queue_panel import Drawn, QueuePanel, QueueRow
from diaulos.app.views.reamp.work import ReampWork
from diaulos.app.widgets.wrapping import Pages
from diaulos.errors import CancelledError, DiaulosError, StorageError
from diaulos.figures import counted
from diaulos.rig.states import reamps
from diaulos.session import edits
from diaulos.session.model import SIMULATED, Pass, QueuedPass, QueuedTone, part_name
from diaulos.session.roles import reamp_rig
from diaulos.signal.overview import build_overview
from diaulos.units import db_to_gain
from diaulos.work.listening.aligned import part_blocks
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.queue import (
    HEAT,
    QueueOutcome,
    asked_passes,
    clear_queue,
    is_driven_hard,
    line_up,
    make_queued,
    next_waiting,
    offered_tones,
    progress_words,
    queue_words,
    queued,
    read_queue,
    refused,
    to_set,
)
from diaulos.work.takes.impulses import load_impulses


class ReampQueue(ReampWork):
    """The page of the queue, and its running."""

    pages: Pages
    queue: QueuePanel
    _loop_page: QWidget
    _aside: tuple[QWidget, ...]
    """What gives its room to the queue while it is shown."""

    def _wire_queue(self) -> None:
        self._running = False
        self._offered: tuple[QueuedTone, ...] = ()
        self._drawn: dict[str, Drawn] = {}
        self._words: dict[tuple[object, ...], str] = {}
        self._next = QTimer(self)
        self._next.setSingleShot(True)
        self._next.setInterval(0)
        self._next.timeout.connect(self._run_next)
        self.queue.added.connect(self._queue_passes)
        self.queue.file_asked.connect(self.ask_queue)
        self.queue.run_asked.connect(self.toggle_run)
        self.queue.cleared.connect(self._clear_queue)
        self.queue.chosen_changed.connect(self._hear_queued)
        self.queue.left.connect(self.toggle_queue)

    @property
    def in_queue(self) -> bool:
        """Whether the page of the queue is shown."""
        return self.pages.currentWidget() is self.queue

    def toggle_queue(self) -> None:
        """Tones in a row, or the loop again."""
        opened = not self.in_queue
        self.pages.setCurrentWidget(self.queue if opened else self._loop_page)
        for widget in self._aside:
            widget.setVisible(not opened)
        if opened:
            self._show_queue()
            (self.queue.table if self._document.session.queue else self.queue.tones).setFocus()
            self.said.emit(
                "Tick takes and tones, queue them, R starts. Up and Down hear one after the other "
                "at equal loudness, K keeps and Del discards what is selected."
            )
        else:
            self.take_list.setFocus()

    # --- what is shown ---

    def _show_queue(self) -> None:
        session = self._document.session
        rigs = []
        if session.rigs:
            chosen = reamp_rig(session)
            others = [one for one in session.rigs if one.id != chosen.id and reamps(one)]
            rigs = [chosen, *(reamp_rig(session, one.id) for one in others)]
        try:
            self._offered = offered_tones(session, rigs)
        except DiaulosError:
            self._offered = ()  # a rig without a way back: the loop says why
        takes = [(one.id, one.name) for one in session.takes if one.sent is not None]
        tones = [(str(place), one.name) for place, one in enumerate(self._offered)]
        self.queue.show_choices(takes, tones, self.take.id if self.take else "")
        target = self.tone.target
        words = {"none": "Not matched", "lufs": f"Matched to {target.lufs:g} LUFS"}
        told = words.get(target.kind, "Matched to the same track of each take")
        self.queue.match.setText(f"{told}; changed in the loop's page.")
        rows, first = [], None
        for item in session.queue:
            take = next((one for one in session.takes if one.id == item.take_id), None)
            made = self._made(item)
            if first is None:
                first = made
            differs = self._differs(made, first) if made is not None else ""
            rows.append(QueueRow(item, take.name if take else "gone", made, differs))
        self.queue.show_rows(rows)
        self._show_running()
        self._draw_waves()

    def _differs(self, made: Pass, first: Pass | None) -> str:
        """Worked out once for a rig and a cabinet: a queue may have hundreds of passes."""
        later = self._document.session.cabinets.get(made.main.file)
        key = (
            made.rig_hash, first.rig_hash if first else "", made == first, made.send_gain_db,
            later.used if later is not None else "",
        )  # fmt: skip
        if key not in self._words:
            self._words[key] = queue_words(self._document.session, made, first)
        return self._words[key]

    def _made(self, item: QueuedPass) -> Pass | None:
        for take in self._document.session.takes:
            if take.id == item.take_id:
                return next((one for one in take.passes if one.id == item.pass_id), None)
        return None

    def _show_running(self) -> None:
        session = self._document.session
        self.queue.run.setText("Pause behind this one (R)" if self._running else "Start (R)")
        waits = next_waiting(session) is not None
        self.queue.run.setEnabled(self._running or (waits and not self._document.read_only))
        self.queue.clear.setEnabled(bool(session.queue) and not self._running)
        self.queue.words.setText(
            progress_words(session) if session.queue else "Nothing is queued yet."
        )

    def _draw_waves(self) -> None:
        """Waveforms of the passes, worked out while nobody waits for them."""
        session, store = self._document.session, self._document.store
        wanted = {item.id: self._made(item) for item in session.queue if item.id not in self._drawn}
        todo = {ident: made for ident, made in wanted.items() if made is not None}
        self.queue.show_waves(dict(self._drawn))
        if not todo:
            return
        lengths = {take.id: take for take in session.takes}
        items = {item.id: item for item in session.queue}

        def work(progress: Progress, cancel: CancelToken) -> dict[str, Drawn]:
            found = {}
            for ident, made in todo.items():
                cancel.check()
                back = made.main
                frames = lengths[items[ident].take_id].track(made.track_id).frames
                heard = part_blocks(
                    [store.open_audio(back.file)], made, [back], frames, matched=False
                )
                gain = db_to_gain(back.match.total_db if back.match else 0.0)
                part = made.part
                first, last = (part.first, part.last) if part is not None else (0, frames)
                overview = build_overview(block[:, 0] for block in heard)
                found[ident] = Drawn(overview, first, last, gain)
            return found

        def done(found: dict[str, Drawn]) -> None:
            self._drawn |= found
            self.queue.show_waves(dict(self._drawn))

        self._jobs.start(Job("queue waveforms", work, done, lambda _error: None, background=True))

    def _hear_queued(self) -> None:
        """The chosen row's pass is what is seen and heard, at the same place."""
        row = self.queue.chosen
        if row is None or row.made is None:
            return
        at, playing = self.player.position, self.player.playing
        self._choose_take(self.takes.row_of(row.item.take_id))
        self.pass_list.setCurrentIndex(self.passes.index(self.passes.row_of(row.made.id)))
        self.bar.choose("pass")
        self.player.seek(at)
        if playing and not self.player.playing:
            self.toggle_play()

    # --- filling it ---

    def _queue_passes(self, takes: list[str], places: list[str]) -> None:
        session, target = self._document.session, self.tone.target
        tones = [self._offered[int(place)] for place in places]
        names = ""
        if target.kind == "track" and self.take is not None:
            names = part_name(self.take.part(target.ident))
        lufs = target.lufs if target.kind == "lufs" else None
        try:
            passes = queued(session, [session.take(one) for one in takes], tones, names, lufs)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self._document.apply(line_up(passes))
        self.said.emit(f"{counted(len(passes), 'pass')} queued. R starts.")

    def ask_queue(self) -> None:
        """Ask for a queue's file."""
        path = ask_file(self, "Open a queue", "Queue (*.json)")
        if path:
            self.open_queue(Path(path))

    def open_queue(self, path: Path) -> None:
        """What a queue's file asks for."""
        session = self._document.session
        try:
            passes = asked_passes(session, read_queue(path))
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self._document.apply(line_up(passes))

    def _clear_queue(self) -> None:
        if self._document.apply(clear_queue()):
            self._drawn = {}

    # --- running it ---

    def reamp(self) -> None:
        """Send the chosen take out; on the page of the queue, start it or pause."""
        if self.in_queue:
            self.toggle_run()
        else:
            super().reamp()

    def toggle_run(self) -> None:
        """Start with what waits, or pause behind the pass that is under way."""
        if self._running:
            self._running = False
            self._show_running()
            self.said.emit("It pauses behind this pass. Esc throws this one away.")
            return
        if self._jobs.refuse_if_busy() or self._document.read_only:
            return
        if next_waiting(self._document.session) is None:
            self.said.emit("Nothing waits. Tick takes and tones first.")
            return
        self._running = True
        self._run_next()

    def _run_next(self) -> None:
        item = next_waiting(self._document.session)
        if not self._running:
            self._end_run("Paused. R goes on.")
            return
        if item is None:
            self._end_run(progress_words(self._document.session))
            return
        device, said = self._services.device(), ""
        if device != SIMULATED:
            answer = self._ask_set(item)
            if not answer:
                self._end_run("Stopped ahead of the next pass. R goes on.")
                return
            said = answer
        self._send(item, device, "confirmed" if said == "confirmed" else
                   "assumed" if said == "assumed" else "")  # fmt: skip
        self._show_running()

    def _ask_set(self, item: QueuedPass) -> str:
        """What a person says of the devices; "" to stop. Nobody is left alone with a driven
        amplifier: no pass begins without a key."""
        session = self._document.session
        lines = list(to_set(session, item)) or ["All as the rig says."]
        if is_driven_hard(reamp_rig(session, item.tone.rig_id)):
            lines.append(HEAT)
        answer = ask(
            self, f"Set for {item.tone.name}", "\n".join(lines), "It stands so", "Not looked at",
            no="Stop",
        )  # fmt: skip
        return {0: "confirmed", 1: "assumed"}.get(answer, "")

    def _send(
        self, item: QueuedPass, device: str, said: Literal["", "confirmed", "assumed"]
    ) -> None:
        session, store, services = self._document.session, self._document.store, self._services

        def work(progress: Progress, cancel: CancelToken) -> QueueOutcome:
            impulses = load_impulses(session, store)
            return make_queued(
                session, item, store=store, backend_for=services.bench_for(impulses),
                clock=services.clock, impulses=impulses, device=device, said=said,
                progress=progress, cancel=cancel,
            )  # fmt: skip

        def done(outcome: QueueOutcome) -> None:
            self._document.apply(outcome.edit, journal=True)
            self._next.start()

        def failed(error: Exception) -> None:
            if isinstance(error, CancelledError):
                self._end_run("Stopped: this pass was thrown away. R goes on with it.")
            elif isinstance(error, StorageError) or not isinstance(error, DiaulosError):
                self._end_run("Stopped. R goes on.")
                self.problem.emit(error)
            else:
                self._document.apply(refused(item, str(error)))
                self._next.start()

        place = 1 + sum(not one.waits for one in session.queue)
        title = f"{place} of {len(session.queue)}: {item.tone.name}"
        if not self._jobs.start(Job(title, work, done, failed, captures=True)):
            self._end_run("Paused. R goes on.")

    def _end_run(self, words: str) -> None:
        self._running = False
        self._show_running()
        self.said.emit(words)

    # --- in bulk ---

    def keep(self) -> None:
        """Mark or unmark the chosen pass; of the queue all that are selected."""
        rows = [row for row in self.queue.selected if row.made is not None]
        if not self.in_queue or not rows:
            super().keep()
            return
        on = not all(row.made is not None and row.made.keeper for row in rows)
        self._in_bulk(rows, lambda take, made: edits.keep_pass(take, made, on), "Keep passes")

    def discard(self) -> None:
        """The chosen pass into the bin; of the queue all that are selected."""
        rows = [row for row in self.queue.selected if row.made is not None]
        if not self.in_queue or not rows:
            super().discard()
            return
        self.player.pause()
        count = len(rows)
        if self._in_bulk(rows, edits.discard_pass, "Discard passes"):
            told = counted(count, "pass")
            self.said.emit(f"{told} in the bin. Ctrl+Z brings them back.")

    def _in_bulk(self, rows: list[QueueRow], edit_of, label: str) -> bool:  # type: ignore[no-untyped-def]
        made = [(row.item.take_id, row.made.id) for row in rows if row.made is not None]
        parts = [edit_of(take, ident) for take, ident in made]

        def change(session):  # type: ignore[no-untyped-def]
            for part in parts:
                session = part(session)
            return session

        return self._document.apply(edits.Edit(label, change))
