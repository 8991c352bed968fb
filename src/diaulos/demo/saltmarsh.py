"""Writes the demo session. Every sound is generated from seeds; nobody was recorded.

Not all of it is well: one take clips, one hums, one has a calibration that nobody wrote
down. That is what the views are for.
"""

from __future__ import annotations

import math
import shutil
from collections.abc import Callable, Iterator
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.demo.comparing import (
    HIGHS_M,
    LOWS_M,
    Made,
    cabinet_later,
    kept_test,
    microphone_places,
    noted_places,
    two_microphones,
    two_ways,
)
from diaulos.demo.instruments import (
    BARITONE,
    FRETLESS,
    INSTRUMENT_INPUT,
    OFFSET,
    SEMI,
    with_strength,
)
from diaulos.demo.rigs import (
    LIVE_ROOM,
    live_room,
    more_ways,
    reamp_rigs,
    two_microphones_rig,
    two_ways_rig,
)
from diaulos.errors import StorageError
from diaulos.records import dataclass
from diaulos.rig.bench import through_input
from diaulos.rig.model import Rig
from diaulos.session import edits
from diaulos.session.edits import Edit
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.model import MatchTarget, Session, Take, Track, rig_hash
from diaulos.signal.amp import AmpFaults, AmpSettings, drive_signal
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.checks import Audio
from diaulos.signal.convolve import convolve_long
from diaulos.signal.strings import Part, StringCharacter, play, render_notes
from diaulos.units import db_to_gain, dbu_to_peak_volt
from diaulos.wiring import SUFFIX, SessionFolder, bench_for
from diaulos.work.measuring import finite_or_none, measure_blocks
from diaulos.work.ports import FileNotes, Progress, no_progress
from diaulos.work.reamp.passes import ReampRequest, make_pass

RATE_HZ = 48_000
DEMO_DATE = datetime(2026, 5, 9, 10, 30, 0)
DEMO_ID = "saltmarsh-demo"
NAME = "Saltmarsh"
UNFINISHED = "unfinished"
"""A file beside the session of a demo whose takes are not all played."""
PASSES = (("t0001", "rig02"), ("t0001", "rig01"))
"""Take and rig of the first passes."""


@dataclass(frozen=True)
class _Player:
    """One instrument and what is played on it."""

    instrument: Instrument
    take: str
    strings: StringCharacter
    part: Part
    tempo_bpm: float
    seconds: float
    peak_dbu: float
    full_scale_dbu: float | None
    true_full_scale_dbu: float
    voice: str
    cabinet: str
    hum_dbfs: float | None = None
    load: Load = INSTRUMENT_INPUT


PLAYERS = (
    _Player(
        BARITONE,
        "Slack water, verse",
        StringCharacter(decay_s=2.6, brightness_hz=4800.0),
        Part(
            ((35, 42, 47), (), (47,), (42,), (38, 45, 50), (), (45,), (50, 52),
             (40, 45, 52), (), (45,), (40,), (40, 47, 52), (47,), (), (42,)),
            strength=0.75,
        ),
        96.0,
        24.0,
        1.5,
        14.0,
        14.0,
        "foghorn",
        "closed-four",
    ),
    _Player(
        OFFSET,
        "Slack water, chorus",
        StringCharacter(decay_s=1.8, brightness_hz=6500.0, pickup_at=0.07),
        Part(
            ((40, 47, 52, 56), (52, 56), (40, 47, 52), (59,), (45, 52, 57, 61), (57,),
             (45, 52, 57), (61,), (42, 49, 54), (54, 57), (42, 49, 54), (57,),
             (47, 54, 59), (59, 63), (47, 54, 59), (63,)),
            strength=0.85,
        ),
        96.0,
        20.0,
        3.2,
        2.0,
        2.0,
        "tideline",
        "open-one",
        hum_dbfs=-66.0,
    ),
    _Player(
        FRETLESS,
        "Slack water, bass",
        StringCharacter(decay_s=3.0, brightness_hz=2600.0, pluck_at=0.22, pickup_at=0.13),
        Part(
            ((23,), (), (30,), (35,), (26,), (), (33,), (), (21 + 7,), (), (33,), (28,),
             (28,), (), (35,), (30,)),
            strength=0.8,
            ring_eighths=1.6,
        ),
        96.0,
        22.0,
        4.0,
        16.0,
        16.0,
        "keel",
        "bass-fifteen",
    ),
    _Player(
        SEMI,
        "Marram, intro",
        StringCharacter(decay_s=2.2, brightness_hz=4200.0, pickup_at=0.17),
        Part(
            ((38, 45, 50), (), (53,), (57,), (), (62,), (57,), (),
             (41, 48, 53), (), (57,), (60,), (), (53,), (48,), ()),
            strength=0.6,
            ring_eighths=3.0,
        ),
        78.0,
        20.0,
        -4.0,
        None,
        11.0,
        "lantern",
        "closed-two",
        hum_dbfs=-58.0,
        load=Load(100e3, 50e-12),  # the wrong input: what Instruments and Reamp can undo
    ),
)  # fmt: skip


