"""Shell commands that send a stored take, a queue of them, or a file out and bring it back."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.devices import (
    BlockOption,
    DeviceOption,
    InOption,
    OutOption,
    ProgramOption,
    with_programs,
)
from diaulos.cli.output import print_json, print_lines, told_progress
from diaulos.errors import CancelledError, DiaulosError, InputError, StorageError
from diaulos.ids import BENCH
from diaulos.units import samples_to_ms

JsonFlag = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
ReplaceFlag = Annotated[bool, typer.Option("--replace", help="Replace an existing file.")]
ChannelOption = Annotated[
    int | None, typer.Option("--channel", min=1, help="Channel to use, counted from 1.")
]
SlateFlag = Annotated[
    bool,
    typer.Option("--slate/--no-slate", help="A quiet sweep ahead tells the loop's own delay."),
]
GoOnFlag = Annotated[
    bool,
    typer.Option("--go-on", help="Send although the sweep is far from plan, or not heard."),
]
ImpulseOption = Annotated[
    str,
    typer.Option(
        "--impulse", metavar="FILE|NAME",
        help="A cabinet put behind what comes back: a file, or a stand-in's name.",
    ),
]  # fmt: skip
RangeOption = Annotated[
    str,
    typer.Option("--range", metavar="A-B", help="Bars such as 2-3, or seconds such as 1.5s-4s."),
]


def _slate_data(slate: Any) -> dict[str, Any]:
    return {
        "loop_delay_samples": slate.delay_samples if slate else None,
        "loop_polarity": slate.polarity if slate else None,
        "slate_reason": slate.reason or None if slate else None,
    }


def _pass_data(made: Any, rate_hz: int, session: Any = None) -> dict[str, Any]:
    """A pass: the figures of its first return, and those of each in `returns`."""
    gain = next((part[0].match for part in made.parts if len(part) > 1), None)
    return {
        "pass": made.id,
        "name": made.name,
        "part": _part_data(made.part, rate_hz),
        "track": made.track_id,
        **_return_data(made, made.main, rate_hz),
        "group_gain_db": gain.total_db if gain else None,
        "settings_said": made.settings_said or None,
        "cabinet": _cabinet_data(session, made.main.file),
        "returns": [_return_data(made, one, rate_hz) for one in made.returns],
    }


def _cabinet_data(session: Any, file: str) -> dict[str, Any] | None:
    """The cabinet that a stored file is heard through; null for none."""
    from diaulos.work.listening.cabinets import cabinet_before, cabinet_title

    later = session.cabinets.get(file) if session is not None else None
    choice = later.choice if later is not None else None
    if choice is None:
        return None
    return {
        "cabinet": choice.cabinet,
        "name": cabinet_title(session, choice.cabinet),
        "gain_db": choice.gain_db,
        "true_peak_dbtp": choice.true_peak_dbtp,
        "before": next(
            (words for one in session.takes if (words := cabinet_before(session, one, file))), None
        ),
    }


def _part_data(part: Any, rate_hz: int) -> dict[str, Any] | None:
    if part is None:
        return None
    return {
        "first": part.first,
        "last": part.last,
        "first_s": part.first / rate_hz,
        "last_s": part.last / rate_hz,
        "joined": part.joined or None,
    }


def _return_data(made: Any, one: Any, rate_hz: int) -> dict[str, Any]:
    alignment, matched, placed = one.alignment, one.match, made.placed(one)
    return {
        "return": one.name,
        "tap": one.tap,
        "group": one.group or None,
        "side": one.side or None,
        "file": one.file,
        "delay_samples": alignment.delay_samples if alignment else None,
        "delay_ms": samples_to_ms(alignment.delay_samples, rate_hz) if alignment else None,
        "delay_error_samples": alignment.delay_error_samples if alignment else None,
        "polarity": alignment.polarity if alignment else None,
        "confidence": alignment.confidence if alignment else None,
        "drift_ppm": alignment.drift_ppm if alignment else None,
        "reference": one.against.track_id if one.against else made.track_id,
        "reference_delay_samples": placed.delay_samples if placed else None,
        "reference_polarity": placed.polarity if placed else None,
        "reference_reason": one.against.refused or None if one.against else None,
        **_slate_data(one.slate),
        "reason": one.alignment_refused or None,
        "send_gain_db": made.send_gain_db,
        "send_limited_db": made.send_limited_db,
        "calibration_assumed": made.assumed_calibration,
        "amp_peak_dbu": made.amp_peak_dbu,
        "return_gain_db": one.return_gain_db,
        "peak_dbfs": one.peak_dbfs,
        "headroom_db": one.headroom_db,
        "true_peak_dbtp": one.true_peak_dbtp,
        "clipped_samples": one.clipped_samples,
        "before_lufs": matched.before_lufs if matched else one.loudness_lufs,
        "after_lufs": matched.after_lufs if matched else None,
        "gain_db": matched.gain_db if matched else None,
        "pair_offset_db": matched.pair_offset_db if matched else None,
        "reference_lufs": matched.reference_lufs if matched else None,
        "method": matched.method if matched else None,
        "layout": matched.layout if matched else None,
        "null_db": one.null_db,
        "recorded_track": one.recorded.name if one.recorded else None,
        "recorded_null_db": one.recorded.null_db if one.recorded else None,
        "recorded_gain_db": one.recorded.gain_db if one.recorded else None,
        "xruns": made.xruns,
    }


def _print_pass(data: dict[str, Any]) -> None:
    def figure(key: str, form: str, unit: str) -> str:
        return "not measured" if data[key] is None else f"{data[key]:{form}} {unit}"

    polarity = {1: "same", -1: "inverted, corrected when heard and exported", None: "unknown"}
    lines = [
        (
            "delay",
            f"{figure('delay_samples', '.2f', 'samples')}, {figure('delay_ms', '.3f', 'ms')}",
        ),
        ("polarity", polarity[data["polarity"]]),
        ("send gain", figure("send_gain_db", "+.2f", "dB")),
        ("amp input", figure("amp_peak_dbu", ".1f", "dBu peak")),
        ("return gain", figure("return_gain_db", "+.1f", "dB")),
        ("peak", f"{figure('peak_dbfs', '.1f', 'dBFS')}, headroom {data['headroom_db']:.1f} dB"),
        ("loudness", figure("before_lufs", ".2f", "LUFS")),
        ("without the DI", figure("null_db", ".1f", "dB are left of it")),
    ]
    if "loop_delay_samples" in data:
        lines.insert(1, ("loop delay", figure("loop_delay_samples", ".2f", "samples")))
    if data.get("recorded_null_db") is not None:
        lines.append(
            (
                "as recorded",
                f"nulls with {data['recorded_track']} to {data['recorded_null_db']:.1f} dB",
            )
        )
    if data["after_lufs"] is not None:
        lines.append(
            (
                "matched",
                f"{data['after_lufs']:.2f} LUFS ({data['gain_db']:+.2f} dB, {data['method']})",
            )
        )
    if data["calibration_assumed"]:
        lines.append(("calibration", "assumed: +12 dBu at 0 dBFS"))
    if data["send_limited_db"] > 0.0:
        lines.append(("send", f"{data['send_limited_db']:.1f} dB short: the output would clip"))
    if data["reason"]:
        lines.append(("reason", data["reason"]))
    print_lines(lines)


def with_impulse(folder: Any, session: Any, words: str) -> tuple[Any, str]:
    """The session with a cabinet that was asked for, and the cabinet's name: one that is there, or
    a file that is brought in."""
    from diaulos import wiring
    from diaulos.work.listening.cabinets import cabinet_names
    from diaulos.work.takes.impulses import import_impulse

    known = cabinet_names(session)
    for name, title in known:
        if words in (name, title):
            return session, name
    path = Path(words)
    if not path.exists():
        raise InputError(
            f"there is no file and no cabinet {words!r}.", where="--impulse",
            remedy=f"Cabinets here: {', '.join(name for name, _ in known)}.",
        )  # fmt: skip
    outcome = import_impulse(
        path, session, store=folder, files=wiring.ExternalAudio(), resample=wiring.resampled,
        clock=wiring.local_now,
    )  # fmt: skip
    return outcome.edit(session), outcome.impulse.file


def reamp(
    session_path: Annotated[Path, typer.Argument(metavar="SESSION")],
    take: Annotated[str, typer.Option("--take", help="Name or id of the take.")] = "",
    track: Annotated[
        str, typer.Option("--track", metavar="NAME", help="What is sent; its dry DI without.")
    ] = "",
    rig: Annotated[str, typer.Option("--rig", help="Name or id of the rig.")] = "",
    match_track: Annotated[
        str, typer.Option("--match", metavar="TRACK", help="Track or pass to be as loud as.")
    ] = "",
    match_lufs: Annotated[
        float | None, typer.Option("--match-lufs", help="Loudness to reach, in LUFS.")
    ] = None,
    slate: SlateFlag = True,
    go_on: GoOnFlag = False,
    device: DeviceOption = BENCH,
    out_channel: OutOption = 0,
    in_channel: InOption = 0,
    block: BlockOption = 0,
    program: ProgramOption = None,
    state: Annotated[
        str, typer.Option("--state", metavar="record|reamp", help="How the rig's switches stand.")
    ] = "reamp",
    returns: Annotated[
        list[str] | None,
        typer.Option(
            "--returns", metavar="all|NAME", help="What is recorded of what comes back; again."
        ),
    ] = None,
    stretch: RangeOption = "",
    join: Annotated[
        str,
        typer.Option("--join", metavar="PASS", help="Pass whose rest the range is joined with."),
    ] = "",
    impulse: ImpulseOption = "",
    queue: Annotated[
        Path | None,
        typer.Option("--queue", metavar="FILE.json", help="Tones and takes, one after another."),
    ] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Go on with what waits in the session's queue.")
    ] = False,
    as_json: JsonFlag = False,
) -> None:
    """Reamp a stored take and save the new pass, with every return, in the session."""
    from diaulos import wiring
    from diaulos.cli.rig import state_of
    from diaulos.rig.returns import planned_returns
    from diaulos.session.roles import reamp_rig
    from diaulos.work.listening.cabinets import put_choice
    from diaulos.work.reamp.parts import stretch_of
    from diaulos.work.reamp.passes import ReampRequest, make_pass
    from diaulos.work.takes.impulses import load_impulses

    if match_track and match_lufs is not None:
        raise InputError("--match and --match-lufs exclude each other.", remedy="Give one.")
    if bool(take) + (queue is not None) + resume != 1:
        raise InputError("give --take NAME, --queue FILE.json or --resume.", where="reamp")
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        if not take:
            told = _run_queue(
                folder, session, queue, device, out_channel, in_channel, block, as_json
            )
            print_json(told) if as_json else _print_queue(told)
            return
        if program:
            session = with_programs(session, reamp_rig(session, rig).id, program)
        target = _target_of(session.take(take), match_track, match_lufs)
        cabinet = ""
        if impulse:
            session, cabinet = with_impulse(folder, session, impulse)
        impulses = load_impulses(session, folder)
        wanted = tuple(one for one in returns or () if one != "all")
        if in_channel and not returns:
            sent = reamp_rig(session, rig, state_of(state))
            wanted = (planned_returns(sent)[0].name,)
        with told_progress("Reamp", as_json) as progress:
            outcome = make_pass(
                ReampRequest(
                    session,
                    take,
                    track_id=session.take(take).track(track).id if track else "",
                    rig_id=rig,
                    target=target,
                    slate=slate,
                    go_on=go_on,
                    returns=wanted,
                    state=state_of(state),
                    device=device,
                    stretch=stretch_of(session, session.take(take), stretch) if stretch else None,
                    join=join,
                ),
                store=folder,
                backend_for=_loop_by(device, out_channel, in_channel, block, impulses),
                clock=wiring.local_now,
                impulses=impulses,
                progress=progress,
            )
        session = outcome.edit(session)
        if cabinet:
            for part in outcome.made.parts:
                files = [one.file for one in part]
                session = put_choice(session, files, cabinet, folder)(session)
        folder.save(session)
    finally:
        folder.close()
    data: dict[str, Any] = {"session": str(folder.path), "take": outcome.take_id}
    data.update(_pass_data(outcome.made, session.sample_rate_hz, session))
    if as_json:
        print_json(data)
    else:
        print(f"{session.name}, {session.take(take).name}: {outcome.made.name}")
        _print_returns(data)


def _target_of(take: Any, match_track: str, match_lufs: float | None) -> Any:
    """What a pass is to be as loud as."""
    from diaulos.session.model import MatchTarget

    if match_lufs is not None:
        if not -60.0 <= match_lufs <= 0.0:
            raise InputError(
                f"{match_lufs:g} LUFS is not a loudness to reach.",
                where="--match-lufs",
                remedy="Give a figure from -60 to 0.",
            )
        return MatchTarget(kind="lufs", lufs=match_lufs)
    if not match_track:
        return MatchTarget(kind="none")
    is_pass = any(match_track in (one.id, one.name) for one in take.passes)
    return MatchTarget(kind="pass" if is_pass else "track", ident=match_track)


def _loop_by(
    device: str, out_channel: int, in_channel: int, block: int, impulses: Any = None
) -> Any:
    """Where a loop sounds: the simulated studio, or a device's channels."""
    from diaulos import wiring

    if device == BENCH:
        return wiring.bench_for(impulses)
    return wiring.loop_on(device, out_channel, in_channel, block_frames=block)


