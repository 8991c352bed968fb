"""Old sessions brought up to date, one version at a time."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from typing import Any

from diaulos.errors import SessionFileError
from diaulos.ids import BENCH
from diaulos.rig.catalogue.types import make
from diaulos.rig.tone_place import TRIM
from diaulos.session.model import SCHEMA_VERSION
from diaulos.session.representative import USUAL_TYPE, representative

TRIMMED_TYPES = ("floor_modeler", "desktop_modeler")
"""Of the catalogue, with an input trim since version 9."""

Migration = Callable[[dict[str, Any]], dict[str, Any]]


def _instruments_get_circuits(data: dict[str, Any]) -> dict[str, Any]:
    """Version 1 knew instruments by name and family only: representative values are added."""
    made = []
    for entry in data.get("instruments", ()):
        family = entry.get("family", "guitar") if isinstance(entry, dict) else None
        if family not in USUAL_TYPE or "id" not in entry or "name" not in entry:
            made.append(entry)  # left for validation, which names what is wrong
            continue
        full = representative("x", "x", family).model_dump(mode="json")
        made.append({**full, **entry})
    return {**data, "instruments": made}


def _rigs_grow(data: dict[str, Any]) -> dict[str, Any]:
    """Version 3 knows more of devices, ports and cables; what version 2 said still holds."""
    return data


def _converters_get_floors(data: dict[str, Any]) -> dict[str, Any]:
    """Version 3 knew one noise figure of a converter, re its input at every gain: that is what
    an equivalent input noise says. Its own floor is the representative one."""

    def devices(parent: Any) -> None:
        for device in _dicts(parent, "devices"):
            _stages_mended(device)

    data = copy.deepcopy(data)
    for rig in _dicts(data, "rigs"):
        devices(rig)
    snapshots = data.get("snapshots")
    for rig in snapshots.values() if isinstance(snapshots, dict) else ():
        devices(rig)
    for device in _dicts(data, "own_types"):
        _stages_mended(device)
    return data


def _mixes_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 5 adds a monitor mix, intonation and where overdubs lie; nothing changes."""
    return data


def _flat_tops_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 6 tells flat tops from samples at full scale; what nobody measured is 0."""
    return data


def _plans_are_kept(data: dict[str, Any]) -> dict[str, Any]:
    """Version 7 keeps what was planned with a take, the strums of an instrument, and who played.
    Older takes have no plan; those that were recorded with a rig were played by the simulated
    studio: nothing else could be recorded from."""
    data = copy.deepcopy(data)
    for key in ("takes", "take_bin"):
        for take in _dicts(data, key):
            if take.get("rig_hash"):
                take["played_by"] = "bench"
    return data


def _rigs_get_roles(data: dict[str, Any]) -> dict[str, Any]:
    """Version 8 names the rig to record with and the one to reamp with; unnamed they are found."""
    return data


def _modelers_get_trims(data: dict[str, Any]) -> dict[str, Any]:
    """Version 9 has the tone stage in the rig: modelers of the catalogue get an input trim, at 0,
    and say where their dry taps leave. What takes were recorded with stays as it was."""
    data = copy.deepcopy(data)
    for rig in _dicts(data, "rigs"):
        devices = rig.get("devices")
        if isinstance(devices, list):
            rig["devices"] = [_with_trim(device) for device in devices]
    return data


def _with_trim(device: Any) -> Any:
    if not isinstance(device, dict) or device.get("type") not in TRIMMED_TYPES:
        return device
    settings = _dicts(device, "settings")
    if any(one.get("id") == TRIM for one in settings):
        return device
    new = make(str(device["type"]), "x").model_dump(mode="json")
    old_paths = _dicts(device, "paths")
    if {_ends(path) for path in old_paths} != {_ends(path) for path in new["paths"]}:
        return device  # one of somebody's own making
    known = {one.get("id"): one for one in settings}
    for path in new["paths"]:
        for stage in path["stages"]:
            _keep_calibration(stage, path, old_paths)
    return {
        **device,
        "settings": [known.get(one["id"], one) for one in new["settings"]],
        "paths": new["paths"],
    }


def _ends(path: dict[str, Any]) -> tuple[Any, Any]:
    return path.get("source"), path.get("target")


def _keep_calibration(
    stage: dict[str, Any], path: dict[str, Any], old_paths: list[dict[str, Any]]
) -> None:
    """What was measured of the converter of these two ports counts on."""
    for old in old_paths:
        if _ends(old) == _ends(path):
            for one in _dicts(old, "stages"):
                if one.get("kind") == stage["kind"] and one.get("measured"):
                    stage["measured"] = one["measured"]


def _passes_say_by_what(data: dict[str, Any]) -> dict[str, Any]:
    """Version 10 keeps what a pass went through: until then the simulated studio."""
    data = copy.deepcopy(data)
    items = [_dict(entry, "item") for entry in _dicts(data, "bin")]
    takes = (*_dicts(data, "takes"), *_dicts(data, "take_bin"))
    for made in (*(one for take in takes for one in _dicts(take, "passes")), *items):
        made.setdefault("played_by", BENCH)
    return data


def _doubts_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 11 keeps what is doubtful of a take, and how much of a return is not the DI: of older
    ones nobody knows."""
    return data


