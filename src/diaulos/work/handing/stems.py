"""Stems: chosen tracks and passes as files that lie in time in any recorder.

Each is written as an export of it is: a pass in the time and polarity of its take, a track as it
was moved, at its matched level, through its cabinet and low cut, where that is wanted. A dry DI is
always as it was recorded. Takes that were recorded over one another begin together.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import datetime
from string import Formatter
from typing import Any
from xml.etree import ElementTree as ET

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.figures import TAP_WORDS, number
from diaulos.records import dataclass
from diaulos.session.model import Pass, Return, Session, Take, Track, part_name
from diaulos.work.compare.choices import Candidate
from diaulos.work.listening.mixing import return_name
from diaulos.work.ports import (
    AudioSink,
    CancelToken,
    Clock,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.sheets.tracking import decided, takes_of
from diaulos.work.takes.exporting import export_pass, export_track

PATTERN = "{n:02} {name}"
PATTERN_OF_SEVERAL = "{take}, {n:02} {name}"
FIELDS = ("n", "name", "take", "tap", "session")
MOST_NAME = 120
FORBIDDEN = '<>:"/\\|?*'
RESERVED = {"con", "prn", "aux", "nul"}
SILENCE = 65_536


@dataclass(frozen=True)
class StemChoice:
    """What is written. `takes` and `only` are names or ids ("only" of tracks and passes; empty:
    all); `matched` at matched level or as recorded; `rendered` through cabinets and low cuts;
    `made_for_dbu` what a software amplifier expects at 0 dBFS; `word` "" for the session's."""

    takes: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    pattern: str = ""
    matched: bool = True
    rendered: bool = True
    made_for_dbu: float | None = None
    word: str = ""


@dataclass(frozen=True)
class Stem:
    """One file to be: a track, or what belongs together of a pass."""

    file: str
    take: Take
    name: str
    tap: str
    track: Track | None
    made: Pass | None
    part: tuple[Return, ...]
    lead: int
    """Silence ahead of it, in frames: what it was recorded over begins earlier."""
    frames: int
    decided: tuple[str, ...]
    full_scale_dbu: float | None = None
    set_gain_db: float | None = None
    """To be set ahead of a software amplifier."""
    clips_there: bool = False
    beside: Track | None = None
    """The right side, where the track is the left one of a stereo pair."""

    @property
    def source(self) -> str:
        """The file of the session that it is made of."""
        return self.track.file if self.track is not None else self.part[0].file


CreateStem = Callable[[str, int, str, FileNotes], AudioSink]
"""(file name, channels, word length, notes) -> a new file."""


def plan_stems(session: Session, choice: StemChoice) -> tuple[Stem, ...]:
    """The files that would be written, in order. InputError for a pattern that cannot be used,
    EditError for a take that there is not."""
    by_id = {take.id: take for name in choice.takes or ("",) for take in takes_of(session, name)}
    takes = tuple(by_id.values())
    if not takes:
        raise InputError("there is no take to make stems of.", remedy="Record or import one.")
    pattern = choice.pattern or (PATTERN if len(takes) == 1 else PATTERN_OF_SEVERAL)
    starts = _starts(session, takes)
    found: list[Stem] = []
    for take in takes:
        for stem in _of_take(session, take, starts[take.id], choice):
            names = {stem.name, stem.source, *(one.id for one in (stem.track, stem.made) if one)}
            if stem.made is not None:
                names.add(stem.made.name)
            if not choice.only or names & set(choice.only):
                found.append(stem)
    if not found:
        raise InputError(
            "nothing of that name is in the chosen takes.", where=", ".join(choice.only),
            remedy="Leave the names out for all of them.",
        )  # fmt: skip
    taken: set[str] = set()
    named = []
    for at, stem in enumerate(found, start=1):
        named.append(replace(stem, file=_file_name(session, stem, at, pattern, taken)))
    return tuple(named)


