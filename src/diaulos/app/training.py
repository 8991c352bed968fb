"""The trainer beside the session that is open: what is played, and what is kept of it."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos import wiring
from diaulos.app.breathing import beside
from diaulos.app.holder import Holder
from diaulos.errors import DiaulosError
from diaulos.work.listening.heard import track_reader
from diaulos.work.listening.sound import Sound

if TYPE_CHECKING:
    from diaulos.app.dialogs.trainer import Material, TrainerDialog

MOST_TAKES = 12


class TrainingHolder(Holder, Protocol):
    """A desk with its sound."""

    sound: Sound | None


class Training:
    """Opens the trainer, and keeps its record."""

    def __init__(self, desk: TrainingHolder) -> None:
        self._desk = desk
        self.dialog: TrainerDialog | None = None

    def ask_trainer(self) -> None:
        """The exercises."""
        from diaulos.app.dialogs.trainer import TrainerDialog

        desk = self._desk
        if desk.document is None or desk.sound is None:
            return
        desk.hush()
        rate = desk.document.session.sample_rate_hz
        dialog = TrainerDialog(
            desk.sound.place(), rate, self._materials(), desk.jobs, desk.services.training.all(),
            desk.document.session, desk.services.rig_audio, desk.window,
        )  # fmt: skip
        self.dialog = dialog
        dialog.finished_one.connect(self._keep)
        dialog.exec()
        self.dialog = None

    def _materials(self) -> tuple[Material, ...]:
        """The simulated player of each instrument, then the newest takes' tracks."""
        from diaulos.app.dialogs.trainer import MOST_S, Material

        document = self._desk.document
        assert document is not None
        session, store = document.session, document.store
        rate = session.sample_rate_hz
        made = [
            Material(f"Strums, {one.name}", lambda one=one: wiring.training_sound(one, rate))  # type: ignore[misc]
            for one in session.instruments
            if one.position is not None
        ]

        def of_take(file: str) -> NDArray[np.float64]:
            # From its middle: the beginning may be a count-in.
            frames = store.open_audio(file).frames
            count = round(MOST_S * rate)
            first = max(0, (frames - count) // 2)
            return np.asarray(track_reader(file, store)(first, min(count, frames)), np.float64)

        tracks = [
            Material(f"{take.name}, {track.name}", lambda file=track.file: of_take(file))  # type: ignore[misc]
            for take in reversed(session.takes)
            for track in take.tracks
        ]
        return tuple(made + tracks[:MOST_TAKES])

    def _keep(self, one: wiring.Trained) -> None:
        services = self._desk.services
        now = services.clock().isoformat(timespec="seconds")[:19]
        kept = one.model_copy(update={"at": now})
        try:
            beside(partial(services.training.add, kept))
        except DiaulosError as error:
            self._desk.window.say(str(error))
        if self.dialog is not None:
            self.dialog.history = (*self.dialog.history, kept)
