"""A pickup found by its responses into known loads: circuits of known values, SPICE, noise."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import identification
import numpy as np
import pytest
from identification import CASES, COVERED, Tally, made_case
from test_cli import documented

from diaulos.__main__ import main
from diaulos.circuit.identify import NAMES, Identified, Response, Told, identify
from diaulos.circuit.known_resistor import behind_resistor, source_impedance
from diaulos.circuit.loading import Load, loaded, log_grid
from diaulos.circuit.pickup import Coil, Controls, Magnetic
from diaulos.errors import InputError, RefusedError
from diaulos.quantities import INDUCTANCE
from diaulos.work.instruments.identifying import with_error
from support import REFERENCE

HZ = log_grid(20.0, 20_000.0, 160)
LOADING = REFERENCE / "01_pickup_loading"


def spice(name: str) -> tuple[Response, dict[str, float]]:
    """A curve that ngspice computed, and the values of its circuit."""
    cases = json.loads((LOADING / "cases.json").read_text())["cases"]
    case = next(one for one in cases if one["id"] == name)
    values = case["circuit"]
    hz, db, _ = np.loadtxt(LOADING / case["curve_csv"], delimiter=",", skiprows=1, unpack=True)
    return Response(values["Rin"], values["Cin"], hz, db), values


def plain(
    circuit: Magnetic, *loads: tuple[float, float], farad: float = 400e-12
) -> tuple[Response, ...]:
    """Without noise; `farad` is the cable's."""
    source = circuit.source(HZ)
    return tuple(
        Response(ohm, pf * 1e-12, HZ,
                 20.0 * np.log10(np.abs(loaded(source, Load(ohm, pf * 1e-12 + farad), HZ))))
        for ohm, pf in loads
    )  # fmt: skip


COIL = Coil(4.5, 8_200.0, 120e-12, 500e3)
PICKUP = Magnetic((COIL,), Controls(volume_ohm=500e3, tone_ohm=500e3))


@pytest.mark.parametrize("family", ["sc", "hb", "wsc", "bass"])
def test_what_spice_computed_is_found_again(family: str) -> None:
    """Within the levels' five decimals; the cable is 3 m."""
    pairs = [spice(f"{family}_{load}_3m") for load in ("1M", "136k", "10k")]
    values = pairs[0][1]
    found = identify(tuple(one for one, _ in pairs), "level")
    truth = {
        "inductance_h": values["L"],
        "resistance_ohm": values["Rdc"],
        "capacitance_f": values["Cw"] + values["cable_m"] * values["cable_F_per_m"],
    }
    for name, true in truth.items():
        assert found.told[name].value == pytest.approx(true, rel=0.005), name
    assert found.fit_db < 0.01
    assert "eddy_ohm" not in found.told, "these circuits have none"


def test_all_values_of_a_quiet_measurement() -> None:
    found = identify(plain(PICKUP, (1e6, 30.0), (47e3, 30.0)), "level")
    for name, true in zip(NAMES[:4], (4.5, 8_200.0, 520e-12, 500e3), strict=True):
        told = found.told[name]
        assert abs(told.value - true) <= told.error, name
        assert told.error < 0.05 * true, name
    assert found.best["inductance_h"] == pytest.approx(4.5, rel=0.01)
    for got, response in zip(found.fitted, plain(PICKUP, (1e6, 30.0), (47e3, 30.0)), strict=True):
        assert np.max(np.abs(got - response.db)) < 0.01


def test_one_load_tells_the_resonance_alone_and_says_so() -> None:
    draws = np.random.default_rng(3)
    (one,) = plain(PICKUP, (1e6, 30.0))
    noisy = Response(one.load_ohm, one.load_f, HZ, one.db + draws.normal(0.0, 0.1, HZ.size))
    found = identify((noisy,), "level")
    assert "inductance_h" not in found.told
    assert "second" in found.untold["inductance_h"]
    assert found.reason is not None
    peak = found.resonance_hz[0]
    assert peak is not None
    true = HZ[int(np.argmax(one.db))]
    assert abs(peak.value / true - 1.0) < 0.02


def test_equal_loads_and_ratios_of_one_tell_nothing_and_say_so() -> None:
    draws = np.random.default_rng(5)
    (one,) = plain(PICKUP, (1e6, 30.0))
    twice = tuple(
        Response(1e6, 30e-12, HZ, one.db + draws.normal(0.0, 0.05, HZ.size)) for _ in range(2)
    )
    for responses in (twice, twice[:1]):
        found = identify(responses, "curve")
        assert not found.told, found.told
        assert set(found.untold) == set(NAMES)


