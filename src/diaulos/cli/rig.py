"""Shell commands around the rig: check, courses, render."""

from __future__ import annotations

import re
from dataclasses import replace as replace_fields
from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from diaulos.cli.output import print_json, print_lines, told_progress
from diaulos.errors import InputError

JsonFlag = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
SessionArgument = Annotated[Path, typer.Argument(metavar="SESSION")]
RigOption = Annotated[str, typer.Option("--rig", help="Name or id of the rig.")]

EXIT_BY_SEVERITY = {"note": 0, "caution": 10, "fault": 11, "danger": 12}


def state_of(word: str) -> Literal["record", "reamp"]:
    """A state by its word; InputError for another word."""
    if word == "record":
        return "record"
    if word == "reamp":
        return "reamp"
    raise InputError(
        f"{word!r} is no state of a rig.", where="--state", remedy="Give record or reamp."
    )


def check(session_path: SessionArgument, rig: RigOption = "", as_json: JsonFlag = False) -> None:
    """What is wrong with a rig. Exit code 0 up to a note, 10 caution, 11 fault, 12 danger."""
    from diaulos import wiring
    from diaulos.rig.checks import worst
    from diaulos.rig.safety import notices
    from diaulos.rig.states import switched
    from diaulos.work.rigs.look import (
        findings_data,
        look_at,
        monitoring_data,
        planned_data,
        switches_data,
    )
    from diaulos.work.rigs.stored import stored_of

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    session = folder.load()
    report = look_at(session, rig, stored_of(session, folder), both=True)
    shown = [
        {"id": n.id, "title": n.title, "text": n.text, "read": n.id in report.rig.acknowledged}
        for n in notices(report.rig)
    ]
    bad = worst(report.findings)
    if as_json:
        print_json(
            {
                "session": session.name,
                "rig": report.rig.name,
                "worst": bad.word if bad else None,
                "findings": findings_data(report.findings),
                "switches": switches_data(report.rig),
                "tracks": planned_data(report),
                "monitoring": monitoring_data(report),
                "notices": shown,
            }
        )
    else:
        print(f"{session.name}, {report.rig.name}: {len(report.findings)} findings")
        for one in report.findings:
            print(f"\n{one.severity.word.upper()}  {one.where}  [{one.id}]")
            for line in (one.cause, one.consequence, f"Remedy: {one.remedy}"):
                print(f"    {line}")
        for switch in switched(report.rig):
            print(f"\nState Reamp: {switch.words('reamp')} (Record: {switch.record})")
        for notice in shown:
            print(f"\nSafety, {notice['title']}: {notice['text']}")
    raise typer.Exit(EXIT_BY_SEVERITY[bad.word] if bad else 0)


def courses(session_path: SessionArgument, rig: RigOption = "", as_json: JsonFlag = False) -> None:
    """Every recorded track from its source, station by station."""
    from diaulos import wiring
    from diaulos.work.rigs.look import courses_data, look_at
    from diaulos.work.rigs.stored import stored_of

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    session = folder.load()
    report = look_at(session, rig, stored_of(session, folder))
    rows = courses_data(report, float(session.sample_rate_hz))
    if as_json:
        print_json(
            {
                "session": session.name,
                "rig": report.rig.name,
                "inputs_used": report.inputs_used,
                "inputs_left": len(report.inputs_free),
                "inputs_free": [report.graph.plug(ref).words for ref in report.inputs_free],
                "courses": rows,
            }
        )
        return
    print(f"{report.rig.name}: {report.inputs_used} inputs, {len(report.inputs_free)} left")
    for row in rows:
        print(f"\n{row['name']} ({row['tap'] or 'no course'})")
        if row["reason"]:
            print(f"    {row['reason']}")
            continue
        print_lines(
            [
                ("    peak", f"{row['planned_peak_dbfs']:.1f} dBFS planned"),
                ("    late", f"{row['delay_ms']:.2f} ms, {row['conversions']} conversions"),
            ]
        )
        for at in row["stations"]:
            over = f"  CLIPS by {at['clips_by_db']:.1f} dB" if at["clips_by_db"] else ""
            print(f"    {at['peak']:7.1f} {at['unit']:<4}  {at['device']}: {at['port']}{over}")


