"""An input's figures as its data sheet prints them, typed in place of the catalogue's.

A sheet gives, for each mode of an input (microphone, line, instrument), the maximum level at
least gain, the gain's range and step, and the impedance. What is typed moves every figure: the
maximum level is where the converter is full with the gain at its least and the pad out, so
that it decides levels, clipping and the track's calibration, in the plan and in the sound.
"""

from __future__ import annotations

from collections.abc import Iterator

from pydantic import ValidationError

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.changes import set_port
from diaulos.rig.model import (
    AdcStage,
    Choice,
    Control,
    ControlRange,
    Device,
    Offset,
    Path,
    PortRef,
    Rig,
    Stage,
)
from diaulos.rig.plan import full_scale_dbu


@dataclass(frozen=True)
class Printed:
    """An input's figures in the mode that stands.

    `mode` is that mode in words ("" where the input has one only), `maximum_dbu` the level of
    a sine that it takes at least gain with the pad out, `impedance_ohm` its load. Gains are in
    dB; None where the input has no gain control.
    """

    mode: str
    maximum_dbu: float
    impedance_ohm: float
    gain_minimum_db: float | None
    gain_maximum_db: float | None
    gain_step_db: float | None


def printed(rig: Rig, ref: PortRef) -> Printed | None:
    """The figures of an input as it is switched; None for one without a converter.

    Parameters
    ----------
    rig
        The rig that the device is in.
    ref
        One of its inputs.

    Returns
    -------
    Figures as a data sheet has them.
    """
    device = rig.device(ref.device)
    converter = converter_of(device, ref.port)
    if converter is None:
        return None
    gain = _gain(device, converter)
    mode = mode_switch(device, ref.port)
    return Printed(
        mode="" if mode is None else dict(mode.options).get(mode.value, mode.value),
        maximum_dbu=full_scale_dbu(converter, _at_least(device, converter)),
        impedance_ohm=device.port(ref.port).impedance_ohm,
        gain_minimum_db=gain.minimum if gain else None,
        gain_maximum_db=gain.maximum if gain else None,
        gain_step_db=gain.step if gain else None,
    )


def converter_of(device: Device, port_id: str) -> AdcStage | None:
    """The first converter behind an input, which nothing but passive parts stands ahead of."""
    for path in device.paths:
        if path.source == port_id and path.stages and isinstance(path.stages[0], AdcStage):
            return path.stages[0]
    return None


def mode_switch(device: Device, port_id: str) -> Choice | None:
    """The switch that changes what class of signal an input takes."""
    port = next(p for p in device.ports if p.id == port_id)
    for mode in port.modes:
        if mode.signal_class is not None and len(mode.when) == 1:
            setting = device.setting(mode.when[0][0])
            if isinstance(setting, Choice):
                return setting
    return None


def _gain(device: Device, converter: AdcStage) -> Control | None:
    if converter.control is None:
        return None
    setting = device.setting(converter.control)
    return setting if isinstance(setting, Control) else None


def _at_least(device: Device, converter: AdcStage) -> Device:
    """A device with the gain at its least and the pad out."""
    gain = _gain(device, converter)
    if gain is not None:
        device = device.with_setting(gain.id, gain.minimum)
    for offset in converter.offsets:
        if offset.pad and device.holds(offset.when):
            name, word = offset.when[0]
            setting = device.setting(name)
            assert isinstance(setting, Choice)
            other = next((o for o, _ in setting.options if o != word), word)
            device = device.with_setting(name, other)
    return device


def set_printed(
    rig: Rig,
    ref: PortRef,
    *,
    maximum_dbu: float | None = None,
    impedance_ohm: float | None = None,
    gain_minimum_db: float | None = None,
    gain_maximum_db: float | None = None,
    gain_step_db: float | None = None,
) -> Rig:
    """An input's figures typed as its data sheet has them, for the mode that stands.

    Parameters
    ----------
    rig
        The rig that the device is in.
    ref
        One of its inputs, with a converter behind it.
    maximum_dbu
        The sine that it takes at least gain with the pad out, in dBu, -60 to 60.
    impedance_ohm
        Its load.
    gain_minimum_db, gain_maximum_db, gain_step_db
        The gain's range and step in dB. A gain that stands outside moves to the nearest step.

    Returns
    -------
    The rig with that device changed; what is None stays.

    Raises
    ------
    RigError
        For an input without a converter or gain, and for figures that no input has.
    """
    device = rig.device(ref.device)
    converter = converter_of(device, ref.port)
    if converter is None:
        raise RigError("It has no converter of its own.", where=f"{device.name}, {ref.port}")
    if any(one is not None for one in (gain_minimum_db, gain_maximum_db, gain_step_db)):
        device = _with_gain(device, ref.port, converter,
                            gain_minimum_db, gain_maximum_db, gain_step_db)  # fmt: skip
    if maximum_dbu is not None:
        device = with_maximum(device, ref.port, maximum_dbu)
    rig = rig.with_device(device)
    return rig if impedance_ohm is None else set_port(rig, ref, impedance_ohm=impedance_ohm)


