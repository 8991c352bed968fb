"""The stand-in amplifier: level-dependent drive, tone controls, power stage, noise, hum.

It stands where a real amplifier would and behaves like one in what matters here: turning
its input down changes the drive first and the loudness last. Voltages in, voltages out:
the input is the volts at the amp's input jack, the output the volts across its speaker
load. All figures are representative, from memory, and not those of any real amplifier.

Two soft-clipping stages with filters between, a tone stack and a soft-clipping power
stage run at 4 or 8 times the sample rate, so that what folds back stays below -80 dB.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.signal.lines import SteadyLines
from diaulos.signal.noise_ahead import NoiseAhead
from diaulos.signal.oversample import Array, Oversampler

Real = NDArray[np.float64]


@dataclass(frozen=True)
class Voice:
    """What makes one amplifier channel sound as it does.

    `first_gain_db` and `second_gain_db` are small-signal gains from volts to clipping
    units (1 = the soft knee) at drive 5; `drive_span_db` is what the drive control adds
    from 0 to 10. `bias` shifts the first stage and makes even harmonics.
    """

    title: str
    family: str
    first_gain_db: float
    second_gain_db: float
    drive_span_db: float
    low_cut_hz: float
    between_hz: tuple[float, float]
    bias: float
    power_gain_db: float
    output_v_peak: float
    oversampling: int
    noise_dbu: float
    hum_dbu: float
    inverts: bool = False


VOICES: dict[str, Voice] = {
    "lantern": Voice(
        title="Lantern (clean)",
        family="guitar",
        first_gain_db=-9.0,
        second_gain_db=0.0,
        drive_span_db=24.0,
        low_cut_hz=60.0,
        between_hz=(40.0, 9000.0),
        bias=0.05,
        power_gain_db=-5.0,
        output_v_peak=40.0,
        oversampling=4,
        noise_dbu=-104.0,
        hum_dbu=-112.0,
    ),
    "tideline": Voice(
        title="Tideline (edge of breakup)",
        family="guitar",
        first_gain_db=4.0,
        second_gain_db=4.0,
        drive_span_db=24.0,
        low_cut_hz=75.0,
        between_hz=(60.0, 7500.0),
        bias=0.12,
        power_gain_db=0.0,
        output_v_peak=17.0,
        oversampling=4,
        noise_dbu=-103.0,
        hum_dbu=-110.0,
        inverts=True,
    ),
    "foghorn": Voice(
        title="Foghorn (hard driven)",
        family="guitar",
        first_gain_db=14.0,
        second_gain_db=12.0,
        drive_span_db=30.0,
        low_cut_hz=110.0,
        between_hz=(90.0, 6500.0),
        bias=0.15,
        power_gain_db=2.0,
        output_v_peak=15.0,
        oversampling=8,
        noise_dbu=-102.0,
        hum_dbu=-108.0,
    ),
    "keel": Voice(
        title="Keel (bass)",
        family="bass",
        first_gain_db=-6.0,
        second_gain_db=0.0,
        drive_span_db=24.0,
        low_cut_hz=18.0,
        between_hz=(15.0, 8000.0),
        bias=0.08,
        power_gain_db=-6.0,
        output_v_peak=45.0,
        oversampling=4,
        noise_dbu=-104.0,
        hum_dbu=-111.0,
    ),
}
"""Voices by id. Drive, bass, mid and treble run from 0 to 10 with 5 as the middle."""


@dataclass(frozen=True)
class AmpSettings:
    """Positions of the controls; drive and tone from 0 to 10, master in dB of attenuation."""

    voice: str = "tideline"
    drive: float = 5.0
    bass: float = 5.0
    mid: float = 5.0
    treble: float = 5.0
    master_db: float = 0.0

    def __post_init__(self) -> None:
        if self.voice not in VOICES:
            known = ", ".join(VOICES)
            raise InputError(f"unknown amp voice {self.voice!r}.", remedy=f"Known voices: {known}.")
        for name in ("drive", "bass", "mid", "treble"):
            value = getattr(self, name)
            if not 0.0 <= value <= 10.0:
                raise InputError(f"{name} is {value:g}; it runs from 0 to 10.")

    @property
    def after_db(self) -> float:
        """Plain gain behind what is not linear."""
        return self.master_db

    def without_after(self) -> AmpSettings:
        """These, without the gain behind."""
        return replace(self, master_db=0.0)

    def played(self, volts: Real, rate_hz: float) -> Real:
        """A whole signal through it, without noise or delay."""
        amp = Amplifier(self, rate_hz)
        out, _ = amp.process(volts, amp.initial_state())
        late = round(amp.latency_samples)
        return np.concatenate([out[late:], np.zeros(late)])


@dataclass(frozen=True)
class AmpFaults:
    """What a real amplifier adds: noise and hum re the input, 0 for the ideal one."""

    noise: bool = True
    mains_hz: float = 50.0
    seed: int = 0


@dataclass
class _AmpState:
    faults: NoiseAhead | None
    """Noise and hum; none of an ideal amplifier."""
    sampler: tuple[Any, Any]
    filters: list[Real] = field(default_factory=list)


class Amplifier:
    """The amplifier as a block processor: volts at its input to volts at its speaker."""

    def __init__(
        self, settings: AmpSettings, rate_hz: float, faults: AmpFaults | None = None
    ) -> None:
        self.settings = settings
        self.voice = VOICES[settings.voice]
        self._rate_hz = rate_hz
        self._faults = faults or AmpFaults(noise=False)
        self._sampler = Oversampler(self.voice.oversampling)
        self._prepare()

    @property
    def latency_samples(self) -> float:
        """Delay of the oversampling, which a real amplifier does not have."""
        return self._sampler.latency_samples

    def _prepare(self) -> None:
        voice, settings = self.voice, self.settings
        high = self._rate_hz * voice.oversampling
        drive_db = (settings.drive - 5.0) / 10.0 * voice.drive_span_db
        # The first stage takes two thirds of the drive control, the second one third.
        self._gain1 = 10.0 ** ((voice.first_gain_db + drive_db * 2.0 / 3.0) / 20.0)
        self._gain2 = 10.0 ** ((voice.second_gain_db + drive_db / 3.0) / 20.0)
        self._gain3 = 10.0 ** (voice.power_gain_db / 20.0)
        self._out = voice.output_v_peak * 10.0 ** (settings.master_db / 20.0)
        if voice.inverts:
            self._out = -self._out
        self._rest = _soft(np.array([voice.bias]))[0]
        self._sos = [
            _high_pass(voice.low_cut_hz, high),
            _as_one(_high_pass(voice.between_hz[0], high), _low_pass(voice.between_hz[1], high)),
            np.vstack(
                [
                    _as_one(
                        _shelf(140.0, (settings.bass - 5.0) * 2.0, high, low=True),
                        _shelf(2300.0, (settings.treble - 5.0) * 2.0, high, low=False),
                    ),
                    _bell(650.0, (settings.mid - 5.0) * 1.6, 0.7, high),
                    _high_pass(12.0, high),
                ]
            ),
        ]

    def initial_state(self) -> _AmpState:
        """Silence before the first block."""
        return _AmpState(
            faults=NoiseAhead(self._made()) if self._faults.noise else None,
            sampler=self._sampler.initial_state(),
            filters=[np.zeros((sos.shape[0], 2)) for sos in self._sos],
        )

    def _made(self) -> Callable[[int], Real]:
        """Noise and hum at the input in volts, from the first sample on."""
        rng = np.random.default_rng(self._faults.seed)
        # The density is set so that 20 kHz of it gives the voice's figure.
        noise_v = 0.7746 * 10.0 ** (self.voice.noise_dbu / 20.0)
        noise_v *= np.sqrt(self._rate_hz / 2.0 / 20_000.0)
        hum_v = 0.7746 * 10.0 ** (self.voice.hum_dbu / 20.0) * np.sqrt(2.0)
        mains = self._faults.mains_hz
        parts = [(order * mains, hum_v * part, float(order)) for order, part in HUM_PARTS]
        lines, frame = SteadyLines(parts, self._rate_hz), 0

        def make(count: int) -> Real:
            nonlocal frame
            hum = lines.block(frame, count)
            frame += count
            return np.asarray(noise_v * rng.standard_normal(count) + hum)

        return make

    def process(self, block: Real, state: _AmpState) -> tuple[Real, _AmpState]:
        """One block of volts in, one block of volts out."""
        filters = list(state.filters)

        def shaper(raised: Array) -> Array:
            x, filters[0] = _filtered(self._sos[0], raised, filters[0])
            x *= self._gain1
            x += self.voice.bias
            x = _soft(x)
            x -= self._rest
            x, filters[1] = _filtered(self._sos[1], x, filters[1])
            x *= self._gain2
            x = _soft(x)
            x, filters[2] = _filtered(self._sos[2], x, filters[2])
            x *= self._gain3
            return _soft(x)

        dirty = block if state.faults is None else block + state.faults.take(block.size)
        out, sampler = self._sampler.process(dirty, state.sampler, shaper)
        out = out * self._out
        after = replace(state, sampler=sampler, filters=filters)
        return out, after


def drive_signal(
    volts: Real, settings: AmpSettings, rate_hz: float, faults: AmpFaults | None = None
) -> Real:
    """A whole signal through the amplifier, its oversampling delay taken out (to 1 sample).

    Returns volts across the speaker load, as long as the input.

    Parameters
    ----------
    volts
        Input in volts, shape (frames,), mono.
    settings
        Voice and positions of the amplifier's controls.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    faults
        Noise and hum; None for none.

    Returns
    -------
    Volts across the speaker load, shape (frames,).
    """
    amp = Amplifier(settings, rate_hz, faults)
    state = amp.initial_state()
    latency = round(amp.latency_samples)
    padded = np.concatenate([volts, np.zeros(latency)])
    out = np.empty_like(padded)
    for first in range(0, padded.size, 8192):
        block = padded[first : first + 8192]
        out[first : first + block.size], state = amp.process(block, state)
    return out[latency:]


def peak_output(settings: AmpSettings, peak_v: float) -> float:
    """Peak volts at the speaker for a peak at the input: the amplifier's curve without its
    filters. What a plan can say of a driven amplifier; sound tells the rest.

    Parameters
    ----------
    settings
        Voice and positions of the amplifier's controls.
    peak_v
        Peak at the input in volts, 0 and above.

    Returns
    -------
    Peak volts at the speaker.
    """
    voice = VOICES[settings.voice]
    drive_db = (settings.drive - 5.0) / 10.0 * voice.drive_span_db
    first = 10.0 ** ((voice.first_gain_db + drive_db * 2.0 / 3.0) / 20.0)
    second = 10.0 ** ((voice.second_gain_db + drive_db / 3.0) / 20.0)
    x = _soft(np.array([first * peak_v]))
    x = _soft(10.0 ** (voice.power_gain_db / 20.0) * _soft(second * x))
    return float(x[0] * voice.output_v_peak * 10.0 ** (settings.master_db / 20.0))


def idle_response(settings: AmpSettings, freqs_hz: Real, rate_hz: float) -> Real:
    """Gain from the input to the speaker, volts per volt, of a signal far too small to drive
    it: what noise and hum meet while nobody plays. Magnitude over frequency.

    Parameters
    ----------
    settings
        Voice and positions of the amplifier's controls.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    V/V, shape (n,).
    """
    amp = Amplifier(settings, rate_hz)
    slope = (1.0 + amp.voice.bias**2) ** -1.5  # of x / sqrt(1 + x^2) at the bias
    total = abs(amp._gain1 * slope * amp._gain2 * amp._gain3 * amp._out)
    turn = np.exp(-2j * np.pi * freqs_hz / (rate_hz * amp.voice.oversampling))
    gain = np.full(freqs_hz.shape, total)
    for sos in amp._sos:
        for b0, b1, b2, a0, a1, a2 in sos:
            above, below = b0 + b1 * turn + b2 * turn**2, a0 + a1 * turn + a2 * turn**2
            gain = gain * np.abs(above / below)
    return np.asarray(gain)


HUM_PARTS = ((1, 0.6), (2, 1.0), (3, 0.3), (4, 0.4), (6, 0.15))
"""Harmonics of the mains in an amplifier's hum, re `hum_dbu` each."""