def _of_take(session: Session, take: Take, lead: int, choice: StemChoice) -> Iterable[Stem]:
    for tracks in take.parts:
        track = tracks[0]
        name = part_name(tracks)
        files = tuple(one.file for one in tracks)
        one = Candidate(f"{take.id}:{track.file}", name, take.name, track.tap, files)
        frames = max(one.frames for one in tracks)
        peak = max(one.peak_dbfs for one in tracks)
        dry = track.tap == "di"
        full, gain = track.full_scale_dbu if dry else None, None
        if full is not None and choice.made_for_dbu is not None:
            gain = full - choice.made_for_dbu
        yield Stem(
            "", take, name, track.tap, track, None, (), lead, lead + frames,
            () if dry else _told(session, one, choice), full, gain,
            gain is not None and peak + gain > 0.0, tracks[1] if len(tracks) == 2 else None,
        )  # fmt: skip
    for made in take.passes:
        for part in made.parts:
            first = part[0]
            name = made.name if len(made.parts) == 1 else return_name(made, first)
            files = tuple(one.file for one in part)
            one = Candidate(f"{take.id}:{first.file}", name, take.name, first.tap, files)
            frames = take.track(made.track_id).frames
            yield Stem(
                "", take, name, first.tap, None, made, part, lead, lead + frames,
                _told(session, one, choice),
            )  # fmt: skip


def _told(session: Session, one: Candidate, choice: StemChoice) -> tuple[str, ...]:
    """What is done to it in its stem."""
    bare = session
    if not choice.rendered:
        bare = bare.model_copy(update={"low_cuts": {}, "gates": {}, "cabinets": {}})
    return tuple(
        words if choice.matched else ", ".join(
            word for word in words.split(", ") if not word.startswith("matched")
        )
        for words in decided(bare, one)
    )  # fmt: skip


def _starts(session: Session, takes: Sequence[Take]) -> dict[str, int]:
    """How much later each begins than the earliest of those that it was recorded over and with."""
    known = {take.id: take for take in (*session.takes, *session.take_bin)}
    roots: dict[str, tuple[str, int]] = {}
    for take in takes:
        at, here, seen = 0, take, {take.id}
        while here.over in known and here.over not in seen:
            seen.add(here.over)
            at += here.over_frame
            here = known[here.over]
        roots[take.id] = (here.id, at)
    first: dict[str, int] = {}
    for root, at in roots.values():
        first[root] = min(at, first.get(root, at))
    return {ident: at - first[root] for ident, (root, at) in roots.items()}


def _file_name(session: Session, stem: Stem, at: int, pattern: str, taken: set[str]) -> str:
    values: dict[str, Any] = {
        "n": at, "name": stem.name, "take": stem.take.name,
        "tap": TAP_WORDS.get(stem.tap, stem.tap), "session": session.name,
    }  # fmt: skip
    try:
        for _, field, spec, conversion in Formatter().parse(pattern):
            # A name from a pattern holds fields of ours, no attributes and no items.
            if field is not None and (
                field not in FIELDS or conversion or "{" in (spec or "") or len(spec or "") > 4
            ):
                raise ValueError(field)
        text = pattern.format_map(values)
    except (ValueError, KeyError, IndexError) as error:
        raise InputError(
            f"the pattern {pattern!r} cannot be used.", where="pattern",
            remedy=f"Its fields: {', '.join('{' + one + '}' for one in FIELDS)}; {{n:02}} with"
            " a leading zero.",
        ) from error  # fmt: skip
    plain = "".join(
        "-" if sign in FORBIDDEN or not sign.isprintable() else sign for sign in text
    ).strip(" .")[:MOST_NAME]
    if not plain or plain.casefold() in RESERVED:
        plain = f"stem {at:02}"
    name, more = plain, 2
    while name.casefold() in taken:
        name, more = f"{plain} ({more})", more + 1
    taken.add(name.casefold())
    return f"{name}.wav"


