"""Shell commands that compare: what differs, blind tests, low cuts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from diaulos.cli.output import EXIT_REFUSED, print_json, print_lines, told_progress
from diaulos.cli.rig import JsonFlag
from diaulos.errors import InputError
from diaulos.figures import counted

MOST_CANDIDATES = 9
ChannelNumber = Annotated[
    int | None, typer.Option("--channel", min=1, help="Of files with several.")
]


def compare(
    files: Annotated[
        list[Path], typer.Argument(metavar="A.wav B.wav...", help="The first is the reference.")
    ],
    channel: ChannelNumber = None,
    quick: Annotated[
        bool, typer.Option("--quick", help="Delay, level and mono sums only.")
    ] = False,
    as_json: JsonFlag = False,
) -> None:
    """What differs between recordings, and whether they may be stacked."""
    from diaulos import wiring
    from diaulos.work.compare.candidates import as_monitored, side_of_file
    from diaulos.work.compare.data import pair_data
    from diaulos.work.compare.pairs import compare_pair
    from diaulos.work.ports import CancelToken

    if not 2 <= len(files) <= MOST_CANDIDATES:
        raise InputError(
            f"two to {MOST_CANDIDATES} recordings are compared, not {len(files)}.",
            remedy="Name the reference first, then what is held against it.",
        )
    audio = wiring.ExternalAudio()
    sources = [audio.open(path) for path in files]
    rate = sources[0].rate_hz
    sides = as_monitored(
        [
            side_of_file(path.name, source, rate, wiring.resample_whole, channel)
            for path, source in zip(files, sources, strict=True)
        ]
    )
    pairs = []
    with told_progress("Comparing", as_json) as progress:
        for number, side in enumerate(sides[1:]):
            progress(number / (len(sides) - 1), side.name)
            pairs.append(compare_pair(sides[0], side, CancelToken(), split=not quick))
    rows = [pair_data(pair) for pair in pairs]
    # What has no common time is still summed and told; of silence there is nothing to tell.
    refused = all(row["mono_sum_db"] is None for row in rows)
    if as_json:
        print_json({"reference": str(files[0]), "pairs": rows,
                    "reason": rows[0]["reason"] if refused else None})  # fmt: skip
    else:
        for row in rows:
            _print_pair(row)
    if refused:
        raise typer.Exit(EXIT_REFUSED)


def _print_pair(row: dict[str, Any]) -> None:
    print(f"\n{row['b']} against {row['a']}: {row['words']}")
    lines = [("    verdict", row["verdict_words"])]
    if row["delay_samples"] is not None:
        polarity = "normal" if row["polarity"] > 0 else "inverted"
        lines += [
            ("    delay", f"{row['delay_samples']:.3f} samples ({row['delay_ms']:.4f} ms)"),
            ("    polarity", polarity),
        ]
    if row["louder_db"] is not None:
        lines.append(("    loudness", f"{row['louder_db']:+.2f} LU"))
    if row["null_db"] is not None:
        lines.append(("    null", f"{row['null_db']:.1f} dB"))
    if row["null_after_filter_db"] is not None:
        lines.append(("    null behind a filter", f"{row['null_after_filter_db']:.1f} dB"))
    if row["split"] is not None:
        for key, name in (
            ("time_share_db", "time and polarity"), ("level_share_db", "level"),
            ("tone_share_db", "tone"), ("rest_db", "rest"),
        ):  # fmt: skip
            value = row["split"][key]
            lines.append((f"    {name}", "none" if value is None else f"{value:.1f} dB"))
    if row["mono_sum_db"] is not None:
        lines.append(("    mono sum", f"{row['mono_sum_db']:+.2f} dB as found"))
    if row["mono_sum_aligned_db"] is not None:
        lines.append(("    in time", f"{row['mono_sum_aligned_db']:+.2f} dB"))
    if row["correlation"] is not None:
        lines.append(("    correlation", f"{row['correlation']:+.3f}"))
        lines.append(("    side over mid", f"{row['side_mid_db']:+.1f} dB when panned"))
    print_lines(lines)


def blind(
    trials: Annotated[int, typer.Option("--trials", metavar="N", help="Answered trials.")],
    right: Annotated[
        int,
        typer.Option("--right", metavar="K", help="Right answers (or preferred the first)."),
    ],
    kind: Annotated[str, typer.Option("--kind", metavar="abx|preference")] = "abx",
    as_json: JsonFlag = False,
) -> None:
    """What the answers of a blind test say."""
    from diaulos.signal.blind import judge
    from diaulos.work.compare.answers import answer_words
    from diaulos.work.compare.data import blind_data

    if kind not in ("abx", "preference"):
        raise InputError(f"there is no kind {kind!r}.", remedy="abx or preference.")
    result = judge(trials, right, "preference" if kind == "preference" else "abx")
    words = answer_words(result)
    if as_json:
        print_json({**blind_data(result), "words": words})
        return
    print(words)
    low, high = result.interval
    print_lines(
        [
            ("p-value", f"{result.p_value:.4f}"),
            ("right, 95 %", f"{100 * low:.0f} to {100 * high:.0f} %"),
            ("needed", "more trials" if result.needed is None else f"{result.needed} of {trials}"),
            *(
                (f"finds {100 * one.rate:.0f} % right", f"with {100 * one.power:.0f} %")
                for one in result.power_at
            ),
            ("stop when you like", f"odds {result.sequential.odds:.1f} of 20 needed"),
        ]
    )


def lowcut(
    tuning: Annotated[str, typer.Option("--tuning", metavar="NAME", help="Name of a tuning.")],
    part: Annotated[
        str, typer.Option("--part", metavar="NAME", help="rhythm, riff, bass, lead, solo, high ...")
    ] = "",
    a4_hz: Annotated[float, typer.Option("--a4", min=380.0, max=500.0)] = 440.0,
    corner_hz: Annotated[
        float | None, typer.Option("--corner", min=15.0, max=400.0, help="Instead of a proposal.")
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """Where a low cut may lie for a tuning, and what it costs every open string."""
    from diaulos.signal.lowcut import ORDER
    from diaulos.work.compare.cutting import propose_low_cut

    found = propose_low_cut(tuning, part, a4_hz, corner_hz)
    data = {
        "tuning": found.tuning.id,
        "part": found.part or None,
        "lowest": found.lowest,
        "corner_hz": found.corner_hz,
        "order": ORDER,
        "strings": [
            {"note": one.note, "hz": round(one.hz, 4), "loss_db": round(one.loss_db, 4)}
            for one in found.strings
        ],
    }
    if as_json:
        print_json(data)
        return
    print(f"{found.tuning.words}: low cut at {found.corner_hz:g} Hz, 12 dB an octave")
    print_lines(
        [(f"    {one.note}", f"{one.hz:7.2f} Hz  {one.loss_db:5.2f} dB less")
         for one in found.strings]
    )  # fmt: skip


def double(
    files: Annotated[
        list[Path], typer.Argument(metavar="A.wav [B.wav]", help="Two players of one part.")
    ],
    tempo_bpm: Annotated[
        float | None,
        typer.Option("--tempo", metavar="BPM", min=20.0, max=400.0, help="A against a click."),
    ] = None,
    division: Annotated[
        int, typer.Option("--division", metavar="N", min=1, max=64, help="Of a whole note.")
    ] = 8,
    first_s: Annotated[
        float, typer.Option("--first", metavar="S", help="Where the click begins.")
    ] = 0.0,
    channel: ChannelNumber = None,
    as_json: JsonFlag = False,
) -> None:
    """How far apart two players of one part begin, or one against a click."""
    from diaulos import wiring
    from diaulos.work.compare.candidates import as_monitored, side_of_file
    from diaulos.work.compare.doubling import (
        click_data,
        compare_doubled,
        compare_with_click,
        double_data,
    )

    wanted = 1 if tempo_bpm is not None else 2
    if len(files) != wanted:
        raise InputError(
            f"{wanted} recording{'s' if wanted > 1 else ''} asked for, {len(files)} given.",
            remedy="Give two players of one part, or one and --tempo BPM.",
        )
    audio = wiring.ExternalAudio()
    sources = [audio.open(path) for path in files]
    rate = sources[0].rate_hz
    sides = as_monitored(
        [
            side_of_file(path.name, source, rate, wiring.resample_whole, channel)
            for path, source in zip(files, sources, strict=True)
        ]
    )
    if tempo_bpm is not None:
        data = click_data(*compare_with_click(sides[0], tempo_bpm, division, first_s))
    else:
        data = double_data(compare_doubled(sides[0], sides[1]))
    if as_json:
        print_json(data)
        return
    print(data["words"])
    if data["unsure_s"]:
        print(f"{counted(len(data['unsure_s']), 'onset')} not told for sure.")
    print_lines(
        [(f"    {one['at_s']:9.3f} s", f"{one['late_ms']:+7.1f} ms") for one in data["onsets"]]
    )
