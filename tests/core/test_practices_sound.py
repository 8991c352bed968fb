"""What a practice says either choice costs, played: the sound does what the note says."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_practices import figures, like, only, session_on

from diaulos.rig.course import trace
from diaulos.session import edits
from diaulos.session.instrument import note_to_midi
from diaulos.session.model import Heard, Session, Take, Track
from diaulos.session.noise_check import NoiseCheck
from diaulos.session.practices import Practice
from diaulos.session.tone_stage import stage_of
from diaulos.signal.pitch import midi_hz
from diaulos.storage.folder import SessionFolder
from diaulos.units import gain_to_db
from diaulos.wiring import BenchAudio, rig_backend
from diaulos.work.listening.heard import track_reader
from diaulos.work.listening.mixing import channels_of, mix_rows, stereo_of
from diaulos.work.practices.departures import Departure, departures, sums_of
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.rendering import player_request, render
from diaulos.work.rigs.solving import solve_edit, solve_rig
from diaulos.work.takes.noisecheck import check_noise, kept_check
from support import RATE

HEARD_DB = 0.3
"""A strum's peak lies so near to where it is told."""


class Sink:
    """Keeps what a track records."""

    def __init__(self) -> None:
        self.blocks: list[np.ndarray] = []
        self.clipped_samples = 0

    @property
    def frames(self) -> int:
        return sum(one.shape[0] for one in self.blocks)

    def write(self, samples: np.ndarray) -> None:
        self.blocks.append(np.asarray(samples).reshape(-1))

    def close(self) -> None: ...

    def abandon(self) -> None: ...


def played(session: Session) -> dict[str, np.ndarray]:
    """What every track records while the simulated player strums."""
    sinks: dict[str, Sink] = {}
    request = player_request(session, session.rigs[0], 7, strums=3)
    render(request, lambda _track, name: sinks.setdefault(name, Sink()), BenchAudio())
    return {name: np.concatenate(one.blocks) for name, one in sinks.items()}


def peak_dbfs(samples: np.ndarray) -> float:
    return gain_to_db(float(np.max(np.abs(samples))))


def dry_name(session: Session) -> str:
    rig = session.rigs[0]
    return next(
        track.name for track in rig.tracks
        if trace(rig_graph(session, rig), track.port).tap == "di"
    )  # fmt: skip


def test_the_price_of_a_target_is_heard() -> None:
    """Gains solved for either target: the loudest peak of the strums moves by what is told."""
    here = session_on("hybrid", peak_dbu=0.0)
    house = like("loudest_peak", target_dbfs=-18.0)
    note = only(departures(here, practice=house), "target")
    peaks = []
    for target in (here.target_peak_dbfs, house.target_dbfs):
        aimed = edits.set_target(target_peak_dbfs=target)(here)
        solved = solve_edit(aimed.rigs[0].id, solve_rig(aimed))(aimed)
        peaks.append(peak_dbfs(played(solved)[dry_name(solved)]))
    assert peaks[0] - peaks[1] == pytest.approx(figures(note.price)[0], abs=HEARD_DB)
    assert peaks[1] == pytest.approx(house.target_dbfs, abs=1.0)


def test_the_price_of_a_pad_is_heard() -> None:
    """With the pad on, what the modeler hands out dry lies so much lower."""
    session = session_on("modeler-usb", peak_dbu=8.0)
    note = only(departures(session, practice=like("loudest_peak", pad="always")), "pad")
    on = edits.set_tone_stage(pad_on=True)(session)
    assert stage_of(on).pad_on
    assert not stage_of(session).pad_on
    apart = peak_dbfs(played(session)[dry_name(session)]) - peak_dbfs(played(on)[dry_name(on)])
    assert apart == pytest.approx(figures(note.price)[0], abs=HEARD_DB)


