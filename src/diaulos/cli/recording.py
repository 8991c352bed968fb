"""Shell command of takes: record."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import typer

from diaulos.cli.devices import BlockOption, DeviceOption, ProgramOption, with_programs
from diaulos.cli.output import print_json, print_lines
from diaulos.cli.rig import JsonFlag, RigOption, SessionArgument
from diaulos.errors import InputError
from diaulos.ids import BENCH


def _named_tracks(rig: Any, names: Sequence[str]) -> tuple[Any, ...]:
    """Inputs of the planned tracks of these names."""
    there = {one.name: one.port for one in rig.tracks}
    unknown = [name for name in names if name not in there]
    if unknown:
        raise InputError(
            f"{rig.name} has no track {unknown[0]!r}.", where="--track",
            remedy=f"Its tracks: {', '.join(there)}.",
        )  # fmt: skip
    return tuple(there[name] for name in names)


def record(
    session_path: SessionArgument,
    seconds: Annotated[
        float | None, typer.Option("--seconds", min=0.1, help="Length of the take.")
    ] = None,
    bars: Annotated[
        int | None, typer.Option("--bars", min=1, help="Length in bars of the session.")
    ] = None,
    stereo: Annotated[
        Literal["one", "two"],
        typer.Option("--stereo", help="The sides of a stereo output as one track or two."),
    ] = "one",
    count_in: Annotated[
        int, typer.Option("--count-in", min=0, max=8, help="Bars of click ahead of it.")
    ] = 0,
    loop: Annotated[
        int | None,
        typer.Option("--loop", min=1, metavar="BARS", help="The next take begins after so many."),
    ] = None,
    over: Annotated[
        str, typer.Option("--over", metavar="TAKE", help="A take that plays along.")
    ] = "",
    bar_range: Annotated[
        str, typer.Option("--range", metavar="A-B", help="Bars of that take that come round.")
    ] = "",
    copies: Annotated[
        bool,
        typer.Option("--copies", help="That take comes round again, on whole bars, to the end."),
    ] = False,
    punch: Annotated[
        bool, typer.Option("--punch", help="Replace that range; the old take is kept.")
    ] = False,
    pre_roll: Annotated[
        int, typer.Option("--pre-roll", min=0, max=8, help="Bars heard ahead of a punch.")
    ] = 1,
    rig: RigOption = "",
    only: Annotated[
        list[str] | None,
        typer.Option("--track", metavar="NAME", help="Only this track; again for more."),
    ] = None,
    name: Annotated[str, typer.Option("--name", help="Name of the take.")] = "",
    fast: Annotated[
        bool, typer.Option("--fast", help="As fast as it goes; in real time without.")
    ] = False,
    seed: Annotated[
        int | None,
        typer.Option("--seed", min=0, help="Of the players; without, they play what is planned."),
    ] = None,
    chords: Annotated[
        str, typer.Option("--chords", metavar="NAME", help="What the players strum.")
    ] = "",
    device: DeviceOption = BENCH,
    block: BlockOption = 0,
    tied: Annotated[
        list[str] | None,
        typer.Option("--map", metavar="TRACK=CHANNEL", help="An input of the device, from 1."),
    ] = None,
    program: ProgramOption = None,
    round_trip: Annotated[
        float | None,
        typer.Option("--round-trip", metavar="SAMPLES", help="Other than `roundtrip` measured."),
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """Record every armed track of a rig at once: the bench plays its instruments, or a device
    hears them."""
    from diaulos import wiring
    from diaulos.errors import InputError
    from diaulos.rig.excerpt import CHORDS, PLANNED_CHORDS, PLANNED_SEED
    from diaulos.work.capture.mapping import read_map
    from diaulos.work.capture.trips import WayRound
    from diaulos.work.rigs.stored import stored_of
    from diaulos.work.takes.impulses import load_impulses
    from diaulos.work.takes.over import over_bars
    from diaulos.work.takes.planned import check_take
    from diaulos.work.takes.proving import doubt_words, doubts_edit
    from diaulos.work.takes.ready import rig_to_record
    from diaulos.work.takes.recording import RecordRequest, prepare

    if chords and chords not in CHORDS:
        raise InputError(f"unknown chords {chords!r}.", remedy=f"Known are: {', '.join(CHORDS)}.")
    if punch and (seconds is not None or bars is not None):
        raise InputError("a punch is as long as its range.", remedy="Leave the length out.")
    if not punch and (seconds is None) == (bars is None):
        raise InputError("give a length.", remedy="Either --seconds or --bars.")
    if (punch or bar_range) and not over:
        raise InputError("a range belongs to a take.", remedy="Name it with --over.")
    if copies and (not over or bar_range):
        raise InputError(
            "copies are of a take that plays along.", where="--copies",
            remedy="Name it with --over, without --range.",
        )  # fmt: skip
    if punch and not bar_range:
        raise InputError("a punch needs a range.", remedy="Give its bars with --range 5-8.")
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        session = with_programs(session, rig_to_record(session, rig), program)
        tracks = _named_tracks(session.rig(rig_to_record(session, rig)), only or ())
        chosen = over_bars(session, over, bar_range, punch, pre_roll, copies) if over else None
        request = RecordRequest(
            session, rig_to_record(session, rig), seconds=seconds, bars=bars, loop_bars=loop,
            count_in_bars=count_in, name=name, over=chosen, tracks=tracks,
            pairs_apart=stereo == "two",
            way_round=WayRound() if device == BENCH else wiring.way_round_of(device, round_trip),
        )  # fmt: skip
        if device == BENCH:
            backend = wiring.rig_backend(
                paced=not fast,
                seed=PLANNED_SEED if seed is None else seed,
                chords=chords or PLANNED_CHORDS,
                impulses=load_impulses(session, folder),
            )
        else:
            backend = wiring.record_on(device, read_map(tied or []), block)
        recording = prepare(request, folder, backend, wiring.local_now)
        done = recording.run()
        after = done.edit(session)
        folder.save(after)
        for take in done.takes:
            folder.forget_recording(take.id)
        doubts = _proved(after, done.takes, folder)
        for take in done.takes:
            if doubts[take.id]:
                after = doubts_edit(take, doubts[take.id])(after)
                folder.save(after)
    finally:
        folder.close()
    data = _data(done.take, session.sample_rate_hz, str(folder.path))
    checked = check_take(after, done.take, stored_of(session, folder))
    data["off_plan"] = checked.words or None
    same = _same_sides(after, done.take, folder)
    data["same_sides"] = [list(pair) for pair in same]
    doubtful = doubts[done.take.id]
    data["doubts"] = [one.model_dump(mode="json") for one in doubtful]
    data["rounds"] = [one.id for one in done.takes]
    data["reason"] = str(done.result.stopped_by) if done.result.stopped_by else None
    if as_json:
        print_json(data)
        return
    print(done.words)
    for track in data["tracks"]:
        clipped = f", {track['clips']} clips" if track["clips"] else ""
        planned = track["planned_peak_dbfs"]
        told = "" if planned is None else f", planned {planned:.1f}"
        print_lines([(track["name"], f"peak {track['peak_dbfs']:.1f} dBFS{told}{clipped}")])
    if checked.words:
        print(checked.words)
    for one in doubtful:
        print(f"{doubt_words([one])} {one.remedy}")
    for left, right in same:
        print(f"{left} and {right} are the same: one of them is enough.")


def _proved(session: Any, takes: Any, folder: Any) -> dict[str, Any]:
    """What is doubtful of each take."""
    from diaulos.work.rigs.stored import stored_of
    from diaulos.work.takes.impulses import load_impulses
    from diaulos.work.takes.proving import prove_take, proving_of

    stored, impulses = stored_of(session, folder), load_impulses(session, folder)
    found: dict[str, Any] = {}
    for take in takes:
        if take not in (takes[0], takes[-1]):
            found[take.id] = ()  # of many rounds the first and the last
            continue
        proving = proving_of(session, take, stored, impulses)
        found[take.id] = () if proving is None else prove_take(proving, take, folder)
    return found


def _same_sides(session: Any, take: Any, folder: Any) -> tuple[tuple[str, str], ...]:
    """The two sides of an output that hold the same."""
    from diaulos.work.takes.proving import proving_of
    from diaulos.work.takes.sides import same_sides

    proving = proving_of(session, take)
    return same_sides(proving, folder) if proving is not None else ()


def _data(take: Any, rate_hz: int, path: str) -> dict[str, Any]:
    frames = take.tracks[0].frames
    return {
        "session": path,
        "take": take.id,
        "name": take.name,
        "frames": frames,
        "seconds": round(frames / rate_hz, 6),
        "over": take.over or None,
        "over_frame": take.over_frame,
        "over_round": take.over_round,
        "pairs_apart": take.pairs_apart,
        "punched": list(take.punched) if take.punched else None,
        "xruns": take.xruns,
        "dropouts": [{"frame": one.frame, "frames": one.frames} for one in take.dropouts],
        "tracks": [
            {
                "id": track.id,
                "name": track.name,
                "tap": track.tap,
                "side": track.side or None,
                "pair": track.pair or None,
                "file": track.file,
                "peak_dbfs": round(track.peak_dbfs, 3),
                "planned_peak_dbfs": track.planned_dbfs,
                "difference_db": track.difference_db,
                "loudness_lufs": track.loudness_lufs,
                "quietest_dbfs": (
                    None if track.quietest_dbfs is None else round(track.quietest_dbfs, 2)
                ),
                "clips": len(track.clips),
                "clipped_samples": track.clipped_samples,
                "full_scale_dbu": track.full_scale_dbu,
            }
            for track in take.tracks
        ],
    }
