"""Edits of the rig on screen: every one a step of undo."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QInputDialog,
)

from diaulos.app.asking import ask_file, ask_to_save
from diaulos.app.view import View
from diaulos.app.views.rig.diagram import RigDiagram
from diaulos.errors import DiaulosError, InputError
from diaulos.figures import counted
from diaulos.ids import free_id
from diaulos.quantities import LENGTH, parse
from diaulos.rig import changes
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.checks import Finding
from diaulos.rig.fits import joined
from diaulos.rig.model import PortRef, Rig, StateSwitch
from diaulos.rig.printed import set_printed
from diaulos.rig.states import with_switch
from diaulos.rig.templates import TEMPLATES
from diaulos.session import edits
from diaulos.work.rigs.building import arranged
from diaulos.work.rigs.types import read_type, type_text


class RigEditing(View):
    """What is done to a rig. It knows the document, and nothing of how a rig is drawn."""

    diagram: RigDiagram
    _timer: QTimer

    def _on_device(self, device: str) -> None:
        """A device is chosen."""

    # --- what is shown ---

    @property
    def rig(self) -> Rig:
        """The current rig as it is now."""
        return self._document.session.rig()

    def choose_rig(self, rig_id: str) -> None:
        """Another rig as the current one."""
        self._document.apply(edits.choose_rig(rig_id))

    # --- edits ---

    def _change(self, label: str, change: Callable[[Rig], Rig], merge: str = "") -> bool:
        return self._document.apply(edits.change_rig(self.rig.id, label, change), merge=merge)

    def plug(self, one: PortRef, other: PortRef) -> None:
        """A cable between two ports, in place of those that the first one had."""

        def change(rig: Rig) -> Rig:
            for cable in rig.cables:
                if one in (cable.source, cable.target):
                    rig = changes.unplug(rig, cable.id)
            return joined(rig, one, other)

        if self._change("Plug in a cable", change):
            self.said.emit("Plugged in. Ctrl+Z takes it out again.")

    def unplug(self, cable_id: str) -> None:
        """A cable less."""
        self._change("Unplug a cable", lambda rig: changes.unplug(rig, cable_id))

    def mend(self, finding: Finding) -> None:
        """A finding's remedy, as one step of undo."""
        if finding.mend is not None and self._change(finding.mend.label, finding.mend.change):
            self.said.emit(f"{finding.mend.label}. Ctrl+Z takes it back.")

    def _on_setting(self, device: str, setting: str, value: float | str) -> None:
        if setting == "instrument":
            self._choose_instrument(device, str(value))
            return
        self._change(
            f"Set {self.rig.device(device).setting(setting).name}",
            lambda rig: rig.with_setting(device, setting, value),
            merge=f"{device}.{setting}",
        )

    def _on_reamp_setting(self, device: str, setting: str, value: float | str) -> None:
        """What stands so in state Reamp alone: a switch that is thrown on the hardware."""
        switch = StateSwitch(device=device, setting=setting, value=value)
        name = self.rig.device(device).setting(setting).name
        if self._change(
            f"Set {name} in state Reamp",
            lambda rig: with_switch(rig, switch),
            merge=f"reamp {device}.{setting}",
        ):
            self.said.emit(f"{name}: set for state Reamp; Record stays. Ctrl+Z takes it back.")

    def _choose_instrument(self, device: str, instrument_id: str) -> None:
        """Which of the session's instruments a device stands for; it takes its name."""
        session = self._document.session
        name = session.instrument_name(instrument_id)

        def change(rig: Rig) -> Rig:
            rig = rig.with_setting(device, "instrument", instrument_id)
            return changes.rename_device(rig, device, name) if name else rig

        self._change(f"Choose {name or 'a representative instrument'}", change)

    def _on_port_figure(self, ref: PortRef, field: str, value: float | None) -> None:
        self._change(
            "Change a port's figures", lambda rig: changes.set_port(rig, ref, **{field: value})
        )

    def _on_printed(self, ref: PortRef, field: str, value: float) -> None:
        self._change(
            "Type a data sheet's figure", lambda rig: set_printed(rig, ref, **{field: value})
        )

    def _on_rename_device(self, device: str, name: str) -> None:
        self._change("Rename a device", lambda rig: changes.rename_device(rig, device, name))

    def _on_notice(self, notice: str, read: bool) -> None:
        self._change("Read a safety notice", lambda rig: changes.acknowledge(rig, notice, read))

    def _on_track(self, field: str, port: PortRef, text: str) -> None:
        text = text.strip()[:120]
        if field == "name" and not text:
            self.problem.emit(InputError("A track needs a name.", remedy="Type one."))
            self._timer.start()
            return
        self._change(
            f"Change a track's {field}", lambda rig: changes.set_track(rig, port, **{field: text})
        )

    def _on_length(self, cable: str, text: str) -> None:
        try:
            metres = parse(text, LENGTH)
        except InputError as error:
            self.problem.emit(error)
            self._timer.start()
            return
        self._change(
            "Change a cable's length", lambda rig: changes.set_cable(rig, cable, length_m=metres)
        )

    def plan_tracks(self) -> None:
        """Every plugged track planned as it is."""
        if self._change("Plan tracks as plugged", changes.plan_tracks_as_plugged):
            self.said.emit(f"{counted(len(self.rig.tracks), 'track')} planned.")

    def add_device(self, type_id: str) -> None:
        """A device of a catalogue type."""
        made: list[str] = []

        def change(rig: Rig) -> Rig:
            new, ident = changes.add_device(rig, type_id)
            made.append(ident)
            return new

        if self._change(f"Add {TYPES[type_id].name}", change):
            self._on_device(made[-1])
            self.said.emit("Choose one of its ports and what goes into it.")

    def add_own(self, index: int) -> None:
        """A device of one of the session's own types."""
        device = self._document.session.own_types[index]
        made: list[str] = []

        def change(rig: Rig) -> Rig:
            new, ident = changes.add_made(rig, device, "own")
            made.append(ident)
            return new

        if self._change(f"Add {device.name}", change):
            self._on_device(made[-1])

    def remove_device(self) -> None:
        """The chosen device and its cables."""
        device = self.diagram.device
        if device and self._change(
            "Remove a device", lambda rig: changes.remove_device(rig, device)
        ):
            self.said.emit("Removed. Ctrl+Z brings it back with its cables.")

    def duplicate_device(self) -> None:
        """The chosen device once more."""
        device = self.diagram.device
        if not device:
            return
        made: list[str] = []

        def change(rig: Rig) -> Rig:
            new, ident = changes.duplicate_device(rig, device)
            made.append(ident)
            return new

        if self._change("Duplicate a device", change):
            self._on_device(made[-1])

    def keep_type(self) -> None:
        """The chosen device as a type of the session."""
        if self.diagram.device:
            self._document.apply(edits.add_own_type(self.rig.device(self.diagram.device)))
            self.said.emit("Kept. It stands under Add a device, Own types.")

    def ask_save_type(self) -> None:
        """Ask where the chosen device's type goes."""
        if not self.diagram.device:
            return
        path = ask_to_save(
            self, "Save device type", f"{self.diagram.device}.json", "Device types (*.json)"
        )
        if path:
            self.save_type(Path(path))

    def save_type(self, path: Path) -> None:
        """The chosen device as a type file."""
        try:
            path.write_text(type_text(self.rig.device(self.diagram.device)), encoding="utf-8")
        except OSError as error:
            self.problem.emit(
                InputError(
                    f"It cannot be written ({error.strerror}).", where=str(path),
                    remedy="Choose another place.",
                )
            )  # fmt: skip
            return
        self.said.emit(f"{path.name} is written.")

    def ask_load_type(self) -> None:
        """Ask for a type file."""
        path = ask_file(self, "Device type", "Device types (*.json);;All files (*)")
        if path:
            self.load_type(Path(path))

    def load_type(self, path: Path) -> None:
        """A device from a type file into the rig, and its type into the session."""
        try:
            device = read_type(path)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        if self._document.apply(edits.add_own_type(device)):
            names = [one.name for one in self._document.session.own_types]
            self.add_own(names.index(device.name))

    # --- rigs ---

    def _free_rig_id(self) -> str:
        return free_id({rig.id for rig in self._document.session.rigs}, "rig")

    def add_template(self, template_id: str) -> None:
        """A whole arrangement as a new rig."""
        template = TEMPLATES[template_id]
        rig = arranged(self._document.session, template_id)
        if self._document.apply(edits.add_rig(rig, f"Add {template.name}")):
            self.said.emit(template.sentence)

    def rename_rig(self) -> None:
        """Ask for another name of the rig."""
        name, good = QInputDialog.getText(self, "Rename the rig", "Name", text=self.rig.name)
        name = name.strip()[:120]
        if good and name:
            self._change("Rename the rig", lambda rig: rig.model_copy(update={"name": name}))

    def duplicate_rig(self) -> None:
        """The rig once more under another name."""
        names = {r.name for r in self._document.session.rigs}
        copy = self.rig.model_copy(
            update={"id": self._free_rig_id(), "name": free_id(names, self.rig.name, between=" ")}
        )
        self._document.apply(edits.add_rig(copy, "Duplicate the rig"))

    def remove_rig(self) -> None:
        """The rig less."""
        self._document.apply(edits.remove_rig(self.rig.id))
