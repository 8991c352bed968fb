"""The rig as data: devices with ports, controls and inner paths, and the cables between.

Everything is frozen and serialisable; a change is a new rig. Figures carry their unit in
their name. A device is described by what it does between its ports (`Path`), so that
levels (`plan.py`) and sound (`bench/`) are worked out from the same description.
"""

import math
from enum import StrEnum
from typing import Annotated, Literal, Self, assert_never

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from diaulos.errors import RigError

Word = Annotated[str, StringConstraints(pattern=r"^[^\p{Cc}\p{Zl}\p{Zp}]*$")]
"""One line of text: sessions come from strangers, and a name with a line break, a NUL or a
terminal's commands in it is none."""
Prose = Annotated[str, StringConstraints(pattern=r"^(?:[^\p{Cc}]|[\n\t])*$")]
"""Lines of text."""


class Frozen(BaseModel):
    """Base of every part of a document: immutable, and strict about unknown fields."""

    # A figure that is none cannot come in; one that was put in past the checks is not written as
    # if it were missing.
    model_config = ConfigDict(
        frozen=True, extra="forbid", allow_inf_nan=False, ser_json_inf_nan="constants"
    )


class Direction(StrEnum):
    """Which way a port carries its signal."""

    IN = "in"
    OUT = "out"


class SignalClass(StrEnum):
    """What kind of signal a port is made for."""

    INSTRUMENT = "instrument"
    MIC = "mic"
    LINE = "line"
    SPEAKER = "speaker"
    DIGITAL = "digital"
    STREAM = "stream"
    SOUND = "sound"
    """Air between a speaker and a microphone or a listener."""
    POWER = "power"
    """A pedal's supply."""

    @property
    def words(self) -> str:
        """For a person, with its article."""
        return {
            "instrument": "an instrument", "mic": "a microphone", "stream": "a USB stream",
            "sound": "an acoustic",
        }.get(self.value, f"a {self.value}")  # fmt: skip

    @property
    def label(self) -> str:
        """For a label, without article."""
        return {"mic": "microphone", "stream": "USB"}.get(self.value, self.value)


SOFTWARE = "software_amp"
"""The kind of device that is another program."""
IN_THE_COMPUTER = ("recorder", SOFTWARE)
"""Kinds of devices that are programs: a sound server adds up what they play into one output."""
DIGITAL_CLASSES = (SignalClass.DIGITAL, SignalClass.STREAM)
AUDIO_CLASSES = (SignalClass.INSTRUMENT, SignalClass.MIC, SignalClass.LINE)


class Connector(StrEnum):
    """The plug that fits."""

    TS = "TS 6.35 mm"
    TRS = "TRS 6.35 mm"
    XLR = "XLR"
    COMBO = "XLR or TRS 6.35 mm"
    SPEAKER = "locking speaker plug"
    COAXIAL = "coaxial"
    OPTICAL = "optical"
    USB = "USB"
    DC = "DC barrel"
    AIR = "air"


class DigitalFormat(StrEnum):
    """What is spoken over a digital connector."""

    CONSUMER = "IEC 60958 consumer"
    AES3 = "AES3"
    OPTICAL8 = "optical, eight channels"

    @property
    def words(self) -> str:
        """For a person."""
        return "coaxial digital, consumer format" if self.value.startswith("IEC") else self.value


class Balance(StrEnum):
    """How an analog port is balanced.

    A symmetrical output used with one leg gives 6 dB less; a cross-coupled or an
    impedance-balanced one does not: a property of the output.
    """

    NONE = "unbalanced"
    SYMMETRICAL = "symmetrical"
    CROSS_COUPLED = "cross-coupled"
    IMPEDANCE = "impedance-balanced"


When = tuple[tuple[str, str], ...]
"""Choices that must stand as named, as (setting, value); empty: always."""


class PortMode(Frozen):
    """What is different at a port while some switches stand as named. None: as the port has
    it; `max_add_db` is added to its maximum level."""

    when: When
    signal_class: SignalClass | None = None
    impedance_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    capacitance_pf: float | None = Field(default=None, ge=0.0, le=1e6)
    balance: Balance | None = None
    max_add_db: float = 0.0
    phantom: bool | None = None
    rated_ohm: float | None = Field(default=None, gt=0.0, le=1e6)
    least_ohm: float | None = Field(default=None, gt=0.0, le=1e6)


