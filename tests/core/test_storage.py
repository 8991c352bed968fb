"""Broadcast Wave and the files that people bring: written, read back, refused."""

from __future__ import annotations

import json
import signal
import struct
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.errors import AudioFileError, InputError, StorageError
from diaulos.storage.audiofile import audio_info, read_blocks, resampled
from diaulos.storage.bwf import Bext, WavWriter, coding_history_line, inspect_riff
from support import RATE, REFERENCE, program, read_all, read_channel

_TABLE = json.loads((REFERENCE / "10_broadcast_wave" / "bwf.json").read_text("utf-8"))
BWF = [case for case in _TABLE["files"] if "defect" not in case]
NOTES = Bext(
    description="Saltmarsh; verse; DI",
    originator="Diaulos",
    origination_date="2026-05-09",
    origination_time="12:00:00",
    time_reference=12 * 3600 * RATE,
    coding_history=coding_history_line(RATE, "24", 1, "Diaulos; test"),
)


def write(path: Path, samples: np.ndarray, word: str = "24", **more: object) -> Path:
    channels = 1 if samples.ndim == 1 else samples.shape[1]
    writer = WavWriter(path, RATE, channels, word, NOTES, **more)
    writer.write(samples)
    writer.close()
    return path


def noise(frames: int, channels: int = 1) -> np.ndarray:
    return 0.5 * np.random.default_rng(1).uniform(-1.0, 1.0, (frames, channels))


@pytest.mark.parametrize("word", ["24", "float"])
@pytest.mark.parametrize("channels", [1, 2, 3])
@pytest.mark.parametrize("frames", [1, 999, 70_001])
def test_what_is_written_is_read_back(
    tmp_path: Path, word: str, channels: int, frames: int
) -> None:
    samples = noise(frames, channels)
    path = write(tmp_path / "a.wav", samples, word)
    info = audio_info(path)
    assert (info.frames, info.channels, info.rate_hz) == (frames, channels, RATE)
    assert info.is_float == (word == "float")
    back, _ = soundfile.read(str(path), always_2d=True)
    np.testing.assert_allclose(back, samples, atol=2.0**-23)
    np.testing.assert_allclose(read_all(info), samples, atol=2.0**-22)


def test_24_bit_is_bit_exact_with_the_usual_library(tmp_path: Path) -> None:
    samples = noise(5000)
    ours = write(tmp_path / "ours.wav", samples)
    whole = np.rint(samples * 8_388_608.0) / 8_388_608.0
    back, _ = soundfile.read(str(ours), always_2d=True)
    np.testing.assert_array_equal(back, whole)


def test_bext_is_read_by_another_reader(tmp_path: Path) -> None:
    from wavinfo import WavInfoReader

    got = WavInfoReader(str(write(tmp_path / "a.wav", noise(480)))).bext
    assert got.description == NOTES.description
    assert got.originator == "Diaulos"
    assert got.originator_date == NOTES.origination_date
    assert got.originator_time == NOTES.origination_time
    assert got.time_reference == NOTES.time_reference
    assert got.coding_history.strip() == NOTES.coding_history.strip()


def test_bext_is_read_by_a_third_reader(tmp_path: Path) -> None:
    ffprobe = program("ffprobe")
    path = write(tmp_path / "a.wav", noise(480, 2))
    asked = [ffprobe, "-v", "error", "-show_format", "-show_streams", "-of", "json", str(path)]
    told = json.loads(subprocess.run(asked, check=True, capture_output=True).stdout)
    tags = told["format"]["tags"]
    assert tags["comment"] == NOTES.description
    assert tags["encoded_by"] == "Diaulos"
    assert tags["date"] == NOTES.origination_date
    assert tags["creation_time"] == NOTES.origination_time
    assert int(tags["time_reference"]) == NOTES.time_reference
    assert tags["coding_history"].strip() == NOTES.coding_history.strip()
    assert told["streams"][0]["channels"] == 2
    assert int(told["streams"][0]["duration_ts"]) == 480


@pytest.mark.parametrize("case", BWF, ids=lambda case: case["id"])
def test_files_of_known_content(case: dict) -> None:
    path = REFERENCE / "10_broadcast_wave" / case["file"]
    info = audio_info(path)
    want = case["bext"]
    assert info.bext is not None
    assert info.bext.description == want["Description"]
    assert info.bext.time_reference == want["TimeReference"]
    assert info.bext.coding_history == want["CodingHistory"].strip()
    assert info.frames == case["format"]["frames"]
    assert info.rate_hz == case["format"]["sample_rate"]
    assert info.channels == case["format"]["channels"]