def write_stems(
    session: Session,
    stems: Sequence[Stem],
    choice: StemChoice,
    store: SessionStore,
    create: CreateStem,
    clock: Clock,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> None:
    """Write them, one after the other. What is half written when it is cancelled or fails is
    thrown away; what is whole stays."""
    cancel = cancel or CancelToken()
    total = max(1, sum(stem.frames for stem in stems))
    done = 0
    longest: dict[str, int] = {}
    for stem in stems:
        longest[stem.take.id] = max(longest.get(stem.take.id, 0), stem.frames)
    for stem in stems:
        progress(done / total, stem.name)
        _write(session, stem, choice, store, create, clock, progress, cancel,
               (done / total, stem.frames / total), longest[stem.take.id])  # fmt: skip
        done += stem.frames


def _write(
    session: Session, stem: Stem, choice: StemChoice, store: SessionStore, create: CreateStem,
    clock: Clock, progress: Progress, cancel: CancelToken, span: tuple[float, float], frames: int,
) -> None:  # fmt: skip
    heard = _as_wanted(session, stem, choice)
    take = heard.take(stem.take.id)
    word = choice.word or session.word_length
    opened: list[AudioSink] = []

    def begin(_added: str, channels: int, notes: FileNotes) -> AudioSink:
        told = replace(
            notes,
            description=_description(session, stem),
            time_reference=max(0, take.time_reference - stem.lead),
            history=_history(notes.history, stem),
            ixml=stem_ixml(session, stem, channels),
        )
        sink = create(stem.file, channels, word, told)
        opened.append(sink)

        def tell(written: int) -> None:
            cancel.check()
            progress(span[0] + span[1] * min(1.0, written / max(1, stem.frames)), stem.name)

        return _Led(sink, channels, stem.lead, frames, tell)

    try:
        if stem.track is not None:
            track = take.track(stem.track.id)
            export_track(
                heard, take, track, store, begin, clock, cabinets=choice.rendered,
                beside=take.track(stem.beside.id) if stem.beside is not None else None,
            )  # fmt: skip
        elif stem.made is not None:
            made = take.pass_(stem.made.id)
            part = tuple(one for one in made.returns if one.file in {r.file for r in stem.part})
            export_pass(heard, take, made, store, begin, clock, part, cabinets=choice.rendered)
    except BaseException:
        for sink in opened:
            sink.abandon()
        raise


def _as_wanted(session: Session, stem: Stem, choice: StemChoice) -> Session:
    """The session in which an export of it is the stem."""
    update: dict[str, Any] = {}
    if stem.tap == "di" and stem.track is not None:
        file = stem.track.file
        for part in ("moves", "low_cuts", "gates", "cabinets"):
            update[part] = {key: one for key, one in getattr(session, part).items() if key != file}
    elif not choice.rendered:
        update |= {"low_cuts": {}, "gates": {}, "cabinets": {}}
    if not choice.matched and stem.made is not None:
        update["takes"] = tuple(
            take if take.id != stem.take.id else take.model_copy(
                update={"passes": tuple(_unmatched(one) for one in take.passes)}
            )
            for take in session.takes
        )  # fmt: skip
    return session.model_copy(update=update) if update else session


def _unmatched(made: Pass) -> Pass:
    returns = tuple(one.model_copy(update={"match": None}) for one in made.returns)
    return made.model_copy(update={"returns": returns})


class _Led:
    """A sink with silence ahead, and behind up to the length of the longest."""

    def __init__(
        self, sink: AudioSink, channels: int, lead: int, frames: int, tell: Callable[[int], None]
    ) -> None:
        self._sink, self._channels, self._frames, self._tell = sink, channels, frames, tell
        self._silence(lead)

    def _silence(self, count: int) -> None:
        while count > 0:
            here = min(SILENCE, count)
            self._sink.write(np.zeros((here, self._channels), np.float32))
            count -= here

    @property
    def frames(self) -> int:
        """Written so far."""
        return self._sink.frames

    @property
    def clipped_samples(self) -> int:
        """Samples that did not fit."""
        return self._sink.clipped_samples

    def write(self, samples: NDArray[Any]) -> None:
        """Append samples."""
        self._tell(self._sink.frames)
        self._sink.write(samples)

    def close(self) -> None:
        """Finish the file: all of a take are as long as its longest."""
        self._silence(self._frames - self._sink.frames)
        self._sink.close()

    def abandon(self) -> None:
        """Throw it away."""
        self._sink.abandon()


def _description(session: Session, stem: Stem) -> str:
    # Read again by its semicolons when a folder of stems comes back.
    names = (session.name, stem.take.name, stem.name, TAP_WORDS.get(stem.tap, stem.tap))
    text = "; ".join(name.replace(";", ",") for name in names)
    if stem.full_scale_dbu is not None:
        text += f"; 0 dBFS = {stem.full_scale_dbu:+.2f} dBu"
    return text


def _history(history: str, stem: Stem) -> str:
    if stem.full_scale_dbu is not None:
        history += f"; 0 dBFS = {stem.full_scale_dbu:+.2f} dBu"
    return f"stem; {history}"


def stem_ixml(session: Session, stem: Stem, channels: int) -> str:
    """The iXML of a stem (iXML specification 2.10, from memory): project, take, note, and a name
    for each channel."""
    root = ET.Element("BWFXML")
    ET.SubElement(root, "IXML_VERSION").text = "2.10"
    ET.SubElement(root, "PROJECT").text = session.name
    ET.SubElement(root, "TAKE").text = stem.take.name
    note = [*stem.decided]
    if stem.full_scale_dbu is not None:
        note.append(f"0 dBFS = {stem.full_scale_dbu:+.2f} dBu")
    if note:
        ET.SubElement(root, "NOTE").text = "; ".join(note)
    tracks = ET.SubElement(root, "TRACK_LIST")
    ET.SubElement(tracks, "TRACK_COUNT").text = str(channels)
    for at in range(1, channels + 1):
        one = ET.SubElement(tracks, "TRACK")
        ET.SubElement(one, "CHANNEL_INDEX").text = str(at)
        ET.SubElement(one, "INTERLEAVE_INDEX").text = str(at)
        side = "" if channels == 1 else (", left" if at == 1 else ", right")
        ET.SubElement(one, "NAME").text = f"{stem.name}{side}"
        ET.SubElement(one, "FUNCTION").text = TAP_WORDS.get(stem.tap, stem.tap)
    for element in root.iter():
        if element.text:
            element.text = "".join(sign for sign in element.text if _in_xml(sign))
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode")


def _in_xml(sign: str) -> bool:
    """Whether XML 1.0 can hold a sign."""
    code = ord(sign)
    return (
        code in (9, 10)
        or (code >= 32 and not 0xD800 <= code <= 0xDFFF and code < 0xFFFE)
        or (0x10000 <= code <= 0x10FFFF)
    )


def stems_text(
    session: Session, stems: Sequence[Stem], choice: StemChoice, made_at: datetime
) -> str:
    """What was done, to lie beside the files."""
    lines = [
        f"{session.name}: stems",
        f"Made {made_at:%Y-%m-%d %H:%M}, {session.sample_rate_hz} Hz,"
        f" {'24 bit' if (choice.word or session.word_length) == '24' else '32-bit float'}",
        "All files of a take begin together and are as long as each other.",
        "Levels: " + ("matched" if choice.matched else "as recorded") + "; cabinets and low cuts: "
        + ("rendered" if choice.rendered else "left out") + "; a dry DI is always as recorded.",
        "",
    ]  # fmt: skip
    for stem in stems:
        lines.append(stem.file)
        lines.append(f"    {stem.take.name}, {TAP_WORDS.get(stem.tap, stem.tap)}")
        for words in stem.decided:
            lines.append(f"    {words}")
        if stem.tap == "di" and stem.track is not None:
            lines.append(f"    {calibration_words(stem, choice)}")
    return "\n".join(lines) + "\n"


def calibration_words(stem: Stem, choice: StemChoice) -> str:
    """What a DI's levels mean, and what to set ahead of a software amplifier."""
    full = stem.full_scale_dbu
    if full is None:
        return "Nobody knows which dBu reached 0 dBFS."
    text = f"0 dBFS is {number(full, 2, sign=True)} dBu."
    if stem.set_gain_db is not None and choice.made_for_dbu is not None:
        text += (
            f" For a software amplifier that expects {number(choice.made_for_dbu, 2, sign=True)}"
            f" dBu at 0 dBFS set {number(stem.set_gain_db, 2, sign=True)} dB ahead of it."
        )
        if stem.clips_there:
            text += " That clips: it has no headroom above its 0 dBFS unless it works in float."
    return text


def stem_data(stem: Stem, choice: StemChoice, clipped: int) -> dict[str, Any]:
    """What the shell tells of one stem."""
    return {
        "file": stem.file,
        "take": stem.take.name,
        "name": stem.name,
        "tap": stem.tap,
        "frames": stem.frames,
        "lead_frames": stem.lead,
        "decided": list(stem.decided),
        "full_scale_dbu": stem.full_scale_dbu,
        "set_gain_db": stem.set_gain_db,
        "clips_there": stem.clips_there,
        "clipped_samples": clipped,
        "words": calibration_words(stem, choice) if stem.tap == "di" else None,
    }
