"""A part of the chosen take: marked at the waveform, sent alone or joined with an older pass."""

from __future__ import annotations

from diaulos.app.views.reamp.listening import ReampListening
from diaulos.session.model import SentPart, Take
from diaulos.work.reamp.parts import part_words
from diaulos.work.takes.over import marked


class ReampParts(ReampListening):
    """The marked range."""

    _range: tuple[int, int] | None = None
    _range_of = ""

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The marked range of the chosen take."""
        take = self.take
        return self._range if take is not None and take.id == self._range_of else None

    def mark_in(self) -> None:
        """The range begins at the nearest bar line."""
        self._mark(end=False, exact=False)

    def mark_out(self) -> None:
        """The range ends at the nearest bar line."""
        self._mark(end=True, exact=False)

    def mark_in_exactly(self) -> None:
        """The range begins here."""
        self._mark(end=False, exact=True)

    def mark_out_exactly(self) -> None:
        """The range ends here."""
        self._mark(end=True, exact=True)

    def clear_range(self) -> None:
        """No range: the whole take is sent. Of a take that is cut what it is cut to; once more, and
        all of it is."""
        take = self.take
        whole = (0, take.sent.frames) if take is not None and take.sent is not None else None
        if take is not None and take.cut is not None and self.stretch is None:
            self._range, self._range_of = whole, take.id
        else:
            self._range = None
        self._show_part()

    def _mark(self, *, end: bool, exact: bool) -> None:
        take = self.take
        if take is None or take.sent is None:
            self.said.emit("Choose a take first.")
            return
        length = take.sent.frames
        at = self.player.position if self.player.playing else self.wave.position
        found = marked(self._document.session, take, self.stretch, at, length, end=end, exact=exact)
        if found is None:
            self.said.emit("There is nothing on that side: go to another place, then mark it.")
            return
        self._range, self._range_of = found, take.id
        self._show_part()

    def _show_part(self) -> None:
        """Which part is sent, with what it can be joined, and where it lies."""
        take = self.take
        stretch = self.stretch or (take.cut if take is not None else None)
        words = ""
        whole = take is not None and take.sent is not None and stretch == (0, take.sent.frames)
        if take is not None and stretch is not None and not whole:
            part = SentPart(first=stretch[0], last=stretch[1], start=0)
            words = part_words(self._document.session, take, part)
            if self.stretch is None:
                words += ", as it is cut"
        self.tone.show_part(words, self._whole_passes(take))
        self._set_loop()

    def _whole_passes(self, take: Take | None) -> tuple[tuple[str, str], ...]:
        """Passes of the whole take, and of the one that it was punched into: (id, name)."""
        if take is None:
            return ()
        there = [take]
        if take.punched is not None:
            there += [one for one in self._document.session.takes if one.id == take.over]
        return tuple(
            (f"{one.id}/{made.id}", made.name if one is take else f"{made.name}, {one.name}")
            for one in there
            for made in one.passes
            if made.part is None or made.part.joined
        )
