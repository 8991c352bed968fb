"""A pass matched in loudness to a track, another pass or a figure."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.session.model import (
    MatchRecord,
    MatchTarget,
    Pass,
    Return,
    SentPart,
    Take,
    part_name,
)
from diaulos.signal.loudness import Layout, Loudness, common_layouts, solve_match
from diaulos.work.measuring import Levels, measure_blocks
from diaulos.work.ports import SessionStore

# --- matching ------------------------------------------------------------------------


Reference = tuple[Loudness, Layout, str]
References = Mapping[int, Reference | None]
"""By the channels of what is to be as loud."""


def references_of(
    take: Take, target: MatchTarget, store: SessionStore, channels: Collection[int],
    part: SentPart | None = None,
) -> References:  # fmt: skip
    """What returns of so many channels are to be as loud as; of a part in its frames."""
    return {one: reference_loudness(take, target, store, one, part) for one in set(channels)}


def reference_loudness(
    take: Take, target: MatchTarget, store: SessionStore, channels: int = 1,
    part: SentPart | None = None,
) -> Reference | None:  # fmt: skip
    """Loudness of what a pass is to match, the layout the pass is heard in, and its name. A part is
    held against the same frames."""
    if target.kind == "none":
        return None
    if target.kind == "lufs":
        layout: Layout = "mono" if channels == 1 else "stereo"
        return Loudness(target.lufs, "integrated", layout, 60.0), layout, f"{target.lufs:g} LUFS"
    if target.kind == "track":
        tracks = take.part(target.ident) if target.ident else take.parts[0]
        sources = [store.open_audio(one.file) for one in tracks]
        wide = sum(one.channels for one in sources)
        own, other = common_layouts(channels, wide)
        first, count = _frames(part, max(one.frames for one in sources))
        blocks = _together([one.blocks(first=first, count=count) for one in sources])
        levels = measure_blocks(blocks, sources[0].rate_hz, wide, other, sources[0].bits)
        return levels.loudness, own, part_name(tracks)
    earlier = take.pass_(target.ident)
    group = earlier.parts[0]
    own, other = common_layouts(channels, channels_of(group))
    heard = part_levels(take, earlier, group, store, other, part).loudness
    gain = earlier.main.match.total_db if earlier.main.match else 0.0
    matched = Loudness(heard.lufs + gain, heard.method, heard.layout, heard.seconds)
    return matched, own, earlier.name


# --- what belongs together ---


def channels_of(part: Sequence[Return]) -> int:
    """As which it is heard: a stereo pair as two channels, all else as one."""
    return 2 if any(one.side for one in part) else 1


def part_levels(
    take: Take,
    made: Pass,
    part: Sequence[Return],
    store: SessionStore,
    layout: Layout | None = None,
    within: SentPart | None = None,
) -> Levels:
    """Levels of what belongs together, as it is heard: a stereo pair as such, microphones as their
    sum, all with one move in time. `within` are frames of the take; by default what was sent."""
    found = made.placed(part[0])
    first, frames = _frames(within or made.part, take.track(made.track_id).frames)
    lead = max(0, first + (round(found.delay_samples) if found else 0))
    sources = [store.open_audio(one.file) for one in part]
    if channels_of(part) == 2:
        sides = sorted(
            zip((one.side for one in part), sources, strict=True), key=lambda one: one[0]
        )
        sources = [source for _, source in sides]
    blocks = _together([one.blocks(first=lead, count=frames) for one in sources])
    if channels_of(part) == 1:
        blocks = (block.sum(axis=1, keepdims=True) for block in blocks)
    return measure_blocks(blocks, sources[0].rate_hz, channels_of(part), layout)


def _frames(part: SentPart | None, frames: int) -> tuple[int, int]:
    """First frame and number of frames of what is measured."""
    if part is None or part.joined:
        return 0, frames
    return part.first, part.last - part.first


def _together(
    columns: Sequence[Iterator[NDArray[np.floating]]],
) -> Iterator[NDArray[np.floating]]:
    """Mono streams of one length as columns."""
    for blocks in zip(*columns, strict=True):
        yield np.concatenate(blocks, axis=1)


def match_pass(
    take: Take,
    made: Pass,
    target: MatchTarget,
    store: SessionStore,
    known: Mapping[str, Levels] | None = None,
    references: References | None = None,
) -> dict[str, MatchRecord | None]:
    """A match for every return, by its file: one for what belongs together, so that the balance
    stays. `known` are the levels of single returns, by file. What is silent has none."""
    found: dict[str, MatchRecord | None] = {}
    for part in made.parts:
        channels = channels_of(part)
        reference = (
            references[channels]
            if references is not None
            else reference_loudness(take, target, store, channels, made.part)
        )
        levels = (known or {}).get(part[0].file) if len(part) == 1 else None
        record = None
        if reference is not None:
            levels = levels or part_levels(take, made, part, store)
            try:
                record = match_to(reference, target, levels.loudness, levels.true_peak_dbtp)
            except RefusedError:
                record = None  # silence cannot be matched; the pass says so by its level
        found |= {one.file: record for one in part}
    return found


def match_to(
    reference: Reference | None,
    target: MatchTarget,
    loudness: Loudness,
    true_peak_dbtp: float,
) -> MatchRecord | None:
    """The record of a match; RefusedError when one of the two is silent."""
    if reference is None:
        return None
    heard, layout, label = reference
    if layout == "dual_mono" and loudness.layout == "mono":
        two = 10.0 * float(np.log10(2.0))
        loudness = Loudness(loudness.lufs + two, loudness.method, layout, loudness.seconds)
    solved = solve_match(heard, loudness, true_peak_dbtp)
    return MatchRecord(
        target=target,
        label=label,
        reference_lufs=solved.reference_lufs,
        before_lufs=solved.before_lufs,
        gain_db=solved.gain_db,
        pair_offset_db=solved.pair_offset_db,
        after_lufs=solved.after_lufs,
        true_peak_dbtp=solved.true_peak_dbtp,
        method=solved.method,
        layout=layout,
    )