def with_maximum(device: Device, port_id: str, maximum_dbu: float) -> Device:
    """A device whose input is full at this level with the gain at its least and the pad out, in
    the mode that stands. The port's own limit keeps its distance above that."""
    converter = converter_of(device, port_id)
    if converter is None:
        raise RigError("It has no converter of its own.", where=f"{device.name}, {port_id}")
    if not -60.0 <= maximum_dbu <= 60.0:
        raise RigError(
            f"{maximum_dbu:g} dBu is no maximum level of an input.",
            where=device.name,
            remedy="From -60 to 60 dBu.",
        )
    more = maximum_dbu - full_scale_dbu(converter, _at_least(device, converter))
    if converter.measured and any(device.holds(one.when) for one in converter.measured):
        raise RigError(
            "This input is calibrated: what was measured counts, not what is printed.",
            where=device.name,
            remedy="Remove its calibration in Levels first.",
        )
    mode = mode_switch(device, port_id)
    stages: dict[AdcStage, AdcStage] = {converter: _moved(converter, mode, more)}
    paths = tuple(_replaced(path, port_id, stages) for path in device.paths)
    ports = []
    for port in device.ports:
        if port.id == port_id and port.max_dbu is not None:
            modes = list(port.modes)
            at = next((i for i, one in enumerate(modes) if mode is not None
                       and one.when == ((mode.id, mode.value),)), None)  # fmt: skip
            if at is None:
                # The port's own figure stands behind all modes: theirs keep what they had.
                owned = () if mode is None else tuple(
                    i for i, one in enumerate(modes) if one.when and one.when[0][0] == mode.id
                    and len(one.when) == 1
                )  # fmt: skip
                for index in owned:
                    kept = modes[index].max_add_db - more
                    modes[index] = modes[index].model_copy(update={"max_add_db": kept})
                port = port.model_copy(
                    update={"max_dbu": port.max_dbu + more, "modes": tuple(modes)}
                )
            else:
                moved = modes[at].max_add_db + more
                modes[at] = modes[at].model_copy(update={"max_add_db": moved})
                port = port.model_copy(update={"modes": tuple(modes)})
        ports.append(port)
    return device.model_copy(update={"paths": paths, "ports": tuple(ports)})


def _moved(converter: AdcStage, mode: Choice | None, more: float) -> AdcStage:
    """The converter's full scale moved in the mode that stands, and in no other."""
    here = None if mode is None else ((mode.id, mode.value),)
    offsets = list(converter.offsets)
    if here is not None:
        for index, offset in enumerate(offsets):
            if offset.when == here and not offset.pad:
                offsets[index] = offset.model_copy(update={"db": offset.db + more})
                return converter.model_copy(update={"offsets": tuple(offsets)})
        return converter.model_copy(update={"offsets": (*offsets, Offset(when=here, db=more))})
    return converter.model_copy(update={"full_scale_dbu": converter.full_scale_dbu + more})


def _replaced(path: Path, port_id: str, stages: dict[AdcStage, AdcStage]) -> Path:
    if path.source != port_id:
        return path
    new: tuple[Stage, ...] = tuple(
        stages.get(stage, stage) if isinstance(stage, AdcStage) else stage for stage in path.stages
    )
    return path.model_copy(update={"stages": new})


def _with_gain(
    device: Device,
    port_id: str,
    converter: AdcStage,
    minimum: float | None,
    maximum: float | None,
    step: float | None,
) -> Device:
    gain = _gain(device, converter)
    if gain is None:
        raise RigError("This input has no gain control.", where=f"{device.name}, {port_id}")
    full = full_scale_dbu(converter, _at_least(device, converter))
    mode = mode_switch(device, port_id)
    new = with_range(
        device,
        gain.id,
        minimum=gain.minimum if minimum is None else minimum,
        maximum=gain.maximum if maximum is None else maximum,
        step=gain.step if step is None else step,
        mode=mode,
    )
    # The maximum level is meant at least gain: another least gain does not move it.
    moved = full - full_scale_dbu(converter, _at_least(new, converter))
    return with_maximum(new, port_id, full) if moved else new


def with_range(
    device: Device,
    control_id: str,
    *,
    minimum: float,
    maximum: float,
    step: float,
    mode: Choice | None = None,
) -> Device:
    """A device whose control has another range and step: in one mode of a switch, or always.

    Parameters
    ----------
    device
        A device with that control.
    control_id
        The control.
    minimum, maximum, step
        In the control's unit; the value moves to the nearest step.
    mode
        The switch in whose present position it counts; in the others the range stays.

    Returns
    -------
    The device.

    Raises
    ------
    RigError
        For a range that no control has.
    """
    old = device.setting(control_id)
    if not isinstance(old, Control):
        raise RigError(f"{old.name} of {device.name} is not a number.", where=device.id)
    if not maximum > minimum or not 0.0 < step <= maximum - minimum:
        raise RigError(
            f"{old.name} cannot run from {minimum:g} to {maximum:g} {old.unit} in steps of "
            f"{step:g}.",
            where=device.name,
            remedy="The first is the least, and a step fits in between.",
        )
    ranges = tuple(_ranges(old, mode, ControlRange(
        when=() if mode is None else ((mode.id, mode.value),),
        minimum=minimum, maximum=maximum, step=step,
    )))  # fmt: skip
    wide = old.model_copy(update={"minimum": minimum, "maximum": maximum, "step": step})
    try:
        new = Control.model_validate(
            {**old.model_dump(), "minimum": minimum, "maximum": maximum, "step": step,
             "value": wide.nearest(old.value), "ranges": [one.model_dump() for one in ranges]}
        )  # fmt: skip
    except ValidationError as error:
        raise RigError(f"{error.errors()[0]['msg']}.", where=device.name) from error
    settings = tuple(new if one.id == control_id else one for one in device.settings)
    return device.model_copy(update={"settings": settings})


def _ranges(old: Control, mode: Choice | None, new: ControlRange) -> Iterator[ControlRange]:
    """The ranges of a control by mode, once they are not the same in all."""
    if mode is None:
        return
    known = {one.when: one for one in old.ranges}
    for word, _ in mode.options:
        when = ((mode.id, word),)
        plain = ControlRange(when=when, minimum=old.minimum, maximum=old.maximum, step=old.step)
        yield new if when == new.when else known.get(when, plain)
