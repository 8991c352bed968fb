"""Hearing and seeing the chosen take: its waveform, its mix, the marked range, the levels.

The mix itself is shown by `MixPanel`; here it is read from the session and heard.
"""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QPushButton,
    QSlider,
    QVBoxLayout,
)

from diaulos.app.document import Document
from diaulos.app.jobs import Job, Jobs
from diaulos.app.views.takes.mix import MixPanel
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import ElidedLabel, TextLabel
from diaulos.app.widgets.marks import TAP_TOKENS
from diaulos.app.widgets.painted import fix_width, least_height, most_height
from diaulos.app.widgets.waveform import Mark, Trace, Waveform
from diaulos.app.widgets.wrapping import Flowing, WrappingRow
from diaulos.errors import DiaulosError
from diaulos.figures import clock, number
from diaulos.session import take_edits
from diaulos.session.model import Heard, Session, Take, Track, part_name
from diaulos.signal.overview import Overview
from diaulos.work.compare.mixes import Thin, thinning
from diaulos.work.listening.heard import Tried, heard_through, track_reader
from diaulos.work.listening.mixing import audible, channels_of, level_of, mix_rows
from diaulos.work.listening.player import LOUDEST_LEVEL_DB, START_LEVEL_DB
from diaulos.work.listening.sound import Sound
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.takes.over import Over, bar_of, marked
from diaulos.work.takes.overviews import overview_of

TICK_MS = 50


