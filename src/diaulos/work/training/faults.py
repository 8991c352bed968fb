"""Find the fault: a rig in which one to three things are wrong on purpose, seen and heard as in
life, and told afterwards in the words of the program's own checks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.figures import level, number
from diaulos.records import dataclass
from diaulos.rig.checks import Finding, Severity
from diaulos.rig.model import Cable, CableKind, Choice, Control, PortRef, Rig, SignalClass
from diaulos.rig.states import setting_words
from diaulos.rig.templates import build
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken
from diaulos.work.rigs.audio import RigAudio
from diaulos.work.rigs.look import RigReport, look_at
from diaulos.work.rigs.rendering import player_request, render
from diaulos.work.rigs.tables import patch_rows

Real = NDArray[np.float64]
TEMPLATES = ("hybrid", "three-tones")
RIG_ID = "training"
MOST_FAULTS = 3
STRUMS = 2
Plant = Callable[[Rig], Rig | None]


@dataclass(frozen=True)
class Fault:
    """Something that goes wrong. `plant` gives None where a rig has no place for it."""

    id: str
    words: str
    plant: Plant


def _cable_into(rig: Rig, device: str, port: str) -> Cable | None:
    return next(
        (one for one in rig.cables if one.target == PortRef(device=device, port=port)), None
    )


def _line_input(rig: Rig) -> str | None:
    """Number of an input of the interface that a line output goes into."""
    devices = {one.id: one for one in rig.devices}
    for cable in rig.cables:
        if cable.target.device != "interface" or not cable.target.port.startswith("in"):
            continue
        source = devices[cable.source.device]
        if source.port(cable.source.port).signal_class is SignalClass.LINE:
            return cable.target.port.removeprefix("in")
    return None


def _microphone_mode(rig: Rig) -> Rig | None:
    number_ = _line_input(rig)
    if number_ is None:
        return None
    turned = rig.with_setting("interface", f"mode{number_}", "mic")
    gain = turned.device("interface").setting(f"gain{number_}")
    assert isinstance(gain, Control)
    return turned.with_setting("interface", gain.id, gain.nearest(max(gain.value, 20.0)))


def _too_hot(rig: Rig) -> Rig | None:
    gain = rig.device("interface").setting("gain1")
    assert isinstance(gain, Control)
    return rig.with_setting("interface", "gain1", gain.nearest(gain.value + 18.0))


def _heard_twice(rig: Rig) -> Rig | None:
    return rig.with_setting("interface", "direct", "on").with_setting(
        "computer", "monitoring", "on"
    )


def _speaker_cable(rig: Rig) -> Cable | None:
    devices = {one.id: one for one in rig.devices}
    for cable in rig.cables:
        port = devices[cable.source.device].port(cable.source.port)
        if port.signal_class is SignalClass.SPEAKER:
            return cable
    return None


def _unloaded(rig: Rig) -> Rig | None:
    cable = _speaker_cable(rig)
    if cable is None:
        return None
    return rig.model_copy(update={"cables": tuple(c for c in rig.cables if c != cable)})


def _shielded(rig: Rig) -> Rig | None:
    cable = _speaker_cable(rig)
    if cable is None:
        return None
    wrong = cable.model_copy(update={"kind": CableKind.INSTRUMENT})
    return rig.model_copy(update={"cables": tuple(wrong if c == cable else c for c in rig.cables)})


def _no_phantom(rig: Rig) -> Rig | None:
    setting = rig.device("interface").setting("phantom1")
    if not isinstance(setting, Choice) or setting.value != "on":
        return None
    return rig.with_setting("interface", "phantom1", "off")


def _swapped(rig: Rig) -> Rig | None:
    """The dry DI and the amplifier's line in each other's input."""
    first = _cable_into(rig, "interface", "in1")
    number_ = _line_input(rig)
    second = _cable_into(rig, "interface", f"in{number_}") if number_ is not None else None
    if first is None or second is None or first == second:
        return None
    turned = {
        first.id: first.model_copy(update={"target": second.target}),
        second.id: second.model_copy(update={"target": first.target}),
    }
    return rig.model_copy(update={"cables": tuple(turned.get(c.id, c) for c in rig.cables)})


def _two_rates(rig: Rig) -> Rig | None:
    setting = rig.device("computer").setting("rate")
    assert isinstance(setting, Choice)
    other = next((one for one, _ in setting.options if one != setting.value), None)
    return None if other is None else rig.with_setting("computer", "rate", other)


FAULTS: tuple[Fault, ...] = (
    Fault("microphone-mode", "A line output goes into a microphone input", _microphone_mode),
    Fault("too-hot", "The gain of the DI's input is far too high", _too_hot),
    Fault("heard-twice", "The player hears everything twice", _heard_twice),
    Fault("unloaded", "The amplifier has no load", _unloaded),
    Fault("shielded", "A shielded cable between amplifier and speaker or load", _shielded),
    Fault("no-phantom", "The active DI box gets no phantom power", _no_phantom),
    Fault("swapped", "Two cables are in each other's input", _swapped),
    Fault("two-rates", "Computer and interface run at different rates", _two_rates),
)  # fmt: skip
CLASH = {frozenset({"unloaded", "shielded"}), frozenset({"swapped", "microphone-mode"}),
         frozenset({"swapped", "too-hot"}), frozenset({"swapped", "no-phantom"})}  # fmt: skip
"""What would hide the other one."""


def sound_rig(session: Session, template: str) -> Rig:
    """A rig in which nothing is wrong, played by the first passive instrument of the session."""
    rig = build(template, RIG_ID)
    one = next((i for i in session.instruments if i.position is not None and not i.active), None)
    return rig if one is None else rig.with_setting("guitar", "instrument", one.id)


def planted(rig: Rig, ids: tuple[str, ...]) -> Rig | None:
    """A rig with these faults; None where one has no place in it."""
    known = {one.id: one for one in FAULTS}
    found: Rig | None = rig
    for ident in ids:
        found = known[ident].plant(found) if found is not None else None
    return found


@dataclass
class FaultHunt:
    """One exercise. Nothing of the session is changed: the rig is the trainer's own."""

    session: Session
    seed: int
    rig: Rig = field(init=False)
    ids: tuple[str, ...] = field(init=False)
    bare: Rig = field(init=False)

    def __post_init__(self) -> None:
        draws = np.random.default_rng(self.seed)
        while True:
            self.bare = sound_rig(self.session, TEMPLATES[int(draws.integers(len(TEMPLATES)))])
            count = int(draws.integers(1, MOST_FAULTS + 1))
            order = draws.permutation(len(FAULTS))[:count]
            ids = tuple(FAULTS[int(at)].id for at in order)
            if any(clash <= set(ids) for clash in CLASH):
                continue
            rig = planted(self.bare, ids)
            if rig is not None:
                self.rig, self.ids = rig, ids
                return

    def holding(self, rig: Rig) -> Session:
        """The session with the trainer's rig in the place of its own."""
        return self.session.model_copy(
            update={"rigs": (rig,), "current_rig": rig.id, "recording_rig": rig.id,
                    "reamp_rig": "", "takes": ()}
        )  # fmt: skip

    def report(self, rig: Rig | None = None) -> RigReport:
        """What the program finds in it: for afterwards."""
        rig = rig or self.rig
        return look_at(self.holding(rig), rig.id)

    def looks(self) -> tuple[tuple[str, tuple[tuple[str, ...], ...]], ...]:
        """What somebody sees who looks and meters: levels, cables, switches. No findings."""
        report = self.report()
        names = {track.port: track.name for track in self.rig.tracks}
        levels = []
        for plan in report.tracks:
            peak = plan.unclipped_dbfs
            told = "nothing arrives"
            if peak is not None:
                told = level(min(0.0, peak), "dBFS") + (", full" if peak >= 0.0 else "")
            levels.append((names.get(plan.track, str(plan.track)), told))
        cables = tuple(
            (row.source, row.target, row.kind, f"{row.cable.length_m:g} m")
            for row in patch_rows(report)
        )
        switches = tuple(
            (device.name, setting.name, setting_words(setting))
            for device in self.rig.devices
            for setting in device.settings
            if setting.id.rstrip("0123456789") in ("mode", "gain", "pad", "phantom", "direct",
                                                   "monitoring", "rate", "clock")
        )  # fmt: skip
        heard = tuple(
            (one.listener, way.source, f"{way.kind}, {number(way.delay_ms)} ms")
            for one in report.monitoring.listeners
            for way in one.ways
        )
        return (
            ("Peaks", tuple(levels)), ("Heard", heard), ("Cables", cables),
            ("Switches", switches),
        )  # fmt: skip

    def sounds(
        self, audio: RigAudio, cancel: CancelToken | None = None, *, mended: bool = False
    ) -> dict[str, Real]:
        """What every track records while somebody strums, by its name; as it should be where it is
        `mended`."""
        rig = self.bare if mended else self.rig
        session = self.holding(rig)
        sinks: dict[str, _Kept] = {}

        def sink_for(_track: PortRef, name: str) -> _Kept:
            sinks[name] = _Kept()
            return sinks[name]

        request = player_request(session, rig, self.seed, strums=STRUMS)
        render(request, sink_for, audio, cancel=cancel)
        return {name: one.samples() for name, one in sinks.items()}

    def told(self) -> tuple[Finding, ...]:
        """What the program's checks say of what was planted: new, and more than a note."""
        before = {one.key for one in self.report(self.bare).findings}
        return tuple(
            one for one in self.report().findings
            if one.severity >= Severity.CAUTION and one.key not in before
        )  # fmt: skip

    def answer(self, chosen: set[str]) -> str:
        """Right, missed, and not there; then what the checks say."""
        known = {one.id: one.words for one in FAULTS}
        planted_ = set(self.ids)
        lines = []
        for ident in self.ids:
            word = "Found" if ident in chosen else "Missed"
            lines.append(f"{word}: {known[ident]}.")
        lines += [f"Not there: {known[one]}." for one in sorted(chosen - planted_)]
        lines += [f"{one.where}: {one.cause} {one.remedy}" for one in self.told()[:4]]
        return "\n".join(lines)

    def right(self, chosen: set[str]) -> float:
        """Part of it that was right: found less those that are not there, not below nothing."""
        planted_ = set(self.ids)
        hits, wrong = len(chosen & planted_), len(chosen - planted_)
        return max(0.0, (hits - wrong) / len(planted_))


class _Kept:
    """A sink that keeps what it is given."""

    def __init__(self) -> None:
        self._blocks: list[Real] = []
        self.frames = self.clipped_samples = 0

    def write(self, samples: NDArray[Any]) -> None:
        """A block, (frames,) or (frames, channels)."""
        column = samples if samples.ndim == 1 else samples[:, 0]
        self._blocks.append(np.asarray(column, np.float64))
        self.frames += samples.shape[0]

    def close(self) -> None:
        """Nothing to do."""

    def abandon(self) -> None:
        """Nothing to do."""

    def samples(self) -> Real:
        """All of it."""
        return np.concatenate(self._blocks) if self._blocks else np.zeros(0)
