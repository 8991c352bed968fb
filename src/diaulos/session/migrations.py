"""Old sessions brought up to date, one version at a time."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from typing import Any

from diaulos.errors import SessionFileError
from diaulos.session.model import SCHEMA_VERSION
from diaulos.session.representative import USUAL_TYPE, representative

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
