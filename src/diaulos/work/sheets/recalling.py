"""The recall sheet: every knob as it stood for a take or a pass, and what differs from now."""

from __future__ import annotations

from diaulos.errors import EditError
from diaulos.figures import TAP_WORDS, level, number
from diaulos.quantities import INDUCTANCE, RESISTANCE, show
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.model import Device, Rig
from diaulos.session.instrument import Instrument, Pickup
from diaulos.session.model import Pass, Session, Take
from diaulos.session.take_edits import differences_since
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import NOTHING_STORED
from diaulos.work.rigs.tables import PATCH_HEAD, patch_rows
from diaulos.work.sheets.figuring import converters, of_no_type, pf_per_m, stands
from diaulos.work.sheets.model import Part, Rows, Words
from diaulos.work.sheets.tracking import take_lines, takes_of


def recall_parts(session: Session, take_name: str, made_name: str) -> tuple[Part, ...]:
    """Of a take, or of one of its passes: the rig as it was, control by control; the cables; the
    instrument; how it was sent."""
    take = recalled_take(session, take_name)
    if take is None:
        return (Words("Nothing to recall", ("There is no take yet.",)),)
    made = take.pass_(made_name) if made_name else None
    key = made.rig_hash if made is not None else take.rig_hash
    then = session.snapshots.get(key)
    parts: list[Part] = [Words(take.name, take_lines(session, take))]
    if made is not None:
        parts.append(Words(made.name, _pass_lines(made)))
    if then is None:
        parts.append(Words("The rig", ("Nobody knows it: imported takes have none.",)))
    else:
        if all(rig.id != then.id for rig in session.rigs):
            parts.append(Words("The rig now", (f"{then.name} is no longer in the session.",)))
        parts += [_devices(then), _controls(session, then), _cables(session, then)]
        parts.append(converters(then))
        made_by_hand = of_no_type(then)
        if made_by_hand is not None:
            parts.append(made_by_hand)
        parts.append(_planned_tracks(then))
    instrument = _instrument_then(session, take)
    if instrument is not None:
        parts.append(_instrument(session, instrument))
    parts.append(_planned(take, made))
    differs = differences_since(session, take) if made is None else ()
    if differs:
        parts.append(
            Rows(
                "What differs from now", ("What", "Then", "Now"),
                tuple((one.words, _value(one.then), _value(one.now)) for one in differs),
                frozenset(), (4.0, 2.0, 2.0),
            )
        )  # fmt: skip
    return tuple(parts)


def recalled_take(session: Session, name: str) -> Take | None:
    """The named take; else the latest keeper that knows its rig, else the latest take that does."""
    takes = takes_of(session, name)
    if name or not takes:
        return takes[-1] if takes else None
    known = [one for one in (*session.takes, *takes) if one.rig_hash]
    return known[-1] if known else takes[-1]


def _value(value: float | str) -> str:
    return value if isinstance(value, str) else number(value, 2)


def _pass_lines(made: Pass) -> tuple[str, ...]:
    lines = [
        f"Reamped {made.made_at.replace('T', ' ')}, rig {made.rig_name}",
        f"Send gain {number(made.send_gain_db, 2, sign=True)} dB; {level(made.amp_peak_dbu, 'dBu')}"
        " peak at the amplifier",
    ]
    if made.unloaded:
        lines.append(f"Input load undone: {made.unloaded}")
    if made.assumed_calibration:
        lines.append("The dBu at 0 dBFS was assumed, not known.")
    for back in made.returns:
        match = f", matched by {number(back.match.total_db, 2, sign=True)} dB" if back.match else ""
        lines.append(f"{back.name}: peak {level(back.peak_dbfs, 'dBFS')}{match}")
    if made.notes:
        lines += made.notes.splitlines()
    return tuple(lines)


def _devices(then: Rig) -> Rows:
    """What stood there, by the type that it is added by."""
    rows = tuple((device.name, _type_words(device)) for device in then.devices)
    return Rows("Devices", ("Device", "Type"), rows, frozenset(), (3.0, 2.0), tick=True)


