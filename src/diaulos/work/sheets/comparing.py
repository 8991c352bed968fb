"""What was compared: every pair of a take's candidates, and the blind tests of it."""

from __future__ import annotations

from diaulos.figures import number, plain
from diaulos.session.model import Session
from diaulos.work.compare.blindrun import result_words
from diaulos.work.compare.choices import (
    Measured,
    as_monitored,
    candidates_of,
    measure_candidate,
    open_candidate,
    side_of,
    usual_candidates,
)
from diaulos.work.compare.pairs import Pair, compare_pair
from diaulos.work.compare.words import difference_words, verdict_of
from diaulos.work.ports import CancelToken, SessionStore
from diaulos.work.sheets.model import Part, Rows, Words

MOST = 4


def compare_parts(
    session: Session, take_name: str, store: SessionStore | None, cancel: CancelToken
) -> tuple[Part, ...]:
    """The first candidate of a take against the others, as the Compare view tells it."""
    chosen = usual_candidates(session)
    if take_name:
        take = session.take(take_name)
        here = [one for one in candidates_of(session) if one.key.startswith(f"{take.id}:")]
        heard = [one for one in here if one.tap not in ("di", "printed")]
        chosen = tuple((heard if len(heard) > 1 else here)[:MOST])
    keys = {one.key for one in chosen}
    tests = tuple(
        (one.made_at.replace("T", " ")[:16], one.a.name, one.b.name, result_words(one))
        for one in session.blind_tests
        if not take_name or {one.a.file, one.b.file} & keys
    )
    blind = Rows("Blind tests", ("Made", "A", "B", "Answer"), tests, frozenset(),
                 (1.6, 2.0, 2.0, 4.4), empty="None.")  # fmt: skip
    if len(chosen) < 2 or store is None:
        words = "There are no two tracks or passes to compare."
        return (Words("Nothing to compare", (words,)), blind)
    rate = session.sample_rate_hz
    measured: list[Measured] = as_monitored(
        [measure_candidate(open_candidate(session, one, store), rate, cancel) for one in chosen]
    )
    sides = [side_of(one, rate, cancel) for one in measured]
    pairs = [compare_pair(sides[0], other, cancel) for other in sides[1:]]
    told = tuple((pair.b, difference_words(pair), verdict_of(pair).words) for pair in pairs)
    return (
        Words("Held against", (f"{chosen[0].name}, {chosen[0].take_name}",)),
        Rows("What differs", ("Candidate", "What differs", "Stack or pan"), told, frozenset(),
             (2.0, 4.5, 3.0)),
        Rows("In figures", ("Candidate", "Late", "Louder", "Null", "Rest", "Mono sum", "In time"),
             tuple(_figures(pair) for pair in pairs), frozenset(range(1, 7)),
             (2.6, 1.2, 1.2, 1.2, 1.2, 1.2, 1.2)),
        blind,
    )  # fmt: skip


def _figures(pair: Pair) -> tuple[str, ...]:
    found, split, sums = pair.found, pair.split, pair.stacked

    def db(value: float | None, *, sign: bool = False) -> str:
        return "\N{EN DASH}" if value is None else f"{number(max(value, -200.0), 1, sign=sign)} dB"

    return (
        pair.b,
        f"{plain(found.delay_samples, 1, sign=True)} samples" if found else "\N{EN DASH}",
        db(pair.louder_lu, sign=True),
        db(split.null_db if split else None),
        db(split.rest_db if split else None),
        db(sums.found_db if sums else None, sign=True),
        db(sums.in_time_db if sums and found else None, sign=True),
    )
