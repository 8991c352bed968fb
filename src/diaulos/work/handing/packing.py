"""What of a session is handed over: all of it, or without dry DIs, the bin, other takes."""

from __future__ import annotations

from collections.abc import Callable

from diaulos.records import dataclass
from diaulos.session.model import Session, Take


@dataclass(frozen=True)
class PackChoice:
    """What goes along. `takes` names or ids of takes (empty: all); dry DIs may stay at home: their
    tracks are still there and say so; so may what lies in the bin."""

    takes: tuple[str, ...] = ()
    dis: bool = True
    bin: bool = True


@dataclass(frozen=True)
class Packing:
    """The session as it is handed over; its files that go along, those that are left out on
    purpose, and those that are not there."""

    session: Session
    files: tuple[str, ...]
    left_out: tuple[str, ...]
    missing: tuple[str, ...]


def plan_packing(session: Session, choice: PackChoice, there: Callable[[str], bool]) -> Packing:
    """What would be packed; `there` says whether a file lies in the folder."""
    handed = session
    if choice.takes:
        kept = tuple(dict.fromkeys(session.take(name).id for name in choice.takes))
        handed = handed.model_copy(
            update={
                "takes": tuple(take for take in handed.takes if take.id in kept),
                "take_bin": tuple(take for take in handed.take_bin if take.id in kept),
                "bin": tuple(item for item in handed.bin if item.take_id in kept),
                "queue": tuple(one for one in handed.queue if one.take_id in kept),
            }
        )
    if not choice.bin:
        handed = handed.model_copy(update={"take_bin": (), "bin": ()})
    used = handed.used_files()
    for part in ("mix", "cabinets", "moves", "low_cuts", "gates", "mic_places"):
        known = {file: one for file, one in getattr(handed, part).items() if file in used}
        if len(known) != len(getattr(handed, part)):
            handed = handed.model_copy(update={part: known})
    out = set() if choice.dis else _dry(handed.takes) | _dry(handed.take_bin)
    wanted = sorted(used - out)
    missing = [file for file in wanted if not there(file)]
    files = tuple(file for file in wanted if file not in set(missing))
    return Packing(handed, files, tuple(sorted(out)), tuple(missing))


def _dry(takes: tuple[Take, ...]) -> set[str]:
    return {track.file for take in takes for track in take.tracks if track.tap == "di"}