class SpeakerLoad(Frozen):
    """What a loudspeaker, or a load that stands for one, is over frequency: the coil's own
    resistance, in series with the resonance of the moving parts (a parallel circuit of
    `resonance_ohm`, quality `resonance_q`) and with the coil's inductance. The equivalent
    circuit of Thiele and Small (textbook, from memory)."""

    coil_ohm: float = Field(gt=0.0, le=1e4)
    resonance_hz: float = Field(gt=1.0, le=2e4)
    resonance_ohm: float = Field(ge=0.0, le=1e5)
    resonance_q: float = Field(gt=0.0, le=100.0)
    coil_h: float = Field(default=0.0, ge=0.0, le=1.0)


class Port(Frozen):
    """One connector. `impedance_ohm` is the load of an input, the source of an output;
    `max_dbu` the level at which it clips (None: nothing to clip). `nominal_dbu` is the
    loudest peak that an output is usually run at. `ground` names what its shield is
    joined to inside the device ("": nothing, as for light and air)."""

    id: Word
    name: Word
    direction: Direction
    connector: Connector
    signal_class: SignalClass
    impedance_ohm: float = Field(gt=0.0, le=1e9)
    capacitance_pf: float = Field(default=0.0, ge=0.0, le=1e6)
    max_dbu: float | None = None
    nominal_dbu: float | None = None
    balance: Balance = Balance.NONE
    ground: Word = "chassis"
    channels: int = Field(default=1, ge=1, le=64)
    format: DigitalFormat | None = None
    modes: tuple[PortMode, ...] = ()
    phantom: bool = False
    phantom_harms: bool = False
    needs_phantom: bool = False
    power_w: float | None = Field(default=None, gt=0.0, le=1e5)
    """What an amplifier puts out here, or a speaker or load takes."""
    rated_ohm: float | None = Field(default=None, gt=0.0, le=1e6)
    """The load that a speaker output is made for."""
    least_ohm: float | None = Field(default=None, gt=0.0, le=1e6)
    bridged: bool = False
    """A speaker output whose minus is live."""
    cone_m: float | None = Field(default=None, gt=0.0, le=1.0)
    """Radius of the cone whose sound leaves here: it says how sound falls off with distance.
    None: as loud at any distance."""
    speaker: SpeakerLoad | None = None
    """Of a speaker or load: its impedance over frequency; None: its ohms at every frequency."""
    stereo: bool = False
    """An output that carries one side of a stereo picture when its partner is used."""


class ControlRange(Frozen):
    """A control's range and step while a switch stands as named."""

    when: When
    minimum: float = Field(ge=-5000.0)
    maximum: float = Field(le=5000.0)
    step: float = Field(gt=0.0)


class Control(Frozen):
    """A knob: a number with a range and a step."""

    kind: Literal["control"] = "control"
    id: Word
    name: Word
    value: float
    minimum: float = Field(ge=-5000.0)
    maximum: float = Field(le=5000.0)
    step: float = Field(gt=0.0)
    unit: Word = "dB"
    noted: float | None = None
    """Where it stood when an output was calibrated; None: nothing depends on it."""
    ranges: tuple[ControlRange, ...] = Field(default=(), max_length=16)
    """Range and step by a switch's position, where they differ; turning the switch sets them."""

    @model_validator(mode="after")
    def _in_range(self) -> Self:
        if not self.minimum <= self.value <= self.maximum:
            raise ValueError(
                f"{self.name} is {self.value:g} {self.unit}; "
                f"it runs from {self.minimum:g} to {self.maximum:g}"
            )
        return self

    def as_ranged(self, device: "Device") -> Self:
        """With the range of the switches' positions, the value moved inside."""
        for one in self.ranges:
            if device.holds(one.when):
                wide = self.model_copy(
                    update={"minimum": one.minimum, "maximum": one.maximum, "step": one.step}
                )
                return wide.model_copy(update={"value": wide.nearest(self.value)})
        return self

    def nearest(self, value: float) -> float:
        """The step closest to a value, inside the range."""
        steps = round((value - self.minimum) / self.step)
        stepped = round(self.minimum + steps * self.step, 9)
        return min(self.maximum, max(self.minimum, stepped))

    def at_most(self, value: float) -> float:
        """The highest step that is not above a value, inside the range."""
        steps = math.floor((value - self.minimum) / self.step + 1e-6)
        stepped = round(self.minimum + steps * self.step, 9)
        return min(self.maximum, max(self.minimum, stepped))


