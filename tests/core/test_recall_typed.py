"""A recall sheet typed back into an empty session by a script gives the same planned peaks."""

from __future__ import annotations

import csv
import io

import pytest

from diaulos import wiring
from diaulos.demo.rigs import live_room
from diaulos.demo.saltmarsh import bare_demo
from diaulos.quantities import CAPACITANCE, INDUCTANCE, RESISTANCE, parse
from diaulos.rig.catalogue.types import TYPES, make
from diaulos.rig.model import Cable, CableKind, Choice, Device, PlannedTrack, PortRef, Rig
from diaulos.rig.templates import build
from diaulos.session.instrument import (
    CoilValues,
    ControlValues,
    Instrument,
    Pickup,
    Position,
    StrengthReading,
)
from diaulos.session.model import Session, Take, Track, content_hash, rig_hash
from diaulos.work.rigs.look import look_at
from diaulos.work.sheets.making import make_sheet
from diaulos.work.sheets.model import Wanted


def blocks_of(text: str) -> dict[str, list[list[str]]]:
    """The parts of a CSV sheet by their titles, without their heads."""
    found: dict[str, list[list[str]]] = {}
    for block in text.split("\n\n"):
        rows = list(csv.reader(io.StringIO(block.strip("\n"))))
        if rows and len(rows) > 1:
            found[rows[0][0]] = rows[2:] if "Done" in rows[1][0:1] or len(rows[1]) > 1 else rows[1:]
    return found


def figure(text: str) -> float:
    return float(text.replace("\N{MINUS SIGN}", "-").replace("\N{PLUS-MINUS SIGN}", "").split()[0])


def typed_rig(sheet: dict[str, list[list[str]]], name: str, instrument_id: str) -> Rig:
    """What a person plugs and turns who has nothing but the sheet."""
    devices: dict[str, Device] = {}
    types = {one.name: one.id for one in TYPES.values()}
    for at, (_, called, type_name) in enumerate(sheet["Devices"]):
        devices[called] = make(types[type_name], f"d{at}").model_copy(update={"name": called})
    turned = [(called, control, stood) for _, called, control, stood, *_ in sheet[f"Rig {name}"]]
    for switches in (True, False):  # a switch may give a control another range
        for called, control, stood in turned:
            device = devices[called]
            setting = next(one for one in device.settings if one.name == control)
            if isinstance(setting, Choice) is not switches:
                continue
            if isinstance(setting, Choice):
                value = next((v for v, words in setting.options if words == stood), None)
                if setting.id == "instrument":
                    value = instrument_id
                assert value is not None, (called, control, stood)
                devices[called] = device.with_setting(setting.id, value)
            else:
                devices[called] = device.with_setting(setting.id, figure(stood))

    def ref(words: str) -> PortRef:
        called = max((one for one in devices if words.startswith(f"{one}, ")), key=len)
        port = words.removeprefix(f"{called}, ")
        device = devices[called]
        ident = next(one.id for one in device.ports if one.name == port)
        return PortRef(device=device.id, port=ident)

    cables = []
    kinds = {kind.value: kind for kind in CableKind}
    for at, (_, source, target, kind, length, pf_per_m, label) in enumerate(sheet["Cables"]):
        one, other = ref(source), ref(target)
        device = next(d for d in devices.values() if d.id == one.device)
        usual = device.port(one.port).signal_class.label == kind
        cables.append(
            Cable(id=f"c{at}", source=one, target=other, length_m=figure(length), label=label,
                  pf_per_m=figure(pf_per_m) if pf_per_m else 100.0,
                  kind=CableKind.USUAL if usual else kinds[kind])
        )  # fmt: skip
    tracks = []
    for track, called, port, _tap in sheet["Recorded as"]:
        where = ref(f"{called}, {port}")
        tracks.append(PlannedTrack(port=where, name=track, tap="di", source=""))
    return Rig(id="typed", name=name, devices=tuple(devices.values()), cables=tuple(cables),
               tracks=tuple(tracks))  # fmt: skip