def _soft(x: Array) -> Array:
    """x / sqrt(1 + x^2): slope 1 at rest, limits at -1 and 1, no kink anywhere."""
    y = np.square(x)
    y += 1.0
    np.sqrt(y, out=y)
    np.divide(x, y, out=y)
    return y


def _filtered(sos: Real, x: Array, state: Real) -> tuple[Array, Real]:
    """Sections of the second order in a row. A single one is the same filter without the care
    that several need, which takes half as long again."""
    from scipy.signal import lfilter, sosfilt

    if sos.shape[0] > 1:
        return sosfilt(sos, x, zi=state)  # type: ignore[no-any-return]
    out, after = lfilter(sos[0, :3], sos[0, 3:], x, zi=state[0])
    return out, after[None, :]


def _prewarp(hz: float, rate: float) -> float:
    return float(np.tan(np.pi * min(hz, 0.49 * rate) / rate))


def _high_pass(hz: float, rate: float) -> Real:
    k = _prewarp(hz, rate)
    return np.array([[1.0, -1.0, 0.0, 1.0 + k, k - 1.0, 0.0]]) / (1.0 + k)


def _low_pass(hz: float, rate: float) -> Real:
    k = _prewarp(hz, rate)
    return np.array([[k, k, 0.0, 1.0 + k, k - 1.0, 0.0]]) / (1.0 + k)


