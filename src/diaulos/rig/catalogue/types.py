"""The catalogue: every device type by id, in the groups in which one looks for it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.catalogue import amps, boxes, interfaces, modelers, monitors
from diaulos.rig.model import Device


@dataclass(frozen=True)
class DeviceType:
    """A type: how to make one, and where it stands in the catalogue."""

    id: str
    group: str
    build: Callable[[str], Device]

    @cached_property
    def name(self) -> str:
        """What one is called. Sixty are not made at every start for their names."""
        return self.build("x").name


def _types() -> dict[str, DeviceType]:
    groups: tuple[tuple[str, tuple[tuple[str, Callable[[str], Device]], ...]], ...] = (
        ("Instruments", (
            ("guitar", partial(boxes.instrument, family="guitar")),
            ("bass", partial(boxes.instrument, family="bass")),
            ("piezo", partial(boxes.instrument, family="piezo")),
            ("voice", partial(boxes.sounding, family="voice")),
            ("acoustic", partial(boxes.sounding, family="acoustic")),
        )),
        ("Recording", (
            ("computer", interfaces.computer),
            ("interface2", partial(interfaces.audio_interface, 2)),
            ("interface4", partial(interfaces.audio_interface, 4)),
            ("interface8", partial(interfaces.audio_interface, 8)),
            ("stage_desk", interfaces.stage_desk),
            ("converter", interfaces.converter),
            ("mic_preamp", interfaces.mic_preamp),
            ("compressor", boxes.compressor),
        )),
        ("Modelers", (
            ("floor_modeler", modelers.modeler),
            ("desktop_modeler", partial(modelers.modeler, floor=False)),
            ("impulse_loader", modelers.impulse_loader),
            ("software_amp", modelers.software_amp),
        )),
        ("Boxes", (
            ("passive_di", boxes.passive_di),
            ("active_di", boxes.active_di),
            ("di_isolator", boxes.di_isolator),
            ("passive_reamp", _reamp_box),
            ("passive_splitter", partial(boxes.splitter, buffered=False)),
            ("buffered_splitter", partial(boxes.splitter, buffered=True)),
            ("switcher", boxes.switcher),
            ("inline_pad", boxes.inline_pad),
            ("line_isolator", boxes.isolator),
            ("isolation_transformer", partial(boxes.isolator, stereo=True)),
            ("usb_isolator", boxes.usb_isolator),
            ("line_mixer", boxes.line_mixer),
        )),
        ("Pedals", (
            ("pedal", boxes.pedal),
            ("stereo_pedal", partial(boxes.pedal, stereo=True)),
            ("compressor_pedal", partial(boxes.compressor, pedal=True)),
            ("isolated_supply", boxes.pedal_supply),
            ("shared_supply", partial(boxes.pedal_supply, isolated=False)),
        )),
        ("Amplifiers", (
            ("valve_combo", amps.valve_amp),
            ("valve_head", partial(amps.valve_amp, power_w=50.0, name="50 W valve head",
                                   type_id="valve_head", voice="foghorn", loop=True)),
            ("transistor_amp", partial(amps.transistor_amp, bridged=False)),
            ("bass_amp", amps.transistor_amp),
        )),
        ("Loads and speakers", (
            ("reactive_load", amps.reactive_load),
            ("attenuator", amps.attenuator),
            ("cabinet1", amps.cabinet),
            ("cabinet2", partial(amps.cabinet, speakers=2)),
            ("cabinet4", partial(amps.cabinet, speakers=4)),
            ("bass_cabinet", partial(amps.cabinet, bass=True)),
            ("series_link", amps.series_link),
        )),
        ("Microphones", tuple(
            (kind, partial(amps.microphone, kind=kind))
            for kind in ("large_dynamic", "small_dynamic", "condenser", "ribbon")
        )),
        ("Listening", (
            ("powered_monitor", monitors.monitor),
            ("full_range_speaker", partial(monitors.monitor, full_range=True)),
            ("headphones", monitors.headphones),
            ("monitor_controller", monitors.monitor_controller),
        )),
    )  # fmt: skip
    return {
        ident: DeviceType(ident, group, build)
        for group, entries in groups
        for ident, build in entries
    }


def _reamp_box(device_id: str) -> Device:
    from diaulos.rig.catalogue.reamping import reamp_box

    return reamp_box(device_id).model_copy(update={"type": "passive_reamp"})


TYPES: dict[str, DeviceType] = _types()


def make(type_id: str, device_id: str) -> Device:
    """A device of a type; RigError when the catalogue has none of that id."""
    if type_id not in TYPES:
        raise RigError(
            f"The catalogue has no type {type_id!r}.", remedy=f"It has: {', '.join(TYPES)}."
        )
    return TYPES[type_id].build(device_id)
