"""What a dead process left: files and a note become the take that was meant."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from typing import Any

from pydantic import ValidationError

from diaulos.errors import DiaulosError, InputError
from diaulos.figures import counted
from diaulos.rig.model import Rig
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session, Take, Track, content_hash, rig_hash
from diaulos.session.take_edits import add_recorded
from diaulos.work.capture.recorder import RecordResult
from diaulos.work.measuring import finite_or_none, measure_source
from diaulos.work.takes.notes import RecordingStore
from diaulos.work.takes.recording import Recorded, first_instrument

MOST_ENTRIES = 256
_TAKE_ID = re.compile(r"^t\d{4,}$")


def recoverable_takes(session: Session, store: RecordingStore) -> tuple[str, ...]:
    """Takes that a dead process left: their notes are there, the session does not know them."""
    known = {take.id for take in (*session.takes, *session.take_bin)}
    return tuple(ident for ident in sorted(store.recordings()) if ident not in known)


def recover_take(session: Session, store: RecordingStore, take_id: str) -> Recorded:
    """The take that was under way, as long as its longest file: where another track ends
    earlier, silence comes after it. Tracks that are missing or cannot be read are named.
    InputError where nothing of it can be used."""
    text = store.recordings().get(take_id, "")
    try:
        data = json.loads(text)
        if not isinstance(data, dict) or data.get("diaulos_recording") != 1:
            raise InputError("the note of that recording is damaged.", where=take_id)
        if data.get("take") != take_id or not _TAKE_ID.match(take_id):
            raise InputError("the note names another take.", where=take_id)
        rig = Rig.model_validate(data["rig"])
        instruments = {
            str(key): Instrument.model_validate(one) for key, one in data["instruments"].items()
        }
        entries = list(data["tracks"])[:MOST_ENTRIES]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise InputError("the note of that recording is damaged.", where=take_id) from error
    found: list[tuple[dict[str, Any], int, Any]] = []
    missing: list[str] = []
    for number, entry in enumerate(entries, start=1):
        try:
            source = store.open_audio(str(entry["file"]))
            found.append((entry, source.frames, measure_source(source)))
        except (DiaulosError, KeyError, TypeError) as error:
            name = entry.get("name") if isinstance(entry, dict) else None
            what = error.what if isinstance(error, DiaulosError) else "its entry is damaged."
            missing.append(f"{name or f'track {number}'} is missing: {what}")
    if not found:
        raise InputError(" ".join(["none of its files holds audio.", *missing]), where=take_id)
    frames = max(count for _, count, _ in found)
    shorter = [
        f"{entry.get('name')} ends early, silence follows." for entry, count, _ in found
        if frames - count > rate_of_loss(session)
    ]  # fmt: skip
    try:
        tracks = tuple(
            Track.model_validate(
                {
                    **entry,
                    "frames": frames,
                    "peak_dbfs": max(levels.peak_dbfs, -200.0),
                    "loudness_lufs": finite_or_none(levels.loudness.lufs),
                    "clipped_samples": levels.clipped_samples,
                    "flat_tops": levels.flat_tops,
                    "quietest_dbfs": levels.quietest_dbfs,
                }
            )
            for entry, _, levels in found
        )
        take = Take(
            id=take_id,
            name=f"{data['name']} (recovered)"[:200],
            recorded_at=str(data["recorded_at"]),
            instrument_id=first_instrument(instruments),
            tracks=tracks,
            tempo_bpm=data["tempo_bpm"],
            metre=data["metre"],
            time_reference=data.get("time_reference", 0),
            over=data.get("over", ""),
            over_frame=data.get("over_frame", 0),
            over_round=data.get("over_round", 0),
            pairs_apart=data.get("pairs_apart", False),
            trim_state=data.get("trim_state", ""),
            rig_hash=rig_hash(rig),
            rig_name=rig.name,
            instruments={key: content_hash(one) for key, one in instruments.items()},
            notes=" ".join(["Recovered after Diaulos ended early.", *missing, *shorter])[:2_000],
        )
    except (ValidationError, KeyError) as error:
        raise InputError("the note of that recording is damaged.", where=take_id) from error
    result = RecordResult(frames, (), (), 0, ())
    edit = replace(add_recorded(take, rig, instruments), label=f"Recover {take.name}")
    told = [f"{take.name} is back: {counted(len(tracks), 'track')}.", *missing, *shorter]
    words = " ".join(told)
    return Recorded((take,), edit, words, result)


def rate_of_loss(session: Session) -> int:
    """Frames by which files of one recording differ when its process dies: their headers are
    written twice a second."""
    return session.sample_rate_hz
