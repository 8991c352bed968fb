"""Renders docs/screenshots from the demo data, so that anyone can refresh them.

./diaulos shots [--out DIR]
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# What the pictures need of a person's settings is kept from the person's own.
os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp(prefix="diaulos-shots-")

from PySide6.QtWidgets import QApplication

from diaulos import wiring
from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dialogs.gear import GearDialog
from diaulos.app.dialogs.identify import IdentifyDialog
from diaulos.app.dialogs.preferences import PreferencesDialog
from diaulos.app.dialogs.sockets import SocketsDialog
from diaulos.app.dialogs.sweep_line import Bench
from diaulos.app.dialogs.trainer import TrainerDialog
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.demo.saltmarsh import write_demo
from diaulos.session.edits import choose_rig
from diaulos.session.roles import reamp_rig, recording_rig
from diaulos.storage.settings import SettingsFile
from diaulos.work.capture.movers import Movement
from diaulos.work.capture.trips import Trip
from diaulos.work.ports import DeviceInfo, Found
from diaulos.work.rigs.stored import stored_of
from diaulos.work.sheets.making import make_sheet
from diaulos.work.sheets.model import Wanted

HERE = Path(__file__).resolve().parent.parent


def wait(app: QApplication, condition: Callable[[], bool], seconds: float = 120.0) -> None:
    """Let the window work until a condition holds."""
    end = time.monotonic() + seconds
    while not condition():
        app.processEvents()
        time.sleep(0.005)
        if time.monotonic() > end:
            sys.exit("shots: the window did not get ready in time")
    # Layouts follow one event after the figures.
    calm = time.monotonic() + 0.3
    while time.monotonic() < calm:
        app.processEvents()


def settled(desk: Desk) -> bool:
    """Whether levels and waveforms are on screen."""
    return desk.jobs.quiet and all(view.settled for view in desk.views.values())


def settled_now(desk: Desk) -> bool:
    """Whether the view on screen is: one that cannot show this rig may wait."""
    return desk.jobs.quiet and desk.current is not None and desk.current.settled


def recorded(desk: Desk) -> bool:
    """Whether the recording has become a take and its waveform is there."""
    return not desk.views["takes"].under_way and desk.jobs.quiet


def three_strings(desk: Desk) -> bool:
    """Whether the intonation check has come so far."""
    return desk.views["takes"].tuner.table.rowCount() >= 3


BOX = "Eight-input interface"


class OneBox:
    """A real device, as the picture shows one: nothing is plugged into this computer."""

    def look(self) -> Found:
        names = (
            tuple(f"capture_{n}" for n in range(1, 9)),
            tuple(f"playback_{n}" for n in range(1, 7)),
        )
        box = DeviceInfo("jack", BOX, 8, 6, (48_000,), (256,), True, 0.0121, *names)
        return Found((box,))


def tapped(
    _device: str, count: int, tell: Callable[[Movement], None], stopped: Callable[[], bool], _b: int
) -> None:
    """Somebody strums into the third input."""
    quiet = tuple(-86.0 - n % 3 for n in range(count))
    peak = tuple(-9.4 if n == 2 else one + 2.0 for n, one in enumerate(quiet))
    while not stopped():
        tell(Movement(peak, peak, quiet, 2))
        time.sleep(0.05)


def device_pages(desk: Desk, window: MainWindow, out: Path) -> None:
    """The preferences with their page of sound, and which socket is which."""
    preferences = window.preferences
    preferences.device = BOX
    services = replace(Services.of_this_machine(preferences), devices=OneBox(), hear_inputs=tapped)
    services.trips.keep(Trip(BOX, 48_000, 256, 581.37, 0.006, 1, 1))
    dialog = PreferencesDialog(preferences, window.dress, window, services)
    sound = dialog.audio
    assert sound is not None
    dialog.show()
    theme.dress(dialog)
    wait(window_app(), lambda: sound.device.count() > 1)
    # The page alone: the rest names folders of whoever makes the picture.
    sound.grab().save(str(out / "sound-day.png"))
    dialog.reject()
    document = desk.document
    assert document is not None
    session = document.session
    rigs = tuple(dict.fromkeys((recording_rig(session).id, reamp_rig(session).id)))
    sockets = SocketsDialog(BOX, lambda: document.session, rigs, services, window)
    theme.dress(sockets)
    sockets.show()
    wait(window_app(), lambda: "8 inputs" in sockets.about.text())
    sockets.table.setCurrentCell(1, 0)
    sockets.listen.click()
    wait(window_app(), sockets.tie.isEnabled)
    sockets.grab().save(str(out / "sockets-day.png"))
    sockets.reject()


def dialog_pages(desk: Desk, window: MainWindow, folder: Path, out: Path) -> None:
    """A pickup identified by the simulated coil, own gear, and a level sheet as it is printed."""
    desk.services = replace(desk.services, library=wiring.library_at(folder / "library"))
    desk.show("instruments")
    wait(window_app(), partial(settled_now, desk))
    view = desk.views["instruments"]
    identify = IdentifyDialog(
        view.instrument, Bench(48_000, True, "Simulated studio"),
        lambda one, load, _out, _back: desk.services.coil(one, load),
        lambda one, load, at, _back: desk.services.plucks(one, load, 48_000, at), desk.jobs, window,
    )  # fmt: skip
    theme.dress(identify)
    identify.show()
    for at in (0, 1):
        identify.sweep(at)
        wait(window_app(), lambda: desk.jobs.quiet)
    identify.grab().save(str(out / "identify-day.png"))
    identify.reject()
    document = desk.document
    assert document is not None
    for one in document.session.instruments[:3]:
        desk.gear.keep_thing("instrument", one.id)
        wait(window_app(), lambda: desk.jobs.quiet)
    gear = GearDialog(document.session, window)
    desk.gear.dialog = gear
    theme.dress(gear)
    gear.show()
    desk.gear._look()
    wait(window_app(), lambda: desk.jobs.quiet)
    gear.grab().save(str(out / "gear-day.png"))
    gear.reject()
    desk.gear.dialog = None
    trainer(desk, window, out)
    if shutil.which("pdftoppm") is not None:
        sheet = make_sheet(
            document.session,
            Wanted("levels"),
            document.store,
            stored_of(document.session, document.store),
        )
        page = folder / "levels.pdf"
        page.write_bytes(wiring.sheet_bytes(sheet, ".pdf"))
        subprocess.run(
            ["pdftoppm", "-png", "-r", "80", "-f", "1", "-l", "1", "-singlefile", str(page),
             str(out / "sheet-levels-printed")],
            check=True, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def trainer(desk: Desk, window: MainWindow, out: Path) -> None:
    """A difference that was answered, and is looked back at."""
    shown = TrainerDialog.exec
    TrainerDialog.exec = lambda self: self.show()
    desk.training.ask_trainer()
    TrainerDialog.exec = shown
    (dialog,) = window.findChildren(TrainerDialog)
    dialog.exercises.setCurrentRow(3)
    dialog.start()
    wait(window_app(), lambda: desk.jobs.quiet)
    dialog.answer(dialog._run.trial.odd)
    wait(window_app(), lambda: dialog.after.there)
    dialog.grab().save(str(out / "trainer-day.png"))
    dialog.reject()


def window_app() -> QApplication:
    """The application."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    return app