def _print_returns(data: dict[str, Any]) -> None:
    for one in data["returns"]:
        if len(data["returns"]) > 1:
            group = f" ({one['group']})" if one["group"] else ""
            print(f"\n{one['return']}{group}")
        _print_pass(one)
    cabinet = data["cabinet"]
    if cabinet is not None:
        print(f"cabinet      {cabinet['name']} ({cabinet['gain_db']:+.2f} dB)")
        if cabinet["before"]:
            print(f"two in a row {cabinet['before']}")


def _run_queue(
    folder: Any, session: Any, file: Path | None, device: str, out_channel: int, in_channel: int,
    block: int, as_json: bool,
) -> dict[str, Any]:  # fmt: skip
    """Every pass that waits, each saved as soon as it is made: Ctrl+C stops behind the last whole
    one. On a real device a key is asked for ahead of each."""
    from diaulos import wiring
    from diaulos.work.reamp.queue import (
        asked_passes,
        line_up,
        make_queued,
        next_waiting,
        read_queue,
        refused,
    )
    from diaulos.work.takes.impulses import load_impulses

    if file is not None:
        session = line_up(asked_passes(session, read_queue(file)))(session)
        folder.save(session)
    impulses = load_impulses(session, folder)
    backend = _loop_by(device, out_channel, in_channel, block, impulses)
    made: list[tuple[Any, Any]] = []
    while (item := next_waiting(session)) is not None:
        said: Any = "" if device == BENCH else _asked(session, item)
        title = f"{len(made) + 1}: {item.tone.name}"
        try:
            with told_progress(title, as_json) as progress:
                outcome = make_queued(
                    session, item, store=folder, backend_for=backend, clock=wiring.local_now,
                    impulses=impulses, device=device, said=said, progress=progress,
                )  # fmt: skip
        except (CancelledError, StorageError):
            raise
        except DiaulosError as error:
            session = refused(item, str(error))(session)
        else:
            session = outcome.edit(session)
            made.append((item, outcome.made))
        folder.save(session)
    return {
        "session": str(folder.path),
        "made": len(made),
        "waiting": sum(one.waits for one in session.queue),
        "refused": [
            {"take": one.take_id, "tone": one.tone.name, "reason": one.refused}
            for one in session.queue
            if one.refused
        ],
        "passes": [
            {
                "take": item.take_id,
                "tone": item.tone.name,
                **_pass_data(one, session.sample_rate_hz, session),
            }
            for item, one in made
        ],
    }


