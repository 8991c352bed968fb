"""Shipped figures are our own representative ones: no data sheet is to be read out of them."""

from __future__ import annotations

from diaulos.rig.catalogue.types import TYPES, make
from diaulos.rig.model import Control, Direction, SignalClass
from diaulos.rig.tone_place import TRIM
from diaulos.session.model import Session
from diaulos.work.takes.unload import DI_LOADS_OHM

OWN_OHM = {10e3, 47e3, 100e3, 220e3, 470e3, 1e6, 2.2e6, 10e6}
JOINED_OHM = 1e9
"""A wire: what is plugged in behind it loads."""
MOST_TRIM_DB = 18.0


def test_instrument_inputs_of_the_catalogue() -> None:
    seen = set()
    for type_id in TYPES:
        for port in make(type_id, "x").ports:
            if port.direction is not Direction.IN:
                continue
            classes = {port.signal_class, *(mode.signal_class for mode in port.modes)}
            if SignalClass.INSTRUMENT not in classes:
                continue
            found = {port.impedance_ohm} if port.signal_class is SignalClass.INSTRUMENT else set()
            found |= {
                mode.impedance_ohm
                for mode in port.modes
                if mode.impedance_ohm is not None
                and (mode.signal_class or port.signal_class) is SignalClass.INSTRUMENT
            }
            assert found <= OWN_OHM | {JOINED_OHM}, (type_id, port.id, found)
            seen |= found
    assert len(seen) > 5


def test_what_a_new_session_compares_and_asks() -> None:
    session = Session(id="s", name="S", sample_rate_hz=48_000)
    loads = {one.ohm for one in session.compared_inputs}
    loads |= {one.beside_ohm for one in session.compared_inputs if one.beside_ohm is not None}
    assert loads <= OWN_OHM
    assert set(DI_LOADS_OHM) <= OWN_OHM


def test_trims_run_as_far_as_ours_do() -> None:
    found = [
        setting
        for type_id in TYPES
        for setting in make(type_id, "x").settings
        if setting.id == TRIM and isinstance(setting, Control)
    ]
    assert found
    for one in found:
        assert (one.minimum, one.maximum) == (-MOST_TRIM_DB, MOST_TRIM_DB)


def test_every_device_of_the_catalogue_says_that_it_is_representative() -> None:
    """What has levels of its own says where they are from."""
    for type_id in TYPES:
        device = make(type_id, "x")
        if any(port.max_dbu is not None for port in device.ports):
            assert "representative" in device.notes, type_id