def _type_words(device: Device) -> str:
    """As the catalogue calls it."""
    known = TYPES.get(device.type)
    return known.name if known is not None else device.type or device.kind


def _planned_tracks(then: Rig) -> Rows:
    """Which input of the recorder became which track."""
    devices = {device.id: device for device in then.devices}
    rows = []
    for track in then.tracks:
        device = devices.get(track.port.device)
        port = device.port(track.port.port).name if device is not None else track.port.port
        name = device.name if device is not None else track.port.device
        rows.append((track.name, name, port, TAP_WORDS[track.tap]))
    return Rows("Recorded as", ("Track", "Device", "Port", "Tap"), tuple(rows), frozenset(),
                (2.6, 2.6, 2.0, 2.4), empty="No track was planned.")  # fmt: skip


def _controls(session: Session, then: Rig) -> Rows:
    """Every knob and switch, and how it stands now where that is otherwise."""
    now = next((rig for rig in session.rigs if rig.id == then.id), None)
    there = {device.id: device for device in now.devices} if now is not None else {}
    rows = []
    for device in then.devices:
        other = there.get(device.id)
        for setting in device.settings:
            stood = stands(session, setting)
            today = stood if now is None else "gone"
            if other is not None and other.has_setting(setting.id):
                today = stands(session, other.setting(setting.id))
            rows.append((device.name, setting.name, stood, "" if today == stood else today))
    return Rows(
        f"Rig {then.name}", ("Device", "Control", "Stood at", "Now, where it differs"),
        tuple(rows), frozenset(), (3.0, 2.6, 2.2, 2.2), tick=True,
        empty="No device of it has a control.",
    )  # fmt: skip


def _cables(session: Session, then: Rig) -> Rows:
    """As they were plugged."""
    holding = session.model_copy(update={"rigs": (then,), "current_rig": then.id})
    rows = patch_rows(look_at(holding, then.id, NOTHING_STORED))
    at = PATCH_HEAD.index("Level")
    head = (*PATCH_HEAD[:at], "pF/m", *PATCH_HEAD[at + 1 :])
    cells = tuple((*row.cells[:at], pf_per_m(row.cable), *row.cells[at + 1 :]) for row in rows)
    return Rows("Cables", head, cells, frozenset({3, 4}), (3.0, 3.0, 1.3, 0.9, 0.8, 1.6),
                tick=True, empty="None.")  # fmt: skip


def _instrument_then(session: Session, take: Take) -> Instrument | None:
    for kept in take.instruments.values():
        one = session.instrument_snapshots.get(kept)
        if one is not None:
            return one
    try:
        return session.instrument(take.instrument_id) if take.instrument_id else None
    except EditError:
        return None


def _instrument(session: Session, one: Instrument) -> Rows:
    position = one.position
    pots = one.controls
    rows = [("Selector", position.name if position is not None else "not known")]
    if position is not None:
        for name in position.pickups:
            rows.append(("Pickup", pickup_words(one.pickup(name))))
        if len(position.pickups) > 1:
            rows.append(("Wired", position.wiring))
    if pots.volume_ohm is not None:
        told = f"{number(pots.volume_knob, 1)} of 10, {show(pots.volume_ohm, RESISTANCE, 4)}"
        rows.append(("Volume", f"{told}, {pots.volume_taper}"))
    if pots.tone_ohm is not None:
        told = f"{number(pots.tone_knob, 1)} of 10, {show(pots.tone_ohm, RESISTANCE, 4)}"
        rows.append(("Tone", f"{told}, {pots.tone_taper}, {pots.tone_nf:g} nF"))
    rows += [
        ("Strings", " ".join(one.strings) or "not known"),
        ("Cable", f"{one.cable_m:g} m, {one.cable_pf_per_m:g} pF/m"),
        ("Trim", f"{number(one.trim_db, 1, sign=True)} dB"),
        ("Pad", "on" if session.tone_stage.pad_on else "off"),
        ("Tuned to", f"A4 {one_hz(session.a4_hz)}"),
    ]
    loudest = one.reading
    if loudest is not None:
        peak = loudest.peak_dbu
        rows.append(("Loudest peak", level(peak, "dBu", 2) if peak is not None else "not known"))
        crest = loudest.peak_dbfs - loudest.loudest_400ms_dbfs
        rows.append(("Peak over loudest 400 ms", f"{number(crest, 2)} dB"))
    return Rows(f"Instrument {one.name}", ("What", "Stood at"), tuple(rows), frozenset(),
                (2.0, 4.0), tick=True)  # fmt: skip