TONES = (
    Tone(
        id="tone01", name="Slack water, grit", voice="foghorn", drive=5.0, bass=5.0, mid=5.0,
        treble=5.0, master_db=-6.0, cabinet="closed-four", instrument_id="baritone",
        trim_db=-4.0,
    ),
    Tone(
        id="tone02", name="Marram, edge", voice="tideline", drive=5.0, bass=5.0, mid=5.0,
        treble=5.0, master_db=-6.0, cabinet="open-one", instrument_id="offset",
    ),
)  # fmt: skip


def remove_demo(path: Path) -> None:
    """Delete a demo session, to be written anew. Anything else at that place is refused:
    another session, one that is open, a folder or a file that is no session."""
    folder = SessionFolder.open(path)
    try:
        if folder.load().id != DEMO_ID:
            raise StorageError(
                "it is a session of somebody's, not the demo: it stays.",
                where=str(path),
                remedy="Give another place with --at.",
            )
        folder.remove()
    finally:
        folder.close()


def write_demo(
    path: Path, progress: Progress = no_progress, *, with_passes: bool = True
) -> tuple[SessionFolder, Session]:
    """Write the demo session into a new folder and return it open."""
    # Under another name until it is whole: a start that is cut short leaves no half demo.
    target = _free_place(path)
    part = target.with_name(f".{target.stem}.part{SUFFIX}")
    shutil.rmtree(part, ignore_errors=True)
    session = bare_demo()
    folder = SessionFolder.create(part, session)
    try:
        for fraction, text, step in demo_steps(folder, with_passes=with_passes):
            progress(fraction, text)
            session = step(session)(session)
        folder.save(session)
        folder.rename(target)
    except BaseException:
        folder.remove()
        raise
    progress(1.0, "Done")
    return folder, session


def begin_demo(path: Path) -> tuple[SessionFolder, Session]:
    """The demo session before anything was played, in its own place: it can be looked at at once,
    and `demo_steps` make it whole. As long as they have not, `unfinished` says so."""
    session = bare_demo()
    folder = SessionFolder.create(_free_place(path), session)
    (folder.path / UNFINISHED).touch()
    return folder, session


def unfinished(folder: SessionFolder, session: Session) -> bool:
    """Whether this is a demo session whose takes are not all played yet."""
    return session.id == DEMO_ID and (folder.path / UNFINISHED).is_file()


def finish_demo(folder: SessionFolder) -> None:
    """Every step was taken."""
    (folder.path / UNFINISHED).unlink(missing_ok=True)


def bare_demo() -> Session:
    """Instruments that nobody measured yet, tones, and the rigs for reamping."""
    return Session(
        id=DEMO_ID,
        name=NAME,
        sample_rate_hz=RATE_HZ,
        tempo_bpm=96.0,
        instruments=tuple(player.instrument for player in PLAYERS),
        reference_instrument="offset",
        tones=TONES,
        rigs=reamp_rigs(),
        current_rig="rig01",
    )


Step = Callable[[Session], Edit]


def demo_steps(
    folder: SessionFolder, *, with_passes: bool = True
) -> Iterator[tuple[float, str, Step]]:
    """What makes a bare demo whole, in its order: how far one is then, what is done, and the
    step. A step that was taken before changes nothing, so that a demo that was cut short can be
    gone on with."""
    steps: list[tuple[str, Step]] = [("Planning the live room", _live_room)]
    for number, player in enumerate(PLAYERS, start=1):
        steps.append((f"Strumming {player.instrument.name}", partial(_strummed, number, player)))
    for number, player in enumerate(PLAYERS, start=1):
        steps.append((f"Playing {player.take}", partial(_played, folder, number, player)))
    if with_passes:
        for index, (take_id, rig_id) in enumerate(PASSES):
            again = partial(_reamped, folder, index, take_id, rig_id)
            steps.append((f"Reamping, pass {index + 1}", again))
        for compared in COMPARED:
            steps.append((f"Playing {compared.take}", partial(_made_to_compare, folder, compared)))
        files = (f"audio/{COMPARED[0].ident}_k02.wav", f"audio/{COMPARED[0].ident}_k03.wav")
        made_at = DEMO_DATE.replace(hour=15).isoformat(timespec="seconds")
        steps.append(("Noting the microphones' places", partial(noted_places, "t0008")))
        steps.append(("Planning more ways", _more_ways))
        steps.append(("Listening blind", kept_test(COMPARED[0].ident, files, made_at)))
    for done, (text, step) in enumerate(steps):
        yield done / len(steps), text, step