def test_the_price_of_trims_is_heard() -> None:
    """Two guitars, trimmed and not: what the modeler's tone gets lies so far apart."""
    session = session_on("modeler-usb", peak_dbu=2.0)
    first, second = session.instruments
    trimmed = edits.set_trims({first.id: -3.0, second.id: 2.0})(session)
    note = only(departures(trimmed, practice=like("as_it_plays")), "trim-none")
    apart, plain = figures(note.price)
    for told, who in ((apart, trimmed), (plain, edits.set_trims(
        {first.id: 0.0, second.id: 0.0})(session))):  # fmt: skip
        peaks = []
        for one in who.instruments:
            with_one = edits.choose_instrument(one.id)(who)
            rig = with_one.rigs[0].with_setting("guitar", "instrument", one.id)
            with_one = with_one.model_copy(update={"rigs": (rig,)})
            peaks.append(peak_dbfs(played(with_one)[dry_name(with_one)]))
        assert abs(peaks[0] - peaks[1]) == pytest.approx(told, abs=HEARD_DB)


def test_the_price_of_a_dry_track_is_what_it_takes_on_the_disk(tmp_path: Path) -> None:
    session = session_on("modeler-usb")
    rig = session.rigs[0]
    dry = dry_name(session)
    wet = rig.model_copy(
        update={"tracks": tuple(one for one in rig.tracks if one.name != dry),
                "cables": tuple(one for one in rig.cables if one.target not in
                                {t.port for t in rig.tracks if t.name == dry})}
    )  # fmt: skip
    note = only(
        departures(session.model_copy(update={"rigs": (wet,)}), practice=like("loudest_peak")),
        "dry-di",
    )
    path = tmp_path / "minute.wav"
    soundfile.write(path, np.zeros(60 * session.sample_rate_hz), session.sample_rate_hz, "PCM_24")
    assert path.stat().st_size / 1e6 == pytest.approx(figures(note.price)[0], abs=0.06)


def kept(
    tmp_path: Path, sounds: dict[str, np.ndarray], **change: object
) -> tuple[SessionFolder, Session]:
    """A session with one keeper, whose tracks hold these sounds, stored."""
    session = session_on("modeler-usb")
    folder = SessionFolder.create(tmp_path / "kept.diaulos", session)
    (folder.path / "audio").mkdir(exist_ok=True)
    tracks = []
    for at, (name, samples) in enumerate(sounds.items()):
        file = f"audio/t{at}.wav"
        soundfile.write(folder.path / file, samples, RATE, "FLOAT")
        tracks.append(
            Track(
                id=f"t{at}", name=name, tap="modeled", file=file, frames=samples.size,
                peak_dbfs=peak_dbfs(samples),
                clipped_samples=0,
            )
        )  # fmt: skip
    take = Take(
        id="t1", name="Take 1", recorded_at="2026-05-09T12:00:00", tracks=tuple(tracks),
        instrument_id=session.instruments[0].id, keeper=True, rig_hash="f" * 16,
    )  # fmt: skip
    return folder, session.model_copy(update={"takes": (take,), **change})


def test_the_price_of_a_low_cut_is_heard(tmp_path: Path) -> None:
    """The lowest string's own note loses through the session's cut what is told."""
    time = np.arange(4 * RATE) / RATE
    strings = session_on().instruments[0].strings
    lowest = min(midi_hz(note_to_midi(one), 440.0) for one in strings)
    folder, session = kept(tmp_path, {"Amp": 0.3 * np.sin(2 * np.pi * lowest * time)})
    note = only(departures(session, practice=like("by_the_book")), "low-cut")
    from diaulos.work.practices.departures import _corner

    file = session.takes[0].tracks[0].file
    cut = session.model_copy(update={"low_cuts": {file: _corner(strings, 440.0)}})
    levels = [
        gain_to_db(float(np.sqrt(np.mean(track_reader(file, folder, one)(RATE, 2 * RATE) ** 2))))
        for one in (session, cut)
    ]
    hz, loss = figures(note.price)[-2:]
    assert hz == pytest.approx(lowest, abs=0.6)
    assert abs(levels[0] - levels[1]) == pytest.approx(abs(loss), abs=0.06)


