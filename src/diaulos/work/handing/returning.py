"""Back again: a folder of stems becomes takes, in time by their time references."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from diaulos.errors import InputError
from diaulos.figures import TAP_WORDS
from diaulos.records import dataclass
from diaulos.rig.model import Tap
from diaulos.session.instrument import one_line
from diaulos.work.ports import ExternalFiles
from diaulos.work.takes.take_import import MOST_TRACKS, WantedTrack, wanted_tracks

ENDINGS = (".wav", ".flac")
MOST_FILES = 1_000
TAPS: dict[str, Tap] = {words: tap for tap, words in TAP_WORDS.items()}  # type: ignore[misc]
CALIBRATED = re.compile(r"0 dBFS = ([+-]?\d+(?:\.\d+)?) dBu")


@dataclass(frozen=True)
class ReturnedTake:
    """A take to be, by the name that its stems give it."""

    name: str
    tracks: tuple[WantedTrack, ...]


def returned_takes(folder: Path, files: ExternalFiles) -> tuple[ReturnedTake, ...]:
    """The takes of a folder: stems of ours by the take that they name, all other files as one take
    that is called like the folder. InputError for a folder without sound."""
    paths = sorted(
        path for path in folder.iterdir()
        if path.suffix.casefold() in ENDINGS and path.is_file() and not path.name.startswith(".")
    )  # fmt: skip
    if not paths or len(paths) > MOST_FILES:
        raise InputError(
            f"the folder holds {len(paths)} sound files; 1 to {MOST_FILES} can be brought in.",
            where=str(folder),
        )
    groups: dict[str, list[WantedTrack]] = {}
    for path in paths:
        take, tracks = _told(path, files, one_line(folder.name, 120) or "Import")
        groups.setdefault(take, []).extend(tracks)
    for name, found in groups.items():
        if len(found) > MOST_TRACKS:
            raise InputError(f"{name} would have {len(found)} tracks.", where=str(folder),
                             remedy=f"A take has up to {MOST_TRACKS}.")  # fmt: skip
    return tuple(ReturnedTake(name, _apart(found)) for name, found in groups.items())


def _told(
    path: Path, files: ExternalFiles, otherwise: str
) -> tuple[str, Sequence[WantedTrack]]:  # fmt: skip
    """The take that a file names, and its tracks as it calls them."""
    source = files.open(path)
    usual = wanted_tracks(path, source.channels)
    parts = [part.strip() for part in source.description.split(";")]
    if "stem" not in source.history or len(parts) < 4 or not parts[1] or not parts[2]:
        return otherwise, usual
    tap = TAPS.get(parts[3])
    found = CALIBRATED.search(source.description)
    full = float(found[1]) if found is not None and tap == "di" else None
    sides = ("",) if len(usual) == 1 else (", left", ", right")
    named = []
    for at, track in enumerate(usual):
        side = sides[at] if at < len(sides) else f", channel {at + 1}"
        named.append(
            replace(track, name=one_line(f"{parts[2]}{side}", 180), tap=tap or track.tap,
                    full_scale_dbu=full)
        )  # fmt: skip
    return one_line(parts[1], 180), named


def _apart(tracks: Sequence[WantedTrack]) -> tuple[WantedTrack, ...]:
    """No two of one name."""
    seen: dict[str, int] = {}
    told = []
    for track in tracks:
        count = seen[track.name] = seen.get(track.name, 0) + 1
        told.append(track if count == 1 else replace(track, name=f"{track.name} ({count})"))
    return tuple(told)