def typed_instrument(rows: list[list[str]]) -> Instrument:
    told = {what: words for _, what, words in rows}
    coil = told["Pickup"].rpartition(": ")[2].split(", ")
    volume, tone = told["Volume"].split(", "), told["Tone"].split(", ")
    eddy = next((one.removeprefix("eddy ") for one in coil if one.startswith("eddy")), None)
    values = CoilValues(
        inductance_h=parse(coil[0], INDUCTANCE),
        resistance_ohm=parse(coil[1], RESISTANCE),
        winding_pf=1e12 * parse(coil[2], CAPACITANCE),
        eddy_ohm=parse(eddy, RESISTANCE) if eddy else None,
    )
    controls = ControlValues(
        volume_knob=figure(volume[0]), volume_ohm=parse(volume[1], RESISTANCE),
        volume_taper=volume[2],  # type: ignore[arg-type]
        tone_knob=figure(tone[0]), tone_ohm=parse(tone[1], RESISTANCE),
        tone_taper=tone[2], tone_nf=figure(tone[3]),  # type: ignore[arg-type]
    )  # fmt: skip
    cable = told["Cable"].split(", ")
    peak, crest = figure(told["Loudest peak"]), figure(told["Peak over loudest 400 ms"])
    reading = StrengthReading(
        position_id="p", label="typed", made_at="", peak_dbfs=peak, true_peak_dbtp=peak,
        loudest_400ms_dbfs=peak - crest, full_scale_dbu=0.0,
    )  # fmt: skip
    return Instrument(
        id="mine", name="Mine", family="baritone", strings=tuple(told["Strings"].split()),
        pickups=(Pickup(id="u", name="U", values=values),),
        positions=(Position(id="p", name=told["Selector"], pickups=("u",)),), position_id="p",
        controls=controls, cable_m=figure(cable[0]), cable_pf_per_m=figure(cable[1]),
        strength=(reading,), trim_db=figure(told["Trim"]),
    )  # fmt: skip


@pytest.mark.parametrize("template", ["live room", "modeler-usb", "split-chain", "three-tones"])
def test_the_same_planned_peaks_within_a_tenth(template: str) -> None:
    session = bare_demo()
    instrument = session.instruments[0]
    reading = StrengthReading(
        position_id=instrument.position_id, label="hard", made_at="", peak_dbfs=-9.3,
        true_peak_dbtp=-9.2, loudest_400ms_dbfs=-15.1, full_scale_dbu=13.7,
    )  # fmt: skip
    instrument = instrument.model_copy(update={"strength": (reading,)})
    if template == "live room":
        rig = live_room(instrument.id, instrument.name)
    else:
        rig = build(template, "rig09").with_setting("guitar", "instrument", instrument.id)
    session = session.model_copy(update={"rigs": (rig,), "current_rig": rig.id,
                                         "instruments": (instrument,)})  # fmt: skip
    names = {track.port: track.name for track in rig.tracks}
    planned = {
        names[plan.track]: plan.unclipped_dbfs
        for plan in look_at(session, rig.id).tracks
        if plan.track in names
    }
    tracks = tuple(
        Track(id=f"k{at:02d}", name=name, tap="di", file=f"audio/t0001_k{at:02d}.wav", frames=10,
              peak_dbfs=-6.0, planned_dbfs=peak)
        for at, (name, peak) in enumerate(planned.items(), start=1)
    )  # fmt: skip
    take = Take(
        id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tracks,
        rig_hash=rig_hash(rig), rig_name=rig.name, instrument_id=instrument.id,
        instruments={"guitar": content_hash(instrument)},
    )  # fmt: skip
    session = session.model_copy(
        update={"takes": (take,), "snapshots": {rig_hash(rig): rig},
                "instrument_snapshots": {content_hash(instrument): instrument}}
    )  # fmt: skip
    text = wiring.sheet_bytes(make_sheet(session, Wanted("recall")), ".csv").decode()
    sheet = blocks_of(text)
    empty = Session(id="new", name="New", sample_rate_hz=session.sample_rate_hz)
    mine = typed_instrument(sheet[f"Instrument {instrument.name}"])
    again = typed_rig(sheet, rig.name, mine.id)
    rebuilt = empty.model_copy(update={"instruments": (mine,), "rigs": (again,),
                                       "current_rig": again.id})  # fmt: skip
    found = {track.port: track.name for track in again.tracks}
    peaks = {
        found[plan.track]: plan.unclipped_dbfs
        for plan in look_at(rebuilt, again.id).tracks
        if plan.track in found
    }
    told = {row[0]: row[1] for row in sheet["Peaks, to check by"]}
    assert set(peaks) == set(planned) == set(told)
    for name, peak in planned.items():
        assert peaks[name] == pytest.approx(peak, abs=0.1), name
        assert peak is not None
        assert figure(told[name]) == pytest.approx(peak, abs=0.051)
