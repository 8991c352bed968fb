"""Shell command of takes: record."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json, print_lines
from diaulos.cli.rig import JsonFlag, RigOption, SessionArgument


def record(
    session_path: SessionArgument,
    seconds: Annotated[
        float | None, typer.Option("--seconds", min=0.1, help="Length of the take.")
    ] = None,
    bars: Annotated[
        int | None, typer.Option("--bars", min=1, help="Length in bars of the session.")
    ] = None,
    count_in: Annotated[
        int, typer.Option("--count-in", min=0, max=8, help="Bars of click ahead of it.")
    ] = 0,
    rig: RigOption = "",
    name: Annotated[str, typer.Option("--name", help="Name of the take.")] = "",
    fast: Annotated[
        bool, typer.Option("--fast", help="As fast as it goes; in real time without.")
    ] = False,
    seed: Annotated[int, typer.Option("--seed", min=0, help="Seed of the players.")] = 1,
    as_json: JsonFlag = False,
) -> None:
    """Record every armed track of a rig at once: the bench plays its instruments."""
    from diaulos import wiring
    from diaulos.errors import InputError
    from diaulos.work.recording.takes import RecordRequest, prepare

    if (seconds is None) == (bars is None):
        raise InputError("give a length.", remedy="Either --seconds or --bars.")
    folder = wiring.SessionFolder.open(session_path)
    try:
        session = folder.load()
        request = RecordRequest(
            session, rig, seconds=seconds, bars=bars, count_in_bars=count_in, name=name
        )
        backend = wiring.rig_backend(paced=not fast, seed=seed)
        recording = prepare(request, folder, backend, wiring.local_now)
        done = recording.run()
        folder.save(done.edit(session))
        folder.forget_recording(done.take.id)
    finally:
        folder.close()
    data = _data(done.take, session.sample_rate_hz, str(folder.path))
    data["reason"] = str(done.result.stopped_by) if done.result.stopped_by else None
    if as_json:
        print_json(data)
        return
    print(done.words)
    for track in data["tracks"]:
        clipped = f", {track['clips']} clips" if track["clips"] else ""
        print_lines([(track["name"], f"peak {track['peak_dbfs']:.1f} dBFS{clipped}")])


def _data(take: Any, rate_hz: int, path: str) -> dict[str, Any]:
    frames = take.tracks[0].frames
    return {
        "session": path,
        "take": take.id,
        "name": take.name,
        "frames": frames,
        "seconds": round(frames / rate_hz, 6),
        "xruns": take.xruns,
        "dropouts": [{"frame": one.frame, "frames": one.frames} for one in take.dropouts],
        "tracks": [
            {
                "id": track.id,
                "name": track.name,
                "tap": track.tap,
                "file": track.file,
                "peak_dbfs": round(track.peak_dbfs, 3),
                "loudness_lufs": track.loudness_lufs,
                "clips": len(track.clips),
                "clipped_samples": track.clipped_samples,
                "full_scale_dbu": track.full_scale_dbu,
            }
            for track in take.tracks
        ],
    }
