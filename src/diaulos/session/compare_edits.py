"""Edits that comparing asks for: moves into time, polarity, low cuts, blind tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from diaulos.session.compared import BlindTest, Gate, MicPlace, Moved
from diaulos.session.edits import Edit
from diaulos.session.model import Heard, Session


def move_into_time(files: Sequence[str], moved: Moved | None) -> Edit:
    """Files that belong together are heard moved, or as they were recorded (None)."""

    def change(session: Session) -> Session:
        moves = {file: one for file, one in session.moves.items() if file not in files}
        if moved is not None and not moved.nothing:
            moves |= dict.fromkeys(files, moved)
        return session.model_copy(update={"moves": moves})

    return Edit("Move into time" if moved is not None else "Move back", change)


def move_all(label: str, moved: Mapping[tuple[str, ...], Moved | None]) -> Edit:
    """Several that belong together each are heard moved, in one edit."""

    def change(session: Session) -> Session:
        for files, one in moved.items():
            session = move_into_time(files, one)(session)
        return session

    return Edit(label, change)


def place_microphone(files: Sequence[str], place: MicPlace) -> Edit:
    """Where the microphone of files that belong together stood; nothing known takes the note
    away."""

    def change(session: Session) -> Session:
        places = {file: one for file, one in session.mic_places.items() if file not in files}
        if not place.unknown:
            places |= dict.fromkeys(files, place)
        return session.model_copy(update={"mic_places": places})

    return Edit("Place of the microphone", change)


def pan_apart(left: Sequence[str], right: Sequence[str]) -> Edit:
    """Two that were played to be heard beside each other: hard left and hard right in the monitor
    mix, both heard."""

    def change(session: Session) -> Session:
        mix = dict(session.mix)
        for files, pan in ((left, -1.0), (right, 1.0)):
            for file in files:
                old = mix.get(file, Heard())
                mix[file] = old.model_copy(update={"pan": pan, "muted": False})
        return session.model_copy(update={"mix": mix})

    return Edit("Pan apart", change)


def turn_polarity(files: Sequence[str]) -> Edit:
    """Files that belong together are heard turned over, or no longer."""

    def change(session: Session) -> Session:
        moves = dict(session.moves)
        for file in files:
            old = moves.pop(file, Moved())
            turned = old.model_copy(update={"polarity": 1 if old.polarity < 0 else -1})
            if not turned.nothing:
                moves[file] = turned
        return session.model_copy(update={"moves": moves})

    return Edit("Turn polarity", change)


def set_low_cut(files: Sequence[str], corner_hz: float | None) -> Edit:
    """Files that belong together are heard through a low cut, or without one."""

    def change(session: Session) -> Session:
        cuts = {file: hz for file, hz in session.low_cuts.items() if file not in files}
        if corner_hz is not None:
            cuts |= dict.fromkeys(files, corner_hz)
        return session.model_copy(update={"low_cuts": cuts})

    return Edit("Low cut" if corner_hz is not None else "No low cut", change)


def set_gate(files: Sequence[str], gate: Gate | None) -> Edit:
    """Files that belong together are heard through a gate, or without one."""

    def change(session: Session) -> Session:
        gates = {file: one for file, one in session.gates.items() if file not in files}
        if gate is not None:
            gates |= dict.fromkeys(files, gate)
        return session.model_copy(update={"gates": gates})

    return Edit("Gate" if gate is not None else "No gate", change)


def keep_blind_test(test: BlindTest) -> Edit:
    """A blind test that was answered is kept with the session."""

    def change(session: Session) -> Session:
        return session.model_copy(update={"blind_tests": (*session.blind_tests, test)})

    return Edit("Keep blind test", change)
