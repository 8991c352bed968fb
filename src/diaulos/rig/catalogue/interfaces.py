"""Computers, interfaces, converters, preamps: what records. Representative figures."""

from __future__ import annotations

from diaulos.rig.catalogue.parts import (
    IN,
    OUT,
    clock,
    digital,
    knob,
    line_in,
    line_out,
    port,
    rate,
    stream,
    switch,
)
from diaulos.rig.mixer import LEVEL, MUTE, strip_id, strip_settings
from diaulos.rig.model import (
    AdcStage,
    Balance,
    Choice,
    Connector,
    Control,
    DacStage,
    DelayStage,
    Device,
    DigitalFormat,
    GainStage,
    InputNoise,
    Offset,
    Path,
    Port,
    PortMode,
    SignalClass,
    Stage,
)

DIRECT_MS = 0.3
"""Of an interface's own mixer."""
PAD_DB = 15.0
BUFFERS = tuple((str(n), f"{n} samples") for n in (32, 64, 128, 256, 512, 1024, 2048))


def computer(device_id: str = "computer", channels: int = 20) -> Device:
    """A recorder with software monitoring and a plug-in amplifier.

    The way through it takes two buffers: one in, one out.
    """
    ports: list[Port] = []
    paths: list[Path] = []
    heard = DelayStage(buffers=2, buffer="buffer", control="plugin")
    for n in range(1, channels + 1):
        ports += [
            stream(f"play{n}", f"Playback {n}", OUT),
            stream(f"track{n}", f"Track {n}", IN),
        ]
        paths += [
            Path(
                source=f"track{n}",
                target=f"play{side}",
                stages=(heard,),
                when=(("monitoring", "on"),),
            )
            for side in (1, 2)
        ]
    return Device(
        id=device_id,
        kind="recorder",
        name="Computer",
        type="computer",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=(
            rate(),
            Choice(id="buffer", name="Buffer", value="256", options=BUFFERS),
            switch("monitoring", "Software monitoring", "off"),
            knob("plugin", "Plug-in delay", 0.0, 0.0, 4096.0, 1.0, "samples"),
        ),
        mixer=True,
        earthed=True,
    )


def audio_interface(inputs: int, device_id: str = "interface") -> Device:
    """An interface: inputs for microphone, line and instrument, line outputs, and a mixer for
    direct monitoring that has level, pan and mute for each input and for playback."""
    ports: list[Port] = []
    paths: list[Path] = []
    settings: list[Control | Choice] = []
    strips: list[Control | Choice] = []
    outputs = max(4, inputs)
    for n in range(1, inputs + 1):
        ports += [_input(n), stream(f"rec{n}", f"To computer {n}", OUT)]
        settings += _input_settings(n)
        paths.append(Path(source=f"in{n}", target=f"rec{n}", stages=(_converter(n),)))
        paths += _mixed(f"in{n}", f"in{n}", 0)
        strips += strip_settings(f"in{n}", f"Input {n}", -6.0)
    ports += [
        line_out("main1", "Monitor output left"),
        line_out("main2", "Monitor output right"),
        port("phones", "Headphone output", OUT, Connector.TRS, SignalClass.LINE, 30.0,
             max_dbu=15.0),
    ]  # fmt: skip
    dac = DacStage(full_scale_dbu=16.0, latency_samples=41.63, noise_dbu=-94.0)
    for n in range(1, outputs + 1):
        ports.append(stream(f"play{n}", f"Playback stream {n}", IN))
        if n > 2:
            ports.append(line_out(f"out{n}", f"Line output {n}", max_dbu=16.5))
            paths.append(Path(source=f"play{n}", target=f"out{n}", stages=(dac,)))
    for side in (1, 2):
        fader = GainStage(gain_db=-12.0, control=f"mix_play{side}")
        for target in (f"main{side}", "phones"):
            paths.append(
                Path(source=f"play{side}", target=target, stages=(dac, fader),
                     when=((f"mute_play{side}", "off"),))
            )  # fmt: skip
        strips += strip_settings(f"play{side}", f"playback {side}", 0.0)
    clocks = []
    first = inputs + 1
    for port_id, words, spoken, wanted in (
        ("coax", "Coaxial digital", DigitalFormat.CONSUMER, 2),
        ("optical", "Optical digital", DigitalFormat.OPTICAL8, 8),
        ("aes", "AES3", DigitalFormat.AES3, 2),
    ):
        if port_id != "coax" and inputs < 8:
            continue
        ports += [
            digital(f"{port_id}_in", f"{words} input", IN, spoken),
            digital(f"{port_id}_out", f"{words} output", OUT, spoken),
        ]
        clocks.append((f"{port_id}_in", f"{words} input"))
        for channel in range(wanted):
            ports.append(stream(f"rec{first}", f"To computer {first}", OUT))
            paths.append(Path(source=f"{port_id}_in", target=f"rec{first}", source_channel=channel))
            first += 1
            ident = strip_id(f"{port_id}_in", channel, wanted)
            paths += _mixed(f"{port_id}_in", ident, channel)
            strips += strip_settings(ident, f"{words} {channel + 1}", -6.0)
        for channel in range(2):
            paths.append(
                Path(source=f"play{channel + 3}", target=f"{port_id}_out", target_channel=channel)
            )
    return Device(
        id=device_id,
        kind="interface",
        name={2: "Two", 4: "Four", 8: "Eight"}[inputs] + "-input interface",
        type=f"interface{inputs}",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=(
            rate(), clock(*clocks), switch("direct", "Direct monitoring", "off"), *settings,
            *strips,
        ),
        mixer=True,
        notes="representative",
    )  # fmt: skip


