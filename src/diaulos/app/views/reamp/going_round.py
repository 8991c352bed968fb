"""The running loop in the Reamp view: it goes round in a job; figures come by a timer."""

from __future__ import annotations

import time
from collections.abc import Callable
from queue import Empty, SimpleQueue

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QTimer
from PySide6.QtGui import QHideEvent

from diaulos.app.jobs import Job
from diaulos.app.view import Ending
from diaulos.app.views.reamp.queueing import ReampQueue
from diaulos.app.views.reamp.running_panel import MOMENT, RunningPanel
from diaulos.errors import CancelledError, DiaulosError
from diaulos.records import dataclass
from diaulos.rig.as_recorded import ahead_when_recorded
from diaulos.rig.model import Rig
from diaulos.rig.plan import return_control
from diaulos.rig.returns import planned_returns
from diaulos.session.model import SIMULATED, Session, Take
from diaulos.session.roles import reamp_rig
from diaulos.units import db_to_gain
from diaulos.work.listening.heard import return_reader, track_reader
from diaulos.work.listening.player import Channel
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import measure_blocks
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.howl import require_quiet_return
from diaulos.work.reamp.parts import part_of_take
from diaulos.work.reamp.passes import open_di
from diaulos.work.reamp.planning import ReampPlan, plan_reamp
from diaulos.work.reamp.running import RunningLoop, Told
from diaulos.work.takes.impulses import load_impulses

POLL_MS = 100
LEAST_S, LONGEST_S = 2.0, 120.0


@dataclass(frozen=True)
class Going:
    """What goes round: which frames of which take, and the gains that stay meanwhile."""

    take: Take
    first: int
    last: int
    loop: RunningLoop
    rig: Rig
    return_gain_db: float


def paced(rate_hz: int) -> Callable[[int], None]:
    """Waits until so many frames are due: the simulated studio is faster than time."""
    begun, before = time.monotonic(), 0

    def pace(frames: int) -> None:
        nonlocal begun, before
        if frames < before:
            begun = time.monotonic() - frames / rate_hz
        before = frames
        due = begun + frames / rate_hz - time.monotonic()
        if due > 0.0:
            time.sleep(min(due, 0.5))

    return pace


