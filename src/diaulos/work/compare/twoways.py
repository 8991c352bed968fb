"""Two ways in of one performance: conversions, noise in the pauses, and what is noted of it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from diaulos.figures import counted, number
from diaulos.records import dataclass
from diaulos.session import take_edits
from diaulos.session.compared import BlindTest
from diaulos.session.edits import Edit
from diaulos.session.model import Session
from diaulos.signal.hum import quiet_spans
from diaulos.units import db_to_gain, gain_to_db
from diaulos.work.compare.blindrun import result_words
from diaulos.work.compare.choices import Candidate
from diaulos.work.compare.courses import course_of
from diaulos.work.compare.pairs import Pair, Side, both_in_time, loudness_of
from diaulos.work.compare.words import difference_words

SILENT_DBFS = -150.0
QUIET_SKIPPED_S = 0.05
"""At both ends of a pause: another way may be a little late."""


@dataclass(frozen=True)
class Conversions:
    """How often each way is converted, and the dry tap beside them; None where nobody knows."""

    a: int | None
    b: int | None
    dry: int | None


def conversions_of(session: Session, a: Candidate, b: Candidate) -> Conversions:
    """By the rigs as they were."""
    counts = []
    for one in (a, b, _dry_beside(session, a)):
        course = course_of(session, one) if one is not None else None
        counts.append(course.conversions if course is not None else None)
    return Conversions(*counts)


def _dry_beside(session: Session, one: Candidate) -> Candidate | None:
    take_id = one.key.partition(":")[0]
    take = next((take for take in session.takes if take.id == take_id), None)
    di = take.di if take is not None else None
    if take is None or di is None:
        return None
    return Candidate(f"{take.id}:{di.file}", di.name, take.name, di.tap, (di.file,))


@dataclass(frozen=True)
class Pauses:
    """Noise of two ways in the pauses of the first, at equal loudness: RMS after AES17 in dBFS as
    recorded, and how much more B has as it is heard; None where there is no pause."""

    a_dbfs: float
    b_dbfs: float
    more_db: float
    seconds: float


def noise_in_pauses(a: Side, b: Side, pair: Pair) -> Pauses | None:
    """What sounds where nothing is played, in the same pauses of both."""
    rate = float(a.rate_hz)
    if pair.found is None or pair.louder_lu is None:
        return None
    first, count, moved = both_in_time(a.samples, b.samples, pair.found)
    here = np.asarray(a.samples[first : first + count], np.float64)
    skip = round(QUIET_SKIPPED_S * rate)
    spans = [(start + skip, stop - skip) for start, stop in quiet_spans(here, rate)]
    spans = [(start, stop) for start, stop in spans if stop - start > skip]
    frames = sum(stop - start for start, stop in spans)
    if not frames:
        return None
    levels = [_rms_dbfs(x, spans, frames) for x in (here, moved)]
    more = levels[1] - levels[0] - (loudness_of(b) - loudness_of(a))
    return Pauses(levels[0], levels[1], more, frames / rate)


def _rms_dbfs(x: np.ndarray, spans: Sequence[tuple[int, int]], frames: int) -> float:
    power = sum(float(np.sum(np.square(x[start:stop]))) for start, stop in spans) / frames
    return gain_to_db(max(float(np.sqrt(2.0 * power)), db_to_gain(-200.0)))


def conversions_words(a: str, b: str, known: Conversions) -> str:
    """In a sentence."""
    if known.a is None and known.b is None:
        return "Conversions: not known, for no rig was stored with these recordings."
    told = [
        f"{name} {counted(count, 'conversion')}" if count is not None else f"{name} not known"
        for name, count in ((a, known.a), (b, known.b))
    ]
    dry = f"; the dry tap beside it {counted(known.dry, 'conversion')}" if known.dry else ""
    return f"Conversions: {', '.join(told)}{dry}."


def pauses_words(a: str, b: str, found: Pauses | None) -> str:
    """In a sentence."""
    if found is None:
        return "Noise in the pauses: no pause of half a second, in time with each other."
    more = found.more_db
    levels = [
        f"{number(level, 1)} dBFS" if level > SILENT_DBFS else "none at all"
        for level in (found.a_dbfs, found.b_dbfs)
    ]
    if min(found.a_dbfs, found.b_dbfs) <= SILENT_DBFS:
        told = "what has none was made by numbers alone"
    elif abs(more) < 0.5:
        told = "as heard they are alike"
    else:
        told = f"as heard {b} has {number(abs(more), 1)} dB {'more' if more > 0.0 else 'less'}"
    return (
        f"Noise in the pauses ({number(found.seconds, 1)} s): {a} {levels[0]}, {b} {levels[1]}; "
        f"{told}."
    )


def last_test(session: Session, a: Candidate, b: Candidate) -> BlindTest | None:
    """The last blind test of the two."""
    keys = {a.key, b.key}
    found = [one for one in session.blind_tests if {one.a.file, one.b.file} == keys]
    return found[-1] if found else None


def verdict_words(
    names: tuple[str, str], pair: Pair, known: Conversions, noise: Pauses | None,
    test: BlindTest | None,
) -> str:  # fmt: skip
    """All of it, for the notes."""
    a, b = names
    told = [f"{b} against {a}: {difference_words(pair)}"]
    if known.a is not None or known.b is not None:
        told.append(conversions_words(a, b, known))
    if noise is not None:
        told.append(pauses_words(a, b, noise))
    told.append("Not tested blind." if test is None else f"Blind: {result_words(test)}")
    return " ".join(told)


def note_verdict(take_id: str, words: str) -> Edit:
    """The verdict in the notes of a take, below what stands there."""

    def change(session: Session) -> Session:
        before = session.take(take_id).notes
        if words in before:
            return session
        return take_edits.note_take(take_id, f"{before}\n{words}".strip())(session)

    return Edit("Note the verdict", change)
