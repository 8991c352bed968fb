"""Shell commands of real ports: devices, roundtrip; and the options that name a device."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.output import print_json, print_lines
from diaulos.cli.rig import JsonFlag
from diaulos.errors import InputError
from diaulos.ids import BENCH

DeviceOption = Annotated[
    str,
    typer.Option("--device", metavar="NAME", help="A device of `diaulos devices`; bench without."),
]
OutOption = Annotated[
    int, typer.Option("--out-channel", min=0, help="Its output, from 1; 0: as the rig numbers it.")
]
InOption = Annotated[
    int, typer.Option("--in-channel", min=0, help="Its input, from 1; 0: as the rig numbers it.")
]
ProgramOption = Annotated[
    list[str] | None,
    typer.Option(
        "--program", metavar="DEVICE=PROGRAM",
        help="The program that a software amplifier is; kept with the rig.",
    ),
]  # fmt: skip


def with_programs(session: Any, rig_id: str, words: list[str] | None) -> Any:
    """The session with a rig's software amplifiers tied as told."""
    if not words:
        return session
    from diaulos import wiring
    from diaulos.session.edits import tie_program
    from diaulos.work.capture.mapping import programs_told

    there = wiring.device_list().look().devices
    sizes = {one.name: (one.inputs, one.outputs) for one in there if one.name != BENCH}
    rig = session.rig(rig_id)
    for port, chosen in programs_told(rig, words, sizes):
        session = tie_program(rig.id, port, chosen, sizes)(session)
    return session


BlockOption = Annotated[
    int,
    typer.Option(
        "--block", metavar="FRAMES", min=0, max=8192,
        help="Of an ALSA device; 0: the usual. A server has its own.",
    ),
]  # fmt: skip
ListenFlag = Annotated[
    bool, typer.Option("--listen", help="Hear an input of --device instead of a file.")
]
SecondsOption = Annotated[
    float | None, typer.Option("--seconds", min=0.5, max=120.0, help="How long it listens.")
]


@contextmanager
def file_or_heard(
    file: Path | None, listen: bool, device: str, channel: int | None, seconds: float
) -> Iterator[tuple[Path, int | None]]:
    """The file that was given, or what an input of a device gives for some seconds; and the
    channel to take of it."""
    if not listen:
        if file is None:
            raise InputError("give a file.", remedy="Or --listen with --device NAME.")
        yield file, channel
        return
    if file is not None:
        raise InputError("a file and --listen exclude each other.", remedy="Give one.")
    if device == BENCH:
        raise InputError(
            "the simulated studio plays rigs, not single inputs.",
            where="--device",
            remedy="Choose a real device (diaulos devices), or record in a session.",
        )
    from diaulos import wiring

    with tempfile.TemporaryDirectory(prefix="diaulos-") as place:
        path = Path(place) / f"{device.replace('/', ' ')}.wav"
        wiring.listen_to(device, (channel or 1) - 1, seconds, path)
        yield path, None


def devices(as_json: JsonFlag = False) -> None:
    """What there is to record from and play to, and what is missing."""
    from diaulos import wiring

    there = wiring.device_list().look()
    rows: list[dict[str, Any]] = [
        {
            "backend": one.backend,
            "device": one.name if one.backend != BENCH else BENCH,
            "inputs": one.inputs,
            "outputs": one.outputs,
            "rate_hz": one.rates_hz[0] if len(one.rates_hz) == 1 else None,
            "block_frames": one.block_frames[0] if len(one.block_frames) == 1 else None,
            "realtime": one.realtime,
            "latency_claimed_s": one.latency_claimed_s,
        }
        for one in there.devices
    ]
    missing = list(there.missing)
    if as_json:
        print_json({"devices": rows, "missing": missing})
        return
    for row in rows:
        told = f"{row['inputs']} in, {row['outputs']} out"
        if row["rate_hz"]:
            told += f", {row['rate_hz']} Hz, {row['block_frames']} frames"
        print_lines([(row["device"], f"{told} ({row['backend']})")])
    for line in missing:
        print(line)


def roundtrip(
    device: Annotated[str, typer.Option("--device", metavar="NAME", help="Of `devices`.")],
    out: Annotated[int, typer.Option("--out", min=1, help="The output, from 1.")] = 1,
    back: Annotated[int, typer.Option("--in", min=1, help="The input, from 1.")] = 1,
    rate_hz: Annotated[int, typer.Option("--rate", help="Of the device; as it runs without.")] = 0,
    block: BlockOption = 0,
    as_json: JsonFlag = False,
) -> None:
    """Measure the way from an output to an input, by a cable between them: a quiet sweep, twice."""
    from diaulos import wiring

    if device == BENCH:
        raise InputError(
            "the simulated studio has no cable to measure.",
            where="--device",
            remedy="Choose a real device (diaulos devices).",
        )
    found = wiring.round_trip_of(device, out, back, rate_hz=rate_hz, block_frames=block)
    data = {
        "device": device,
        "round_trip_samples": round(found.samples, 4),
        "error_samples": round(found.error_samples, 4),
        "claimed_samples": round(found.claimed_samples, 2),
        "round_trip_s": found.samples / found.rate_hz,
        "rate_hz": found.rate_hz,
        "block_frames": found.block_frames,
        "polarity": found.polarity,
        "level_dbfs": found.level_dbfs,
        "reason": None,
    }
    if as_json:
        print_json(data)
        return
    print_lines(
        [
            (
                "round trip",
                f"{found.samples:.2f} samples, {1000 * found.samples / found.rate_hz:.2f} ms",
            ),
            ("error", f"{found.error_samples:.3f} samples"),
            ("claimed", f"{found.claimed_samples:.0f} samples by the driver"),
        ]
    )
