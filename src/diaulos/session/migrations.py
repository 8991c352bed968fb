"""Old sessions brought up to date, one version at a time."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from diaulos.errors import SessionFileError
from diaulos.session.model import SCHEMA_VERSION

Migration = Callable[[dict[str, Any]], dict[str, Any]]

MIGRATIONS: Mapping[int, Migration] = {}
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
