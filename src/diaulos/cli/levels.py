"""Shell command of levels: diagrams, noise, gains solved."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from diaulos.cli.output import print_json
from diaulos.cli.rig import JsonFlag, RigOption, SessionArgument
from diaulos.units import LOWEST_DB

if TYPE_CHECKING:
    from diaulos.session.model import Session
    from diaulos.work.rigs.levels import CourseLevels
    from diaulos.work.rigs.stored import Stored


def levels(
    session_path: SessionArgument,
    course: Annotated[
        str, typer.Option("--course", metavar="NAME", help="One course; all without.")
    ] = "",
    rig: RigOption = "",
    solve: Annotated[
        bool, typer.Option("--solve", help="Say which gains and switches to set.")
    ] = False,
    free_tone: Annotated[
        bool,
        typer.Option("--free-tone", help="Also turn what stands ahead of an amplifier."),
    ] = False,
    other_di: Annotated[
        bool, typer.Option("--other-di", help="A DI box of another kind is at hand.")
    ] = False,
    apply: Annotated[
        bool, typer.Option("--apply", help="With --solve: set them, and save the session.")
    ] = False,
    tone: Annotated[
        bool,
        typer.Option("--tone", help="Of a sine at 1 kHz, to compare with a meter."),
    ] = False,
    loud: Annotated[
        bool, typer.Option("--loud", help="Also how loud other playing gets: takes a while.")
    ] = False,
    as_json: JsonFlag = False,
) -> None:
    """Every course station by station: peak, ceiling, noise, headroom; what clips first."""
    from diaulos import wiring
    from diaulos.errors import InputError
    from diaulos.work.rigs.stored import stored_of

    if apply and not solve:
        raise InputError("--apply wants --solve.", remedy="Give both.")
    if tone and (solve or loud):
        raise InputError("gains are solved for playing.", remedy="Leave --tone out.")
    folder = wiring.SessionFolder.open(session_path, read_only=not apply)
    try:
        session = folder.load()
        stored = stored_of(session, folder)
        found = _found(session, course, rig, stored, tone)
        rows, changed = _worked_out(session, found, rig, stored, solve, free_tone, other_di)
        if loud:
            _add_loud(rows, found)
        if apply:
            folder.save(changed)
    finally:
        folder.close()
    name = session.rig(rig).name
    if as_json:
        print_json(
            {"session": session.name, "rig": name, "target_dbfs": _target(session),
             "target_statistic": session.target_statistic, "courses": rows}
        )  # fmt: skip
        return
    print(f"{session.name}, {name}: levels of {'a sine at 1 kHz' if tone else 'playing'}")
    for row in rows:
        _print_course(row)


def _found(
    session: Session, course: str, rig: str, stored: Stored, tone: bool
) -> tuple[CourseLevels, ...]:
    from diaulos.work.rigs.levels import course_named, levels_of

    found = levels_of(session, rig, stored, tone=tone)
    return (course_named(found, course),) if course else found


def _add_loud(rows: list[dict[str, Any]], found: tuple[CourseLevels, ...]) -> None:
    from diaulos.rig.levels.spread import loud_moments_db

    for row, one in zip(rows, found, strict=True):
        row["loud_moments_dbfs"] = None
        if one.diagram is not None:
            spread = loud_moments_db(one.diagram.course)
            row["loud_moments_dbfs"] = one.diagram.track.peak + spread


def _worked_out(
    session: Session,
    wanted: tuple[CourseLevels, ...],
    rig: str,
    stored: Stored,
    solve: bool,
    free_tone: bool,
    other_di: bool,
) -> tuple[list[dict[str, Any]], Session]:
    """The rows, and the session with the solved settings."""
    from diaulos.work.rigs.solving import solve_edit, solve_rig
    from diaulos.work.rigs.verdicts import levels_data

    if not solve:
        return levels_data(wanted), session
    tracks = tuple(one.track for one in wanted)
    results = solve_rig(session, rig, tracks, stored, free_tone=free_tone, other_di=other_di)
    changed = solve_edit(session.rig(rig).id, results)(session)
    return levels_data(wanted, {one.track: one for one in results}), changed


def _target(session: Session) -> float:
    rms = session.target_statistic == "rms"
    return float(session.target_rms_dbfs if rms else session.target_peak_dbfs)


def _print_course(row: dict[str, Any]) -> None:
    print(f"\n{row['name']}")
    if row["reason"]:
        print(f"    {row['reason']}")
        return
    for station in row["stations"]:
        unit = "dBFS" if "peak_dbfs" in station else "dBu"
        tail = unit.lower()
        ceiling, noise = station[f"ceiling_{tail}"], station[f"noise_{tail}"]
        room = station["headroom_db"]
        print(
            f"    {station[f'peak_{tail}']:7.1f} {unit:<4} "
            f"{'' if noise is None or noise <= LOWEST_DB else f'noise {noise:.1f}':<14} "
            f"{'' if ceiling is None else f'clips at {ceiling:.1f}, {room:.1f} dB above':<32} "
            f"{station['name']}"
        )
    first, noise_by = row["first_clip"], row["noise_set_by"]
    if first is not None:
        print(f"    clips first: {first['name']}, {first['headroom_db']:.1f} dB of headroom")
    if noise_by is not None:
        print(f"    noise set by: {noise_by['name']}, {noise_by['dbfs']:.1f} dBFS")
    if row.get("loud_moments_dbfs") is not None:
        print(f"    loud moments: to {row['loud_moments_dbfs']:.1f} dBFS")
    if row["snr_db"] is not None:
        print(f"    signal to noise: {row['snr_db']:.1f} dB, A-weighted {row['snr_a_db']:.1f} dB")
    if row.get("solved") is not None:
        _print_solved(row["solved"])


def _print_solved(solved: dict[str, Any]) -> None:
    if solved["reason"]:
        print(f"    {solved['reason']}")
        return
    if solved["other_di"] is not None:
        print(f"    use another DI box: {solved['other_di']['type']}")
    changes = [one for one in solved["settings"] if one["value"] != one["before"]]
    if not changes:
        print("    to change: nothing")
    for one in changes:
        print(f"    set {one['device']}: {one['control']} from {one['before']} to {one['value']}")
    print(
        f"    then: peak {solved['peak_dbfs']:.1f} dBFS, {solved['left_over_db']:+.1f} dB to target"
    )
    if solved["second_best"] is not None:
        second = solved["second_best"]
        other = ", ".join(
            f"{s['control']} {s['value']}"
            for s, best in zip(second["settings"], solved["settings"], strict=True)
            if s["value"] != best["value"]
        )
        print(f"    second best: {other}, peak {second['peak_dbfs']:.1f} dBFS")
    if solved["in_the_way"]:
        print(f"    in the way: {solved['in_the_way']}")
    for words in solved["frees"]:
        print(f"    would free it: {words}")