def render(
    session_path: SessionArgument,
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Folder for the tracks.")],
    di: Annotated[
        Path | None, typer.Option("--di", metavar="FILE", help="The stored DI to play.")
    ] = None,
    player: Annotated[
        bool, typer.Option("--player", help="A simulated player strums in place of a DI.")
    ] = False,
    rig: RigOption = "",
    source: Annotated[
        str, typer.Option("--from", help="Device that the DI stands for; the instrument without.")
    ] = "",
    full_scale_dbu: Annotated[
        float | None,
        typer.Option("--full-scale-dbu", help="dBu that reached 0 dBFS; +12 is assumed without."),
    ] = None,
    load_ohm: Annotated[
        float, typer.Option("--load-ohm", min=1.0, help="What the DI was recorded into.")
    ] = 1e6,
    seed: Annotated[int, typer.Option("--seed", min=0, help="Seed of the noise.")] = 1,
    mains_hz: Annotated[float, typer.Option("--mains-hz", min=40.0, max=70.0)] = 50.0,
    channel: Annotated[int | None, typer.Option("--channel", min=1)] = None,
    state: Annotated[
        str, typer.Option("--state", metavar="record|reamp", help="How the rig's switches stand.")
    ] = "record",
    returns: Annotated[
        list[str] | None,
        typer.Option("--returns", metavar="all|NAME", help="Which tracks are written; again."),
    ] = None,
    impulse: Annotated[
        Path | None,
        typer.Option(
            "--impulse", metavar="FILE", help="A cabinet behind tracks that have none: a file."
        ),
    ] = None,
    stretch: Annotated[
        str,
        typer.Option("--range", metavar="A-B", help="Bars such as 2-3, or seconds: 1.5s-4s."),
    ] = "",
    replace: Annotated[bool, typer.Option("--replace", help="Write over what is there.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """Play a stored DI through a rig: one file for what each recorder input receives."""
    from diaulos import wiring
    from diaulos.work.listening.cabinets import CabinetSink
    from diaulos.work.ports import FileNotes
    from diaulos.work.rigs.look import look_at
    from diaulos.work.rigs.rendering import player_request
    from diaulos.work.rigs.rendering import render as play
    from diaulos.work.rigs.stored import stored_of
    from diaulos.work.takes.impulses import load_impulses

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    session = folder.load()
    files = wiring.ExternalAudio()
    if (di is None) != player:
        raise InputError("give --di FILE or --player, one of them.", where="render")
    session = _in_state(session, session.rig(rig).id, state_of(state))
    report = look_at(session, rig)
    if di is None:
        if stretch:
            raise InputError("a range is of a stored DI.", where="--range", remedy="Give --di.")
        stored = stored_of(session, folder)
        request = player_request(session, report.rig, seed, mains_hz, source, stored=stored)
    else:
        request = _request(folder, session, rig, files, di, channel, full_scale_dbu, load_ohm)
        request = replace_fields(request, source=source, seed=seed, mains_hz=mains_hz)
        if stretch:
            request = replace_fields(request, di=_part(session, request.di, stretch))
    wanted = tuple(one for one in returns or () if one != "all")
    request = replace_fields(request, wanted=wanted)
    behind = _behind(impulse, report, files, session.sample_rate_hz)
    order = {t.port: n for n, t in enumerate(report.rig.tracks, start=1)}
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(
            f"the folder cannot be made ({error.strerror}).", where=str(out),
            remedy="Choose another place.",
        ) from error  # fmt: skip
    written: dict[str, Path] = {}
    through: dict[str, CabinetSink] = {}

    def sink_for(track: Any, name: str) -> Any:
        number = order.get(track, len(order) + 1 + len(written))
        path = out / f"{number:02}-{_file_name(name)}.wav"
        written[str(track)] = path
        notes = FileNotes(
            f"{name}: {di.name if di else 'simulated player'} through {report.rig.name}",
            wiring.local_now(),
            history=f"bench; rig {report.rig.name}; seed {seed}",
        )
        columns = behind(track)
        channels = max(1, len(columns))
        sink = files.create(
            path, session.sample_rate_hz, channels, session.word_length, notes, replace
        )
        if not columns:
            return sink
        through[str(track)] = CabinetSink(sink, columns)
        return through[str(track)]

    with told_progress("Render", as_json) as progress:
        result = play(
            request, sink_for, wiring.BenchAudio(), load_impulses(session, folder), progress
        )
    rate = float(session.sample_rate_hz)
    data: dict[str, Any] = {
        "rig": report.rig.name,
        "from": result.source,
        "calibration_assumed": result.assumed,
        "send_gain_db": result.send_gain_db,
        "frames": result.frames,
        "rate_hz": session.sample_rate_hz,
        "tracks": [
            {
                "track": str(one.track),
                "name": one.name,
                "tap": one.course.tap,
                "file": str(written[str(one.track)]),
                "peak_dbfs": (through.get(str(one.track)) or one).peak_dbfs,
                "clipped_samples": (through.get(str(one.track)) or one).clipped_samples,
                "cabinet": impulse.name if impulse and str(one.track) in through else None,
                "delay_ms": one.course.delay_ms(rate),
            }
            for one in sorted(result.tracks, key=lambda t: order.get(t.track, 999))
        ],
        "remark": TWO_IN_A_ROW if impulse is not None and not _has_bare(report) else None,
        "left_out": [
            {"track": str(track), "reason": reason} for track, reason in result.left_out.items()
        ],
    }
    if as_json:
        print_json(data)
        return
    for row in data["tracks"]:
        clipped = f", {row['clipped_samples']} samples clipped" if row["clipped_samples"] else ""
        print(f"{row['name']}: peak {row['peak_dbfs']:.1f} dBFS{clipped}, {row['file']}")
    for row in data["left_out"]:
        print(f"{row['track']} left out: {row['reason']}")
    if result.assumed:
        print("calibration assumed: +12 dBu at 0 dBFS")
    if data["remark"]:
        print(data["remark"])


def _in_state(session: Any, rig_id: str, state: Literal["record", "reamp"]) -> Any:
    """The session with a rig's switches as they stand in a state."""
    from diaulos.rig.states import in_state

    rigs = tuple(in_state(one, state) if one.id == rig_id else one for one in session.rigs)
    return session.model_copy(update={"rigs": rigs})


def _part(session: Any, di: Any, words: str) -> Any:
    """A range of a DI: bars of the session, or seconds."""
    from diaulos.session.model import SentPart, Take, Track
    from diaulos.work.reamp.parts import PartSource, stretch_of

    track = Track(id="di", name="DI", tap="di", file="audio/di.wav", frames=di.frames, peak_dbfs=0)
    take = Take(id="di", name="the DI", recorded_at="", tracks=(track,))
    first, last = stretch_of(session, take, words)
    return PartSource(di, SentPart(first=first, last=last, start=first))


def _behind(impulse: Path | None, report: Any, files: Any, rate_hz: int) -> Any:
    """The cabinet's columns for tracks of an amplifier that have none yet; nothing for others."""
    from diaulos import wiring
    from diaulos.work.takes.impulses import read_impulse

    if impulse is None:
        return lambda _track: []
    taps = read_impulse(impulse, files, wiring.resampled, rate_hz).taps
    columns = [taps[:, number] for number in range(taps.shape[1])]
    behind = _behind_amps(report)
    return lambda track: columns if track in behind else []


TWO_IN_A_ROW = (
    "Two cabinets in a row: no track of this rig is an amplifier without one. It sounds dull and "
    "boxed."
)


def _has_bare(report: Any) -> bool:
    """Whether some track is an amplifier without cabinet."""
    return any(one.tap == "amp" for one in report.tracks)


def _behind_amps(report: Any) -> set[Any]:
    """Tracks of an amplifier without cabinet; where there is none, all that are not dry."""
    if _has_bare(report):
        return {one.track for one in report.tracks if one.tap == "amp"}
    return {one.track for one in report.tracks if one.tap not in ("di", "printed")}


def _request(
    folder: Any,
    session: Any,
    rig: str,
    files: Any,
    di: Path,
    channel: int | None,
    full_scale_dbu: float | None,
    load_ohm: float,
) -> Any:
    """What to play of a file; a DI of the session knows how it was recorded."""
    from diaulos.work.blocks import one_channel
    from diaulos.work.rigs.rendering import RenderRequest, cable_pf

    audio = files.open(di)
    index = one_channel(audio, channel, str(di))
    request = RenderRequest(session, rig, audio, index, "", full_scale_dbu, load_ohm)
    for take in session.takes:
        for track in take.tracks:
            if (folder.path / track.file).resolve() == di.resolve() and full_scale_dbu is None:
                return replace_fields(
                    request,
                    full_scale_dbu=track.full_scale_dbu,
                    load_ohm=track.load_ohm or load_ohm,
                    load_pf=track.load_pf + cable_pf(session, take.instrument_id),
                )
    return request


def _file_name(name: str) -> str:
    return re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-").lower() or "track"
