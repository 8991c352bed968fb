"""The note beside the audio of a recording: what the take will be, should the process die."""

from __future__ import annotations

import json
from typing import Protocol

from diaulos.records import dataclass
from diaulos.rig.model import Rig
from diaulos.session.instrument import Instrument
from diaulos.session.tone_stage import TrimState
from diaulos.work.ports import SessionStore
from diaulos.work.takes.ready import NO_SIDE, Armed, calibration_of, sides_of


class RecordingStore(SessionStore, Protocol):
    """A session's folder that can hold a note on a recording in progress."""

    def note_recording(self, take_id: str, text: str) -> None:
        """What the take under way will be."""

    def recordings(self) -> dict[str, str]:
        """The notes that are there, by take id."""

    def forget_recording(self, take_id: str) -> None:
        """The take is in the session, or not wanted."""

    def free_bytes(self) -> int:
        """Room on the disk."""


@dataclass(frozen=True)
class TakeNote:
    """What is known of a take before its first sample."""

    take_id: str
    name: str
    made_at: str
    time_reference: int
    tempo_bpm: float
    metre: str
    over: str = ""
    over_frame: int = 0
    over_round: int = 0
    pairs_apart: bool = False


def recording_note(
    note: TakeNote, rig: Rig, armed: tuple[Armed, ...], files: tuple[str, ...],
    instruments: dict[str, Instrument], trim: TrimState,
) -> str:  # fmt: skip
    """The note as text."""
    tracks = []
    sides = sides_of(armed)
    for number, (one, file) in enumerate(zip(armed, files, strict=True), start=1):
        full, load = calibration_of(one)
        pair, side = sides.get(one.port, NO_SIDE)
        tracks.append(
            {"id": f"k{number:02d}", "name": one.name, "tap": one.tap, "file": file,
             "full_scale_dbu": full, "load_ohm": load, "input_number": one.input_number,
             "planned_dbfs": one.plan.unclipped_dbfs, "pair": pair, "side": side}
        )  # fmt: skip
    data = {
        "diaulos_recording": 1, "take": note.take_id, "name": note.name,
        "recorded_at": note.made_at, "time_reference": note.time_reference,
        "tempo_bpm": note.tempo_bpm, "metre": note.metre,
        "over": note.over, "over_frame": note.over_frame, "over_round": note.over_round,
        "pairs_apart": note.pairs_apart, "trim_state": trim,
        "rig": rig.model_dump(mode="json"),
        "instruments": {key: one.model_dump(mode="json") for key, one in instruments.items()},
        "tracks": tracks,
    }  # fmt: skip
    return json.dumps(data, indent=1)
