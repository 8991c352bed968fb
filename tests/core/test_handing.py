"""Handing over: stems that lie in time anywhere, a session in one file that is what it was."""

from __future__ import annotations

import hashlib
import io
import json
import math
import random
import shutil
import stat
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile
import wavinfo
from archives import ARCHIVES, mutated, small
from hypothesis import given, settings
from hypothesis import strategies as st
from test_cli import documented, run_json

from diaulos import wiring
from diaulos.__main__ import main
from diaulos.errors import EditError, InputError, SessionFileError, StorageError
from diaulos.figures import number, plain
from diaulos.session import compare_edits
from diaulos.session.compared import Moved
from diaulos.session.model import Session, Take, Track
from diaulos.storage.folder import SessionFolder
from diaulos.storage.packing import LIST, pack, unpack
from diaulos.work.handing.packing import PackChoice, plan_packing
from diaulos.work.handing.stems import StemChoice, plan_stems, stem_ixml
from diaulos.work.listening.mixing import channels_of, mix_rows
from diaulos.work.ports import CancelToken, FileNotes
from diaulos.work.takes.exporting import BLOCK
from support import NOON, RATE, performance

EVERYTHING, ALL_OF_IT = StemChoice(), PackChoice()


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A take of a dry DI and two modeled tracks in float, reamped twice."""
    where = tmp_path_factory.mktemp("handing") / "s.diaulos"
    for words in (
        ["new", str(where)],
        ["rig", str(where), "--add", "modeler-usb", "--current"],
        ["record", str(where), "--seconds", "4", "--seed", "4", "--name", "One"],
        ["rig", str(where), "--add", "reamp-box", "--name", "Out", "--current"],
        ["reamp", str(where), "--take", "One", "--rig", "Out", "--no-slate", "--match-lufs", "-20"],
        ["reamp", str(where), "--take", "One", "--rig", "Out", "--no-slate"],
    ):
        assert main(words) == 0, words
    return where


@pytest.fixture
def copy(made: Path, tmp_path: Path) -> SessionFolder:
    shutil.copytree(made, tmp_path / "s.diaulos")
    return SessionFolder.open(tmp_path / "s.diaulos")


def write(
    folder: SessionFolder, session: Session, out: Path, choice: StemChoice = EVERYTHING
) -> tuple[str, ...]:
    stems = plan_stems(session, choice)
    wiring.write_stem_files(session, stems, choice, folder, out, clock=lambda: NOON)
    return tuple(one.file for one in stems)


def read(path: Path) -> np.ndarray:
    return np.asarray(soundfile.read(str(path), dtype="float64", always_2d=True)[0])


# --- stems ---


def test_stems_add_up_to_the_sessions_own_mix(copy: SessionFolder, tmp_path: Path) -> None:
    """To the last bit at unity: both read the same samples, and float files keep them."""
    session = copy.load()
    take = session.take("One")
    back = take.passes[0].returns[0]
    session = compare_edits.move_into_time(
        tuple(one.file for one in take.part("Modeled")),
        Moved(delay_samples=40.25, polarity=-1, allpass_hz=300.0),
    )(session)
    session = compare_edits.set_low_cut((back.file,), 80.0)(session)
    names = write(copy, session, tmp_path / "st", StemChoice(word="float"))
    assert len(names) == len(take.parts) + len(take.passes)
    stems = {name: read(tmp_path / "st" / name) for name in names}
    assert len({len(one) for one in stems.values()}) == 1
    assert next(one.shape[1] for one in stems.values()) == 2, "the modeler's two sides"
    rows = mix_rows(session, session.take("One"))
    mix = np.zeros((len(next(iter(stems.values()))), 2))
    for channel in channels_of(rows, session, copy):
        if any(t.tap == "di" and t.file == channel.key for t in take.tracks):
            continue
        # In the blocks of an export: what is filtered rounds otherwise in others, by half a bit.
        samples = np.concatenate(
            [
                np.asarray(channel.read(at, min(BLOCK, len(mix) - at)), np.float64)
                for at in range(0, len(mix), BLOCK)
            ]
        )
        gain = 10.0 ** (channel.gain_db / 20.0)
        told = (gain * samples).astype(np.float32).astype(np.float64)
        for column in {"left": (0,), "right": (1,)}.get(channel.side, (0, 1)):
            mix[:, column] += told
    summed = sum(one for name, one in stems.items() if " DI" not in name)
    assert np.array_equal(mix, summed)


def test_a_dry_di_is_always_as_recorded(copy: SessionFolder, tmp_path: Path) -> None:
    session = copy.load()
    di = session.take("One").di
    assert di is not None
    session = compare_edits.move_into_time((di.file,), Moved(delay_samples=100.0))(session)
    session = compare_edits.set_low_cut((di.file,), 80.0)(session)
    write(copy, session, tmp_path / "st", StemChoice(only=("DI",)))
    stem = next(tmp_path.glob("st/*DI.wav"))
    assert np.array_equal(read(stem), read(copy.path / di.file))


def test_as_recorded_leaves_the_match_out_and_plain_the_filters(
    copy: SessionFolder, tmp_path: Path
) -> None:
    session = copy.load()
    made = session.take("One").passes[0]
    back = made.returns[0]
    assert back.match is not None
    session = compare_edits.set_low_cut((back.file,), 200.0)(session)
    whole = StemChoice(only=(made.name,), word="float")
    for at, choice in enumerate(
        (whole, StemChoice(only=(made.name,), word="float", matched=False),
         StemChoice(only=(made.name,), word="float", rendered=False))
    ):  # fmt: skip
        write(copy, session, tmp_path / f"st{at}", choice)
    matched, raw, bare = (read(next((tmp_path / f"st{at}").glob("*.wav")))[:, 0] for at in range(3))
    gain = 20.0 * math.log10(np.sqrt(np.mean(matched**2) / np.mean(raw**2)))
    assert gain == pytest.approx(back.match.total_db, abs=1e-4)
    spectrum = [np.abs(np.fft.rfft(x)) for x in (matched, bare)]
    low = slice(int(40 * matched.size / RATE), int(90 * matched.size / RATE))
    assert np.sum(spectrum[0][low] ** 2) < 0.5 * np.sum(spectrum[1][low] ** 2)
    told = plan_stems(session, StemChoice(only=(made.name,), matched=False))[0].decided
    assert not any("matched" in words for words in told)
    assert any("low cut 200 Hz" in words for words in plan_stems(session, whole)[0].decided)


def test_the_files_say_what_they_are(copy: SessionFolder, tmp_path: Path) -> None:
    """Read back by wavinfo, and by ffprobe."""
    session = copy.load()
    take = session.take("One")
    take = take.model_copy(
        update={"time_reference": 1_000_000, "name": "Ämter & <Co>",
                "tracks": tuple(t.model_copy(update={"full_scale_dbu": 12.5}) if t.tap == "di"
                                else t for t in take.tracks)}
    )  # fmt: skip
    session = session.model_copy(update={"takes": (take,)})
    names = write(copy, session, tmp_path / "st", StemChoice(made_for_dbu=18.0))
    stem = next(name for name in names if "DI" in name)
    info = wavinfo.WavInfoReader(str(tmp_path / "st" / stem))
    assert info.bext.time_reference == 1_000_000
    assert "0 dBFS = +12.50 dBu" in info.bext.description
    assert "stem" in info.bext.coding_history
    assert (info.bext.originator_date, info.bext.originator_time) == (
        f"{NOON:%Y-%m-%d}", f"{NOON:%H:%M:%S}",
    )  # fmt: skip
    assert info.ixml.take == "Ämter & <Co>"
    assert [one.name for one in info.ixml.track_list] == ["DI"]
    text = (tmp_path / "st" / "stems.txt").read_text("utf-8")
    assert "0 dBFS is +12.50 dBu." in text
    assert "set \N{MINUS SIGN}5.50 dB ahead of it" in text
    assert (tmp_path / "st" / "track sheet.html").is_file()
    if shutil.which("ffprobe"):
        told = subprocess.run(
            ["ffprobe", "-v", "error", "-show_format", "-of", "json", str(tmp_path / "st" / stem)],
            capture_output=True, check=True,
        )  # fmt: skip
        tags = json.loads(told.stdout)["format"]["tags"]
        assert tags["time_reference"] == "1000000"


def test_two_calibrations_of_one_di_are_one_sound(tmp_path: Path) -> None:
    """A DI recorded twice, its 0 dBFS at +12 and at +18 dBu: at the gains that are told for one
    software amplifier they null below -80 dB."""
    played = 0.5 * performance(seconds=4.0)
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    folder = SessionFolder.create(tmp_path / "s.diaulos", session)
    tracks = []
    for number_, full in enumerate((12.0, 18.0), start=1):
        file = f"audio/t0001_k{number_:02d}.wav"
        sink = folder.create_audio(file, RATE, 1, "24", FileNotes("DI", NOON))
        sink.write((played * 10 ** ((12.0 - full) / 20)).astype(np.float32)[:, None])
        sink.close()
        tracks.append(Track(id=f"k{number_:02d}", name=f"DI {full:g}", tap="di", file=file,
                            frames=played.size, peak_dbfs=-6.0, full_scale_dbu=full))  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tuple(tracks))
    session = session.model_copy(update={"takes": (take,)})
    choice = StemChoice(made_for_dbu=15.0)
    stems = plan_stems(session, choice)
    assert [one.set_gain_db for one in stems] == [-3.0, 3.0]
    write(folder, session, tmp_path / "st", choice)
    a, b = (
        read(tmp_path / "st" / one.file)[:, 0] * 10 ** ((one.set_gain_db or 0.0) / 20)
        for one in stems
    )
    assert 10 * np.log10(np.sum((a - b) ** 2) / np.sum(a**2)) < -80.0
    hot = plan_stems(session, StemChoice(made_for_dbu=0.0))
    assert all(one.clips_there for one in hot), "that clipping is warned of"


def test_takes_that_were_recorded_over_one_another_begin_together(tmp_path: Path) -> None:
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    folder = SessionFolder.create(tmp_path / "s.diaulos", session)
    takes = []
    for at, (name, over, frame) in enumerate(
        (("One", "", 0), ("Two", "t0001", 12_345), ("Apart", "", 0)), start=1
    ):
        file = f"audio/t{at:04d}_k01.wav"
        sink = folder.create_audio(file, RATE, 1, "float", FileNotes("DI", NOON))
        sink.write(np.full((1_000 * at, 1), 0.25 * at, np.float32))
        sink.close()
        track = Track(id="k01", name="Amp", tap="amp", file=file, frames=1_000 * at, peak_dbfs=-6.0)
        takes.append(Take(id=f"t{at:04d}", name=name, recorded_at="2026-05-09T12:00:00",
                          tracks=(track,), over=over, over_frame=frame,
                          time_reference=500_000 + frame))  # fmt: skip
    session = session.model_copy(update={"takes": tuple(takes)})
    choice = StemChoice(takes=("One", "Two", "Apart"), word="float")
    names = write(folder, session, tmp_path / "st", choice)
    assert names == ("One, 01 Amp.wav", "Two, 02 Amp.wav", "Apart, 03 Amp.wav")
    one, two, apart = (read(tmp_path / "st" / name)[:, 0] for name in names)
    assert (one[0], apart[0]) == (0.25, 0.75)
    assert not np.any(two[:12_345])
    assert two[12_345] == 0.5
    refs = [wavinfo.WavInfoReader(str(tmp_path / "st" / n)).bext.time_reference for n in names]
    assert refs[:2] == [500_000, 500_000]


@pytest.mark.parametrize(
    ("pattern", "first"),
    [
        ("{name}", "DI.wav"),
        ("{n:03}_{take}_{tap}", "001_One_dry DI.wav"),
        ("{session}/{name}", "Untitled session-DI.wav"),
        ("..", "stem 01.wav"),
        ("con", "stem 01.wav"),
        ("same", "same.wav"),
    ],
)
def test_names_follow_a_pattern(made: Path, pattern: str, first: str) -> None:
    session = (
        SessionFolder.open(made, read_only=True)
        .load()
        .model_copy(update={"name": "Untitled session"})
    )
    stems = plan_stems(session, StemChoice(pattern=pattern))
    files = [one.file for one in stems if one.tap == "di"] or [stems[0].file]
    if "{n" in pattern or "{" not in pattern:
        files = [stems[0].file if "{n" not in pattern else files[0]]
    assert files[0].endswith(first[3:] if "{n" in pattern else first)
    names = [one.file.casefold() for one in stems]
    assert len(set(names)) == len(names)
    assert all("/" not in name and not name.startswith(".") for name in names)


@pytest.mark.parametrize(
    "pattern", ["{name.__class__}", "{0}", "{name!r}", "{other}", "{", "{n:{n}}", "{name:>999999}"]
)
def test_a_pattern_that_is_none_is_refused(made: Path, pattern: str) -> None:
    session = SessionFolder.open(made, read_only=True).load()
    with pytest.raises(InputError, match="cannot be used"):
        plan_stems(session, StemChoice(pattern=pattern))


@settings(max_examples=60, deadline=None)
@given(st.text(max_size=40), st.text(max_size=40))
def test_ixml_is_well_formed_whatever_names_are(name: str, take_name: str) -> None:
    from xml.etree import ElementTree as ET

    track = Track.model_construct(id="k01", name=name, tap="amp", file="a", frames=1,
                                  peak_dbfs=0.0, full_scale_dbu=None)  # fmt: skip
    take = Take.model_construct(id="t", name=take_name, tracks=(track,), passes=())
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    from diaulos.work.handing.stems import Stem

    stem = Stem("a.wav", take, name, "amp", track, None, (), 0, 1, ())
    text = stem_ixml(session, stem, 2)
    root = ET.fromstring(text.encode("utf-8", "surrogatepass"))
    assert len(root.findall("TRACK_LIST/TRACK")) == 2


def test_the_shell_writes_stems(
    copy: SessionFolder, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "st"
    code, data = run_json(capsys, "stems", copy.path, "--out", out, "--preview")
    assert code == 0
    assert not out.exists()
    code, again = run_json(capsys, "stems", copy.path, "--out", out)
    assert code == 0
    assert set(again) | set(again["files"][0]) == documented("stems")
    assert [one["file"] for one in again["files"]] == [one["file"] for one in data["files"]]
    assert sorted(path.name for path in out.iterdir()) == sorted(
        [*(one["file"] for one in again["files"]), *again["beside"]]
    )
    code, told = run_json(capsys, "stems", copy.path, "--out", out)
    assert code == 1
    assert "exists" in told["error"]
    assert run_json(capsys, "stems", copy.path, "--out", out, "--replace")[0] == 0
    for more, words in (
        (["--take", "None"], "no take"), (["--only", "None"], "nothing of that name"),
        (["--pattern", "{x}"], "cannot be used"), (["--word", "16"], "no word length"),
    ):  # fmt: skip
        code, told = run_json(capsys, "stems", copy.path, "--out", tmp_path / "no", *more)
        assert code == 1
        assert words in told["error"]
    assert not (tmp_path / "no").exists()


def test_what_is_cancelled_leaves_no_half_file(copy: SessionFolder, tmp_path: Path) -> None:
    from diaulos.errors import CancelledError

    session, token = copy.load(), CancelToken()
    stems = plan_stems(session, StemChoice())

    def progress(fraction: float, _text: str) -> None:
        if fraction > 0.4:
            token.cancel()

    with pytest.raises(CancelledError):
        wiring.write_stem_files(session, stems, StemChoice(), copy, tmp_path / "st",
                                progress=progress, cancel=token)  # fmt: skip
    for path in (tmp_path / "st").iterdir():
        assert not path.name.endswith(".part")
        assert soundfile.info(str(path)).frames == stems[0].frames


def test_samples_are_told_however_many_they_are() -> None:
    """A level below -199 dB is silence; so many samples early are no silence."""
    assert plain(-246.3, 1, sign=True) == "\N{MINUS SIGN}246.3"
    assert number(-246.3) == "\N{EN DASH}"
    assert plain(math.inf) == "\N{EN DASH}"


# --- packed sessions ---


def packed(folder: SessionFolder, target: Path, choice: PackChoice = ALL_OF_IT) -> Path:
    pack(folder, plan_packing(folder.load(), choice, folder.has_file), target)
    return target


def test_a_packed_session_comes_out_as_it_was(copy: SessionFolder, tmp_path: Path) -> None:
    one = packed(copy, tmp_path / "a.diaulosz")
    assert one.read_bytes() == packed(copy, tmp_path / "b.diaulosz").read_bytes(), "same bytes"
    found = unpack(one, tmp_path / "out")
    assert found.path == tmp_path / "out.diaulos"
    there = SessionFolder.open(found.path, read_only=True)
    assert there.load() == copy.load()
    for file in copy.load().used_files():
        assert (found.path / file).read_bytes() == (copy.path / file).read_bytes()
    with zipfile.ZipFile(one) as archive:
        sound = [info for info in archive.infolist() if info.filename.startswith("audio/")]
        assert all(info.compress_type == zipfile.ZIP_STORED for info in sound)
        told = json.loads(archive.read(LIST))
        for entry in told["contents"]:
            assert hashlib.sha256(archive.read(entry["file"])).hexdigest() == entry["sha256"]
    with pytest.raises(StorageError, match="already"):
        unpack(one, tmp_path / "out")
    with pytest.raises(StorageError, match="exists"):
        packed(copy, one)


def test_what_stays_at_home_is_told(copy: SessionFolder, tmp_path: Path) -> None:
    session = copy.load()
    di = session.take("One").di
    assert di is not None
    choice = PackChoice(dis=False)
    found = unpack(packed(copy, tmp_path / "a.diaulosz", choice), tmp_path / "out")
    assert found.left_out == (di.file,)
    assert not (found.path / di.file).exists()
    (copy.path / session.take("One").tracks[1].file).unlink()
    packing = plan_packing(session, PackChoice(), copy.has_file)
    assert packing.missing == (session.take("One").tracks[1].file,)
    found = unpack(packed(copy, tmp_path / "b.diaulosz"), tmp_path / "again")
    assert found.missing == packing.missing
    with pytest.raises(EditError):
        plan_packing(session, PackChoice(takes=("None",)), copy.has_file)


def test_other_takes_and_the_bin_can_stay(copy: SessionFolder) -> None:
    session = copy.load()
    take = session.take("One")
    other = take.model_copy(
        update={"id": "t0002", "name": "Two", "passes": (),
                "tracks": tuple(t.model_copy(update={"file": f"audio/x{t.id}.wav"})
                                for t in take.tracks)}
    )  # fmt: skip
    session = session.model_copy(update={"takes": (take, other), "take_bin": (other.model_copy(
        update={"id": "t0003"}),)})  # fmt: skip
    there = plan_packing(session, PackChoice(takes=("One",), bin=False), lambda _file: True)
    assert [one.id for one in there.session.takes] == ["t0001"]
    assert not there.session.take_bin
    assert set(there.files) == {t.file for t in take.tracks} | {
        back.file for made in take.passes for back in made.returns
    }


def evil(target: Path, source: Path, change: str) -> Path:
    """A packed session with one thing wrong."""
    with zipfile.ZipFile(source) as archive:
        entries = [(info, archive.read(info)) for info in archive.infolist()]
    with zipfile.ZipFile(target, "w") as out:
        for info, data in entries:
            if change == "missing" and info.filename.startswith("audio/"):
                continue
            if change == "hash" and info.filename.startswith("audio/"):
                data = data[:-1] + bytes([data[-1] ^ 1])
            if change == "deflated" and info.filename.startswith("audio/"):
                info.compress_type = zipfile.ZIP_DEFLATED
            out.writestr(info, data)
        more = {
            "absolute": "/etc/passwd", "up": "audio/../../x.wav", "odd": "audio/x\ny.wav",
            "elsewhere": "bin/x.wav", "twice": "session.json", "dir": "audio/x/",
            "case": "SESSION.json",
        }  # fmt: skip
        if change in more:
            out.writestr(more[change], b"x")
        if change == "link":
            info = zipfile.ZipInfo("audio/link.wav")
            info.external_attr = (stat.S_IFLNK | 0o777) << 16
            out.writestr(info, b"/etc/passwd")
    return target


@pytest.mark.filterwarnings("ignore:Duplicate name")
@pytest.mark.parametrize(
    "change",
    ["missing", "hash", "deflated", "absolute", "up", "odd", "elsewhere", "twice", "dir", "case",
     "link"],
)  # fmt: skip
def test_a_stranger_s_archive_does_nothing_but_say_what_is_wrong(
    copy: SessionFolder, tmp_path: Path, change: str
) -> None:
    good = packed(copy, tmp_path / "a.diaulosz")
    bad = evil(tmp_path / "bad.diaulosz", good, change)
    before = sorted(path.name for path in tmp_path.iterdir())
    with pytest.raises(SessionFileError) as caught:
        unpack(bad, tmp_path / "out")
    if change == "hash":
        assert "audio/" in str(caught.value), "the damaged file is named"
    assert sorted(path.name for path in tmp_path.iterdir()) == before


def test_a_bomb_is_no_bomb(copy: SessionFolder, tmp_path: Path) -> None:
    """Texts are read to a limit, whatever their header says."""
    good = packed(copy, tmp_path / "a.diaulosz")
    with zipfile.ZipFile(good) as archive:
        told = json.loads(archive.read(LIST))
    big = io.BytesIO()
    with zipfile.ZipFile(big, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("session.json", b" " * (300 * 1024 * 1024))
        out.writestr(LIST, json.dumps(told))
    path = tmp_path / "bomb.diaulosz"
    path.write_bytes(big.getvalue())
    assert path.stat().st_size < 1_000_000
    with pytest.raises(SessionFileError):
        unpack(path, tmp_path / "out")
    assert not list(tmp_path.glob("out*"))


def test_a_tenth_of_the_mutated_archives(tmp_path: Path) -> None:
    """All five thousand: ./diaulos soak archives."""
    good = small(tmp_path)
    assert mutated(good, tmp_path, ARCHIVES // 10, random.Random(11)) == []


def test_the_shell_packs_and_unpacks(
    copy: SessionFolder, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "a.diaulosz"
    code, data = run_json(capsys, "pack", copy.path, out)
    assert code == 0
    assert set(data) == documented("pack")
    assert data["bytes"] == out.stat().st_size
    code, data = run_json(capsys, "unpack", out, tmp_path / "new")
    assert code == 0
    assert set(data) == documented("unpack")
    assert SessionFolder.open(Path(data["session"]), read_only=True).load() == copy.load()
    assert run_json(capsys, "pack", copy.path, tmp_path / "a.zip")[0] == 1
    assert run_json(capsys, "unpack", tmp_path / "none.diaulosz", tmp_path / "x")[0] == 1


# --- back again ---


def test_a_folder_of_stems_becomes_its_takes_again(
    copy: SessionFolder, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    session = copy.load()
    take = session.take("One")
    tracks = tuple(
        t.model_copy(update={"full_scale_dbu": 12.5}) if t.tap == "di" else t for t in take.tracks
    )
    first = take.model_copy(update={"time_reference": 1_000_000, "tracks": tracks})
    second = first.model_copy(
        update={"id": "t0009", "name": "Two; loud", "passes": (), "time_reference": 2_000_000}
    )
    session = session.model_copy(update={"takes": (first, second)})
    names = write(copy, session, tmp_path / "st", StemChoice(takes=("One", "t0009")))
    assert main(["new", str(tmp_path / "new")]) == 0
    capsys.readouterr()
    code, data = run_json(capsys, "import", tmp_path / "new.diaulos", tmp_path / "st")
    assert code == 0
    assert set(data) == documented("import")
    assert [one["name"] for one in data["takes"]] == ["One", "Two, loud"]
    back = SessionFolder.open(tmp_path / "new.diaulos", read_only=True)
    again = back.load()
    for take_, wanted in zip(again.takes, (first, second), strict=True):
        assert take_.time_reference == wanted.time_reference
        stems = plan_stems(session, StemChoice(takes=(wanted.id,)))
        parts = [(p[0].pair if len(p) == 2 else p[0].name, p[0].tap) for p in take_.parts]
        assert parts == [(s.name, s.tap) for s in stems]
        di = next(t for t in take_.tracks if t.tap == "di")
        assert di.full_scale_dbu == 12.5
        assert np.array_equal(read(back.path / di.file), read(copy.path / first.di.file))  # type: ignore[union-attr]
    assert len(names) == sum(len(t.parts) for t in again.takes)
    empty = tmp_path / "empty"
    empty.mkdir()
    code, data = run_json(capsys, "import", tmp_path / "new.diaulos", empty)
    assert code == 1
    assert "0 sound files" in data["error"]