def _shelf(hz: float, gain_db: float, rate: float, *, low: bool) -> Real:
    """First-order shelf that meets 0 dB on the other side."""
    k = _prewarp(hz, rate)
    g = 10.0 ** (gain_db / 40.0)
    if low:
        b = np.array([1.0 + k * g, k * g - 1.0])
        a = np.array([1.0 + k / g, k / g - 1.0])
    else:
        b = np.array([g + k, k - g])
        a = np.array([1.0 / g + k, k - 1.0 / g])
    return np.array([[b[0] / a[0], b[1] / a[0], 0.0, 1.0, a[1] / a[0], 0.0]])


def _as_one(first: Real, second: Real) -> Real:
    """Two sections of the first order as one of the second."""
    b = np.polymul(first[0, :2], second[0, :2])
    a = np.polymul(first[0, 3:5], second[0, 3:5])
    return np.array([np.concatenate([b, a])])


def _bell(hz: float, gain_db: float, q: float, rate: float) -> Real:
    k = _prewarp(hz, rate)
    g = 10.0 ** (gain_db / 40.0)
    b = np.array([1.0 + k * g / q + k * k, 2.0 * (k * k - 1.0), 1.0 - k * g / q + k * k])
    a = np.array([1.0 + k / (g * q) + k * k, 2.0 * (k * k - 1.0), 1.0 - k / (g * q) + k * k])
    return np.array([np.concatenate([b / a[0], a / a[0]])])
