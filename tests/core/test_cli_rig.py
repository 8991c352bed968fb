"""The shell commands around the rig."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import documented, run, run_json

from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.wiring import SessionFolder
from diaulos.work.rigs.look import courses_data, findings_data, look_at
from diaulos.work.rigs.stored import stored_of
from support import RATE, performance


def with_rig(path: Path, change=lambda rig: rig, template: str = "hybrid") -> None:  # type: ignore[no-untyped-def]
    """Make a template the session's current rig."""
    folder = SessionFolder.open(path)
    rig = change(build(template, "extra"))
    folder.save(edits.add_rig(rig)(folder.load()))
    folder.close()


def test_check_is_what_the_core_says(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    code, data = run_json(capsys, "check", demo_copy, "--rig", "rig04")
    folder = SessionFolder.open(demo_copy, read_only=True)
    session = folder.load()
    report = look_at(session, "rig04", stored_of(session, folder))
    assert code == 11
    assert data["worst"] == "fault"
    assert data["findings"] == findings_data(report.findings)
    assert set(data) == documented("check")
    assert {n["id"] for n in data["notices"]} == {"amp", "load", "earth", "sound"}
    code, out, _ = run(capsys, "check", demo_copy, "--rig", "rig04")
    assert code == 11
    for one in report.findings:
        assert one.remedy in out
    assert "Never lift a safety earth" in out


@pytest.mark.parametrize(
    ("change", "wanted"),
    [
        (lambda rig: rig, 0),
        (lambda rig: rig.with_setting("interface", "clock", "coax_in"), 11),
        (
            lambda rig: rig.model_copy(
                update={"cables": tuple(c for c in rig.cables if str(c.source) != "amp.speaker")}
            ),
            12,
        ),
    ],
)
def test_exit_codes_by_severity(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, change, wanted: int
) -> None:  # type: ignore[no-untyped-def]
    with_rig(demo_copy, change)
    assert run(capsys, "check", demo_copy)[0] == wanted


def test_a_caution_exits_with_10(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    with_rig(demo_copy, lambda r: r.with_setting("modeler", "model", "off"), "modeler-analog")
    code, data = run_json(capsys, "check", demo_copy)
    assert (code, data["worst"]) == (10, "caution")


def test_courses_are_what_the_core_says(
    capsys: pytest.CaptureFixture[str], demo_copy: Path
) -> None:
    with_rig(demo_copy)
    code, data = run_json(capsys, "courses", demo_copy)
    assert code == 0
    assert set(data) == documented("courses")
    report = look_at(SessionFolder.open(demo_copy, read_only=True).load())
    assert data["courses"] == json.loads(json.dumps(courses_data(report, RATE)))
    assert [c["name"] for c in data["courses"]] == ["DI", "Amp", "Amp and cabinet"]
    assert (data["inputs_used"], data["inputs_left"]) == (3, 1)
    _, out, _ = run(capsys, "courses", demo_copy)
    assert "Amp and cabinet (cabinet)" in out


def test_render_writes_what_every_input_receives(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, tmp_path: Path
) -> None:
    di = tmp_path / "di.wav"
    soundfile.write(str(di), 0.3 * performance(seconds=2.0, seed=3), RATE, subtype="FLOAT")
    out = tmp_path / "out"
    with_rig(demo_copy)
    code, data = run_json(capsys, "render", demo_copy, "--di", di, "--out", out)
    assert code == 0
    assert set(data) == documented("render")
    assert data["calibration_assumed"]
    assert [t["name"] for t in data["tracks"]] == ["DI", "Amp", "Amp and cabinet"]
    for track in data["tracks"]:
        samples, rate = soundfile.read(track["file"])
        assert rate == RATE
        assert samples.size == data["frames"] == 3 * RATE
        peak = 20.0 * np.log10(np.abs(samples).max())
        assert peak == pytest.approx(track["peak_dbfs"], abs=0.01)
    code, _, err = run(capsys, "render", demo_copy, "--di", di, "--out", out)
    assert code == 1
    assert "exists already" in err
    assert run(capsys, "render", demo_copy, "--di", di, "--out", out, "--replace")[0] == 0


def test_the_same_seed_gives_the_same_noise(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, tmp_path: Path
) -> None:
    di = tmp_path / "di.wav"
    soundfile.write(str(di), np.zeros(RATE // 2), RATE, subtype="FLOAT")
    heard = []
    for name, seed in (("a", 1), ("b", 1), ("c", 2)):
        run(capsys, "render", demo_copy, "--rig", "rig04", "--di", di, "--out", tmp_path / name,
            "--seed", seed)  # fmt: skip
        heard.append(soundfile.read(str(tmp_path / name / "02-amp.wav"))[0])
    assert np.array_equal(heard[0], heard[1])
    assert not np.array_equal(heard[0], heard[2])
    assert 0.0 < float(np.abs(heard[0]).max()) < 0.05


def test_a_stored_di_of_the_session_is_known(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, tmp_path: Path
) -> None:
    di = SessionFolder.open(demo_copy, read_only=True).load().take("t0001").di
    assert di is not None
    file = demo_copy / di.file
    _, data = run_json(
        capsys, "render", demo_copy, "--rig", "rig04", "--di", file, "--out", tmp_path / "o"
    )
    assert not data["calibration_assumed"]
    assert data["tracks"][2]["clipped_samples"] > 0


def test_render_says_what_is_wrong(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, tmp_path: Path
) -> None:
    di = tmp_path / "di.wav"
    soundfile.write(str(di), np.zeros(4410), 44_100)
    for args, words in (
        (("--di", di, "--out", tmp_path / "o"), "44100"),
        (("--di", tmp_path / "gone.wav", "--out", tmp_path / "o"), "gone.wav"),
    ):
        code, _, err = run(capsys, "render", demo_copy, *args)
        assert code == 1
        assert words in err
    soundfile.write(str(di), np.zeros(4800), RATE)
    (tmp_path / "file").write_text("")
    code, _, err = run(capsys, "render", demo_copy, "--di", di, "--out", tmp_path / "file")
    assert code == 1
    assert "folder cannot be made" in err
    code, _, err = run(
        capsys, "render", demo_copy, "--di", di, "--out", tmp_path / "o", "--from", "harp"
    )
    assert code == 1
    assert "harp" in err


def test_a_simulated_player(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, tmp_path: Path
) -> None:
    out = tmp_path / "o"
    code, data = run_json(capsys, "render", demo_copy, "--rig", "rig04", "--player", "--out", out)
    assert code == 0
    assert not data["calibration_assumed"]
    assert data["tracks"][0]["peak_dbfs"] > -20.0
    code, _, err = run(capsys, "render", demo_copy, "--out", out)
    assert code == 1
    assert "--player" in err
