"""Ways into the chosen input: worked out beside the window, shown, plugged in."""

from __future__ import annotations

from diaulos.app.dialogs.ways import WaysDialog
from diaulos.app.jobs import Job
from diaulos.app.views.rig.editing import RigEditing
from diaulos.app.views.rig.panel import PortPanel
from diaulos.errors import RigError
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.ways import Way, sentence, ways_into
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import stored_of


class RigWays(RigEditing):
    """One question, answered by plans of rigs that are plugged so."""

    panel: PortPanel
    ways_dialog: WaysDialog | None = None

    def find_ways(self, source: PortRef, target: PortRef) -> None:
        """Every way of a source into an input."""
        session, store, rig = self._document.session, self._document.store, self.rig

        def work(progress: Progress, cancel: CancelToken) -> tuple[RigGraph, tuple[Way, ...]]:
            progress(0.1, "Trying every way in")
            graph = rig_graph(session, rig, stored_of(session, store))
            return graph, ways_into(graph, source, target, session.target_peak_dbfs)

        def done(found: tuple[RigGraph, tuple[Way, ...]]) -> None:
            self._show_ways(found[0], found[1], source, target)

        self._jobs.start(Job("Ways in", work, done, self.problem.emit))

    def ask_ways(self) -> None:
        """The ways of the chosen partner into the chosen input."""
        ends = self.panel.ends
        if ends is None:
            self.problem.emit(
                RigError("Choose an input that is recorded, and what is to go into it.")
            )
            return
        self.find_ways(*ends)

    def _show_ways(
        self, graph: RigGraph, ways: tuple[Way, ...], source: PortRef, target: PortRef
    ) -> None:
        if not ways:
            self.said.emit("No plug of that source fits this input, by any box.")
            return
        title = f"{graph.plug(source).words} into {graph.plug(target).words}"
        dialog = WaysDialog(
            title,
            ways,
            lambda way: sentence(way, graph, source, target),
            not self._document.read_only,
            self,
        )
        dialog.plug_asked.connect(lambda way: self._plug_way(graph.rig, way))
        self.ways_dialog = dialog
        dialog.open()

    def _plug_way(self, before: Rig, way: Way) -> None:
        """The rig as that way has it; where it changed meanwhile, nothing is done."""
        if self.rig != before:
            self.said.emit("The rig has changed since: ask again.")
            return
        if self._change("Plug in a way", lambda _rig: way.rig):
            self.said.emit(f"Plugged in: {way.words}. Ctrl+Z takes it back.")
