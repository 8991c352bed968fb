"""What stands between an instrument and an input: DI boxes, isolators, splitters, pedals,
supplies. Representative figures of no real product."""

from __future__ import annotations

from diaulos.rig.catalogue.parts import (
    IN,
    OUT,
    instrument_in,
    instrument_out,
    knob,
    line_in,
    line_out,
    port,
    power_in,
    switch,
)
from diaulos.rig.model import (
    Balance,
    Choice,
    CompressorStage,
    Connector,
    Control,
    Device,
    FilterStage,
    GainStage,
    PassiveStage,
    Path,
    Port,
    PortMode,
    SignalClass,
)
from diaulos.rig.sources import INSTRUMENT

REPRESENTATIVE = "representative"
SOURCES_M = {"voice": 0.03, "acoustic": 0.1}
"""Radius of a mouth, and of a sound board's loud part: how sound falls off close to it."""


def instrument(device_id: str = "instrument", family: str = "guitar") -> Device:
    """An instrument: which one of the session's, or a representative of its family."""
    words = {"guitar": "Guitar", "bass": "Bass", "piezo": "Piezo instrument"}
    return Device(
        id=device_id,
        kind=INSTRUMENT,
        name=words[family],
        type=family,
        ports=(
            port("out", "Jack", OUT, Connector.TS, SignalClass.INSTRUMENT, 10_000.0,
                 ground="jack"),
        ),
        settings=(
            Choice(id="instrument", name="Instrument", value="", open_ended=True,
                   options=(("", "Representative"),)),
            switch("family", "Family", family, *words.items()),
        ),
    )  # fmt: skip


def sounding(device_id: str = "voice", family: str = "voice") -> Device:
    """A voice or an acoustic instrument: it sounds in the air, for a microphone in front of it."""
    words = {"voice": "Voice", "acoustic": "Acoustic guitar"}
    return Device(
        id=device_id,
        kind=INSTRUMENT,
        name=words[family],
        type=family,
        ports=(
            port("sound", "Sound in front", OUT, Connector.AIR, SignalClass.SOUND, 400.0,
                 ground="", cone_m=SOURCES_M[family]),
        ),
        settings=(
            Choice(id="instrument", name="Instrument", value="", open_ended=True,
                   options=(("", "Representative"),)),
            switch("family", "Family", family, *words.items()),
        ),
        notes=REPRESENTATIVE,
    )  # fmt: skip


def passive_di(device_id: str = "passive_di") -> Device:
    """Transformer 10:1 to microphone level. It loads its source with a hundred times what
    the microphone input presents; the transformer keeps the grounds apart."""
    stage = PassiveStage(turns_ratio=10.0, magnetising_h=300.0, series_out_ohm=90.0)
    return Device(
        id=device_id,
        kind="di",
        name="Passive DI",
        type="passive_di",
        ports=(
            instrument_in("in", "Input", 220_000.0, max_dbu=20.0),
            instrument_out("thru", "Link", 1.0, max_dbu=None),
            port("out", "Microphone-level output", OUT, Connector.XLR, SignalClass.MIC, 90.0,
                 balance=Balance.CROSS_COUPLED, ground="out", max_dbu=0.0),
        ),
        paths=(Path(source="in", target="thru"), Path(source="in", target="out", stages=(stage,))),
        notes=REPRESENTATIVE,
    )  # fmt: skip


