"""Recording over a kept take: along it, round and round a stretch of it, or into it.

Also what is heard meanwhile: the click and the old take's monitor mix, both in its time.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.figures import clock
from diaulos.records import dataclass
from diaulos.session.model import Session, Take, Track
from diaulos.session.take_edits import bar_frames
from diaulos.signal.click import click_block
from diaulos.units import db_to_gain
from diaulos.work.blocks import ReadStereo
from diaulos.work.capture.ahead import READ_FRAMES
from diaulos.work.listening.mixing import again, audible, channels_of, mix_rows, stereo_of
from diaulos.work.ports import SessionStore
from diaulos.work.takes.ready import Armed

Way = Literal["along", "loop", "punch"]


@dataclass(frozen=True)
class Over:
    """A kept take that plays while the next part is recorded.

    `first` to `last` (frames of the take, the end not included) is the stretch that comes
    round ("loop", whole bars) or is replaced ("punch"); "along" begins at `first`.
    """

    take: Take
    way: Way = "along"
    first: int = 0
    last: int | None = None
    pre_roll_bars: int = 0
    """Heard ahead of a punch, as far as the take goes back."""
    solo: frozenset[str] = frozenset()
    """Audio files that alone are heard; the monitor mix decides without."""
    copies: bool = False
    """Whether it comes round again, on whole bars, for as long as the new part runs ("along")."""

    @property
    def frames(self) -> int:
        """Length of the old take."""
        return max(track.frames for track in self.take.tracks)


def bar_of(session: Session, over: Over | None) -> float:
    """Frames of a bar: the old take's where there is one (not rounded)."""
    tempo, metre = session.tempo_bpm, session.metre
    if over is not None:
        tempo, metre = over.take.tempo_bpm or tempo, over.take.metre or metre
    return bar_frames(tempo, metre, session.sample_rate_hz)


def marked(
    session: Session, take: Take, before: tuple[int, int] | None, at: int, length: int, *,
    end: bool, exact: bool,
) -> tuple[int, int] | None:  # fmt: skip
    """The range after its beginning, or its `end`, was marked at a frame: at the nearest bar line
    unless `exact`. What was marked on the wrong side before gives way; None where nothing lies on
    that side."""
    if not exact:
        bar = bar_of(session, Over(take))
        at = round(round(at / bar) * bar)
    at = min(length, at)
    first, last = before or (0, length)
    first, last = (first, at) if end else (at, last)
    if last <= first:
        first, last = (0, at) if end else (at, length)
    return (first, last) if last > first else None


def round_of(session: Session, over: Over | None) -> int:
    """Frames after which a take that plays along comes round again: the whole bars nearest to its
    length, so that neither what rings on nor a stop a little early moves the join. 0 where it is
    heard once."""
    if over is None or not over.copies or over.way != "along":
        return 0
    bar = bar_of(session, over)
    return round(max(1, round(over.frames / bar)) * bar)


def beats_of(session: Session, over: Over | None) -> int:
    """Beats of a bar."""
    metre = (over.take.metre if over is not None else "") or session.metre
    return int(metre.partition("/")[0])


def bars_in(first: int, last: int, bar: float) -> int:
    """How many whole bars a stretch is; InputError where it is not whole."""
    bars = round((last - first) / bar)
    if bars < 1 or abs(last - first - bars * bar) > 1.0:
        raise InputError(
            f"{(last - first) / bar:.2f} bars cannot come round.",
            where="the marked range",
            remedy="Mark whole bars.",
        )
    return bars


def require_stretch(over: Over, bar: float) -> None:
    """A loop and a punch need a stretch inside the take."""
    last = over.frames if over.last is None else over.last
    if over.way != "along" and over.last is None:
        raise InputError("No range is marked.", where=over.take.name, remedy="Mark one first.")
    if not 0 <= over.first < last <= over.frames:
        first_bar, bars = over.first / bar, last / bar
        words = f"Frames {over.first} to {last} are not all in it ({over.frames} frames)."
        if max(abs(first_bar - round(first_bar)), abs(bars - round(bars))) < 0.001:
            whole = int(over.frames / bar + 0.001)
            words = (
                f"Bars {round(first_bar) + 1} to {round(bars)} are not all in it: it has {whole}."
            )
        raise InputError(words, where=over.take.name, remedy="Mark a range inside the take.")
    if over.way == "loop":
        bars_in(over.first, last, bar)


def over_bars(
    session: Session, take_id: str, bars: str, punch: bool, pre_roll: int, copies: bool = False
) -> Over:
    """From words: a take, and bars such as 5-8 (counted from 1, both included)."""
    take = session.take(take_id)
    if not bars:
        return Over(take, copies=copies)
    first, _, last = bars.partition("-")
    if not (first.strip().isdecimal() and last.strip().isdecimal()):
        raise InputError(f"{bars!r} are no bars.", remedy="Write them like 5-8.")
    bar = bar_of(session, Over(take))
    stretch = round((int(first) - 1) * bar), round(int(last) * bar)
    if not 0 <= stretch[0] < stretch[1]:
        raise InputError(f"{bars!r} are no bars.", remedy="Write them like 5-8.")
    return Over(take, "punch" if punch else "loop", *stretch, pre_roll_bars=pre_roll)