def pickup_words(one: Pickup) -> str:
    """A pickup by its values: a coil's inductance, resistance and capacitance."""
    values = one.values
    if values.kind == "coil":
        coil = show(values.inductance_h, INDUCTANCE, 4), show(values.resistance_ohm, RESISTANCE, 4)
        told = f"{', '.join(coil)}, {values.winding_pf:g} pF"
        if values.eddy_ohm is not None:
            told += f", eddy {show(values.eddy_ohm, RESISTANCE, 4)}"
    elif values.kind == "active":
        told = f"active, {show(values.output_ohm, RESISTANCE, 4)}"
    else:
        told = f"piezo, {values.capacitance_pf:g} pF"
    return f"{one.name}: {told}"


def one_hz(hz: float) -> str:
    """A reference pitch."""
    return f"{hz:g} Hz"


def _planned(take: Take, made: Pass | None) -> Rows:
    """Figures to check a rebuilt rig by."""
    dash = "\N{EN DASH}"
    rows = [
        (
            track.name,
            level(track.planned_dbfs, "dBFS") if track.planned_dbfs is not None else dash,
            level(track.peak_dbfs, "dBFS"),
        )
        for track in take.tracks
    ]
    if made is not None:
        rows = [(back.name, dash, level(back.peak_dbfs, "dBFS")) for back in made.returns]
    return Rows("Peaks, to check by", ("Track", "Planned", "Got"), tuple(rows), frozenset({1, 2}),
                (4.0, 1.5, 1.5))  # fmt: skip


def tone_parts(session: Session, tone_name: str) -> tuple[Part, ...]:
    """A card for one tone, or for each."""
    tones = [one for one in session.tones if not tone_name or tone_name in (one.id, one.name)]
    if tone_name and not tones:
        known = ", ".join(one.name for one in session.tones) or "none"
        raise EditError(f"There is no tone {tone_name!r}.", remedy=f"Tones here: {known}.")
    parts: list[Part] = []
    for one in tones:
        made_with = one.instrument_name or session.instrument_name(one.instrument_id)
        pad = "on" if one.pad_on else "off"
        if one.pad_on and one.pad_db is not None:
            pad += f", {number(one.pad_db, 0)} dB"
        rows = [
            ("Voice", one.voice), ("Drive", number(one.drive, 1)), ("Bass", number(one.bass, 1)),
            ("Mid", number(one.mid, 1)), ("Treble", number(one.treble, 1)),
            ("Master", f"{number(one.master_db, 1)} dB"), ("Cabinet", one.cabinet),
            ("Made with", made_with or "not known"), ("Pickup", one.pickup or "not known"),
            ("Trim", f"{number(one.trim_db, 1, sign=True)} dB"), ("Pad", pad),
            ("Loudest peak", level(one.peak_dbu, "dBu") if one.peak_dbu is not None
             else "as measured now"),
            ("Input", f"{one.input_ohm / 1e3:g} kohm" if one.input_ohm is not None
             else "not known"),
        ]  # fmt: skip
        parts.append(Rows(f"Tone {one.name}", ("What", "Stands at"), tuple(rows), frozenset(),
                          (2.0, 4.0), tick=True))  # fmt: skip
    return tuple(parts) or (Words("No tone yet", ("A tone is kept in Instruments.",)),)