def _asked(session: Any, item: Any) -> Any:
    """What a person says of the devices ahead of a pass; without anybody there nothing is sent."""
    import sys

    from diaulos.work.reamp.queue import HEAT, to_set

    if not sys.stdin.isatty():
        raise InputError(
            "a queue on a real device asks for a key ahead of each pass.",
            where="--queue",
            remedy="Run it on a terminal, or use the simulated studio.",
        )
    print(f"Set for {item.tone.name}:", file=sys.stderr)
    for line in to_set(session, item):
        print(f"  {line}", file=sys.stderr)
    print(HEAT, file=sys.stderr)
    answer = input("Enter: it stands so. a: not looked at. q: stop. ").strip().lower()
    if answer == "q":
        raise CancelledError
    return "assumed" if answer == "a" else "confirmed"


def _print_queue(told: dict[str, Any]) -> None:
    for one in told["passes"]:
        after = one["after_lufs"]
        loud = "not matched" if after is None else f"{after:.2f} LUFS"
        print(f"{one['take']}, {one['tone']}: {one['name']}, {loud}")
    for one in told["refused"]:
        print(f"{one['take']}, {one['tone']} refused: {one['reason']}")
    print(f"{told['made']} made, {told['waiting']} waiting")


def reamp_file_command(
    di: Annotated[Path, typer.Argument(metavar="DI.wav")],
    out: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    full_scale_dbu: Annotated[
        float | None,
        typer.Option("--full-scale-dbu", help="dBu that reached 0 dBFS; +12 is assumed without."),
    ] = None,
    reference: Annotated[
        Path | None, typer.Option("--match", metavar="REF.wav", help="File to be as loud as.")
    ] = None,
    match_lufs: Annotated[float | None, typer.Option("--match-lufs")] = None,
    voice: Annotated[str, typer.Option("--voice", help="Stand-in amplifier.")] = "tideline",
    cabinet: Annotated[str, typer.Option("--cabinet", help="Stand-in cabinet.")] = "open-one",
    drive: Annotated[float, typer.Option("--drive", min=0.0, max=10.0)] = 5.0,
    channel: ChannelOption = None,
    slate: SlateFlag = True,
    go_on: GoOnFlag = False,
    device: DeviceOption = BENCH,
    out_channel: OutOption = 1,
    in_channel: InOption = 1,
    block: BlockOption = 0,
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """Reamp a file without a session; the result starts with the DI."""
    from diaulos import wiring
    from diaulos.rig.catalogue import reamp_rig
    from diaulos.work.reamp.files import FileReampRequest, reamp_file

    if reference is not None and match_lufs is not None:
        raise InputError("--match and --match-lufs exclude each other.", remedy="Give one.")
    if out.exists() and not replace:
        raise InputError(
            "the file exists already.", where=str(out), remedy="Choose another, or add --replace."
        )
    rig = reamp_rig().with_setting("amp", "voice", voice)
    rig = rig.with_setting("amp", "drive", drive).with_setting("load_box", "cabinet", cabinet)
    request = FileReampRequest(
        di, out, channel, full_scale_dbu, rig, reference, match_lufs, replace=replace,
        slate=slate, go_on=go_on, device=device,
    )  # fmt: skip
    with (
        tempfile.TemporaryDirectory(prefix="diaulos-") as scratch,
        told_progress("Reamp", as_json) as progress,
    ):
        result = reamp_file(
            request,
            files=wiring.ExternalAudio(),
            scratch=Path(scratch),
            backend_for=_loop_by(device, out_channel, in_channel, block),
            clock=wiring.local_now,
            progress=progress,
        )
    alignment, levels, send = result.returned.alignment, result.returned.levels, result.plan.send
    assert alignment is not None
    matched = result.match
    data: dict[str, Any] = {
        "out": str(out),
        "frames": result.frames,
        "rate_hz": result.rate_hz,
        "delay_samples": alignment.delay_samples,
        "delay_ms": samples_to_ms(alignment.delay_samples, result.rate_hz),
        "delay_error_samples": alignment.delay_error_samples,
        "polarity": alignment.polarity,
        "confidence": alignment.confidence,
        "drift_ppm": alignment.drift_ppm,
        **_slate_data(result.slate),
        "reason": None,
        "send_gain_db": send.gain_db,
        "send_limited_db": send.limited_db,
        "calibration_assumed": send.assumed,
        "amp_peak_dbu": send.amp_peak_dbu,
        "send_deviation_db": [{"hz": hz, "db": db} for hz, db in send.deviation_db],
        "return_gain_db": result.plan.return_gain_db,
        "peak_dbfs": levels.peak_dbfs,
        "headroom_db": -levels.peak_dbfs,
        "true_peak_dbtp": levels.true_peak_dbtp,
        "clipped_samples": levels.clipped_samples,
        "before_lufs": levels.loudness.lufs,
        "after_lufs": matched.after_lufs if matched else None,
        "gain_db": matched.gain_db if matched else None,
        "pair_offset_db": matched.pair_offset_db if matched else None,
        "reference_lufs": matched.reference_lufs if matched else None,
        "method": matched.method if matched else levels.loudness.method,
        "layout": matched.layout if matched else levels.loudness.layout,
        "null_db": result.returned.null_db,
        "xruns": result.returned.loop.xruns,
    }
    if as_json:
        print_json(data)
    else:
        _print_pass(data)
        print(f"written      {out}")