class ReampRunning(ReampQueue):
    """The page of the running loop."""

    running: RunningPanel
    _going: Going | None = None
    _rounding = False
    """Whether its job runs, also while it is only prepared."""
    _then: Callable[[], None] | None = None
    """What is done once the loop has ended."""
    _wanted_reference: str = ""

    def _wire_running(self) -> None:
        self._told: SimpleQueue[Told | Going] = SimpleQueue()
        self._poll = QTimer(self)
        self._poll.setInterval(POLL_MS)
        self._poll.timeout.connect(self._on_poll)
        self.running.run_asked.connect(self.toggle_running)
        self.running.hold_asked.connect(self.hold_moment)
        self.running.compare_asked.connect(self.compare_running)
        self.running.print_asked.connect(self.print_pass)
        self.running.reference_asked.connect(self._choose_held)
        self.running.left.connect(self.toggle_round)

    @property
    def on_round(self) -> bool:
        """Whether the page of the running loop is shown."""
        return self.pages.currentWidget() is self.running

    def toggle_round(self) -> None:
        """The running loop, or the loop's page again: there the controls are turned, and it goes
        on."""
        if self.in_queue:
            self.toggle_queue()
        opened = not self.on_round
        self.pages.setCurrentWidget(self.running if opened else self._loop_page)
        if opened:
            self._show_round()
            self.running.run.setFocus()
            self.said.emit("R sends the range round and round, H holds a reference, P prints.")
        else:
            self.take_list.setFocus()
            if self._rounding:
                self.said.emit("It goes on: turn something, G shows what it does, Esc ends it.")

    def toggle_queue(self) -> None:
        """Tones in a row; the running loop ends."""
        self._end_round()
        super().toggle_queue()

    def _show_round(self) -> None:
        take = self.take
        names = []
        if take is not None:
            names = [(one.id, one.name) for one in take.tracks if one.tap not in ("di", "printed")]
            names += [(one.id, one.name) for one in take.passes if one.part is None]
        self.running.show_references(names)
        self.running.show_running(self._rounding)
        if not self._rounding:
            first, last = self._range_round(take)
            seconds = (last - first) / self._document.session.sample_rate_hz
            words = f"{seconds:.1f} s of {take.name} go round." if take is not None else ""
            if take is not None and not LEAST_S <= seconds <= LONGEST_S:
                words = (
                    f"{seconds:.1f} s cannot go round: mark {LEAST_S:g} s to {LONGEST_S:g} s with "
                    "I and O."
                )
            self.running.words.setText(words or "Choose a take first.")

    def _range_round(self, take: Take | None) -> tuple[int, int]:
        if take is None or take.sent is None:
            return 0, 0
        part = part_of_take(take, self.stretch, self._document.session.sample_rate_hz)
        return (part.first, part.last) if part is not None else (0, take.sent.frames)

    def ending(self) -> Ending | None:
        """A loop that goes round nobody misses."""
        return Ending(self._end_round) if self._rounding else None

    def hideEvent(self, event: QHideEvent) -> None:
        """Another view: nothing goes out to an amplifier that nobody looks at."""
        self._end_round()
        super().hideEvent(event)

    # --- running ---

    def reamp(self) -> None:
        """On the page of the running loop: start it, or stop."""
        if self.on_round:
            self.toggle_running()
        else:
            super().reamp()

    def toggle_running(self) -> None:
        """Send the range round and round, or stop."""
        if self._rounding:
            self._end_round()
            return
        session, take, store = self._document.session, self.take, self._document.store
        first, last = self._range_round(take)
        seconds = (last - first) / session.sample_rate_hz
        if take is None or not LEAST_S <= seconds <= LONGEST_S or not session.rigs:
            self._show_round()
            return
        services = self._services
        told: SimpleQueue[Told | Going] = SimpleQueue()
        self._told = told
        pace = paced(session.sample_rate_hz) if services.device() == SIMULATED else None
        self.player.pause()

        def work(progress: Progress, cancel: CancelToken) -> None:
            progress(0.0, "Going round")
            impulses = load_impulses(session, store)
            plan, di = self._planned(session, take, first, last, None, cancel)
            loop = RunningLoop(di, session.sample_rate_hz, plan.send.gain_db)
            told.put(Going(take, first, last, loop, plan.rig, plan.return_gain_db))
            cancel.check()
            backend_for, courses = services.bench_for(impulses), (plan.returns[0].back.course,)
            if pace is None:
                require_quiet_return(backend_for(courses), session.sample_rate_hz, cancel)
            backend = backend_for(courses)

            def tell(figures: Told) -> None:
                told.put(figures)
                if cancel.cancelled:
                    loop.stop()

            loop.run(backend, tell, pace or (lambda frames: None))

        job = Job("The loop goes round", work, lambda _n: self._on_ended(), self._round_failed,
                  captures=True)  # fmt: skip
        if self._jobs.start(job):
            self._rounding = True
            self._poll.start()
            self.running.show_running(True)
            self.running.show_told(None)

    def _planned(
        self, session: Session, take: Take, first: int, last: int, before: Rig | None,
        cancel: CancelToken,
    ) -> tuple[ReampPlan, NDArray[np.float32]]:  # fmt: skip
        """The plan of the moment, with the return gains of `before` where there is one."""
        store, track = self._document.store, take.sent
        assert track is not None
        rig = reamp_rig(session)
        if before is not None:
            control = return_control(planned_returns(before)[0].course)
            if control is not None:
                device, knob = control
                rig = rig.with_setting(device.id, knob.id, knob.value)
        source, _ = open_di(session, take, track, rig, store, False)
        plan = plan_reamp(
            rig, read_loudest(source), source.rate_hz, track.full_scale_dbu,
            session.target_peak_dbfs, auto_return=before is None,
            # As a pass is sent: what is printed is what was heard.
            ahead_db=ahead_when_recorded(session.snapshots.get(take.rig_hash), rig),
            impulses=load_impulses(session, store), cancel=cancel,
        )  # fmt: skip
        reader = track_reader(track.file, store)
        return plan, np.asarray(reader(first, last - first), np.float32)

    def _turned(self, before: Session | None, session: Session) -> None:
        """A control was turned while the loop goes round: the simulated studio plays it so."""
        going = self._going
        if going is None or before is None or before.rigs is session.rigs:
            return
        if self._services.device() != SIMULATED:
            going.loop.touched()
            return
        services, store = self._services, self._document.store

        def work(progress: Progress, cancel: CancelToken) -> None:
            plan, _ = self._planned(session, going.take, going.first, going.last, going.rig, cancel)
            impulses = load_impulses(session, store)
            going.loop.change(services.bench_for(impulses)((plan.returns[0].back.course,)))

        self._jobs.start(Job("turned", work, lambda _n: None, self.problem.emit, background=True))

    def _on_poll(self) -> None:
        newest: Told | None = None
        try:
            while True:
                came = self._told.get_nowait()
                if isinstance(came, Going):
                    self._going = came
                else:
                    newest = came
        except Empty:
            pass
        if newest is not None:
            self.running.show_told(newest)
            if self._wanted_reference:
                self._choose_held(self._wanted_reference)

    def _end_round(self) -> None:
        if self._going is not None:
            self._going.loop.stop()
        elif self._rounding:
            self._jobs.cancel()

    def _on_ended(self) -> None:
        self._poll.stop()
        self._going, self._rounding = None, False
        self.running.show_running(False)
        following, self._then = self._then, None
        if following is not None:
            following()

    def _round_failed(self, error: Exception) -> None:
        self._then = None
        self._on_ended()
        if isinstance(error, CancelledError):
            self.said.emit(error.what)
        else:
            self.problem.emit(error)

    # --- the reference ---

    def hold_moment(self) -> None:
        """What is heard now is the reference."""
        if self._going is None:
            page = self.on_round
            self.said.emit("R sends the range round first." if page else "G opens the round.")
            return
        self._wanted_reference = ""
        self.running.reference.setCurrentIndex(self.running.reference.findData(MOMENT))
        share = self._going.loop.hold()
        self.said.emit(f"Held: {100.0 * share:.0f} % of the range. Turn something and look.")

    def _choose_held(self, key: str) -> None:
        """A track or a pass is the reference, as soon as it is known how late the loop is."""
        going = self._going
        self._wanted_reference = ""
        if going is None or key == MOMENT:
            return
        store, count = self._document.store, going.last - going.first
        made = next((one for one in going.take.passes if one.id == key), None)
        try:
            if made is not None:
                samples = return_reader(made, made.main, store)(going.first, count)
                # As if its return had the gain that is set now.
                samples = samples * db_to_gain(going.return_gain_db - made.main.return_gain_db)
            else:
                samples = track_reader(going.take.track(key).file, store)(going.first, count)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        if going.loop.hold_this(samples):
            self.said.emit("Held. Turn something and look.")
        else:
            self._wanted_reference = key

    # --- comparing and printing ---

    def compare_running(self) -> None:
        """The reference and the last round in turns, at equal loudness."""
        if self._going is None:
            if {"reference", "pass"} <= {one.key for one in self.player.channels}:
                self.bar.choose("pass" if "reference" in self.bar.heard else "reference")
            return
        going, rate = self._going, self._document.session.sample_rate_hz
        reference, now = going.loop.reference, going.loop.last_round
        if not np.any(reference):
            self.said.emit("H holds a reference first.")
            return
        loud = [
            measure_blocks(iter([one[:, None]]), rate, 1).loudness.lufs for one in (reference, now)
        ]
        gain = loud[0] - loud[1] if np.all(np.isfinite(loud)) else 0.0

        def heard() -> None:
            channels = (
                Channel("reference", _reader(reference, going.first)),
                Channel("pass", _reader(now, going.first), gain),
            )
            self.player.set_channels(channels, going.last)
            self.player.set_loop((going.first, going.last))
            self.bar.set_available({"reference", "pass"})
            self.bar.choose("pass")
            self.player.seek(going.first)
            if not self.player.playing:
                self.toggle_play()
            self.said.emit("The last round; J changes to the reference and back. R goes on.")

        self._then = heard
        self._end_round()

    def print_pass(self) -> None:
        """An ordinary pass of the range as everything stands now; the loop goes on afterwards."""
        if not self.on_round:
            self.said.emit("G opens the round; R sends a pass from here.")
            return

        def send() -> None:
            self._reamp(go_on=False)

        if not self._rounding:
            send()
        else:
            self._then = send
            self._end_round()


def _reader(samples: NDArray[np.float32], first: int) -> Callable[[int, int], NDArray[np.float32]]:
    """An array as a part of a take that begins at this frame; silence around it."""

    def read(at: int, count: int) -> NDArray[np.float32]:
        out = np.zeros(count, np.float32)
        start, stop = max(at, first), min(at + count, first + samples.size)
        if stop > start:
            out[start - at : stop - at] = samples[start - first : stop - first]
        return out

    return read
