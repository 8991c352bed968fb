"""Shell command that tells a pickup, a cable, an input or an output by measured responses."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from diaulos.cli.output import EXIT_REFUSED, print_json, print_lines


def identify(
    file: Annotated[Path, typer.Argument(metavar="FILE.json")],
    common: Annotated[
        str,
        typer.Option("--common", metavar="level|slope|curve|each",
                     help="What the responses share besides the circuit; else as the file says."),
    ] = "",
    resistance_ohm: Annotated[
        float, typer.Option("--resistance", metavar="OHM", help="As read from a meter.")
    ] = 0.0,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:  # fmt: skip
    """What a pickup is made of, by its responses into known loads."""
    from diaulos.circuit.identify import COMMONS
    from diaulos.errors import InputError
    from diaulos.figures import number
    from diaulos.work.instruments.identifying import identified, read_responses, told_lines

    responses = read_responses(file)
    if common:
        if common not in COMMONS:
            raise InputError(f"there is no common {common!r}.", where="--common",
                             remedy=f"One of {', '.join(COMMONS)}.")  # fmt: skip
        responses = responses.model_copy(update={"common": common})
    if resistance_ohm:
        responses = responses.model_copy(update={"resistance_ohm": resistance_ohm})
    data = identified(responses)
    values = [
        value
        for key, value in data.items()
        if key in ("inductance_h", "capacitance_f", "input_ohm", "source_ohm")
    ]
    if as_json:
        print_json({"file": str(file), **data})
    else:
        lines = told_lines(data)
        if "fit_db" in data:
            lines.append(("Fit", f"{number(data['fit_db'], 3)} dB"))
        print_lines(lines)
        if data["reason"]:
            print(data["reason"])
    if all(value is None for value in values):
        raise typer.Exit(EXIT_REFUSED)
