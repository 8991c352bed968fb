"""Use cases on files without a session: align, match, reamp."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.model import Rig
from diaulos.rig.returns import planned_returns
from diaulos.session.model import SIMULATED, AlignmentRecord, MatchRecord, MatchTarget, SlateRecord
from diaulos.signal.delay import find_alignment
from diaulos.signal.loudness import Layout, Match, common_layouts, solve_match
from diaulos.units import db_to_gain, ms_to_samples
from diaulos.work.blocks import one_channel, write_all
from diaulos.work.listening.aligned import aligned_blocks
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import measure_source
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    Clock,
    ExternalFiles,
    FileNotes,
    Progress,
    no_progress,
)
from diaulos.work.reamp.howl import require_quiet_return
from diaulos.work.reamp.matching import match_to
from diaulos.work.reamp.passes import play_and_measure
from diaulos.work.reamp.planning import ReampPlan, plan_reamp
from diaulos.work.reamp.returns import Returned, alignment_record
from diaulos.work.reamp.slate import LoopBackendFor, send_slates


@dataclass(frozen=True)
class AlignResult:
    """How B lies against A, and whether B had to be resampled for it."""

    record: AlignmentRecord
    rate_hz: int
    resampled_from_hz: int | None


@dataclass(frozen=True)
class Expected:
    """Where a delay is looked for: `most_ms` to either side of `at_ms`; None for anywhere."""

    at_ms: float | None = None
    most_ms: float | None = None

    def limits(self, rate_hz: float) -> tuple[float, float] | None:
        """The range of the delay in samples, or None."""
        if self.most_ms is None:
            return None
        centre, reach = self.at_ms or 0.0, self.most_ms
        return (
            ms_to_samples(centre - reach, rate_hz),
            ms_to_samples(centre + reach, rate_hz),
        )

    def samples(self, rate_hz: float) -> float | None:
        """The expected delay in samples, or None."""
        return None if self.at_ms is None else ms_to_samples(self.at_ms, rate_hz)


ANYWHERE = Expected()


def align_sources(
    a: AudioSource, b: AudioSource, resample: Any, expected: Expected = ANYWHERE
) -> AlignResult:
    """Align two mono sources; B is resampled to A's rate where they differ."""
    from diaulos.work.measuring import read_mono

    mono_a, mono_b = read_mono(a), read_mono(b)
    other = b.rate_hz if b.rate_hz != a.rate_hz else None
    if other is not None:
        mono_b = resample(mono_b, other, a.rate_hz)
    rate_hz = float(a.rate_hz)
    found = find_alignment(
        mono_a,
        mono_b,
        rate_hz,
        within=expected.limits(rate_hz),
        expected=expected.samples(rate_hz),
    )
    record = alignment_record(found)
    assert record is not None
    return AlignResult(record, a.rate_hz, other)


def write_aligned(
    sink: AudioSink, b: AudioSource, frames: int, record: AlignmentRecord, fix_polarity: bool
) -> None:
    """B in A's time into a file: delay and drift out, polarity only when asked."""
    write_all(sink, aligned_blocks(b, frames, record, fix_polarity=fix_polarity))


@dataclass(frozen=True)
class MatchResult:
    """A solved match and the layout it was measured in."""

    match: Match
    layout: Layout


def match_sources(reference: AudioSource, track: AudioSource) -> MatchResult:
    """The gain that makes a file as loud as a reference, both as monitored."""
    layout_reference, layout_track = common_layouts(reference.channels, track.channels)
    heard = measure_source(reference, layout_reference)
    levels = measure_source(track, layout_track)
    match = solve_match(heard.loudness, levels.loudness, levels.true_peak_dbtp)
    return MatchResult(match, layout_track)


def write_matched(sink: AudioSink, track: AudioSource, match: Match) -> None:
    """The track at its matched level into a file."""
    gain = np.float32(db_to_gain(match.total_db))
    write_all(sink, (block * gain for block in track.blocks()))


