"""A compressor: its curve, its times, and that the plan is what is played."""

from __future__ import annotations

import math

import numpy as np
import pytest
from test_air_sources import ref
from test_truth import heard

from diaulos.errors import InputError
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.course import trace
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.settings import settings_on
from diaulos.rig.model import Rig
from diaulos.rig.trackplan import plan_tracks
from diaulos.signal.compressor import Compressor, CompressorSettings, held_back_db
from diaulos.units import dbu_to_peak_volt, peak_volt_to_dbu

RATE = 48_000.0


def played(settings: CompressorSettings, volts: np.ndarray, block: int = 4_096) -> np.ndarray:
    box = Compressor(settings, RATE)
    state, out = box.initial_state(), []
    for first in range(0, volts.size, block):
        sound, state = box.process(volts[first : first + block], state)
        out.append(sound)
    return np.concatenate(out)


def sine(dbu: float, seconds: float, hz: float = 1_000.0) -> np.ndarray:
    time = np.arange(round(seconds * RATE)) / RATE
    return dbu_to_peak_volt(dbu) * np.sin(2.0 * np.pi * hz * time)


@pytest.mark.parametrize(
    ("into", "out"),
    [(-20.0, -20.0), (-3.0, -3.0), (0.0, -0.5625), (3.0, 0.75), (12.0, 3.0), (20.0, 5.0)],
)
def test_the_gain_computer_is_the_papers(into: float, out: float) -> None:
    """Worked by hand from eq. (4) with T = 0 dBu, R = 4, W = 6 dB."""
    settings = CompressorSettings(threshold_dbu=0.0, ratio=4.0)
    assert into - held_back_db(settings, into) == pytest.approx(out, abs=1e-9)
    steady = played(settings, sine(into, 2.0))[-4_800:]
    assert peak_volt_to_dbu(float(np.abs(steady).max())) == pytest.approx(out, abs=0.05)


def test_its_times_are_63_percent_of_the_way() -> None:
    settings = CompressorSettings(-20.0, 10.0, attack_ms=20.0, release_ms=200.0)
    loud, soft = sine(0.0, 2.0), sine(-40.0, 1.0)
    volts = np.concatenate([loud, soft])
    with np.errstate(divide="ignore", invalid="ignore"):
        held = -20.0 * np.log10(np.abs(played(settings, volts) / volts))
    whole = 0.9 * 20.0
    share = 1.0 - math.exp(-1.0)

    def at(seconds: float) -> float:
        first = round(seconds * RATE)
        return float(np.nanmedian(held[first : first + 20]))

    assert at(0.020) == pytest.approx(share * whole, rel=0.06)
    assert at(1.9) == pytest.approx(whole, abs=0.05)
    assert at(2.2) == pytest.approx((1.0 - share) * whole, rel=0.06)


@pytest.mark.parametrize("block", [1, 64, 1_000])
def test_blocks_do_not_matter(block: int) -> None:
    rng = np.random.default_rng(4)
    volts = rng.standard_normal(5_000)
    settings = CompressorSettings(-10.0, 6.0, 2.0, 30.0)
    np.testing.assert_allclose(played(settings, volts, block), played(settings, volts), rtol=1e-12)


def test_what_is_soft_passes_untouched() -> None:
    volts = sine(-30.0, 0.2, 41.2)
    np.testing.assert_array_equal(played(CompressorSettings(0.0), volts), volts)


@pytest.mark.parametrize("name", ["ratio", "attack_ms", "release_ms"])
def test_what_no_compressor_has_is_refused(name: str) -> None:
    with pytest.raises(InputError, match=name.partition("_")[0]):
        CompressorSettings(**{name: 0.0})


# --- in a rig ---


def sung(**knobs: float) -> Rig:
    """Voice, microphone, preamp, compressor, interface."""
    box = make("compressor", "compressor")
    for name, value in knobs.items():
        box = box.with_setting(name, value)
    preamp = make("mic_preamp", "preamp").with_setting("phantom", "on").with_setting("gain", 24.0)
    devices = (make("voice", "source"), make("condenser", "mic"), preamp, box,
               make("interface4", "interface").with_setting("mode1", "line"),
               make("computer", "computer"))  # fmt: skip
    links = [("source.sound", "mic.sound"), ("mic.out", "preamp.in"),
             ("preamp.out", "compressor.in"), ("compressor.out", "interface.in1"),
             ("interface.rec1", "computer.track1")]  # fmt: skip
    return wired(devices, links)


