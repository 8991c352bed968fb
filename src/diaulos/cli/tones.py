"""Shell command around kept tones: list, write to a file, read from one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json
from diaulos.errors import InputError


def tones(
    session_path: Annotated[Path, typer.Argument(metavar="SESSION")],
    keep: Annotated[
        str, typer.Option("--keep", metavar="NAME", help="Keep the rig's tone under a name.")
    ] = "",
    export: Annotated[
        str, typer.Option("--export", metavar="NAME", help="Write this tone to --to FILE.")
    ] = "",
    to: Annotated[
        Path | None, typer.Option("--to", metavar="FILE.json", help="Where to write it.")
    ] = None,
    file: Annotated[
        Path | None, typer.Option("--import", metavar="FILE.json", help="One more, from a file.")
    ] = None,
    instrument: Annotated[
        str, typer.Option("--instrument", metavar="NAME", help="Who plays; else the one in hand.")
    ] = "",
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """The kept tones of a session, and what each asks for with an instrument."""
    from diaulos import wiring
    from diaulos.errors import DiaulosError
    from diaulos.ids import free_id
    from diaulos.session.edits import add_tone
    from diaulos.session.tone_stage import in_hand, stage_of
    from diaulos.work.instruments.drive import drive_change, rig_with_tone, tone_of
    from diaulos.work.instruments.tone_file import (
        asked_here,
        completed,
        read_tone,
        tone_text,
        write_tone,
    )

    if bool(export) != (to is not None):
        raise InputError("a tone is written by --export NAME --to FILE.json.", where="tones")
    folder = wiring.SessionFolder.open(session_path, read_only=not (keep or file))
    try:
        session = folder.load()
        player = session.instrument(instrument or in_hand(session)) if (
            instrument or in_hand(session)
        ) else None  # fmt: skip
        if keep:
            rig = rig_with_tone(session)
            found = tone_of(rig) if rig is not None else None
            if found is None or player is None:
                raise InputError(
                    "there is no tone to keep: no rig has an amplifier or a modeler, or nobody "
                    "said which instrument plays.",
                    where="tones", remedy="Add a rig, and choose with --instrument NAME.",
                )  # fmt: skip
            ident = free_id({tone.id for tone in session.tones}, "tone")
            session = add_tone(found.kept(ident, keep, player, stage_of(session)))(session)
        if file is not None:
            session = add_tone(read_tone(file, session))(session)
        if keep or file is not None:
            folder.save(session)
    finally:
        folder.close()
    if to is not None:
        tone = next((one for one in session.tones if export in (one.id, one.name)), None)
        if tone is None:
            known = ", ".join(one.name for one in session.tones) or "none yet"
            raise InputError(f"there is no tone {export!r}.", where="tones",
                             remedy=f"Tones here: {known}.")  # fmt: skip
        write_tone(to, tone_text(completed(session, tone, stage_of(session).pad_db)))
    rows: list[dict[str, Any]] = []
    for tone in session.tones:
        row: dict[str, Any] = {"id": tone.id, "name": tone.name, "voice": tone.voice,
                               "drive": tone.drive, "trim_db": tone.trim_db,
                               "made_with": tone.instrument_name or tone.instrument_id,
                               "drive_db": None, "wanted_trim_db": None, "wanted_drive": None,
                               "reason": None}  # fmt: skip
        if player is not None:
            try:
                change = drive_change(session, tone, player)
                row |= {"drive_db": change.drive_db, "wanted_trim_db": change.trim_db,
                        "wanted_drive": change.drive_knob,
                        "words": asked_here(session, tone, player)}  # fmt: skip
            except DiaulosError as error:
                row["reason"] = str(error)
        rows.append(row)
    if as_json:
        held = None if player is None else player.name
        print_json({"session": str(folder.path), "instrument": held, "tones": rows})
        return
    for row in rows:
        print(f"{row['name']}: {row.get('words') or row['reason'] or row['voice']}")
