"""The noise hunt of the Takes view: which step follows which."""

from __future__ import annotations

from functools import partial

from diaulos.app.views.takes.hunt_ear import HuntEar
from diaulos.app.views.takes.tuning import TakesTuning
from diaulos.ids import BENCH
from diaulos.rig.model import PortRef
from diaulos.rig.strays import Stray
from diaulos.session.roles import recording_rig
from diaulos.work.hunting.causes import Cause
from diaulos.work.hunting.drills import drill_of
from diaulos.work.hunting.hunt import Hunt, family_of
from diaulos.work.hunting.listens import Listen
from diaulos.work.rigs.levels import levels_of
from diaulos.work.rigs.look import rig_graph
from diaulos.work.takes.noisecheck import unavoidable_dbfs
from diaulos.work.takes.ready import Armed


class TakesHunting(TakesTuning):
    """Listens, tells the hunt, shows what it says."""

    hunt_ear: HuntEar
    hunt: Hunt | None = None
    brought: float | None = None
    _strays: tuple[Stray, ...] = ()
    _planted: Cause | None = None
    """What is wrong in a drill."""
    _drill = 0

    def _wire_hunt(self) -> None:
        self.hunt_ear.told.connect(self.hunting.show_live)
        self.hunt_ear.heard.connect(self._on_hunt_heard)
        self.hunt_ear.ended.connect(self._on_hunt_ended)
        self.hunt_ear.failed.connect(self.problem)
        self.hunting.listen_asked.connect(self.hunt_listen)
        self.hunting.refused.connect(self.refuse_trial)
        self.hunting.undo_asked.connect(self.undo_trial)
        self.hunting.begin_asked.connect(self.begin_hunt)
        self.hunting.track_chosen.connect(lambda _port: self._watch_again())
        self.hunting.practise_asked.connect(self.practise)
        self.hunting.left.connect(self.toggle_hunt)

    def toggle_hunt(self) -> None:
        """The noise hunt over the body, or the body again."""
        if self._page is not self.hunting and (
            self.ready is None or self._jobs.refuse_if_busy()
        ):  # fmt: skip
            return
        if self._toggle(self.hunting, self.hunting.listen, "H listens, Q goes back."):
            self.hunting.show_tracks({one.port: one.name for one in self._hunted()})
            self._show_hunt()
            self._watch()
        self._say()

    def begin_hunt(self) -> None:
        """Forget what was heard."""
        self.hunt, self.brought, self._strays, self._planted = None, None, (), None
        self._show_hunt()

    def practise(self) -> None:
        """Something is wrong in the simulated studio: find it."""
        session = self._document.session
        ports = tuple(one.port for one in self._hunted())
        self._drill += 1
        found = drill_of(rig_graph(session, recording_rig(session)), self._drill, ports)
        if self._services.device() != BENCH or found is None:
            self.said.emit("There is nothing to practise on: it needs the simulated studio.")
            return
        self.begin_hunt()
        self._planted, self._strays = found
        self._show_hunt()
        self._watch_again()

    def hunt_listen(self) -> None:
        """Listen to what was done."""
        if self.under_way or self.hunt_ear.listening:
            return
        hunt = self.hunt
        if hunt is not None and (not hunt.standing or self.brought is not None):
            self.said.emit("Begin anew to listen again.")
            return
        trial = hunt.next_trial if hunt is not None and hunt.verdict is None else None
        mended = hunt.verdict if hunt is not None else None
        session = self._document.session
        ports = hunt.tracks if hunt is not None else tuple(o.port for o in self._hunted())
        if not ports:
            self.said.emit("Nothing is armed: plan tracks in Rig.")
            return
        opens = partial(
            self._services.hunt_from, session, recording_rig(session), ports, trial, mended,
            self._strays,
        )  # fmt: skip
        self.hunt_ear.listen(opens, ports, session.sample_rate_hz)
        self._say()

    def refuse_trial(self) -> None:
        """A test that cannot be done here."""
        if self.hunt is not None and self.hunt.next_trial is not None:
            self.hunt = self.hunt.without(self.hunt.next_trial)
            self._show_hunt()

    def undo_trial(self) -> None:
        """Without the last test."""
        if self.hunt is not None:
            self.hunt = self.hunt.undone()
            self._show_hunt()

    def _hunted(self) -> tuple[Armed, ...]:
        return self.ready.armed if self.ready is not None else ()

    def _watch(self) -> None:
        session = self._document.session
        ports = tuple(one.port for one in self._hunted())
        if self._page is not self.hunting or not ports or self._jobs.busy:
            return
        chosen = self.hunting.chosen_track
        shown = (chosen,) if chosen in ports else ports[:1]
        mended = self.hunt.verdict if self.hunt is not None and self.brought is not None else None
        opens = partial(
            self._services.hunt_from, session, recording_rig(session), shown, None, mended,
            self._strays,
        )  # fmt: skip
        self.hunt_ear.watch(opens, shown, session.sample_rate_hz)

    def _watch_again(self) -> None:
        """Another track, or a listen is over."""
        if self.hunt_ear.watching:
            self.hunt_ear.stop()
        else:
            self._watch()

    def _on_hunt_ended(self, cancelled: bool = False) -> None:
        if self._page is self.hunting:
            if cancelled:
                self.said.emit("It stopped listening. H listens, Q goes back.")
            else:
                self._watch()
        elif self._then_record:
            self._then_record = False
            self.record()
        self._say()

    def _on_hunt_heard(self, heard: Listen) -> None:
        hunt = self.hunt
        if hunt is None:
            self.hunt = self._begun(heard)
            worst = self.hunt.standing
            if worst:
                self.hunting.choose_track(worst[0])
        elif hunt.verdict is not None:
            self.brought = hunt.brought_db(heard)[1]
        elif hunt.next_trial is not None:
            self.hunt = hunt.after(hunt.next_trial, heard)
        self._show_hunt()
        self.hunting.show_live(heard)
        self._on_hunt_ended()

    def _begun(self, heard: Listen) -> Hunt:
        session = self._document.session
        rig = recording_rig(session)
        diagrams = {one.track: one.diagram for one in levels_of(session, rig.id)}
        floors: dict[PortRef, float] = {}
        for track in heard.spans:
            diagram = diagrams.get(track)
            if diagram is not None:
                floors[track] = unavoidable_dbfs(diagram)
        family = family_of(heard, floors) or "mains"
        return Hunt(rig_graph(session, rig), heard, family, floors)

    def _show_hunt(self) -> None:
        simulated = self._services.device() == BENCH
        self.hunting.show_hunt(self.hunt, self.brought, self._planted, simulated=simulated)
