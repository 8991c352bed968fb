"""A part of a take sent alone: a marked range, a cut take, a punch. It begins a little ahead, so
that the amplifier has settled, and its return rings out.

A part can be joined with the rest of an older pass: a new file, with the older one around the
part, each in its own time and polarity. No file that is there is changed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError, InputError
from diaulos.records import dataclass
from diaulos.rig.model import Rig
from diaulos.rig.plan import return_control
from diaulos.rig.returns import planned_returns
from diaulos.session.model import Pass, Return, SentPart, Session, Take, rig_hash
from diaulos.units import db_to_gain
from diaulos.work.blocks import ArraySource
from diaulos.work.listening.aligned import JOIN_S, read_aligned
from diaulos.work.measuring import finite_or_none, measure_blocks, read_span
from diaulos.work.ports import AudioSink, AudioSource, FileNotes, SessionStore
from diaulos.work.takes.over import Over, bar_of

AHEAD_S = 1.0
"""Sent ahead of a part: what an amplifier's supply and its compression need."""
BLOCK = 65_536


def part_words(session: Session, take: Take, part: SentPart) -> str:
    """Which part, for a person: by bars where it is whole bars, else by seconds."""
    bar = bar_of(session, Over(take))
    first, last = part.first / bar, part.last / bar
    if abs(first - round(first)) < 0.001 and abs(last - round(last)) < 0.001:
        one, other = round(first) + 1, round(last)
        return f"bar {one}" if one == other else f"bars {one}\N{EN DASH}{other}"
    rate = session.sample_rate_hz
    return f"{part.first / rate:.2f}\N{EN DASH}{part.last / rate:.2f} s"


def stretch_of(session: Session, take: Take, words: str) -> tuple[int, int]:
    """Frames of a range in words: bars such as 5-8, counted from 1, both included; or seconds such
    as 2.5s-8s. InputError for what is none, or lies outside the take."""
    first, dash, last = (one.strip() for one in words.partition("-"))
    frames = max(track.frames for track in take.tracks)
    if dash and first.isdecimal() and last.isdecimal():
        bar = bar_of(session, Over(take))
        start, end = round((int(first) - 1) * bar), min(frames, round(int(last) * bar))
    else:
        try:
            start, end = (
                round(float(one.removesuffix("s")) * session.sample_rate_hz)
                for one in (first, last)
                if one.endswith("s")
            )
        except (ValueError, OverflowError):
            raise InputError(
                f"{words!r} is no range.", remedy="Write bars like 5-8, or seconds like 2.5s-8s."
            ) from None
    return _inside(take, frames, start, end)


def _inside(take: Take, frames: int, first: int, last: int) -> tuple[int, int]:
    if not 0 <= first < last <= frames:
        raise InputError(
            f"the range from frame {first} to {last} is not inside {take.name} ({frames} frames).",
            remedy="Mark a range inside the take.",
        )
    return first, last


def part_of_take(take: Take, stretch: tuple[int, int] | None, rate_hz: int) -> SentPart | None:
    """What is sent: the stretch, else what the take is cut to; None for all of it."""
    stretch = stretch or take.cut
    frames = max(track.frames for track in take.tracks)
    if stretch is None or stretch == (0, frames):
        return None
    first, last = _inside(take, frames, *stretch)
    return SentPart(first=first, last=last, start=max(0, first - round(AHEAD_S * rate_hz)))


class PartSource:
    """A file's first channel over the frames of a part, read like a file that holds no more. It
    goes out over 5 ms behind the part's end, so that nothing clicks in what rings on."""

    channels = 1

    def __init__(self, source: AudioSource, part: SentPart) -> None:
        self._source, self._start = source, part.start
        self.rate_hz = source.rate_hz
        self.bits = source.bits
        self._fade = min(round(JOIN_S * source.rate_hz), max(0, source.frames - part.last))
        self._end = part.last - part.start
        self.frames = self._end + self._fade

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = BLOCK
    ) -> Iterator[NDArray[np.float32]]:
        """(frames, 1) blocks."""
        stop = self.frames if count is None else min(self.frames, first + count)
        for at in range(first, stop, block):
            size = min(block, stop - at)
            samples = read_span(self._source, self._start + at, size)
            if at + size > self._end:
                place = (np.arange(at, at + size) - self._end) / max(1, self._fade)
                fall = 0.5 + 0.5 * np.cos(np.pi * np.clip(place, 0.0, 1.0))
                samples = samples * fall.astype(np.float32)
            yield samples[:, None]