_NOTHING = Edit("Nothing", lambda session: session)


def _live_room(session: Session) -> Edit:
    if any(rig.id == LIVE_ROOM for rig in session.rigs):
        return _NOTHING
    rig = live_room(BARITONE.id, BARITONE.name)

    def with_room(now: Session) -> Session:
        return now.model_copy(update={"rigs": (*now.rigs, rig)})

    return Edit("Demo: live room", with_room)


def _more_ways(session: Session) -> Edit:
    return Edit(
        "Demo: more ways",
        lambda now: now.model_copy(
            update={
                "rigs": (
                    *now.rigs,
                    *(one for one in more_ways() if all(one.id != old.id for old in now.rigs)),
                )
            }
        ),
    )


def _strummed(number: int, player: _Player, session: Session) -> Edit:
    known = next((one for one in session.instruments if one.id == player.instrument.id), None)
    if known is None or known.strength:
        return _NOTHING
    measured = with_strength(
        player.instrument, player.strings, RATE_HZ, DEMO_DATE.isoformat(), 390 + 10 * number
    )
    return edits.change_instrument(known.id, "Demo: strums", strength=measured.strength)


def _played(folder: SessionFolder, number: int, player: _Player, session: Session) -> Edit:
    take_id = f"t{number:04d}"
    if any(take.id == take_id for take in (*session.takes, *session.take_bin)):
        return _NOTHING
    # What a start that was killed wrote of it.
    left = {f"audio/{take_id}_{track}.wav" for track in ("k01", "k02")} - session.used_files()
    folder.delete_files(left)
    return edits.add_take(_write_take(folder, session, player, number))


def _reamped(folder: SessionFolder, index: int, take_id: str, rig_id: str, now: Session) -> Edit:
    take = next((one for one in now.takes if one.id == take_id), None)
    if take is None or len(take.passes) > index or now.bin:
        return _NOTHING
    if all(rig.id != rig_id for rig in now.rigs):
        return _NOTHING
    outcome = make_pass(
        ReampRequest(now, take_id, rig_id=rig_id, target=MatchTarget(kind="track", ident="k02")),
        store=folder,
        backend_for=bench_for(seed=10 + index),
        clock=lambda: DEMO_DATE,
    )
    return outcome.edit


@dataclass(frozen=True)
class _Compared:
    """A take that is there to be compared: whose part it is, and what is made of it."""

    ident: str
    take: str
    player: int
    seed: int
    make: Callable[[NDArray[np.float64]], tuple[Made, ...]]
    rig: Callable[[str], Rig] | None = None
    """By which it was recorded, for an instrument."""


COMPARED_S = 12.0
COMPARED = (
    _Compared("t0005", "Chorus, two ways in", 1, 102,
              lambda volts: two_ways(volts, float(RATE_HZ), 401), two_ways_rig),
    _Compared("t0006", "Low tide, two microphones", 2, 103,
              lambda volts: two_microphones(volts, float(RATE_HZ)),
              lambda instrument: two_microphones_rig(instrument, LOWS_M, HIGHS_M)),
    _Compared("t0007", "Chorus, again", 1, 502,
              lambda volts: two_ways(volts, float(RATE_HZ), 402)[2:3]),
    _Compared("t0008", "Chorus, four places", 1, 102,
              lambda volts: microphone_places(volts, float(RATE_HZ))),
    _Compared("t0009", "Ebb, cabinet later", 3, 109,
              lambda volts: cabinet_later(volts, float(RATE_HZ))),
)  # fmt: skip


def _made_to_compare(folder: SessionFolder, compared: _Compared, session: Session) -> Edit:
    if any(take.id == compared.ident for take in (*session.takes, *session.take_bin)):
        return _NOTHING
    player = PLAYERS[compared.player]
    volts = play_volts(player, compared.seed)[: round(COMPARED_S * RATE_HZ)]
    made = compared.make(volts)
    left = {f"audio/{compared.ident}_k{n:02d}.wav" for n in range(1, len(made) + 2)}
    folder.delete_files(left - session.used_files())
    number = int(compared.ident[1:])
    notes = _notes(compared.take, player, number)
    di = np.clip(volts / dbu_to_peak_volt(player.true_full_scale_dbu), -1.0, 1.0 - 2.0**-23)
    tracks = [_write_track(folder, compared.ident, "k01", "DI", "di", di, player, notes)]
    for at, one in enumerate(made, start=2):
        track = _write_track(
            folder, compared.ident, f"k{at:02d}", one.name, one.tap, one.samples, None, notes
        )
        tracks.append(track)
    rig = compared.rig(player.instrument.id) if compared.rig is not None else None
    take = Take(
        id=compared.ident,
        name=compared.take,
        recorded_at=notes.made_at.isoformat(timespec="seconds"),
        time_reference=notes.time_reference,
        instrument_id=player.instrument.id,
        tracks=tuple(tracks),
        rig_hash=rig_hash(rig) if rig is not None else "",
        rig_name=rig.name if rig is not None else "",
    )
    snapshots = {take.rig_hash: rig} if rig is not None else {}
    add = edits.add_take(take)
    return Edit(
        add.label,
        lambda now: add(now.model_copy(update={"snapshots": {**now.snapshots, **snapshots}})),
    )


