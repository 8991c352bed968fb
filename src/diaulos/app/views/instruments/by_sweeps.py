"""What sweeps tell of an instrument: its pickup, and its cable, an input, an output."""

from __future__ import annotations

from typing import TYPE_CHECKING

from diaulos.app.views.instruments.tone_work import ToneWork
from diaulos.circuit.loading import Load
from diaulos.ids import BENCH
from diaulos.session.instrument import Instrument
from diaulos.work.ports import AudioBackend

if TYPE_CHECKING:
    from diaulos.app.dialogs.sweep_line import Bench

MOST_CHANNELS = 64


class BySweeps(ToneWork):
    """The part of the view that measures by sweeps."""

    def _bench(self) -> Bench:
        """Where sweeps go."""
        from diaulos.app.dialogs.sweep_line import Bench

        device = self._services.device()
        rate = self._document.session.sample_rate_hz
        if device == BENCH:
            return Bench(rate, True, "Simulated studio")
        return Bench(rate, False, device, MOST_CHANNELS, MOST_CHANNELS)

    def ask_identify(self) -> None:
        """Find by sweeps what the chosen position's pickup is made of."""
        from diaulos.app.dialogs.identify import IdentifyDialog

        instrument, services, bench = self.instrument, self._services, self._bench()
        if instrument is None or instrument.position is None:
            return
        if len(instrument.position.pickups) != 1 or instrument.active:
            self.said.emit(
                "Choose a selector position with one magnetic pickup: only such a one can be "
                "identified."
            )
            return

        def backend(one: Instrument, load: Load, out: int, back: int) -> AudioBackend:
            if bench.simulated:
                return services.coil(one, load)
            return services.sweep_on(bench.name, out, back, services.block())

        def plucks(one: Instrument, load: Load, at: int, back: int) -> AudioBackend:
            if bench.simulated:
                return services.plucks(one, load, bench.rate_hz, at + 1)
            return services.sweep_on(bench.name, 1, back, services.block())

        dialog = IdentifyDialog(instrument, bench, backend, plucks, self._jobs, self)
        if dialog.exec() and dialog.edit is not None:
            self._document.apply(dialog.edit)
            self.said.emit(f"{instrument.name}: measured values taken over. Ctrl+Z undoes it.")

    def ask_by_resistor(self) -> None:
        """Measure a cable, an input or an output by a known resistor."""
        from diaulos.app.dialogs.known_resistor import KnownResistorDialog

        instrument, services, bench = self.instrument, self._services, self._bench()
        if instrument is None:
            return

        def backend(
            what: str, ohm: float, inside: bool, one: Instrument, out: int, back: int
        ) -> AudioBackend:
            if bench.simulated:
                return services.divider(what, ohm, inside, one)
            return services.sweep_on(bench.name, out, back, services.block())

        dialog = KnownResistorDialog(instrument, bench, backend, self._jobs, self)
        if dialog.exec() and dialog.edit is not None:
            self._document.apply(dialog.edit)
            self.said.emit(f"{instrument.name}: the measured cable is taken over.")
