"""The devices of the rig for reamping by box. Representative figures, from memory."""

from __future__ import annotations

from diaulos.rig.catalogue.amps import BEHIND_VALVES, LOAD, VALVE_OHM
from diaulos.rig.catalogue.parts import cable
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    CabinetStage,
    Choice,
    Connector,
    Control,
    DacStage,
    Device,
    Direction,
    GainStage,
    InputNoise,
    PassiveStage,
    Path,
    Port,
    Rig,
    SignalClass,
)
from diaulos.signal.amp import VOICES
from diaulos.signal.cabinet import CABINETS

IN, OUT = Direction.IN, Direction.OUT


def recorder(device_id: str = "recorder", channels: int = 8) -> Device:
    """The computer: plays tracks and records tracks as streams."""
    ports = []
    for number in range(1, channels + 1):
        for port_id, name, direction in (
            (f"play{number}", f"Playback {number}", OUT),
            (f"track{number}", f"Track {number}", IN),
        ):
            ports.append(
                Port(
                    id=port_id,
                    name=name,
                    direction=direction,
                    connector=Connector.USB,
                    signal_class=SignalClass.STREAM,
                    impedance_ohm=90.0,
                )
            )
    return Device(id=device_id, kind="recorder", name="Computer", ports=tuple(ports))


def interface(device_id: str = "interface", inputs: int = 8) -> Device:
    """An audio interface with line outputs and line inputs of adjustable gain.

    +16 dBu line outputs, +18 dBu line inputs at gain 0, gain 0 to 40 dB in steps of 1.
    """
    ports: list[Port] = []
    paths: list[Path] = []
    settings: list[Control | Choice] = []
    for n in range(1, inputs + 1):
        ports += [
            _stream(f"play{n}", f"Stream out {n}", IN),
            _stream(f"rec{n}", f"To computer {n}", OUT),
            Port(
                id=f"line_out{n}",
                name=f"Line output {n}",
                direction=OUT,
                connector=Connector.TRS,
                signal_class=SignalClass.LINE,
                impedance_ohm=150.0,
                max_dbu=16.5,
            ),
            Port(
                id=f"line_in{n}",
                name=f"Line input {n}",
                direction=IN,
                connector=Connector.TRS,
                signal_class=SignalClass.LINE,
                impedance_ohm=12_000.0,
                max_dbu=22.0,
            ),
        ]
        gain = Control(
            id=f"gain{n}",
            name=f"Input gain {n}",
            value=0.0,
            minimum=0.0,
            maximum=40.0,
            step=1.0,
        )
        settings.append(gain)
        # The converters' own delays are not whole samples, as they are not in life.
        dac = DacStage(full_scale_dbu=16.0, latency_samples=41.63, noise_dbu=-94.0)
        adc = AdcStage(
            full_scale_dbu=18.0,
            latency_samples=38.24,
            floor_dbfs=-116.0,
            input_noise=(InputNoise(ein_dbu=-104.0, current_pa=1.2),),
            control=f"gain{n}",
        )
        paths += [
            Path(source=f"play{n}", target=f"line_out{n}", stages=(dac,)),
            Path(source=f"line_in{n}", target=f"rec{n}", stages=(adc,)),
        ]
    return Device(
        id=device_id,
        kind="interface",
        name=f"{_count_word(inputs)}-input interface",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=tuple(settings),
        notes="representative",
    )


def reamp_box(device_id: str = "reamp_box", *, inverts: bool = False) -> Device:
    """A passive reamp box: transformer 4:1, trim, 5.6 kilohm in series towards the amp."""
    stage = PassiveStage(
        turns_ratio=4.0,
        magnetising_h=40.0,
        trim_ohm=10_000.0,
        control="trim",
        series_out_ohm=5_600.0,
        inverts=inverts,
    )
    trim = Control(id="trim", name="Trim", value=0.0, minimum=-30.0, maximum=0.0, step=0.5)
    return Device(
        id=device_id,
        kind="reamp_box",
        name="Reamp box",
        ports=(
            Port(
                id="in",
                name="Line input",
                direction=IN,
                connector=Connector.TRS,
                signal_class=SignalClass.LINE,
                impedance_ohm=10_000.0,
            ),
            Port(
                id="out",
                name="Instrument output",
                direction=OUT,
                connector=Connector.TS,
                signal_class=SignalClass.INSTRUMENT,
                impedance_ohm=5_600.0,
                ground="out",
            ),
        ),
        paths=(Path(source="in", target="out", stages=(stage,)),),
        settings=(trim,),
        notes="representative; isolates the amplifier's earth from the interface's",
    )


