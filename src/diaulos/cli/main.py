"""The shell commands. Each is thin: arguments in, one use case, figures out."""

from __future__ import annotations

import json
import sys
import tempfile
from importlib import import_module
from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos import __version__
from diaulos.cli import VERBS
from diaulos.cli.devices import (
    BlockOption,
    DeviceOption,
    InOption,
    OutOption,
    ProgramOption,
    with_programs,
)
from diaulos.cli.output import EXIT_USAGE, print_json, print_lines, report, told_progress
from diaulos.errors import DiaulosError, InputError
from diaulos.ids import BENCH
from diaulos.units import samples_to_ms

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Records, reamps and compares guitar and bass at known levels.",
    epilog="Without a command: diaulos [SESSION] opens the window.",
)

JsonFlag = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
ReplaceFlag = Annotated[bool, typer.Option("--replace", help="Replace an existing file.")]
SlateFlag = Annotated[
    bool,
    typer.Option("--slate/--no-slate", help="A quiet sweep ahead tells the loop's own delay."),
]
GoOnFlag = Annotated[
    bool,
    typer.Option("--go-on", help="Send although the sweep is far from plan, or not heard."),
]
ChannelOption = Annotated[
    int | None, typer.Option("--channel", min=1, help="Channel to use, counted from 1.")
]


def run(arguments: list[str]) -> int:
    """Run a command; errors become messages and exit codes."""
    as_json = "--json" in arguments
    try:
        result = app(arguments, prog_name="diaulos", standalone_mode=False)
        return int(result or 0)
    except DiaulosError as error:
        return report(error, as_json)
    except KeyboardInterrupt:
        print("diaulos: cancelled. Nothing was changed.", file=sys.stderr)
        return 130
    except Exception as error:
        # The argument parser's own errors carry their message and an exit code.
        show = getattr(error, "show", None)
        if show is None:
            raise
        show()
        return EXIT_USAGE


def _version(wanted: bool) -> None:
    if wanted:
        print(f"diaulos {__version__}")
        raise typer.Exit


@app.callback()
def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print version.")
    ] = False,
) -> None:
    pass


def demo(
    at: Annotated[Path, typer.Option("--at", help="Folder to write the demo session into.")],
    no_window: Annotated[bool, typer.Option("--no-window", help="Write it and stop.")] = True,
    as_json: JsonFlag = False,
) -> None:
    """Write the demo session."""
    from diaulos.demo.saltmarsh import write_demo

    with told_progress("Demo", as_json) as progress:
        folder, session = write_demo(at, progress)
    folder.close()
    if as_json:
        takes = [{"id": take.id, "name": take.name} for take in session.takes]
        print_json({"session": str(folder.path), "takes": takes})
    else:
        print(f"{folder.path}: {len(session.takes)} takes")


