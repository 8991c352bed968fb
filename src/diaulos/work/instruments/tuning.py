"""The tuner and the intonation check: a string that rings, against what it should be.

An `Ear` hears blocks of one input and says every 50 ms what it hears; a reading stands on the
first partial from 0.3 to 1 s after the pluck (`signal/pitch.py`), then follows the string
while it rings. The intonation check asks for every string open and at the twelfth fret.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError, RefusedError
from diaulos.records import dataclass
from diaulos.session.edits import Edit, change_instrument
from diaulos.session.instrument import Instrument, IntonationReading, note_to_midi
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig
from diaulos.signal.pitch import (
    AFTER_PLUCK_S,
    LOW_HZ,
    LOW_LEAST_S,
    Pitch,
    cents_between,
    find_pitch,
    last_onset,
    midi_hz,
    nearest_note,
    note_name,
)
from diaulos.units import gain_to_db
from diaulos.work.capture.ring import Taken
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, StreamSpec
from diaulos.work.takes.ready import Armed

HOP_S = 0.05


KEPT_S = 1.4


RING_S = 1.0
"""Behind the first second a reading stands on the newest second."""


QUIET_DBFS = -60.0


SURE = 0.9
"""Less periodic than this is not told as a note: two strings, or a noise."""


IN_TUNE_CENTS = 2.0
"""What trained ears still hear between steady tones, rounded up; common practice, no source."""


GOOD_CENTS = 3.0
"""Intonation closer than this is left alone; common practice, no source."""


BLOCK_FRAMES = 512
LATE_S = 2.0


Kind = Literal["quiet", "early", "unclear", "note"]


@dataclass(frozen=True)
class Heard:
    """What is heard at one moment. `pluck` counts plucks; `since_s` is the time since the
    newest one; the pitch is there with a note only."""

    kind: Kind
    level_dbfs: float
    pluck: int = 0
    since_s: float = 0.0
    pitch: Pitch | None = None


class Ear:
    """Hears one input, block by block; the answer does not depend on the size of blocks."""

    def __init__(self, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._hop = int(HOP_S * rate_hz)
        self._kept = np.zeros(0, np.float32)
        self._waiting = np.zeros(0, np.float32)
        self._at = 0
        self._onset = -(10**12)
        self._plucks = 0

    def hear(self, samples: NDArray[np.floating]) -> list[Heard]:
        """What was heard in these samples: one answer for every 50 ms that is full."""
        self._waiting = np.concatenate([self._waiting, samples.astype(np.float32)])
        answers = []
        while self._waiting.size >= self._hop:
            self._kept = np.concatenate([self._kept, self._waiting[: self._hop]])
            self._waiting = self._waiting[self._hop :]
            self._kept = self._kept[-int(KEPT_S * self._rate_hz) :]
            self._at += self._hop
            answers.append(self._answer())
        return answers

    def _answer(self) -> Heard:
        rate = self._rate_hz
        newest = self._kept[-self._hop :].astype(np.float64)
        level = gain_to_db(float(np.sqrt(2.0 * np.mean(np.square(newest - newest.mean())))))
        level = max(level, -150.0)
        if level < QUIET_DBFS:
            return Heard("quiet", level, self._plucks)
        onset = last_onset(self._kept.astype(np.float64), rate)
        # The first moment of what is kept is no pluck, only the edge of what is remembered.
        if onset > 0 and (place := self._at - self._kept.size + onset) > (
            self._onset + int(0.1 * rate)
        ):
            self._onset, self._plucks = place, self._plucks + 1
        elif self._plucks == 0:
            self._onset, self._plucks = self._at - self._kept.size, 1
        since = (self._at - self._onset) / rate
        if since < AFTER_PLUCK_S:
            return Heard("early", level, self._plucks, since)
        count = int(min(since, RING_S) * rate)
        try:
            pitch = find_pitch(self._kept[-count:], rate)
        except RefusedError as refused:
            kind: Kind = "early" if refused.reason == "too_short" else "unclear"
            return Heard(kind, level, self._plucks, since)
        if pitch.hz < LOW_HZ and since < LOW_LEAST_S:
            return Heard("early", level, self._plucks, since)
        if pitch.confidence < SURE:
            return Heard("unclear", level, self._plucks, since)
        return Heard("note", level, self._plucks, since, pitch)


# --- strings ---


@dataclass(frozen=True)
class Strings:
    """What is tuned to: open strings from the lowest to the highest (midi), and A4."""

    midi: tuple[int, ...]
    a4_hz: float = 440.0

    def wanted_hz(self, string: int, fret: int = 0) -> float:
        """A string's frequency; strings are counted from the highest, as players do."""
        return midi_hz(self.midi[len(self.midi) - string] + fret, self.a4_hz)

    def name(self, string: int, fret: int = 0) -> str:
        """Its note."""
        return note_name(self.midi[len(self.midi) - string] + fret)

    def nearest(self, hz: float) -> int:
        """The string that is closest, 0 without strings."""
        numbers = range(1, len(self.midi) + 1)
        return min(numbers, key=lambda one: abs(cents_between(hz, self.wanted_hz(one))), default=0)


