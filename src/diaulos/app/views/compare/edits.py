"""Edits that Compare makes: moves, polarity, low cuts, places, pans, notes."""

from __future__ import annotations

import numpy as np

from diaulos.app.dialogs.gate import GateDialog, GateFor
from diaulos.app.dialogs.low_cut import LowCutDialog
from diaulos.app.jobs import Job
from diaulos.app.views.compare.judging import JudgePanel
from diaulos.app.views.compare.playing import ComparePlaying, name_beside
from diaulos.errors import RefusedError
from diaulos.figures import number
from diaulos.session import compare_edits
from diaulos.session.compared import MicPlace
from diaulos.signal.allpass import ByBand
from diaulos.signal.gate import propose_gate
from diaulos.work.compare.choices import Candidate, open_candidate
from diaulos.work.compare.cutting import LowCutFor, low_cut_for
from diaulos.work.compare.intotime import IN_TIME_SAMPLES, Nudge, Timing, nudges, passed, timing_of
from diaulos.work.compare.twoways import (
    Pauses,
    conversions_of,
    last_test,
    note_verdict,
    verdict_words,
)
from diaulos.work.listening.placing import peaks_of
from diaulos.work.ports import CancelToken, Progress

CUT_S = 60
"""So many seconds tell what lies below the lowest note."""


