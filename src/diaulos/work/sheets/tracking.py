"""The track sheet: what was recorded and reamped, by which input, and what was decided of it."""

from __future__ import annotations

from collections.abc import Sequence

from diaulos.figures import TAP_WORDS, counted, level, number, plain
from diaulos.session.model import Session, Take
from diaulos.work.compare.choices import Candidate, candidates_of
from diaulos.work.compare.courses import place_of
from diaulos.work.compare.placed import place_words
from diaulos.work.listening.cabinets import cabinet_title
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import Stored
from diaulos.work.rigs.tables import TRACK_HEAD, track_rows
from diaulos.work.sheets.model import Part, Rows, Words
from diaulos.work.takes.over import over_words

HEAD = ("", "Name", "Tap", "Input", "Microphone", "Decided", "Peak")


def track_parts(session: Session, take_name: str, rig_id: str, stored: Stored) -> tuple[Part, ...]:
    """The tracks of the takes that matter: the one that is named, else the keepers, else the
    latest; without a take what is planned."""
    takes = takes_of(session, take_name)
    if not takes:
        return (_planned(session, rig_id, stored),)
    parts: list[Part] = []
    for take in takes:
        parts.append(Words(take.name, take_lines(session, take)))
        parts.append(_recorded(session, take))
    return tuple(parts)


def takes_of(session: Session, name: str) -> tuple[Take, ...]:
    """The named take, else the keepers (and takes with a keeper among their passes), else the
    latest one; none where there is none."""
    if name:
        return (session.take(name),)
    kept = tuple(
        take for take in session.takes if take.keeper or any(one.keeper for one in take.passes)
    )
    return kept or session.takes[-1:]


def take_lines(session: Session, take: Take) -> tuple[str, ...]:
    """What is known of a take, a line each."""
    lines = [f"Recorded {take.recorded_at.replace('T', ' ')}"]
    name = session.instrument_name(take.instrument_id)
    if name:
        strings = session.instrument(take.instrument_id).strings
        tuning = f", {' '.join(strings)}" if strings else ""
        lines.append(f"{name}{tuning}")
    if take.rig_name:
        lines.append(f"Rig: {take.rig_name}")
    if take.tempo_bpm is not None:
        lines.append(f"{take.tempo_bpm:g} bpm, {take.metre or session.metre}")
    if take.over:
        words = over_words(session, take)
        lines.append(words[:1].upper() + words[1:])
    lines += [line for line in take.notes.splitlines() if line.strip()]
    return tuple(lines)


def _recorded(session: Session, take: Take) -> Rows:
    inputs = {track.file: track.input_number for track in take.tracks}
    peaks = {track.file: track.peak_dbfs for track in take.tracks}
    for made in take.passes:
        peaks |= {back.file: back.peak_dbfs for back in made.returns}
    rows = []
    here = [one for one in candidates_of(session) if one.key.startswith(f"{take.id}:")]
    for at, one in enumerate(here, start=1):
        file = one.files[0]
        number_ = inputs.get(file)
        rows.append(
            (
                f"{at}",
                one.name,
                TAP_WORDS.get(one.tap, one.tap),
                f"{number_}" if number_ is not None else "",
                place_words(place_of(session, one)),
                "; ".join(decided(session, one)),
                level(peaks[file], "dBFS"),
            )
        )
    return Rows(
        f"Tracks of {take.name}", HEAD, tuple(rows), frozenset({0, 3, 6}),
        (0.4, 2.6, 1.8, 0.7, 2.0, 3.2, 1.3), empty="Nothing was recorded.",
    )  # fmt: skip


