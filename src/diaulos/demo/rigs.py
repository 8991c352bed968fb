"""The demo's rigs: three for reamping by box, one by two microphones, one by a stream that comes
back in stereo, and a live room with wrong patches to find."""

from __future__ import annotations

from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.changes import rename_device, set_cable
from diaulos.rig.model import Rig
from diaulos.rig.templates import LONG_M, PATCH_M, USB_M, Patch, build

LIVE_ROOM = "rig04"


def reamp_rigs() -> tuple[Rig, ...]:
    """Out by a reamp box, back by a load box."""
    return (
        reamp_rig("rig01", "Combo by box", voice="tideline", cabinet="open-one"),
        reamp_rig(
            "rig02", "Tall stack by box", voice="foghorn", cabinet="closed-four",
            amp_name="50 W head",
        ),
        reamp_rig(
            "rig03", "Bass by box", voice="keel", cabinet="bass-fifteen", amp_name="120 W bass head"
        ),
    )  # fmt: skip


def more_ways() -> tuple[Rig, ...]:
    """Several returns in one pass: two microphones before a bass cabinet, and a modeler's stereo
    output by its stream."""
    bass = build("reamp-bass", "rig05").model_copy(update={"name": "Bass by two microphones"})
    stream = build("reamp-usb", "rig06").model_copy(update={"name": "Modeler by stream"})
    return bass, stream.with_setting("modeler", "stereo", "on")


def two_ways_rig(instrument_id: str) -> Rig:
    """A modeler by its digital link and by a line input at once, with an early dry tap."""
    patch = Patch("Two ways in").add("guitar", "guitar", instrument=instrument_id)
    patch.add("floor_modeler", "modeler").add("computer", "computer")
    patch.add("interface4", "interface", clock="coax_in", mode1="instrument")
    patch.join("guitar.out", "modeler.in", LONG_M)
    patch.join("modeler.coax_out", "interface.coax_in", 2.0, "digital")
    patch.join("modeler.out_l", "interface.in3", PATCH_M, "analog")
    patch.join("modeler.send", "interface.in1", PATCH_M, "dry")
    patch.join("computer.play1", "interface.play1", USB_M)
    patch.record("interface.rec1", 1, "DI").record("interface.rec5", 2, "Modeled, digital")
    return patch.record("interface.rec3", 3, "Modeled, analog").rig("two_ways")


def two_microphones_rig(instrument_id: str, lows_m: float, highs_m: float) -> Rig:
    """The bass by a DI and two microphones, the one for the lows farther away."""
    rig = build("bass", "two_mics").with_setting("bass", "instrument", instrument_id)
    for cable in rig.cables:
        metres = {"mic_low.sound": lows_m, "mic_high.sound": highs_m}.get(str(cable.target))
        if metres is not None:
            rig = set_cable(rig, cable.id, length_m=metres)
    names = {"Lows": "Microphone, lows", "Highs": "Microphone, highs"}
    tracks = [one.model_copy(update={"name": names.get(one.name, one.name)}) for one in rig.tracks]
    return rig.model_copy(update={"tracks": tuple(tracks)})


def live_room(instrument_id: str, name: str) -> Rig:
    """Dry, amp and amp with cabinet at once, not yet as it should be: the loader goes into a
    microphone input, the guitar's cable is long, and the monitoring is doubled."""
    rig = build("hybrid", LIVE_ROOM).model_copy(update={"name": "Live room, three tones"})
    for device, setting, value in (
        ("guitar", "instrument", instrument_id),
        ("interface", "mode4", "mic"),
        ("interface", "gain4", 26.0),
        ("interface", "direct", "on"),
        ("computer", "monitoring", "on"),
        ("amp", "voice", "foghorn"),
    ):
        rig = rig.with_setting(device, setting, value)
    rig = rename_device(rig, "guitar", name)
    long = next(c for c in rig.cables if str(c.source) == "guitar.out")
    return set_cable(rig, long.id, length_m=9.0, label="stage snake")
