"""What the Compare view works out: levels of every candidate, then pair after pair.

Each piece is a short job of its own, the one that is looked at first; what is known stays known as
long as nothing of it changed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeVar

from diaulos.app.jobs import Job
from diaulos.app.view import View, ViewContext
from diaulos.errors import CancelledError, DiaulosError
from diaulos.session.model import Session
from diaulos.work.compare.choices import (
    Candidate,
    Matched,
    Measured,
    as_monitored,
    candidate_named,
    match_all,
    matched_channels,
    measure_candidate,
    open_candidate,
    side_of,
)
from diaulos.work.compare.pairs import Pair, Side, compare_pair
from diaulos.work.listening.heard import heard_through
from diaulos.work.listening.player import Channel
from diaulos.work.ports import CancelToken, Progress

MOST_KEPT = 200
K = TypeVar("K")
V = TypeVar("V")
Signature = tuple[object, ...]


@dataclass(frozen=True)
class _Piece:
    """What is to be worked out next: levels of a candidate (no other), or a pair."""

    one: Signature
    other: Signature | None = None
    split: bool = False


class CompareWork(View):
    """The caches and the jobs; the view shows what there is."""

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self._candidates: tuple[Candidate, ...] = ()
        self._chosen = 1
        self._match_by = "loudness"
        self._levels: dict[Signature, Measured] = {}
        self._pairs: dict[tuple[Signature, Signature], Pair] = {}
        self._split: set[tuple[Signature, Signature]] = set()
        """Pairs whose difference was split, whether it could be or not."""
        self._problems: dict[Signature, str] = {}
        self._working = False
        self._shown = False
        self._brought: tuple[object, ...] = ()
        """What the player was given, so that it is not given twice."""
        self.player = context.sound.place()

    # --- what is known ---

    def _signature(self, one: Candidate) -> Signature:
        """What a candidate's sound depends on."""
        session = self._document.session
        parts: list[object] = [one.key]
        for file in one.files:
            parts += heard_through(session, file)
        parts.append(_placed(session, one))
        return tuple(repr(part) for part in parts)

    def _signatures(self) -> list[Signature]:
        return [self._signature(one) for one in self._candidates]

    def _measured(self) -> dict[Signature, Measured]:
        """Levels of the candidates that are known, as they are monitored."""
        signs = [one for one in self._signatures() if one in self._levels]
        return dict(zip(signs, as_monitored([self._levels[one] for one in signs]), strict=True))

    def _matched(self) -> Matched | None:
        """The gains, once all levels are known that can be."""
        measured, signs = self._measured(), self._signatures()
        missing = any(one not in measured and one not in self._problems for one in signs)
        if not signs or missing or signs[0] not in measured:
            return None
        return match_all(list(measured.values()), self._match_by)

    def pair(self, at: int, other: int) -> Pair | None:
        """What is known of two candidates, by their places."""
        signs = self._signatures()
        if max(at, other) >= len(signs):
            return None
        return self._pairs.get((signs[at], signs[other]))

    # --- what is worked out next ---

    @property
    def settled(self) -> bool:
        """Whether everything that can be known is known and shown."""
        return not self._shown or (not self._under_way and self._next() is None)

    @property
    def _under_way(self) -> bool:
        """Whether a piece is being worked out: one that was dropped with the others is not."""
        return self._working and not self._jobs.quiet

    def _next(self) -> _Piece | None:
        signs = self._signatures()
        fine = [one for one in signs if one not in self._problems]
        for one in fine:
            if one not in self._levels:
                return _Piece(one)
        if len(signs) < 2 or signs[0] in self._problems:
            return None
        chosen = min(self._chosen, len(signs) - 1)
        order = [chosen, *(at for at in range(1, len(signs)) if at != chosen)]
        wanted = [(0, chosen, False), (0, chosen, True)]
        wanted += [(0, at, False) for at in order[1:]]
        wanted += [
            (at, other, False) for at in range(1, len(signs)) for other in range(at + 1, len(signs))
        ]
        for at, other, split in wanted:
            if signs[at] in self._problems or signs[other] in self._problems:
                continue
            pair = self._pairs.get((signs[at], signs[other]))
            whole = (signs[at], signs[other]) in self._split
            if pair is None or (split and pair.found is not None and not whole):
                return _Piece(signs[at], signs[other], split and pair is not None)
        return None

    def _go_on(self) -> None:
        """Start on the next piece, if there is one and the view is seen."""
        if self._under_way or not self._shown:
            return
        piece = self._next()
        if piece is None:
            return
        session, store = self._document.session, self._document.store
        files = self._services.files
        by_sign = dict(zip(self._signatures(), self._candidates, strict=True))
        levels = self._measured()
        rate = session.sample_rate_hz

        def work(_progress: Progress, cancel: CancelToken) -> Measured | Pair:
            if piece.other is None:
                heard = open_candidate(session, by_sign[piece.one], store, files)
                return measure_candidate(heard, rate, cancel)

            # Opened anew: cabinets and low cuts remember what they read last, and those that play
            # are read by another thread.
            def side(sign: Signature) -> Side:
                heard = open_candidate(session, by_sign[sign], store, files)
                return side_of(replace(levels[sign], heard=heard), rate, cancel)

            return compare_pair(side(piece.one), side(piece.other), cancel, split=piece.split)

        def done(found: Measured | Pair) -> None:
            self._working = False
            if isinstance(found, Measured):
                self._levels = _kept(self._levels, piece.one, found)
            elif piece.other is not None:
                key = (piece.one, piece.other)
                self._pairs = _kept(self._pairs, key, found)
                if piece.split:
                    self._split.add(key)
            self._show()
            self._go_on()

        def failed(error: Exception) -> None:
            self._working = False
            if isinstance(error, CancelledError):
                return
            words = error.what if isinstance(error, DiaulosError) else str(error)
            self._problems[piece.one if piece.other is None else piece.other] = words
            self._show()
            self._go_on()

        self._working = True
        self._jobs.start(Job("compare", work, done, failed, background=True))

    def _show(self) -> None:
        """What is known, on screen."""

    # --- what is heard ---

    def _bring_channels(self) -> None:
        """All candidates at their matched level, in the time of the first."""
        matched, signs = self._matched(), self._signatures()
        if matched is None:
            self._brought = ()
            self.player.set_channels((), 0, layered=True)
            return
        measured = self._measured()
        rate = self._document.session.sample_rate_hz
        channels: list[Channel] = []
        brought: list[object] = []
        for at, sign in enumerate(signs):
            if sign not in measured:
                continue
            one = measured[sign]
            pair = self._pairs.get((signs[0], sign)) if at else None
            found = pair.found if pair is not None else None
            gain = matched.gains_db[one.key]
            brought.append((sign, gain, found))
            channels += matched_channels(one.heard, gain, rate, found)
        if tuple(brought) == self._brought:
            return  # what plays goes on
        self._brought = tuple(brought)
        self.player.set_channels(tuple(channels), measured[signs[0]].heard.frames, layered=True)

    def _gone(self) -> bool:
        """Take out what the session no longer holds; whether anything was."""
        session = self._document.session
        kept = []
        for one in self._candidates:
            now = one if one.outside else candidate_named(session, one.key)
            if now is not None:
                kept.append(now)
        changed = tuple(kept) != self._candidates
        self._candidates = tuple(kept)
        return changed


def _placed(session: Session, one: Candidate) -> object:
    """Where a pass lies in its take."""
    take_id = one.key.partition(":")[0]
    take = next((take for take in session.takes if take.id == take_id), None)
    if take is None:
        return None
    for made in take.passes:
        for back in made.returns:
            if back.file in one.files:
                return made.placed(back)
    return None


def _kept(known: dict[K, V], key: K, value: V) -> dict[K, V]:
    """With one more, and the oldest gone where there are too many."""
    rest = {one: found for one, found in known.items() if one != key}
    while len(rest) >= MOST_KEPT:
        rest.pop(next(iter(rest)))
    return {**rest, key: value}