class TakePlayer(Flowing):
    """Plays and draws one take."""

    said = Signal(str)
    problem = Signal(object)
    range_changed = Signal()

    def __init__(
        self, document: Document, jobs: Jobs, sound: Sound, mix: MixPanel
    ) -> None:  # fmt: skip
        super().__init__()
        self._document, self._jobs, self._mix = document, jobs, mix
        self.sound = sound.place()
        self._take: Take | None = None
        self._range: tuple[int, int] | None = None
        self._range_of = ""
        self._overviews: dict[str, Overview] = {}
        self._tried: Tried = {}
        self._heard_by: object = None
        self._checked: object = None
        self._build()
        self._tick = QTimer(self)
        self._tick.setInterval(TICK_MS)
        self._tick.timeout.connect(self._on_tick)
        self.track.activated.connect(lambda _i: self._show_wave())
        self.play.clicked.connect(self.toggle_play)
        self.loop.toggled.connect(lambda _on: self._show_range())
        self.wave.sought.connect(self._seek)
        self.level.valueChanged.connect(self._on_level)
        mix.heard_asked.connect(self._on_heard_asked)
        mix.apart_asked.connect(self._on_apart_asked)
        mix.solo_changed.connect(lambda _solo: self._on_solo())
        mix.seen.connect(self._check_mix)

    def _build(self) -> None:
        self.wave = Waveform()
        self.wave.set_empty_text("Choose a take to see its waveform.")
        self.wave.setAccessibleName("Waveform of the chosen track")
        self.wave.setToolTip(
            "Click to go there. I and O mark a range at that place, to whole bars; with Shift, "
            "exactly. + and \N{MINUS SIGN} zoom, arrows move, Home shows all. M is a mark, C a "
            "clip, G a gap."
        )
        # As high as it is wanted, lower where the window is.
        least_height(self.wave, 70)
        most_height(self.wave, 132)
        self.track = combo("Track to see", least=9)
        self.play = QPushButton("Play (P)")
        self.loop = QCheckBox("Loop (L)")
        self.loop.setToolTip("The marked range, else the bars it is cut to, else the whole take")
        self.mix_button = QPushButton("Mix (X)")
        self.range_words = ElidedLabel()
        self.range_words.setProperty("role", "muted")
        self.range_words.setAccessibleName("Marked range")
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(-60, int(LOUDEST_LEVEL_DB))
        self.level.setValue(int(START_LEVEL_DB))
        fix_width(self.level, 96)
        self.level.setAccessibleName("Listening level in dB")
        self.level.setToolTip("Of all that is heard, alone and while it records; it starts quiet")
        self.level_words = TextLabel()
        row = WrappingRow()
        row.setContentsMargins(0, 0, 0, 0)
        for widget in (self.track, self.play, self.loop, self.mix_button):
            row.addWidget(widget)
        row.add_growing(self.range_words)
        self.level_words.setToolTip("Gain of what is heard, nothing that is recorded or exported")
        fix_width(self.level_words, 58)
        row.add_pair("Level", self.level, self.level_words)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.wave)
        self._show_level()

    def close_down(self) -> None:
        """The session goes."""
        self._tick.stop()

    # --- the take ---

    def show_take(self, session: Session, take: Take | None) -> None:
        """Another take, or what became of this one."""
        self._take = take
        names = [(part_name(part), part[0].id) for part in take.parts] if take is not None else []
        shown = [
            (self.track.itemText(i), self.track.itemData(i)) for i in range(self.track.count())
        ]
        if names != shown:
            self.track.clear()
            for name, ident in names:
                self.track.addItem(name, ident)
        if take is not None and take.cut is not None and self._range_of != take.id:
            self.loop.setChecked(True)
        self.play.setEnabled(take is not None)
        self.mix_button.setEnabled(take is not None)
        self.show_mix(session)
        self._show_wave()

    def choose_track(self, name: str) -> None:
        """The track of this name, or the pair of this name or of which it is a side."""
        index = self.track.findText(name)
        if index < 0 and self._take is not None:
            sides = [any(one.name == name for one in part) for part in self._take.parts]
            index = sides.index(True) if True in sides else -1
        if index >= 0:
            self.track.setCurrentIndex(index)
            self._show_wave()

    def _show_wave(self) -> None:
        take = self._take
        if take is None:
            self.wave.set_traces((), 0, self._document.session.sample_rate_hz)
            return
        part = self.seen(take)
        missing = [one.file for one in part if one.file not in self._overviews]
        if not missing:
            self._show_part(part)
            return
        store = self._document.store

        def work(progress: Progress, cancel: CancelToken) -> dict[str, Overview]:
            return {file: overview_of(file, store, cancel) for file in missing}

        def done(found: dict[str, Overview]) -> None:
            self._overviews.update(found)
            if self._take is not None and self.seen(self._take) == part:
                self._show_part(part)
                self._keep_others()

        self._jobs.start(Job("take waveform", work, done, self.problem.emit, background=True))

    def seen(self, take: Take) -> tuple[Track, ...]:
        """The track that is chosen, or both sides of the pair."""
        chosen = self.track.currentData()
        return next((part for part in take.parts if part[0].id == chosen), take.parts[0])

    def _keep_others(self) -> None:
        """The other tracks' overviews, worked out while nobody waits for them. One that cannot
        be read is told when it is chosen."""
        take, store = self._take, self._document.store
        if take is None:
            return
        files = [one.file for one in take.tracks if one.file not in self._overviews]

        def work(progress: Progress, cancel: CancelToken) -> dict[str, Overview]:
            return {file: overview_of(file, store, cancel) for file in files}

        if files:
            self._jobs.start(Job("other waveforms", work, self._overviews.update,
                                 lambda _error: None, background=True))  # fmt: skip

    def _show_part(self, part: tuple[Track, ...]) -> None:
        store = self._document.store
        try:
            readers = [track_reader(track.file, store) for track in part]
        except DiaulosError as error:
            self.problem.emit(error)
            return
        traces = tuple(
            Trace(track.name, track.tap if track.tap in TAP_TOKENS else "di",
                  self._overviews[track.file], reader)
            for track, reader in zip(part, readers, strict=True)
        )  # fmt: skip
        frames = max(track.frames for track in part)
        self.wave.set_traces(traces, frames, self._document.session.sample_rate_hz)
        if self._take is not None:
            self.wave.set_marks(_marks(self._take, part))

    # --- what is heard ---

    def show_mix(self, session: Session) -> None:
        """The take's tracks and passes, in the mix and for the ear."""
        take = self._take
        rows = mix_rows(session, take) if take is not None else ()
        heard_by = [
            [(file, *heard_through(session, file), self._tried.get(file)) for file in row.files]
            for row in rows
        ]
        self._mix.show_rows(rows)
        pairs = take is not None and any(track.side for track in take.tracks)
        self._mix.show_pairs(pairs, take is not None and take.pairs_apart)
        if take is None:
            self.sound.pause()
        elif self._heard_by != heard_by or {one.key for one in self.sound.channels} != {
            row.key for row in rows
        }:
            self._heard_by = heard_by
            try:
                channels = channels_of(rows, session, self._document.store, self._tried)
            except DiaulosError as error:
                self.problem.emit(error)
                return
            self.sound.set_channels(channels, max(one.frames for one in take.tracks))
        else:
            self.sound.set_mix({row.key: (level_of(row), row.heard.pan) for row in rows})
        self._hear()
        self._check_mix()
        self._show_range()

    def _check_mix(self) -> None:
        """Whether anything thins out in the middle of what is heard, while the mix is seen."""
        take, session = self._take, self._document.session
        if take is None or not self._mix.isVisible():
            self._mix.show_thin("")
            self._checked = None
            return
        rows = mix_rows(session, take)
        heard = audible(rows, self._mix.soloed)
        here = tuple(row for row in rows if row.key in heard)
        tried = dict(self._tried)
        checked = (
            take.id,
            [
                (row.files, level_of(row), row.heard.pan,
                 [(heard_through(session, file), id(tried.get(file))) for file in row.files])
                for row in here
            ],
        )  # fmt: skip
        if checked == self._checked:
            return
        self._checked = checked
        store, frames = self._document.store, max(one.frames for one in take.tracks)
        names = {row.key: row.name for row in here}

        def work(_progress: Progress, cancel: CancelToken) -> tuple[Thin, ...]:
            channels = channels_of(here, session, store, tried)
            named = [(names[one.key], one) for one in channels]
            return thinning(named, frames, session.sample_rate_hz, cancel)

        def done(found: tuple[Thin, ...]) -> None:
            more = "Compare (Ctrl+6) tells why; or pan them apart."
            self._mix.show_thin(f"{found[0].words} {more}" if found else "")

        self._mix.show_thin("")
        self._jobs.start(
            Job("looking for what thins out", work, done, lambda _error: None, background=True)
        )

    def try_on(self, tried: Tried) -> None:
        """Cabinets that are heard and not in place; none: as it is in the session."""
        self._tried = tried
        self._heard_by = None
        self.show_mix(self._document.session)

    def _hear(self) -> None:
        if self._take is None:
            return
        heard = audible(mix_rows(self._document.session, self._take), self._mix.soloed)
        if heard != self.sound.heard:
            self.sound.hear(heard)

    def _on_solo(self) -> None:
        self._hear()
        self._check_mix()

    def _on_heard_asked(self, key: str, heard: Heard, merge: str) -> None:
        self._document.apply(take_edits.set_heard(key, heard), merge=merge)

    def _on_apart_asked(self, apart: bool) -> None:
        if self._take is not None:
            self._document.apply(take_edits.pairs_apart(self._take.id, apart))

    def hear_track(self, number_: int) -> None:
        """The n-th row of the mix alone, counted from 1; again, or 0: the mix."""
        take = self._take
        rows = mix_rows(self._document.session, take) if take is not None else ()
        if number_ > len(rows):
            return
        key = rows[number_ - 1].key if number_ else ""
        on = bool(number_) and self._mix.soloed != {key}
        self._mix.solo(key, on, alone=True)
        self.said.emit(f"{rows[number_ - 1].name} alone." if on else "The mix.")
        track = next((one for one in take.tracks if one.file == key), None) if take else None
        if track is not None:
            self.track.setCurrentIndex(self.track.findData(track.id))
            self._show_wave()

    def toggle_play(self) -> None:
        """Play the take as it is mixed, or pause."""
        if self.sound.playing:
            self.sound.pause()
        elif self._take is not None:
            self.sound.play()
            self.level.setValue(int(self.sound.level_db))
            self._tick.start()
        self.play.setText("Pause (P)" if self.sound.playing else "Play (P)")

    def go_on(self, frame: int, playing: bool) -> None:
        """At this place of the take that is chosen now, playing as before."""
        self._seek(frame)
        if playing and not self.sound.playing:
            self.toggle_play()

    def pause(self) -> None:
        """Stop where it is."""
        self.sound.pause()
        self.play.setText("Play (P)")

    def _seek(self, frame: int) -> None:
        self.sound.seek(frame)
        self.wave.set_position(frame)

    def _on_level(self, value: int) -> None:
        self.sound.set_level(float(value))
        self._show_level()

    def _show_level(self) -> None:
        self.level_words.setText(f"{number(float(self.level.value()), 0)} dB")

    def _on_tick(self) -> None:
        self.wave.set_position(self.sound.position)
        error = self.sound.taken_error()
        if error is not None:
            self.problem.emit(error)
        if not self.sound.playing:
            self._tick.stop()
            self.play.setText("Play (P)")

    # --- the marked range ---

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The marked range of the take that is shown."""
        return self._range if self._take is not None and self._take.id == self._range_of else None

    def mark_range(self, *, end: bool, exact: bool) -> None:
        """It begins, or ends, at the place that is heard or was clicked: at the nearest bar
        line, unless exact."""
        take = self._take
        if take is None:
            self.said.emit("Choose a take first.")
            return
        length = max(track.frames for track in take.tracks)
        at = self.sound.position if self.sound.playing else self.wave.position
        found = marked(self._document.session, take, self.stretch, at, length, end=end, exact=exact)
        if found is None:
            self.said.emit("There is nothing on that side: go to another place, then mark it.")
            return
        self._range, self._range_of = found, take.id
        self.loop.setChecked(True)
        self._show_range()
        self.range_changed.emit()

    def clear_range(self) -> None:
        """No range."""
        self._range = None
        self._show_range()
        self.range_changed.emit()

    def _show_range(self) -> None:
        take, stretch = self._take, self.stretch
        shown = stretch or (take.cut if take is not None else None)
        self.wave.set_loop(shown)
        whole = (0, max(track.frames for track in take.tracks)) if take is not None else None
        loop = (shown or whole) if self.loop.isChecked() else None
        if loop != self.sound.loop:
            self.sound.set_loop(loop)
        words = ""
        if stretch is not None and take is not None:
            words = self._range_text(take, stretch)
        elif take is not None:
            words = "I, O: a range"
        self.range_words.setText(words)

    def _range_text(self, take: Take, stretch: tuple[int, int]) -> str:
        session = self._document.session
        bar = bar_of(session, Over(take))
        times = "\N{EN DASH}".join(clock(frame / session.sample_rate_hz) for frame in stretch)
        first, last = (frame / bar for frame in stretch)
        if abs(first - round(first)) < 0.001 and abs(last - round(last)) < 0.001:
            one, other = round(first) + 1, round(last)
            bars = f"bar {one}" if one == other else f"bars {one}\N{EN DASH}{other}"
            return f"{bars}, {times}"
        return times


def _marks(take: Take, part: tuple[Track, ...]) -> tuple[Mark, ...]:
    """M where somebody marked, C where a track clipped, G where frames were lost."""
    return (
        *(Mark(frame, "M") for frame in take.marks),
        *(Mark(frame, "C", "danger") for frame in sorted({at for one in part for at in one.clips})),
        *(Mark(gap.frame, "G", "danger", gap.frames) for gap in take.dropouts),
    )
