"""Shell commands around finished passes: their time reference, their export."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json, told_progress
from diaulos.cli.rig import JsonFlag, SessionArgument
from diaulos.errors import InputError

TakeOption = Annotated[str, typer.Option("--take", metavar="NAME", help="Name or id of the take.")]


def reference(
    session_path: SessionArgument,
    take: TakeOption,
    track: Annotated[
        str, typer.Option("--track", metavar="NAME", help="Another reference: one of its tracks.")
    ] = "",
    as_json: JsonFlag = False,
) -> None:
    """The track that a take's passes are in time with and turned like; --track chooses it."""
    from diaulos import wiring
    from diaulos.work.reamp.reference import find_reference

    folder = wiring.SessionFolder.open(session_path, read_only=not track)
    try:
        session = folder.load()
        one = session.take(take)
        if track:
            with told_progress("Lining up", as_json) as progress:
                found = find_reference(one, one.track(track).id, folder, progress)
            session = found.edit(session)
            folder.save(session)
            one = session.take(one.id)
    finally:
        folder.close()
    held = one.reference_track
    rows: list[dict[str, Any]] = [
        {
            "id": made.id,
            "name": made.name,
            "delay_samples": made.placed.delay_samples if made.placed else None,
            "polarity": made.placed.polarity if made.placed else None,
            "confidence": made.placed.confidence if made.placed else None,
            "reason": (made.against.refused if made.against else made.alignment_refused) or None,
        }
        for made in one.passes
    ]
    data = {
        "take": one.id,
        "reference": held.id if held else None,
        "reference_name": held.name if held else None,
        "passes": rows,
    }
    if as_json:
        print_json(data)
        return
    print(f"{one.name}: in time with {held.name if held else 'nothing: it has no dry DI'}")
    for row in rows:
        if row["delay_samples"] is None:
            print(f"  {row['name']}: {row['reason']}")
        else:
            turned = "normal" if row["polarity"] == 1 else "inverted"
            print(f"  {row['name']}: {row['delay_samples']:.2f} samples late, {turned}")


def export(
    session_path: SessionArgument,
    out: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    take: TakeOption,
    made: Annotated[str, typer.Option("--pass", metavar="NAME", help="Name or id of the pass.")],
    replace: Annotated[bool, typer.Option("--replace", help="In place of a file.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """A pass as Broadcast Wave, in the time and polarity of its take's reference, at its level."""
    from diaulos import wiring
    from diaulos.work.takes.exporting import export_pass

    if out.exists() and not replace:
        raise InputError(
            "the file exists already.", where=str(out), remedy="Choose another, or add --replace."
        )
    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        one = session.take(take)
        passed = next((p for p in one.passes if made in (p.id, p.name)), None)
        if passed is None:
            known = ", ".join(p.name for p in one.passes) or "none yet"
            raise InputError(f"{one.name} has no pass {made!r}.", where="--pass",
                             remedy=f"Passes here: {known}.")  # fmt: skip
        source = folder.open_audio(passed.file)
        files = wiring.ExternalAudio()
        export_pass(
            session, one, passed, source,
            lambda notes: files.create(
                out, source.rate_hz, 1, session.word_length, notes, replace=replace
            ),
            wiring.local_now,
        )  # fmt: skip
    finally:
        folder.close()
    placed, held = passed.placed, one.reference_track
    data = {
        "file": str(out),
        "reference": held.id if held else None,
        "moved_samples": -placed.delay_samples if placed else None,
        "turned": placed is not None and placed.polarity < 0,
        "gain_db": passed.match.total_db if passed.match else 0.0,
    }
    if as_json:
        print_json(data)
    else:
        print(f"written: {out}")
