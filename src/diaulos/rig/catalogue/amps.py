"""Amplifiers, loads, attenuators, speakers and microphones. Representative figures."""

from __future__ import annotations

from diaulos.rig.catalogue.parts import (
    IN,
    OUT,
    amp_knobs,
    cabinet_choice,
    instrument_in,
    knob,
    port,
    switch,
)
from diaulos.rig.model import (
    AmpStage,
    Balance,
    CabinetStage,
    Choice,
    Connector,
    Control,
    Device,
    FilterStage,
    GainStage,
    Offset,
    PassiveStage,
    Path,
    Port,
    PortMode,
    SignalClass,
    SpeakerLoad,
    Stage,
)
from diaulos.units import gain_to_db, power_to_volt, volt_to_dbu

SENSITIVITY_DB = 97.0
"""Sound level of a guitar speaker 1 m in front of it at 1 W; representative, from memory."""
PASCAL_DB = 94.0
"""Sound level of 1 Pa re 20 uPa, rounded as is usual (20 log10(1 / 20e-6) = 93.98)."""
SOUND_OHM = 400.0
CONES_M = {"open-one": 0.13, "closed-two": 0.13, "closed-four": 0.13, "bass-fifteen": 0.165}
"""Radius of the moving cone of a twelve-inch and a fifteen-inch speaker; representative."""


VALVE_OHM = 2.0
"""Of a valve amplifier at its 8-ohm tap: a quarter of its load, with feedback; representative."""
TRANSISTOR_OHM = 0.05
TAPS_OHM = (4, 8, 16)
MODEL_LOSS_DB = gain_to_db(1.0 + 0.5 / 8.0)
"""What the stand-in amplifiers' levels were set with between themselves and 8 ohms."""
BEHIND_VALVES = GainStage(gain_db=gain_to_db(1.0 + VALVE_OHM / 8.0) - MODEL_LOSS_DB)
"""What a model's volts are meant at its load: the source behind is so much more."""
SPEAKERS = {
    "open-one": SpeakerLoad(coil_ohm=6.6, resonance_hz=80.0, resonance_ohm=45.0, resonance_q=5.0,
                            coil_h=0.0008),
    "closed-two": SpeakerLoad(coil_ohm=6.6, resonance_hz=105.0, resonance_ohm=50.0,
                              resonance_q=4.0, coil_h=0.0008),
    "closed-four": SpeakerLoad(coil_ohm=6.6, resonance_hz=115.0, resonance_ohm=50.0,
                               resonance_q=4.0, coil_h=0.0008),
    "bass-fifteen": SpeakerLoad(coil_ohm=6.8, resonance_hz=50.0, resonance_ohm=35.0,
                                resonance_q=4.0, coil_h=0.0016),
}  # fmt: skip
"""Of 8 ohms nominal: about 8 ohms at 400 Hz. Representative, from memory."""
LOAD = SpeakerLoad(coil_ohm=6.6, resonance_hz=110.0, resonance_ohm=42.0, resonance_q=4.0,
                   coil_h=0.0008)  # fmt: skip
"""Of a reactive load; representative."""


def sound_db(sensitivity_db: float, ohm: float) -> float:
    """From the volts at a speaker to the sound pressure at 1 m, written as dBu: 0 dBu stands
    for 1 Pa. A watt is sqrt(ohm) volts."""
    return sensitivity_db - PASCAL_DB - volt_to_dbu(power_to_volt(1.0, ohm))


def valve_amp(
    device_id: str = "amp",
    *,
    power_w: float = 18.0,
    name: str = "18 W combo",
    type_id: str = "valve_combo",
    voice: str = "tideline",
    loop: bool = False,
) -> Device:
    """A valve amplifier with a speaker output that has taps for 4, 8 and 16 ohms. Its source
    impedance is a quarter of the tap's: with a speaker its volts rise at the resonance and in
    the treble."""
    return _amp(device_id, type_id, name, power_w, voice, valve=True, loop=loop)


def transistor_amp(device_id: str = "amp", *, bridged: bool = True) -> Device:
    """A transistor bass amplifier; its output is bridged and asks for 4 ohms at least."""
    return _amp(
        device_id,
        "bass_amp" if bridged else "transistor_amp",
        "300 W bass amplifier" if bridged else "60 W transistor amplifier",
        300.0 if bridged else 60.0,
        "keel" if bridged else "lantern",
        valve=False,
        bridged=bridged,
        di=bridged,
    )