@dataclass(frozen=True)
class FileReampRequest:
    """A reamp of one file into another."""

    di: Path
    out: Path
    channel: int | None
    full_scale_dbu: float | None
    rig: Rig
    reference: Path | None = None
    match_lufs: float | None = None
    target_peak_dbfs: float = -12.0
    replace: bool = False
    slate: bool = True
    """Whether a quiet sweep goes ahead."""
    go_on: bool = False
    device: str = SIMULATED
    """What it goes through: the simulated studio, or a real device's name."""


@dataclass(frozen=True)
class FileReampResult:
    """What a reamp of a file gave."""

    plan: ReampPlan
    returned: Returned
    match: MatchRecord | None
    frames: int
    rate_hz: int
    slate: SlateRecord | None = None


def reamp_file(
    request: FileReampRequest,
    *,
    files: ExternalFiles,
    scratch: Path,
    backend_for: LoopBackendFor,
    clock: Clock,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> FileReampResult:
    """Reamp a file without a session; the result is aligned to the DI's start.

    `scratch` is a folder for the raw return, which is deleted at the end.
    """
    cancel = cancel or CancelToken()
    di = files.open(request.di)
    channel = one_channel(di, request.channel, str(request.di))
    target = MatchTarget(kind="none")
    reference = None
    if request.reference is not None:
        other = files.open(request.reference)
        own, layout = common_layouts(1, other.channels)
        reference = (measure_source(other, layout).loudness, own, request.reference.name)
        target = MatchTarget(kind="track", ident="reference")
    elif request.match_lufs is not None:
        from diaulos.signal.loudness import Loudness

        target = MatchTarget(kind="lufs", lufs=request.match_lufs)
        figure = Loudness(request.match_lufs, "integrated", "mono", 60.0)
        reference = (figure, "mono", f"{request.match_lufs:g} LUFS")
    loud = read_loudest(di, channel)
    plan = plan_reamp(
        request.rig,
        loud,
        di.rate_hz,
        request.full_scale_dbu,
        request.target_peak_dbfs,
        wanted=[planned_returns(request.rig)[0].name],
        impulses=impulses,
        cancel=cancel,
    )
    now = clock()
    notes = FileNotes(f"Reamp of {request.di.name}", now, history=f"reamp of {request.di.name}")
    raw = scratch / "return.wav"
    sink = files.create(raw, di.rate_hz, 1, "float", notes, True)
    slate = None
    try:
        if request.device != SIMULATED:
            require_quiet_return(backend_for(plan.courses), di.rate_hz, cancel)
        if request.slate:
            sent = loud.peak_dbfs + plan.send.gain_db
            (slate,) = send_slates(
                [plan.returns[0].back], sent, di.rate_hz, backend_for, impulses, progress, cancel,
                go_on=request.go_on,
            )  # fmt: skip
        (returned,) = play_and_measure(
            plan, di, channel, backend_for, [sink], lambda _: files.open(raw), progress, cancel,
            [slate.delay_samples if slate is not None else None],
        )  # fmt: skip
    except BaseException:
        sink.abandon()
        raise
    if returned.alignment is None:
        raise RefusedError(
            "not_the_same_performance",
            f"The return cannot be brought back in time. {returned.refused}",
            where=str(request.di),
            remedy="Is there sound in the file, and an amplifier in the loop?",
        )
    match = match_to(reference, target, returned.levels.loudness, returned.levels.true_peak_dbtp)
    record = alignment_record(returned.alignment)
    out = files.create(request.out, di.rate_hz, 1, "24", notes, request.replace)
    gain = match.total_db if match else 0.0
    write_all(out, aligned_blocks(files.open(raw), di.frames, record, gain_db=gain))
    raw.unlink(missing_ok=True)
    progress(1.0, "Finishing")
    return FileReampResult(plan, returned, match, di.frames, di.rate_hz, slate)
