"""A part of a take reamped alone, and joined with the rest of an older pass."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from test_reamp import GUITAR_TAKE, audio_files, desk, reamped

from diaulos.errors import EditError, InputError
from diaulos.rig.templates import build
from diaulos.session import take_edits
from diaulos.session.edits import set_device_setting
from diaulos.session.model import MatchTarget, Pass, SentPart, Session
from diaulos.signal.null import null_depth
from diaulos.storage.folder import SessionFolder
from diaulos.units import db_to_gain
from diaulos.wiring import ExternalAudio
from diaulos.work.listening.heard import return_reader
from diaulos.work.reamp.matching import match_pass
from diaulos.work.reamp.parts import part_words, stretch_of
from diaulos.work.reamp.recovery import recover_return
from diaulos.work.reamp.reference import find_reference
from diaulos.work.takes.exporting import export_pass
from support import NOON, RATE, measure_loudness

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
STRETCH = (3 * RATE, 6 * RATE)
DIGITAL_DB = -80.0
"""A modeler's model has no noise of its own: the same part of the same loop is the same."""


@pytest.fixture
def modeled(desk: Desk) -> Desk:
    """The demo with a modeler that gets its DI by a stream, and one whole pass through it."""
    folder, session = desk
    rigs = (*session.rigs, build("reamp-usb", "usb"))
    session = session.model_copy(update={"rigs": rigs})
    outcome = reamped(
        (folder, session), rig_id="usb", target=MatchTarget(kind="track", ident="k02")
    )
    return folder, outcome.edit(session)


def heard(desk: Desk, made: Pass, first: int, last: int) -> np.ndarray:
    """The first return in the take's time, as it came."""
    return np.asarray(return_reader(made, made.main, desk[0])(first, last - first), float)


def in_time_with(made: Pass, other: Pass) -> Pass:
    """A pass placed as another one of the same loop: what is measured of a short part is less
    exact than what is measured of the whole."""
    returns = [
        one.model_copy(update={"alignment": two.alignment})
        for one, two in zip(made.returns, other.returns, strict=True)
    ]
    return made.model_copy(update={"returns": tuple(returns)})


def null_db(one: np.ndarray, other: np.ndarray) -> float:
    return null_depth(one, other, float(RATE), 0.0).depth_db


