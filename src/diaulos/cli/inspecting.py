"""Shell commands that look at a file: measure, tune, noise."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.devices import (
    DeviceOption,
    ListenFlag,
    SecondsOption,
    file_or_heard,
)
from diaulos.cli.output import print_json, print_lines
from diaulos.cli.rig import JsonFlag
from diaulos.ids import BENCH

FileArgument = Annotated[Path, typer.Argument(metavar="FILE.wav")]
MaybeFile = Annotated[Path | None, typer.Argument(metavar="FILE.wav")]


def measure(file: FileArgument, as_json: JsonFlag = False) -> None:
    """Levels and faults of every channel, and how two channels go together."""
    from diaulos import wiring
    from diaulos.work.takes.inspecting import measure_data, measure_file

    source = wiring.ExternalAudio().open(file)
    data = {"file": str(file), **measure_data(measure_file(source), source.rate_hz)}
    if as_json:
        print_json(data)
        return
    print(f"{file.name}: {data['frames']} frames at {data['rate_hz']} Hz")
    for number, one in enumerate(data["channels"], start=1):
        print(f"\nchannel {number}")
        print_lines(
            [
                ("    peak", _level(one["peak_dbfs"], "dBFS")),
                ("    true peak", _level(one["true_peak_dbtp"], "dBTP")),
                ("    RMS", _level(one["rms_dbfs"], "dBFS (AES17)")),
                ("    loudness", _level(one["lufs"], "LUFS")),
                ("    DC", f"{one['dc_offset']:+.6f}"),
                ("    full scale", f"{one['full_scale_samples']} samples, "
                                   f"{one['full_scale_runs']} runs"),
                ("    flat tops", str(one["flat_tops"])),
                ("    dropouts", str(one["dropouts"])),
            ]
        )  # fmt: skip
    if data["pair"]:
        late = data["pair_delay_samples"]
        by = f" by {late:.2f} samples" if data["pair"] == "late" else ""
        print(f"\nthe two channels: {data['pair']}{by}")
    for one in data["leaks"]:
        if one["leak_db"] is not None:
            turned = ", turned over" if one["polarity"] < 0 else ""
            words = f"{one['leak_db']:.1f} dB (at most {one['at_most_db']:.1f}){turned}"
        elif one["at_most_db"] is not None:
            words = f"none told; it would lie below {one['at_most_db']:.1f} dB"
        else:
            words = f"not told: {one['reason']}"
        print(f"channel {one['of']} in channel {one['into']}: {words}")


def _level(value: float | None, unit: str) -> str:
    return "silence" if value is None else f"{value:.2f} {unit}"


def _mono(file: Path, channel: int | None) -> tuple[Any, int]:
    from diaulos import wiring
    from diaulos.work.blocks import one_channel
    from diaulos.work.measuring import read_mono

    source = wiring.ExternalAudio().open(file)
    at = one_channel(source, channel, str(file))
    return read_mono(source, channel=at, count=min(source.frames, 600 * source.rate_hz)), (
        source.rate_hz
    )


def tune(
    file: MaybeFile = None,
    tuning: Annotated[
        str, typer.Option("--tuning", metavar="NAME", help="Against the strings of a tuning.")
    ] = "",
    a4_hz: Annotated[float, typer.Option("--a4", min=380.0, max=500.0)] = 440.0,
    channel: Annotated[int | None, typer.Option("--channel", min=1)] = None,
    listen: ListenFlag = False,
    device: DeviceOption = BENCH,
    seconds: SecondsOption = None,
    as_json: JsonFlag = False,
) -> None:
    """The pitch of a plucked string, on its first partial, 0.3 to 1 s after the pluck."""
    from diaulos.work.instruments.file_tuning import tune as tuned
    from diaulos.work.instruments.file_tuning import tuning_named

    with file_or_heard(file, listen, device, channel, seconds or 3.0) as (path, one):
        samples, rate = _mono(path, one)
    found = tuned(samples, rate, tuning_named(tuning) if tuning else (), a4_hz)
    data = {
        "hz": round(found.pitch.hz, 4),
        "note": found.note,
        "wanted_hz": round(found.wanted_hz, 4),
        "cents": round(found.cents, 3),
        "confidence": round(found.pitch.confidence, 4),
    }
    if as_json:
        print_json(data)
    else:
        print(f"{found.note}  {found.cents:+.1f} cents  ({found.pitch.hz:.2f} Hz)")


def noise(
    file: MaybeFile = None,
    compare: Annotated[
        Path | None, typer.Option("--compare", metavar="OTHER.wav", help="Another attempt.")
    ] = None,
    channel: Annotated[int | None, typer.Option("--channel", min=1)] = None,
    listen: ListenFlag = False,
    device: DeviceOption = BENCH,
    seconds: SecondsOption = None,
    as_json: JsonFlag = False,
) -> None:
    """Hum, bus tones and hiss of a silence, or of the quiet spans of a recording."""
    from diaulos.signal.hum import analyse_noise, compare_noise
    from diaulos.work.takes.inspecting import change_data, noise_data

    with file_or_heard(file, listen, device, channel, seconds or 5.0) as (path, one):
        first = analyse_noise(*_mono(path, one))
    data: dict[str, Any] = noise_data(first)
    if compare is not None:
        other = analyse_noise(*_mono(compare, channel))
        data["compared"] = noise_data(other)
        data["change"] = change_data(compare_noise(first, other))
    if as_json:
        print_json(data)
        return
    _print_noise(path.name, data)
    if compare is not None:
        _print_noise(compare.name, data["compared"])
        print("\nchange, dB (negative is quieter)")
        rows = []
        for key, value in data["change"].items():
            words = "none" if value is None else f"{value:+.1f}"
            rows.append((f"    {key.removesuffix('_db')}", words))
        print_lines(rows)


def _print_noise(name: str, data: dict[str, Any]) -> None:
    print(
        f"{name}: floor {data['floor_dbfs']:.1f} dBFS, A-weighted {data['floor_a_dbfs']:.1f} dBFS"
    )
    if data["mains_hz"] is None:
        print(f"    no hum: {data['reason']}")
    else:
        print(f"    hum of {data['mains_hz']:.2f} Hz mains")
    for tone in (*data["hum"], *data["bus_tones"]):
        print(f"    {tone['hz']:9.2f} Hz  {tone['dbfs']:7.1f} dBFS")
    if data["processor"]:
        print(f"    noise of a processor: {data['processor']}")
