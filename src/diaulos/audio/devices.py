"""All real devices: those of a sound server, and those that ALSA names without one."""

from __future__ import annotations

from diaulos.audio.alsa_backend import AlsaBackend, AlsaDevices
from diaulos.audio.child_stream import ChildStream, not_there
from diaulos.audio.jack_backend import JackBackend, JackDevices, listed
from diaulos.errors import AudioDeviceError
from diaulos.work.ports import DeviceInfo, Found, StreamCallback, StreamSpec


def look() -> Found:
    """What is there now. A server holds its hardware: its devices come first."""
    server, plain = JackDevices().look(), AlsaDevices().look()
    return Found(_all(server, plain), server.missing)


def find(name: str) -> DeviceInfo:
    """The device of this name; AudioDeviceError with the names that are there."""
    server = JackDevices().look()
    return server.device(name) or _plain(name, server)


def open_stream(
    spec: StreamSpec, callback: StreamCallback, block_frames: int = 0, *, set_block: bool = False
) -> ChildStream:
    """A stream on `spec.device`, whoever has it; `block_frames` where the device leaves that to
    us (0: 256), with `set_block` also where a server has to be told."""
    found = listed()
    if any(one["name"] == spec.device for one in found.get("devices", ())):
        return JackBackend(found, block_frames if set_block else 0).open(spec, callback)
    there = _plain(spec.device, JackDevices(found).look())
    if spec.wires or any(spec.inputs_of) or spec.through:
        raise AudioDeviceError(
            f"{spec.device} is no device of a sound server: it takes no other program's sound, and "
            "nothing is heard through this one.",
            where=spec.device,
            remedy="Start a JACK server on it (or use PipeWire), and choose it there.",
        )
    return AlsaBackend(there, block_frames).open(spec, callback)


def _all(server: Found, plain: Found) -> tuple[DeviceInfo, ...]:
    names = {one.name for one in server.devices}
    return (*server.devices, *(one for one in plain.devices if one.name not in names))


def _plain(name: str, server: Found) -> DeviceInfo:
    plain = AlsaDevices().look()
    there = plain.device(name)
    if there is None:
        raise not_there(name, (one.name for one in _all(server, plain)))
    return there