def active_di(device_id: str = "active_di") -> Device:
    """10 megohm in, a link, a buffered jack, and an isolated microphone-level output.
    Runs on phantom power."""
    pad = (PortMode(when=(("pad", "on"),), max_add_db=20.0),)
    less = ((("pad", "on"),), -20.0)
    return Device(
        id=device_id,
        kind="di",
        name="Active DI",
        type="active_di",
        ports=(
            instrument_in("in", "Input", 10e6, capacitance_pf=15.0, max_dbu=12.0, modes=pad),
            instrument_out("thru", "Link", 1.0, max_dbu=None),
            instrument_out("buffered", "Buffered output", 220.0, max_dbu=12.0),
            port("out", "Microphone-level output", OUT, Connector.XLR, SignalClass.MIC, 120.0,
                 balance=Balance.CROSS_COUPLED, ground="out", max_dbu=4.0, needs_phantom=True),
        ),
        paths=(
            Path(source="in", target="thru"),
            Path(source="in", target="buffered", stages=(GainStage(noise_dbu=-112.0),)),
            Path(
                source="in",
                target="out",
                stages=(
                    GainStage.model_validate(
                        {
                            "gain_db": -12.0,
                            "noise_dbu": -120.0,
                            "offsets": ({"when": less[0], "db": less[1]},),
                        }
                    ),
                ),
            ),
        ),
        settings=(switch("pad", "Pad, 20 dB", "off"),),
        notes=REPRESENTATIVE,
    )  # fmt: skip


def di_isolator(device_id: str = "di_isolator") -> Device:
    """A passive box with a switch: a DI for an instrument, or an isolator for a line. Signal
    across, ground not; the link is the input itself."""
    di = PassiveStage(turns_ratio=10.0, magnetising_h=300.0, series_out_ohm=90.0)
    line = PassiveStage(series_in_ohm=60.0, magnetising_h=20.0)
    isolates = (("way", "isolator"),)
    return Device(
        id=device_id,
        kind="di",
        name="DI and isolator box",
        type="di_isolator",
        ports=(
            port("in", "Input", IN, Connector.TRS, SignalClass.INSTRUMENT, 220_000.0, max_dbu=20.0,
                 modes=(PortMode(when=isolates, signal_class=SignalClass.LINE,
                                 impedance_ohm=10_000.0, max_add_db=4.0),)),
            instrument_out("thru", "Link", 1.0, max_dbu=None),
            port("out", "Output", OUT, Connector.XLR, SignalClass.MIC, 90.0,
                 balance=Balance.CROSS_COUPLED, ground="out", max_dbu=0.0,
                 modes=(PortMode(when=isolates, signal_class=SignalClass.LINE,
                                 impedance_ohm=60.0, max_add_db=24.0),)),
        ),
        paths=(
            Path(source="in", target="thru"),
            Path(source="in", target="out", stages=(di,), when=(("way", "di"),)),
            Path(source="in", target="out", stages=(line,), when=isolates),
        ),
        settings=(switch("way", "Switch", "di", ("di", "DI"), ("isolator", "Isolator")),),
        notes=REPRESENTATIVE,
    )  # fmt: skip


def isolator(device_id: str = "isolator", *, stereo: bool = False) -> Device:
    """Line transformers 1:1: signal across, ground not."""
    ports: list[Port] = []
    paths = []
    for n in (1, 2) if stereo else (1,):
        tail = str(n) if stereo else ""
        connector = Connector.XLR if stereo else Connector.TRS
        ports += [
            port(f"in{tail}", f"Input {tail}".strip(), IN, connector, SignalClass.LINE, 10_000.0,
                 balance=Balance.SYMMETRICAL, max_dbu=24.0),
            port(f"out{tail}", f"Output {tail}".strip(), OUT, connector, SignalClass.LINE, 60.0,
                 balance=Balance.CROSS_COUPLED, ground=f"out{tail}", max_dbu=24.0),
        ]  # fmt: skip
        stage = PassiveStage(series_in_ohm=60.0, magnetising_h=20.0)
        paths.append(Path(source=f"in{tail}", target=f"out{tail}", stages=(stage,)))
    return Device(
        id=device_id,
        kind="isolator",
        name="Isolation transformers" if stereo else "Line isolator",
        type="isolation_transformer" if stereo else "line_isolator",
        ports=tuple(ports),
        paths=tuple(paths),
        notes=REPRESENTATIVE,
    )


