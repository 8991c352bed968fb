"""Whole arrangements in one step. Each is explained in a sentence; the input gains stand
where the level plan puts them for the target peak."""

from __future__ import annotations

from collections.abc import Callable

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.catalogue.parts import cable
from diaulos.rig.catalogue.types import make
from diaulos.rig.changes import checked, stream_number
from diaulos.rig.course import trace
from diaulos.rig.fits import usual_kind
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import (
    Cable,
    Device,
    PlannedTrack,
    PortRef,
    Rig,
    StateSwitch,
)
from diaulos.rig.trackplan import with_planned_gains

USB_M, PATCH_M, LONG_M, SPEAKER_M = 1.5, 3.0, 6.0, 1.5


@dataclass(frozen=True)
class Template:
    """An arrangement: what it is for, in a sentence."""

    id: str
    name: str
    sentence: str
    build: Callable[[str], Rig]


class Patch:
    """Collects devices, cables and tracks, and makes a rig of them."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.devices: dict[str, Device] = {}
        self.cables: list[Cable] = []
        self.tracks: list[tuple[str, str, str]] = []
        self.switches: list[StateSwitch] = []

    def add(self, type_id: str, device_id: str, called: str = "", **settings: float | str) -> Patch:
        """A device of a type, perhaps with a name of its own, with some settings."""
        device = make(type_id, device_id)
        if called:
            device = device.model_copy(update={"name": called})
        for setting, value in settings.items():
            device = device.with_setting(setting, value)
        self.devices[device_id] = device
        return self

    def join(self, source: str, target: str, length_m: float = PATCH_M, label: str = "") -> Patch:
        """A cable of the right kind."""
        number = len(self.cables) + 1
        made = cable(f"c{number:02}", source, target, length_m, label)
        port = self.devices[made.source.device].port(made.source.port)
        self.cables.append(made.model_copy(update={"kind": usual_kind(port.signal_class)}))
        return self

    def record(self, source: str, track: int, name: str, group: str = "One performance") -> Patch:
        """A stream into a track of the computer."""
        self.tracks.append((f"track{track}", name, group))
        return self.join(source, f"computer.track{track}", USB_M)

    def reamp(self, device: str, setting: str, value: float | str) -> Patch:
        """A switch that stands so in state Reamp."""
        self.switches.append(StateSwitch(device=device, setting=setting, value=value))
        return self

    def rig(self, rig_id: str) -> Rig:
        """The rig, with its tracks as they are traced and its gains as they are planned."""
        rig = Rig(
            id=rig_id,
            name=self.name,
            devices=tuple(self.devices.values()),
            cables=tuple(self.cables),
        )
        rig = with_planned_gains(rig)
        graph = RigGraph(rig)
        planned = []
        for port, name, group in self.tracks:
            ref = PortRef(device="computer", port=port)
            course = trace(graph, ref)
            planned.append(
                PlannedTrack(
                    port=ref,
                    name=name,
                    tap=course.tap,
                    source=course.start.device.id,
                    group=group,
                    input_number=stream_number(graph, ref),
                )
            )
        return checked(rig, tracks=tuple(planned), reamp_switches=tuple(self.switches))


def _computer_and(patch: Patch, inputs: int, **settings: str) -> Patch:
    patch.add("computer", "computer").add(f"interface{inputs}", "interface", **settings)
    patch.join("computer.play1", "interface.play1", USB_M)
    patch.join("computer.play2", "interface.play2", USB_M)
    patch.add("headphones", "headphones").join("interface.phones", "headphones.in", 2.0)
    return patch


def _modeler_digital(rig_id: str) -> Rig:
    patch = Patch("Modeler by digital link, early dry tap").add("guitar", "guitar")
    patch.add("floor_modeler", "modeler")
    _computer_and(patch, 4, clock="coax_in", mode1="instrument")
    patch.join("guitar.out", "modeler.in", LONG_M)
    patch.join("modeler.coax_out", "interface.coax_in", 2.0, "digital")
    patch.join("modeler.send", "interface.in1", PATCH_M, "dry")
    patch.join("computer.play8", "modeler.usb_play3", USB_M, "send").reamp("modeler", "feed", "usb")
    patch.record("interface.rec5", 1, "Modeled left").record("interface.rec6", 2, "Modeled right")
    return patch.record("interface.rec1", 3, "DI").rig(rig_id)


def _modeler_analog(rig_id: str) -> Rig:
    patch = Patch("Modeler by two line inputs, dry tap").add("guitar", "guitar")
    patch.add("active_di", "di").add("floor_modeler", "modeler")
    _computer_and(patch, 4, mode1="mic", phantom1="on")
    patch.join("guitar.out", "di.in", LONG_M).join("di.thru", "modeler.in")
    patch.join("di.out", "interface.in1", LONG_M, "dry")
    patch.join("modeler.out_l", "interface.in3", PATCH_M, "left")
    patch.join("modeler.out_r", "interface.in4", PATCH_M, "right")
    patch.record("interface.rec1", 1, "DI").record("interface.rec3", 2, "Modeled left")
    return patch.record("interface.rec4", 3, "Modeled right").rig(rig_id)


def _modeler_usb(rig_id: str) -> Rig:
    patch = Patch("Modeler as the interface, dry over USB").add("guitar", "guitar")
    patch.add("desktop_modeler", "modeler").add("computer", "computer")
    patch.add("headphones", "headphones")
    patch.join("guitar.out", "modeler.in", LONG_M).join("modeler.phones", "headphones.in", 2.0)
    patch.join("computer.play1", "modeler.usb_play1", USB_M)
    patch.join("computer.play2", "modeler.usb_play2", USB_M)
    patch.join("computer.play3", "modeler.usb_play3", USB_M, "send").reamp("modeler", "feed", "usb")
    patch.record("modeler.usb_rec1", 1, "Modeled left")
    patch.record("modeler.usb_rec2", 2, "Modeled right")
    return patch.record("modeler.usb_rec3", 3, "DI").rig(rig_id)


def _split_chain(rig_id: str) -> Rig:
    patch = Patch("Split chain, processed left, dry right").add("guitar", "guitar")
    patch.add("floor_modeler", "modeler", split="split")
    _computer_and(patch, 2)
    patch.join("guitar.out", "modeler.in", LONG_M)
    patch.join("modeler.out_l", "interface.in1", PATCH_M, "processed")
    patch.join("modeler.out_r", "interface.in2", PATCH_M, "dry")
    patch.record("interface.rec1", 1, "Modeled")
    return patch.record("interface.rec2", 2, "DI").rig(rig_id)


def _hybrid(rig_id: str) -> Rig:
    patch = Patch("Hybrid: DI, amp without and with cabinet").add("guitar", "guitar")
    patch.add("active_di", "di").add("pedal", "drive", "Drive pedal", bypass="on")
    patch.add("pedal", "echo", "Echo pedal", bypass="off")
    patch.add("isolated_supply", "supply").add("valve_combo", "amp")
    patch.add("reactive_load", "load_box", cabinet="none").add("impulse_loader", "loader")
    _computer_and(patch, 4, mode1="mic", phantom1="on")
    patch.join("guitar.out", "di.in", LONG_M).join("di.thru", "drive.in")
    patch.join("drive.out", "echo.in", 0.3).join("echo.out", "amp.in", LONG_M)
    patch.join("supply.dc1", "drive.power", 0.5).join("supply.dc2", "echo.power", 0.5)
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.line", "interface.in3", LONG_M, "amp, no cabinet")
    patch.join("load_box.plain", "loader.in", PATCH_M)
    patch.join("loader.out", "interface.in4", PATCH_M, "amp and cabinet")
    patch.join("di.out", "interface.in1", LONG_M, "dry")
    patch.record("interface.rec1", 1, "DI").record("interface.rec3", 2, "Amp")
    return patch.record("interface.rec4", 3, "Amp and cabinet").rig(rig_id)


def _three_tones(rig_id: str) -> Rig:
    patch = Patch("DI, amp by attenuator, microphone").add("guitar", "guitar")
    patch.add("active_di", "di").add("valve_combo", "amp").add("attenuator", "attenuator")
    patch.add("cabinet1", "cabinet").add("small_dynamic", "mic")
    _computer_and(patch, 4, mode1="mic", phantom1="on", mode4="mic")
    patch.join("guitar.out", "di.in", LONG_M).join("di.thru", "amp.in", LONG_M)
    patch.join("amp.speaker", "attenuator.speaker", SPEAKER_M, "speaker cable")
    patch.join("attenuator.out", "cabinet.speaker", SPEAKER_M, "speaker cable")
    patch.join("cabinet.sound", "mic.sound", 0.05)
    patch.join("di.out", "interface.in1", LONG_M, "dry")
    patch.join("attenuator.line", "interface.in3", LONG_M, "amp, no cabinet")
    patch.join("mic.out", "interface.in4", LONG_M, "microphone")
    patch.record("interface.rec1", 1, "DI").record("interface.rec3", 2, "Amp")
    return patch.record("interface.rec4", 3, "Microphone").rig(rig_id)


def _bass(rig_id: str) -> Rig:
    patch = Patch("Bass DI and two microphones").add("bass", "bass")
    patch.add("active_di", "di").add("transistor_amp", "amp", voice="keel")
    patch.add("bass_cabinet", "cabinet")
    patch.add("large_dynamic", "mic_low", "Low microphone")
    patch.add("small_dynamic", "mic_high", "High microphone", place="edge")
    _computer_and(patch, 4, mode1="mic", phantom1="on", mode3="mic", mode4="mic")
    patch.join("bass.out", "di.in", LONG_M).join("di.thru", "amp.in", LONG_M)
    patch.join("amp.speaker", "cabinet.speaker", SPEAKER_M, "speaker cable")
    patch.join("cabinet.sound", "mic_low.sound", 0.3).join("cabinet.sound", "mic_high.sound", 0.05)
    patch.join("di.out", "interface.in1", LONG_M, "dry")
    patch.join("mic_low.out", "interface.in3", LONG_M, "lows")
    patch.join("mic_high.out", "interface.in4", LONG_M, "highs")
    patch.record("interface.rec1", 1, "DI").record("interface.rec3", 2, "Lows")
    return patch.record("interface.rec4", 3, "Highs").rig(rig_id)


def _reamp_by_box(rig_id: str) -> Rig:
    patch = Patch("Reamp by box").add("passive_reamp", "reamp_box").add("valve_combo", "amp")
    patch.add("reactive_load", "load_box")
    _computer_and(patch, 4)
    patch.join("computer.play3", "interface.play3", USB_M)
    patch.join("interface.out3", "reamp_box.in", PATCH_M, "send")
    patch.join("reamp_box.out", "amp.in")
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.line", "interface.in4", LONG_M, "return")
    return patch.record("interface.rec4", 5, "Reamp return", "").rig(rig_id)


def _reamp_bass(rig_id: str) -> Rig:
    patch = Patch("Reamp a bass by two microphones").add("passive_reamp", "reamp_box")
    patch.add("transistor_amp", "amp", voice="keel").add("bass_cabinet", "cabinet")
    patch.add("large_dynamic", "mic_low", "Low microphone")
    patch.add("small_dynamic", "mic_high", "High microphone", place="edge")
    _computer_and(patch, 4, mode3="mic", mode4="mic")
    patch.join("computer.play3", "interface.play3", USB_M)
    patch.join("interface.out3", "reamp_box.in", PATCH_M, "send")
    patch.join("reamp_box.out", "amp.in")
    patch.join("amp.speaker", "cabinet.speaker", SPEAKER_M, "speaker cable")
    patch.join("cabinet.sound", "mic_low.sound", 0.3).join("cabinet.sound", "mic_high.sound", 0.05)
    patch.join("mic_low.out", "interface.in3", LONG_M, "lows")
    patch.join("mic_high.out", "interface.in4", LONG_M, "highs")
    patch.record("interface.rec3", 5, "Lows", "")
    return patch.record("interface.rec4", 6, "Highs", "").rig(rig_id)


def _reamp_both(rig_id: str) -> Rig:
    patch = Patch("Reamp, without and with cabinet").add("passive_reamp", "reamp_box")
    patch.add("valve_combo", "amp").add("reactive_load", "load_box", cabinet="none")
    patch.add("impulse_loader", "loader")
    _computer_and(patch, 4)
    patch.join("computer.play3", "interface.play3", USB_M)
    patch.join("interface.out3", "reamp_box.in", PATCH_M, "send")
    patch.join("reamp_box.out", "amp.in")
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.line", "interface.in3", LONG_M, "amp, no cabinet")
    patch.join("load_box.plain", "loader.in", PATCH_M)
    patch.join("loader.out", "interface.in4", PATCH_M, "amp and cabinet")
    patch.record("interface.rec3", 5, "Amp", "")
    return patch.record("interface.rec4", 6, "Amp and cabinet", "").rig(rig_id)


def _reamp_by_loop(rig_id: str) -> Rig:
    patch = Patch("Reamp by the modeler's loop")
    patch.add("floor_modeler", "modeler", feed="usb", loop="on", model="off", send_level="line")
    patch.add("passive_reamp", "reamp_box").add("valve_combo", "amp")
    patch.add("reactive_load", "load_box", cabinet="none")
    _computer_and(patch, 4, clock="coax_in")
    patch.join("computer.play3", "modeler.usb_play3", USB_M, "send")
    patch.join("modeler.send", "reamp_box.in").join("reamp_box.out", "amp.in", LONG_M)
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.plain", "modeler.return", LONG_M, "amp, no cabinet")
    patch.join("modeler.coax_out", "interface.coax_in", 2.0, "digital")
    patch.record("interface.rec5", 5, "Reamp left", "")
    return patch.record("interface.rec6", 6, "Reamp right", "").rig(rig_id)


def _reamp_by_usb(rig_id: str) -> Rig:
    patch = Patch("Reamp by USB").add("desktop_modeler", "modeler", feed="usb")
    patch.add("computer", "computer").add("headphones", "headphones")
    patch.join("modeler.phones", "headphones.in", 2.0)
    patch.join("computer.play3", "modeler.usb_play3", USB_M, "send")
    patch.record("modeler.usb_rec1", 5, "Reamp left", "")
    return patch.record("modeler.usb_rec2", 6, "Reamp right", "").rig(rig_id)


def _software_amp(rig_id: str) -> Rig:
    patch = Patch("Software amplifier beside the dry DI").add("guitar", "guitar")
    patch.add("software_amp", "software")
    _computer_and(patch, 2, mode1="instrument")
    patch.join("guitar.out", "interface.in1", LONG_M)
    patch.join("interface.rec1", "software.in", 0.0)
    patch.join("software.out_l", "interface.play1", 0.0)
    patch.join("software.out_r", "interface.play2", 0.0)
    patch.record("interface.rec1", 1, "DI").record("software.out_l", 2, "Modeled left")
    return patch.record("software.out_r", 3, "Modeled right").rig(rig_id)


def _reamp_by_software(rig_id: str) -> Rig:
    patch = Patch("Reamp by a software amplifier").add("software_amp", "software")
    _computer_and(patch, 2)
    patch.join("computer.play3", "software.in", 0.0, "send")
    patch.record("software.out_l", 5, "Reamp left", "")
    return patch.record("software.out_r", 6, "Reamp right", "").rig(rig_id)


def _amp_in_loop(rig_id: str) -> Rig:
    patch = Patch("Amp in the modeler's loop").add("guitar", "guitar")
    patch.add("floor_modeler", "modeler", loop="on", model="off", send_level="line")
    patch.add("passive_reamp", "reamp_box").add("valve_combo", "amp")
    patch.add("reactive_load", "load_box", cabinet="none")
    _computer_and(patch, 4, clock="coax_in")
    patch.join("guitar.out", "modeler.in", LONG_M).join("modeler.send", "reamp_box.in")
    patch.join("reamp_box.out", "amp.in", LONG_M)
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.plain", "modeler.return", LONG_M, "amp, no cabinet")
    patch.join("modeler.coax_out", "interface.coax_in", 2.0, "digital")
    patch.join("modeler.usb_rec3", "computer.track3", USB_M, "dry")
    patch.tracks.append(("track3", "DI", "One performance"))
    patch.join("computer.play3", "modeler.usb_play3", USB_M, "send").reamp("modeler", "feed", "usb")
    patch.record("interface.rec5", 1, "Amp and cabinet left")
    return patch.record("interface.rec6", 2, "Amp and cabinet right").rig(rig_id)


def _source(patch: Patch, family: str) -> str:
    """An instrument of a family; its id."""
    kind = family if family in ("bass", "piezo") else "guitar"
    patch.add(kind, kind)
    return kind


def straight(rig_id: str, family: str = "guitar", inputs: int = 2) -> Rig:
    """An instrument straight into an interface.

    Parameters
    ----------
    rig_id
        Of the new rig.
    family
        Of the instrument.
    inputs
        Of the interface: 2, 4 or 8.

    Returns
    -------
    The rig.
    """
    patch = Patch("Instrument straight into an interface")
    source = _source(patch, family)
    _computer_and(patch, inputs, mode1="instrument", direct="on")
    patch.join(f"{source}.out", "interface.in1", LONG_M, "dry")
    return patch.record("interface.rec1", 1, "DI").rig(rig_id)


def _amp_in(patch: Patch, family: str, inputs: int, **modes: str) -> None:
    """DI box and amplifier, both on the instrument, and an interface."""
    source = _source(patch, family)
    patch.add("active_di", "di")
    # A small amplifier: twice its power is what a load box takes.
    patch.add("valve_combo", "amp", voice="keel" if family == "bass" else "tideline")
    # The amplifier is what the player hears; the DI is recorded beside it.
    _computer_and(patch, inputs, mode1="mic", phantom1="on", direct="on", mute_in1="on", **modes)
    patch.join(f"{source}.out", "di.in", LONG_M).join("di.thru", "amp.in", LONG_M)
    patch.join("di.out", "interface.in1", LONG_M, "dry")


def amp_and_load(rig_id: str, family: str = "guitar", inputs: int = 2) -> Rig:
    """A dry DI, and an amplifier by a load box with a cabinet of its own.

    Parameters
    ----------
    rig_id
        Of the new rig.
    family
        Of the instrument.
    inputs
        Of the interface: 2, 4 or 8.

    Returns
    -------
    The rig.
    """
    patch = Patch("DI, amp by load box")
    _amp_in(patch, family, inputs, mode2="line")
    patch.add("reactive_load", "load_box")
    patch.join("amp.speaker", "load_box.speaker", SPEAKER_M, "speaker cable")
    patch.join("load_box.line", "interface.in2", LONG_M, "amp and cabinet")
    patch.record("interface.rec1", 1, "DI")
    return patch.record("interface.rec2", 2, "Amp and cabinet").rig(rig_id)


def amp_and_microphone(rig_id: str, family: str = "guitar", inputs: int = 2) -> Rig:
    """A dry DI, and a microphone in front of an amplifier's cabinet.

    Parameters
    ----------
    rig_id
        Of the new rig.
    family
        Of the instrument.
    inputs
        Of the interface: 2, 4 or 8.

    Returns
    -------
    The rig.
    """
    patch = Patch("DI, amp and microphone")
    _amp_in(patch, family, inputs, mode2="mic")
    patch.add("bass_cabinet" if family == "bass" else "cabinet1", "cabinet")
    patch.add("small_dynamic", "mic")
    patch.join("amp.speaker", "cabinet.speaker", SPEAKER_M, "speaker cable")
    patch.join("cabinet.sound", "mic.sound", 0.1)
    patch.join("mic.out", "interface.in2", LONG_M, "microphone")
    patch.record("interface.rec1", 1, "DI")
    return patch.record("interface.rec2", 2, "Microphone").rig(rig_id)


TEMPLATES: dict[str, Template] = {
    template.id: template
    for template in (
        Template(
            "modeler-digital", "Modeler by digital link, early dry tap",
            "The modeled sound stays digital on its way into the interface; the dry signal "
            "leaves the modeler's send before anything changes it.", _modeler_digital,
        ),
        Template(
            "modeler-analog", "Modeler by two line inputs, dry tap",
            "A DI box takes the dry signal off the instrument; the modeler comes in by two line "
            "inputs, with no clock to agree on.", _modeler_analog,
        ),
        Template(
            "modeler-usb", "Modeler as the interface, dry over USB",
            "One USB cable records the modeled sound and the dry signal at once.", _modeler_usb,
        ),
        Template(
            "split-chain", "Split chain, processed left, dry right",
            "A modeler without a send: processed on the left output, dry on the right one, two "
            "inputs in all.", _split_chain,
        ),
        Template(
            "hybrid", "Hybrid: DI, amp without and with cabinet",
            "Dry by an active DI; pedals and a real amp into a load box; its line once as it is, "
            "once through an impulse loader.", _hybrid,
        ),
        Template(
            "three-tones", "DI, amp by attenuator, microphone",
            "Three tones of one performance: dry, the amp's line from the attenuator, and a "
            "microphone on the quieter cabinet.", _three_tones,
        ),
        Template(
            "bass", "Bass DI and two microphones",
            "The bass by DI, and its cabinet by one microphone for the lows and one for the "
            "highs.", _bass,
        ),
        Template(
            "reamp-box", "Reamp by box",
            "A stored DI goes out by a line output and a reamp box into the amp, and comes back "
            "by the load box.", _reamp_by_box,
        ),
        Template(
            "reamp-bass", "Reamp a bass by two microphones",
            "A stored bass goes out by a reamp box into a transistor amp; a microphone for the "
            "lows and one for the highs come back in one pass.", _reamp_bass,
        ),
        Template(
            "reamp-both", "Reamp, without and with cabinet",
            "One pass brings back the amp as it is, for a cabinet to come, and the same through "
            "an impulse loader.", _reamp_both,
        ),
        Template(
            "reamp-loop", "Reamp by the modeler's loop",
            "A stored DI goes to the modeler over USB and out of its send; a real amp's load box "
            "comes back into it and returns by its digital output.", _reamp_by_loop,
        ),
        Template(
            "reamp-usb", "Reamp by USB",
            "A stored DI goes into the modeler over USB and comes back processed, digital all "
            "the way.", _reamp_by_usb,
        ),
        Template(
            "software-amp", "Software amplifier beside the dry DI",
            "An amplifier in another program plays along with the dry input and is recorded "
            "beside it; its latency is measured (Rig, Ctrl+K).", _software_amp,
        ),
        Template(
            "reamp-software", "Reamp by a software amplifier",
            "A stored DI goes to an amplifier in another program and comes back.",
            _reamp_by_software,
        ),
        Template(
            "amp-in-loop", "Amp in the modeler's loop",
            "The modeler's send drives a real amp; its load box comes back into the modeler, "
            "which adds the cabinet.", _amp_in_loop,
        ),
        Template(
            "straight", "Instrument straight into an interface",
            "One dry track by the interface's instrument input: everything else can be made from "
            "it later.", straight,
        ),
        Template(
            "amp-load", "DI, amp by load box",
            "Dry by an active DI, and the amp's sound by a load box with a cabinet of its own: no "
            "speaker in the room.", amp_and_load,
        ),
        Template(
            "amp-mic", "DI, amp and microphone",
            "Dry by an active DI, and a microphone in front of the amp's cabinet.",
            amp_and_microphone,
        ),
    )
}  # fmt: skip


def build(template_id: str, rig_id: str) -> Rig:
    """The rig of a template; RigError when there is none of that id."""
    if template_id not in TEMPLATES:
        raise RigError(
            f"There is no template {template_id!r}.",
            remedy=f"There are: {', '.join(TEMPLATES)}.",
        )
    return TEMPLATES[template_id].build(rig_id)
