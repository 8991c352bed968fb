"""Modelers: an amplifier as numbers, with a dry tap, digital links and USB streams.

Representative figures of no real product.
"""

from __future__ import annotations

from diaulos.rig.catalogue.parts import (
    IN,
    OUT,
    amp_knobs,
    cabinet_choice,
    clock,
    digital,
    instrument_in,
    knob,
    port,
    rate,
    stream,
    switch,
)
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    Balance,
    CabinetStage,
    Choice,
    Connector,
    Control,
    DacStage,
    DelayStage,
    Device,
    DigitalFormat,
    Direction,
    FilterStage,
    GainStage,
    InputNoise,
    Offset,
    Path,
    Port,
    PortMode,
    SignalClass,
    Stage,
    When,
)
from diaulos.rig.tone_place import TRIM

FULL_SCALE_DBU = 12.0
"""What reaches 0 dBFS at the instrument input with the pad off."""
PAD_DB = 9.0
PROCESSING_MS = 1.4
STEREO_RIGHT_HZ = 2_500.0
"""The stand-in for a stereo effect: its right side is darker, so that the sides differ."""
KNOB_SCOPES: tuple[tuple[str, str], ...] = (
    ("jacks", "out"), ("xlr", "xlr"), ("phones", "phones"), ("none", "-"),
)  # fmt: skip
"""What the output knob can be made to act on alone, and how those ports begin."""
OUT_DBU = 12.0

_IN = AdcStage(
    full_scale_dbu=FULL_SCALE_DBU,
    latency_samples=24.3,
    floor_dbfs=-114.0,
    input_noise=(InputNoise(ein_dbu=-113.0, current_pa=0.02),),
    offsets=(Offset(when=(("pad", "on"),), db=PAD_DB, pad=True),),
)
_TRIM = GainStage(control=TRIM)
_PAD_BACK = GainStage(offsets=(Offset(when=(("pad", "on"),), db=PAD_DB),))
_PAD_AGAIN = GainStage(offsets=(Offset(when=(("pad", "on"),), db=-PAD_DB),))
_DRY: tuple[tuple[str, tuple[Stage, ...]], ...] = (
    ("behind", (_IN, _TRIM)),
    ("ahead", (_IN, _PAD_BACK)),
)
"""The dry stream by where it is tapped. Ahead of pad and trim it is as loud as the jack's
volts say: what the pad took off is given back as numbers."""
_REENTRY: tuple[tuple[str, tuple[Stage, ...]], ...] = (
    ("behind", ()),
    ("ahead", (_PAD_AGAIN, _TRIM)),
)
"""Where a played stream comes in again; ahead of pad and trim it goes through both."""