def test_there_are_files_of_known_content() -> None:
    assert len(BWF) >= 4


def test_a_data_size_of_zero_is_refused_in_words() -> None:
    """The defect file: readers differ about it; we do not guess."""
    with pytest.raises(AudioFileError, match="zero frames"):
        audio_info(REFERENCE / "10_broadcast_wave" / "files" / "bad_data_size_zero.wav")


def test_texts_that_do_not_fit_are_cut_and_never_break_the_layout() -> None:
    packed = Bext(description="x" * 999, originator="Bjørn", origination_date="2026-05-09").pack()
    assert len(packed) == 602
    back = Bext.unpack(packed)
    assert back.description == "x" * 256
    assert back.originator == "Bj?rn"


def test_more_than_fits_in_riff_becomes_rf64(tmp_path: Path) -> None:
    """The limit is set low: the same code at 4 GiB."""
    samples = noise(4000, 2)
    path = write(tmp_path / "long.wav", samples, riff_limit=10_000)
    assert path.read_bytes()[:4] == b"RF64"
    assert path.read_bytes()[12:16] == b"ds64"
    info = audio_info(path)
    assert info.frames == 4000
    np.testing.assert_allclose(read_all(info), samples, atol=2.0**-22)
    facts = inspect_riff(path)
    assert facts is not None
    assert facts.bext is not None
    assert facts.bext.description == NOTES.description
    ffprobe = program("ffprobe")
    asked = [ffprobe, "-v", "error", "-show_streams", "-of", "json", str(path)]
    told = json.loads(subprocess.run(asked, check=True, capture_output=True).stdout)
    assert int(told["streams"][0]["duration_ts"]) == 4000


def test_a_file_is_never_overwritten(tmp_path: Path) -> None:
    path = write(tmp_path / "take.wav", noise(10))
    before = path.read_bytes()
    with pytest.raises(StorageError, match="never overwritten"):
        WavWriter(path, RATE, 1, "24", NOTES)
    assert path.read_bytes() == before


def test_beyond_full_scale_is_counted_in_24_bit_and_kept_in_float(tmp_path: Path) -> None:
    samples = np.array([0.0, 1.5, -1.5, -1.0, 0.25])
    writer = WavWriter(tmp_path / "a.wav", RATE, 1, "24", NOTES)
    writer.write(samples)
    writer.close()
    assert writer.clipped_samples == 2
    kept = write(tmp_path / "b.wav", samples, "float")
    np.testing.assert_allclose(read_channel(audio_info(kept)), samples)


KILLED = """
import os, sys, time
import numpy as np
from pathlib import Path
from diaulos.storage.bwf import Bext, WavWriter
writer = WavWriter(Path(sys.argv[1]), 48000, 2, "24", Bext(description="cut short"))
ramp = np.arange(200_000) / 400_000
at = 0
while True:
    block = ramp[at % 190_000:][:480]
    writer.write(np.stack([block, -block], axis=1))
    at += block.size
    if at == 96_000:
        print("half way", flush=True)
    time.sleep(0.0002)
"""


