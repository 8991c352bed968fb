"""Shell command: the ways of a source into an input."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json
from diaulos.cli.rig import JsonFlag, RigOption, SessionArgument
from diaulos.errors import InputError


def ways(
    session_path: SessionArgument,
    source: Annotated[
        str, typer.Option("--from", metavar="DEVICE.PORT", help="An output, as check names it.")
    ],
    target: Annotated[
        str, typer.Option("--into", metavar="DEVICE.PORT", help="An input that is recorded.")
    ],
    rig: RigOption = "",
    apply: Annotated[
        int, typer.Option("--apply", metavar="N", min=0, help="Plug in the N-th, and save.")
    ] = 0,
    as_json: JsonFlag = False,
) -> None:
    """What a source can go through into an input, best first: level, room, gain, noise."""
    from diaulos import wiring
    from diaulos.rig.ways import sentence, ways_into
    from diaulos.session.edits import change_rig
    from diaulos.work.rigs.look import rig_graph
    from diaulos.work.rigs.stored import stored_of

    folder = wiring.SessionFolder.open(session_path, read_only=not apply)
    try:
        session = folder.load()
        one = session.rig(rig)
        graph = rig_graph(session, one, stored_of(session, folder))
        ends = _end(source), _end(target)
        found = ways_into(graph, *ends, session.target_peak_dbfs)
        if apply:
            if apply > len(found):
                raise InputError(f"there are {len(found)} ways, not {apply}.", where="--apply")
            new = found[apply - 1].rig
            folder.save(change_rig(one.id, "Plug in a way", lambda _rig: new)(session))
    finally:
        folder.close()
    rows: list[dict[str, Any]] = [
        {
            "number": number,
            "through": way.box_name or None,
            "box": way.box or None,
            "mode": way.mode or None,
            "arrives_dbu": way.arrives_dbu,
            "room_db": way.room_db,
            "tightest": way.tightest,
            "gain_db": way.gain_db,
            "gain_left_db": way.left_db,
            "short_db": way.short_db,
            "peak_dbfs": way.peak_dbfs,
            "noise_dbfs": way.noise_dbfs,
            "treble_db": way.treble_db,
            "verdict": way.verdict,
            "misfit": way.misfit or None,
            "unplugs": list(way.unplugs),
            "for_the_engineer": sentence(way, graph, *ends),
        }
        for number, way in enumerate(found, start=1)
    ]
    if as_json:
        print_json({"rig": one.name, "from": source, "into": target, "ways": rows})
        return
    for row, way in zip(rows, found, strict=True):
        gain = "" if way.gain_db is None else f", gain {way.gain_db:g} dB"
        print(f"{row['number']:>3}  {way.words}: {way.verdict}")
        print(
            f"     peaks of {way.arrives_dbu:.1f} dBu, {way.room_db:.1f} dB to clipping{gain}, "
            f"noise {way.noise_dbfs:.1f} dBFS"
        )
    if rows:
        print(rows[0]["for_the_engineer"])


def _end(text: str) -> Any:
    from diaulos.rig.model import PortRef

    device, _, port = text.partition(".")
    if not device or not port:
        raise InputError(
            f"{text!r} names no port.", where="ways", remedy="Write it like interface.in1."
        )
    return PortRef(device=device, port=port)
