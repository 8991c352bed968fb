"""Level, time and noise arithmetic against worked examples (source named in each case)."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diaulos import units as u
from support import reference_cases

COMPUTE = {
    "volt_to_dBu": lambda i: u.volt_to_dbu(i["V"]),
    "dBu_to_volt": lambda i: u.dbu_to_volt(i["dBu"]),
    "dBV_to_dBu": lambda i: u.dbv_to_dbu(i["dBV"]),
    "dBu_to_dBV": lambda i: u.dbu_to_dbv(i["dBu"]),
    "peak_volt_to_equiv_sine_dBu": lambda i: u.peak_volt_to_dbu(i["Vpk"]),
    "dBu_to_dBFS": lambda i: u.dbu_to_dbfs(i["dBu"], i["max_dBu"]),
    "dBV_out_to_dBFS_in": lambda i: u.dbu_to_dbfs(u.dbv_to_dbu(i["dBV"]), i["max_dBu"]),
    "divider_loss": lambda i: u.divider_db(i["Zout"], i["Zin"]),
    "divider_two_loads": lambda i: u.divider_db(i["Zout"], u.parallel_ohm(i["Z1"], i["Z2"])),
    "thermal_noise_V": lambda i: u.thermal_noise_v(
        i["R"], bandwidth_hz=i["B"], temperature_k=i["T"]
    ),
    "thermal_noise_dBu": lambda i: u.volt_to_dbu(
        u.thermal_noise_v(i["R"], bandwidth_hz=i["B"], temperature_k=i["T"])
    ),
    "noise_power_sum": lambda i: u.power_sum_db(*i["levels"]),
    "amp_power_to_V": lambda i: u.power_to_volt(i["P"], i["R"]),
    "amp_power_to_dBu": lambda i: u.volt_to_dbu(u.power_to_volt(i["P"], i["R"])),
    "loopback_change": lambda i: u.dbu_to_dbfs(
        u.dbfs_to_dbu(0.0, i["dac_max_dBu"]), i["adc_max_dBu"] - i["adc_gain_dB"]
    ),
    "cab_parallel": lambda i: u.parallel_ohm(*i["Z"]),
    "speed_of_sound": lambda i: u.speed_of_sound_m_per_s(i["T"]),
    "samples_to_ms": lambda i: u.samples_to_ms(i["n"], i["fs"]),
    "ms_to_samples": lambda i: u.ms_to_samples(i["ms"], i["fs"]),
    "metres_to_ms": lambda i: u.metres_to_ms(i["m"], i["T"]),
}
CASES = [
    case
    for folder, file in (("03_levels", "levels.json"), ("09_timing", "timing.json"))
    for case in reference_cases(folder, file)
    if case["group"] in COMPUTE
]


def test_every_group_named_here_occurs() -> None:
    assert {case["group"] for case in CASES} == set(COMPUTE)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["id"])
def test_worked_example(case: dict) -> None:
    got = COMPUTE[case["group"]](case["inputs"])
    kind = {"abs": case["tol"]} if case["tol_kind"] == "abs" else {"rel": case["tol"]}
    assert got == pytest.approx(case["value"], **kind)


@given(st.floats(-200.0, 60.0))
def test_levels_come_back(dbu: float) -> None:
    assert u.volt_to_dbu(u.dbu_to_volt(dbu)) == pytest.approx(dbu, abs=1e-9)
    assert u.peak_volt_to_dbu(u.dbu_to_peak_volt(dbu)) == pytest.approx(dbu, abs=1e-9)


def test_silence_is_minus_infinity() -> None:
    assert u.gain_to_db(0.0) == -math.inf
    assert u.power_sum_db() == -math.inf
    assert u.parallel_ohm(math.inf, math.inf) == math.inf