@pytest.mark.parametrize("delay", [0, 40, 400])
def test_the_price_of_stacking_is_what_the_mix_makes(tmp_path: Path, delay: int) -> None:
    """The same mix that is heard: both in the middle against the sum of their powers, and panned
    hard each side keeps its power."""
    noise = np.random.default_rng(4).standard_normal(3 * RATE + 400)
    soft = np.convolve(noise, np.ones(16) / 16.0, "same") * 0.1
    folder, session = kept(
        tmp_path, {"One": soft[400 : 400 + 3 * RATE],
                   "Other": soft[400 - delay : 400 - delay + 3 * RATE]},
    )  # fmt: skip
    note = only(
        departures(session, practice=like("as_it_plays"), sums=sums_of(session, folder)), "tones"
    )
    told = figures(note.price)[0] * (-1.0 if "lose" in note.price else 1.0)
    if "keep the sum of their powers" in note.price:
        told = 0.0
    power = {}
    for pan in (0.0, 1.0):
        files = [one.file for one in session.takes[0].tracks]
        mixed = session.model_copy(
            update={"mix": {files[0]: Heard(pan=-pan), files[1]: Heard(pan=pan)}}
        )
        rows = mix_rows(mixed, mixed.takes[0])
        heard = stereo_of(channels_of(rows, mixed, folder))(0, 3 * RATE)
        power[pan] = float(np.sum(np.square(heard, dtype=np.float64)))
    assert 10.0 * np.log10(power[0.0] / power[1.0]) == pytest.approx(told, abs=0.06)
    # What was read is kept for as long as it is heard so, and for this session alone.
    known: dict[object, float | None] = {}
    one, other = (track.file for track in session.takes[0].tracks)
    first = sums_of(session, folder, known)(session.takes[0], one, other)
    assert len(known) == 1
    quieter = session.model_copy(update={"mix": {one: Heard(level_db=-20.0)}})
    again = sums_of(quieter, folder, known)(session.takes[0], one, other)
    assert again != pytest.approx(first, abs=0.01) or delay == 400
    sums_of(session.model_copy(update={"id": "another"}), folder, known)(
        session.takes[0], one, other
    )
    assert len(known) == 3
    # Without the audio it is not guessed.
    assert "Compare" in only(departures(session, practice=like("as_it_plays")), "tones").price
    apart = session.model_copy(
        update={"mix": {one.file: Heard(pan=at) for one, at in
                        zip(session.takes[0].tracks, (-1.0, 1.0), strict=True)}}
    )  # fmt: skip
    assert not [one for one in departures(apart, practice=like("as_it_plays"))
                if one.id == "tones"]  # fmt: skip
    back = only(departures(apart, practice=like("typical_level")), "tones")
    assert "heard apart; in the house in one place" in back.words


def check_at(session: Session, at: str) -> NoiseCheck:
    """The silence of the session's rig on the bench, as a noise check keeps it."""
    attempt = check_noise(session, rig_backend(paced=False, silent=True))
    made = kept_check(attempt, session.rigs[0], at, "Simulated studio")
    assert made is not None
    return made


def noise_notes(session: Session, practice: Practice) -> list[Departure]:
    return [one for one in departures(session, practice=practice) if one.id == "noise-check"]


def test_a_noise_check_is_asked_for_before_the_first_take_of_a_day(tmp_path: Path) -> None:
    session = session_on("modeler-usb")
    house = like("loudest_peak")
    assert "before the first take" in noise_notes(session, house)[0].words
    early, late, old = (check_at(session, at) for at in (
        "2026-05-09T11:00:00", "2026-05-09T13:00:00", "2026-05-08T10:00:00"))  # fmt: skip
    with_check = edits.keep_noise_check(early, session.rigs[0])(session)
    assert noise_notes(with_check, house) == []
    _, taken = kept(tmp_path, {"Amp": np.full(RATE, 0.1)})
    assert "2026-05-09 was recorded without" in noise_notes(taken, house)[0].words
    assert noise_notes(taken.model_copy(update={"noise_checks": (early,)}), house) == []
    for check in (late, old):
        (note,) = noise_notes(taken.model_copy(update={"noise_checks": (check,)}), house)
        # The figure told is that of the silence as it was recorded.
        loudest = max(one.floor_a_dbfs for one in check.tracks)
        assert min(abs(one - loudest) for one in figures(note.price)) < 0.051
    assert noise_notes(taken, like("typical_level")) == []