def _amp(
    device_id: str,
    type_id: str,
    name: str,
    power_w: float,
    voice: str,
    *,
    valve: bool,
    loop: bool = False,
    bridged: bool = False,
    di: bool = False,
) -> Device:
    rated = 8.0
    most = volt_to_dbu(power_to_volt(power_w, rated))
    ohm = VALVE_OHM if valve else TRANSISTOR_OHM
    taps = [(str(tap), volt_to_dbu(power_to_volt(power_w, float(tap))) - most)
            for tap in TAPS_OHM] if valve else []  # fmt: skip
    ports = [
        instrument_in("in", "Input", max_dbu=16.0),
        port("speaker", "Speaker output", OUT, Connector.TS, SignalClass.SPEAKER, ohm,
             max_dbu=most, power_w=power_w, rated_ohm=rated, least_ohm=rated / 2.0,
             bridged=bridged,
             modes=tuple(
                 PortMode(when=(("tap", tap),), impedance_ohm=ohm * float(tap) / rated,
                          max_add_db=more, rated_ohm=float(tap), least_ohm=float(tap) / 2.0)
                 for tap, more in taps if float(tap) != rated
             )),
    ]  # fmt: skip
    behind = BEHIND_VALVES.model_copy(
        update={"offsets": tuple(Offset(when=(("tap", tap),), db=more) for tap, more in taps)}
    )
    stages: tuple[Stage, ...] = (AmpStage(), behind) if valve else (AmpStage(),)
    paths = [Path(source="in", target="speaker", stages=stages)]
    settings: list[Choice | Control] = list(amp_knobs(voice))
    if valve:
        settings.append(
            switch("tap", "Speaker tap", "8", *((tap, f"{tap} \N{GREEK CAPITAL LETTER OMEGA}")
                                               for tap, _ in taps))
        )  # fmt: skip
    if loop:
        ports += [
            port("send", "Effects send", OUT, Connector.TS, SignalClass.LINE, 600.0, max_dbu=12.0),
            port("return", "Effects return", IN, Connector.TS, SignalClass.LINE, 47_000.0,
                 max_dbu=16.0),
        ]  # fmt: skip
        settings.append(switch("loop", "Effects loop", "off"))
        paths = [
            Path(source="in", target="speaker", stages=stages, when=(("loop", "off"),)),
            Path(source="in", target="send", stages=(GainStage(gain_db=6.0, noise_dbu=-90.0),),
                 printed=True),
            Path(source="return", target="speaker", stages=stages, when=(("loop", "on"),)),
        ]  # fmt: skip
    if di:
        ports.append(
            port("di", "DI output", OUT, Connector.XLR, SignalClass.MIC, 150.0, max_dbu=0.0,
                 balance=Balance.CROSS_COUPLED, phantom_harms=True)
        )  # fmt: skip
        paths.append(
            Path(source="in", target="di", stages=(GainStage(gain_db=-15.0, noise_dbu=-110.0),))
        )
    return Device(
        id=device_id,
        kind="amp",
        name=name,
        type=type_id,
        ports=tuple(ports),
        paths=tuple(paths),
        settings=tuple(settings),
        valve=valve,
        earthed=True,
        notes="representative",
    )


def reactive_load(device_id: str = "load_box", power_w: float = 100.0) -> Device:
    """An 8-ohm reactive load: a line output with a cabinet's response, and one without."""
    return Device(
        id=device_id,
        kind="load_box",
        name="8-ohm load box",
        type="reactive_load",
        ports=(
            _speaker_in(8.0, power_w, LOAD),
            port("line", "Line output", OUT, Connector.XLR, SignalClass.LINE, 200.0, max_dbu=20.0,
                 balance=Balance.CROSS_COUPLED, ground="line", phantom_harms=True),
            port("plain", "Line output without cabinet", OUT, Connector.TRS, SignalClass.LINE,
                 200.0, max_dbu=20.0, balance=Balance.CROSS_COUPLED, ground="plain",
                 phantom_harms=True),
        ),
        paths=(
            Path(
                source="speaker",
                target="line",
                stages=(GainStage(gain_db=-22.0, noise_dbu=-98.0), CabinetStage()),
            ),
            Path(
                source="speaker",
                target="plain",
                stages=(GainStage(gain_db=-22.0, noise_dbu=-98.0),),
            ),
        ),
        settings=(cabinet_choice("open-one"),),
        notes="representative; its line outputs are isolated from the amplifier",
    )  # fmt: skip


TAP_OHM = 10_000.0
"""What the line tap of an attenuator draws; the speaker behind is its load."""


def attenuator(device_id: str = "attenuator", power_w: float = 60.0) -> Device:
    """8 ohms in, a quieter speaker output, and a line output without a cabinet."""
    return Device(
        id=device_id,
        kind="attenuator",
        name="8-ohm attenuator",
        type="attenuator",
        ports=(
            port("speaker", "Speaker input", IN, Connector.TS, SignalClass.SPEAKER, TAP_OHM,
                 power_w=power_w, rated_ohm=8.0),
            port("out", "Speaker output", OUT, Connector.TS, SignalClass.SPEAKER, 8.0,
                 rated_ohm=8.0),
            port("line", "Line output", OUT, Connector.TRS, SignalClass.LINE, 300.0, max_dbu=18.0,
                 ground="line", phantom_harms=True),
        ),
        paths=(
            Path(
                source="speaker",
                target="out",
                stages=(PassiveStage(pad_ohm=8.0, control="quieter"),),
            ),
            Path(
                source="speaker",
                target="line",
                stages=(GainStage(gain_db=-24.0, noise_dbu=-98.0),),
            ),
        ),
        settings=(knob("quieter", "Attenuation", -12.0, -30.0, 0.0, 3.0),),
        notes="representative; it wants its speaker, which the amplifier goes on seeing",
    )  # fmt: skip


