"""A pass matched in loudness to a track, another pass or a figure."""

from __future__ import annotations

import numpy as np

from diaulos.session.model import (
    MatchRecord,
    MatchTarget,
    Pass,
    Take,
)
from diaulos.signal.loudness import Layout, Loudness, common_layouts, solve_match
from diaulos.work.measuring import measure_blocks, measure_source
from diaulos.work.ports import (
    SessionStore,
)

# --- matching ------------------------------------------------------------------------


def reference_loudness(
    take: Take, target: MatchTarget, store: SessionStore, channels: int = 1
) -> tuple[Loudness, Layout, str] | None:
    """Loudness of what a pass is to match, the layout the pass is heard in, and its name."""
    if target.kind == "none":
        return None
    if target.kind == "lufs":
        layout: Layout = "mono" if channels == 1 else "stereo"
        return Loudness(target.lufs, "integrated", layout, 60.0), layout, f"{target.lufs:g} LUFS"
    if target.kind == "track":
        track = take.track(target.ident) if target.ident else take.tracks[0]
        own, other = common_layouts(channels, track.channels)
        levels = measure_source(store.open_audio(track.file), other)
        return levels.loudness, own, track.name
    earlier = take.pass_(target.ident)
    own, other = common_layouts(channels, 1)
    source = store.open_audio(earlier.file)
    lead = max(0, round(earlier.alignment.delay_samples)) if earlier.alignment else 0
    frames = take.track(earlier.track_id).frames
    levels = measure_blocks(source.blocks(first=lead, count=frames), source.rate_hz, 1, other)
    gain = earlier.match.total_db if earlier.match else 0.0
    heard = levels.loudness
    matched = Loudness(heard.lufs + gain, heard.method, heard.layout, heard.seconds)
    return matched, own, earlier.name


def match_to(
    reference: tuple[Loudness, Layout, str] | None,
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


def rematch(take: Take, one: Pass, target: MatchTarget, store: SessionStore) -> MatchRecord | None:
    """Another match of a pass that was made before."""
    source = store.open_audio(one.file)
    lead = max(0, round(one.alignment.delay_samples)) if one.alignment else 0
    frames = take.track(one.track_id).frames
    levels = measure_blocks(source.blocks(first=lead, count=frames), source.rate_hz, 1)
    reference = reference_loudness(take, target, store)
    return match_to(reference, target, levels.loudness, levels.true_peak_dbtp)
