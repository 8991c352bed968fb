"""A person's own device types as JSON files."""

from __future__ import annotations

import json
from pathlib import Path

from diaulos.errors import InputError
from diaulos.rig.model import Device

# --- own types ---

MOST_TYPE_BYTES = 1_000_000


def type_text(device: Device) -> str:
    """A device as a type in an open file: JSON, stable key order, without its place in a rig."""
    data = device.model_dump(mode="json", exclude_none=True)
    data["id"] = "own"
    return json.dumps({"diaulos_device_type": 1, "device": data}, indent=1, ensure_ascii=False)


def read_type(path: Path) -> Device:
    """A device type from a file; InputError says where it is wrong."""
    from pydantic import ValidationError

    try:
        if path.stat().st_size > MOST_TYPE_BYTES:
            raise InputError("it is larger than a device type can be.", where=str(path))
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise InputError(f"it cannot be read ({error.strerror}).", where=str(path)) from error
    except (UnicodeDecodeError, ValueError) as error:
        raise InputError(
            f"it is no JSON ({error}).", where=str(path), remedy="Choose a saved device type."
        ) from error
    if not isinstance(data, dict) or data.get("diaulos_device_type") != 1:
        raise InputError(
            "it is not a device type.", where=str(path), remedy="Choose a saved device type."
        )
    try:
        return Device.model_validate(data.get("device"))
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(place) for place in first["loc"])
        raise InputError(f"device.{field}: {first['msg']}.", where=str(path)) from error