def modeler(device_id: str = "modeler", *, floor: bool = True) -> Device:
    """A floor or desktop modeler.

    The jack goes through pad and trim to the model. `dry_tap` and `reentry` say on which side
    of the two the dry taps (send, USB dry) leave and a played one comes in again. The model's
    amplifier is on or off (`model`), its cabinet one of the stand-ins or none; `feed` chooses
    the jack or the USB return; `split` puts the processed side hard left and the dry one hard
    right; `loop` puts what is between send and return before the model's cabinet. One output
    knob scales the analog outputs together.
    """
    ports = [
        _instrument_jack(),
        port("send", "Send", OUT, Connector.TS, SignalClass.INSTRUMENT, 600.0, max_dbu=10.0,
             modes=(PortMode(when=(("send_level", "line"),), signal_class=SignalClass.LINE,
                             max_add_db=8.0),)),
        port("return", "Return", IN, Connector.TS, SignalClass.LINE, 20_000.0, max_dbu=20.0),
        *(_jack(f"out_{s}", f"Jack output {w}") for s, w in (("l", "left"), ("r", "right"))),
        *(_xlr(f"xlr_{s}", f"XLR output {w}") for s, w in (("l", "left"), ("r", "right"))),
        digital("coax_out", "Coaxial digital output", OUT, DigitalFormat.CONSUMER),
        stream("usb_rec1", "USB processed left", OUT, stereo=True),
        stream("usb_rec2", "USB processed right", OUT, stereo=True),
        stream("usb_rec3", "USB dry", OUT),
        stream("usb_play1", "USB playback left", IN),
        stream("usb_play2", "USB playback right", IN),
        stream("usb_play3", "USB reamp return", IN),
    ]  # fmt: skip
    if not floor:
        ports += [
            digital("aes_out", "AES3 output", OUT, DigitalFormat.AES3),
            port("phones", "Headphone output", OUT, Connector.TRS, SignalClass.LINE, 30.0,
                 max_dbu=14.0),
        ]  # fmt: skip
    paths: list[Path] = []
    outputs: list[tuple[str, int, str]] = [
        ("out_l", 0, "l"), ("out_r", 0, "r"), ("xlr_l", 0, "l"), ("xlr_r", 0, "r"),
        ("coax_out", 0, "l"), ("coax_out", 1, "r"), ("usb_rec1", 0, "l"), ("usb_rec2", 0, "r"),
    ]  # fmt: skip
    if not floor:
        outputs += [("aes_out", 0, "l"), ("aes_out", 1, "r"), ("phones", 0, "l")]
    for target, channel, side in outputs:
        paths += _processed(target, channel, side)
    paths += [
        *_sends(),
        *(
            Path(source="in", target="usb_rec3", stages=head, when=(("dry_tap", where),))
            for where, head in _DRY
        ),
    ]  # fmt: skip
    for played, target in (("usb_play1", "out_l"), ("usb_play2", "out_r")):
        paths.append(Path(source=played, target=target, stages=(_output_stage(target),)))
    if not floor:
        paths.append(Path(source="usb_play1", target="phones", stages=(_output_stage("phones"),)))
    return Device(
        id=device_id,
        kind="modeler",
        name="Floor modeler" if floor else "Desktop modeler",
        type="floor_modeler" if floor else "desktop_modeler",
        ports=tuple(ports),
        paths=tuple(paths),
        settings=(
            rate(),
            clock(),
            switch("feed", "Plays", "jack", ("jack", "Instrument input"), ("usb", "USB return")),
            switch("pad", f"Input pad, {PAD_DB:g} dB", "off"),
            knob(TRIM, "Input trim", 0.0, -18.0, 18.0),
            switch("dry_tap", "Send and USB dry leave", "behind", ("behind", "Behind pad and trim"),
                   ("ahead", "Ahead of pad and trim")),
            switch("reentry", "USB reamp return enters", "behind",
                   ("behind", "Behind pad and trim"), ("ahead", "Ahead of pad and trim")),
            Choice(
                id="impedance",
                name="Input impedance",
                value="1M",
                options=(
                    ("1M", "1 MΩ"), ("470k", "470 kΩ"), ("220k", "220 kΩ"), ("100k", "100 kΩ"),
                    ("47k", "47 kΩ"),
                ),
            ),
            switch("model", "Amplifier model", "on"),
            cabinet_choice("closed-two"),
            switch("split", "Left and right", "both", ("both", "Processed on both"),
                   ("split", "Processed left, dry right")),
            switch("stereo", "Stereo effect", "off"),
            switch("loop", "Send and return", "off"),
            switch("send_level", "Send switch", "instrument", ("instrument", "Instrument"),
                   ("line", "Line")),
            switch("out_level", "Jack output switch", "line", ("instrument", "Instrument"),
                   ("line", "Line")),
            switch("xlr_level", "XLR output switch", "line", ("mic", "Microphone"),
                   ("line", "Line")),
            knob("return_level", "Return level", 0.0, -6.0, 18.0),
            knob("output", "Output knob", -6.0, -40.0, 0.0, noted=-6.0),
            switch("knob_scope", "Output knob acts on", "all", ("all", "All outputs"),
                   ("jacks", "Jack outputs"), ("xlr", "XLR outputs"),
                   ("phones", "Headphones"), ("none", "No output")),
            *amp_knobs("tideline"),
        ),
        mixer=True,
        notes="representative",
    )  # fmt: skip


