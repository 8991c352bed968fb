"""Where a session departs from the practice that it follows, with the price of either choice.

A departure is a note. Its price is in figures of this session: of its instruments, its rig, its
takes. Where nobody measured what it would need, it says so instead of a usual value.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from diaulos.figures import counted, level, number
from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.session.model import Session, Take
from diaulos.session.practices import SHIPPED, Practice
from diaulos.session.roles import recording_rig
from diaulos.session.tone_stage import in_hand, stage_of
from diaulos.work.compare.cutting import costs_of
from diaulos.work.compare.mixes import MIDDLE, summed_db
from diaulos.work.instruments.trims import stage_peak_dbfs, trim_rows
from diaulos.work.listening.heard import heard_through
from diaulos.work.listening.mixing import MixRow, channels_of, level_of, mix_rows
from diaulos.work.ports import SessionStore
from diaulos.work.rigs.levels import aim_of
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.takes.noisecheck import SECONDS
from diaulos.work.takes.ready import bytes_needed

Place = Literal["Instruments", "Rig", "Levels", "Takes"]
Sums = Callable[[Take, str, str], float | None]
"""What two files of a take sum to as they are heard, in one place, dB re the sum of their powers;
None where that is not known."""
MOST_KEPT = 500
HOT_DBFS = -6.0
"""An instrument is hot where its loudest peak comes so near to full in the tone stage."""


@dataclass(frozen=True)
class Departure:
    """One: where, what is here, what the house does, and the price of either."""

    id: str
    place: Place
    words: str
    price: str


def practices_of(session: Session) -> tuple[Practice, ...]:
    """Shipped ones, then own ones; an own one takes the place of a shipped one with its id."""
    own = {one.id: one for one in session.own_practices}
    shipped = tuple(own.pop(one.id, one) for one in SHIPPED)
    return (*shipped, *own.values())


def practice_of(session: Session) -> Practice | None:
    """The one that a session follows; None for none."""
    return next((one for one in practices_of(session) if one.id == session.practice), None)


def sums_of(
    session: Session, store: SessionStore, known: dict[object, float | None] | None = None
) -> Sums:
    """From the audio of a session, as the mix would have them both in the middle. `known` keeps
    what was read already, for as long as it is heard so."""
    kept = {} if known is None else known

    def measured(rows: dict[str, MixRow], take: Take, one: str, other: str) -> float | None:
        frames = max(track.frames for track in take.tracks)
        channels = [
            channel for row in (rows[one], rows[other])
            for channel in channels_of([row], session, store)
        ]  # fmt: skip
        return summed_db(channels, frames, session.sample_rate_hz) if len(channels) == 2 else None

    def asked(take: Take, one: str, other: str) -> float | None:
        rows = {row.key: row for row in mix_rows(session, take)}
        key = tuple(
            (session.id, file, level_of(rows[file]), heard_through(session, file))
            for file in (one, other)
        )
        if key not in kept:
            if len(kept) >= MOST_KEPT:
                kept.clear()
            kept[key] = measured(rows, take, one, other)
        return kept[key]

    return asked


def _unknown(_take: Take, _one: str, _other: str) -> None:
    return None


def departures(
    session: Session,
    stored: Stored = NOTHING_STORED,
    practice: Practice | None = None,
    sums: Sums = _unknown,
) -> tuple[Departure, ...]:
    """Every departure, in the order of the work; none where no practice is followed."""
    house = practice or practice_of(session)
    if house is None:
        return ()
    found = [*_trims(session, house), *_pad(session, house)]
    if session.rigs:
        found += _rig(session, house, stored)
    found += [*_target(session, house), *_takes(session, house)]
    if house.noise_check:
        found += _noise(session)
    if house.tones != "any":
        found += _tones(session, house, sums)
    return tuple(found)


# --- instruments ---


def _trims(session: Session, house: Practice) -> list[Departure]:
    rows = [row for row in trim_rows(session) if row.peak_dbfs is not None]
    found = []
    if house.trims == "whole":
        for row in rows:
            rounded = round(row.trim_db)
            if abs(row.trim_db - rounded) > 0.001 and row.left_over_db is not None:
                after = row.left_over_db - (rounded - row.trim_db)
                found.append(
                    Departure(
                        "trim-whole", "Instruments",
                        f"{row.name} has a trim of {number(row.trim_db, 2, sign=True)} dB; the "
                        "house trims in whole dB.",
                        f"As it is, its loudest peak lies {number(abs(row.left_over_db))} dB from "
                        f"the target; with {number(float(rounded), 0, sign=True)} dB it lies "
                        f"{number(abs(after))} dB from it.",
                    )
                )  # fmt: skip
    elif house.trims == "none":
        trimmed = [row for row in rows if row.trim_db]
        drives = [row.drive_db for row in rows if row.drive_db is not None]
        plain = [row.plain_drive_db for row in rows if row.plain_drive_db is not None]
        if trimmed and len(drives) > 1:
            found.append(
                Departure(
                    "trim-none", "Instruments",
                    f"{counted(len(trimmed), 'instrument')} trimmed; in the house a hot one stays "
                    "hot.",
                    f"As trimmed, they drive the tone {number(max(drives) - min(drives))} dB "
                    f"apart, without trims {number(max(plain) - min(plain))} dB.",
                )
            )  # fmt: skip
    else:
        off = [row for row in rows if not row.keep_hot and abs(row.left_over_db or 0.0) > 1.0]
        found += [
            Departure(
                "trim-fine", "Instruments",
                f"{row.name} is not trimmed to the target; in the house all drive the tone "
                "alike.",
                f"Its loudest peak lies {number(abs(row.left_over_db or 0.0))} dB "
                + (
                    "under the target: it drives the same tone by as much less."
                    if (row.left_over_db or 0.0) > 0.0
                    else "over the target: it drives the same tone by as much harder."
                ),
            )
            for row in off
        ]  # fmt: skip
    return found


def _pad(session: Session, house: Practice) -> list[Departure]:
    stage = stage_of(session)
    chosen = next((one for one in session.instruments if one.id == in_hand(session)), None)
    if chosen is None or stage.pad_db <= 0.0:
        return []
    bare = stage_peak_dbfs(chosen, stage.model_copy(update={"pad_on": False}))
    if house.pad == "hot":
        if bare is None:
            return []
        wanted = bare > HOT_DBFS
        why = f"its loudest peak lies at {level(bare, 'dBFS')} there without the pad"
    else:
        wanted = house.pad == "always"
        why = f"the house engages it {house.pad}"
    if wanted == stage.pad_on:
        return []
    here = "on" if stage.pad_on else "off"
    return [
        Departure(
            "pad", "Instruments",
            f"The pad of {stage.name} is {here} with {chosen.name}; {why}.",
            f"It takes {number(stage.pad_db)} dB ahead of the tone: the same settings are cleaner "
            f"by as much with it, and the noise of what follows stands {number(stage.pad_db)} dB "
            "nearer.",
        )
    ]  # fmt: skip


# --- the rig ---


def _rig(session: Session, house: Practice, stored: Stored) -> list[Departure]:
    report = look_at(session, recording_rig(session).id, stored)
    courses = [plan.course for plan in report.tracks if plan.course is not None]
    found = []
    dry = [one for one in courses if one.tap == "di" or (
        one.tap == "printed" and house.dry_di == "printed")]  # fmt: skip
    if courses and not dry:
        room = bytes_needed(session, 1, 1.0) / 1e6
        found.append(
            Departure(
                "dry-di", "Rig", f"{report.rig.name} records no dry DI; the house always does.",
                f"One more track takes {number(room)} MB a minute. Without it no tone can be "
                "changed afterwards.",
            )
        )  # fmt: skip
    found += _ways_in(courses, house)
    kinds = {way.kind for one in report.monitoring.listeners for way in one.ways}
    other = {"direct": "software", "software": "direct"}.get(house.heard)
    if other is not None and other in kinds and house.heard not in kinds:
        late = {
            kind: [way.delay_ms for one in report.monitoring.listeners for way in one.ways
                   if way.kind == kind]
            for kind in ("direct", "software")
        }  # fmt: skip
        told = f"{number(max(late[other]), 2)} ms from the string to the ear as it is"
        found.append(
            Departure(
                "heard", "Rig",
                f"The player is heard {_heard(other)}; in the house {_heard(house.heard)}.",
                f"{told}. Ahead of the computer its buffers fall away, and so does the tone that "
                "it makes.",
            )
        )  # fmt: skip
    return found


def _heard(kind: str) -> str:
    return "ahead of the computer" if kind == "direct" else "through the computer"


def _ways_in(courses: list[Course], house: Practice) -> list[Departure]:
    if house.way_in == "any":
        return []
    modeled = [one for one in courses if one.tap == "modeled"]
    found = []
    for one in modeled:
        analog = one.conversions > 1
        if analog == (house.way_in == "analog"):
            continue
        price = (
            f"It is converted {counted(one.conversions, 'time')}; a digital link saves a pair of "
            "conversions. Hear them in Compare, two ways in."
            if analog
            else "It is converted once. By an analog way it would be converted more than once, "
            "and its level could be set at the interface."
        )
        way = "analog" if analog else "digital"
        found.append(
            Departure(
                "way-in", "Rig",
                f"A modeled track comes in by {'an' if analog else 'a'} {way} way; the house takes "
                f"the {house.way_in} one.",
                price,
            )
        )  # fmt: skip
    return found


# --- levels ---


def _target(session: Session, house: Practice) -> list[Departure]:
    aim = aim_of(session)
    if aim.statistic == house.statistic and abs(aim.target_dbfs - house.target_dbfs) < 0.05:
        return []
    here = f"{'RMS' if aim.statistic == 'rms' else 'peak'} {level(aim.target_dbfs, 'dBFS', 0)}"
    there = f"{'RMS' if house.statistic == 'rms' else 'peak'} {level(house.target_dbfs, 'dBFS', 0)}"
    chosen = next((one for one in session.instruments if one.id == in_hand(session)), None)
    reading = chosen.reading if chosen is not None else None
    crest = None
    if reading is not None:
        crest = reading.peak_dbfs - reading.loudest_400ms_dbfs
    own, other = aim.target_dbfs, house.target_dbfs
    if aim.statistic != house.statistic:
        if crest is None or chosen is None:
            price = "How far the two lie apart is told by a strum: measure one in Instruments (M)."
            return [Departure("target", "Levels",
                              f"The target is {here}; in the house {there}.", price)]  # fmt: skip
        own = own + crest if aim.statistic == "rms" else own
        other = other + crest if house.statistic == "rms" else other
    apart = other - own
    more, less = ("more", "less") if apart > 0.0 else ("less", "more")
    with_whom = ""
    if chosen is not None and crest is not None and aim.statistic != house.statistic:
        with_whom = f" (with {chosen.name}, whose peaks lie {number(crest)} dB over its RMS)"
    return [
        Departure(
            "target", "Levels", f"The target is {here}; in the house {there}.",
            f"Set for the house's{with_whom}, the loudest peak would lie {number(abs(apart))} dB "
            f"{'higher' if apart > 0.0 else 'lower'}: {number(abs(apart))} dB {more} distance from "
            f"the converter's noise, as much {less} room for who plays harder.",
        )
    ]  # fmt: skip


# --- takes ---


def _takes(session: Session, house: Practice) -> list[Departure]:
    found = []
    keepers = [one for one in session.takes if one.keeper]
    untagged = [one for one in keepers if not one.tags]
    if house.tags and untagged:
        found.append(
            Departure(
                "tags", "Takes",
                f"{counted(len(untagged), 'keeper')} without a tag; the house tags every one.",
                f"{counted(len(keepers), 'keeper')} among {counted(len(session.takes), 'take')}: "
                "by tags they are found, by names they are read one by one.",
            )
        )  # fmt: skip
    if house.low_cut:
        found += _low_cuts(session)
    return found


def _noise(session: Session) -> list[Departure]:
    """Days on which the first take was recorded without listening to the silence before."""
    recorded = [one for one in session.takes if one.rig_hash]
    last = session.noise_checks[-1] if session.noise_checks else None
    if not recorded:
        if last is not None:
            return []
        return [
            Departure(
                "noise-check", "Takes",
                "Nobody listened to the silence yet; the house does before the first take.",
                f"Noise check (S) takes {number(SECONDS, 0)} s. Without one, hum is found when "
                "somebody hears it in a take.",
            )
        ]  # fmt: skip
    first: dict[str, str] = {}
    for one in recorded:
        day = one.recorded_at[:10]
        first[day] = min(first.get(day, one.recorded_at), one.recorded_at)
    missed = [
        day for day, at in sorted(first.items())
        if not any(
            check.made_at[:10] == day and check.made_at <= at for check in session.noise_checks
        )
    ]  # fmt: skip
    if not missed:
        return []
    told = "nothing tells how far their noise lies below them but their own pauses"
    if last is not None:
        told = (
            f"the last one, of {last.made_at[:10]}, found {last.loudest.name} loudest, at "
            f"{number(last.loudest.floor_a_dbfs)} dBFS A; of those days nothing is known but "
            "their pauses"
        )
    days = missed[-1] if len(missed) == 1 else f"{len(missed)} days, last {missed[-1]}"
    return [
        Departure(
            "noise-check", "Takes",
            f"The first take of {days} was recorded without a noise check; the house makes one "
            "before it.",
            f"One takes {number(SECONDS, 0)} s (S). Without it {told}.",
        )
    ]  # fmt: skip


def _tones(session: Session, house: Practice, sums: Sums) -> list[Departure]:
    """Pairs of tones of one kept part that are not where the house has them."""
    found = []
    for take in session.takes:
        if not take.keeper:
            continue
        own = {one.file for one in take.tracks}
        own |= {file for made in take.passes for file in made.files}
        rows = [
            row for row in mix_rows(session, take)
            if row.key in own and not row.muted and row.tap not in ("di", "printed")
            and not row.beside and not row.side  # two sides are one tone, and lie apart
        ]  # fmt: skip
        for at, one in enumerate(rows):
            for other in rows[at + 1 :]:
                if one.passed is not None and other.passed is not None:
                    if one.passed[0].id == other.passed[0].id:
                        continue  # two microphones of one pass belong together
                apart = abs(one.heard.pan - other.heard.pan) >= MIDDLE
                if apart == (house.tones == "pan"):
                    continue
                found.append(_tone_pair(take, one, other, apart, sums))
    return found


def _tone_pair(take: Take, one: MixRow, other: MixRow, apart: bool, sums: Sums) -> Departure:
    here, there = ("apart", "in one place") if apart else ("in one place", "apart")
    sum_db = sums(take, one.key, other.key)
    if sum_db is None:
        price = "What they sum to is told by Compare (Ctrl+6)."
    else:
        way = "gain" if sum_db > 0.05 else "lose" if sum_db < -0.05 else "keep"
        if way == "keep":
            told = "keep the sum of their powers"
        else:
            told = f"{way} {number(abs(sum_db))} dB re the sum of their powers"
        price = (
            f"In one place the two {told} (one and the same sound would gain 3.0 dB). Panned hard "
            "left and right each keeps its power; who hears both sides in one gets the sum."
        )
    return Departure(
        "tones", "Takes",
        f"{one.name} and {other.name} of {take.name} are heard {here}; in the house {there}.",
        price,
    )  # fmt: skip


def _low_cuts(session: Session) -> list[Departure]:
    instruments = {one.id: one for one in session.instruments}
    found = []
    for take in session.takes:
        if not take.keeper:
            continue
        one = instruments.get(take.instrument_id)
        open_ = [
            track for track in take.tracks
            if track.tap != "di" and track.file not in session.low_cuts
        ]  # fmt: skip
        if one is None or not one.strings or not open_:
            continue
        costs = costs_of(one.strings, _corner(one.strings, session.a4_hz), session.a4_hz)
        lowest = min(costs, key=lambda cost: cost.hz)
        found.append(
            Departure(
                "low-cut", "Takes",
                f"{counted(len(open_), 'track')} of {take.name} without a low cut; in the house "
                "every track has one.",
                f"One below {lowest.note} ({number(lowest.hz, 0)} Hz) costs that string "
                f"{number(lowest.loss_db)} dB, every other one less.",
            )
        )  # fmt: skip
    return found


def _corner(strings: tuple[str, ...], a4_hz: float) -> float:
    from diaulos.session.instrument import note_to_midi
    from diaulos.signal.lowcut import proposed_corner_hz
    from diaulos.signal.pitch import midi_hz

    return proposed_corner_hz(min(midi_hz(note_to_midi(note), a4_hz) for note in strings))