def inline_pad(device_id: str = "pad") -> Device:
    """A pad of about 20 dB for a balanced line: 680 ohm in each leg, 150 ohm across."""
    stage = PassiveStage(series_in_ohm=1_360.0, shunt_ohm=150.0)
    return Device(
        id=device_id,
        kind="pad",
        name="20 dB pad",
        type="inline_pad",
        ports=(
            port("in", "Input", IN, Connector.XLR, SignalClass.LINE, 1_500.0,
                 balance=Balance.SYMMETRICAL),
            port("out", "Output", OUT, Connector.XLR, SignalClass.MIC, 140.0,
                 balance=Balance.SYMMETRICAL),
        ),
        paths=(Path(source="in", target="out", stages=(stage,)),),
        notes=REPRESENTATIVE,
    )  # fmt: skip


def usb_isolator(device_id: str = "usb_isolator", channels: int = 4) -> Device:
    """USB across, ground not: from a device to the computer, and what the computer plays back."""
    ports: list[Port] = []
    ways = [(f"in{n}", f"out{n}", f"USB {n}", "near", "far") for n in range(1, channels + 1)]
    ways += [(f"play_in{n}", f"play_out{n}", f"USB playback {n}", "far", "near")
             for n in range(1, channels + 1)]  # fmt: skip
    for entry, exit_, name, here, there in ways:
        for way, direction, ground in ((entry, IN, here), (exit_, OUT, there)):
            ports.append(
                port(way, name, direction, Connector.USB, SignalClass.STREAM, 90.0, ground=ground)
            )
    return Device(
        id=device_id,
        kind="isolator",
        name="USB isolator",
        type="usb_isolator",
        ports=tuple(ports),
        paths=tuple(Path(source=entry, target=exit_) for entry, exit_, *_ in ways),
    )


def splitter(device_id: str = "splitter", *, buffered: bool) -> Device:
    """One instrument to two: a plain Y, or buffered with one isolated way."""
    ports = [
        instrument_in("in", "Input", 1e6 if buffered else 1e9, capacitance_pf=30.0, max_dbu=14.0),
        instrument_out("out1", "Output 1", 220.0 if buffered else 1.0,
                       max_dbu=14.0 if buffered else None),
        instrument_out("out2", "Output 2, isolated" if buffered else "Output 2",
                       220.0 if buffered else 1.0, max_dbu=14.0 if buffered else None,
                       ground="out2" if buffered else "chassis"),
    ]  # fmt: skip
    if buffered:
        ports.append(power_in())
    stages = (GainStage(noise_dbu=-112.0),) if buffered else ()
    return Device(
        id=device_id,
        kind="splitter",
        name="Buffered splitter" if buffered else "Passive splitter",
        type="buffered_splitter" if buffered else "passive_splitter",
        ports=tuple(ports),
        paths=(
            Path(source="in", target="out1", stages=stages),
            Path(source="in", target="out2", stages=stages),
        ),
        notes=REPRESENTATIVE,
    )


def switcher(device_id: str = "switcher") -> Device:
    """A true-bypass switcher: the input joined to A or to B."""
    return Device(
        id=device_id,
        kind="switcher",
        name="True-bypass switcher",
        type="switcher",
        ports=(
            instrument_in("in", "Input", 1e9, capacitance_pf=30.0, max_dbu=None),
            instrument_out("a", "Output A", 1.0, max_dbu=None),
            instrument_out("b", "Output B", 1.0, max_dbu=None),
        ),
        paths=(
            Path(source="in", target="a", when=(("way", "a"),)),
            Path(source="in", target="b", when=(("way", "b"),)),
        ),
        settings=(switch("way", "Way", "a", ("a", "A"), ("b", "B")),),
    )


