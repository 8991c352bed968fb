"""What Takes and Reamp do with cabinets: list them, let one be heard, put one in place.

What is tried is heard at equal loudness, found from some seconds of the track; what is put in place
is measured over the whole of it.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QWidget

from diaulos.app.asking import ask_folder
from diaulos.app.document import Document
from diaulos.app.jobs import Job, Jobs
from diaulos.app.services import Services
from diaulos.app.widgets.cabinet_panel import (
    NONE,
    CabinetPanel,
    CabinetRow,
    Subject,
    refused_words,
)
from diaulos.errors import DiaulosError
from diaulos.figures import counted
from diaulos.session.edits import Edit, put_cabinets
from diaulos.session.model import CabinetLater, Session, Take, part_name
from diaulos.signal.cabinet import CABINETS
from diaulos.work.listening.cabinets import (
    InPlace,
    cabinet_before,
    cabinet_names,
    excerpt_blocks,
    in_place,
    level_through,
    measured_choice,
    taps_of,
    with_alternative,
    with_cabinet,
)
from diaulos.work.listening.heard import Tried
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.takes.impulses import (
    ImpulseFolder,
    brightness_hz,
    import_impulse,
    list_impulses,
    read_impulse,
)

Facts = dict[str, tuple[float, float, bool]]
"""Brightness in Hz, length in ms and whether stereo, by the cabinet's name."""
STEP_MS = 60
"""A key that is held down steps faster than cabinets are worked out."""


def subjects_of(session: Session, take: Take | None) -> tuple[Subject, ...]:
    """What of a take can get a cabinet: passes first come last, the dry DI is not among it."""
    if take is None:
        return ()
    found = [
        Subject(
            tuple(one.file for one in tracks),
            part_name(tracks),
            cabinet_before(session, take, tracks[0].file),
        )
        for tracks in take.parts
        if tracks[0].tap not in ("di", "printed") and tracks[0].channels == 1
    ]
    for made in take.passes:
        for part in made.parts:
            named = part[0].group or part[0].name
            name = made.name if len(made.parts) == 1 else f"{made.name}, {named}"
            files = tuple(one.file for one in part)
            found.append(Subject(files, name, cabinet_before(session, take, files[0])))
    return tuple(found)


