"""Shell commands that build a session up: new, arrangements, rig, import, instrument."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from diaulos.cli.output import print_json, print_lines
from diaulos.cli.rig import JsonFlag, SessionArgument
from diaulos.errors import InputError

if TYPE_CHECKING:
    from diaulos.work.takes.importing import ImportOutcome


def new(
    directory: Annotated[Path, typer.Argument(metavar="DIR")],
    rate: Annotated[
        int, typer.Option("--rate", min=8_000, max=192_000, help="Sample rate in Hz.")
    ] = 48_000,
    word: Annotated[str, typer.Option("--word", help="Samples of its files: 24 or float.")] = "24",
    name: Annotated[str, typer.Option("--name", help="Its name; the folder's without.")] = "",
    tempo: Annotated[float, typer.Option("--tempo", min=20.0, max=400.0, help="BPM.")] = 120.0,
    metre: Annotated[str, typer.Option("--metre", help="Such as 4/4.")] = "4/4",
    plays: Annotated[
        str, typer.Option("--plays", metavar="KIND", help="What plays: guitar, bass, baritone ...")
    ] = "",
    inputs: Annotated[int, typer.Option("--inputs", help="Of the interface: 2, 4 or 8.")] = 2,
    tone: Annotated[
        str, typer.Option("--tone", help="What makes it: none, modeler, load or microphone.")
    ] = "none",
    as_json: JsonFlag = False,
) -> None:
    """Make a new session: with --plays one that records that instrument, else with one rig, for
    reamping by box."""
    from diaulos import wiring
    from diaulos.work.rigs.building import start_of

    if word not in ("24", "float"):
        raise InputError(f"{word!r} is no word length.", remedy="Give 24 or float.")
    folder, session = wiring.new_session(
        directory,
        name=name,
        rate_hz=rate,
        word_length="float" if word == "float" else "24",
        tempo_bpm=tempo,
        metre=metre,
        start=start_of(plays, inputs, tone) if plays else None,
    )
    folder.close()
    data = {
        "session": str(folder.path),
        "name": session.name,
        "rate_hz": session.sample_rate_hz,
        "rigs": [{"id": rig.id, "name": rig.name} for rig in session.rigs],
    }
    if as_json:
        print_json(data)
    else:
        print(f"{folder.path}: {session.sample_rate_hz} Hz")


def arrangements(as_json: JsonFlag = False) -> None:
    """Ready-made rigs to start from."""
    from diaulos.work.rigs.building import arrangements as known

    found = known()
    if as_json:
        print_json(
            {
                "arrangements": [
                    {
                        "id": one.id,
                        "name": one.name,
                        "sentence": one.sentence,
                        "records": one.records,
                        "reamps": one.reamps,
                    }
                    for one in found
                ]
            }
        )
        return
    print_lines([(one.id, f"{one.name}. {one.sentence}") for one in found])


def rig(
    session_path: SessionArgument,
    add: Annotated[
        str, typer.Option("--add", metavar="ARRANGEMENT", help="Add a rig of an arrangement.")
    ] = "",
    name: Annotated[str, typer.Option("--name", help="What it is called.")] = "",
    instrument: Annotated[
        str,
        typer.Option("--instrument", metavar="NAME", help="What is plugged in; gains for it."),
    ] = "",
    current: Annotated[bool, typer.Option("--current", help="It becomes the current rig.")] = False,
    as_json: JsonFlag = False,
) -> None:
    """The rigs of a session; with --add one more."""
    from diaulos import wiring
    from diaulos.work.rigs.building import add_rig_edit, arranged

    if not add and (name or instrument or current):
        raise InputError("--name, --instrument and --current want --add.", where="rig")
    from diaulos.session.roles import reamp_rig, recording_rig

    folder = wiring.SessionFolder.open(session_path, read_only=not add)
    try:
        session = folder.load()
        if add:
            made = arranged(session, add, name, instrument)
            session = add_rig_edit(session, made, current=current)(session)
            folder.save(session)
    finally:
        folder.close()
    recording = recording_rig(session).id if session.rigs else ""
    sending = reamp_rig(session).id if session.rigs else ""
    rows = [
        {
            "id": one.id,
            "name": one.name,
            "current": one.id == session.current_rig,
            "recording": one.id == recording,
            "reamp": one.id == sending,
            "tracks": [{"name": track.name, "tap": track.tap} for track in one.tracks],
        }
        for one in session.rigs
    ]
    data: dict[str, Any] = {"session": str(folder.path), "rigs": rows}
    if add:
        data |= {"id": rows[-1]["id"], "name": rows[-1]["name"], "current": rows[-1]["current"]}
    if as_json:
        print_json(data)
        return
    for row in rows:
        print(f"{row['id']}  {row['name']}{' (current)' if row['current'] else ''}")


def import_files(
    session_path: SessionArgument,
    paths: Annotated[list[Path], typer.Argument(metavar="FILE...|FOLDER")],
    name: Annotated[
        str, typer.Option("--name", help="Of the take; the first file's without.")
    ] = "",
    instrument: Annotated[
        str, typer.Option("--instrument", metavar="NAME", help="What was played.")
    ] = "",
    full_scale_dbu: Annotated[
        float | None, typer.Option("--full-scale-dbu", help="dBu at 0 dBFS of a dry DI.")
    ] = None,
    channel: Annotated[
        int | None, typer.Option("--channel", min=1, help="Of one file with several.")
    ] = None,
    told: Annotated[
        list[str] | None,
        typer.Option("--as", metavar="N=TAP[:DBU]", help="What the n-th track is; again."),
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """Bring files in as one take: a single channel is a dry DI, else a track for every channel."""
    from diaulos import wiring
    from diaulos.session.instrument import one_line
    from diaulos.work.takes.importing import ImportRequest, import_di
    from diaulos.work.takes.take_import import (
        TakeImportRequest,
        import_take,
        told_tracks,
        wanted_tracks,
    )

    files = wiring.ExternalAudio()
    if len(paths) == 1 and paths[0].is_dir():
        if name or full_scale_dbu is not None or channel is not None or told:
            raise InputError("a folder's takes are named by its files.", where=str(paths[0]),
                             remedy="Leave the other options out.")  # fmt: skip
        _import_folder(session_path, paths[0], instrument, as_json)
        return
    wanted = tuple(one for path in paths for one in wanted_tracks(path, files.open(path).channels))
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        player = session.instrument(instrument).id if instrument else ""
        called = name or one_line(paths[0].stem)
        if len(paths) == 1 and (len(wanted) == 1 or channel is not None) and not told:
            outcome = import_di(
                ImportRequest(paths[0], called, channel and channel - 1, player,
                              full_scale_dbu=full_scale_dbu),
                session, store=folder, files=files, resample=wiring.resampled,
                clock=wiring.local_now,
            )  # fmt: skip
        else:
            if full_scale_dbu is not None or channel is not None:
                raise InputError(
                    "--full-scale-dbu and --channel are for a single dry DI.",
                    remedy="Import that file by itself.",
                )
            request = TakeImportRequest(called, told_tracks(wanted, told or ()), player)
            outcome = import_take(
                request, session, store=folder, files=files, resample=wiring.resampled,
                clock=wiring.local_now,
            )  # fmt: skip
        folder.save(outcome.edit(session))
    finally:
        folder.close()
    _tell_imported(folder.path, [outcome], as_json)


def _import_folder(session_path: Path, where: Path, instrument: str, as_json: bool) -> None:
    """Every take that a folder of stems names."""
    from diaulos import wiring
    from diaulos.work.handing.returning import returned_takes
    from diaulos.work.takes.take_import import TakeImportRequest, import_take

    files = wiring.ExternalAudio()
    wanted = returned_takes(where, files)
    folder = wiring.SessionFolder.open(session_path)
    outcomes = []
    try:
        session = folder.load()
        player = session.instrument(instrument).id if instrument else ""
        for one in wanted:
            outcome = import_take(
                TakeImportRequest(one.name, one.tracks, player), session, store=folder,
                files=files, resample=wiring.resampled, clock=wiring.local_now,
            )  # fmt: skip
            session = outcome.edit(session)
            folder.save(session)
            outcomes.append(outcome)
    finally:
        folder.close()
    _tell_imported(folder.path, outcomes, as_json)


def _tell_imported(path: Path, outcomes: Sequence[ImportOutcome], as_json: bool) -> None:
    take, note = outcomes[0].take, outcomes[0].note
    data = {
        "session": str(path),
        "take": take.id,
        "name": take.name,
        "tracks": [
            {"id": t.id, "name": t.name, "tap": t.tap, "file": t.file, "frames": t.frames,
             "peak_dbfs": t.peak_dbfs, "clipped_samples": t.clipped_samples,
             "full_scale_dbu": t.full_scale_dbu}
            for t in take.tracks
        ],
        "takes": [{"id": one.take.id, "name": one.take.name} for one in outcomes],
        "note": note or None,
    }  # fmt: skip
    if as_json:
        print_json(data)
        return
    for one in outcomes:
        count = len(one.take.tracks)
        print(f"{one.take.name}: {count} track{'' if count == 1 else 's'}")
        if one.note:
            print(one.note)


def instrument(
    session_path: SessionArgument,
    add: Annotated[
        str, typer.Option("--add", metavar="KIND", help="guitar, baritone, bass, other or piezo.")
    ] = "",
    name: Annotated[str, typer.Option("--name", help="What it is called.")] = "",
    pickup: Annotated[str, typer.Option("--pickup", metavar="TYPE", help="Of its pickup.")] = "",
    tuning: Annotated[str, typer.Option("--tuning", metavar="NAME", help="Of its strings.")] = "",
    choose: Annotated[
        str, typer.Option("--choose", metavar="NAME", help="Plug this one into the recording rig.")
    ] = "",
    trim_db: Annotated[
        float | None, typer.Option("--trim-db", help="Its trim, with --choose.")
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """The instruments of a session; with --add one more, with representative values; with
    --choose the one in hand: the recording rig's tone stage takes its trim."""
    from diaulos import wiring
    from diaulos.session.edits import add_instrument, choose_instrument, set_trims
    from diaulos.session.tone_stage import in_hand, placed, trim_task
    from diaulos.work.rigs.building import new_instrument

    if bool(add) != bool(name):
        raise InputError("a new instrument wants --add KIND and --name NAME.", where="instrument")
    if trim_db is not None and not choose:
        raise InputError("--trim-db is the trim of the one that --choose names.",
                         where="instrument", remedy="Add --choose NAME.")  # fmt: skip
    folder = wiring.SessionFolder.open(session_path, read_only=not (add or choose))
    try:
        session = folder.load()
        if add:
            made = new_instrument(session, add, name, pickup=pickup, tuning=tuning)
            session = add_instrument(made)(session)
        if choose:
            session = choose_instrument(choose)(session)
            if trim_db is not None:
                session = set_trims({session.instrument(choose).id: trim_db}, "Trim")(session)
        if add or choose:
            folder.save(session)
    finally:
        folder.close()
    rows: list[dict[str, Any]] = [
        {
            "id": one.id,
            "name": one.name,
            "family": one.family,
            "strings": list(one.strings),
            "measured": one.measured,
            "trim_db": one.trim_db,
            "in_hand": one.id == in_hand(session),
        }
        for one in session.instruments
    ]
    task, found = trim_task(session), placed(session)
    data: dict[str, Any] = {
        "session": str(folder.path),
        "instruments": rows,
        "tone_stage": None if found is None or task is None else {
            "rig": found.rig.name, "device": task.device, "trim_db": task.trim_db,
            "pad_on": task.pad_on, "to_set": task.words, "state": task.state,
        },
    }  # fmt: skip
    if add:
        data |= {"id": rows[-1]["id"], "name": rows[-1]["name"]}
    if as_json:
        print_json(data)
        return
    for row in rows:
        held = ", in hand" if row["in_hand"] else ""
        print(f"{row['id']}  {row['name']}, {row['family']}, {' '.join(row['strings'])}{held}")
    if task is not None:
        print(f"{task.words}: {task.state}")
