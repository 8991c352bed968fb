"""What the Compare view works out: levels of every candidate, then pair after pair.

Each piece is a short job of its own, the one that is looked at first; what is known stays known as
long as nothing of it changed.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, TypeVar

from diaulos.app.jobs import Job
from diaulos.app.view import View, ViewContext
from diaulos.errors import CancelledError, DiaulosError
from diaulos.records import dataclass
from diaulos.session.model import Session
from diaulos.signal.allpass import ByBand
from diaulos.units import gain_to_db
from diaulos.work.compare.choices import (
    MATCH_BANDS_HZ,
    Candidate,
    Matched,
    Measured,
    as_monitored,
    band_loudness,
    candidate_named,
    match_all,
    matched_channels,
    measure_candidate,
    open_candidate,
    side_of,
)
from diaulos.work.compare.doubling import (
    ClickTrack,
    DoubleTrack,
    compare_doubled,
    compare_with_click,
)
from diaulos.work.compare.intotime import by_band
from diaulos.work.compare.pairs import Pair, Side, compare_pair
from diaulos.work.compare.twoways import Pauses, noise_in_pauses
from diaulos.work.listening.heard import heard_through
from diaulos.work.listening.player import Channel
from diaulos.work.ports import CancelToken, Progress

MOST_KEPT = 200
K = TypeVar("K")
V = TypeVar("V")
Signature = tuple[object, ...]


ExtraKind = Literal["doubled", "click", "bands", "pauses", "band level"]


@dataclass(frozen=True)
class Piece:
    """What is to be worked out next: levels of a candidate (no other), a pair, or what a page asks
    for on top (`kind`, with what it was asked by)."""

    one: Signature
    other: Signature | None = None
    split: bool = False
    kind: ExtraKind | None = None
    by: float | str = ""


Extra = DoubleTrack | ClickTrack | ByBand | Pauses | float | None
Found = Measured | Pair | Extra


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
        self._extras: dict[Piece, Extra | DiaulosError] = {}
        """What pages asked for on top, or why it cannot be told."""
        self._together: dict[str, float] = {}
        """Keys of what is heard at once, and its pan; empty: one at a time."""
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
        if self._match_by not in MATCH_BANDS_HZ:
            return match_all(list(measured.values()), self._match_by)
        bands: dict[str, float | None] = {}
        for sign, one in measured.items():
            piece = self._band_piece(sign)
            if piece not in self._extras:
                return None
            level = self._extras[piece]
            bands[one.key] = level if isinstance(level, float) else None
        return match_all(list(measured.values()), "band", bands)

    def _band_piece(self, sign: Signature) -> Piece:
        return Piece(sign, kind="band level", by=self._match_by)

    def _extra_pieces(self) -> list[Piece]:
        """What the page that is shown asks for on top."""
        return []

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

    def _next(self) -> Piece | None:
        signs = self._signatures()
        fine = [one for one in signs if one not in self._problems]
        for one in fine:
            if one not in self._levels:
                return Piece(one)
            if self._match_by in MATCH_BANDS_HZ and self._band_piece(one) not in self._extras:
                return self._band_piece(one)
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
                return Piece(signs[at], signs[other], split and pair is not None)
            if (at, other) == (0, chosen) and (split or pair.found is None):
                # What is looked at comes ahead of the other pairs.
                for piece in self._extra_pieces():
                    if piece not in self._extras:
                        return piece
        return None

    def _go_on(self) -> None:
        """Start on the next piece, if there is one and the view is seen."""
        if self._under_way or not self._shown:
            return
        piece = self._next()
        if piece is None:
            return
        session, store = self._document.session, self._document.store
        files, resample = self._services.files, self._services.resample
        by_sign = dict(zip(self._signatures(), self._candidates, strict=True))
        levels = self._measured()
        rate = session.sample_rate_hz

        pair = self._pairs.get((piece.one, piece.other)) if piece.other is not None else None

        def work(_progress: Progress, cancel: CancelToken) -> Found:
            if piece.other is None:
                heard = open_candidate(session, by_sign[piece.one], store, files, resample)
                if piece.kind == "band level":
                    return band_loudness(heard, rate, str(piece.by), cancel)
                if piece.kind == "click":
                    here = side_of(replace(levels[piece.one], heard=heard), rate, cancel)
                    tempo, division, first = str(piece.by).split()
                    lines, spread = compare_with_click(
                        here, float(tempo), int(division), float(first), cancel.check
                    )
                    return ClickTrack(lines, spread)
                return measure_candidate(heard, rate, cancel)

            # Opened anew: cabinets and low cuts remember what they read last, and those that play
            # are read by another thread.
            def side(sign: Signature) -> Side:
                heard = open_candidate(session, by_sign[sign], store, files, resample)
                return side_of(replace(levels[sign], heard=heard), rate, cancel)

            a, b = side(piece.one), side(piece.other)
            if piece.kind is None:
                return compare_pair(a, b, cancel, split=piece.split, known=pair)
            return _extra_of(piece, a, b, pair, cancel)

        def done(found: Found) -> None:
            self._working = False
            if piece.kind is not None:
                assert not isinstance(found, Measured | Pair)
                self._extras = _kept(self._extras, piece, found)
            elif isinstance(found, Measured):
                self._levels = _kept(self._levels, piece.one, found)
            elif piece.other is not None and isinstance(found, Pair):
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
            if piece.kind is not None:
                told = error if isinstance(error, DiaulosError) else DiaulosError(str(error))
                self._extras = _kept(self._extras, piece, told)
                self._show()
                self._go_on()
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
            if self._together:
                # As they stand in the mix: where each lies now, one beside the other.
                found, gain = None, gain - gain_to_db(len(self._together))
            pan = self._together.get(one.key, 0.0)
            brought.append((sign, gain, found, pan, bool(self._together)))
            here = matched_channels(one.heard, gain, rate, found)
            channels += [replace(channel, pan=pan) for channel in here] if pan else here
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


def _extra_of(piece: Piece, a: Side, b: Side, pair: Pair | None, cancel: CancelToken) -> Extra:
    """What a page asks for of a pair on top of what is known of it."""
    if piece.kind == "doubled":
        return compare_doubled(a, b, cancel.check)
    if pair is None or pair.found is None:
        return None
    if piece.kind == "bands":
        return by_band(a, b, pair.found, float(piece.by))
    return noise_in_pauses(a, b, pair)


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
