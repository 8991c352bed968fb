"""Measured responses as a file, and what they tell of a pickup, a cable, an input, an output."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from diaulos.circuit.identify import NAMES, Common, Identified, Response, identify
from diaulos.circuit.known_resistor import behind_resistor, source_impedance
from diaulos.errors import EditError, InputError
from diaulos.quantities import CAPACITANCE, INDUCTANCE, RESISTANCE, Quantity, show
from diaulos.session.edits import Edit, change_instrument
from diaulos.session.instrument import CoilValues, Instrument

MOST_BYTES = 8 << 20
Kind = Literal["pickup", "cable", "input", "output"]
WORDS = {
    "inductance_h": ("Inductance", INDUCTANCE), "resistance_ohm": ("Resistance", RESISTANCE),
    "capacitance_f": ("Capacitance", CAPACITANCE),
    "eddy_ohm": ("Eddy-current resistance", RESISTANCE),
    "volume_pot_ohm": ("Volume pot", RESISTANCE), "tone_pot_ohm": ("Tone pot", RESISTANCE),
}  # fmt: skip
Numbers = Annotated[tuple[float, ...], Field(min_length=1, max_length=20_000)]


class _Lenient(BaseModel):
    """Measurements of strangers: what is not known here is passed over, not refused."""

    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)


class MeasuredLoad(_Lenient):
    """A response into one load: levels in dB at Hz. `load_ohm` null: nothing loads."""

    name: str = Field(default="", max_length=200)
    load_ohm: float | None = Field(default=None, gt=0.0, le=1e12)
    load_pf: float = Field(default=0.0, ge=0.0, le=1e8)
    hz: Numbers
    db: Numbers


class ResponsesFile(_Lenient):
    """The file. `series_ohm` is the known resistor of a cable or an input: `loads[0]` is without
    it, `loads[1]` with it."""

    kind: Kind = "pickup"
    common: Common = "level"
    loads: Annotated[tuple[MeasuredLoad, ...], Field(min_length=1, max_length=12)]
    resistance_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    series_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    source_ohm: float = Field(default=0.0, ge=0.0, le=1e7)
    input_pf: float = Field(default=0.0, ge=0.0, le=1e8)
    """What the input adds to a cable, where it is known."""


def read_responses(path: Path) -> ResponsesFile:
    """The file's responses.

    Raises InputError that names the field; a file over 8 MB is not read.
    """
    try:
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise InputError(
            f"it cannot be read ({error.strerror}).", where=path.name,
            remedy="Choose another file.",
        ) from error  # fmt: skip
    if len(data) > MOST_BYTES:
        raise InputError("it is far too long for responses.", where=path.name)
    try:
        return ResponsesFile.model_validate_json(data)
    except ValidationError as error:
        first = error.errors(include_input=False, include_url=False)[0]
        field = ".".join(str(place) for place in first["loc"])
        raise InputError(
            f"{field}: {first['msg']}." if field else f"{first['msg']}.", where=path.name,
            remedy="Responses are described in docs/cli.md, identify.",
        ) from error  # fmt: skip


def responses_of(file: ResponsesFile) -> tuple[Response, ...]:
    """Of every load."""
    return tuple(
        Response(
            math.inf if one.load_ohm is None else one.load_ohm, one.load_pf * 1e-12,
            np.array(one.hz), np.array(one.db), one.name,
        )
        for one in file.loads
    )  # fmt: skip


def pickup_data(found: Identified, common: Common) -> dict[str, Any]:
    """What was found, as the shell prints it: null where it was not told."""
    data: dict[str, Any] = {"kind": "pickup", "common": common}
    for name in NAMES:
        told = found.told.get(name)
        data[name] = told.value if told is not None else None
        data[f"{name}_error"] = told.error if told is not None else None
    data["resonance_hz"] = [one.value if one else None for one in found.resonance_hz]
    data["resonance_hz_error"] = [one.error if one else None for one in found.resonance_hz]
    data["fit_db"] = found.fit_db
    data["untold"] = dict(found.untold)
    data["reason"] = found.reason
    return data


def identified(file: ResponsesFile) -> dict[str, Any]:
    """Everything that a file tells."""
    responses = responses_of(file)
    if file.kind == "pickup":
        return pickup_data(identify(responses, file.common, file.resistance_ohm), file.common)
    if len(responses) != 2:
        raise InputError(
            f"{len(responses)} levels.", where="loads",
            remedy="Give two: without the resistor (or into the lighter load) first.",
        )  # fmt: skip
    first, second = responses
    if first.hz.size != second.hz.size or not np.allclose(first.hz, second.hz, rtol=1e-6):
        raise InputError("both need the same frequencies.", where="loads[1].hz")
    for at, one in enumerate(responses):
        if one.hz.size != one.db.size:
            raise InputError(
                f"{one.hz.size} frequencies and {one.db.size} levels.", where=f"loads[{at}]"
            )
    if file.kind == "output":
        out = source_impedance(first.load_ohm, first.db, second.load_ohm, second.db)
        return {"kind": "output", "source_ohm": out.ohm, "source_ohm_error": out.ohm_error,
                "reason": None}  # fmt: skip
    if file.series_ohm is None:
        raise InputError("the resistor is missing.", where="series_ohm",
                         remedy="Give series_ohm, as read from it or from a meter.")  # fmt: skip
    found = behind_resistor(file.series_ohm, first.hz, first.db - second.db, file.source_ohm)
    farad = found.farad
    if farad is not None and file.kind == "cable":
        farad -= file.input_pf * 1e-12
    return {
        "kind": file.kind, "input_ohm": found.ohm, "input_ohm_error": found.ohm_error,
        "capacitance_f": farad, "capacitance_f_error": found.farad_error,
        "fit_db": found.fit_db, "reason": found.reason,
    }  # fmt: skip


def found_edit(instrument: Instrument, found: Identified) -> tuple[Edit, str]:
    """What takes found values over into the pickup of the chosen position, and a word on how the
    capacitance was shared out.

    EditError where inductance or capacitance was not told, or the position is none of one coil.
    """
    position = instrument.position
    if position is None or len(position.pickups) != 1:
        raise EditError("Choose a selector position with one pickup to take values over.")
    pickup = instrument.pickup(position.pickups[0])
    if not isinstance(pickup.values, CoilValues):
        raise EditError("Only a magnetic pickup without a preamp has such values.")
    told = found.told
    if "inductance_h" not in told or "capacitance_f" not in told:
        raise EditError("Inductance and capacitance were not told.")
    cable_pf = instrument.cable_m * instrument.cable_pf_per_m
    winding = 1e12 * told["capacitance_f"].value - cable_pf
    words = (
        f"Winding and cable are told as a sum: {cable_pf:.0f} pF are this instrument's cable, "
        f"{max(0.0, winding):.0f} pF the winding."
    )
    if winding < 0.0:
        words = (
            f"Winding and cable together have less than the {cable_pf:.0f} pF that this cable is "
            "said to have: measure the cable."
        )
    old = pickup.values
    values = CoilValues(
        inductance_h=told["inductance_h"].value,
        resistance_ohm=told["resistance_ohm"].value if "resistance_ohm" in told
        else old.resistance_ohm,
        winding_pf=max(0.0, winding),
        eddy_ohm=told["eddy_ohm"].value if "eddy_ohm" in told else old.eddy_ohm,
    )  # fmt: skip
    new = pickup.model_copy(update={"values": values, "measured": True})
    pickups = tuple(new if one.id == new.id else one for one in instrument.pickups)
    pots = {
        field: told[name].value
        for name, field in (("volume_pot_ohm", "volume_ohm"), ("tone_pot_ohm", "tone_ohm"))
        if name in told
    }
    controls = instrument.controls.model_copy(update=pots)
    label = f"Measured values of {pickup.name}"
    return change_instrument(instrument.id, label, pickups=pickups, controls=controls), words


def told_lines(data: dict[str, Any]) -> list[tuple[str, str]]:
    """For a person: name, and value with its error."""
    lines = []
    words: dict[str, tuple[str, Quantity]] = {
        **WORDS, "input_ohm": ("Input", RESISTANCE), "source_ohm": ("Source", RESISTANCE),
    }  # fmt: skip
    for name, (title, quantity) in words.items():
        if name not in data:
            continue
        if data["kind"] in ("cable", "input") and name == "capacitance_f":
            title = "Cable" if data["kind"] == "cable" else "Input capacitance"
        lines.append((title, with_error(data[name], data.get(f"{name}_error"), quantity)))
    return lines


def with_error(value: float | None, error: float | None, quantity: Quantity) -> str:
    """`4.523 ± 0.051 H`: as many digits as the error has a use for; a dash where nobody can
    tell."""
    if value is None or error is None:
        return "\N{EN DASH}"
    figure, unit = show(value, quantity, 12).split(" ", 1)
    told = f"{error * float(figure) / value:.2g}"
    if "e" in told:
        told = f"{float(told):.0f}"
    places = len(told.partition(".")[2])
    return f"{float(figure):.{places}f} \N{PLUS-MINUS SIGN} {told} {unit}"