def cabinet(device_id: str = "cabinet", *, speakers: int = 1, bass: bool = False) -> Device:
    """A speaker cabinet of 8 ohms with a parallel link."""
    voice, words, power = {
        (1, False): ("open-one", "Open cabinet, one twelve-inch", 60.0),
        (2, False): ("closed-two", "Closed cabinet, two twelve-inch", 120.0),
        (4, False): ("closed-four", "Closed cabinet, four twelve-inch", 240.0),
        (1, True): ("bass-fifteen", "Bass cabinet, one fifteen-inch", 600.0),
    }[speakers, bass]
    return Device(
        id=device_id,
        kind="cabinet",
        name=words,
        type="bass_cabinet" if bass else f"cabinet{speakers}",
        ports=(
            _speaker_in(8.0, power, SPEAKERS[voice]),
            port("link", "Parallel link", OUT, Connector.TS, SignalClass.SPEAKER, 0.01),
            port("sound", "Sound in front", OUT, Connector.AIR, SignalClass.SOUND, SOUND_OHM,
                 ground="", cone_m=CONES_M[voice]),
        ),
        paths=(
            Path(source="speaker", target="link"),
            Path(
                source="speaker",
                target="sound",
                stages=(GainStage(gain_db=sound_db(SENSITIVITY_DB, 8.0)), CabinetStage()),
            ),
        ),
        settings=(cabinet_choice(voice),),
        notes="representative",
    )  # fmt: skip


def series_link(device_id: str = "series") -> Device:
    """Two cabinets one behind the other on one output: their ohms add up."""
    return Device(
        id=device_id,
        kind="series_link",
        name="Series link",
        type="series_link",
        ports=(
            _speaker_in(1e6, 1_000.0),
            port("out1", "To cabinet 1", OUT, Connector.TS, SignalClass.SPEAKER, 0.01),
            port("out2", "To cabinet 2", OUT, Connector.TS, SignalClass.SPEAKER, 0.01),
        ),
        paths=(
            Path(source="speaker", target="out1", stages=(GainStage(gain_db=-6.0),)),
            Path(source="speaker", target="out2", stages=(GainStage(gain_db=-6.0),)),
        ),
    )


def _speaker_in(ohm: float, power_w: float, speaker: SpeakerLoad | None = None) -> Port:
    """It does not clip here; it burns."""
    return port("speaker", "Speaker input", IN, Connector.TS, SignalClass.SPEAKER, ohm,
                power_w=power_w, speaker=speaker)  # fmt: skip


_MICS: dict[str, tuple[str, float, float, float, bool, bool]] = {
    # words, mV/Pa, lowest and highest corner, phantom needed, harmed by it; representative
    "large_dynamic": ("Large dynamic microphone", 2.5, 35.0, 9_000.0, False, False),
    "small_dynamic": ("Small dynamic microphone", 2.0, 70.0, 12_000.0, False, False),
    "condenser": ("Condenser microphone", 10.0, 20.0, 18_000.0, True, False),
    "ribbon": ("Ribbon microphone", 1.25, 30.0, 11_000.0, False, True),
}


def microphone(device_id: str = "mic", kind: str = "small_dynamic") -> Device:
    """A microphone in front of a speaker: nearer the edge, or off axis, is darker."""
    words, mv_per_pa, low, high, needs, harmed = _MICS[kind]
    gain_db = volt_to_dbu(mv_per_pa / 1000.0)
    places = (("centre", "Centre of the cone"), ("edge", "Edge of the cone"),
              ("off axis", "Off axis"))  # fmt: skip
    return Device(
        id=device_id,
        kind="microphone",
        name=words,
        type=kind,
        ports=(
            port("sound", "In front of it", IN, Connector.AIR, SignalClass.SOUND, 1e6, ground=""),
            port("out", "Output", OUT, Connector.XLR, SignalClass.MIC, 200.0, max_dbu=-4.0,
                 balance=Balance.CROSS_COUPLED, needs_phantom=needs, phantom_harms=harmed),
        ),
        paths=(
            Path(
                source="sound",
                target="out",
                stages=(
                    FilterStage(
                        low_cut_hz=low,
                        high_cut_hz=high,
                        high_cut_by=(
                            ("place", "edge", 0.25 * high),
                            ("place", "off axis", 0.15 * high),
                        ),
                    ),
                    GainStage(gain_db=gain_db, noise_dbu=-124.0),
                ),
            ),
        ),
        settings=(switch("place", "Place", "centre", *places),),
        notes="representative",
    )  # fmt: skip
