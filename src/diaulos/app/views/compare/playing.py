"""Listening in Compare: one key a candidate, unnamed, both together; and the blind test."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partialmethod
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QListView,
    QPushButton,
    QSlider,
    QStackedWidget,
)

from diaulos.app.asking import ask_to_save
from diaulos.app.views.compare.blind import BlindPage
from diaulos.app.views.compare.judging import JudgePanel
from diaulos.app.views.compare.work import CompareWork
from diaulos.app.widgets.labels import TextLabel
from diaulos.figures import clock, number
from diaulos.ids import free_id
from diaulos.session import compare_edits
from diaulos.session.compared import BlindSide, BlindTest
from diaulos.work.compare.blindrun import BlindPlan, BlindRun, Draw, trials_table
from diaulos.work.compare.choices import Candidate

LETTERS = "ABCDEFGHI"


class ComparePlaying(CompareWork):
    """What is heard; the view lays out its buttons and calls `_show`."""

    list: QListView
    pages: QStackedWidget
    blind: BlindPage
    play: QPushButton
    hear_buttons: Sequence[QPushButton]
    unnamed: QCheckBox
    together: QCheckBox
    judge: JudgePanel
    loop: QCheckBox
    seek: QSlider
    time: TextLabel
    level: QSlider
    level_words: TextLabel
    draw: Draw
    _tick: QTimer
    _shuffled: tuple[int, ...]
    _kept_test: BlindTest | None

    @property
    def _blinded(self) -> bool:
        """Whether the blind page is in front: keys of what is behind it do nothing then."""
        return self.pages.currentIndex() == 1

    @property
    def chosen(self) -> Candidate | None:
        """The one that is held against the reference."""
        return self._candidates[self._chosen] if self._chosen < len(self._candidates) else None

    # --- listening ---

    def _key_of(self, place: int) -> str | None:
        at = self._shuffled[place] if self._shuffled and place < len(self._shuffled) else place
        return self._candidates[at].key if at < len(self._candidates) else None

    def _hear(self, place: int) -> None:
        key = self._key_of(place)
        if key is None:
            return
        if self.together.isChecked():
            self.together.setChecked(False)
        for at, button in enumerate(self.hear_buttons):
            button.setChecked(at == place)
        self.player.hear({key})

    def toggle_together(self) -> None:
        """As if its box were pressed."""
        if not self._blinded:
            self.together.toggle()

    def _on_together(self, *, on: bool) -> None:
        """A and B at once, or all where all are looked at; where each lies now."""
        page = self.judge.page
        chosen = self.chosen
        if not on or chosen is None or len(self._candidates) < 2:
            self._together = {}
            self._bring_channels()
            if not on and self._candidates:
                self.player.hear({self._candidates[0].key})
                for at, button in enumerate(self.hear_buttons):
                    button.setChecked(at == 0)
            return
        if page in ("timing", "places"):
            self._together = {one.key: 0.0 for one in self._candidates}
        else:
            side = 1.0 if page == "doubled" else 0.0
            self._together = {self._candidates[0].key: -side, chosen.key: side}
        self._bring_channels()
        for button in self.hear_buttons:
            button.setChecked(False)
        self.player.hear(set(self._together))

    def hear_place(self, at_s: float) -> None:
        """Play from there."""
        if self._blinded:
            return
        self.player.seek(round(at_s * self._document.session.sample_rate_hz))
        if not self.player.playing:
            self.toggle_play()
        self._say_time()

    def _hear_number(self, number_: int) -> None:
        if self._blinded:
            self.blind.hear_number(number_)
        else:
            self._hear(number_ - 1)

    hear_1 = partialmethod(_hear_number, 1)
    hear_2 = partialmethod(_hear_number, 2)
    hear_3 = partialmethod(_hear_number, 3)
    hear_4 = partialmethod(_hear_number, 4)
    hear_5 = partialmethod(_hear_number, 5)
    hear_6 = partialmethod(_hear_number, 6)
    hear_7 = partialmethod(_hear_number, 7)
    hear_8 = partialmethod(_hear_number, 8)
    hear_9 = partialmethod(_hear_number, 9)

    def toggle_play(self) -> None:
        """Play or pause."""
        if self.player.playing:
            self.player.pause()
        elif self._matched() is not None:
            self.player.play()
            self._show_level(self.player.level_db)
            silent = self.player.silent
            self.said.emit(
                "No sound device: playing in silence."
                if silent
                else f"Playing: {self.player.device}"
            )
            self._tick.start()
        self._show_playing()

    def toggle_loop(self) -> None:
        """As if its box were pressed."""
        self.loop.toggle()

    def toggle_unnamed(self) -> None:
        """As if its box were pressed."""
        if self._blinded:
            return
        self.unnamed.toggle()

    def _on_unnamed(self, *, on: bool) -> None:
        count = len(self._candidates)
        if on:
            left = list(range(count))
            self._shuffled = tuple(left.pop(self.draw(len(left))) for _ in range(count))
            self.said.emit("The keys play the candidates in an order that nobody knows.")
        else:
            told = ", ".join(
                f"{place + 1}: {self._candidates[at].name}"
                for place, at in enumerate(self._shuffled)
                if at < count
            )
            self._shuffled = ()
            if told:
                self.said.emit(f"It was {told}")
        for button in self.hear_buttons:
            at = self.hear_buttons.index(button)
            button.setText(f"{at + 1}" if on else f"{LETTERS[at]} ({at + 1})")
        self._show()
        self._hear(0)

    def _set_loop(self) -> None:
        rate = self._document.session.sample_rate_hz
        at = self.player.position
        self.player.set_loop((at, at + 10 * rate) if self.loop.isChecked() else None)

    def _frames(self) -> int:
        signs = self._signatures()
        found = self._levels.get(signs[0]) if signs else None
        return found.heard.frames if found is not None else 0

    def _on_seek(self, value: int) -> None:
        self.player.seek(round(value / 1000.0 * self._frames()))
        self._say_time()

    def _on_level(self, value: int) -> None:
        self.player.set_level(float(value))
        self._show_level(float(value))

    def _show_level(self, level_db: float) -> None:
        blocked = self.level.blockSignals(True)
        self.level.setValue(round(level_db))
        self.level.blockSignals(blocked)
        other = self.blind.level
        blocked = other.blockSignals(True)
        other.setValue(round(level_db))
        other.blockSignals(blocked)
        self.level_words.setText(f"{number(level_db, 0)} dB")

    def _say_time(self) -> None:
        rate, frames = self._document.session.sample_rate_hz, self._frames()
        self.time.setText(f"{clock(self.player.position / rate)} / {clock(frames / rate)}")
        if frames and not self.seek.isSliderDown():
            blocked = self.seek.blockSignals(True)
            self.seek.setValue(round(1000.0 * self.player.position / frames))
            self.seek.blockSignals(blocked)

    def _show_playing(self) -> None:
        playing = self.player.playing
        self.play.setText("Pause (Space)" if playing else "Play (Space)")
        self.blind.show_playing(playing)

    def _on_tick(self) -> None:
        self._say_time()
        error = self.player.taken_error()
        if error is not None:
            self.problem.emit(error)
        if not self.player.playing:
            self._tick.stop()
            self._show_playing()

    # --- blind ---

    def blind_test(self) -> None:
        """A test of the reference and the chosen one."""
        if self._blinded or self._matched() is None or self.chosen is None:
            return
        self.unnamed.setChecked(False)
        self.together.setChecked(False)
        self.player.pause()
        self._show_playing()
        a, b = self._candidates[0], self._candidates[max(1, self._chosen)]
        files = {a.key, b.key}
        earlier = tuple(
            one for one in self._document.session.blind_tests if {one.a.file, one.b.file} == files
        )
        self.pages.setCurrentIndex(1)
        self.blind.show_before(name_beside(a, b), name_beside(b, a), earlier[-5:])

    def _begin_blind(self, kind: str, planned: int) -> None:
        matched = self._matched()
        if matched is None:
            return
        a, b = self._candidates[0], self._candidates[max(1, self._chosen)]
        sides = [
            BlindSide(name=name_beside(one, other), file=one.key,
                      gain_db=round(matched.gains_db.get(one.key, 0.0), 4))
            for one, other in ((a, b), (b, a))
        ]  # fmt: skip
        first, last = self.player.loop or (0, 0)
        plan = BlindPlan(
            "preference" if kind == "preference" else "abx", planned, sides[0], sides[1],
            first, last,
        )  # fmt: skip
        self.blind.start(BlindRun(plan, self.draw))
        if not self.player.playing:
            self.toggle_play()

    def _blind_heard(self, button: str) -> None:
        run = self.blind.run
        if run is None:
            return
        letter = run.heard(button)  # type: ignore[arg-type]
        side = run.plan.a if letter == "a" else run.plan.b
        self.player.hear({side.file})

    def _on_answered(self) -> None:
        run = self.blind.run
        if run is not None and run.ended:
            self._stop_blind()

    def _stop_blind(self) -> None:
        run = self.blind.run
        self.player.pause()
        self._show_playing()
        if run is None or not run.answered:
            self._leave_blind()
            return
        taken = {one.id for one in self._document.session.blind_tests}
        made_at = self._services.clock().isoformat(timespec="seconds")
        test = run.record(free_id(taken, "blind"), made_at)
        self.blind.run = None
        self._kept_test = test
        self._document.apply(compare_edits.keep_blind_test(test))
        self.blind.show_result(test)

    def _leave_blind(self) -> None:
        self.blind.run = None
        self.player.pause()
        self._show_playing()
        self.pages.setCurrentIndex(0)
        self._hear(0)
        self.list.setFocus()

    def ask_export(self) -> None:
        """The trials of the last test as CSV."""
        test = self._kept_test
        if test is None or not self._blinded:
            self.said.emit("No blind test is shown.")
            return
        path = ask_to_save(self.window(), "Export blind test", f"{test.id}.csv", "CSV (*.csv)")
        if path:
            try:
                Path(path).write_text(trials_table(test).csv(), encoding="utf-8")
            except OSError as error:
                self.problem.emit(error)
                return
            self.said.emit(f"Exported: {path}")


def name_beside(one: Candidate, other: Candidate) -> str:
    """A candidate's name, with its take's where both are called the same."""
    return one.name if one.name != other.name else f"{one.name} ({one.take_name})"