class Choice(Frozen):
    """A switch: one of several named options (id and words for a person)."""

    kind: Literal["choice"] = "choice"
    id: Word
    name: Word
    value: Word
    options: tuple[tuple[str, str], ...]
    open_ended: bool = False
    """True where a name from outside the list is allowed (a file of the session)."""

    @model_validator(mode="after")
    def _known(self) -> Self:
        if not self.open_ended and self.value not in dict(self.options):
            raise ValueError(f"{self.name}: {self.value!r} is not one of its options")
        return self


Setting = Annotated[Control | Choice, Field(discriminator="kind")]


class Offset(Frozen):
    """dB that a switch in one of its positions adds to a stage's gain or full scale. A `pad`
    stands ahead of the input stage: it raises the noise re the input by as much."""

    when: When
    db: float
    pad: bool = False


class InputNoise(Frozen):
    """What an input stage adds, re its input, while some switches stand as named.

    `ein_dbu` is the equivalent input noise as makers publish it: 20 Hz to 20 kHz,
    unweighted, 150 ohm at the input, whose own thermal noise is part of it. `current_pa` is
    the current noise in pA per root hertz; it works on the source's impedance.
    """

    when: When = ()
    ein_dbu: float = Field(ge=-150.0, le=0.0)
    current_pa: float = Field(default=0.0, ge=0.0, le=1e6)


class Measured(Frozen):
    """What a calibration found of a converter: the dBu of a sine at 0 dBFS with some switches
    and a gain, when, and against what."""

    when: When = ()
    gain_db: float = 0.0
    full_scale_dbu: float = Field(ge=-120.0, le=80.0)
    made_at: Word = ""
    how: Word = ""


class GainStage(Frozen):
    """A gain between an input and an output, with the polarity it gives."""

    kind: Literal["gain"] = "gain"
    gain_db: float = 0.0
    control: str | None = None
    inverts: bool = False
    noise_dbu: float | None = None
    """Noise at the output, 20 Hz to 20 kHz unweighted; no gain moves it."""
    input_noise: tuple[InputNoise, ...] = ()
    """The first whose switches stand as named counts."""
    offsets: tuple[Offset, ...] = ()


class FilterStage(Frozen):
    """First-order corners, as of a microphone's place or a pedal's tone. `high_cut_by`
    replaces the upper corner by the position of a switch: (setting, value, Hz)."""

    kind: Literal["filter"] = "filter"
    low_cut_hz: float | None = Field(default=None, gt=0.0)
    high_cut_hz: float | None = Field(default=None, gt=0.0)
    high_cut_by: tuple[tuple[str, str, float], ...] = ()


class DelayStage(Frozen):
    """Time that processing takes, in ms, and in buffers: `buffers` times the samples that
    the choice `buffer` names, and the samples of the control `control`."""

    kind: Literal["delay"] = "delay"
    ms: float = Field(default=0.0, ge=0.0)
    buffers: int = Field(default=0, ge=0)
    buffer: str | None = None
    """A choice whose values are numbers of samples."""
    control: str | None = None


class DacStage(Frozen):
    """Digital to analog: a 0 dBFS sine comes out as `full_scale_dbu`, open circuit."""

    kind: Literal["dac"] = "dac"
    full_scale_dbu: float
    latency_samples: float = Field(ge=0.0)
    noise_dbu: float = -100.0
    control: str | None = None
    control_off: When = ()
    """Positions of switches in any of which the control does not act on this output."""
    offsets: tuple[Offset, ...] = ()
    """Added to the full scale."""
    measured: tuple[Measured, ...] = Field(default=(), max_length=1000)
    """Calibrations; the newest that fits the switches counts."""