class MemorySink:
    """Keeps what is recorded: of a part that is joined only the joined file is written."""

    def __init__(self) -> None:
        self._blocks: list[NDArray[np.float32]] = []
        self.frames = 0
        self.clipped_samples = 0

    def write(self, samples: NDArray[Any]) -> None:
        """Mono samples."""
        block = np.array(samples, dtype=np.float32).reshape(-1)
        self._blocks.append(block)
        self.frames += block.size

    def close(self) -> None:
        """Nothing is left to do."""

    def abandon(self) -> None:
        """Throw it away."""
        self._blocks.clear()

    def source(self, rate_hz: int) -> ArraySource:
        """What was recorded."""
        samples = np.concatenate(self._blocks) if self._blocks else np.zeros(0, np.float32)
        return ArraySource(samples, rate_hz)


def whole_or_part(source: AudioSource, part: SentPart | None) -> AudioSource:
    """A track as it was sent."""
    return source if part is None or part.joined else PartSource(source, part)


# --- joined with the rest of an older pass ---


@dataclass(frozen=True)
class Rest:
    """An older pass whose rest a part is joined with, the take it is of, and the rig it was made
    with; None where nobody knows."""

    take: Take
    made: Pass
    rig: Rig | None

    def of(self, back: Return) -> Return:
        """Its return by the same input; EditError where it has none."""
        for one in self.made.returns:
            if one.port == back.port and one.name == back.name:
                return one
        known = ", ".join(one.name for one in self.made.returns)
        raise EditError(
            f"{self.made.name} has no return {back.name!r} to join with.",
            remedy=f"Record only what it has: {known}.",
        )

    def same_chain(self, rig: Rig, send_gain_db: float) -> bool:
        """Whether a rig differs from its own in nothing but the gains of the returns."""
        if self.rig is None or abs(self.made.send_gain_db - send_gain_db) > 1e-6:
            return False
        return rig_hash(_ungained(rig)) == rig_hash(_ungained(self.rig))


def _ungained(rig: Rig) -> Rig:
    for one in planned_returns(rig):
        control = return_control(one.course)
        if control is not None:
            device, knob = control
            rig = rig.with_setting(device.id, knob.id, knob.nearest(0.0))
    return rig.model_copy(update={"id": "", "name": ""})


def rest_of(session: Session, take: Take, wanted: str) -> Rest:
    """The pass of this id or name: of the take, or of the one that it was punched into. Both may
    have one of the same id: "take/pass" names it for sure."""
    there = [take]
    if take.punched is not None:
        there += [one for one in session.takes if one.id == take.over]
    for one in there:
        for made in one.passes:
            if wanted in (made.id, made.name, f"{one.id}/{made.id}"):
                if made.part is not None and not made.part.joined:
                    raise EditError(
                        f"{made.name} is a part itself: it has no rest to join with.",
                        remedy="Choose a pass of the whole take.",
                    )
                return Rest(one, made, session.snapshots.get(made.rig_hash))
    known = ", ".join(made.name for one in there for made in one.passes) or "none yet"
    raise EditError(f"There is no pass {wanted!r} to join with.", remedy=f"Passes: {known}.")


def join_gain_db(
    rest: Rest, part: SentPart, back: Return, rig: Rig, send_gain_db: float,
    new: AudioSource, old: AudioSource,
) -> float:  # fmt: skip
    """What a part must be given to go on at the level of the rest: the difference of the return
    gains where all else is the same; else as loud as the rest was in its place."""
    known = rest.of(back)
    if rest.same_chain(rig, send_gain_db):
        return known.return_gain_db - back.return_gain_db
    frames = part.last - part.first
    late = round(known.alignment.delay_samples) if known.alignment else 0
    later = round(back.alignment.delay_samples) if back.alignment else 0
    was = measure_blocks(
        old.blocks(first=max(0, part.first + late), count=frames), old.rate_hz, 1
    ).loudness.lufs  # fmt: skip
    now = measure_blocks(
        new.blocks(first=max(0, part.first - part.start + later), count=frames), new.rate_hz, 1
    ).loudness.lufs  # fmt: skip
    return finite_or_none(was - now) or 0.0


