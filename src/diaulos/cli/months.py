"""Shell command: what was measured of one unit over months."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diaulos.cli.output import print_json
from diaulos.errors import InputError


def months(
    folders: Annotated[list[Path], typer.Argument(metavar="FOLDER...")],
    unit: Annotated[
        str, typer.Option("--unit", metavar="NAME", help="One instrument, device or loop.")
    ] = "",
    sound: Annotated[
        bool, typer.Option("--sound/--no-sound", help="Read the stored strums, too.")
    ] = True,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """Calibrations, loops, strengths, intonation of one unit over many sessions."""
    from diaulos import wiring
    from diaulos.figures import number
    from diaulos.work.months.timeline import changes, timeline

    sessions, unread = wiring.sessions_below(folders, sound=sound)
    if not sessions and not unread:
        raise InputError(
            "no session lies there.", where=", ".join(str(one) for one in folders),
            remedy="Give the folder that your sessions lie in.",
        )  # fmt: skip
    series = timeline(sessions)
    if unit:
        series = tuple(one for one in series if unit.casefold() in one.unit.casefold())
    found = changes(series)
    if as_json:
        print_json({
            "sessions": len(sessions),
            "unread": [{"path": path, "problem": problem} for path, problem in unread],
            "series": [
                {"unit": one.unit, "kind": one.kind, "what": one.what, "quantity": one.quantity,
                 "points": [{"at": point.at, "value": point.value, "session": point.session}
                            for point in one.points]}
                for one in series
            ],
            "changes": [
                {"unit": one.unit, "kind": one.kind, "what": one.what, "at": one.at,
                 "before": one.before, "after": one.after, "words": one.words,
                 "cause": one.cause or None}
                for one in found
            ],
        })  # fmt: skip
        return
    for one in series:
        last = one.points[-1]
        print(f"{one.unit}, {one.what}: {number(last.value, 2)} {one.quantity} on {last.at[:10]}, "
              f"{len(one.points)} measured")  # fmt: skip
    for change in found:
        print(f"{change.words}. {change.cause or 'Nobody noted why.'}")
    for path, problem in unread:
        print(f"cannot be read: {path}: {problem}")