class AdcStage(Frozen):
    """Analog to digital: a sine of `full_scale_dbu` at the port reaches 0 dBFS at gain 0."""

    kind: Literal["adc"] = "adc"
    full_scale_dbu: float
    latency_samples: float = Field(ge=0.0)
    floor_dbfs: float = Field(default=-114.0, ge=-200.0, le=0.0)
    """The converter's own noise, RMS after AES17, 20 Hz to 20 kHz unweighted."""
    input_noise: tuple[InputNoise, ...] = ()
    """Of the input stage; the first whose switches stand as named counts."""
    control: str | None = None
    offsets: tuple[Offset, ...] = ()
    """Added to the full scale."""
    measured: tuple[Measured, ...] = Field(default=(), max_length=1000)
    """Calibrations; the newest that fits the switches counts."""


class PassiveStage(Frozen):
    """A passive network: transformer, series and shunt resistance, trim potentiometer.

    In order from the input: series and shunt resistor, transformer `turns_ratio`:1 with
    its magnetising inductance, trim pot (`trim_ohm`, its position from a control in dB of
    loss), series resistor. Its impedances act on both neighbours.
    """

    kind: Literal["passive"] = "passive"
    series_in_ohm: float = Field(default=0.0, ge=0.0, le=1e9)
    shunt_ohm: float | None = Field(default=None, gt=0.0, le=1e12)
    turns_ratio: float = Field(default=1.0, gt=1e-3, lt=1e3)
    magnetising_h: float | None = Field(default=None, gt=0.0, le=1e6)
    trim_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    pad_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    """An attenuator made for a load of so many ohms, ahead of the trim: set to 0 dB it is a
    wire. Whatever it takes away, it takes at every frequency, and shows in front what hangs
    behind: the amplifier sees its speaker as before."""
    control: str | None = None
    series_out_ohm: float = Field(default=0.0, ge=0.0, le=1e9)
    inverts: bool = False
    measured_db: float = Field(default=0.0, ge=-20.0, le=20.0)
    """What a calibration found more behind it than its parts say, at 1 kHz."""
    measured_at: Word = ""


class AmpStage(Frozen):
    """A stand-in amplifier; its settings are the device's.

    `full_scale_dbu` is given where it is a model inside a digital device: what 0 dBFS at
    its input stands for. `full_out_dbu` is then what leaves it at 0 dBFS.
    """

    kind: Literal["amp"] = "amp"
    full_scale_dbu: float | None = None
    full_out_dbu: float = 36.0


class CompressorStage(Frozen):
    """What holds loud playing back; its settings are the device's `threshold` (dBu), `ratio`,
    `attack` and `release` (ms)."""

    kind: Literal["compressor"] = "compressor"


class CabinetStage(Frozen):
    """A speaker cabinet as heard by a close microphone, as an impulse response."""

    kind: Literal["cabinet"] = "cabinet"
    setting: Word = "cabinet"


Stage = Annotated[
    GainStage
    | DacStage
    | AdcStage
    | PassiveStage
    | AmpStage
    | CompressorStage
    | CabinetStage
    | FilterStage
    | DelayStage,
    Field(discriminator="kind"),
]


class Path(Frozen):
    """What a device does from one of its inputs to one of its outputs.

    Ports of several channels name which one (from 0). The path is there while the choices
    in `when` stand as named. Paths of one output with `mixes` are added up inside.
    """

    source: Word
    target: Word
    stages: tuple[Stage, ...] = ()
    source_channel: int = Field(default=0, ge=0, lt=64)
    target_channel: int = Field(default=0, ge=0, lt=64)
    when: When = ()
    printed: bool = False
    """A sound that belongs to the performance: what is behind it is no longer dry."""


SWITCHES = {
    "rate", "buffer", "clock", "monitoring", "direct", "stereo", "split", "bypass", "muted",
    "instrument", "family", "cabinet", "voice",
}  # fmt: skip
"""What a setting of this name is, wherever one has it."""


def named_by(stage: Stage) -> tuple[set[str], set[str]]:
    """The switches and the controls that a stage reads."""
    words: set[str] = set()
    numbers: set[str] = set()
    match stage:
        case AmpStage():
            return {"voice"}, {"drive", "bass", "mid", "treble", "master"}
        case CompressorStage():
            return words, {"threshold", "ratio", "attack", "release"}
        case CabinetStage():
            return {stage.setting}, numbers
        case FilterStage():
            return {name for name, _, _ in stage.high_cut_by}, numbers
        case DelayStage():
            if stage.buffer is not None:
                words.add(stage.buffer)
        case GainStage():
            words |= _switches(stage.offsets) | _switches(stage.input_noise)
        case AdcStage():
            words |= _switches(stage.offsets) | _switches(stage.input_noise)
            words |= _switches(stage.measured)
        case DacStage():
            words |= _switches(stage.offsets) | _switches(stage.measured)
            words |= {name for name, _ in stage.control_off}
        case PassiveStage():
            pass
        case _:
            assert_never(stage)
    if stage.control is not None:
        numbers.add(stage.control)
    return words, numbers