def _sends() -> list[Path]:
    """The ways to the send, which is a dry tap: by where the dry taps leave."""
    line = Offset(when=(("send_level", "line"),), db=6.0)
    plain = DacStage(full_scale_dbu=FULL_SCALE_DBU, latency_samples=30.7, noise_dbu=-100.0,
                     offsets=(line,))  # fmt: skip
    whole = plain.model_copy(update={"offsets": (line, Offset(when=(("pad", "on"),), db=PAD_DB))})
    jack: When = (("feed", "jack"),)
    usb: When = (("feed", "usb"),)
    return [
        Path(source=source, target="send", stages=stages, when=when)
        for source, stages, when in (
            ("in", (_IN, _TRIM, plain), (*jack, ("dry_tap", "behind"))),
            ("in", (_IN, whole), (*jack, ("dry_tap", "ahead"))),
            ("usb_play3", (plain,), (*usb, ("dry_tap", "behind"), ("reentry", "behind"))),
            ("usb_play3", (_PAD_AGAIN, _TRIM, plain),
             (*usb, ("dry_tap", "behind"), ("reentry", "ahead"))),
            ("usb_play3", (plain,), (*usb, ("dry_tap", "ahead"), ("reentry", "ahead"))),
            ("usb_play3", (whole,), (*usb, ("dry_tap", "ahead"), ("reentry", "behind"))),
        )
    ]  # fmt: skip


def _instrument_jack() -> Port:
    ohms = {"470k": 470e3, "220k": 220e3, "100k": 100e3, "47k": 47e3}
    return instrument_in(
        "in",
        "Instrument input",
        max_dbu=FULL_SCALE_DBU + 1.0,
        modes=(
            *(PortMode(when=(("impedance", key),), impedance_ohm=ohm) for key, ohm in ohms.items()),
            PortMode(when=(("pad", "on"),), max_add_db=PAD_DB),
        ),
    )


def _jack(port_id: str, name: str) -> Port:
    return port(
        port_id, name, OUT, Connector.TRS, SignalClass.LINE, 200.0, max_dbu=18.0, stereo=True,
        balance=Balance.IMPEDANCE, phantom_harms=True,
        modes=(PortMode(when=(("out_level", "instrument"),), signal_class=SignalClass.INSTRUMENT,
                        max_add_db=-8.0),),
    )  # fmt: skip


def _xlr(port_id: str, name: str) -> Port:
    return port(
        port_id, name, OUT, Connector.XLR, SignalClass.LINE, 150.0, max_dbu=18.0, stereo=True,
        balance=Balance.CROSS_COUPLED, phantom_harms=True,
        modes=(PortMode(when=(("xlr_level", "mic"),), signal_class=SignalClass.MIC,
                        max_add_db=-30.0),),
    )  # fmt: skip


def _output_stage(target: str = "out_l") -> DacStage:
    return DacStage(
        full_scale_dbu=OUT_DBU,
        latency_samples=30.7,
        noise_dbu=-94.0,
        control="output",
        control_off=tuple(
            ("knob_scope", scope) for scope, ports in KNOB_SCOPES if not target.startswith(ports)
        ),
        offsets=(
            (Offset(when=(("xlr_level", "mic"),), db=-30.0),)
            if target.startswith("xlr")
            else (Offset(when=(("out_level", "instrument"),), db=-8.0),)
        ),
    )


