"""The error tree.

Every error that a person can meet says what is wrong, where, and what to do. The three
parts are data, so that the window, the shell and a script each show them in their own
way. This module imports nothing of ours.
"""

from __future__ import annotations


class DiaulosError(Exception):
    """Base of all errors that Diaulos raises on purpose.

    `what` is one sentence, `where` a file, field or port ("" when the sentence names it),
    `remedy` one sentence that says what to do.
    """

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head} {self.remedy}".rstrip()


class InputError(DiaulosError):
    """A value from outside cannot be used: a file, a field, an argument."""


class AudioFileError(InputError):
    """An audio file cannot be read, or holds what cannot be used."""


class SessionFileError(InputError):
    """A session folder or its session.json cannot be used."""


class EditError(DiaulosError):
    """An edit does not apply to the session as it is now."""


class RigError(DiaulosError):
    """A rig cannot be played or planned: a missing cable, a cycle, an impossible value."""


class StorageError(DiaulosError):
    """Something could not be written or moved. What was saved before is untouched."""


class SessionLockedError(DiaulosError):
    """Another process has the session open.

    `pid` is its number, 0 where it is not known; `foreign` is True where nobody on this
    machine can tell whether it still runs.
    """

    def __init__(
        self, what: str, *, pid: int, foreign: bool = False, where: str = "", remedy: str = ""
    ) -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.pid, self.foreign = pid, foreign


class AudioDeviceError(DiaulosError):
    """An audio device cannot be opened or has failed."""


class RefusedError(DiaulosError):
    """The input can be read but does not allow an honest answer.

    `reason` is a stable word for scripts, such as "not_the_same_performance".
    """

    def __init__(self, reason: str, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what, where=where, remedy=remedy)
        self.reason = reason


class AmbiguousError(RefusedError):
    """Several answers fit equally well. `candidates_samples` are the delays, likeliest first."""

    def __init__(self, what: str, candidates_samples: tuple[float, ...], *, remedy: str) -> None:
        super().__init__("ambiguous", what, remedy=remedy)
        self.candidates_samples = candidates_samples


class CancelledError(DiaulosError):
    """The person pressed Cancel. Nothing was changed."""

    def __init__(self) -> None:
        super().__init__("Cancelled. Nothing was changed.")