class CabinetDesk(QObject):
    """Serves one panel. The view hears what is tried."""

    tried = Signal(object)
    """Audio files, and what each is heard through: `Tried`."""
    said = Signal(str)
    problem = Signal(object)

    def __init__(
        self, panel: CabinetPanel, document: Document, jobs: Jobs, services: Services,
        parent: QWidget,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._panel, self._document, self._jobs = panel, document, jobs
        self._services, self._parent = services, parent
        self._take: Take | None = None
        self._folder: ImpulseFolder | None = None
        self._wanted: str | None = None
        """What is tried and not in place."""
        self._facts: Facts = {}
        self._asked: set[str] = set()
        """Cabinets that are known, or cannot be read."""
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(STEP_MS)
        self._timer.timeout.connect(self._prepare)
        panel.subject_asked.connect(lambda _subject: self._again())
        panel.tried.connect(self._try)
        panel.put_asked.connect(self._put)
        panel.folder_asked.connect(self._ask_folder)
        panel.removed.connect(self._remove)

    # --- what is shown ---

    def show(self, take: Take | None, chosen: tuple[str, ...] = ()) -> None:
        """A take's tracks and passes; `chosen` are the files of the one to begin with."""
        self._take = take
        session = self._document.session
        now = self._panel.chosen_subject
        files = chosen or (now.files if now is not None else ())
        subjects = subjects_of(session, take)
        if not any(one.files == files for one in subjects):
            bare = next((one for one in subjects if not one.before), None)
            files = (bare or subjects[0]).files if subjects else ()
        self._panel.show_subjects(subjects, files)
        self._show_rows()

    def leave(self) -> None:
        """What was tried and not put in place is not heard any more."""
        self._timer.stop()
        self._wanted = None
        self.tried.emit({})

    def _again(self) -> None:
        self._wanted = None
        self.tried.emit({})
        self._show_rows()

    def _later(self) -> CabinetLater | None:
        subject = self._panel.chosen_subject
        return self._document.session.cabinets.get(subject.files[0]) if subject else None

    def _show_rows(self) -> None:
        session, subject, later = self._document.session, self._panel.chosen_subject, self._later()
        if subject is None:
            self._panel.show_rows((), NONE)
            self._panel.say(
                "Nothing of this take can get a cabinet: record or reamp an amplifier first."
            )
            return
        used = later.used if later is not None else ""
        rows = [CabinetRow(NONE, "Without a cabinet", "as recorded", used=not used)]
        titles = dict(cabinet_names(session))
        placed = [one.cabinet for one in later.choices] if later is not None else []
        for number, choice in enumerate(later.choices if later is not None else (), start=1):
            row = self._row(choice.cabinet, titles.get(choice.cabinet, choice.cabinet))
            rows.append(
                replace(row, hotkey=number, gain_db=choice.gain_db, used=choice.cabinet == used)
            )
        if self._folder is not None:
            rows += [
                CabinetRow(
                    str(one.path), one.name, "folder", one.bright_hz, one.seconds * 1000.0,
                    one.channels == 2,
                )
                for one in self._folder.found
            ]  # fmt: skip
        rows += [self._row(name, title) for name, title in titles.items() if name not in placed]
        unknown = [name for name in titles if name not in self._facts and name not in self._asked]
        if unknown:
            self._ask_facts(unknown)
        self._panel.show_rows(rows, self._wanted or used or NONE)
        if self._wanted is None:
            self._panel.say(self._words(subject, used, titles))

    def _words(self, subject: Subject, used: str, titles: dict[str, str]) -> str:
        if used and subject.before:
            return f"Two cabinets in a row: {subject.before}. Everything above 5 kHz is gone twice."
        if used:
            return f"{subject.name} is heard through {titles.get(used, used)}, as loud as without."
        if subject.before:
            return f"{subject.before}: a second one would sound dull and boxed."
        return "Up and Down step through them at equal loudness. Enter puts one in place."

    def _row(self, name: str, title: str) -> CabinetRow:
        place = "stand-in" if name in CABINETS else "this session"
        if name not in self._facts:
            return CabinetRow(name, title, place)
        return CabinetRow(name, title, place, *self._facts[name])

    def _ask_facts(self, names: list[str]) -> None:
        """Brightness and length of cabinets, worked out beside the window. A file that is gone has
        none; it is told when it is tried."""
        session, store = self._document.session, self._document.store
        rate = float(session.sample_rate_hz)

        def work(progress: Progress, cancel: CancelToken) -> Facts:
            found: Facts = {}
            for name in names:
                cancel.check()
                with suppress(DiaulosError):
                    taps = taps_of(session, name, store)
                    length = 1000.0 * taps.shape[0] / rate
                    found[name] = (brightness_hz(taps, rate), length, taps.shape[1] == 2)
            return found

        def done(found: Facts) -> None:
            self._asked |= set(names)
            self._facts |= found
            self._show_rows()

        self._jobs.start(Job("cabinet facts", work, done, lambda _e: None, background=True))

    # --- trying ---

    def _try(self, key: str) -> None:
        """Hear a row: at once what is in place, else as soon as it is worked out."""
        subject, later = self._panel.chosen_subject, self._later()
        if subject is None:
            return
        self._timer.stop()
        if key == NONE:
            self._wanted = NONE
            self._hear(subject, None, "Without a cabinet")
            return
        if later is not None and any(one.cabinet == key for one in later.choices):
            self._wanted = key
            now = later.model_copy(update={"used": key})
            session = put_cabinets(subject.files, now)(self._document.session)
            placed = in_place(session, subject.files[0], self._document.store)
            self._hear(subject, placed, dict(cabinet_names(session)).get(key, key))
            return
        self._wanted = key
        self._timer.start()

    def _hear(self, subject: Subject, cabinet: InPlace | None, name: str) -> None:
        tried: Tried = dict.fromkeys(subject.files, cabinet)
        self.tried.emit(tried)
        warned = (
            f" {subject.before}: two in a row." if cabinet is not None and subject.before else ""
        )
        self._panel.say(f"Heard: {name}. Enter puts it in place.{warned}")

    def _prepare(self) -> None:
        subject, key = self._panel.chosen_subject, self._wanted
        if subject is None or key is None:
            return
        session, store, services = self._document.session, self._document.store, self._services
        names = dict(cabinet_names(session))

        def work(progress: Progress, cancel: CancelToken) -> InPlace:
            if key in names:
                taps = taps_of(session, key, store)
            else:
                rate = session.sample_rate_hz
                taps = read_impulse(Path(key), services.files, services.resample, rate).taps
            cancel.check()
            source = store.open_audio(subject.files[0])
            gain = level_through(excerpt_blocks(source), source.rate_hz, taps).gain_db
            return InPlace(key, taps, gain)

        def done(cabinet: InPlace) -> None:
            if self._wanted == key and self._panel.chosen_subject == subject:
                self._hear(subject, cabinet, names.get(key, Path(key).stem))

        self._jobs.start(Job("cabinet", work, done, self._failed, background=True))

    def _failed(self, error: Exception) -> None:
        self._panel.say(str(error))

    # --- putting in place ---

    def _put(self, key: str) -> None:
        """What is chosen stands behind the track from now on."""
        subject, later, document = self._panel.chosen_subject, self._later(), self._document
        if subject is None:
            return
        if document.read_only:
            self.said.emit("The session is read-only: nothing can be put in place.")
            return
        known = later is not None and any(one.cabinet == key for one in later.choices)
        if key == NONE or known:
            self._wanted = None
            if later is not None:
                wanted = "" if key == NONE else key
                document.apply(with_alternative(document.session, subject.files, wanted))
            self.tried.emit({})
            self._show_rows()
            return
        session, store, services = document.session, document.store, self._services
        names = dict(cabinet_names(session))

        def work(progress: Progress, cancel: CancelToken) -> tuple[Edit, str]:
            progress(0.1, "Measuring loudness")
            now, brought, name = session, None, key
            if key not in names:
                brought = import_impulse(
                    Path(key), session, store=store, files=services.files,
                    resample=services.resample, clock=services.clock,
                )  # fmt: skip
                now, name = brought.edit(session), brought.impulse.file
            choice = measured_choice(now, name, subject.files[0], store)

            def change(current: Session) -> Session:
                if brought is not None and all(
                    one.file != brought.impulse.file for one in current.impulses
                ):
                    current = brought.edit(current)
                return with_cabinet(current, subject.files, choice)(current)

            return Edit("Cabinet", change), brought.note if brought is not None else ""

        def done(found: tuple[Edit, str]) -> None:
            edit, note = found
            self._wanted = None
            if document.apply(edit):
                self.tried.emit({})
                self.said.emit(note)
            self._show_rows()

        self._jobs.start(Job("Putting the cabinet in place", work, done, self.problem.emit))

    def _remove(self) -> None:
        subject = self._panel.chosen_subject
        if subject is not None and self._document.apply(put_cabinets(subject.files, None)):
            self._again()

    # --- a folder ---

    def _ask_folder(self) -> None:
        path = ask_folder(self._parent, "Folder of impulse responses")
        if path:
            self.open_folder(Path(path))

    def open_folder(self, path: Path) -> None:
        """List a folder's impulse responses, from dark to bright."""
        services = self._services

        def work(progress: Progress, cancel: CancelToken) -> ImpulseFolder:
            return list_impulses(path, services.files, progress, cancel)

        def done(found: ImpulseFolder) -> None:
            self._folder = found
            self._show_rows()
            told = counted(len(found.found), "impulse response")
            self.said.emit(f"{told} in {path.name}.{refused_words(found.refused)}")
            if found.found:
                self._panel.table.choose(str(found.found[0].path))
                self._panel.table.setFocus()

        self._jobs.start(Job("Listing the folder", work, done, self.problem.emit))
