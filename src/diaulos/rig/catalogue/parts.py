"""Small builders that the device types share. Figures are representative, from memory."""

from __future__ import annotations

from typing import Any

from diaulos.rig.model import (
    Balance,
    Cable,
    CableKind,
    Choice,
    Connector,
    Control,
    DigitalFormat,
    Direction,
    Port,
    PortRef,
    SignalClass,
)
from diaulos.signal.amp import VOICES
from diaulos.signal.cabinet import CABINETS

IN, OUT = Direction.IN, Direction.OUT
RATES = (("44100", "44.1 kHz"), ("48000", "48 kHz"), ("88200", "88.2 kHz"), ("96000", "96 kHz"))
ON_OFF = (("off", "Off"), ("on", "On"))
USB_OHM = 90.0
DIGITAL_OHM = 75.0


def port(
    port_id: str,
    name: str,
    direction: Direction,
    connector: Connector,
    signal_class: SignalClass,
    ohm: float,
    **more: Any,
) -> Port:
    """A port in one line."""
    return Port(
        id=port_id,
        name=name,
        direction=direction,
        connector=connector,
        signal_class=signal_class,
        impedance_ohm=ohm,
        **more,
    )


def stream(port_id: str, name: str, direction: Direction, *, stereo: bool = False) -> Port:
    """One channel of a USB connection."""
    return port(port_id, name, direction, Connector.USB, SignalClass.STREAM, USB_OHM, stereo=stereo)


def digital(port_id: str, name: str, direction: Direction, spoken: DigitalFormat) -> Port:
    """A digital connector with its channels. Optical ones join no grounds."""
    connector = {
        DigitalFormat.CONSUMER: Connector.COAXIAL,
        DigitalFormat.AES3: Connector.XLR,
        DigitalFormat.OPTICAL8: Connector.OPTICAL,
    }[spoken]
    optical = spoken is DigitalFormat.OPTICAL8
    return port(
        port_id,
        name,
        direction,
        connector,
        SignalClass.DIGITAL,
        110.0 if spoken is DigitalFormat.AES3 else DIGITAL_OHM,
        channels=8 if optical else 2,
        format=spoken,
        ground="" if optical else "chassis",
        balance=Balance.SYMMETRICAL if spoken is DigitalFormat.AES3 else Balance.NONE,
    )


def line_out(port_id: str, name: str, *, max_dbu: float = 18.0, **more: Any) -> Port:
    """A balanced line output on a 6.35 mm jack."""
    return port(
        port_id,
        name,
        OUT,
        Connector.TRS,
        SignalClass.LINE,
        150.0,
        max_dbu=max_dbu,
        balance=more.pop("balance", Balance.IMPEDANCE),
        **more,
    )


def line_in(port_id: str, name: str, *, max_dbu: float = 22.0, **more: Any) -> Port:
    """A balanced line input on a 6.35 mm jack."""
    return port(
        port_id,
        name,
        IN,
        Connector.TRS,
        SignalClass.LINE,
        12_000.0,
        max_dbu=max_dbu,
        balance=Balance.SYMMETRICAL,
        **more,
    )


def instrument_in(port_id: str, name: str, ohm: float = 1e6, **more: Any) -> Port:
    """An unbalanced jack made for an instrument."""
    return port(
        port_id,
        name,
        IN,
        Connector.TS,
        SignalClass.INSTRUMENT,
        ohm,
        capacitance_pf=more.pop("capacitance_pf", 60.0),
        max_dbu=more.pop("max_dbu", 14.0),
        **more,
    )


def instrument_out(port_id: str, name: str, ohm: float = 1_000.0, **more: Any) -> Port:
    """An unbalanced jack at an instrument's level."""
    return port(
        port_id,
        name,
        OUT,
        Connector.TS,
        SignalClass.INSTRUMENT,
        ohm,
        max_dbu=more.pop("max_dbu", 10.0),
        **more,
    )


def power_in() -> Port:
    """A pedal's supply jack."""
    return port("power", "Supply", IN, Connector.DC, SignalClass.POWER, 100.0)


def rate(value: str = "48000") -> Choice:
    """The sample rate of a digital device."""
    return Choice(id="rate", name="Sample rate", value=value, options=RATES)


def clock(*inputs: tuple[str, str], value: str = "internal") -> Choice:
    """Who leads: the device itself, or what comes in at one of its digital ports."""
    return Choice(
        id="clock", name="Clock", value=value, options=(("internal", "Own clock"), *inputs)
    )


def knob(ident: str, name: str, value: float, least: float, most: float, step: float = 1.0,
         unit: str = "dB", noted: float | None = None) -> Control:  # fmt: skip
    """A control in one line."""
    return Control(
        id=ident, name=name, value=value, minimum=least, maximum=most, step=step, unit=unit,
        noted=noted,
    )  # fmt: skip


def switch(ident: str, name: str, value: str, *options: tuple[str, str]) -> Choice:
    """A choice in one line; on and off when no options are named."""
    return Choice(id=ident, name=name, value=value, options=options or ON_OFF)


def amp_knobs(voice: str, master_db: float = -6.0) -> tuple[Choice | Control, ...]:
    """What every stand-in amplifier has."""
    titles = tuple((key, value.title) for key, value in VOICES.items())
    return (
        Choice(id="voice", name="Voice", value=voice, options=titles),
        *(
            knob(ident, name, 5.0, 0.0, 10.0, 0.5, "")
            for ident, name in (
                ("drive", "Drive"), ("bass", "Bass"), ("mid", "Mid"), ("treble", "Treble"),
            )
        ),
        knob("master", "Master", master_db, -40.0, 0.0),
    )  # fmt: skip


def cabinet_choice(value: str, ident: str = "cabinet") -> Choice:
    """A cabinet's response, none, or a file of the session."""
    return Choice(
        id=ident,
        name="Cabinet",
        value=value,
        options=(("none", "No cabinet"), *((key, one.title) for key, one in CABINETS.items())),
        open_ended=True,
    )


def cable(
    cable_id: str,
    source: str,
    target: str,
    length_m: float,
    label: str = "",
    kind: CableKind = CableKind.USUAL,
) -> Cable:
    """A cable between "device.port" and "device.port"."""
    from_device, from_port = source.split(".")
    to_device, to_port = target.split(".")
    return Cable(
        id=cable_id,
        source=PortRef(device=from_device, port=from_port),
        target=PortRef(device=to_device, port=to_port),
        length_m=length_m,
        label=label,
        kind=kind,
    )
