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
    from diaulos.work.listening.mixing import return_name
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
            "name": return_name(made, back),
            "return": back.name,
            "delay_samples": back.found.delay_samples if back.found else None,
            "polarity": back.found.polarity if back.found else None,
            "confidence": back.found.confidence if back.found else None,
            "reason": (back.against.refused if back.against else back.alignment_refused) or None,
        }
        for made in one.passes
        for back in made.returns
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
    returns: Annotated[
        list[str] | None,
        typer.Option("--returns", metavar="all|NAME", help="What is written of it; again."),
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="In place of a file.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """A pass as Broadcast Wave, in the time and polarity of its take's reference, at its level.

    A stereo pair is one file; of other returns each is one, with its name behind that of OUT.
    """
    from diaulos import wiring
    from diaulos.work.takes.exporting import export_names, export_pass, named_beside

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        one = session.take(take)
        passed = next((p for p in one.passes if made in (p.id, p.name)), None)
        if passed is None:
            known = ", ".join(p.name for p in one.passes) or "none yet"
            raise InputError(f"{one.name} has no pass {made!r}.", where="--pass",
                             remedy=f"Passes here: {known}.")  # fmt: skip
        wanted = [passed.returned(name) for name in returns or () if name != "all"]
        paths = [named_beside(out, added) for added in export_names(passed, wanted)]
        taken = next((path for path in paths if path.exists()), None)
        if taken is not None and not replace:
            raise InputError(
                "the file exists already.", where=str(taken),
                remedy="Choose another, or add --replace.",
            )  # fmt: skip
        files = wiring.ExternalAudio()
        export_pass(
            session, one, passed, folder,
            lambda added, channels, notes: files.create(
                named_beside(out, added), session.sample_rate_hz, channels, session.word_length,
                notes, replace=replace,
            ),
            wiring.local_now,
            wanted,
        )  # fmt: skip
    finally:
        folder.close()
    main = (wanted or passed.returns)[0]
    placed, held = passed.placed(main), one.reference_track
    data = {
        "file": str(paths[0]),
        "files": [str(path) for path in paths],
        "reference": held.id if held else None,
        "moved_samples": -placed.delay_samples if placed else None,
        "turned": placed is not None and placed.polarity < 0,
        "gain_db": main.match.total_db if main.match else 0.0,
    }
    if as_json:
        print_json(data)
    else:
        for path in paths:
            print(f"written: {path}")
