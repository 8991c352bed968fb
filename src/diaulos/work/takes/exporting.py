"""Export of a pass as Broadcast Wave, in time with the take."""

from __future__ import annotations

from collections.abc import Callable

from diaulos.session.model import (
    Pass,
    Session,
    Take,
)
from diaulos.work.blocks import write_all
from diaulos.work.listening.aligned import pass_blocks
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    Clock,
    FileNotes,
)


def export_pass(
    session: Session,
    take: Take,
    one: Pass,
    source: AudioSource,
    create: Callable[[FileNotes], AudioSink],
    clock: Clock,
) -> None:
    """Write a pass as Broadcast Wave: in the time and polarity of the take's reference (its dry
    DI unless another track is chosen), at its matched level."""
    frames = take.track(one.track_id).frames
    gain = one.match.total_db if one.match else 0.0
    placed = one.placed
    lag = placed.delay_samples if placed else 0.0
    reference = take.reference_track
    by_the_di = one.against is None or one.against.alignment is None or reference is None
    with_ = "the DI" if by_the_di or reference is None else reference.name
    notes = FileNotes(
        description=f"{session.name}; {take.name}; {one.name}; aligned to {with_}",
        made_at=clock(),
        time_reference=take.time_reference,
        history=f"reamp; moved {-lag:.2f} samples; gain {gain:+.2f} dB",
    )
    write_all(create(notes), pass_blocks(source, one, frames))
