"""Shell commands around finished passes: their time reference, their export."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.devices import BlockOption, DeviceOption, InOption, OutOption
from diaulos.cli.output import print_json, told_progress
from diaulos.cli.rig import JsonFlag, SessionArgument
from diaulos.errors import InputError
from diaulos.ids import BENCH

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


def loopcheck(
    session_path: SessionArgument,
    rig: Annotated[str, typer.Option("--rig", help="Name or id of the rig.")] = "",
    keep: Annotated[
        bool, typer.Option("--keep", help="Later checks are held against this one.")
    ] = False,
    returns: Annotated[
        list[str] | None,
        typer.Option("--returns", metavar="all|NAME", help="What is checked of it; again."),
    ] = None,
    device: DeviceOption = BENCH,
    out_channel: OutOption = 0,
    in_channel: InOption = 0,
    block: BlockOption = 0,
    as_json: JsonFlag = False,
) -> None:
    """A quiet sweep round the reamp loop, held against the last good one of the same loop."""
    from diaulos import wiring
    from diaulos.rig.returns import planned_returns
    from diaulos.session.roles import reamp_rig
    from diaulos.work.reamp.loopcheck import check_data, check_loop
    from diaulos.work.takes.impulses import load_impulses

    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        impulses = load_impulses(session, folder)
        wanted = [one for one in returns or () if one != "all"]
        if in_channel and not returns:
            wanted = [planned_returns(reamp_rig(session, rig))[0].name]
        backend = (
            wiring.bench_for(impulses)
            if device == BENCH
            else wiring.loop_on(device, out_channel, in_channel, block_frames=block)
        )
        with told_progress("Loop check", as_json) as progress:
            checked = check_loop(
                session, rig, backend_for=backend, clock=wiring.local_now, device=device,
                returns=wanted, impulses=impulses, progress=progress,
            )  # fmt: skip
        if checked.good or (keep and checked.heard):
            folder.save(checked.keep(session))
    finally:
        folder.close()
    data = {"session": str(folder.path), "rig": checked.rig.name, "device": device}
    data |= check_data(checked)
    if as_json:
        print_json(data)
        return
    print(f"{session.name}, {checked.rig.name}: {checked.words}")
    for one in checked.returns:
        slate = one.slate
        late = "not known" if slate.delay_samples is None else f"{slate.delay_samples:.2f} samples"
        print(f"  {one.back.name}: loop delay {late}, noise {slate.noise_dbfs:.1f} dBFS RMS")


def guide(
    session_path: SessionArgument,
    rig: Annotated[str, typer.Option("--rig", help="Name or id of the rig.")] = "",
    device: DeviceOption = BENCH,
    as_json: JsonFlag = False,
) -> None:
    """The way of a reamp step by step: what to make safe, to plug, to set, and what proves it."""
    from diaulos import wiring
    from diaulos.session.roles import reamp_rig
    from diaulos.work.reamp.guide import guide as steps_of

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        steps = steps_of(session, rig, device)
    finally:
        folder.close()
    name = reamp_rig(session, rig).name
    if as_json:
        rows = [
            {"title": one.title, "lines": list(one.lines), "proved": one.proved or None}
            for one in steps
        ]
        print_json({"rig": name, "steps": rows})
        return
    print(name)
    for number, step in enumerate(steps, start=1):
        print(f"{number}. {step.title}")
        for line in step.lines:
            print(f"   {line}")
        if step.proved:
            print(f"   measured: {step.proved}")


def cabinet(
    session_path: SessionArgument,
    take: TakeOption,
    track: Annotated[
        str, typer.Option("--track", metavar="NAME", help="Name or id of one of its tracks.")
    ] = "",
    made: Annotated[
        str, typer.Option("--pass", metavar="NAME", help="Name or id of one of its passes.")
    ] = "",
    back: Annotated[
        str, typer.Option("--return", metavar="NAME", help="Of a pass; its first without.")
    ] = "",
    put: Annotated[
        str, typer.Option("--put", metavar="FILE|NAME", help="Put this cabinet behind it.")
    ] = "",
    use: Annotated[
        str, typer.Option("--use", metavar="NAME", help="Another one of those that were put.")
    ] = "",
    bypass: Annotated[bool, typer.Option("--none", help="Heard without; all stay.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="All are taken away.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """A cabinet behind a track or a return that was recorded without one; its file stays."""
    from diaulos import wiring
    from diaulos.cli.reamping import with_impulse
    from diaulos.session.edits import put_cabinets
    from diaulos.work.listening.cabinets import (
        cabinet_before,
        cabinet_title,
        put_choice,
        with_alternative,
    )

    if bool(track) == bool(made):
        raise InputError("give --track NAME or --pass NAME.", where="cabinet")
    if sum((bool(put), bool(use), bypass, remove)) > 1:
        raise InputError("--put, --use, --none and --remove exclude each other.", where="cabinet")
    changes = bool(put or use or bypass or remove)
    folder = wiring.SessionFolder.open(session_path, read_only=not changes)
    try:
        session = folder.load()
        one = session.take(take)
        if track:
            files = [each.file for each in one.part(track)]
        else:
            passed = one.pass_(made)
            chosen = passed.returned(back) if back else passed.main
            files = [part.file for part in passed.part_of(chosen)]
        if put:
            session, name = with_impulse(folder, session, put)
            with told_progress("Measuring loudness", as_json):
                session = put_choice(session, files, name, folder)(session)
        elif use or bypass:
            later = session.cabinets.get(files[0])
            titles = {
                cabinet_title(session, each.cabinet): each.cabinet
                for each in (later.choices if later else ())
            }
            session = with_alternative(session, files, titles.get(use, use))(session)
        elif remove:
            session = put_cabinets(files, None)(session)
        if changes:
            folder.save(session)
    finally:
        folder.close()
    later = session.cabinets.get(files[0])
    before = cabinet_before(session, one, files[0])
    data: dict[str, Any] = {
        "files": files,
        "before": before or None,
        "used": (later.used or None) if later else None,
        "choices": [
            {
                "cabinet": each.cabinet,
                "name": cabinet_title(session, each.cabinet),
                "gain_db": each.gain_db,
                "true_peak_dbtp": each.true_peak_dbtp,
            }
            for each in (later.choices if later else ())
        ],
    }
    if as_json:
        print_json(data)
        return
    if not data["choices"]:
        print("no cabinet")
    for row in data["choices"]:
        mark = "*" if row["cabinet"] == data["used"] else " "
        print(f"{mark} {row['name']}: {row['gain_db']:+.2f} dB for the loudness of none")
    if before and data["used"]:
        print(f"two in a row: {before}")


def export(
    session_path: SessionArgument,
    out: Annotated[Path, typer.Argument(metavar="OUT.wav")],
    take: TakeOption,
    made: Annotated[
        str, typer.Option("--pass", metavar="NAME", help="Name or id of the pass.")
    ] = "",
    track: Annotated[
        str, typer.Option("--track", metavar="NAME", help="A track of the take in its place.")
    ] = "",
    cabinet: Annotated[
        bool, typer.Option("--cabinet/--no-cabinet", help="Through the cabinet that is in place.")
    ] = True,
    returns: Annotated[
        list[str] | None,
        typer.Option("--returns", metavar="all|NAME", help="What is written of it; again."),
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="In place of a file.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """A pass as Broadcast Wave, in the time and polarity of its take's reference, at its level; or
    a track as it is. Both as they are heard, through the cabinet that was put to them.

    A stereo pair is one file; of other returns each is one, with its name behind that of OUT.
    """
    from diaulos import wiring
    from diaulos.work.takes.exporting import export_names, export_pass, named_beside

    folder = wiring.SessionFolder.open(session_path, read_only=True)
    try:
        session = folder.load()
        one = session.take(take)
        if bool(track) == bool(made):
            raise InputError("give --pass NAME or --track NAME.", where="export")
        if track:
            _export_track(folder, session, one, one.part(track), out, cabinet, replace, as_json)
            return
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
            cabinets=cabinet,
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


def _export_track(
    folder: Any, session: Any, take: Any, part: Any, out: Path, cabinet: bool, replace: bool,
    as_json: bool,
) -> None:  # fmt: skip
    from diaulos import wiring
    from diaulos.work.takes.exporting import export_track

    if out.exists() and not replace:
        raise InputError(
            "the file exists already.", where=str(out), remedy="Choose another, or add --replace."
        )
    files = wiring.ExternalAudio()
    export_track(
        session, take, part[0], folder,
        lambda _added, channels, notes: files.create(
            out, session.sample_rate_hz, channels, session.word_length, notes, replace=replace
        ),
        wiring.local_now,
        cabinets=cabinet,
        beside=part[1] if len(part) == 2 else None,
    )  # fmt: skip
    if as_json:
        print_json({"file": str(out), "files": [str(out)]})
    else:
        print(f"written: {out}")