@dataclass(frozen=True)
class Tuned:
    """A pitch against a string (0: against the nearest note): cents above what is wanted."""

    string: int
    note: str
    hz: float
    wanted_hz: float
    cents: float

    @property
    def in_tune(self) -> bool:
        """Close enough to stop turning."""
        return abs(self.cents) <= IN_TUNE_CENTS

    def words(self) -> str:
        """What to do."""
        if self.in_tune:
            return "in tune"
        far = abs(self.cents) >= 150.0
        if self.cents < 0.0:
            return "far too low: tighten" if far else "flat: tighten"
        return "far too high: loosen" if far else "sharp: loosen"


def tuned(hz: float, strings: Strings, chosen: int = 0, fret: int = 0) -> Tuned:
    """A pitch against the chosen string (at a fret), else the nearest one, else the nearest
    note."""
    string = chosen or strings.nearest(hz)
    if not string:
        near = nearest_note(hz, strings.a4_hz)
        return Tuned(0, near.note, hz, near.wanted_hz, near.cents)
    wanted = strings.wanted_hz(string, fret)
    return Tuned(string, strings.name(string, fret), hz, wanted, cents_between(hz, wanted))


def strings_from(text: str) -> tuple[str, ...]:
    """Strings as somebody writes them, from the lowest: "D2 A2 D3 G3 B3 E4". EditError says
    which one is no note."""
    names = tuple(word for word in text.replace(",", " ").split() if word)
    for name in names:
        try:
            midi = note_to_midi(name)
        except ValueError as error:
            raise EditError(f"{error}.", where="strings") from error
        if not 20 <= midi <= 90:
            raise EditError(
                f"{name} is out of reach: from G#0 to F#6.", where="strings",
                remedy="Did you mean another octave?",
            )  # fmt: skip
    if not 1 <= len(names) <= 18:
        raise EditError("An instrument has 1 to 18 strings.", where="strings")
    return names


# --- intonation ---


@dataclass(frozen=True)
class Step:
    """One note to play: a string (counted from the highest), open or at the twelfth fret."""

    string: int
    fret: int


ACCEPT_CENTS = 80.0


SETTLED_S = 0.8
"""A reading is taken this long after the pluck, or when the string dies away earlier."""