class CompareEdits(ComparePlaying):
    """What can be done about what was found; every edit leaves the files as they are."""

    judge: JudgePanel

    @property
    def marked(self) -> Candidate | None:
        """The row that is marked, the reference among them."""
        at = self.list.currentIndex().row()
        return self._candidates[at] if 0 <= at < len(self._candidates) else None

    def timings(self) -> list[Timing | None]:
        """What is known of every candidate but the reference."""
        told: list[Timing | None] = []
        for at in range(1, len(self._candidates)):
            pair = self.pair(0, at)
            known = pair.found if pair is not None else None
            a, b = self._candidates[0], self._candidates[at]
            told.append(None if known is None else timing_of(self._document.session, a, b, known))
        return told

    def nudge(self, which: Nudge) -> None:
        """All are heard in A's time: not at all, by the loop, or by the distance, too."""
        known = [one for one in self.timings() if one is not None and one.candidate.files]
        if self._blinded or not known:
            return
        made = nudges(known, which, self._candidates[0].name)
        label = {"as found": "As found", "latency": "Take the loop out",
                 "all": "Move into time"}[which]  # fmt: skip
        self._document.apply(compare_edits.move_all(label, made))
        self.said.emit(f"{label}: {len(known)} of {len(self._candidates) - 1}. Undo takes it back.")

    def put_all_pass(self) -> None:
        """The all-pass that was found is put in, or the one that is in is taken out."""
        b, session = self.chosen, self._document.session
        if self._blinded or b is None:
            return
        a = self._candidates[0]
        there = {one.files: session.moves.get(one.files[0]) for one in (a, b) if one.files}
        with_one = {
            files: moved.model_copy(update={"allpass_hz": None})
            for files, moved in there.items()
            if moved is not None and moved.allpass_hz is not None
        }
        if with_one:
            self._document.apply(compare_edits.move_all("Take the all-pass out", with_one))
            return
        found = self.by_band()
        if found is None or not b.files or (found.on == "a" and not a.files):
            return
        made = {b.files: passed(there[b.files], found, "b")}
        if found.on == "a":
            made[a.files] = passed(there[a.files], found, "a")
        self._document.apply(compare_edits.move_all("All-pass", made))
        self.said.emit(
            f"An all-pass at {number(found.corner_hz, 0)} Hz is on {found.on.upper()}."
            " Undo takes it back."
        )

    def by_band(self) -> ByBand | None:
        """What is known of the chosen pair by band; the view knows."""
        return None

    def place_microphone(self, place: MicPlace) -> None:
        """Where the microphone of the marked row stood."""
        one = self.marked
        if one is not None and one.files:
            self._document.apply(compare_edits.place_microphone(one.files, place))

    def pan_apart(self) -> None:
        """A hard left and B hard right in the monitor mix."""
        a, b = (self._candidates[0] if self._candidates else None), self.chosen
        if self._blinded or a is None or b is None or a is b or not a.files or not b.files:
            return
        self._document.apply(compare_edits.pan_apart(a.files, b.files))
        self.said.emit(
            f"{a.name} is hard left and {b.name} hard right in the mix of Takes."
            " Undo takes it back."
        )

    def verdict(self) -> str:
        """All that is known of the chosen pair, for the notes; "" while something is missing."""
        pair = self.pair(0, self._chosen)
        a, b = (self._candidates[0] if self._candidates else None), self.chosen
        if pair is None or a is None or b is None:
            return ""
        session = self._document.session
        names = name_beside(a, b), name_beside(b, a)
        return verdict_words(
            names, pair, conversions_of(session, a, b), self.pauses(), last_test(session, a, b)
        )

    def pauses(self) -> Pauses | None:
        """Noise in the pauses of the chosen pair; the view knows."""
        return None

    def note_verdict(self) -> None:
        """The verdict goes below the notes of A's take."""
        words = "" if self._blinded else self.verdict()
        take_id = self._candidates[0].key.partition(":")[0] if self._candidates else ""
        if not words or all(one.id != take_id for one in self._document.session.takes):
            self.said.emit("There is no verdict to note yet.")
            return
        self._document.apply(note_verdict(take_id, words))
        self.said.emit(f"Noted with {self._candidates[0].take_name}. Undo takes it back.")

    def move_into_time(self) -> None:
        """B is heard in A's time and polarity from now on."""
        if self._blinded:
            return
        one = self.chosen
        pair = self.pair(0, self._chosen)
        if one is None or pair is None or pair.found is None or not one.files:
            return
        timing = timing_of(self._document.session, self._candidates[0], one, pair.found)
        if abs(pair.found.delay_samples) < IN_TIME_SAMPLES:
            self.said.emit("It is in time already.")
            return
        self._document.apply(
            compare_edits.move_into_time(one.files, timing.moved("all", self._candidates[0].name))
        )
        late = pair.found.delay_samples
        self.said.emit(
            f"{one.name} is heard {number(abs(late), 2)} samples "
            f"{'earlier' if late > 0.0 else 'later'} everywhere. Undo takes it back."
        )

    def turn_over(self) -> None:
        """B's polarity is turned wherever it is heard."""
        if self._blinded:
            return
        one = self.chosen
        if one is None or not one.files:
            return
        self._document.apply(compare_edits.turn_polarity(one.files))
        self.said.emit(f"{one.name} is turned over wherever it is heard. Undo takes it back.")

    def _own_row(self) -> Candidate | None:
        """The chosen row where it is the session's own and its sound is known."""
        if self._blinded:
            return None
        one = self.marked
        levels = self._levels.get(self._signature(one)) if one is not None else None
        if one is None or levels is None or not one.files:
            self.said.emit("Choose a track or pass of the session.")
            return None
        return one

    def ask_low_cut(self) -> None:
        """A low cut of the chosen row, by the strings of its instrument."""
        one = self._own_row()
        if one is None:
            return
        session = self._document.session
        rate = session.sample_rate_hz
        take_id = one.key.partition(":")[0]
        bare = session.model_copy(update={"low_cuts": {}})
        store = self._document.store

        def work(_progress: Progress, _cancel: CancelToken) -> LowCutFor:
            heard = open_candidate(bare, one, store)
            samples = heard.mono(0, min(heard.frames, CUT_S * rate))
            return low_cut_for(session, take_id, np.asarray(samples), float(rate))

        def done(known: LowCutFor) -> None:
            now = self._document.session.low_cuts.get(one.files[0])
            dialog = LowCutDialog(one.name, known, now, self.window())
            if dialog.exec() != LowCutDialog.DialogCode.Accepted or dialog.answer is None:
                return
            self._document.apply(compare_edits.set_low_cut(one.files, dialog.answer.corner_hz))

        self._jobs.start(Job("Looking below the lowest note", work, done))

    def ask_gate(self) -> None:
        """A gate of the chosen row, by its own pauses."""
        one = self._own_row()
        if one is None:
            return
        session = self._document.session
        rate = float(session.sample_rate_hz)
        # As it lies ahead of the gate and of a cabinet.
        bare = session.model_copy(update={"gates": {}, "cabinets": {}})
        store = self._document.store

        def work(_progress: Progress, cancel: CancelToken) -> GateFor:
            heard = open_candidate(bare, one, store)

            def read(first: int, count: int) -> np.ndarray:
                cancel.check()
                return np.asarray(heard.mono(first, count))

            peaks = peaks_of(read, heard.frames, rate)
            try:
                found = propose_gate(peaks)
                return GateFor(peaks, found, "", found.floor_dbfs)
            except RefusedError as error:
                return GateFor(peaks, None, str(error), -120.0)

        def done(known: GateFor) -> None:
            now = self._document.session.gates.get(one.files[0])
            dialog = GateDialog(one.name, known, now, self.window())
            if dialog.exec() != GateDialog.DialogCode.Accepted or dialog.answer is None:
                return
            self._document.apply(compare_edits.set_gate(one.files, dialog.answer.gate))

        self._jobs.start(Job("Listening to the pauses", work, done))