def combo_amp(device_id: str = "amp", name: str = "18 W combo", voice: str = "tideline") -> Device:
    """A valve combo with its speaker output brought out to a load."""
    knobs: list[Control | Choice] = [
        Choice(
            id="voice",
            name="Voice",
            value=voice,
            options=tuple((key, value.title) for key, value in VOICES.items()),
        )
    ]
    for knob, label in (
        ("drive", "Drive"),
        ("bass", "Bass"),
        ("mid", "Mid"),
        ("treble", "Treble"),
    ):
        knobs.append(
            Control(id=knob, name=label, value=5.0, minimum=0.0, maximum=10.0, step=0.5, unit="")
        )
    knobs.append(
        Control(id="master", name="Master", value=-6.0, minimum=-40.0, maximum=0.0, step=1.0)
    )
    return Device(
        id=device_id,
        kind="amp",
        name=name,
        ports=(
            Port(
                id="in",
                name="Input",
                direction=IN,
                connector=Connector.TS,
                signal_class=SignalClass.INSTRUMENT,
                impedance_ohm=1e6,
                capacitance_pf=60.0,
                max_dbu=16.0,
            ),
            Port(
                id="speaker",
                name="Speaker output",
                direction=OUT,
                connector=Connector.TS,
                signal_class=SignalClass.SPEAKER,
                impedance_ohm=VALVE_OHM,
                max_dbu=33.0,
                rated_ohm=8.0,
            ),
        ),
        paths=(Path(source="in", target="speaker", stages=(AmpStage(), BEHIND_VALVES)),),
        settings=tuple(knobs),
        valve=True,
        notes="representative",
    )


def load_box(device_id: str = "load_box") -> Device:
    """An 8-ohm load with a line output, with or without a cabinet's response."""
    cabinet = Choice(
        id="cabinet",
        name="Cabinet",
        value="open-one",
        options=(
            ("none", "No cabinet"),
            *((key, value.title) for key, value in CABINETS.items()),
        ),
        open_ended=True,
    )
    return Device(
        id=device_id,
        kind="load_box",
        name="8-ohm load box",
        ports=(
            Port(
                id="speaker",
                name="Speaker input",
                direction=IN,
                connector=Connector.TS,
                signal_class=SignalClass.SPEAKER,
                impedance_ohm=8.0,
                speaker=LOAD,
            ),
            Port(
                id="line",
                name="Line output",
                direction=OUT,
                connector=Connector.XLR,
                signal_class=SignalClass.LINE,
                impedance_ohm=200.0,
                max_dbu=20.0,
            ),
        ),
        paths=(
            Path(
                source="speaker",
                target="line",
                stages=(GainStage(gain_db=-22.0, noise_dbu=-98.0), CabinetStage()),
            ),
        ),
        settings=(cabinet,),
        notes="representative; rated for twice the amplifier's power",
    )


def reamp_rig(
    rig_id: str = "rig01",
    name: str = "Reamp by box",
    *,
    voice: str = "tideline",
    cabinet: str = "open-one",
    amp_name: str = "18 W combo",
) -> Rig:
    """Track -> line output -> reamp box -> amp -> load box -> line input -> track."""
    devices = (
        recorder(),
        interface(),
        reamp_box(),
        combo_amp(name=amp_name, voice=voice),
        load_box().with_setting("cabinet", cabinet),
    )
    return Rig(
        id=rig_id,
        name=name,
        devices=devices,
        cables=(
            cable("c01", "recorder.play3", "interface.play3", 2.0),
            cable("c02", "interface.line_out3", "reamp_box.in", 3.0, label="send"),
            cable("c03", "reamp_box.out", "amp.in", 3.0),
            cable("c04", "amp.speaker", "load_box.speaker", 1.0, label="speaker cable"),
            cable("c05", "load_box.line", "interface.line_in5", 5.0, label="return"),
            cable("c06", "interface.rec5", "recorder.track5", 2.0),
        ),
    )


def _stream(port_id: str, name: str, direction: Direction) -> Port:
    return Port(
        id=port_id,
        name=name,
        direction=direction,
        connector=Connector.USB,
        signal_class=SignalClass.STREAM,
        impedance_ohm=90.0,
    )


def _count_word(count: int) -> str:
    return {2: "Two", 4: "Four", 8: "Eight"}.get(count, str(count))