def _mixed(source: str, ident: str, channel: int) -> list[Path]:
    """The ways of an input through the monitor mixer to those who listen. A digital one is
    numbers up to the outputs' converters."""
    out = DacStage(full_scale_dbu=16.0, latency_samples=41.63, noise_dbu=-94.0)
    ahead: tuple[Stage, ...] = (DelayStage(ms=DIRECT_MS),)
    if not source.startswith("in"):
        ahead = (out,)
    return [
        Path(
            source=source,
            target=target,
            source_channel=channel,
            stages=(*ahead, GainStage(control=f"{LEVEL}{ident}")),
            when=(("direct", "on"), (f"{MUTE}{ident}", "off")),
        )
        for target in ("main1", "main2", "phones")
    ]


DESK_INPUTS = 8


def stage_desk(device_id: str = "desk") -> Device:
    """A desk on a stage: microphone and line inputs, recorded as they come. What is played there
    is heard at once and made for it: nobody reamps it, and it needs no dry DI."""
    ports: list[Port] = []
    paths: list[Path] = []
    settings: list[Control | Choice] = [rate(), clock()]
    for n in range(1, DESK_INPUTS + 1):
        whole = _input(n)
        modes = tuple(m for m in whole.modes if m.when != ((f"mode{n}", "instrument"),))
        ports += [whole.model_copy(update={"modes": modes}), stream(f"rec{n}", f"Record {n}", OUT)]
        _, gain, *rest = _input_settings(n)
        settings += [
            switch(f"mode{n}", f"Input {n} switch", "mic", ("mic", "Microphone"), ("line", "Line")),
            gain, *rest,
        ]  # fmt: skip
        plain = _converter(n)
        stage = plain.model_copy(
            update={
                "input_noise": tuple(
                    one for one in plain.input_noise if ((f"mode{n}", "instrument"),) != one.when
                ),
                "offsets": tuple(
                    one for one in plain.offsets if ((f"mode{n}", "instrument"),) != one.when
                ),
            }
        )
        paths.append(Path(source=f"in{n}", target=f"rec{n}", stages=(stage,)))
    return Device(
        id=device_id,
        kind="desk",
        name="Stage desk",
        type="stage_desk",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=tuple(settings),
        mixer=True,
        earthed=True,
        notes="representative",
    )


def _input(n: int) -> Port:
    mode = f"mode{n}"
    return port(
        f"in{n}",
        f"Input {n}",
        IN,
        Connector.COMBO,
        SignalClass.LINE,
        12_000.0,
        max_dbu=22.0,
        balance=Balance.SYMMETRICAL,
        modes=(
            PortMode(
                when=((mode, "mic"),),
                signal_class=SignalClass.MIC,
                impedance_ohm=2_400.0,
                max_add_db=-12.0,
            ),
            PortMode(
                when=((mode, "instrument"),),
                signal_class=SignalClass.INSTRUMENT,
                impedance_ohm=1e6,
                capacitance_pf=60.0,
                balance=Balance.NONE,
                max_add_db=-7.0,
            ),
            PortMode(when=((f"pad{n}", "on"),), max_add_db=PAD_DB),
            PortMode(when=((mode, "mic"), (f"phantom{n}", "on")), phantom=True),
        ),
    )


