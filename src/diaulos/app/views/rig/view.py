"""The Rig view: the diagram above, what is found and what is chosen below."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, QRectF, QTimer
from PySide6.QtWidgets import (
    QInputDialog,
    QMenu,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.breathing import InTurn
from diaulos.app.dialogs.arrangement import ArrangementDialog
from diaulos.app.jobs import Job
from diaulos.app.recorded import rows_of
from diaulos.app.view import ViewContext
from diaulos.app.views.rig.layout import RigLayout
from diaulos.app.widgets.controls import choose
from diaulos.app.widgets.labels import escaped
from diaulos.rig import changes
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.checks import Finding, worst
from diaulos.rig.course import Course
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.safety import notices
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.look import RigReport, look_at, rig_graph
from diaulos.work.rigs.rows import track_names, track_rows
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.impulses import load_impulses
from diaulos.work.takes.playing import PlayedTake, play_take

REPORT_DELAY_MS = 30
SIMULATED = "Simulated player: five hard strums"


class RigPlot:
    """What the menu's copies take: the drawing as an image, the patch list as CSV."""

    def __init__(self, view: RigView) -> None:
        self._view = view

    def copy_image(self) -> None:
        self._view.diagram.copy_image()

    def copy_csv(self) -> None:
        self._view.patch.copy_csv()


