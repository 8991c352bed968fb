"""What people listen with: monitors, full-range speakers, headphones, controllers."""

from __future__ import annotations

from diaulos.rig.catalogue.parts import IN, OUT, knob, line_in, line_out, port, switch
from diaulos.rig.model import Connector, Device, GainStage, Path, SignalClass


def monitor(device_id: str = "monitor", *, full_range: bool = False) -> Device:
    """A powered speaker with a line input."""
    return Device(
        id=device_id,
        kind="monitor",
        name="Powered full-range speaker" if full_range else "Powered monitor",
        notes="representative",
        type="full_range_speaker" if full_range else "powered_monitor",
        ports=(line_in("in", "Line input", max_dbu=20.0),),
        settings=(switch("muted", "Muted", "off"),),
        earthed=True,
    )


def headphones(device_id: str = "headphones") -> Device:
    """Headphones of a listener."""
    return Device(
        id=device_id,
        kind="headphones",
        name="Headphones",
        type="headphones",
        ports=(
            port("in", "Plug", IN, Connector.TRS, SignalClass.LINE, 80.0, ground=""),
        ),
    )  # fmt: skip


def monitor_controller(device_id: str = "controller") -> Device:
    """Two pairs of line inputs, one of which is selected, to two monitors and a headphone output,
    with one volume. A source that is not selected is not heard."""
    volume = GainStage(control="volume")
    pairs = (("a", ("in_l", "in_r")), ("b", ("in2_l", "in2_r")))
    return Device(
        id=device_id,
        kind="controller",
        name="Monitor controller",
        notes="representative",
        type="monitor_controller",
        ports=(
            line_in("in_l", "Input left"),
            line_in("in_r", "Input right"),
            line_in("in2_l", "Second input left"),
            line_in("in2_r", "Second input right"),
            line_out("out_l", "Output left", max_dbu=20.0),
            line_out("out_r", "Output right", max_dbu=20.0),
            port("phones", "Headphone output", OUT, Connector.TRS, SignalClass.LINE, 30.0,
                 max_dbu=15.0),
        ),
        paths=tuple(
            Path(source=source, target=target, stages=(volume,), when=(("source", word),))
            for word, pair in pairs
            for source, out in zip(pair, ("out_l", "out_r"), strict=True)
            for target in (out, "phones")
        ),
        settings=(
            switch("source", "Source", "a", ("a", "First pair"), ("b", "Second pair")),
            knob("volume", "Volume", -20.0, -60.0, 0.0),
        ),
        mixer=True,
    )  # fmt: skip