def test_a_part_is_that_part_of_the_whole(modeled: Desk) -> None:
    session = modeled[1]
    whole = session.take(GUITAR_TAKE).passes[-1]
    made = reamped(modeled, rig_id="usb", stretch=STRETCH).made
    assert made.part == SentPart(first=STRETCH[0], last=STRETCH[1], start=2 * RATE)
    first, last = STRETCH
    inside = heard(modeled, in_time_with(made, whole), first, last)
    assert null_db(heard(modeled, whole, first, last), inside) < DIGITAL_DB
    level = np.sqrt(np.mean(inside**2))
    assert np.abs(heard(modeled, made, 0, first - RATE // 100)).max() == 0.0
    tail = heard(modeled, made, last + RATE // 20, last + RATE // 2)
    assert np.sqrt(np.mean(tail**2)) < 0.3 * level, "it rings out"
    assert made.main.frames < last - made.part.start + RATE
    one, other = made.main.alignment, whole.main.alignment
    off = abs(one.delay_samples - other.delay_samples)
    assert off < one.delay_error_samples + other.delay_error_samples
    assert made.main.alignment.polarity == whole.main.alignment.polarity


def test_a_part_is_matched_in_its_own_frames(modeled: Desk) -> None:
    folder, session = modeled
    first, last = STRETCH
    target = MatchTarget(kind="track", ident="k02")
    outcome = reamped(
        modeled, rig_id="usb", stretch=STRETCH, target=target, returns=("Reamp left",)
    )
    made, match = outcome.made, outcome.made.main.match
    reference = folder.open_audio(session.take(GUITAR_TAKE).track("k02").file)
    there = next(iter(reference.blocks(first=first, count=last - first, block=last - first)))
    assert match.reference_lufs == pytest.approx(measure_loudness(there[:, 0], RATE).lufs, abs=0.02)
    played = heard(modeled, made, first, last) * db_to_gain(match.total_db)
    assert measure_loudness(played, RATE).lufs == pytest.approx(match.after_lufs, abs=0.1)
    session = outcome.edit(session)
    take = session.take(GUITAR_TAKE)
    again = match_pass(take, made, MatchTarget(kind="pass", ident=take.passes[0].id), folder)
    assert abs(again[made.main.file].after_lufs - again[made.main.file].reference_lufs) < 0.5
    found = find_reference(take, "k02", folder)
    assert found.returns[made.main.file].alignment is not None


def test_an_export_of_a_part_lies_where_it_was_played(modeled: Desk, tmp_path: Path) -> None:
    folder, session = modeled
    made = reamped(modeled, rig_id="usb", stretch=STRETCH, returns=("Reamp left",)).made
    files = ExternalAudio()
    out = tmp_path / "part.wav"
    export_pass(
        session, session.take(GUITAR_TAKE), made, folder,
        lambda _added, channels, notes: files.create(out, RATE, channels, "float", notes, True),
        lambda: NOON,
    )  # fmt: skip
    written = np.concatenate(list(files.open(out).blocks()))[:, 0]
    first, last = STRETCH
    np.testing.assert_allclose(written[first:last], heard(modeled, made, first, last), atol=1e-6)
    assert not np.any(written[: first - RATE // 100])


def test_what_a_take_is_cut_to_is_what_is_sent(modeled: Desk) -> None:
    folder, session = modeled
    session = take_edits.cut_to_bars(GUITAR_TAKE, 1, 2)(session)
    take = session.take(GUITAR_TAKE)
    made = reamped((folder, session), rig_id="usb").made
    assert (made.part.first, made.part.last) == take.cut
    assert part_words(session, take, made.part) == "bars 2\N{EN DASH}3"
    odd = SentPart(first=100, last=4_900, start=0)
    assert part_words(session, take, odd) == "0.00\N{EN DASH}0.10 s"


def test_a_part_is_joined_with_the_rest_of_a_pass(modeled: Desk) -> None:
    """Through another tone at another return gain: the rest stays, the level goes on."""
    folder, session = modeled
    whole = session.take(GUITAR_TAKE).passes[-1]
    session = set_device_setting("usb", "modeler", "drive", 8.0)(session)
    before = audio_files(folder)
    outcome = reamped((folder, session), rig_id="usb", stretch=STRETCH, join=whole.id)
    made = outcome.made
    assert made.part.joined
    assert made.main.match == whole.main.match
    assert len(audio_files(folder) - before) == len(made.returns), "the part's own file is not kept"
    first, last = STRETCH
    old, new = heard(modeled, whole, 0, 8 * RATE), heard(modeled, made, 0, 8 * RATE)
    np.testing.assert_allclose(new[: first - 64], old[: first - 64], atol=1e-6)
    np.testing.assert_allclose(new[last + 64 :], old[last + 64 :], atol=1e-6)
    inside = slice(first + RATE // 50, last - RATE // 50)
    assert null_db(old[inside], new[inside]) > -40.0, "another tone"
    assert measure_loudness(new[first:last], RATE).lufs == pytest.approx(
        measure_loudness(old[first:last], RATE).lufs, abs=0.2
    )
    alone = reamped((folder, session), rig_id="usb", stretch=STRETCH).made
    alone = in_time_with(alone, whole)
    assert null_db(heard(modeled, alone, first, last)[RATE // 50 : -RATE // 50], new[inside]) < (
        DIGITAL_DB
    )
    jump = np.abs(np.diff(new[first - 240 : first + 480])).max()
    assert jump < 3.0 * np.abs(np.diff(new[first + 480 : last])).max(), "no click"


def test_the_same_chain_joins_without_a_seam(modeled: Desk) -> None:
    session = modeled[1]
    whole = session.take(GUITAR_TAKE).passes[-1]
    made = reamped(modeled, rig_id="usb", stretch=STRETCH, join=whole.name).made
    assert (
        null_db(heard(modeled, whole, 0, 8 * RATE), heard(modeled, made, 0, 8 * RATE)) < DIGITAL_DB
    )


def test_what_cannot_be_joined_is_told(modeled: Desk) -> None:
    folder, session = modeled
    files = audio_files(folder)
    with pytest.raises(EditError, match="nothing to join"):
        reamped(modeled, rig_id="usb", join="p01")
    with pytest.raises(EditError, match="no pass 'p77'"):
        reamped(modeled, rig_id="usb", stretch=STRETCH, join="p77")
    whole = session.take(GUITAR_TAKE).passes[-1]
    with pytest.raises(EditError, match="no return"):
        reamped(modeled, rig_id="rig01", stretch=STRETCH, join=whole.id)
    outcome = reamped(modeled, rig_id="usb", stretch=STRETCH)
    part = (folder, outcome.edit(session))
    with pytest.raises(EditError, match="part itself"):
        reamped(part, rig_id="usb", stretch=STRETCH, join=outcome.made.id)
    assert audio_files(folder) - files == {Path(one).name for one in outcome.made.files}


@pytest.mark.parametrize(
    ("words", "wanted"),
    [("2-3", True), ("1.5s-3s", True), ("3-2", False), ("0-2", False), ("x", False),
     ("1-900", True), ("900-901", False), ("2s-1s", False), ("nans-1s", False), ("", False)],
)  # fmt: skip
def test_a_range_in_words(desk: Desk, words: str, wanted: bool) -> None:
    session = desk[1]
    take = session.take(GUITAR_TAKE)
    if not wanted:
        with pytest.raises(InputError, match="range"):
            stretch_of(session, take, words)
        return
    first, last = stretch_of(session, take, words)
    assert 0 <= first < last <= take.di.frames
    if words == "1.5s-3s":
        assert (first, last) == (round(1.5 * RATE), 3 * RATE)


def test_a_punch_is_joined_with_a_pass_of_what_it_was_punched_into(modeled: Desk) -> None:
    folder, session = modeled
    old = session.take(GUITAR_TAKE)
    punched = old.model_copy(
        update={
            "id": "t0099",
            "name": "Punched",
            "over": old.id,
            "punched": STRETCH,
            "passes": (old.passes[-1].model_copy(update={"name": "Own"}),),
        }
    )
    session = session.model_copy(update={"takes": (*session.takes, punched)})
    whole = old.passes[-1]
    made = reamped(
        (folder, session), "t0099", rig_id="usb", stretch=STRETCH, join=f"{old.id}/{whole.id}"
    ).made
    assert made.part.joined == f"{whole.name}, {old.name}"
    last = 8 * RATE
    assert null_db(heard(modeled, whole, 0, last), heard(modeled, made, 0, last)) < DIGITAL_DB


def test_a_part_that_a_dead_process_left_is_found_where_it_was_sent(modeled: Desk) -> None:
    folder, session = modeled
    made = reamped(modeled, rig_id="usb", stretch=STRETCH, returns=("Reamp left",)).made
    back = recover_return(session, folder, made.main.file)
    assert back.alignment is not None
    assert back.alignment.delay_samples == pytest.approx(
        made.placed(made.main).delay_samples, abs=1.0
    )
