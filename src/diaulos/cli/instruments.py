"""Shell commands around instruments: loading, strength, trims."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, cast

import typer

from diaulos.cli.devices import (
    DeviceOption,
    ListenFlag,
    SecondsOption,
    file_or_heard,
)
from diaulos.cli.output import print_json, print_lines
from diaulos.errors import InputError
from diaulos.ids import BENCH

JsonFlag = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]


def loading(
    file: Annotated[Path, typer.Argument(metavar="FILE.json")],
    csv: Annotated[
        Path | None, typer.Option("--csv", metavar="OUT.csv", help="Write the curves as CSV.")
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """What inputs do to instruments, from circuits in a file."""
    from diaulos.work.instruments.loading import case_results, curves_csv, read_cases

    cases = read_cases(file)
    found = [{"id": case.ident, "results": case_results(case)} for case in cases]
    if csv is not None:
        try:
            csv.write_text(curves_csv(cases), encoding="utf-8")
        except OSError as error:
            raise InputError(
                f"it cannot be written ({error.strerror}).", where=str(csv),
                remedy="Choose another place.",
            ) from error  # fmt: skip
    if as_json:
        print_json({"cases": found})
        return
    for entry in found:
        results = cast(dict[str, Any], entry["results"])
        peak = results.get("f_res_Hz")
        lines = [
            (
                "100 Hz, 1 kHz",
                f"{results['level_100Hz_dB']:.2f}, {results['level_1kHz_dB']:.2f} dB",
            ),
            ("resonance", f"{peak:.0f} Hz" if peak else "none"),
            ("noise", f"{results['noise_dBu']:.1f} dBu"),
        ]
        print(entry["id"])
        print_lines(lines)


def strength(
    file: Annotated[Path | None, typer.Argument(metavar="FILE.wav")] = None,
    full_scale_dbu: Annotated[
        float | None, typer.Option("--full-scale-dbu", help="dBu that reached 0 dBFS.")
    ] = None,
    channel: Annotated[int | None, typer.Option("--channel", min=1)] = None,
    listen: ListenFlag = False,
    device: DeviceOption = BENCH,
    seconds: SecondsOption = None,
    as_json: JsonFlag = False,
) -> None:
    """How hard an instrument plays, from some seconds of the hardest strumming."""
    from diaulos import wiring
    from diaulos.work.blocks import one_channel
    from diaulos.work.instruments.strength import read_strength

    with file_or_heard(file, listen, device, channel, seconds or 8.0) as (path, one):
        source = wiring.ExternalAudio().open(path)
        found = read_strength(source, one_channel(source, one, str(path)))
    scale = full_scale_dbu
    data = {
        "peak_dbfs": found.peak_dbfs,
        "true_peak_dbtp": found.true_peak_dbtp,
        "loudest_400ms_dbfs": found.loudest_400ms_dbfs,
        "decay_s": found.decay_s,
        "clipped_samples": found.clipped_samples,
        "flat_tops": found.flat_tops,
        "strums": found.strums,
        "spread_db": found.spread_db,
        "peak_dbu": None if scale is None else found.peak_dbfs + scale,
        "loudest_400ms_dbu": None if scale is None else found.loudest_400ms_dbfs + scale,
    }
    if as_json:
        print_json(data)
        return
    dbu = "" if scale is None else f", {found.peak_dbfs + scale:.1f} dBu"
    lines = [
        ("peak", f"{found.peak_dbfs:.1f} dBFS{dbu}, true peak {found.true_peak_dbtp:.1f} dBTP"),
        ("loudest 400 ms", f"{found.loudest_400ms_dbfs:.1f} dBFS RMS"),
        ("decay", "not to the floor" if found.decay_s is None else f"{found.decay_s:.2f} s"),
        ("strums", f"{found.strums}"),
    ]
    if found.spread_db is not None:
        lines.append(("spread", f"{found.spread_db:.1f} dB" + (": uneven" * found.uneven)))
    if found.clipped_samples:
        lines.append(("clipped", f"{found.clipped_samples} samples: turn the input down"))
    if found.flat_tops:
        lines.append(("flat tops", f"{found.flat_tops}: clipped ahead of the converter"))
    print_lines(lines)


def trims(
    session_path: Annotated[Path, typer.Argument(metavar="SESSION")],
    solve: Annotated[bool, typer.Option("--solve", help="Set every trim that was solved.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """Every instrument's trim, and the one that brings it closest to the target."""
    from diaulos import wiring
    from diaulos.session.edits import set_trims
    from diaulos.session.tone_stage import stage_of, trim_task
    from diaulos.work.instruments.trims import solve_trims, trim_rows

    folder = wiring.SessionFolder.open(session_path, read_only=not solve)
    try:
        session = folder.load()
        solved = solve_trims(session)
        if solve and solved:
            session = set_trims(solved)(session)
            folder.save(session)
    finally:
        folder.close()
    task = trim_task(session)
    rows = trim_rows(session)
    data = {
        "target_peak_dbfs": session.target_peak_dbfs,
        "tone_stage": stage_of(session).name,
        "to_set": None if task is None else {"words": task.words, "state": task.state},
        "trims": [
            {
                "instrument": row.name,
                "plain_dbfs": row.plain_dbfs,
                "trim_db": row.trim_db,
                "peak_dbfs": row.peak_dbfs,
                "left_over_db": row.left_over_db,
                "drive_db": row.drive_db,
                "plain_drive_db": row.plain_drive_db,
                "keep_hot": row.keep_hot,
                "solved_trim_db": solved.get(row.instrument_id),
                "solved_left_over_db": None
                if row.instrument_id not in solved or row.plain_dbfs is None
                else session.target_peak_dbfs - row.plain_dbfs - solved[row.instrument_id],
                "reason": row.reason or None,
            }
            for row in rows
        ],
    }
    if as_json:
        print_json(data)
        return
    print(f"{stage_of(session).name}, target {session.target_peak_dbfs:g} dBFS peak")
    if task is not None:
        print(f"{task.words}: {task.state}")
    for row in rows:
        if row.peak_dbfs is None:
            print(f"  {row.name}: {row.reason}")
            continue
        wanted = solved.get(row.instrument_id)
        hot = " (kept hot)" if row.keep_hot else f", solved {wanted:+g} dB"
        print(f"  {row.name}: trim {row.trim_db:+g} dB, peak {row.peak_dbfs:.1f} dBFS{hot}")