def _switches(
    parts: tuple[Offset, ...] | tuple[InputNoise, ...] | tuple[Measured, ...],
) -> set[str]:
    return {name for part in parts for name, _ in part.when}


class Device(Frozen):
    """Anything with ports."""

    id: Word
    kind: Word
    name: Word
    ports: tuple[Port, ...]
    paths: tuple[Path, ...] = ()
    settings: tuple[Setting, ...] = ()
    valve: bool = False
    earthed: bool = False
    """Its chassis is joined to the safety earth of the mains."""
    mixer: bool = False
    """Its outputs are made for several inputs at once."""
    notes: Prose = ""
    type: Word = ""
    """The catalogue's type that it was made from."""

    @model_validator(mode="after")
    def _whole(self) -> Self:
        """Paths and switches name what is there: a device may come from a stranger's file."""
        ports = {port.id: port for port in self.ports}
        settings = {setting.id: setting for setting in self.settings}
        if len(ports) != len(self.ports) or len(settings) != len(self.settings):
            raise ValueError(f"{self.name}: two ports or two controls have the same id")
        words: set[str] = {name for port in self.ports for m in port.modes for name, _ in m.when}
        numbers: set[str] = set()
        for path in self.paths:
            for end, channel, way in (
                (path.source, path.source_channel, Direction.IN),
                (path.target, path.target_channel, Direction.OUT),
            ):
                if end not in ports or ports[end].direction is not way:
                    raise ValueError(f"{self.name}: a path names the port {end!r}, which is not "
                                     f"there or is no {way.value}put")  # fmt: skip
                if channel >= ports[end].channels:
                    raise ValueError(f"{self.name}: a path names channel {channel} of {end}")
            words |= {name for name, _ in path.when}
            for stage in path.stages:
                more_words, more_numbers = named_by(stage)
                words |= more_words
                numbers |= more_numbers
        words |= SWITCHES & set(settings)
        for names, kind, what in ((words, Choice, "switch"), (numbers, Control, "control")):
            for name in sorted(names):
                if not isinstance(settings.get(name), kind):
                    raise ValueError(f"{self.name} has no {what} {name!r}, which a path names")
        for name in ("rate", "buffer"):
            choice = settings.get(name)
            if isinstance(choice, Choice):
                for value in (choice.value, *(option for option, _ in choice.options)):
                    if not value.isdecimal() or not 0 < int(value) < 10**7:
                        raise ValueError(f"{self.name}: {choice.name} is {value!r}, no number")
        return self

    def port(self, port_id: str) -> Port:
        """The port of this id as its switches make it; RigError when there is none."""
        for port in self.ports:
            if port.id == port_id:
                return self.as_switched(port)
        raise RigError(f"{self.name} has no port {port_id!r}.", where=self.id)

    def as_switched(self, port: Port) -> Port:
        """A port of this device as its switches make it."""
        for mode in port.modes:
            if not self.holds(mode.when):
                continue
            values = {
                name: value
                for name in (
                    "signal_class",
                    "impedance_ohm",
                    "capacitance_pf",
                    "balance",
                    "phantom",
                    "rated_ohm",
                    "least_ohm",
                )
                if (value := getattr(mode, name)) is not None
            }
            if mode.max_add_db and port.max_dbu is not None:
                values["max_dbu"] = port.max_dbu + mode.max_add_db
            port = port.model_copy(update=values)
        return port

    def holds(self, when: When) -> bool:
        """Whether these choices stand as named."""
        return all(self.word(setting) == value for setting, value in when)

    @property
    def live_paths(self) -> tuple[Path, ...]:
        """The paths that are there as the switches stand."""
        return tuple(path for path in self.paths if self.holds(path.when))

    def has_setting(self, setting_id: str) -> bool:
        """Whether there is a control or choice of this id."""
        return any(setting.id == setting_id for setting in self.settings)

    def setting(self, setting_id: str) -> Setting:
        """The control or choice of this id; RigError when there is none."""
        for setting in self.settings:
            if setting.id == setting_id:
                return setting
        raise RigError(f"{self.name} has no control {setting_id!r}.", where=self.id)

    def number(self, setting_id: str | None) -> float:
        """Value of a control; 0 for none."""
        if setting_id is None:
            return 0.0
        setting = self.setting(setting_id)
        if not isinstance(setting, Control):
            raise RigError(f"{setting.name} of {self.name} is not a number.", where=self.id)
        return setting.value

    def word(self, setting_id: str) -> str:
        """Value of a choice."""
        setting = self.setting(setting_id)
        if not isinstance(setting, Choice):
            raise RigError(f"{setting.name} of {self.name} is not a choice.", where=self.id)
        return setting.value

    def acts(self, stage: DacStage) -> bool:
        """Whether an output's control acts on it as the switches stand."""
        return stage.control is not None and not any(
            self.word(setting) == value for setting, value in stage.control_off
        )

    def with_setting(self, setting_id: str, value: float | str) -> Self:
        """This device with one control or choice set; RigError when it does not allow it."""
        old = self.setting(setting_id)
        try:
            new = type(old).model_validate({**old.model_dump(), "value": value})
        except ValueError as error:
            raise RigError(
                f"{old.name} of {self.name} cannot be set to {value!r}.",
                where=self.id,
                remedy=_range_words(old),
            ) from error
        settings = tuple(new if s.id == setting_id else s for s in self.settings)
        device = self.model_copy(update={"settings": settings})
        return device._ranged() if isinstance(new, Choice) else device

    def _ranged(self) -> Self:
        """With every control in the range that it has as the switches stand now."""
        if not any(isinstance(s, Control) and s.ranges for s in self.settings):
            return self
        settings = tuple(s.as_ranged(self) if isinstance(s, Control) else s for s in self.settings)
        return self.model_copy(update={"settings": settings})