def test_a_meter_helps() -> None:
    draws = np.random.default_rng(7)
    pair = [
        Response(one.load_ohm, one.load_f, HZ, one.db + draws.normal(0.0, 0.3, HZ.size))
        for one in plain(PICKUP, (1e6, 30.0), (220e3, 30.0))
    ]
    blind = identify(tuple(pair), "each")
    helped = identify(tuple(pair), "each", 8_200.0)
    assert helped.told["resistance_ohm"].value == pytest.approx(8_200.0, rel=0.02)
    before, after = blind.told.get("inductance_h"), helped.told["inductance_h"]
    assert before is None or after.error <= 1.02 * before.error
    assert abs(after.value - 4.5) <= after.error


@pytest.mark.parametrize("common", ["level", "slope", "curve", "each"])
def test_a_tenth_of_the_made_cases(common: str) -> None:
    """All two hundred, with the limits of each figure: ./diaulos soak identify."""
    draws = np.random.default_rng(11)
    tally = Tally()
    for _ in range(CASES // 10 if common == "level" else 8):
        responses, truth, _ = made_case(draws, common)  # type: ignore[arg-type]
        tally.add(identify(responses, common), truth)  # type: ignore[arg-type]
    assert tally.told >= 20
    # Of so few, the limit of the whole check less what chance does in one of a hundred.
    least = COVERED - 2.33 * math.sqrt(COVERED * (1.0 - COVERED) / tally.told)
    assert tally.covered >= least
    if common == "level":
        assert max(tally.far["inductance_h"]) <= 0.03
        assert max(tally.far["capacitance_f"]) <= 0.05


def test_the_long_check_counts_what_it_misses(monkeypatch: pytest.MonkeyPatch) -> None:
    """Values a tenth off are told as missed in every figure that it holds."""

    def off(responses: tuple[Response, ...], common: str) -> Identified:
        found = identify(responses, common)  # type: ignore[arg-type]
        told = {name: Told(1.1 * one.value, 0.5 * one.error) for name, one in found.told.items()}
        return replace(found, told=told)

    monkeypatch.setattr(identification, "identify", off)
    words, wrong = identification.run(5, seed=2)
    assert words.count("errors hold the truth") == 4
    assert wrong >= 6


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"db": np.full(160, math.nan)}, "not finite"),
        ({"hz": HZ[::-1]}, "do not rise"),
        ({"hz": HZ[:5], "db": np.zeros(5)}, "5 points"),
        ({"db": np.zeros(7)}, "160 frequencies and 7 levels"),
        ({"load_ohm": 0.0}, "a load of 0 ohm"),
    ],
)
def test_what_is_no_response_is_named(change: dict[str, object], words: str) -> None:
    (one,) = plain(PICKUP, (1e6, 30.0))
    values = {"load_ohm": 1e6, "load_f": 0.0, "hz": one.hz, "db": one.db, **change}
    with pytest.raises(InputError, match=words) as caught:
        identify((one, Response(**values)), "level")  # type: ignore[arg-type]
    assert "loads[1]" in str(caught.value.where)
    with pytest.raises(InputError, match="not those of the first"):
        identify((one, Response(1e5, 0.0, HZ * 1.1, one.db)), "curve")
    with pytest.raises(InputError, match="0 responses"):
        identify((), "level")


@pytest.mark.parametrize(
    ("value", "error", "words"),
    [
        (5.104, 0.026, "5.104 ± 0.026 H"), (4.999, 0.3, "5.0 ± 0.3 H"),
        (0.9996, 0.01, "1000 ± 10 mH"), (2.0, 0.9, "2.0 ± 0.9 H"), (2.0, 130.0, "2 ± 130 H"),
    ],
)  # fmt: skip
def test_a_value_and_its_error_have_one_unit(value: float, error: float, words: str) -> None:
    told = with_error(value, error, INDUCTANCE)
    assert told.split()[1:] == words.split()[1:]
    assert float(told.split()[0]) == pytest.approx(float(words.split(maxsplit=1)[0]), rel=1e-3)
    assert with_error(None, None, INDUCTANCE) == "\N{EN DASH}"


# --- by a known resistor ---


def test_an_input_and_a_cable_behind_a_known_resistor() -> None:
    hz = log_grid(20.0, 20_000.0, 60)
    across = 1.0 / 1e6 + 2j * np.pi * hz * 55e-12
    loss = 20.0 * np.log10(np.abs(1.0 + 470e3 * across))
    found = behind_resistor(470e3, hz, loss)
    assert found.ohm == pytest.approx(1e6, rel=0.002)
    assert found.farad == pytest.approx(55e-12, rel=0.002)
    assert found.ohm_error is not None
    assert 0.004e6 < found.ohm_error < 0.02e6
    # An output of 600 ohm is loaded by the cable, too.
    with_source = 20.0 * np.log10(np.abs(1.0 + 470_600.0 * across) / np.abs(1.0 + 600.0 * across))
    assert behind_resistor(470e3, hz, with_source, 600.0).ohm == pytest.approx(1e6, rel=0.002)
    small = behind_resistor(10.0, hz, np.zeros(60))
    assert small.ohm is None
    assert small.farad is None
    assert "larger" in str(small.reason)
    with pytest.raises(InputError, match="a resistor of 0 ohm"):
        behind_resistor(0.0, hz, loss)
    with pytest.raises(InputError, match="at least 4"):
        behind_resistor(1e3, hz[:3], loss[:3])


