"""The pages at the right of Compare, filled: by which question the pair is judged."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton

from diaulos.app.views.compare.edits import CompareEdits
from diaulos.app.views.compare.judging import Page
from diaulos.app.views.compare.playing import LETTERS, name_beside
from diaulos.app.views.compare.ways import Step
from diaulos.app.views.compare.work import Piece
from diaulos.session.compared import MicPlace
from diaulos.signal.allpass import ByBand
from diaulos.work.compare.blindrun import result_words
from diaulos.work.compare.courses import place_of
from diaulos.work.compare.placed import place_figures
from diaulos.work.compare.twoways import (
    Pauses,
    conversions_of,
    conversions_words,
    last_test,
    pauses_words,
)
from diaulos.work.compare.words import difference_words

WORKING = "Working it out\N{HORIZONTAL ELLIPSIS}"


class ComparePages(CompareEdits):
    """What each page asks for, and what it shows."""

    blind_button: QPushButton

    def _on_page(self) -> None:
        self._show_page()
        self._go_on()
        if self._together:
            self._on_together(on=True)

    def next_page(self) -> None:
        """The next question."""
        if not self._blinded:
            self.judge.next_page()

    def _extra(self, piece: Piece | None) -> object:
        return self._extras.get(piece) if piece is not None else None

    def _page_piece(self) -> Piece | None:
        """What the page that is shown asks for on top of the pair."""
        signs = self._signatures()
        if len(signs) < 2:
            return None
        a, b = signs[0], signs[min(max(1, self._chosen), len(signs) - 1)]
        page, judge = self.judge.page, self.judge
        if page == "doubled":
            if judge.doubled.by_click:
                return Piece(b, kind="click", by=judge.doubled.grid)
            return Piece(a, b, kind="doubled")
        if page == "timing" and judge.timing.advanced.isChecked():
            return Piece(a, b, kind="bands", by=judge.timing.split.value())
        return Piece(a, b, kind="pauses") if page == "ways" else None

    def _extra_pieces(self) -> list[Piece]:
        piece = None if self._blinded else self._page_piece()
        return [piece] if piece is not None else []

    def by_band(self) -> ByBand | None:
        """What is known of the chosen pair by band."""
        found = self._extra(self._page_piece())
        return found if isinstance(found, ByBand) else None

    def pauses(self) -> Pauses | None:
        """Noise in the pauses of the chosen pair."""
        found = self._extra(self._page_piece())
        return found if isinstance(found, Pauses) else None

    def _show_page(self) -> None:
        show: dict[Page, Callable[[], None]] = {
            "timing": self._show_timing, "doubled": self._show_doubled,
            "places": self._show_places, "ways": self._show_ways,
        }  # fmt: skip
        if self.judge.page in show:
            show[self.judge.page]()

    @property
    def _writable(self) -> bool:
        return not self._document.read_only

    def _letters(self) -> list[str]:
        return list(LETTERS[: len(self._candidates)])

    def _show_timing(self) -> None:
        page, rate = self.judge.timing, float(self._document.session.sample_rate_hz)
        rows = [
            (letter, one.name, timing)
            for letter, one, timing in zip(
                self._letters()[1:], self._candidates[1:], self.timings(), strict=True
            )
        ]
        page.show_timings(rows, rate, self._writable)
        session, pair = self._document.session, self.pair(0, self._chosen)
        both = [self._candidates[0], self.chosen] if self._candidates else []
        corners = [
            moved.allpass_hz
            for one in both
            if one is not None and one.files and (moved := session.moves.get(one.files[0]))
        ]
        corner = next((hz for hz in corners if hz is not None), None)
        if pair is None:
            words = WORKING
        elif pair.found is None:
            words = "The two have no common time."
        else:
            piece = self._page_piece()
            known = piece is None or piece in self._extras
            words = "One of the two is silent there." if known else WORKING
        page.show_bands(self.by_band(), corner, words)

    def _show_doubled(self) -> None:
        page = self.judge.doubled
        if len(self._candidates) < 2:
            page.show_nothing("Add two recordings of one part (A).")
            return
        if not page.tempo_known:
            take_id = self._candidates[0].key.partition(":")[0]
            session = self._document.session
            take = next((one for one in session.takes if one.id == take_id), None)
            page.show_tempo((take.tempo_bpm if take else None) or session.tempo_bpm)
        a, b = self._candidates[0], self.chosen
        pans = self._writable and bool(a.files) and b is not None and bool(b.files)
        page.show_found(self._extra(self._page_piece()), pans=pans)

    def _show_places(self) -> None:
        page, session = self.judge.places, self._document.session
        known = [place_of(session, one) for one in self._candidates]
        row = max(0, self.list.currentIndex().row())
        name = self._candidates[row].name if row < len(self._candidates) else ""
        marked = self.marked
        can = self._writable and marked is not None and bool(marked.files)
        page.show_places(list(zip(self._letters(), known, strict=True)), row, name, can)
        pair = self.pair(0, self._chosen)
        chosen = self.chosen
        if pair is None or chosen is None or len(known) < 2:
            page.show_figures(("", ""), (MicPlace(), MicPlace()), None)
            return
        at = min(max(1, self._chosen), len(known) - 1)
        names = self._candidates[0].name, self._candidates[at].name
        page.show_figures(names, (known[0], known[at]), place_figures(pair))

    def _show_ways(self) -> None:
        page, session = self.judge.ways, self._document.session
        a, b = (self._candidates[0] if self._candidates else None), self.chosen
        pair = self.pair(0, self._chosen)
        if a is None or b is None or a is b:
            words = "Add the two ways of one performance (A)."
            page.show_steps([Step(words, False)] + [Step("", False)] * 4, blind=False, note=False)
            return
        names = name_beside(a, b), name_beside(b, a)
        known, test = conversions_of(session, a, b), last_test(session, a, b)
        piece = self._page_piece()
        pauses = WORKING if piece not in self._extras else pauses_words(*names, self.pauses())
        same = pair is not None and pair.found is not None
        if pair is None:
            first = WORKING
        else:
            first = (
                "Yes: they have a common time." if same else
                f"No: {pair.refused.rstrip('.')}. Record both ways at once, or reamp one take."
            )  # fmt: skip
        steps = [
            Step(first, same),
            Step(_bare(conversions_words(*names, known)), pair is not None),
            Step(_bare(pauses), piece in self._extras),
            Step(WORKING if pair is None else difference_words(pair), pair is not None),
            Step("Not yet." if test is None else result_words(test), test is not None),
        ]
        writable = self._writable and not a.outside
        page.show_steps(steps, blind=self.blind_button.isEnabled(), note=writable and bool(pair))


def _bare(words: str) -> str:
    """Without what the step's own name says already."""
    rest = words.partition(": ")[2]
    return f"{rest[:1].upper()}{rest[1:]}" if rest else words