def _range_words(setting: Setting) -> str:
    if isinstance(setting, Control):
        return f"It runs from {setting.minimum:g} to {setting.maximum:g} {setting.unit}.".strip()
    return f"It can be: {', '.join(option for option, _ in setting.options)}."


class PortRef(Frozen):
    """One port of one device."""

    device: Word
    port: Word

    def __str__(self) -> str:
        return f"{self.device}.{self.port}"


class CableKind(StrEnum):
    """How a cable is made."""

    USUAL = "usual"
    """The right kind for what it joins."""
    INSTRUMENT = "instrument"
    BALANCED = "balanced"
    SPEAKER = "speaker"
    COAXIAL = "coaxial"
    AES3 = "AES3"
    OPTICAL = "optical"
    USB = "USB"
    DC = "DC"
    AIR = "air"


class Cable(Frozen):
    """A link from an output to an input."""

    id: Word
    source: PortRef
    target: PortRef
    length_m: float = Field(default=3.0, ge=0.0, le=1000.0)
    pf_per_m: float = Field(default=100.0, ge=0.0, le=10_000.0)
    label: Word = ""
    kind: CableKind = CableKind.USUAL

    @property
    def capacitance_f(self) -> float:
        """Capacitance of the whole cable in farad."""
        return self.length_m * self.pf_per_m * 1e-12


Tap = Literal["di", "printed", "amp", "cabinet", "modeled", "mic"]


class PlannedTrack(Frozen):
    """What a recorded track is meant to be: its name, where it leaves the course, whose
    performance it belongs to. `source` is the device that it starts at."""

    port: PortRef
    name: Word
    tap: Tap
    source: Word
    group: Word = ""
    input_number: int | None = Field(default=None, ge=1, le=256)


class SettingRef(Frozen):
    """One control or switch of one device."""

    device: Word
    setting: Word

    def __str__(self) -> str:
        return f"{self.device}.{self.setting}"


RigState = Literal["record", "reamp"]


class StateSwitch(Frozen):
    """How a control or switch stands in state Reamp, where that is otherwise than in Record."""

    device: Word
    setting: Word
    value: float | Word

    @property
    def ref(self) -> tuple[str, str]:
        """What it sets."""
        return self.device, self.setting


