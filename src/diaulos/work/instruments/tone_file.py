"""A tone as a file: the settings, and with what they were made.

JSON, its schema in docs/tone.schema.json. Settings alone do not travel: the same drive control
under a hotter pickup is another tone. So the file says how strong the instrument was, through
which trim, pad and input it came, and on reading it is worked out what that asks for here.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints, ValidationError

from diaulos.errors import InputError
from diaulos.figures import number
from diaulos.ids import free_id
from diaulos.rig.model import Frozen, Word
from diaulos.session.instrument import Instrument, Name, Tone
from diaulos.session.model import Session
from diaulos.signal.amp import VOICES
from diaulos.work.instruments.drive import drive_change

MOST_BYTES = 65_536
Position = Annotated[float, Field(ge=0.0, le=10.0)]
FileWord = Annotated[Word, StringConstraints(max_length=200)]


class ToneSettings(Frozen):
    """What stands on the amplifier or modeler."""

    voice: FileWord
    drive: Position
    bass: Position
    mid: Position
    treble: Position
    master_db: float = Field(ge=-60.0, le=20.0)
    cabinet: FileWord


class MadeWith(Frozen):
    """What it was made with. `peak_dbu` is the instrument's loudest peak at its jack, in dBu of
    a sine; null where nobody measured it."""

    instrument: FileWord = ""
    pickup: FileWord = ""
    peak_dbu: float | None = Field(default=None, ge=-80.0, le=60.0)
    trim_db: float = Field(default=0.0, ge=-60.0, le=60.0)
    pad_db: float = Field(default=0.0, ge=0.0, le=60.0)
    """What a pad took off; 0 where none was in."""
    input_ohm: float | None = Field(default=None, gt=0.0, le=1e9)


class ToneFile(Frozen):
    """The file."""

    format: Literal["diaulos-tone"] = "diaulos-tone"
    version: Literal[1] = 1
    name: Name
    settings: ToneSettings
    made_with: MadeWith = MadeWith()


def tone_text(tone: Tone) -> str:
    """A tone as the text of its file.

    A tone that does not remember its instrument's strength says null for it.
    """
    file = ToneFile(
        name=tone.name,
        settings=ToneSettings(
            voice=tone.voice, drive=tone.drive, bass=tone.bass, mid=tone.mid,
            treble=tone.treble, master_db=tone.master_db, cabinet=tone.cabinet,
        ),
        made_with=MadeWith(
            instrument=tone.instrument_name, pickup=tone.pickup, peak_dbu=tone.peak_dbu,
            trim_db=tone.trim_db, pad_db=(tone.pad_db or 0.0) if tone.pad_on else 0.0,
            input_ohm=tone.input_ohm,
        ),
    )  # fmt: skip
    return json.dumps(file.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"


def completed(session: Session, tone: Tone, pad_db: float) -> Tone:
    """A tone with what it does not remember itself taken from its instrument as it is now:
    strength, pickup, the pad's dB."""
    maker = next((one for one in session.instruments if one.id == tone.instrument_id), None)
    values: dict[str, object] = {"pad_db": pad_db if tone.pad_db is None else tone.pad_db}
    if maker is not None:
        reading, position = maker.reading, maker.position
        values["instrument_name"] = tone.instrument_name or maker.name
        if tone.peak_dbu is None and reading is not None and reading.peak_dbu is not None:
            values["peak_dbu"] = reading.peak_dbu + maker.turned_db
        if not tone.pickup and position is not None:
            values["pickup"] = maker.pickup(position.pickups[0]).type
    return tone.model_copy(update=values)


def write_tone(path: Path, text: str) -> None:
    """A tone's text into a file, in place of one that is there.

    Raises InputError where it cannot be written.
    """
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(
            f"it cannot be written ({error.strerror}).", where=str(path),
            remedy="Choose another place.",
        ) from error  # fmt: skip


def tone_schema() -> dict[str, Any]:
    """JSON Schema of a tone file."""
    return ToneFile.model_json_schema()


def read_tone(path: Path, session: Session) -> Tone:
    """A tone from a file, as one more of a session.

    Raises InputError that names the field; a file over 64 kB is not read.
    """
    where = path.name
    try:
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise InputError(
            f"it cannot be read ({error.strerror}).", where=where, remedy="Choose another file."
        ) from error
    if len(data) > MOST_BYTES:
        raise InputError("it is far too long for a tone.", where=where)
    try:
        found = ToneFile.model_validate_json(data)
    except ValidationError as error:
        first = error.errors(include_input=False, include_url=False)[0]
        field = ".".join(str(place) for place in first["loc"])
        raise InputError(
            f"{field}: {first['msg']}." if field else f"{first['msg']}.",
            where=where,
            remedy="A tone file is described in docs/tone.schema.json.",
        ) from error
    settings, made = found.settings, found.made_with
    if settings.voice not in VOICES:
        raise InputError(
            f"settings.voice: {settings.voice!r} is no voice here.",
            where=where,
            remedy=f"It can be: {', '.join(VOICES)}.",
        )
    names = {tone.name for tone in session.tones}
    maker = next((one for one in session.instruments if one.name == made.instrument), None)
    return Tone(
        id=free_id({tone.id for tone in session.tones}, "tone"),
        name=free_id(names, found.name, between=" "),
        voice=settings.voice, drive=settings.drive, bass=settings.bass, mid=settings.mid,
        treble=settings.treble, master_db=settings.master_db, cabinet=settings.cabinet,
        instrument_id=maker.id if maker is not None else "",
        trim_db=made.trim_db, pad_on=made.pad_db > 0.0, pad_db=made.pad_db,
        instrument_name=made.instrument, peak_dbu=made.peak_dbu, pickup=made.pickup,
        input_ohm=made.input_ohm,
    )  # fmt: skip


def asked_here(session: Session, tone: Tone, instrument: Instrument) -> str:
    """What a tone asks for with an instrument of this session, in words: the trim or the drive
    control that gives it the drive that it was made with.

    Raises RefusedError where a strength is not known.
    """
    change = drive_change(session, tone, instrument)
    hotter = change.drive_db
    if abs(hotter) < 0.05:
        return f"{instrument.name} drives it as it was made."
    way = "hotter" if hotter > 0.0 else "weaker"
    knob = "" if change.drive_knob is None else f" or drive {number(change.drive_knob)}"
    left = ""
    if abs(change.left_over_db) >= 0.05:
        left = f" ({number(abs(change.left_over_db))} dB are left over with the trim)"
    return (
        f"{instrument.name} is {number(abs(hotter))} dB {way} here: set trim "
        f"{number(change.trim_db, sign=True)} dB{knob}{left}."
    )