BY_NIGHT = ("reamp", "takes")
"""The day picture of every view, and these two by night."""


def shot(window: MainWindow, folder: Path, name: str, look: theme.Look) -> None:
    """The window as it is now."""
    if look is theme.DAY or name in BY_NIGHT:
        window.grab().save(str(folder / f"{name}-{look.name}.png"))


def main() -> None:
    """Write the pictures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--out", type=Path, default=HERE / "docs" / "screenshots")
    parser.add_argument("--session", type=Path, help="a demo session that exists already")
    out = parser.parse_args()
    out.out.mkdir(parents=True, exist_ok=True)
    app = QApplication(["shots"])
    theme.load_fonts()
    with tempfile.TemporaryDirectory() as folder:
        path = out.session
        if path is None:
            made, _ = write_demo(Path(folder) / "Saltmarsh")
            made.close()
            path = made.path
        for look in (theme.DAY, theme.NIGHT):
            theme.apply(app, look)
            settings = SettingsFile(Path(f"{folder}/{look.name}.json"))
            window = MainWindow(Preferences(settings))
            window.resize(1280, 800)  # as on a usual screen; the one that is not there is smaller
            desk = Desk(window, Services.of_this_machine())
            window.show()
            # A copy for each look: the take that is recorded here stays in its own.
            mine = Path(folder) / f"{look.name}.diaulos"
            shutil.copytree(path, mine)
            desk.open_path(mine)
            wait(app, partial(settled, desk))
            shot(window, out.out, "reamp", look)
            desk.show("instruments")
            for page in ("loading", "trims", "drive"):
                getattr(desk.views["instruments"], f"show_{page}")()
                wait(app, partial(settled, desk))
                shot(window, out.out, f"instruments-{page}", look)
            document = desk.document
            assert document is not None
            document.apply(choose_rig("rig04"))
            desk.show("rig")
            rig = desk.views["rig"]
            assert rig is not None
            wait(app, partial(settled, desk))
            rig.show_finding(rig.findings.chosen or rig.report.findings[0])
            for page in ("findings", "tracks"):
                getattr(rig, f"show_{page}_page")()
                wait(app, partial(settled, desk))
                shot(window, out.out, f"rig-{page}", look)
            desk.show("levels")
            levels = desk.views["levels"]
            assert levels is not None
            wait(app, partial(settled_now, desk))
            levels.choose_course("Amp and cabinet" if look is theme.DAY else "Amp")
            wait(app, partial(settled_now, desk))
            shot(window, out.out, "levels", look)
            if look is theme.DAY:
                desk.show("compare")
                wait(app, partial(settled_now, desk))
                compare = desk.views["compare"]
                compare.judge.show_page("places")
                wait(app, partial(settled_now, desk))
                shot(window, out.out, "compare", look)
                desk.show("sheets")
                desk.views["sheets"].kinds.setCurrentRow(2)
                wait(app, partial(settled_now, desk))
                shot(window, out.out, "sheets", look)
            desk.show("takes")
            takes = desk.views["takes"]
            assert takes is not None
            wait(app, partial(settled_now, desk))
            takes.setup.bars.setValue(2)
            takes.setup.count_in.setValue(0)
            takes.record()
            wait(app, partial(recorded, desk))
            shot(window, out.out, "takes", look)
            takes.toggle_tuner()
            takes.toggle_check()
            wait(app, partial(three_strings, desk))
            shot(window, out.out, "takes-tuner", look)
            takes.toggle_tuner()
            wait(app, partial(settled_now, desk))
            if look is theme.DAY:
                device_pages(desk, window, out.out)
                dialog_pages(desk, window, Path(folder), out.out)
            document.mark_saved(document.session)
            window.close()
            app.processEvents()


if __name__ == "__main__":
    main()
