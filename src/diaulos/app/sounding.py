"""The real device of the preferences and the session that is open: which socket is which."""

from __future__ import annotations

from diaulos.app.holder import Holder
from diaulos.ids import BENCH
from diaulos.session.roles import reamp_rig, recording_rig


class Sounding:
    """Asks about the device that is recorded from and reamped through."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk

    def ask_sockets(self) -> None:
        """Tie tracks and sends to the channels of the chosen device."""
        from diaulos.app.dialogs.sockets import SocketsDialog

        desk, document = self._desk, self._desk.document
        if document is None or not document.session.rigs:
            return
        device = desk.services.device()
        if device == BENCH:
            desk.window.say(
                "The simulated studio plays the rig: it has no sockets to tie. Edit > Preferences "
                "> Sound chooses a real device."
            )
            return
        session = document.session
        rigs = dict.fromkeys((recording_rig(session).id, reamp_rig(session).id))
        desk.hush()
        dialog = SocketsDialog(
            device, lambda: document.session, tuple(rigs), desk.services, desk.window,
            writable=not document.read_only,
        )  # fmt: skip
        dialog.tied.connect(document.apply)
        dialog.exec()
