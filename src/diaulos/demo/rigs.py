"""The demo's rigs: three for reamping by box, and a live room with wrong patches to find."""

from __future__ import annotations

from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.changes import rename_device, set_cable
from diaulos.rig.model import Rig
from diaulos.rig.templates import build

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
