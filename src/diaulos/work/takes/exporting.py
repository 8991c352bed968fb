"""Export of a pass as Broadcast Wave, in time with the take."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from diaulos.session.model import (
    Pass,
    Return,
    Session,
    Take,
)
from diaulos.work.blocks import write_all
from diaulos.work.listening.aligned import part_blocks
from diaulos.work.ports import (
    AudioSink,
    Clock,
    FileNotes,
    SessionStore,
)

CreateFile = Callable[[str, int, FileNotes], AudioSink]
"""Makes a file: what is added to its name, its channels, what is noted in it."""


def export_pass(
    session: Session,
    take: Take,
    made: Pass,
    store: SessionStore,
    create: CreateFile,
    clock: Clock,
    returns: Sequence[Return] = (),
) -> None:
    """Write a pass as Broadcast Wave: in the time and polarity of the take's reference (its dry
    DI unless another track is chosen), at its matched level. A stereo pair is one file; of what
    else there are several, each is one. `returns` are those that are written, all by default.
    """
    frames = take.track(made.track_id).frames
    for added, part in _files(made, returns or made.returns):
        first = part[0]
        gain = first.match.total_db if first.match else 0.0
        placed = made.placed(first)
        lag = placed.delay_samples if placed else 0.0
        reference = take.reference_track
        against = next((one.against for one in part if one.against is not None), None)
        by_the_di = against is None or against.alignment is None or reference is None
        with_ = "the DI" if by_the_di or reference is None else reference.name
        called = f"{made.name}, {added}" if added else made.name
        notes = FileNotes(
            description=f"{session.name}; {take.name}; {called}; aligned to {with_}",
            made_at=clock(),
            time_reference=take.time_reference,
            history=f"reamp; moved {-lag:.2f} samples; gain {gain:+.2f} dB",
        )
        sources = [store.open_audio(one.file) for one in part]
        sink = create(added, len(part), notes)
        write_all(sink, part_blocks(sources, made, part, frames))


def export_names(made: Pass, returns: Sequence[Return] = ()) -> tuple[str, ...]:
    """What `export_pass` adds to the name of each file, "" where there is one only."""
    return tuple(added for added, _ in _files(made, returns or made.returns))


def named_beside(path: Path, added: str) -> Path:
    """A file's path with more in its name."""
    more = "".join(one if one.isalnum() or one in " -_" else "-" for one in added)
    return path.with_name(f"{path.stem} - {more}{path.suffix}") if more else path


def _files(made: Pass, wanted: Sequence[Return]) -> list[tuple[str, tuple[Return, ...]]]:
    """What is written into one file each: what its name gets, and its returns by channel."""
    found: list[tuple[str, tuple[Return, ...]]] = []
    for part in made.parts:
        here = [one for one in part if one in wanted]
        if len(here) == 2 and all(one.side for one in here):
            pair = tuple(sorted(here, key=lambda one: one.side))
            found.append((part[0].group, pair))
        else:
            found += [(one.name, (one,)) for one in here]
    return [("", found[0][1])] if len(found) == 1 else found
