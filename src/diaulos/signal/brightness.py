"""How bright a strum is: its power from 2 to 6 kHz re all of it. Old strings lose it first (common
practice, no source)."""

from __future__ import annotations

import numpy as np

from diaulos.signal.checks import Audio

BAND_HZ = (2_000.0, 6_000.0)
WHOLE_HZ = (60.0, 12_000.0)
WINDOW = 4_096
HEARD_DB = 30.0
"""What lies further below the loudest window is noise, and counts for nothing."""


def brightness_db(samples: Audio, rate_hz: float) -> float | None:
    """Power between 2 and 6 kHz re that between 60 Hz and 12 kHz, of what is loud enough.

    Parameters
    ----------
    samples
        Mono, shape (frames,).
    rate_hz
        Sample rate, Hz, 16 kHz and above.

    Returns
    -------
    dB, 0 or below; None where it is silent or too short.
    """
    from scipy.signal import get_window

    count = samples.size // (WINDOW // 2) - 1
    if count < 1 or rate_hz < 16_000.0:
        return None
    rows = np.lib.stride_tricks.sliding_window_view(np.asarray(samples, np.float64), WINDOW)
    rows = rows[:: WINDOW // 2]
    power = np.abs(np.fft.rfft(rows * get_window("hann", WINDOW), axis=1)) ** 2
    hz = np.arange(power.shape[1]) * rate_hz / WINDOW
    whole = power[:, (hz >= WHOLE_HZ[0]) & (hz < WHOLE_HZ[1])].sum(axis=1)
    top = float(np.max(whole, initial=0.0))
    if top <= 0.0:
        return None
    heard = whole >= top * 10.0 ** (-HEARD_DB / 10.0)
    band = power[:, (hz >= BAND_HZ[0]) & (hz < BAND_HZ[1])].sum(axis=1)
    return float(10.0 * np.log10(max(1e-20, float(np.sum(band[heard]) / np.sum(whole[heard])))))