class IntonationCheck:
    """Asks for every string open and at the twelfth fret, from the lowest on; takes one
    reading of each pluck that is near what is asked for."""

    def __init__(self, strings: Strings, made_at: str) -> None:
        self._strings, self._made_at = strings, made_at
        count = len(strings.midi)
        self._steps = [Step(string, fret) for string in range(count, 0, -1) for fret in (0, 12)]
        self._hz: dict[Step, float] = {}
        self._used = 0
        self._last: Heard | None = None

    @property
    def asked(self) -> Step | None:
        """What to play now; None when all is done."""
        return next((step for step in self._steps if step not in self._hz), None)

    @property
    def readings(self) -> tuple[IntonationReading, ...]:
        """Strings of which both notes are there, from the lowest."""
        found = []
        for string in range(len(self._strings.midi), 0, -1):
            notes = [self._hz.get(Step(string, fret)) for fret in (0, 12)]
            if notes[0] is not None and notes[1] is not None:
                found.append(
                    IntonationReading(
                        string=string, note=self._strings.name(string), open_hz=notes[0],
                        fretted_hz=notes[1], made_at=self._made_at,
                    )
                )  # fmt: skip
        return tuple(found)

    def again(self, string: int) -> None:
        """Forget a string's notes; it is asked for anew."""
        for fret in (0, 12):
            self._hz.pop(Step(string, fret), None)

    def hear(self, heard: Heard) -> bool:
        """Take what was heard; True when a note of the check is done."""
        step, last = self.asked, self._last
        self._last = heard if heard.kind == "note" else None
        if step is None:
            return False
        if heard.kind == "note" and heard.since_s >= SETTLED_S:
            ready: Heard | None = heard
        elif heard.kind != "note" and last is not None and last.since_s >= 2 * AFTER_PLUCK_S:
            ready = last  # it died away early
        else:
            ready = None
        if ready is None or ready.pitch is None or ready.pluck <= self._used:
            return False
        wanted = self._strings.wanted_hz(step.string, step.fret)
        if abs(cents_between(ready.pitch.hz, wanted)) > ACCEPT_CENTS:
            return False
        self._hz[step], self._used = ready.pitch.hz, ready.pluck
        return True


def intonation_words(reading: IntonationReading) -> str:
    """What a check says of a string, and what helps. Common practice, no source."""
    if abs(reading.cents) <= GOOD_CENTS:
        return "good"
    if reading.cents > 0.0:
        return "sharp at the twelfth fret: move its saddle back, or fit a fresh string"
    return "flat at the twelfth fret: move its saddle forward, or fit a fresh string"


def intonation_summary(instrument: Instrument) -> str:
    """The kept check in a sentence, "" where there is none."""
    if not instrument.intonation:
        return ""
    worst = max(instrument.intonation, key=lambda one: abs(one.cents))
    if abs(worst.cents) <= GOOD_CENTS:
        return f"Intonation: all strings within {GOOD_CENTS:g} cents."
    return f"Intonation: string {worst.string} ({worst.note}) is {intonation_words(worst)}."


def keep_intonation(instrument: Instrument, readings: tuple[IntonationReading, ...]) -> Edit:
    """Keep a check with the instrument: the newest of every string."""
    kept = {one.string: one for one in instrument.intonation}
    kept |= {one.string: one for one in readings}
    newest = tuple(kept[string] for string in sorted(kept, reverse=True))
    return change_instrument(instrument.id, "Keep the intonation check", intonation=newest)


# --- listening ---


def track_to_tune(armed: Sequence[Armed]) -> Armed:
    """The armed track that tells a string best: a dry one. EditError without any."""
    if not armed:
        raise EditError(
            "No instrument reaches a recorder input.", remedy="Plan tracks in Rig (Ctrl+2, T)."
        )
    return next((one for one in armed if one.tap == "di"), armed[0])


def instrument_on(session: Session, track: Armed, rig_id: str = "") -> Instrument | None:
    """The instrument that is plugged in there, None where nobody said which it is."""
    device = recording_rig(session, rig_id).device(track.source)
    known = {one.id: one for one in session.instruments}
    return known.get(device.word("instrument")) if device.has_setting("instrument") else None


class Listener:
    """Listens to one input until it is stopped; what is heard is handed over as it comes."""

    def __init__(
        self, backend: AudioBackend, rate_hz: int, on_heard: Callable[[Heard], None]
    ) -> None:
        spec = StreamSpec(rate_hz, BLOCK_FRAMES, 1, 2)
        # A tuner that is late leaves blocks out: what it would tell is past.
        self._capture = Capture(backend, spec, ring_s=LATE_S)
        self._ear, self._on_heard = Ear(rate_hz), on_heard

    def stop(self) -> None:
        """End it."""
        self._capture.stop()

    def run(self, should_stop: Callable[[], bool] = lambda: False) -> None:
        """Listen. Errors of the back end come out."""
        failure = self._capture.run(self._hear, wanted=should_stop)
        if failure is not None:
            raise failure

    def _hear(self, taken: Taken) -> None:
        if self._capture.stopping:
            return
        for heard in self._ear.hear(taken.samples[:, 0]):
            self._on_heard(heard)
