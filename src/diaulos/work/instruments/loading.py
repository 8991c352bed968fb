"""Loading of circuits described in a file: the shell's `loading`.

The form of a file is {"cases": [{"id": ..., "circuit": {...}}]}, in henry, farad and ohm:

| kind | fields |
| --- | --- |
| inductive | L, Rdc, Cw, R_eddy, two_pickups (parallel, series), and the controls |
| active | Rs, and the controls |
| piezo | Cs |

Controls: Rvol, volume_k (electrical wiper ratio), Rtone, Ctone, tone_fraction, tone_at (hot,
wiper), bleed_C, bleed_R, bleed_topology (parallel, series). Cable and input: cable_m,
cable_F_per_m, Rin, Cin, and a second_load of the same three.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from diaulos.circuit.loading import (
    Load,
    analyse,
    corner,
    curves_db,
    level_db,
    log_grid,
    low_corner,
    noise_density_v2,
    noise_v,
    resonance,
)
from diaulos.circuit.pickup import Active, Coil, Controls, InstrumentCircuit, Magnetic, Piezo
from diaulos.errors import InputError
from diaulos.quantities import (
    CAPACITANCE,
    INDUCTANCE,
    LENGTH,
    RESISTANCE,
    Quantity,
    check,
)
from diaulos.records import dataclass
from diaulos.tables import csv_text
from diaulos.units import gain_to_db, volt_to_dbu

MAX_FILE_BYTES = 8 * 1024 * 1024


CURVE_POINTS = 241


_RATIO = Quantity("ratio", "", "", 0.0, 1.0, allow_zero=True)


_PER_METRE = Quantity("capacitance per metre", "F", "pF", 1e-13, 1e-7, allow_zero=True)


_FIELDS = {
    "L": INDUCTANCE, "Rdc": RESISTANCE, "Cw": CAPACITANCE, "R_eddy": RESISTANCE,
    "Rs": RESISTANCE, "Cs": CAPACITANCE, "Rvol": RESISTANCE, "volume_k": _RATIO,
    "Rtone": RESISTANCE, "Ctone": CAPACITANCE, "tone_fraction": _RATIO,
    "bleed_C": CAPACITANCE, "bleed_R": RESISTANCE, "cable_m": LENGTH,
    "cable_F_per_m": _PER_METRE, "Rin": RESISTANCE, "Cin": CAPACITANCE,
}  # fmt: skip


_WORDS = {
    "kind": ("inductive", "active", "piezo"), "two_pickups": ("parallel", "series"),
    "tone_at": ("hot", "wiper"), "bleed_topology": ("parallel", "series"),
}  # fmt: skip


@dataclass(frozen=True)
class LoadingCase:
    """One circuit of a file."""

    ident: str
    circuit: InstrumentCircuit
    load: Load
    kind: str


def read_cases(path: Path) -> list[LoadingCase]:
    """The circuits of a file; InputError names the case and the field that is wrong."""
    try:
        if path.stat().st_size > MAX_FILE_BYTES:
            raise InputError("it is too large for a list of circuits.", where=str(path))
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise InputError(
            f"it cannot be read ({error.strerror}).", where=str(path), remedy="Check the name."
        ) from error
    except ValueError as error:
        raise InputError(
            "it is not JSON.", where=str(path), remedy='It holds {"cases": [...]}.'
        ) from error
    cases = data.get("cases") if isinstance(data, dict) else None
    if not isinstance(cases, list) or not cases:
        raise InputError('it holds no list "cases".', where=str(path))
    return [_case(entry, number, path) for number, entry in enumerate(cases)]


def _case(entry: Any, number: int, path: Path) -> LoadingCase:
    ident = entry.get("id") if isinstance(entry, dict) else None
    where = f"{path.name}, case {ident or number}"
    if not isinstance(entry, dict) or not isinstance(entry.get("circuit"), dict):
        raise InputError("it has no circuit.", where=where)
    circuit, load = circuit_of(entry["circuit"], where)
    return LoadingCase(str(ident or number), circuit, load, str(entry["circuit"]["kind"]))


def circuit_of(values: dict[str, Any], where: str) -> tuple[InstrumentCircuit, Load]:
    """An instrument and its load from a file's fields."""
    kind = values.get("kind")
    known = {*_FIELDS, *_WORDS, "second_load"}
    for name, value in values.items():
        if name not in known:
            raise InputError(f"the field {name!r} is not known.", where=where)
        if name in _WORDS and value not in _WORDS[name]:
            words = ", ".join(_WORDS[name])
            raise InputError(f"{name} is {value!r}; it can be {words}.", where=where)

    def get(name: str, default: float | None = None, inside: dict[str, Any] = values) -> float:
        if name not in inside and default is not None:
            return default
        if isinstance(inside.get(name), bool) or not isinstance(inside.get(name), (int, float)):
            raise InputError(f"{name} is missing or not a number.", where=where)
        try:
            return check(float(inside[name]), _FIELDS[name])
        except InputError as error:
            raise InputError(f"{name}: {error.what}", where=where, remedy=error.remedy) from error

    def optional(name: str) -> float | None:
        return get(name) if values.get(name) is not None else None

    controls = Controls(
        volume_ohm=optional("Rvol"),
        volume_ratio=get("volume_k", 1.0),
        tone_ohm=optional("Rtone"),
        tone_f=get("Ctone", 0.0),
        tone_fraction=get("tone_fraction", 1.0),
        tone_at=values.get("tone_at", "hot"),
        bleed_f=get("bleed_C", 0.0),
        bleed_ohm=optional("bleed_R"),
        bleed_topology=values.get("bleed_topology", "parallel"),
    )
    circuit: InstrumentCircuit
    if kind == "inductive":
        coil = Coil(get("L"), get("Rdc"), get("Cw"), optional("R_eddy"))
        two = values.get("two_pickups")
        circuit = Magnetic((coil, coil) if two else (coil,), controls, two or "single")
    elif kind == "active":
        circuit = Active(get("Rs"), controls)
    elif kind == "piezo":
        circuit = Piezo(get("Cs"))
    else:
        raise InputError("kind is missing.", where=where)
    per_m = get("cable_F_per_m", 0.0)
    cable_f = get("cable_m", 0.0) * per_m
    loads = [Load(get("Rin"), get("Cin", 0.0) + cable_f)]
    second = values.get("second_load")
    if second is not None:
        if not isinstance(second, dict):
            raise InputError("second_load is not an object.", where=where)
        second_f = get("cable_m", 0.0, second) * per_m + get("Cin", 0.0, second)
        loads.append(Load(get("Rin", inside=second), second_f))
    return circuit, Load.together(*loads)