OF_RETURNS = (
    "file", "frames", "return_gain_db", "alignment", "alignment_refused", "against", "slate",
    "peak_dbfs", "true_peak_dbtp", "clipped_samples", "loudness_lufs", "match", "null_db",
)  # fmt: skip


def _returns_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 12 keeps every return of a pass: until then there was one, and what is known of it
    stood with the pass."""
    data = copy.deepcopy(data)
    items = [_dict(entry, "item") for entry in _dicts(data, "bin")]
    takes = (*_dicts(data, "takes"), *_dicts(data, "take_bin"))
    for made in (*(one for take in takes for one in _dicts(take, "passes")), *items):
        back = {key: made.pop(key) for key in OF_RETURNS if key in made}
        made.setdefault("returns", [{"name": "Return", **back}])
    return data


def _cabinets_come_later(data: dict[str, Any]) -> dict[str, Any]:
    """Version 13 knows cabinets that are added later, and passes of a part of a take. Until then
    there was neither."""
    return data


def _moves_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 14 knows moves into time, low cuts and blind tests. Until then there were none."""
    return data


def _places_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 15 knows places of microphones, all-passes and choices of sheets. Until then there
    were none."""
    return data


def _origins_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 16 remembers what came from the library. Until then nothing did."""
    return data


def _noise_checks_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 17 keeps noise checks. Until then they were shown and forgotten."""
    return data


def _copies_come(data: dict[str, Any]) -> dict[str, Any]:
    """Version 18 knows takes that come round under a longer one, and stereo pairs as one track.
    Until then there were none."""
    return data


def _dict(parent: Any, key: str) -> dict[str, Any]:
    found = parent.get(key) if isinstance(parent, dict) else None
    return found if isinstance(found, dict) else {}


def _dicts(parent: Any, key: str) -> list[dict[str, Any]]:
    found = parent.get(key, ()) if isinstance(parent, dict) else ()
    return [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []


def _stages_mended(device: dict[str, Any]) -> None:
    for path in _dicts(device, "paths"):
        for stage in _dicts(path, "stages"):
            if stage.get("kind") == "adc" and "noise_dbu" in stage:
                stage["input_noise"] = [{"ein_dbu": stage.pop("noise_dbu")}]


MIGRATIONS: Mapping[int, Migration] = {
    1: _instruments_get_circuits,
    2: _rigs_grow,
    3: _converters_get_floors,
    4: _mixes_come,
    5: _flat_tops_come,
    6: _plans_are_kept,
    7: _rigs_get_roles,
    8: _modelers_get_trims,
    9: _passes_say_by_what,
    10: _doubts_come,
    11: _returns_come,
    12: _cabinets_come_later,
    13: _moves_come,
    14: _places_come,
    15: _origins_come,
    16: _noise_checks_come,
    17: _copies_come,
}
"""From version n to n + 1, by n. Version 1 is the first."""


def migrate(
    data: dict[str, Any],
    where: str,
    migrations: Mapping[int, Migration] = MIGRATIONS,
    newest: int = SCHEMA_VERSION,
) -> dict[str, Any]:
    """The data of a session file in the newest version; the input is not changed."""
    version = data.get("schema_version")
    if not isinstance(version, int) or version < 1:
        raise SessionFileError(
            "schema_version is missing or not a number.",
            where=where,
            remedy="This is not a session of Diaulos, or it is damaged.",
        )
    if version > newest:
        raise SessionFileError(
            f"it was written by a newer Diaulos (version {version}; this one reads {newest}).",
            where=where,
            remedy="Update Diaulos to open it. Nothing was changed.",
        )
    while version < newest:
        data = migrations[version](dict(data))
        version += 1
        data["schema_version"] = version
    return data