def decided(session: Session, one: Candidate) -> Sequence[str]:
    """What was decided of a track or pass: moves, polarity, all-pass, low cut, cabinet, match."""
    file = one.files[0] if one.files else ""
    told = []
    moved, cut, later = (
        session.moves.get(file), session.low_cuts.get(file), session.cabinets.get(file),
    )  # fmt: skip
    placed = _found(session, one)
    if placed:
        told.append(placed)
    if moved is not None and moved.delay_samples:
        told.append(f"moved {plain(-moved.delay_samples, 1, sign=True)} samples")
    if moved is not None and moved.polarity < 0:
        told.append("turned over")
    if moved is not None and moved.allpass_hz is not None:
        told.append(f"all-pass {number(moved.allpass_hz, 0)} Hz")
    if cut is not None:
        told.append(f"low cut {number(cut, 0)} Hz")
    gate = session.gates.get(file)
    if gate is not None:
        told.append(f"gate at {level(gate.open_dbfs, 'dBFS')}")
    if later is not None and later.used:
        told.append(f"through {cabinet_title(session, later.used)}")
    return told


def _found(session: Session, one: Candidate) -> str:
    """How a pass lies in its take and what matched it."""
    take = session.take(one.key.partition(":")[0])
    for made in take.passes:
        for back in made.returns:
            if back.file != one.files[0]:
                continue
            words = []
            placed = made.placed(back)
            if placed is not None:
                words.append(f"in time by {plain(-placed.delay_samples, 1, sign=True)} samples")
                if placed.polarity < 0:
                    words.append("turned over")
            if back.match is not None:
                words.append(f"matched by {number(back.match.total_db, 2, sign=True)} dB")
            return ", ".join(words)
    return ""


def _planned(session: Session, rig_id: str, stored: Stored) -> Rows:
    report = look_at(session, rig_id, stored)
    rows = tuple(row.cells for row in track_rows(report, float(session.sample_rate_hz)))
    return Rows(
        f"Planned with {report.rig.name}, no take yet", TRACK_HEAD, rows, frozenset({0, 5, 6, 7}),
        (0.4, 2.4, 1.8, 1.8, 2.4, 0.7, 1.2, 1.4, 0.8), empty="The rig records nothing.",
    )  # fmt: skip


def session_parts(session: Session) -> tuple[Part, ...]:
    """Takes, keepers, notes, blind tests."""
    from diaulos.work.compare.blindrun import result_words

    rows = []
    for take in session.takes:
        longest = max(track.frames for track in take.tracks) / session.sample_rate_hz
        rows.append(
            (
                take.name,
                take.recorded_at.replace("T", " ")[:16],
                f"{int(longest // 60)}:{longest % 60:04.1f}",
                f"{len(take.tracks)}",
                f"{len(take.passes)}",
                "keeper" if take.keeper else "",
                ", ".join(take.tags),
            )
        )
    notes = [
        f"{take.name}: {line}"
        for take in session.takes
        for line in take.notes.splitlines()
        if line.strip()
    ]
    notes += [
        f"{take.name}, {made.name}: {made.notes}"
        for take in session.takes for made in take.passes if made.notes
    ]  # fmt: skip
    tests = tuple(
        (one.made_at.replace("T", " ")[:16], one.a.name, one.b.name, result_words(one))
        for one in session.blind_tests
    )
    total = counted(len(session.takes), "take")
    return (
        Words(
            "In short",
            (
                f"{total}, {session.sample_rate_hz:g} Hz, "
                f"{'24 bit' if session.word_length == '24' else '32-bit float'}, "
                f"{session.tempo_bpm:g} bpm, {session.metre}",
                "Instruments: " + (", ".join(one.name for one in session.instruments) or "none"),
                "Rigs: " + (", ".join(one.name for one in session.rigs) or "none"),
            ),
        ),
        Rows("Takes", ("Name", "Recorded", "Length", "Tracks", "Passes", "", "Tags"), tuple(rows),
             frozenset({2, 3, 4}), (3.0, 1.8, 0.9, 0.8, 0.8, 0.9, 1.6), empty="No take yet."),
        Words("Notes", tuple(notes) or ("None.",)),
        Rows("Blind tests", ("Made", "A", "B", "Answer"), tests, frozenset(),
             (1.6, 2.0, 2.0, 4.4), empty="None."),
    )  # fmt: skip