class RigView(RigLayout):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "rig"
    draws_courses = True

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self.plot = RigPlot(self)
        self.report: RigReport | None = None
        self._shown_rig: Rig | None = None
        self._build()
        self._wire()

    def begin(self) -> None:
        """Show the session for the first time."""
        self._on_changed(None, self._document.session)

    def _wire(self) -> None:
        self._rest = InTurn(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REPORT_DELAY_MS)
        self._timer.timeout.connect(self._ask_report)
        self._document.changed.connect(self._on_changed)
        self.arrange.clicked.connect(self.ask_arrangement)
        self.rigs.activated.connect(lambda _i: self.choose_rig(self.rigs.currentData()))
        self.course.activated.connect(lambda _i: self._on_course())
        self.catalogue.aboutToShow.connect(self._fill_catalogue)
        self.out.clicked.connect(self.zoom_out)
        self.near.clicked.connect(self.zoom_in)
        self.fit.clicked.connect(self.zoom_fit)
        self.diagram.port_chosen.connect(self._on_port)
        self.diagram.device_chosen.connect(self._on_device)
        self.diagram.partner_asked.connect(self.panel.focus_partner)
        self.panel.port_chosen.connect(self._on_port)
        self.panel.device_chosen.connect(self._on_device)
        self.panel.plug_asked.connect(self.plug)
        self.panel.unplug_asked.connect(self.unplug)
        self.panel.setting_asked.connect(self._on_setting)
        self.panel.reamp_setting_asked.connect(self._on_reamp_setting)
        self.panel.cable_asked.connect(
            lambda cable, kind: self._change(
                "Change a cable's kind", lambda r: changes.set_cable(r, cable, kind=kind)
            )
        )
        self.panel.port_figure_asked.connect(self._on_port_figure)
        self.panel.printed_asked.connect(self._on_printed)
        self.panel.ways_asked.connect(self.ask_ways)
        self.panel.rename_asked.connect(self._on_rename_device)
        self.panel.notice_asked.connect(self._on_notice)
        self.findings.show_asked.connect(self.show_finding)
        self.findings.mend_asked.connect(self.mend)
        self.tracks.rename_asked.connect(partial(self._on_track, "name"))
        self.tracks.group_asked.connect(partial(self._on_track, "group"))
        self.tracks.move_asked.connect(
            lambda port, by: self._change("Move track", lambda r: changes.move_track(r, port, by))
        )
        self.tracks.plan_asked.connect(self.plan_tracks)
        self.tracks.play_asked.connect(self.play_rig)
        self.patch.length_asked.connect(self._on_length)
        self.patch.label_asked.connect(
            lambda cable, text: self._change(
                "Label cable", lambda r: changes.set_cable(r, cable, label=text[:80])
            )
        )
        self.patch.chosen.connect(self._on_cable)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.PaletteChange and self._shown_rig is not None:
            self._show_safety(self._shown_rig)  # links carry their colour
        super().changeEvent(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.area.viewport() and event.type() == QEvent.Type.Resize:
            self._give_room()
        return super().eventFilter(watched, event)

    def _give_room(self) -> None:
        size = self.area.viewport().size()
        self.diagram.set_room(size.width(), size.height())

    @property
    def settled(self) -> bool:
        """Whether findings and figures are those of the rig on screen."""
        return not self._timer.isActive() and self._rest.done and self.report is not None and (
            self.report.rig is self._shown_rig
        )  # fmt: skip

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.diagram.setFocus()
        self._give_room()
        self.said.emit(
            "Arrows choose a port, Enter asks what goes into it. S shows a finding, A applies its "
            "remedy."
        )

    def close_down(self) -> None:
        """The session goes."""
        self._timer.stop()
        self._rest.stop()

    def _on_changed(self, before: Session | None, after: Session) -> None:
        if not after.rigs:
            return
        rig = after.rig()
        names = [(r.name, r.id) for r in after.rigs]
        shown = [(self.rigs.itemText(i), self.rigs.itemData(i)) for i in range(self.rigs.count())]
        if names != shown:
            self.rigs.clear()
            for name, ident in names:
                self.rigs.addItem(name, ident)
        choose(self.rigs, rig.id)
        if before is not None and rig is self._shown_rig and (
            before.instruments is after.instruments
        ):  # fmt: skip
            return
        if self._shown_rig is None or rig.id != self._shown_rig.id:
            self.diagram.focus_course("")
            self.diagram.fitted = True
            self.diagram.show_report((), {})
        self._shown_rig = rig
        graph = rig_graph(after, rig)
        self.diagram.show_rig(graph)
        if not self.diagram.device and rig.devices:
            self.diagram.choose_device(rig.devices[0].id)
        self._show_panel()
        self._show_safety(rig)
        self._timer.start()

    def _show_safety(self, rig: Rig) -> None:
        """The notices of this rig, always in sight; those that were not read say so."""
        look = theme.current()
        links = []
        for one in notices(rig):
            new = "" if one.id in rig.acknowledged else " (not read yet)"
            style = f"style='color:{look.ink}'"
            links.append(f"<a {style} href='{one.id}'>{escaped(one.title)}{new}</a>")
        self.safety.setText("<b>Safety:</b> " + " \N{MIDDLE DOT} ".join(links))
        self.safety.setVisible(bool(links))

    def show_notice(self, notice_id: str) -> None:
        """A notice at one of the devices that it is about."""
        one = next((n for n in notices(self.rig) if n.id == notice_id), None)
        if one is not None and one.devices:
            self._on_device(one.devices[0])
            self.panel.pages.setCurrentIndex(2)

    def _show_panel(self) -> None:
        session = self._document.session
        graph = rig_graph(session, self.rig)
        self.panel.show_rig(
            graph, self.diagram.device, self.diagram.port, session.instruments,
            not self._document.read_only,
        )  # fmt: skip
        rect = self.diagram.chosen_rect()
        if rect is not None:
            self._scroll_to(rect)

    def _scroll_to(self, rect: QRectF) -> None:
        centre = rect.center()
        self.area.ensureVisible(
            int(centre.x()), int(centre.y()), int(rect.width() / 2) + 20, int(rect.height() / 2) + 8
        )

    def _ask_report(self) -> None:
        """The findings are worked out beside the window: the first time takes a while."""
        session, rig, store = self._document.session, self._shown_rig, self._document.store

        def work(progress: Progress, cancel: CancelToken) -> RigReport:
            return look_at(session, "", stored_of(session, store), both=True)

        def done(report: RigReport) -> None:
            if rig is self._shown_rig:
                self._show_report(report)
            else:
                self._timer.start()

        self._jobs.start(Job("rig", work, done, self.problem.emit, background=True))

    def _show_report(self, report: RigReport) -> None:
        session = self._document.session
        # The graph of the report names the rig that is shown: the same object.
        self.report = report
        writable = not self._document.read_only
        rate = float(session.sample_rate_hz)
        courses = self._courses(report)
        self.diagram.show_report(report.findings, courses)
        self.findings.show_findings(report.findings, writable)
        self._rest.begin(
            (
                partial(self.tracks.show_report, report, rate, writable),
                partial(self.patch.show_report, report, writable),
                partial(self.monitor.show_report, report),
            )
        )
        bad = worst(report.findings)
        counts: dict[str, int] = {}
        for one in report.findings:
            counts[one.severity.word] = counts.get(one.severity.word, 0) + 1
        words = ", ".join(f"{n} {word}{'s' * (n > 1)}" for word, n in counts.items())
        self.verdict.setText(words.capitalize() or "Nothing is found")
        self.verdict.setToolTip(f"Worst: {bad.word}" if bad else "No check has anything to say.")
        self.pages.setTabText(0, f"Findings {len(report.findings)} (1)")
        current = self.course.currentData() or ""
        self.course.clear()
        self.course.addItem("All courses", "")
        for name in track_names(report).values():
            self.course.addItem(name, name)
        choose(self.course, current)
        self._tell_courses()

    def _tell_courses(self) -> None:
        """The rig's tracks for the strip: tap, name, planned peak, worst finding."""
        report = self.report
        if report is None:
            return
        self._tell_strip(rows_of(track_rows(report)), self.course.currentData() or "")

    def choose_course(self, name: str) -> None:
        """Draw one course only; the same again draws all."""
        choose(self.course, "" if self.course.currentData() == name else name)
        self._on_course()

    def _courses(self, report: RigReport) -> dict[str, Course]:
        names = track_names(report)
        return {names[plan.track]: plan.course for plan in report.tracks if plan.course is not None}

    # --- choosing ---

    def _on_port(self, ref: PortRef) -> None:
        self.diagram.choose_port(ref)
        self._show_panel()

    def _on_device(self, device: str) -> None:
        self.diagram.choose_device(device)
        self._show_panel()

    def _on_cable(self, cable_id: str) -> None:
        cable = next((c for c in self.rig.cables if c.id == cable_id), None)
        if cable is not None:
            self._on_port(cable.source)

    def _on_course(self) -> None:
        self.diagram.focus_course(self.course.currentData() or "")
        self._tell_courses()

    def show_finding(self, finding: Finding) -> None:
        """The place of a finding, in the diagram and in the panel."""
        self.course.setCurrentIndex(0)
        self._on_course()
        if finding.port is not None:
            self._on_port(finding.port)
        elif finding.cable:
            self._on_cable(finding.cable)
        elif finding.device:
            self._on_device(finding.device)
        self.said.emit(f"{finding.where}: {finding.cause}")

    def _fill_catalogue(self) -> None:
        self.catalogue.clear()
        groups: dict[str, QMenu] = {}
        for one in TYPES.values():
            if one.group not in groups:
                groups[one.group] = self.catalogue.addMenu(one.group)
            groups[one.group].addAction(one.name).triggered.connect(
                partial(self.add_device, one.id)
            )
        own = self._document.session.own_types
        if own:
            menu = self.catalogue.addMenu("Own types")
            for index, device in enumerate(own):
                menu.addAction(device.name).triggered.connect(partial(self.add_own, index))

    # --- playing ---

    def play_rig(self) -> None:
        """A stored DI through the whole rig: a new take with what every input received."""
        session = self._document.session
        dis = [take for take in session.takes if take.di is not None]
        names = [*(one.name for one in dis), SIMULATED]
        name, good = QInputDialog.getItem(
            self, "Play the rig", "Which stored DI, or who plays?", names, 0, False
        )
        if good:
            index = names.index(name)
            self.play_take(dis[index].id if index < len(dis) else "")

    def play_take(self, take_id: str) -> None:
        """A stored DI of a take through the rig, as a job; "" plays the simulated player."""
        document, clock, audio = self._document, self._services.clock, self._services.rig_audio
        session, store = document.session, document.store

        def work(progress: Progress, cancel: CancelToken) -> PlayedTake:
            return play_take(
                session,
                take_id,
                store,
                clock,
                audio,
                load_impulses(session, store),
                progress,
                cancel,
            )

        def done(played: PlayedTake) -> None:
            if document.apply(played.edit, journal=True):
                self.pages.setCurrentWidget(self.tracks)
                self.said.emit(played.words)

        self._jobs.start(Job("Playing the rig", work, done, captures=True))

    # --- keys ---

    def menus(self) -> tuple[tuple[QWidget, tuple[str, ...]], ...]:
        """Of a finding, and of the device in the drawing."""
        return (
            (self.findings, ("show_finding", "mend")),
            (self.diagram, ("device", "ways", "play_rig", "remove_device")),
        )

    def show_findings_page(self) -> None:
        self._page(0, self.findings.table)

    def show_tracks_page(self) -> None:
        self._page(1, self.tracks.table)

    def show_patch_page(self) -> None:
        self._page(2, self.patch.table)

    def show_monitor_page(self) -> None:
        self._page(3, self.monitor.table)

    def _page(self, index: int, focus: QWidget) -> None:
        self.pages.setCurrentIndex(index)
        focus.setFocus()

    def show_chosen_finding(self) -> None:
        self.findings.show_chosen()

    def mend_chosen(self) -> None:
        self.findings.mend_chosen()

    def ask_arrangement(self) -> None:
        """Ask for an arrangement, each with its sentence."""
        dialog = ArrangementDialog(self)
        if dialog.exec() and dialog.chosen:
            self.add_template(dialog.chosen)

    def ask_device(self) -> None:
        self.add.showMenu()

    def zoom_in(self) -> None:
        self.diagram.zoom_by(1.2)

    def zoom_out(self) -> None:
        self.diagram.zoom_by(1.0 / 1.2)

    def zoom_fit(self) -> None:
        self.diagram.zoom_to_fit()