def _input_settings(n: int) -> list[Control | Choice]:
    return [
        switch(f"mode{n}", f"Input {n} switch", "line", ("mic", "Microphone"), ("line", "Line"),
               ("instrument", "Instrument")),
        knob(f"gain{n}", f"Gain {n}", 0.0, 0.0, 60.0),
        switch(f"pad{n}", f"Pad {n}, {PAD_DB:g} dB", "off"),
        switch(f"phantom{n}", f"Phantom power {n}", "off"),
    ]  # fmt: skip


def _converter(n: int) -> AdcStage:
    return AdcStage(
        full_scale_dbu=18.0,
        latency_samples=38.24,
        floor_dbfs=-116.0,
        input_noise=(
            InputNoise(when=((f"mode{n}", "mic"),), ein_dbu=-127.0, current_pa=1.2),
            InputNoise(when=((f"mode{n}", "instrument"),), ein_dbu=-114.0, current_pa=0.05),
            InputNoise(ein_dbu=-108.0, current_pa=1.2),
        ),
        control=f"gain{n}",
        offsets=(
            Offset(when=((f"mode{n}", "mic"),), db=-10.0),
            Offset(when=((f"mode{n}", "instrument"),), db=-5.0),
            Offset(when=((f"pad{n}", "on"),), db=PAD_DB, pad=True),
        ),
    )


def mic_preamp(device_id: str = "preamp") -> Device:
    """One microphone input to line, with phantom power."""
    return Device(
        id=device_id,
        kind="preamp",
        name="Microphone preamp",
        type="mic_preamp",
        ports=(
            port("in", "Microphone input", IN, Connector.XLR, SignalClass.MIC, 2_000.0,
                 max_dbu=10.0, balance=Balance.SYMMETRICAL,
                 modes=(PortMode(when=(("phantom", "on"),), phantom=True),)),
            port("out", "Line output", OUT, Connector.XLR, SignalClass.LINE, 100.0, max_dbu=24.0,
                 balance=Balance.SYMMETRICAL, nominal_dbu=4.0),
        ),
        paths=(
            Path(
                source="in",
                target="out",
                stages=(
                    GainStage(
                        control="gain",
                        noise_dbu=-98.0,
                        input_noise=(InputNoise(ein_dbu=-127.5, current_pa=1.5),),
                    ),
                ),
            ),
        ),
        settings=(
            knob("gain", "Gain", 30.0, 10.0, 60.0),
            switch("phantom", "Phantom power", "off"),
        ),
        earthed=True,
        notes="representative",
    )  # fmt: skip


def converter(device_id: str = "converter") -> Device:
    """Eight line inputs to one optical link."""
    ports: list[Port] = []
    paths = []
    settings: list[Control | Choice] = [
        rate(),
        clock(("aes_in", "AES3 input"), ("optical_in", "Optical input")),
    ]
    for n in range(1, 9):
        ports.append(line_in(f"in{n}", f"Line input {n}"))
        settings.append(knob(f"gain{n}", f"Gain {n}", 0.0, 0.0, 20.0))
        stage = AdcStage(
            full_scale_dbu=18.0,
            latency_samples=22.4,
            floor_dbfs=-118.0,
            input_noise=(InputNoise(ein_dbu=-106.0, current_pa=1.2),),
            control=f"gain{n}",
        )
        paths.append(
            Path(source=f"in{n}", target="optical_out", target_channel=n - 1, stages=(stage,))
        )
    ports += [
        digital("optical_out", "Optical output", OUT, DigitalFormat.OPTICAL8),
        digital("optical_in", "Optical input", IN, DigitalFormat.OPTICAL8),
        digital("aes_in", "AES3 input", IN, DigitalFormat.AES3),
        digital("aes_out", "AES3 output", OUT, DigitalFormat.AES3),
    ]
    return Device(
        id=device_id,
        kind="converter",
        name="Eight-channel converter",
        type="converter",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=tuple(settings),
        earthed=True,
        notes="representative",
    )
