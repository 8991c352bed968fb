"""What is done with a kept tone: measured, written to a file, read from one."""

from __future__ import annotations

from pathlib import Path

from diaulos.app.asking import ask_file, ask_to_save
from diaulos.app.jobs import Job
from diaulos.app.view import View
from diaulos.app.views.instruments.drive_page import DrivePage
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.session import edits
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.tone_stage import stage_of
from diaulos.work.instruments.drive import make_up_db, stronger_db
from diaulos.work.loudest import read_loudest
from diaulos.work.ports import CancelToken, Progress


class ToneWork(View):
    """Jobs around tones. It knows the page, and nothing of the lists beside it."""

    drive: DrivePage

    @property
    def instrument(self) -> Instrument | None:
        """The chosen instrument."""
        return None

    def show_drive(self) -> None:
        """The pad and tone page."""

    def _apply(self, edit: edits.Edit, merge: str = "") -> None:
        """Ask the document for an edit."""

    def measure_make_up(self) -> None:
        """Measure what brings the loudness back behind the chosen tone."""
        tone, change, instrument = self.drive.chosen, self.drive.change, self.instrument
        if tone is None or change is None or instrument is None:
            self.said.emit("Choose a tone and an instrument whose strength is known (3).")
            return
        session, store = self._document.session, self._document.store
        own = [t for t in session.takes if t.di and t.instrument_id == instrument.id]
        takes = own or [t for t in session.takes if t.di]
        take = takes[-1] if takes else None
        if take is None or take.di is None:
            self.said.emit("There is no take to measure with. Import a DI first (Ctrl+I).")
            return
        di, key, drive_db = take.di, self.drive.key(), change.drive_db
        stage = stage_of(session)
        ahead_db = instrument.trim_db - (stage.pad_db if stage.pad_on else 0.0)
        ahead_db += stronger_db(session, instrument, take)
        scale = 12.0 if di.full_scale_dbu is None else di.full_scale_dbu

        def work(progress: Progress, cancel: CancelToken) -> str:
            progress(0.1, "Playing the DI at both drives")
            excerpt = read_loudest(store.open_audio(di.file))
            gain = make_up_db(
                excerpt.samples, session.sample_rate_hz, scale, tone, ahead_db, drive_db, cancel
            )
            return (
                f"Make-up: {number(gain, 1, sign=True)} dB behind the tone brings the loudness "
                f"back (measured with {take.name})."
            )

        self.show_drive()
        self._jobs.start(
            Job("Measuring make-up", work, lambda text: self.drive.show_make_up(key, text))
        )

    def ask_export_tone(self) -> None:
        """The chosen tone into a file."""
        tone = self.drive.chosen
        if tone is None:
            return
        name = ask_to_save(self, "Write tone", f"{tone.name}.json", "Tone (*.json)")
        if name:
            self.export_tone(Path(name))

    def export_tone(self, path: Path) -> None:
        """Write the chosen tone, with what it was made with."""
        tone, session = self.drive.chosen, self._document.session
        if tone is None:
            return
        from diaulos.work.instruments.tone_file import completed, tone_text, write_tone

        text = tone_text(completed(session, tone, stage_of(session).pad_db))

        def work(progress: Progress, cancel: CancelToken) -> str:
            write_tone(path, text)
            return path.name

        self._jobs.start(Job("Tone", work, lambda name: self.said.emit(f"Written: {name}.")))

    def ask_read_tone(self) -> None:
        """One more tone, from a file."""
        name = ask_file(self, "Read tone", "Tone (*.json)")
        if name:
            self.read_tone(Path(name))

    def read_tone(self, path: Path) -> None:
        """Read a tone and say what it asks for with the chosen instrument."""
        from diaulos.work.instruments.tone_file import asked_here, read_tone

        session = self._document.session

        def work(progress: Progress, cancel: CancelToken) -> Tone:
            return read_tone(path, session)

        def done(tone: Tone) -> None:
            self._apply(edits.add_tone(tone))
            self.show_drive()
            self.drive.choose_tone(tone.id)
            instrument = self.instrument
            if instrument is not None:
                try:
                    self.said.emit(asked_here(self._document.session, tone, instrument))
                except DiaulosError as error:
                    self.said.emit(f"{tone.name} is read. {error}")

        self._jobs.start(Job("Tone", work, done, self.problem.emit))