def _notes(take: str, player: _Player, number: int) -> FileNotes:
    minute = 10 * number
    return FileNotes(
        description=f"{NAME}; {take}; {player.instrument.name}",
        made_at=DEMO_DATE.replace(minute=minute % 60),
        time_reference=(10 * 3600 + minute * 60) * RATE_HZ,
        history="demo; plucked-string model",
    )


def _free_place(path: Path) -> Path:
    target = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
    if target.exists():
        raise StorageError(
            "there is a session already.", where=str(target), remedy="Choose another name."
        )
    return target


def _write_take(folder: SessionFolder, session: Session, player: _Player, number: int) -> Take:
    take_id = f"t{number:04d}"
    volts = play_volts(player, seed=100 + number)
    di = volts / dbu_to_peak_volt(player.true_full_scale_dbu)
    rng = np.random.default_rng(200 + number)
    di = di + rng.standard_normal(di.size) * db_to_gain(-104.0)
    if player.hum_dbfs is not None:
        di = di + _hum(di.size, player.hum_dbfs)
    di = np.clip(di, -1.0, 1.0 - 2.0**-23)
    driven = drive_signal(
        volts, AmpSettings(voice=player.voice), RATE_HZ, AmpFaults(seed=300 + number)
    )
    heard = convolve_long(driven, cabinet_taps(player.cabinet, float(RATE_HZ)))
    amp = np.asarray(heard[: di.size], dtype=np.float64)
    amp = amp * (db_to_gain(-11.0) / float(np.max(np.abs(amp))))
    notes = _notes(player.take, player, number)
    tracks = (
        _write_track(folder, take_id, "k01", "DI", "di", di, player, notes),
        _write_track(folder, take_id, "k02", "Amp and cabinet", "cabinet", amp, None, notes),
    )
    return Take(
        id=take_id,
        name=player.take,
        recorded_at=notes.made_at.isoformat(timespec="seconds"),
        time_reference=notes.time_reference,
        instrument_id=player.instrument.id,
        tracks=tracks,
    )


def play_volts(player: _Player, seed: int) -> NDArray[np.float64]:
    """What the player puts into the input over the usual cable, in volts."""
    notes = play(player.part, player.tempo_bpm, player.seconds, seed)
    emf = render_notes(notes, RATE_HZ, player.seconds, player.strings, seed)
    load = Load.together(player.instrument.cable, player.load)
    loaded = through_input(emf, player.instrument.circuit(), load, RATE_HZ)
    return loaded * (dbu_to_peak_volt(player.peak_dbu) / float(np.max(np.abs(loaded))))


def _hum(count: int, dbfs: float) -> NDArray[np.float64]:
    time = np.arange(count) / RATE_HZ
    parts = ((1, 1.0), (2, 0.4), (3, 0.6), (5, 0.3), (7, 0.2))
    wave = sum(part * np.sin(2.0 * math.pi * 50.02 * n * time + n) for n, part in parts)
    return np.asarray(wave * db_to_gain(dbfs))


def _write_track(
    folder: SessionFolder,
    take_id: str,
    track_id: str,
    name: str,
    tap: Any,
    samples: Audio,
    player: _Player | None,
    notes: FileNotes,
) -> Track:
    file = f"audio/{take_id}_{track_id}.wav"
    sink = folder.create_audio(file, RATE_HZ, 1, "24", notes)
    sink.write(samples[:, None])
    sink.close()
    levels = measure_blocks([samples[:, None]], RATE_HZ, 1)
    return Track(
        id=track_id,
        name=name,
        tap=tap,
        file=file,
        frames=int(samples.size),
        full_scale_dbu=player.full_scale_dbu if player else None,
        load_ohm=player.load.ohm if player else None,
        load_pf=player.load.farad * 1e12 if player else 0.0,
        peak_dbfs=levels.peak_dbfs,
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        clipped_samples=levels.clipped_samples,
    )