def picked(kind: str, **knobs: float) -> Rig:
    """Guitar or bass, compressor pedal, interface."""
    box = make("compressor_pedal", "compressor")
    for name, value in knobs.items():
        box = box.with_setting(name, value)
    devices = (make(kind, "source"), box,
               make("interface4", "interface").with_setting("mode1", "instrument"),
               make("computer", "computer"))  # fmt: skip
    links = [("source.out", "compressor.in"), ("compressor.out", "interface.in1"),
             ("interface.rec1", "computer.track1")]  # fmt: skip
    return wired(devices, links)


def wired(devices: tuple, links: list[tuple[str, str]]) -> Rig:
    rig = Rig(id="r", name="r", devices=devices, cables=())
    for one, other in links:
        rig = joined(rig, ref(one), ref(other))
    return rig


CASES = {
    "voice": sung(threshold=-8.0),
    "voice, hard": sung(threshold=-20.0, ratio=12.0, attack=1.0, release=60.0),
    "voice, slow": sung(threshold=-12.0, attack=60.0, release=600.0),
    "guitar": picked("guitar", threshold=-18.0, ratio=4.0, makeup=4.0),
    "bass": picked("bass", threshold=-24.0, ratio=8.0, attack=5.0, makeup=6.0),
    "made the most of": picked("guitar", threshold=-40.0, ratio=20.0, attack=1.0, release=20.0),
}


@pytest.mark.parametrize("name", CASES)
def test_the_plan_is_what_is_played(name: str) -> None:
    graph = RigGraph(CASES[name])
    (plan,) = plan_tracks(graph)
    assert plan.unclipped_dbfs is not None
    assert heard(graph, "source")[plan.track] == pytest.approx(plan.unclipped_dbfs, abs=0.5)


def test_it_changes_something_and_bypass_undoes_it() -> None:
    rig = CASES["bass"]
    (on,) = plan_tracks(RigGraph(rig))
    (off,) = plan_tracks(RigGraph(rig.with_setting("compressor", "bypass", "off")))
    assert on.unclipped_dbfs is not None
    assert off.unclipped_dbfs is not None
    assert abs(on.unclipped_dbfs - off.unclipped_dbfs) > 0.5
    assert (on.tap, off.tap) == ("printed", "di")


def test_a_gain_ahead_of_it_is_a_part_of_its_tone() -> None:
    graph = RigGraph(CASES["voice"])
    kept = {str(one.ref.device): one.kept for one in settings_on(trace(graph, graph.tracks[0]))
            if one.setting.id in ("gain", "makeup")}  # fmt: skip
    assert kept["preamp"] == "ahead of the compressor: part of the tone"
    assert kept["compressor"] == ""


def test_an_idle_one_is_told_and_its_remedy_works() -> None:
    rig = picked("guitar", threshold=20.0)
    told = [one for one in run_checks(Context(RigGraph(rig))) if one.id == "compressor-idle"]
    assert len(told) == 1
    assert told[0].mend is not None
    mended = told[0].mend.change(rig)
    after = run_checks(Context(RigGraph(mended)))
    assert not [one for one in after if one.id == "compressor-idle"]
    (plan,), (before,) = plan_tracks(RigGraph(mended)), plan_tracks(RigGraph(rig))
    assert plan.unclipped_dbfs is not None
    assert before.unclipped_dbfs is not None
    assert plan.unclipped_dbfs < before.unclipped_dbfs - 0.3


def test_a_ratio_of_one_is_not_blamed_on_the_threshold() -> None:
    rig = picked("guitar", threshold=-40.0, ratio=1.0)
    (told,) = [one for one in run_checks(Context(RigGraph(rig))) if one.id == "compressor-idle"]
    assert told.cause == "Its ratio is 1 : 1."
    assert told.mend is None
