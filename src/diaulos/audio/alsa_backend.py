"""ALSA as a back end, without a sound server: the ports are held by a process of their own."""

from __future__ import annotations

import os

from diaulos.audio.child_stream import ChildStream, Holder, asked, channels_asked
from diaulos.errors import AudioDeviceError
from diaulos.work.ports import DeviceInfo, Found, StreamCallback, StreamSpec

CHILD = "diaulos.audio.alsa_child"
BLOCKS = (256, 64, 128, 512, 1_024)
"""The usual one first."""
LACKING = (
    "Is it in use by another program, or set to another rate? A sound server that runs holds the "
    "device: choose the server's device then."
)


def _environment() -> dict[str, str]:
    return {**os.environ, "OPENBLAS_NUM_THREADS": "1"}


class AlsaDevices:
    """What ALSA names."""

    def look(self) -> Found:
        """Nothing where PortAudio's library is missing."""
        found = asked(CHILD, _environment())
        if "error" in found:
            return Found(())
        return Found(
            tuple(
                DeviceInfo(
                    "alsa", one["name"], one["inputs"], one["outputs"], (one["rate_hz"],), BLOCKS,
                    realtime=False, latency_claimed_s=one["latency_s"],
                )
                for one in found["devices"]
            )
        )  # fmt: skip


class AlsaBackend:
    """Plays to and records from a device of ALSA."""

    def __init__(self, there: DeviceInfo, block_frames: int = 0) -> None:
        self._there = there
        self._block = block_frames or BLOCKS[0]

    def open(self, spec: StreamSpec, callback: StreamCallback) -> ChildStream:
        """A stream on the device; AudioDeviceError when it cannot be had, or has no such
        channel. The block is the device's, whatever is asked for."""
        there = self._there
        if not there.inputs and spec.input_channels:
            raise AudioDeviceError(
                f"{there.name} has no input.", where=there.name, remedy="Choose another device."
            )
        order = {
            "name": there.name,
            "inputs": channels_asked(
                there.name, "inputs", there.inputs, spec.input_map, spec.input_channels
            ),
            "outputs": channels_asked(
                there.name, "outputs", there.outputs, spec.output_map, spec.output_channels
            ),
            # A plugin mixes a mono stream into the card's two channels: nobody asked for that.
            "wide": (min(2, there.inputs), min(2, there.outputs)),
            "rate_hz": spec.rate_hz,
            "block_frames": self._block,
        }
        holder = Holder(
            CHILD, _environment(), "alsa", "the device is gone.", "Plug it in again.", LACKING
        )
        return ChildStream(spec, callback, order, holder)