class PlayedLevel(Frozen):
    """The loudest peak of an instrument's EMF, in dBu of a sine, and how far the RMS of loud
    playing lies below it."""

    device: Word
    emf_peak_dbu: float = Field(ge=-80.0, le=40.0)
    crest_db: float = Field(default=12.0, ge=0.0, le=60.0)
    origin: Literal["typed", "sound check"] = "typed"


class Tie(Frozen):
    """A port by which the computer plays or hears, and the channel of a real device (from 1) that
    it is."""

    port: PortRef
    channel: int = Field(ge=1, le=512)


class DeviceMap(Frozen):
    """Which socket of a real device is which, as a person tied them; `inputs` and `outputs` are
    what it had then."""

    device: Word
    ties: tuple[Tie, ...] = ()
    inputs: int = Field(default=0, ge=0)
    outputs: int = Field(default=0, ge=0)


class Rig(Frozen):
    """One arrangement of devices and cables."""

    id: Word
    name: Word
    devices: tuple[Device, ...]
    cables: tuple[Cable, ...]
    notes: Prose = ""
    tracks: tuple[PlannedTrack, ...] = ()
    acknowledged: tuple[str, ...] = ()
    """Safety notices that were read; they stay in sight."""
    locked: tuple[SettingRef, ...] = ()
    """Controls and switches that the gain solver leaves alone."""
    played: tuple[PlayedLevel, ...] = ()
    """How loud instruments are really played, where somebody typed or measured it here."""
    maps: tuple[DeviceMap, ...] = ()
    """Which socket is which, for every real device that it was tied to."""
    reamp_switches: tuple[StateSwitch, ...] = Field(default=(), max_length=100)
    """What stands otherwise in state Reamp; the devices stand as in state Record."""
    state: RigState = "record"
    """How its devices stand. A session's rigs stand as they record; a pass keeps its rig as it
    was."""

    @model_validator(mode="after")
    def _cables_fit(self) -> Self:
        devices = {device.id: device for device in self.devices}
        if len(devices) != len(self.devices):
            raise ValueError("two devices have the same id")
        if len({cable.id for cable in self.cables}) != len(self.cables):
            raise ValueError("two cables have the same id")
        for switch in self.reamp_switches:
            if switch.device not in devices or not devices[switch.device].has_setting(
                switch.setting
            ):
                raise ValueError(f"state Reamp sets {'.'.join(switch.ref)}, which does not exist")
        for cable in self.cables:
            for end, wanted in ((cable.source, Direction.OUT), (cable.target, Direction.IN)):
                device = devices.get(end.device)
                ports = {p.id: p for p in device.ports} if device else {}
                if end.port not in ports:
                    raise ValueError(f"cable {cable.id} ends at {end}, which does not exist")
                if ports[end.port].direction is not wanted:
                    raise ValueError(f"cable {cable.id} must run from an output to an input")
        return self

    def tied(self, device: str) -> dict[PortRef, int]:
        """The channels (from 1) of a real device that a person tied."""
        return {tie.port: tie.channel for one in self.maps if one.device == device
                for tie in one.ties}  # fmt: skip

    def with_map(self, tied: DeviceMap) -> Self:
        """This rig with what is tied of one device replaced; no ties is none at all."""
        others = tuple(one for one in self.maps if one.device != tied.device)
        return self.model_copy(update={"maps": (*others, tied) if tied.ties else others})

    def device(self, device_id: str) -> Device:
        """The device of this id; RigError when there is none."""
        for device in self.devices:
            if device.id == device_id:
                return device
        raise RigError(f"The rig {self.name} has no device {device_id!r}.", where=self.id)

    def port(self, ref: PortRef) -> Port:
        """The port that a reference names."""
        return self.device(ref.device).port(ref.port)

    def with_device(self, device: Device) -> Self:
        """This rig with one device replaced."""
        self.device(device.id)
        devices = tuple(device if d.id == device.id else d for d in self.devices)
        return self.model_copy(update={"devices": devices})

    def with_setting(self, device_id: str, setting_id: str, value: float | str) -> Self:
        """This rig with one control or choice of a device set."""
        return self.with_device(self.device(device_id).with_setting(setting_id, value))