@pytest.mark.parametrize("extra_s", [0.0, 0.013, 0.08])
def test_a_recording_survives_the_death_of_its_process(tmp_path: Path, extra_s: float) -> None:
    path = tmp_path / "take.wav"
    process = subprocess.Popen(
        [sys.executable, "-c", KILLED, str(path)], stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    assert process.stdout.readline().strip() == "half way"
    time.sleep(extra_s)  # a moment of the recording, not a wait for anything
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    info = audio_info(path)
    # Two seconds were written; at most one may be missing, and what is there is right.
    assert info.frames >= 48_000
    back = read_all(info)
    ramp = np.arange(min(info.frames, 190_000)) / 400_000
    np.testing.assert_allclose(back[: ramp.size, 0], ramp, atol=2.0**-22)
    np.testing.assert_allclose(back[: ramp.size, 1], -ramp, atol=2.0**-22)


# --- what people bring ---


def test_a_text_file_named_wav(tmp_path: Path) -> None:
    path = tmp_path / "notes.wav"
    path.write_text("strings changed on Tuesday")
    with pytest.raises(AudioFileError, match=r"not audio.*Export it again"):
        audio_info(path)


def test_a_file_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(AudioFileError, match="no such file"):
        audio_info(tmp_path / "gone.wav")


def test_a_file_cut_off_in_the_middle(tmp_path: Path) -> None:
    whole = write(tmp_path / "whole.wav", noise(9600)).read_bytes()
    cut = tmp_path / "cut.wav"
    cut.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(AudioFileError, match=r"cut off: 4\d% of the audio"):
        audio_info(cut)


def test_zero_frames(tmp_path: Path) -> None:
    path = write(tmp_path / "empty.wav", np.zeros((0, 1)))
    with pytest.raises(AudioFileError, match="zero frames"):
        audio_info(path)


def test_infinities_of_both_signs_are_an_error_and_no_warning(tmp_path: Path) -> None:
    """Their sum is not a number; numpy would say so on the terminal."""
    samples = noise(100, 1)
    samples[40], samples[60] = np.inf, -np.inf
    path = tmp_path / "bad.wav"
    soundfile.write(str(path), samples, RATE, subtype="FLOAT")
    with pytest.raises(InputError, match="sample 40"):
        list(read_blocks(audio_info(path)))


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
def test_bad_samples_are_named_by_frame(tmp_path: Path, bad: float) -> None:
    samples = np.zeros(100_000)
    samples[70_000] = bad
    path = write(tmp_path / "bad.wav", samples, "float")
    with pytest.raises(InputError, match="sample 4464") as caught:
        list(read_blocks(audio_info(path)))
    assert "from frame 65536" in str(caught.value)


@pytest.mark.parametrize(
    ("kind", "subtype"),
    [("WAV", "PCM_16"), ("WAV", "PCM_24"), ("WAV", "PCM_32"), ("WAV", "FLOAT"),
     ("WAV", "DOUBLE"), ("FLAC", "PCM_16"), ("FLAC", "PCM_24")],
)  # fmt: skip
@pytest.mark.parametrize("rate", [44_100, 96_000, 192_000])
def test_formats_that_can_be_brought(tmp_path: Path, subtype: str, kind: str, rate: int) -> None:
    path = tmp_path / f"di.{kind.lower()}"
    soundfile.write(str(path), noise(4410)[:, 0], rate, subtype=subtype, format=kind)
    info = audio_info(path)
    assert (info.rate_hz, info.frames) == (rate, 4410)
    np.testing.assert_allclose(read_channel(info), noise(4410)[:, 0], atol=1e-4)


def test_resampling_in_blocks_keeps_a_sine(tmp_path: Path) -> None:
    n = np.arange(44_100)
    sine = 0.5 * np.sin(2.0 * np.pi * 440.0 * n / 44_100).astype(np.float32)
    blocks = iter(np.array_split(sine, 7))
    out = np.concatenate(list(resampled(blocks, 44_100, 48_000)))
    assert abs(out.size - 48_000) <= 1
    want = 0.5 * np.sin(2.0 * np.pi * 440.0 * np.arange(out.size) / 48_000)
    np.testing.assert_allclose(out[2000:-2000], want[2000:-2000], atol=1e-4)


def test_a_lying_chunk_size_does_not_run_away(tmp_path: Path) -> None:
    data = bytearray(write(tmp_path / "a.wav", noise(100)).read_bytes())
    at = data.index(b"bext")
    data[at + 4 : at + 8] = struct.pack("<I", 0xFFFFFFF0)
    path = tmp_path / "b.wav"
    path.write_bytes(bytes(data))
    with pytest.raises(AudioFileError):
        audio_info(path)


FULL = """
import resource, sys, signal
from pathlib import Path
import numpy as np
from diaulos.errors import StorageError
from diaulos.storage.bwf import Bext, WavWriter
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (20_000, 20_000))
writer = WavWriter(Path(sys.argv[1]), 48000, 1, "24", Bext())
try:
    for _ in range(100):
        writer.write(np.zeros(1000))
    writer.close()
except StorageError as error:
    writer.abandon()
    print(error)
"""


def test_a_file_that_cannot_grow_is_told_and_removed(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    run = subprocess.run(
        [sys.executable, "-c", FULL, str(path)], capture_output=True, text=True, check=True
    )
    assert "could not be written" in run.stdout
    assert not path.exists()


def test_a_folder_that_is_not_there_is_told(tmp_path: Path) -> None:
    with pytest.raises(StorageError) as caught:
        WavWriter(tmp_path / "gone" / "a.wav", RATE, 1, "24", NOTES)
    assert caught.value.remedy
    assert list(tmp_path.iterdir()) == []
