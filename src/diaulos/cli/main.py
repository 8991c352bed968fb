"""The shell commands. Each is thin: arguments in, one use case, figures out."""

from __future__ import annotations

import json
import sys
from importlib import import_module
from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos import __version__
from diaulos.cli import VERBS
from diaulos.cli.output import EXIT_USAGE, print_json, print_lines, report, told_progress
from diaulos.errors import DiaulosError
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


def schema() -> None:
    """Print the JSON Schema of session.json."""
    from diaulos.session.model import Session

    print(json.dumps(Session.model_json_schema(), indent=1, sort_keys=True))


for verb, place in VERBS.items():
    room, _, function = place.partition(":")
    app.command(verb)(getattr(import_module(f"{__package__}.{room}"), function))


def commands() -> dict[str, Any]:
    """Every command as the parser knows it, by name."""
    root: Any = typer.main.get_command(app)
    return dict(root.commands)
