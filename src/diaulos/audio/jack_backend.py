"""JACK (and PipeWire's JACK server) as a back end: every client with audio ports is a device."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from diaulos.audio.child_stream import (
    CLOSE_S,
    ChildStream,
    Holder,
    asked,
    channels_asked,
    not_there,
)
from diaulos.errors import AudioDeviceError
from diaulos.work.ports import DeviceInfo, Found, StreamCallback, StreamSpec, Wire

CHILD = "diaulos.audio.jack_child"
GIVE_BACK_S = 5.0
NO_SERVER = (
    "Start one, for example: jackd -R -d alsa -d hw:0 -r 48000 -p 256. Where PipeWire runs, "
    "install its JACK library (package pipewire-jack)."
)


NO_RIGHTS = (
    "Put yourself into the group audio (sudo usermod -a -G audio $USER), let "
    "/etc/security/limits.d/audio.conf say '@audio - rtprio 95' and '@audio - memlock unlimited', "
    "log in again, and start the server with jackd -R."
)


LIBRARY_FOLDERS = (Path("/usr/lib"), Path("/usr/lib64"), Path("/usr/local/lib"))
"""Where PipeWire's own JACK library lies: a program that finds it first talks to PipeWire."""


def pipewire_library() -> str:
    """The folder of PipeWire's JACK library where a PipeWire server runs; "" where none does."""
    place = os.environ.get("PIPEWIRE_RUNTIME_DIR") or os.environ.get("XDG_RUNTIME_DIR")
    if not place or not (Path(place) / "pipewire-0").exists():
        return ""
    for above in LIBRARY_FOLDERS:
        for pattern in ("pipewire-0.3/jack", "*/pipewire-0.3/jack"):
            for found in sorted(above.glob(f"{pattern}/libjack.so.0")):
                return str(found.parent)
    return ""


def environment(library: str) -> dict[str, str]:
    """Of a process that holds ports; `library` goes ahead of the system's."""
    env = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    if library:
        before = env.get("LD_LIBRARY_PATH")
        env["LD_LIBRARY_PATH"] = f"{library}:{before}" if before else library
    return env


def listed() -> dict[str, Any]:
    """What the JACK server has, or else PipeWire, asked in a process of its own; {"error": ...}
    without either. `library` is what a client has to load."""
    found = _asked("")
    if "error" in found and (library := pipewire_library()):
        found = _asked(library)
    return found


def _asked(library: str) -> dict[str, Any]:
    found = asked(CHILD, environment(library))
    if "error" in found:
        return found
    by_hand = any("pipewire" in part for part in os.environ.get("LD_LIBRARY_PATH", "").split(":"))
    return {**found, "library": library, "kind": "pipewire" if library or by_hand else "jack"}


class JackDevices:
    """Every client with audio ports is a device, physical or not; `found` is what was listed."""

    def __init__(self, found: dict[str, Any] | None = None) -> None:
        self._found = found

    def look(self) -> Found:
        """One question to the server."""
        found = self._found or listed()
        if "error" in found:
            return Found((), (f"No JACK server runs. {NO_SERVER}",))
        missing: tuple[str, ...] = ()
        if not found["realtime"]:
            missing = (
                f"The sound server runs without real-time rights: blocks get lost. {NO_RIGHTS}",
            )
        return Found(tuple(_info(one, found) for one in found.get("devices", ())), missing)


def _info(one: dict[str, Any], found: dict[str, Any]) -> DeviceInfo:
    rate = int(found["rate_hz"])
    return DeviceInfo(
        found["kind"], one["name"], len(one["inputs"]), len(one["outputs"]), (rate,),
        (int(found["block_frames"]),), bool(found["realtime"]),
        sum(one["latency_frames"]) / rate, _names(one, "inputs"), _names(one, "outputs"),
    )  # fmt: skip


def _names(one: dict[str, Any], way: str) -> tuple[str, ...]:
    """ "Box:capture_1" is "capture_1" of Box."""
    return tuple(str(port).partition(":")[2] for port in one[way])


class JackBackend:
    """Plays to and records from a device of the JACK server; `found` is what it listed just now.
    With `set_block` the server's cycle is set to it for as long as the stream is open."""

    def __init__(self, found: dict[str, Any] | None = None, set_block: int = 0) -> None:
        self._found, self._set_block = found, set_block

    def open(self, spec: StreamSpec, callback: StreamCallback) -> ChildStream:
        """A stream on `spec.device`; AudioDeviceError when there is no server, no such device or
        no such channel."""
        found = self._found or listed()
        if "error" in found:
            raise AudioDeviceError("there is no JACK server.", where=spec.device, remedy=NO_SERVER)
        one = _named(found, spec.device)
        order = {
            "name": spec.device,
            "inputs": _inputs(found, one, spec),
            "outputs": _ports(one, "outputs", spec.output_map, spec.output_channels),
            "set_block": self._set_block,
            "wires": [_wired(found, wire) for wire in spec.wires],
            "through": _through(one, spec),
        }
        holder = Holder(
            CHILD, environment(found["library"]), found["kind"], "the sound server ended.",
            "Start it again.", NO_SERVER,
            # It has the server's own block to give back.
            GIVE_BACK_S if self._set_block else CLOSE_S,
        )  # fmt: skip
        return ChildStream(spec, callback, order, holder)


def _named(found: dict[str, Any], name: str) -> dict[str, Any]:
    """What the server lists under a name."""
    for one in found["devices"]:
        if one["name"] == name:
            return dict(one)
    raise not_there(name, (str(other["name"]) for other in found["devices"]))


def _inputs(found: dict[str, Any], device: dict[str, Any], spec: StreamSpec) -> list[str | None]:
    """The ports that are heard, some perhaps of other programs."""
    if not any(spec.inputs_of):
        return _ports(device, "inputs", spec.input_map, spec.input_channels)
    heard: list[str | None] = []
    for channel, name in zip(spec.input_map, spec.inputs_of, strict=True):
        one = _named(found, name) if name else device
        heard += _ports(one, "inputs", (channel,), 1)
    return heard


def _through(device: dict[str, Any], spec: StreamSpec) -> dict[str, Any]:
    """The inputs that are heard live, each once with its gain and response, and which of them are
    in each output."""
    parts = list(dict.fromkeys((one.input, one.gain, one.taps) for one in spec.through))
    outputs = sorted({one.output for one in spec.through})
    names = _ports(device, "outputs", tuple(outputs), len(outputs)) if outputs else []
    return {
        "parts": [(one, gain, [float(f"{tap:.7g}") for tap in taps]) for one, gain, taps in parts],
        "outputs": [
            (name, [parts.index((o.input, o.gain, o.taps)) for o in spec.through
                    if o.output == output])
            for name, output in zip(names, outputs, strict=True)
            if name is not None
        ],
    }  # fmt: skip


def _wired(found: dict[str, Any], wire: Wire) -> list[str | None]:
    source = _ports(_named(found, wire.source), "inputs", (wire.source_channel,), 1)
    return [*source, *_ports(_named(found, wire.target), "outputs", (wire.target_channel,), 1)]


def _ports(
    device: dict[str, Any], way: str, chosen: tuple[int, ...], count: int
) -> list[str | None]:
    """The names of the channels that were asked for."""
    names = device[way]
    channels = channels_asked(str(device["name"]), way, len(names), chosen, count)
    return [None if channel is None else names[channel] for channel in channels]
