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
                Wanted(kind, take, made, rig, tone, note, frozenset(without or ())),
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
