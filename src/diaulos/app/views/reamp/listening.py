"""What the Reamp view shows and plays of a take and one pass: waveforms in time, channels at
matched level.
"""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QListView,
)

from diaulos.app.jobs import Job
from diaulos.app.view import View
from diaulos.app.views.reamp.lists import (
    PassModel,
    PassRow,
    TakeModel,
)
from diaulos.app.views.reamp.player_bar import PlayerBar
from diaulos.app.views.reamp.tone_panel import TonePanel
from diaulos.app.widgets.waveform import Trace, Waveform
from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.session.model import Pass, Take, Track
from diaulos.signal.overview import Overview, build_overview
from diaulos.units import db_to_gain
from diaulos.work.listening.aligned import part_blocks
from diaulos.work.listening.heard import Tried, compared_channels, return_reader, track_reader
from diaulos.work.listening.mixing import return_name
from diaulos.work.listening.sound import Place
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.words import (
    Loops,
)
from diaulos.work.takes.overviews import overview_of


@dataclass(frozen=True)
class Waves:
    """What is drawn and heard of a take and one pass."""

    take_id: str
    pass_id: str
    di: Overview
    back: Overview | None
    sent: str
    """Audio file of the DI."""


class ReampListening(View):
    """Waveform and playback. The lists and the tone are laid out by the view."""

    takes: TakeModel
    passes: PassModel
    take_list: QListView
    pass_list: QListView
    tone: TonePanel
    wave: Waveform
    bar: PlayerBar
    player: Place
    _loops: Loops
    _waves: Waves | None
    _tick: QTimer
    _said_where = ""
    _tried: Tried
    """Cabinets that are heard and not in place."""

    @property
    def stretch(self) -> tuple[int, int] | None:
        """The marked range of the chosen take."""
        return None

    # --- what is chosen ---

    @property
    def take(self) -> Take | None:
        """The chosen take, as it is in the session now."""
        row = self.takes.item(self.take_list.currentIndex().row())
        return row.take if row else None

    @property
    def chosen_row(self) -> PassRow | None:
        """The chosen pass, and what of it."""
        found = self.passes.item(self.pass_list.currentIndex().row())
        return found if isinstance(found, PassRow) else None

    @property
    def chosen_pass(self) -> Pass | None:
        """The chosen pass."""
        row = self.chosen_row
        return row.made if row else None

    def hear_di(self) -> None:
        """The DI alone, or with others when solo is off."""
        self.bar.choose("di")

    def hear_reference(self) -> None:
        """The reference."""
        self.bar.choose("reference")

    def hear_pass(self) -> None:
        """The pass."""
        self.bar.choose("pass")

    def toggle_loop(self) -> None:
        """Loop what is shown, or not."""
        self.bar.toggle_loop()

    def _choose_take(self, row: int) -> None:
        self.take_list.setCurrentIndex(self.takes.index(row))

    # --- waveform and listening ---

    def _waves_soon(self) -> None:
        take, row = self.take, self.chosen_row
        if take is None or take.sent is None:
            self._waves = None
            self.wave.set_traces((), 0, self._document.session.sample_rate_hz)
            self.wave.set_empty_text("Choose a take to see its waveform.")
            self.bar.set_available(set())
            return
        self._refresh_channels()
        known = self._waves
        wanted = (take.id, row.ident if row else "", take.sent.file)
        if known and (known.take_id, known.pass_id, known.sent) == wanted:
            self._show_waves()
            return
        di, store = take.sent, self._document.store
        old = known.di if known and known.sent == take.sent.file else None

        def work(progress: Progress, cancel: CancelToken) -> Waves:
            below = old
            if below is None:
                below = overview_of(di.file, store, cancel)
            cancel.check()
            back = None
            if row is not None:
                # Of what belongs together the first is drawn; the others are heard with it.
                first = row.part[:1]
                sources = [store.open_audio(one.file) for one in first]
                heard = part_blocks(sources, row.made, first, di.frames, matched=False)
                back = build_overview(block[:, 0] for block in heard)
            return Waves(take.id, row.ident if row else "", below, back, di.file)

        def done(waves: Waves) -> None:
            self._waves = waves
            self._show_waves()

        self._jobs.start(Job("waveform", work, done, background=True))

    def _show_waves(self) -> None:
        take, waves = self.take, self._waves
        if take is None or take.sent is None or waves is None or waves.take_id != take.id:
            return
        rate = self._document.session.sample_rate_hz
        try:
            traces = self._traces(take, take.sent, waves)
        except DiaulosError as error:  # a file that is gone is told where it would be seen
            self.wave.set_empty_text(str(error))
            self.wave.set_traces((), 0, rate)
            return
        self.wave.set_traces(traces, take.sent.frames, rate)

    def _traces(self, take: Take, di: Track, waves: Waves) -> tuple[Trace, ...]:
        store = self._document.store
        name = "DI" if di.tap == "di" else "DI after pedals"
        traces = [Trace(name, "di", waves.di, track_reader(di.file, store))]
        row = self.chosen_row
        if row is not None and row.ident == waves.pass_id and waves.back is not None:
            made, first = row.made, row.part[0]
            gain = db_to_gain(first.match.total_db if first.match else 0.0)
            name = return_name(made, first)
            read = return_reader(made, first, store)
            traces.append(Trace(name, first.tap, waves.back, read, gain))
        return tuple(traces)

    def _refresh_channels(self) -> None:
        take, row = self.take, self.chosen_row
        if take is None or take.sent is None:
            return
        store = self._document.store
        try:
            made, part = (row.made, row.part) if row else (None, ())
            session = self._document.session
            channels = compared_channels(
                session, take, made, self.tone.target, store, part, self._tried
            )
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self.player.set_channels(channels, take.sent.frames)
        self.bar.set_available({channel.key for channel in channels})
        self.bar.show_time(
            self.player.position, take.sent.frames, self._document.session.sample_rate_hz
        )
        self.player.hear(self.bar.heard)
        self._set_loop()

    def toggle_play(self) -> None:
        """Play or pause."""
        if self.player.playing:
            self.player.pause()
        elif self.take is not None:
            self.player.hear(self.bar.heard)
            self.player.play()
            self.bar.show_level(self.player.level_db)
            self._said_where = ""
            self._say_where()
            self._tick.start()
        self.bar.show_playing(self.player.playing)

    def _say_where(self) -> None:
        """By what it is heard; whether the system has an output is known a moment later."""
        silent = self.player.silent
        words = (
            "No sound device: playing in silence." if silent else f"Playing: {self.player.device}"
        )
        if words != self._said_where:
            self._said_where = words
            self.said.emit(words)

    def _set_loop(self) -> None:
        marked = self.stretch
        first, last = marked or self.wave.view
        loop = (int(first), int(last)) if self.bar.looping else None
        self.player.set_loop(loop)
        self.wave.set_loop(loop or marked)

    def _on_tick(self) -> None:
        take = self.take
        if self.player.playing:
            self._say_where()
        frames = take.sent.frames if take and take.sent else 0
        rate = self._document.session.sample_rate_hz
        self.wave.set_position(self.player.position)
        self.bar.show_time(self.player.position, frames, rate)
        error = self.player.taken_error()
        if error is not None:
            self.problem.emit(error)
        if not self.player.playing:
            self._tick.stop()
            self.bar.show_playing(False)
