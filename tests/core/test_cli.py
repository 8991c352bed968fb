"""The shell: figures, JSON keys as documented, exit codes, messages."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos import __version__
from diaulos.__main__ import main
from diaulos.signal.fir import shift
from support import RATE, measure_loudness, performance, with_noise

DOCS = Path(__file__).parents[2] / "docs" / "cli.md"
PLAYED = 0.3 * performance(seconds=12.0, seed=4)


def run(capsys: pytest.CaptureFixture[str], *args: object) -> tuple[int, str, str]:
    code = main([str(arg) for arg in args])
    out, err = capsys.readouterr()
    return code, out, err


def run_json(capsys: pytest.CaptureFixture[str], *args: object) -> tuple[int, dict]:
    code, out, _ = run(capsys, *args, "--json")

    def refuse(text: str) -> None:
        raise AssertionError(f"{text} in JSON")

    return code, json.loads(out, parse_constant=refuse)


def documented(verb: str) -> set[str]:
    """Keys that docs/cli.md lists for a command."""
    text = DOCS.read_text("utf-8")
    part = re.split(r"^## ", text, flags=re.M)
    section = next(p for p in part if p.startswith(f"`diaulos {verb}"))
    return set(re.findall(r"^\| `([a-z_0-9]+)` \|", section, flags=re.M))


@pytest.fixture
def pair(tmp_path: Path) -> tuple[Path, Path]:
    late = with_noise(-0.5 * shift(PLAYED, 321.25, PLAYED.size + 800), 40.0)
    soundfile.write(str(tmp_path / "a.wav"), PLAYED, RATE, subtype="FLOAT")
    soundfile.write(str(tmp_path / "b.wav"), late, RATE, subtype="FLOAT")
    return tmp_path / "a.wav", tmp_path / "b.wav"


def test_align(capsys: pytest.CaptureFixture[str], pair: tuple[Path, Path]) -> None:
    code, data = run_json(capsys, "align", *pair)
    assert code == 0
    assert data["delay_samples"] == pytest.approx(321.25, abs=0.01)
    assert data["delay_ms"] == pytest.approx(321.25 / 48.0, abs=1e-3)
    assert data["polarity"] == -1
    assert data["confidence"] > 0.9
    assert set(data) == documented("align")


def test_align_within_limits(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """A loop is told within limits; without them the candidates are, nearest first."""
    once = PLAYED[RATE : RATE + 43_211]
    a = np.tile(once, 5)
    soundfile.write(str(tmp_path / "a.wav"), a, RATE, subtype="FLOAT")
    soundfile.write(str(tmp_path / "b.wav"), np.roll(a, 69), RATE, subtype="FLOAT")
    both = (tmp_path / "a.wav", tmp_path / "b.wav")
    code, data = run_json(capsys, "align", *both)
    assert code == 3
    assert data["reason"] == "ambiguous"
    assert data["candidates_samples"][0] == pytest.approx(69.0, abs=1.0)
    code, data = run_json(capsys, "align", *both, "--expect-ms", 43_211 / 48.0)
    assert code == 3
    assert data["candidates_samples"][0] == pytest.approx(69.0 + 43_211, abs=1.0)
    code, data = run_json(capsys, "align", *both, "--max-delay-ms", 50)
    assert code == 0
    assert data["delay_samples"] == pytest.approx(69.0, abs=0.1)
    at = ("--max-delay-ms", 50, "--expect-ms", 43_211 / 48.0)
    code, data = run_json(capsys, "align", *both, *at)
    assert code == 0
    assert data["delay_samples"] == pytest.approx(69.0 + 43_211, abs=0.1)
    assert run(capsys, "align", *both, "--max-delay-ms", -1)[0] == 2


def test_align_writes_b_in_as_time(
    capsys: pytest.CaptureFixture[str], pair: tuple[Path, Path], tmp_path: Path
) -> None:
    out = tmp_path / "out.wav"
    run_json(capsys, "align", *pair, "--write", out)
    again, data = run_json(capsys, "align", pair[0], out)
    assert again == 0
    assert abs(data["delay_samples"]) < 0.01
    assert data["polarity"] == -1  # polarity only when asked
    run_json(capsys, "align", *pair, "--write", out, "--fix-polarity", "--replace")
    assert run_json(capsys, "align", pair[0], out)[1]["polarity"] == 1
    code, _, err = run(capsys, "align", *pair, "--write", out)
    assert code == 1
    assert "exists already" in err


def test_align_resamples_and_says_so(
    capsys: pytest.CaptureFixture[str], pair: tuple[Path, Path], tmp_path: Path
) -> None:
    import soxr

    other = tmp_path / "b96.wav"
    late = shift(PLAYED, 100.0, PLAYED.size + 500)
    soundfile.write(str(other), soxr.resample(late, RATE, 96_000), 96_000, subtype="FLOAT")
    code, data = run_json(capsys, "align", pair[0], other)
    assert code == 0
    assert data["resampled_from_hz"] == 96_000
    assert data["delay_samples"] == pytest.approx(100.0, abs=0.02)


def test_align_refuses_another_performance(
    capsys: pytest.CaptureFixture[str], pair: tuple[Path, Path], tmp_path: Path
) -> None:
    soundfile.write(str(tmp_path / "c.wav"), 0.3 * performance(seconds=12.0, seed=99), RATE)
    code, data = run_json(capsys, "align", pair[0], tmp_path / "c.wav")
    assert code == 3
    assert data["reason"] == "not_the_same_performance"
    assert data["remedy"]
    soundfile.write(str(tmp_path / "s.wav"), np.zeros(RATE), RATE)
    code, data = run_json(capsys, "align", pair[0], tmp_path / "s.wav")
    assert (code, data["reason"]) == (3, "silent")


def test_align_in_words(capsys: pytest.CaptureFixture[str], pair: tuple[Path, Path]) -> None:
    code, out, _ = run(capsys, "align", *pair)
    assert code == 0
    assert re.search(r"321\.2\d+ samples \(6\.69\d+ ms\) late", out)
    assert "inverted" in out


def test_match(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    soundfile.write(str(tmp_path / "ref.wav"), PLAYED, RATE, subtype="FLOAT")
    soundfile.write(str(tmp_path / "x.wav"), 0.21 * PLAYED[::-1], RATE, subtype="FLOAT")
    out = tmp_path / "out.wav"
    code, data = run_json(capsys, "match", tmp_path / "ref.wav", tmp_path / "x.wav", "--out", out)
    assert code == 0
    assert set(data) == documented("match")
    written, _ = soundfile.read(str(out))
    measured = measure_loudness(written, RATE).lufs
    assert measured == pytest.approx(data["after_lufs"], abs=0.01)
    assert data["after_lufs"] == pytest.approx(data["reference_lufs"] + data["pair_offset_db"])
    assert data["method"] == "integrated"
    assert data["layout"] == "mono"


def test_match_never_clips(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    loud = np.clip(4.0 * PLAYED, -0.95, 0.95)
    spiky = 0.01 * PLAYED.copy()
    spiky[::RATE] = 0.5
    soundfile.write(str(tmp_path / "ref.wav"), loud, RATE, subtype="FLOAT")
    soundfile.write(str(tmp_path / "x.wav"), spiky, RATE, subtype="FLOAT")
    out = tmp_path / "out.wav"
    _, data = run_json(capsys, "match", tmp_path / "ref.wav", tmp_path / "x.wav", "--out", out)
    assert data["pair_offset_db"] < -1.0
    assert data["true_peak_dbtp"] == pytest.approx(-1.0, abs=1e-6)
    written, _ = soundfile.read(str(out))
    assert np.max(np.abs(written)) < 1.0
    code, text, _ = run(capsys, "match", tmp_path / "ref.wav", tmp_path / "x.wav", "--out", out,
                        "--replace")  # fmt: skip
    assert code == 0
    assert "bring the reference down" in text


def test_match_of_short_takes_says_rms(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    soundfile.write(str(tmp_path / "a.wav"), PLAYED[RATE : 3 * RATE], RATE)
    soundfile.write(str(tmp_path / "b.wav"), 0.5 * PLAYED[RATE : 3 * RATE], RATE)
    out = tmp_path / "o.wav"
    _, data = run_json(capsys, "match", tmp_path / "a.wav", tmp_path / "b.wav", "--out", out)
    assert data["method"] == "rms"
    assert data["gain_db"] == pytest.approx(6.02, abs=0.01)


def test_reamp_saves_a_pass(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    verb = ("reamp", demo_copy, "--take", "Slack water, verse")
    code, data = run_json(capsys, *verb, "--match", "Amp and cabinet")
    assert code == 0
    assert set(data) == documented("reamp SESSION")
    assert data["after_lufs"] == pytest.approx(data["reference_lufs"], abs=0.1)
    assert (demo_copy / data["file"]).is_file()
    saved = json.loads((demo_copy / "session.json").read_text("utf-8"))
    assert [p["id"] for p in saved["takes"][0]["passes"]] == [data["pass"]]
    code, data = run_json(capsys, *verb, "--rig", "Tall stack by box", "--match-lufs", "-21")
    assert data["after_lufs"] == pytest.approx(-21.0, abs=0.01)
    code, data = run_json(capsys, *verb, "--match", data["name"])
    assert (code, data["pass"]) == (0, "p03")
    assert not (demo_copy / "lock").exists()


def test_reamp_in_words_names_what_is_assumed(
    capsys: pytest.CaptureFixture[str], demo_copy: Path
) -> None:
    code, out, _ = run(capsys, "reamp", demo_copy, "--take", "Marram, intro")
    assert code == 0
    assert "assumed: +12 dBu" in out
    assert "polarity" in out


@pytest.mark.parametrize(
    ("extra", "words"),
    [
        (("--take", "Nothing"), "Takes here: Slack water, verse"),
        (("--take", "t0001", "--rig", "none"), "Rigs here"),
        (("--take", "t0001", "--match", "Flute"), "Its tracks: DI, Amp and cabinet"),
        (("--take", "t0001", "--match-lufs", "6"), "from -60 to 0"),
        (("--take", "t0001", "--match", "DI", "--match-lufs", "-20"), "exclude each other"),
    ],
)
def test_reamp_says_what_is_wrong(
    capsys: pytest.CaptureFixture[str], demo_copy: Path, extra: tuple[str, ...], words: str
) -> None:
    code, _, err = run(capsys, "reamp", demo_copy, *extra)
    assert code == 1
    assert words in err
    assert not (demo_copy / "lock").exists()


def test_reamp_file(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    di, out = tmp_path / "di.wav", tmp_path / "out.wav"
    soundfile.write(str(di), PLAYED, RATE)
    code, data = run_json(capsys, "reamp-file", di, out, "--full-scale-dbu", "14")
    assert code == 0
    assert set(data) == documented("reamp-file")
    assert not data["calibration_assumed"]
    info = soundfile.info(str(out))
    assert info.frames == PLAYED.size
    code, _, err = run(capsys, "reamp-file", di, out)
    assert (code, "exists already" in err) == (1, True)
    code, text, _ = run(capsys, "reamp-file", di, out, "--replace", "--match", di)
    assert code == 0
    assert "matched" in text


def test_reamp_file_of_a_stereo_file(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    di, out = tmp_path / "di.wav", tmp_path / "out.wav"
    soundfile.write(str(di), np.stack([0.0 * PLAYED, PLAYED], axis=1), RATE)
    code, _, err = run(capsys, "reamp-file", di, out)
    assert code == 1
    assert "2 channels where one is needed" in err
    assert "--channel" in err
    assert run(capsys, "reamp-file", di, out, "--channel", "2")[0] == 0


def test_demo_without_a_window(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    code, data = run_json(capsys, "demo", "--at", tmp_path / "Demo", "--no-window")
    assert code == 0
    assert set(data) == documented("demo")
    assert Path(data["session"]).is_dir()
    code, _, err = run(capsys, "demo", "--at", tmp_path / "Demo", "--no-window")
    assert (code, "already" in err) == (1, True)


def test_a_demo_cut_short_leaves_no_half_demo(tmp_path: Path) -> None:
    from diaulos.demo.saltmarsh import write_demo
    from diaulos.errors import CancelledError

    def stop(fraction: float, text: str) -> None:
        if fraction > 0.3:
            raise CancelledError

    with pytest.raises(CancelledError):
        write_demo(tmp_path / "Demo", stop)
    assert list(tmp_path.iterdir()) == []
    # A process that was killed leaves its part behind; the next start writes over it.
    (tmp_path / ".Demo.part.diaulos").mkdir()
    folder, session = write_demo(tmp_path / "Demo", with_passes=False)
    assert folder.path == tmp_path / "Demo.diaulos"
    assert len(session.takes) == 4
    folder.close()
    assert [p.name for p in tmp_path.iterdir()] == ["Demo.diaulos"]


def test_usage_and_version(capsys: pytest.CaptureFixture[str]) -> None:
    assert run(capsys, "--version")[:2] == (0, f"diaulos {__version__}\n")
    assert run(capsys, "align", "only-one.wav")[0] == 2
    assert run(capsys, "align", "a.wav", "b.wav", "--colour", "blue")[0] == 2
    code, out, _ = run(capsys, "--help")
    assert code == 0
    for verb in ("align", "match", "reamp", "reamp-file", "demo"):
        assert verb in out


def test_schema_is_printed(capsys: pytest.CaptureFixture[str]) -> None:
    code, out, _ = run(capsys, "schema")
    assert code == 0
    assert json.loads(out)["title"] == "Session"


def test_a_missing_file_in_json(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    code, data = run_json(capsys, "align", tmp_path / "a.wav", tmp_path / "b.wav")
    assert code == 1
    assert data["reason"] == "audiofile"
    assert data["where"].endswith("a.wav")