def write_joined(
    sink: AudioSink,
    old: AudioSource,
    new: AudioSource,
    part: SentPart,
    delays_samples: tuple[float, float],
    turned: int,
    gain_db: float,
) -> None:
    """The older return, with the new one in the part's place. `delays_samples` are those of the two
    in their own files, `turned` is -1 where one of them is inverted against the other."""
    late, later = delays_samples
    first, last = part.first + round(late), part.last + round(late)
    fade = max(1, min(round(JOIN_S * old.rate_hz), (last - first) // 2))
    gain = turned * db_to_gain(gain_db)
    move = later - part.start - late
    for at in range(0, old.frames, BLOCK):
        count = min(BLOCK, old.frames - at)
        block = read_span(old, at, count).astype(np.float64)
        if at < last and at + count > first:
            place = np.arange(at, at + count)
            rise = np.clip((place - first + 0.5) / fade, 0.0, 1.0)
            fall = np.clip((last - place - 0.5) / fade, 0.0, 1.0)
            share = np.sin(0.5 * np.pi * np.minimum(rise, fall)) ** 2
            fresh = read_aligned(new, at, count, move)
            block = (1.0 - share) * block + share * gain * fresh
        sink.write(block.astype(np.float32)[:, None])


def join_rest(
    session: Session, made: Pass, rig: Rig, rest: Rest, reopen: Callable[[int], AudioSource],
    store: SessionStore, notes: FileNotes,
) -> Pass:  # fmt: skip
    """A part as a pass of the whole take: each return a new file, with the rest of the older pass
    around it, in that one's time, polarity, match and groups. `reopen` gives the part's own audio
    by its place. On any error the new files are thrown away."""
    part = made.part
    assert part is not None
    returns, sinks = [], []
    try:
        for number, back in enumerate(made.returns):
            known, new = rest.of(back), reopen(number)
            old = store.open_audio(known.file)
            if known.alignment is None or back.alignment is None:
                reason = known.alignment_refused or back.alignment_refused
                raise EditError(
                    f"{back.name} cannot be joined: where it lies is not known. {reason}",
                    remedy="Reamp the whole take.",
                )
            gain = join_gain_db(rest, part, back, rig, made.send_gain_db, new, old)
            sink = store.create_audio(back.file, old.rate_hz, 1, session.word_length, notes)
            sinks.append(sink)
            delays = _delays(known, back)
            turned = known.alignment.polarity * back.alignment.polarity
            write_joined(sink, old, new, part, delays, turned, gain)
            sink.close()
            returns.append(_joined_record(known, back, store))
    except BaseException:
        for sink in sinks:
            sink.abandon()
        raise
    joined = part.model_copy(update={"start": 0, "joined": f"{rest.made.name}, {rest.take.name}"})
    return made.model_copy(update={"returns": tuple(returns), "part": joined})


def _delays(known: Return, back: Return) -> tuple[float, float]:
    """Where the rest and the part lie in their own files. What lies between them is told by the
    slates, where both have one: they know nothing of tone and playing."""
    assert known.alignment is not None
    assert back.alignment is not None
    late = known.alignment.delay_samples
    was, now = known.loop_delay_samples, back.loop_delay_samples
    if was is None or now is None:
        return late, back.alignment.delay_samples
    return late, late + now - was


def _joined_record(known: Return, back: Return, store: SessionStore) -> Return:
    """Of a joined file: levels of the whole, the rest's place and match, the part's slate."""
    source = store.open_audio(back.file)
    levels = measure_blocks(source.blocks(), source.rate_hz, 1, None, source.bits)
    return known.model_copy(
        update={
            "file": back.file,
            "frames": source.frames,
            "slate": back.slate,
            "return_gain_db": known.return_gain_db,
            "peak_dbfs": max(levels.peak_dbfs, -200.0),
            "true_peak_dbtp": max(levels.true_peak_dbtp, -200.0),
            "clipped_samples": levels.clipped_samples,
            "loudness_lufs": finite_or_none(levels.loudness.lufs),
            "null_db": None,
            "recorded": None,
        }
    )