def test_an_output_by_two_loads() -> None:
    """A source of 600 ohm into 600 ohm loses half: 6.02 dB."""
    out = source_impedance(math.inf, np.zeros(5), 600.0, np.full(5, -20.0 * math.log10(2.0)))
    assert out.ohm == pytest.approx(600.0, rel=1e-6)
    assert 2.0 < out.ohm_error < 10.0
    lossy = 20.0 * math.log10((10e3 / 10.15e3) / (600.0 / 750.0))
    found = source_impedance(10e3, np.zeros(1), 600.0, np.array([-lossy]))
    assert found.ohm == pytest.approx(150.0, rel=1e-6)
    with pytest.raises(RefusedError, match="tells no impedance"):
        source_impedance(10e3, np.zeros(3), 600.0, np.zeros(3))
    with pytest.raises(InputError, match="lighter load first"):
        source_impedance(600.0, np.zeros(3), 10e3, np.zeros(3))


# --- the shell ---


def written(path: Path, data: object) -> Path:
    path.write_text(json.dumps(data))
    return path


def test_the_shell_tells_a_pickup(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    loads = [
        {"load_ohm": one.load_ohm, "load_pf": one.load_f * 1e12, "hz": list(one.hz),
         "db": list(one.db), "remark": "passed over"}
        for one in plain(PICKUP, (1e6, 30.0), (47e3, 30.0))
    ]  # fmt: skip
    file = written(tmp_path / "a.json", {"loads": loads})
    assert main(["identify", str(file), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    known = documented("identify") - {"input_ohm", "input_ohm_error", "source_ohm",
                                      "source_ohm_error"}  # fmt: skip
    assert set(data) == known
    assert data["common"] == "level"
    assert data["inductance_h"] == pytest.approx(4.5, rel=0.01)
    assert main(["identify", str(file), "--common", "curve", "--resistance", "8200"]) == 0
    told = capsys.readouterr().out
    assert "Inductance" in told
    assert "\N{PLUS-MINUS SIGN}" in told
    alone = written(tmp_path / "b.json", {"loads": loads[:1], "common": "curve"})
    assert main(["identify", str(alone), "--json"]) == 3
    data = json.loads(capsys.readouterr().out)
    assert data["inductance_h"] is None
    assert "second" in data["reason"]


def test_the_shell_tells_cable_input_and_output(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    hz = log_grid(20.0, 20_000.0, 40)
    across = 1.0 / 1e6 + 2j * np.pi * hz * 700e-12
    level = -20.0 * np.log10(np.abs(1.0 + 100e3 * across))
    both = [{"hz": list(hz), "db": [0.0] * 40}, {"hz": list(hz), "db": list(level)}]
    file = {"kind": "cable", "series_ohm": 100e3, "input_pf": 100.0, "loads": both}
    assert main(["identify", str(written(tmp_path / "c.json", file)), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["capacitance_f"] == pytest.approx(600e-12, rel=0.01)
    out = [{"hz": [1000.0], "db": [0.0], "load_ohm": 1e4},
           {"hz": [1000.0], "db": [-6.0], "load_ohm": 600.0}]  # fmt: skip
    assert (
        main(["identify", str(written(tmp_path / "o.json", {"kind": "output", "loads": out}))]) == 0
    )
    assert "Source" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"loads": []}, "loads"),
        ({"loads": [{"load_ohm": 1e6, "hz": [1.0], "db": ["x"]}]}, "loads.0.db"),
        ({"loads": [{"load_ohm": -1.0, "hz": [1.0], "db": [1.0]}]}, "loads.0.load_ohm"),
        ({"loads": [{"load_ohm": 1e6, "hz": [1.0], "db": [1.0]}], "common": "x"}, "common"),
        ({"loads": [{"hz": [1.0], "db": [1.0]}], "kind": "output"}, "Give two"),
        ({"loads": [{"hz": [1.0], "db": [1.0]}] * 2, "kind": "cable"}, "series_ohm"),
        ("nothing", "should be an object"),
    ],
)
def test_the_shell_names_what_is_wrong(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], data: object, words: str
) -> None:
    assert main(["identify", str(written(tmp_path / "x.json", data))]) == 1
    said = capsys.readouterr().err
    assert words in said
    assert "Traceback" not in said
