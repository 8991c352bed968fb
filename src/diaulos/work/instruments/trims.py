"""One trim per instrument, so that all drive the tone stage alike."""

from __future__ import annotations

from diaulos.records import dataclass
from diaulos.session.instrument import Instrument, ToneStage
from diaulos.session.model import Session
from diaulos.session.tone_stage import stage_of
from diaulos.tables import TextTable

# --- one trim each -------------------------------------------------------------------


@dataclass(frozen=True)
class TrimRow:
    """One instrument at the tone stage.

    `plain_dbfs` is its peak with trim 0 (the pad as it is set), `peak_dbfs` with the trim,
    `left_over_db` what is missing to the target (negative: above it), `drive_db` how much
    harder than the reference instrument it drives the tone stage, as it is trimmed.
    """

    instrument_id: str
    name: str
    plain_dbfs: float | None
    trim_db: float
    peak_dbfs: float | None
    left_over_db: float | None
    drive_db: float | None
    plain_drive_db: float | None
    keep_hot: bool
    reason: str


def stage_peak_dbfs(instrument: Instrument, stage: ToneStage) -> float | None:
    """Peak of an instrument in the tone stage with trim 0; None without a calibrated reading."""
    reading = instrument.reading
    if reading is None or reading.peak_dbu is None:
        return None
    peak_dbu = reading.peak_dbu
    if instrument.max_dbu is not None:
        peak_dbu = min(peak_dbu, instrument.max_dbu)
    peak_dbu += instrument.turned_db
    return peak_dbu - (stage.pad_db if stage.pad_on else 0.0) - stage.full_scale_dbu


def trim_rows(session: Session) -> tuple[TrimRow, ...]:
    """All instruments side by side, as they are trimmed now."""
    stage, target = stage_of(session), session.target_peak_dbfs
    plain = {i.id: stage_peak_dbfs(i, stage) for i in session.instruments}
    reference = _reference(session)
    reference_plain = plain.get(reference.id) if reference else None
    rows = []
    for instrument in session.instruments:
        own = plain[instrument.id]
        peak = None if own is None else own + instrument.trim_db
        drive = plain_drive = None
        if peak is not None and own is not None and reference and reference_plain is not None:
            drive = peak - (reference_plain + reference.trim_db)
            plain_drive = own - reference_plain
        rows.append(
            TrimRow(
                instrument_id=instrument.id,
                name=instrument.name,
                plain_dbfs=own,
                trim_db=instrument.trim_db,
                peak_dbfs=peak,
                left_over_db=None if peak is None else target - peak,
                drive_db=drive,
                plain_drive_db=plain_drive,
                keep_hot=instrument.keep_hot,
                reason=missing_words(instrument) if own is None else "",
            )
        )
    return tuple(rows)


def missing_words(instrument: Instrument) -> str:
    if instrument.reading is None:
        return "not measured yet"
    return "measured without a calibration"


def _reference(session: Session) -> Instrument | None:
    chosen = next((i for i in session.instruments if i.id == session.reference_instrument), None)
    return chosen or (session.instruments[0] if session.instruments else None)


def solve_trims(session: Session) -> dict[str, float]:
    """The trim of every instrument that brings its peak closest to the target, in the
    tone stage's own steps.

    One that is kept hot on purpose keeps its trim, one without a reading too.
    """
    stage = stage_of(session)
    solved = {}
    for row in trim_rows(session):
        if row.plain_dbfs is None or row.keep_hot:
            continue
        solved[row.instrument_id] = stage.nearest_trim(session.target_peak_dbfs - row.plain_dbfs)
    return solved


TRIM_HEAD = (
    "profile", "position", "device", "trim dB", "pad", "peak dBFS", "left over dB",
    "drive dB", "drive at trim 0 dB", "stays hot",
)  # fmt: skip


def trims_table(session: Session) -> TextTable:
    """One profile per instrument, named after it, for a sheet."""
    stage = stage_of(session)
    rows = []
    for row in trim_rows(session):
        instrument = session.instrument(row.instrument_id)
        position = instrument.position
        figures = (row.peak_dbfs, row.left_over_db, row.drive_db, row.plain_drive_db)
        rows.append(
            (row.name, position.name if position else "", stage.name, f"{row.trim_db:g}",
             f"{stage.pad_db:g} dB" if stage.pad_on else "off",
             *("" if f is None else f"{f:.1f}" for f in figures), "yes" if row.keep_hot else "no")
        )  # fmt: skip
    return TextTable(TRIM_HEAD, tuple(rows))