def old_track(take: Take, one: Armed) -> Track | None:
    """The track of an old take that an armed one goes on with: of the same name and tap."""
    return next((t for t in take.tracks if t.name == one.name and t.tap == one.tap), None)


def over_words(session: Session, take: Take) -> str:
    """Of a take that was recorded over another: which one, from where on, and whether it came round
    again."""
    known = (*session.takes, *session.take_bin)
    other = next((one.name for one in known if one.id == take.over), "a take that is gone")
    rate = session.sample_rate_hz
    if take.punched is not None:
        first, last = (clock(frame / rate) for frame in take.punched)
        return f"{other} with {first}-{last} played anew"
    words = f"recorded over {other}"
    if take.over_frame:
        words += f" from {clock(take.over_frame / rate)} on"
    if take.over_round:
        words += f", which came round every {clock(take.over_round / rate)}"
    return words


def reference_of(take: Take, rate_hz: int) -> int:
    """Samples since midnight at a take's first frame, where files of one day line up."""
    if take.time_reference:
        return take.time_reference
    try:
        made = datetime.fromisoformat(take.recorded_at)
    except ValueError:
        return 0
    return (made.hour * 3600 + made.minute * 60 + made.second) * rate_hz


@dataclass(frozen=True)
class Timeline:
    """Where things lie in the stream, in frames from its beginning."""

    count_in: int
    pre_roll: int
    bar: float
    beats: int
    heard_from: int
    """Frame of the old take at the end of the count-in."""

    @property
    def lead(self) -> int:
        """Frames before the part begins, as the player hears it."""
        return self.count_in + self.pre_roll


def timeline(session: Session, over: Over | None, count_in_bars: int) -> Timeline:
    """The order of count-in, pre-roll and part."""
    bar = bar_of(session, over)
    pre_roll = heard_from = 0
    if over is not None:
        if over.way == "punch":
            pre_roll = min(over.first, round(over.pre_roll_bars * bar))
        heard_from = over.first - pre_roll
    return Timeline(round(count_in_bars * bar), pre_roll, bar, beats_of(session, over), heard_from)


def place_of(frame: int, first: int, loop: tuple[int, int] | None) -> int:
    """The frame of the old take that is heard `frame` frames after the count-in: from `first`
    on; with `loop` (first, end) it comes round again and again once it reaches the end."""
    at = first + frame
    if loop is None or at < loop[1]:
        return at
    return loop[0] + (at - loop[0]) % (loop[1] - loop[0])


@dataclass(frozen=True, eq=False)
class Monitor:
    """What is heard while it records: click, and the old take in time. Made ahead of the
    callback, block by block."""

    times: Timeline
    rate_hz: int
    click: bool
    click_db: float
    read: ReadStereo | None = None
    """The old take's monitor mix."""
    loop: tuple[int, int] | None = None
    channels: int = 2

    def __iter__(self) -> Iterator[NDArray[np.float32]]:
        """Blocks from the beginning of the stream on, without end."""
        frame = 0
        while True:
            block = self._block(frame)
            yield block
            frame += block.shape[0]

    def _block(self, frame: int) -> NDArray[np.float32]:
        times, count = self.times, READ_FRAMES
        if frame < times.count_in:
            count = min(count, times.count_in - frame)  # the take begins with a block
        at = place_of(frame - times.count_in, times.heard_from, self.loop)
        if self.loop is not None and frame >= times.count_in:
            count = min(count, self.loop[1] - at)
        out = np.zeros((count, self.channels), np.float32)
        if self.click or frame < times.count_in:
            # The grid is the old take's; the count-in lies on it, before its own beginning.
            click = click_block(
                frame + times.heard_from, count, self.rate_hz, times.bar / times.beats, times.beats
            )
            out += (db_to_gain(self.click_db) * click)[:, None].astype(np.float32)
        if self.read is not None and frame >= times.count_in:
            stereo = self.read(at, count)
            out += stereo if self.channels == 2 else stereo.mean(axis=1, keepdims=True)
        return out


def monitor_of(
    session: Session, over: Over | None, times: Timeline, store: SessionStore,
    armed: Sequence[Armed], *, level_db: float, click: bool, click_db: float,
) -> Monitor:  # fmt: skip
    """Click, and the old take's monitor mix; the tracks that are replaced are not heard in the
    stretch."""
    rate = session.sample_rate_hz
    if over is None:
        return Monitor(times, rate, click, click_db)
    rows = mix_rows(session, over.take)
    each = round_of(session, over)
    if each:
        rows = tuple(again(row, each, over.frames) for row in rows)
    keys = audible(rows, over.solo)
    silenced = {}
    if over.way == "punch" and over.last is not None:
        for one in armed:
            old = old_track(over.take, one)
            if old is not None:
                silenced[old.file] = (over.first, over.last)
    heard = (row for row in rows if row.key in keys)
    channels = channels_of(heard, session, store)
    loop = (over.first, over.last) if over.way == "loop" and over.last is not None else None
    return Monitor(times, rate, click, click_db, stereo_of(channels, level_db, silenced), loop)