def _processed(target: str, channel: int, side: str) -> list[Path]:
    """The ways to one output: by feed, with or without the model, round the loop, or dry on
    the right of a split."""
    analog = target.startswith(("out", "xlr", "phones"))
    tail: tuple[Stage, ...] = (_output_stage(target),) if analog else ()
    amp = AmpStage(full_scale_dbu=FULL_SCALE_DBU, full_out_dbu=27.0)
    middle: tuple[Stage, ...] = (CabinetStage(), DelayStage(ms=PROCESSING_MS))
    if side == "r":
        middle = (*middle, FilterStage(high_cut_by=(("stereo", "on", STEREO_RIGHT_HZ),)))
    found = []
    both = (("split", "both"),) if side == "r" else ()
    jack: When = (("feed", "jack"),)
    usb: When = (("feed", "usb"),)
    ways: list[tuple[str, tuple[Stage, ...], When]] = [("in", (_IN, _TRIM), jack)]
    ways += [("usb_play3", head, (*usb, ("reentry", where))) for where, head in _REENTRY]
    for source, head, when in ways:
        for model in ("on", "off"):
            inner: tuple[Stage, ...] = (amp,) if model == "on" else ()
            found.append(
                Path(
                    source=source,
                    target=target,
                    target_channel=channel,
                    stages=(*head, *inner, *middle, *tail),
                    when=(*when, ("loop", "off"), ("model", model), *both),
                )
            )
    if side == "r":
        split: When = (("split", "split"),)
        dry = [("in", head, (*jack, ("dry_tap", where), *split)) for where, head in _DRY]
        for source, head, when in (*dry, ("usb_play3", (), (*usb, *split))):
            found.append(
                Path(
                    source=source,
                    target=target,
                    target_channel=channel,
                    stages=(*head, *tail),
                    when=when,
                )
            )
    back = AdcStage(
        full_scale_dbu=18.0,
        latency_samples=24.3,
        input_noise=(InputNoise(ein_dbu=-102.0, current_pa=1.0),),
        control="return_level",
    )
    found.append(
        Path(
            source="return",
            target=target,
            target_channel=channel,
            stages=(back, *middle, *tail),
            when=(("loop", "on"), *both),
        )
    )
    return found


def software_amp(device_id: str = "software_amp") -> Device:
    """An amplifier in another program on the computer: numbers in, numbers out. What it does is
    its own; the voice here stands for it until a take shows what it does."""
    ports = (
        _in_the_computer("in", "Input", IN),
        _in_the_computer("out_l", "Output left", OUT, stereo=True),
        _in_the_computer("out_r", "Output right", OUT, stereo=True),
    )
    stages: tuple[Stage, ...] = (
        AmpStage(full_scale_dbu=FULL_SCALE_DBU, full_out_dbu=27.0),
        CabinetStage(),
        DelayStage(control="latency"),
    )
    return Device(
        id=device_id,
        kind="software_amp",
        name="Software amplifier",
        type="software_amp",
        ports=ports,
        paths=tuple(Path(source="in", target=one, stages=stages) for one in ("out_l", "out_r")),
        settings=(
            cabinet_choice("closed-two"),
            Control(id="latency", name="Latency", value=0.0, minimum=0.0, maximum=5000.0,
                    step=0.01, unit="samples"),
            *amp_knobs("tideline"),
        ),
        notes="representative",
    )  # fmt: skip


def _in_the_computer(port_id: str, name: str, way: Direction, *, stereo: bool = False) -> Port:
    """A stream that leaves no computer: it joins no grounds."""
    return stream(port_id, name, way, stereo=stereo).model_copy(update={"ground": ""})


def impulse_loader(device_id: str = "impulse_loader") -> Device:
    """Line in, a cabinet's response, line out, by its own converters."""
    return Device(
        id=device_id,
        kind="impulse_loader",
        name="Impulse loader",
        type="impulse_loader",
        ports=(
            port("in", "Input", IN, Connector.TRS, SignalClass.LINE, 20_000.0, max_dbu=20.0,
                 balance=Balance.SYMMETRICAL),
            port("out", "Output", OUT, Connector.TRS, SignalClass.LINE, 200.0, max_dbu=20.0,
                 balance=Balance.IMPEDANCE),
        ),
        paths=(
            Path(
                source="in",
                target="out",
                stages=(
                    AdcStage(
                        full_scale_dbu=18.0,
                        latency_samples=24.3,
                        input_noise=(InputNoise(ein_dbu=-102.0, current_pa=1.0),),
                    ),
                    CabinetStage(),
                    DelayStage(ms=0.8),
                    GainStage(control="output"),
                    DacStage(full_scale_dbu=18.0, latency_samples=30.7, noise_dbu=-94.0),
                ),
            ),
        ),
        settings=(cabinet_choice("closed-two"), knob("output", "Output", 0.0, -20.0, 10.0)),
        notes="representative",
    )  # fmt: skip