def case_results(case: LoadingCase) -> dict[str, Any]:
    """Figures of a case, under the keys that reference files use."""
    circuit, load = case.circuit, case.load
    levels = {
        f"level_{name}_dB": level_db(circuit, load, hz)
        for name, hz in (("100Hz", 100.0), ("1kHz", 1000.0), ("3kHz", 3000.0), ("5kHz", 5000.0),
                         ("10kHz", 10_000.0))
    }  # fmt: skip
    at = np.array([1000.0])
    noise = noise_v(circuit, load)
    results: dict[str, Any] = {
        **levels,
        "noise_density_1kHz_nV": 1e9 * float(noise_density_v2(circuit, load, at)[0]) ** 0.5,
        "noise_V_rms": noise,
        "noise_dBu": volt_to_dbu(noise),
    }
    if case.kind == "piezo":
        assert isinstance(circuit, Piezo)
        whole = circuit.capacitance_f + load.farad
        results["level_midband_dB"] = gain_to_db(circuit.capacitance_f / whole)
        results["f_low_m3dB_Hz"] = low_corner(circuit, load)
        return results
    quiet = noise_v(circuit, load, count_load=False)
    results["noise_excl_load_V_rms"] = quiet
    results["noise_excl_load_dBu"] = volt_to_dbu(quiet)
    results["f_m3dB_Hz"] = corner(circuit, load)
    if case.kind == "inductive":
        found = resonance(circuit, load)
        results["f_res_Hz"] = found[0] if found else None
        results["peak_dB_re_100Hz"] = found[1] if found else None
        results["shallow_peak"] = found[1] < 1.0 if found else None
    return results


def curves_csv(cases: list[LoadingCase]) -> str:
    """Level over frequency of every case as text: Hz, then dB re EMF of each."""
    freqs = log_grid(20.0, 20_000.0, CURVE_POINTS)
    columns = [curves_db(case.circuit, [case.load], freqs)[0] for case in cases]
    rows = (
        [f"{hz:.6g}", *(f"{column[i]:.5f}" for column in columns)] for i, hz in enumerate(freqs)
    )
    return csv_text(["Hz", *(case.ident for case in cases)], rows)


__all__ = ["LoadingCase", "analyse", "case_results", "circuit_of", "curves_csv", "read_cases"]