def pedal(device_id: str = "pedal", *, stereo: bool = False) -> Device:
    """A pedal: its sound belongs to the performance while it is on."""
    settings: list[Control | Choice] = [
        switch("bypass", "Pedal", "on"),
        knob("level", "Level", 0.0, -18.0, 18.0, 0.5),
        switch("stereo", "Stereo effect", "on" if stereo else "off"),
    ]
    ports = [
        instrument_in("in", "Input", 470_000.0, max_dbu=10.0),
        instrument_out("out", "Output" if not stereo else "Output left", stereo=stereo),
    ]
    if stereo:
        ports.append(instrument_out("out_r", "Output right", stereo=True))
    ports.append(power_in())
    paths = []
    for target in ("out", "out_r") if stereo else ("out",):
        paths += [
            Path(
                source="in",
                target=target,
                stages=(
                    GainStage(control="level", noise_dbu=-100.0),
                    FilterStage(low_cut_hz=40.0, high_cut_hz=9_000.0),
                ),
                when=(("bypass", "on"),),
                printed=True,
            ),
            Path(
                source="in",
                target=target,
                stages=(GainStage(noise_dbu=-108.0),),
                when=(("bypass", "off"),),
            ),
        ]
    return Device(
        id=device_id,
        kind="pedal",
        name="Stereo pedal" if stereo else "Pedal",
        type="stereo_pedal" if stereo else "pedal",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=tuple(settings),
        notes=REPRESENTATIVE,
    )


def compressor(device_id: str = "compressor", *, pedal: bool = False) -> Device:
    """What holds loud playing back: a pedal, or an outboard one at line level. Its sound belongs
    to the performance while it is on."""
    on, off = (("bypass", "on"),), (("bypass", "off"),)
    noise, quiet = (-98.0, -108.0) if pedal else (-92.0, -96.0)
    ports: tuple[Port, ...] = (
        (instrument_in("in", "Input", 470_000.0, max_dbu=10.0), instrument_out("out", "Output"),
         power_in())
        if pedal
        else (line_in("in", "Line input", max_dbu=24.0),
              line_out("out", "Line output", max_dbu=24.0, nominal_dbu=4.0))
    )  # fmt: skip
    stages = (CompressorStage(), GainStage(control="makeup", noise_dbu=noise))
    return Device(
        id=device_id,
        kind="pedal" if pedal else "compressor",
        name="Compressor pedal" if pedal else "Compressor",
        type="compressor_pedal" if pedal else "compressor",
        ports=ports,
        paths=(
            Path(source="in", target="out", stages=stages, when=on, printed=True),
            Path(source="in", target="out", stages=(GainStage(noise_dbu=quiet),), when=off),
        ),
        settings=(
            switch("bypass", "Compressor", "on"),
            knob("threshold", "Threshold", -22.0 if pedal else -4.0, -50.0, 20.0, unit="dBu"),
            knob("ratio", "Ratio", 4.0, 1.0, 20.0, 0.5, unit=": 1"),
            knob("attack", "Attack", 10.0, 1.0, 100.0, unit="ms"),
            knob("release", "Release", 150.0, 20.0, 1_500.0, 10.0, unit="ms"),
            knob("makeup", "Make-up", 0.0, 0.0, 24.0),
        ),
        earthed=not pedal,
        notes=REPRESENTATIVE,
    )  # fmt: skip


def pedal_supply(device_id: str = "supply", *, isolated: bool = True) -> Device:
    """Power for pedals: every output by itself, or all on one."""
    return Device(
        id=device_id,
        kind="supply",
        name="Isolated pedal supply" if isolated else "Shared pedal supply",
        type="isolated_supply" if isolated else "shared_supply",
        ports=tuple(
            port(f"dc{n}", f"Output {n}", OUT, Connector.DC, SignalClass.POWER, 1.0,
                 ground=f"dc{n}" if isolated else "dc")
            for n in range(1, 7)
        ),
    )  # fmt: skip


def line_mixer(device_id: str = "mixer") -> Device:
    """Four lines to one."""
    return Device(
        id=device_id,
        kind="mixer",
        name="Line mixer",
        type="line_mixer",
        ports=(
            *(line_in(f"in{n}", f"Input {n}") for n in range(1, 5)),
            line_out("out", "Output", max_dbu=20.0, nominal_dbu=4.0),
        ),
        paths=tuple(
            Path(source=f"in{n}", target="out", stages=(GainStage(control=f"level{n}"),))
            for n in range(1, 5)
        ),
        settings=tuple(knob(f"level{n}", f"Level {n}", 0.0, -60.0, 10.0) for n in range(1, 5)),
        mixer=True,
        notes=REPRESENTATIVE,
    )