def align(
    a: Annotated[Path, typer.Argument(metavar="A.wav")],
    b: Annotated[Path, typer.Argument(metavar="B.wav")],
    write: Annotated[
        Path | None, typer.Option("--write", metavar="OUT.wav", help="Write B in A's time.")
    ] = None,
    fix_polarity: Annotated[
        bool, typer.Option("--fix-polarity", help="With --write: turn B's polarity to A's.")
    ] = False,
    max_delay_ms: Annotated[
        float | None,
        typer.Option(
            "--max-delay-ms",
            metavar="MS",
            help="Look no farther than this, early or late, from the expected delay.",
            min=0.0,
            max=3_600_000.0,
        ),
    ] = None,
    expect_ms: Annotated[
        float | None,
        typer.Option(
            "--expect-ms",
            metavar="MS",
            help="Where the delay is expected, B late being positive (0 if not given).",
            min=-3_600_000.0,
            max=3_600_000.0,
        ),
    ] = None,
    channel: ChannelOption = None,
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """Measure delay, polarity and drift of B against A."""
    from diaulos import wiring
    from diaulos.work.blocks import ArraySource, one_channel
    from diaulos.work.measuring import read_mono
    from diaulos.work.ports import FileNotes
    from diaulos.work.reamp.files import Expected, align_sources, write_aligned

    files = wiring.ExternalAudio()
    sources = []
    for path in (a, b):
        source = files.open(path)
        index = one_channel(source, channel, str(path))
        sources.append(ArraySource(read_mono(source, channel=index), source.rate_hz))
    expected = Expected(expect_ms, max_delay_ms)
    result = align_sources(sources[0], sources[1], wiring.resample_whole, expected)
    record = result.record
    if write is not None:
        moved = sources[1]
        if result.resampled_from_hz is not None:
            samples = wiring.resample_whole(read_mono(moved), moved.rate_hz, result.rate_hz)
            moved = ArraySource(samples, result.rate_hz)
        notes = FileNotes(
            f"{b.name} in the time of {a.name}",
            wiring.local_now(),
            history=f"moved {-record.delay_samples:.2f} samples",
        )
        sink = files.create(write, result.rate_hz, 1, "24", notes, replace)
        write_aligned(sink, moved, sources[0].frames, record, fix_polarity)
    data: dict[str, Any] = {
        "delay_samples": record.delay_samples,
        "delay_ms": samples_to_ms(record.delay_samples, result.rate_hz),
        "polarity": record.polarity,
        "confidence": record.confidence,
        "delay_error_samples": record.delay_error_samples,
        "drift_ppm": record.drift_ppm,
        "drift_error_ppm": record.drift_error_ppm,
        "rate_hz": result.rate_hz,
        "resampled_from_hz": result.resampled_from_hz,
        "written": str(write) if write else None,
    }
    if as_json:
        print_json(data)
        return
    late = "late" if record.delay_samples >= 0 else "early"
    drift = "too short to tell" if record.drift_ppm is None else f"{record.drift_ppm:+.3f} ppm"
    lines = [
        (
            "B is",
            f"{abs(record.delay_samples):.3f} samples ({abs(data['delay_ms']):.4f} ms) {late}",
        ),
        ("error (95 %)", f"{record.delay_error_samples:.3f} samples"),
        ("polarity", "same" if record.polarity > 0 else "inverted"),
        ("confidence", f"{record.confidence:.2f}"),
        ("drift", drift),
    ]
    if result.resampled_from_hz:
        lines.append(("resampled", f"B from {result.resampled_from_hz} to {result.rate_hz} Hz"))
    if write:
        lines.append(("written", str(write)))
    print_lines(lines)


def match(
    reference: Annotated[Path, typer.Argument(metavar="REF.wav")],
    track: Annotated[Path, typer.Argument(metavar="X.wav")],
    out: Annotated[Path, typer.Option("--out", metavar="OUT.wav")],
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """Make X as loud as REF, measured as monitored; never louder than -1 dBTP."""
    from diaulos import wiring
    from diaulos.work.ports import FileNotes
    from diaulos.work.reamp.files import match_sources, write_matched

    files = wiring.ExternalAudio()
    source = files.open(track)
    result = match_sources(files.open(reference), source)
    solved = result.match
    notes = FileNotes(
        f"{track.name} as loud as {reference.name}",
        wiring.local_now(),
        history=f"gain {solved.total_db:+.2f} dB",
    )
    sink = files.create(out, source.rate_hz, source.channels, "24", notes, replace)
    write_matched(sink, source, solved)
    data = {
        "reference_lufs": solved.reference_lufs,
        "before_lufs": solved.before_lufs,
        "gain_db": solved.gain_db,
        "pair_offset_db": solved.pair_offset_db,
        "after_lufs": solved.after_lufs,
        "method": solved.method,
        "layout": result.layout,
        "true_peak_dbtp": solved.true_peak_dbtp,
    }
    if as_json:
        print_json(data)
        return
    lines = [
        ("reference", f"{solved.reference_lufs:.2f} LUFS"),
        ("before", f"{solved.before_lufs:.2f} LUFS"),
        ("gain", f"{solved.gain_db:+.2f} dB"),
        ("after", f"{solved.after_lufs:.2f} LUFS ({solved.method}, {result.layout})"),
        ("true peak", f"{solved.true_peak_dbtp:.2f} dBTP"),
    ]
    if solved.pair_offset_db < 0.0:
        lines.append(("note", f"bring the reference down by {-solved.pair_offset_db:.2f} dB too"))
    print_lines(lines)


def _slate_data(slate: Any) -> dict[str, Any]:
    return {
        "loop_delay_samples": slate.delay_samples if slate else None,
        "loop_polarity": slate.polarity if slate else None,
        "slate_reason": slate.reason or None if slate else None,
    }


def _pass_data(made: Any, rate_hz: int) -> dict[str, Any]:
    """A pass: the figures of its first return, and those of each in `returns`."""
    gain = next((part[0].match for part in made.parts if len(part) > 1), None)
    return {
        "pass": made.id,
        **_return_data(made, made.main, rate_hz),
        "group_gain_db": gain.total_db if gain else None,
        "returns": [_return_data(made, one, rate_hz) for one in made.returns],
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


def reamp(
    session_path: Annotated[Path, typer.Argument(metavar="SESSION")],
    take: Annotated[str, typer.Option("--take", help="Name or id of the take.")],
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
    as_json: JsonFlag = False,
) -> None:
    """Reamp a stored take and save the new pass, with every return, in the session."""
    from diaulos import wiring
    from diaulos.cli.rig import state_of
    from diaulos.rig.returns import planned_returns
    from diaulos.session.model import MatchTarget
    from diaulos.session.roles import reamp_rig
    from diaulos.work.reamp.passes import ReampRequest, make_pass
    from diaulos.work.takes.impulses import load_impulses

    if match_track and match_lufs is not None:
        raise InputError("--match and --match-lufs exclude each other.", remedy="Give one.")
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        if program:
            session = with_programs(session, reamp_rig(session, rig).id, program)
        target = MatchTarget(kind="none")
        if match_lufs is not None:
            if not -60.0 <= match_lufs <= 0.0:
                raise InputError(
                    f"{match_lufs:g} LUFS is not a loudness to reach.",
                    where="--match-lufs",
                    remedy="Give a figure from -60 to 0.",
                )
            target = MatchTarget(kind="lufs", lufs=match_lufs)
        elif match_track:
            passes = {p.id for p in session.take(take).passes}
            passes |= {p.name for p in session.take(take).passes}
            is_pass = match_track in passes
            target = MatchTarget(kind="pass" if is_pass else "track", ident=match_track)
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
                    rig_id=rig,
                    target=target,
                    slate=slate,
                    go_on=go_on,
                    returns=wanted,
                    state=state_of(state),
                    device=device,
                ),
                store=folder,
                backend_for=(
                    wiring.bench_for(impulses)
                    if device == BENCH
                    else wiring.loop_on(device, out_channel, in_channel, block_frames=block)
                ),
                clock=wiring.local_now,
                impulses=impulses,
                progress=progress,
            )
        folder.save(outcome.edit(session))
    finally:
        folder.close()
    data: dict[str, Any] = {"session": str(folder.path), "take": outcome.take_id}
    data.update(_pass_data(outcome.made, session.sample_rate_hz))
    if as_json:
        print_json(data)
    else:
        print(f"{session.name}, {session.take(take).name}: {outcome.made.name}")
        for one in data["returns"]:
            if len(data["returns"]) > 1:
                group = f" ({one['group']})" if one["group"] else ""
                print(f"\n{one['return']}{group}")
            _print_pass(one)


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
            backend_for=(
                wiring.bench_for()
                if device == BENCH
                else wiring.loop_on(device, out_channel, in_channel, block_frames=block)
            ),
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


def schema() -> None:
    """Print the JSON Schema of session.json."""
    from diaulos.session.model import Session

    print(json.dumps(Session.model_json_schema(), indent=1, sort_keys=True))


for verb, place in VERBS.items():
    room, _, function = place.partition(":")
    app.command(verb)(getattr(import_module(f"{__package__}.{room}"), function))
