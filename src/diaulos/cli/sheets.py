"""Shell commands that hand over: sheets, stems, packed sessions."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diaulos.cli.output import print_json, told_progress
from diaulos.cli.rig import JsonFlag, SessionArgument
from diaulos.errors import InputError

PLANNED = ("patch", "levels", "tracks")
"""Sheets whose figures are planned by what is stored of the playing."""
ReplaceFlag = Annotated[bool, typer.Option("--replace", help="In place of what is there.")]


def sheet(
    session_path: SessionArgument,
    kind: Annotated[
        str,
        typer.Option(
            "--kind",
            metavar="KIND",
            help="patch, tracks, levels, recall, tone, compare or session.",
        ),
    ],
    out: Annotated[Path, typer.Option("--out", metavar="FILE.pdf|.html|.csv")],
    take: Annotated[str, typer.Option("--take", metavar="NAME", help="Of this take.")] = "",
    made: Annotated[str, typer.Option("--pass", metavar="NAME", help="Of this pass of it.")] = "",
    rig: Annotated[str, typer.Option("--rig", metavar="NAME", help="Of this rig.")] = "",
    tone: Annotated[str, typer.Option("--tone", metavar="NAME", help="Of this tone.")] = "",
    note: Annotated[str, typer.Option("--note", metavar="TEXT", help="What stands on it.")] = "",
    sort: Annotated[
        str, typer.Option("--sort", metavar="HEAD", help="Sort tables by this column.")
    ] = "",
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="TITLE", help="A part that is left out; again."),
    ] = None,
    paper: Annotated[str, typer.Option("--paper", metavar="A4|Letter", help="Of a PDF.")] = "A4",
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """How it was made, and how it is set up again: a sheet as PDF, HTML or CSV."""
    from diaulos import wiring
    from diaulos.work.rigs.stored import NOTHING_STORED, stored_of
    from diaulos.work.sheets.making import make_sheet, part_titles
    from diaulos.work.sheets.model import KINDS, Wanted

    if kind not in KINDS:
        raise InputError(
            f"there is no sheet {kind!r}.", where="--kind", remedy=f"Kinds: {', '.join(KINDS)}."
        )
    if made and not take:
        raise InputError("a pass is of a take.", where="--pass", remedy="Give --take, too.")
    wiring.check_sheet_file(out, paper, replace=replace)
    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        with told_progress("Making the sheet", as_json):
            made_sheet = make_sheet(
                session,
                Wanted(kind, take, made, rig, tone, note, sort, frozenset(without or ())),
                folder,
                stored_of(session, folder) if kind in PLANNED else NOTHING_STORED,
            )
            wiring.write_sheet_file(made_sheet, out, paper, replace=replace)
    finally:
        folder.close()
    data = {
        "file": str(out),
        "kind": kind,
        "title": made_sheet.title,
        "under": made_sheet.under,
        "parts": list(part_titles(made_sheet)),
    }
    if as_json:
        print_json(data)
    else:
        print(f"written: {out}")


def stems(
    session_path: SessionArgument,
    out: Annotated[Path, typer.Option("--out", metavar="DIR", help="Where the files go.")],
    take: Annotated[
        list[str] | None, typer.Option("--take", metavar="NAME", help="Of this take; again.")
    ] = None,
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="NAME", help="This track or pass alone; again."),
    ] = None,
    pattern: Annotated[
        str, typer.Option("--pattern", metavar="TEXT", help="Of names: {n} {name} {take} {tap}.")
    ] = "",
    matched: Annotated[
        bool, typer.Option("--matched/--as-recorded", help="At matched level.")
    ] = True,
    rendered: Annotated[
        bool, typer.Option("--rendered/--plain", help="Through cabinets and low cuts.")
    ] = True,
    made_for: Annotated[
        float | None,
        typer.Option("--made-for", metavar="DBU", help="What a software amp expects at 0 dBFS."),
    ] = None,
    word: Annotated[str, typer.Option("--word", metavar="24|float")] = "",
    preview: Annotated[bool, typer.Option("--preview", help="Only say what they are.")] = False,
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """Chosen tracks and passes as files that lie in time in any recorder."""
    from diaulos import wiring
    from diaulos.work.handing.stems import StemChoice, calibration_words, plan_stems, stem_data

    if word not in ("", "24", "float"):
        raise InputError(f"there is no word length {word!r}.", where="--word",
                         remedy="24 or float.")  # fmt: skip
    choice = StemChoice(
        tuple(take or ()), tuple(only or ()), pattern, matched, rendered, made_for, word
    )
    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        planned = plan_stems(session, choice)
        clipped: dict[str, int] = {}
        beside: tuple[str, ...] = ()
        if not preview:
            with told_progress("Writing stems", as_json) as progress:
                clipped, beside = wiring.write_stem_files(
                    session, planned, choice, folder, out, replace=replace, progress=progress
                )
    finally:
        folder.close()
    rows = [stem_data(one, choice, clipped.get(one.file, 0)) for one in planned]
    if as_json:
        print_json({"folder": str(out), "files": rows, "beside": list(beside), "preview": preview})
        return
    for one in planned:
        print(f"{'would be' if preview else 'written'}: {out / one.file}")
        if one.tap == "di":
            print(f"    {calibration_words(one, choice)}")


def pack(
    session_path: SessionArgument,
    out: Annotated[Path, typer.Argument(metavar="FILE.diaulosz")],
    take: Annotated[
        list[str] | None, typer.Option("--take", metavar="NAME", help="This take alone; again.")
    ] = None,
    di: Annotated[bool, typer.Option("--di/--no-di", help="With the dry DIs.")] = True,
    bin_: Annotated[bool, typer.Option("--bin/--no-bin", help="With what is in the bin.")] = True,
    replace: ReplaceFlag = False,
    as_json: JsonFlag = False,
) -> None:
    """A whole session in one file, to be handed over."""
    from diaulos import wiring
    from diaulos.work.handing.packing import PackChoice, plan_packing

    if out.suffix != wiring.PACKED:
        raise InputError(f"a packed session ends in {wiring.PACKED}.", where=out.name)
    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        packing = plan_packing(
            folder.load(), PackChoice(tuple(take or ()), di, bin_), folder.has_file
        )
        with told_progress("Packing", as_json) as progress:
            size = wiring.pack(folder, packing, out, replace=replace, progress=progress)
    finally:
        folder.close()
    data = {
        "file": str(out), "bytes": size, "files": list(packing.files),
        "left_out": list(packing.left_out), "missing": list(packing.missing),
    }  # fmt: skip
    if as_json:
        print_json(data)
        return
    print(f"packed: {out}, {len(packing.files)} files, {size / 1e6:.1f} MB")
    for file in packing.missing:
        print(f"missing: {file}")


def unpack(
    packed: Annotated[Path, typer.Argument(metavar="FILE.diaulosz")],
    out: Annotated[Path, typer.Argument(metavar="SESSION")],
    as_json: JsonFlag = False,
) -> None:
    """A session folder of a packed session, checked file by file."""
    from diaulos import wiring

    with told_progress("Unpacking", as_json) as progress:
        found = wiring.unpack(packed, out, progress=progress)
    data = {
        "session": str(found.path), "files": found.files,
        "left_out": list(found.left_out), "missing": list(found.missing),
    }  # fmt: skip
    if as_json:
        print_json(data)
        return
    print(f"unpacked: {found.path}, {found.files} files")
    for file in (*found.left_out, *found.missing):
        print(f"not in it: {file}")
