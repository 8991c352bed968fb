"""A DI behind pedals that belong to the performance is sent like a dry one, and says so."""

from __future__ import annotations

import numpy as np
import pytest
import soundfile
from test_reamp import GUITAR_TAKE, desk, reamped

from diaulos.errors import EditError
from diaulos.session.edits import choose_sent
from diaulos.session.model import Session, Take
from diaulos.storage.folder import SessionFolder
from diaulos.work.measuring import read_mono
from diaulos.work.reamp.reference import find_reference
from diaulos.work.reamp.words import take_remarks
from support import RATE

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
LATE = 96
"""What a digital pedal takes, in samples."""


def with_take(session: Session, take: Take) -> Session:
    takes = tuple(take if one.id == take.id else one for one in session.takes)
    return session.model_copy(update={"takes": takes})


@pytest.fixture
def both(desk: Desk) -> Desk:
    """A take with its dry DI and the one behind a pedal, which is louder, clips softly and is
    late."""
    folder, session = desk
    take = session.take(GUITAR_TAKE)
    dry = read_mono(folder.open_audio(take.di.file)).astype(float)
    pedal = 0.4 * np.tanh(6.0 * np.concatenate([np.zeros(LATE), dry[:-LATE]]))
    soundfile.write(folder.path / "audio" / "t0001_k09.wav", pedal, RATE, subtype="FLOAT")
    printed = take.di.model_copy(
        update={"id": "k09", "name": "After pedals", "tap": "printed",
                "file": "audio/t0001_k09.wav", "peak_dbfs": -8.0}
    )  # fmt: skip
    take = take.model_copy(update={"tracks": (*take.tracks, printed)})
    return folder, with_take(session, take)


def test_the_printed_di_goes_out_and_its_pass_says_so(both: Desk) -> None:
    folder, session = both
    assert session.take(GUITAR_TAKE).sent.id == "k01"
    session = choose_sent(GUITAR_TAKE, "k09")(session)
    take = session.take(GUITAR_TAKE)
    assert take.sent.id == "k09"
    assert "after pedals" in take_remarks(take)
    outcome = reamped((folder, session))
    made = outcome.made
    assert made.track_id == "k09"
    assert made.name.endswith("after pedals")
    dry = reamped(both).made
    own, against = made.main.alignment, made.main.against
    assert own.delay_samples == pytest.approx(dry.main.alignment.delay_samples, abs=3.0)
    assert against.track_id == "k01", "in time with the dry DI"
    assert against.alignment.delay_samples == pytest.approx(own.delay_samples + LATE, abs=3.0)
    session = outcome.edit(session)
    kept = session.take(GUITAR_TAKE).passes[-1]
    assert kept.main.against == against
    found = find_reference(session.take(GUITAR_TAKE), "k09", folder)
    assert found.returns == {}, "what was sent is its own reference"
    after = found.edit(session).take(GUITAR_TAKE)
    assert after.passes[-1].main.against is None
    back = find_reference(after, "", folder)
    again = back.edit(found.edit(session)).take(GUITAR_TAKE).passes[-1]
    assert again.main.against.alignment.delay_samples == pytest.approx(
        against.alignment.delay_samples, abs=0.1
    )


def test_a_take_without_a_dry_di_sends_what_it_has(both: Desk) -> None:
    folder, session = both
    take = session.take(GUITAR_TAKE)
    only = take.model_copy(update={"tracks": tuple(t for t in take.tracks if t.tap != "di")})
    session = with_take(session, only)
    outcome = reamped((folder, session))
    assert outcome.made.track_id == "k09"
    assert outcome.made.main.against is None
    assert outcome.edit(session).take(GUITAR_TAKE).passes[-1].main.against is None


def test_what_is_no_di_is_not_sent(both: Desk) -> None:
    session = both[1]
    with pytest.raises(EditError, match="no DI"):
        choose_sent(GUITAR_TAKE, "k02")(session)
