"""Convolution of long signals and in blocks.

Overlap-save with real transforms from scipy.fft: several pieces per call, in the
signal's own precision (float32 leaves an error near -134 dB).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.checks import Audio

_PIECES_PER_CALL = 8


def convolve_long(signal: Audio, taps: Audio) -> Audio:
    """Full linear convolution of a mono signal with a FIR.

    Returns len(signal) + len(taps) - 1 samples in the signal's precision.

    Parameters
    ----------
    signal
        Samples, shape (frames,).
    taps
        FIR, shape (taps,).

    Returns
    -------
    Samples, shape (frames + taps - 1,).
    """
    import scipy.fft

    real = np.float32 if signal.dtype == np.float32 else np.float64
    count, length = signal.size, taps.size
    total = count + length - 1
    size = scipy.fft.next_fast_len(max(32_768, 4 * length), real=True)
    hop = size - length + 1
    spectrum = scipy.fft.rfft(taps.astype(real), size)
    out = np.empty(total, dtype=real)
    pieces = -(-total // hop)
    span = hop * _PIECES_PER_CALL
    padded = np.zeros(pieces * hop + length - 1, dtype=real)
    padded[length - 1 : length - 1 + count] = signal
    windows = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop] if pieces else None
    assert windows is not None or total <= 0
    for first in range(0, total, span):
        assert windows is not None
        index = first // hop
        group = windows[index : index + _PIECES_PER_CALL]
        transformed = scipy.fft.rfft(group, axis=1, workers=2)
        transformed *= spectrum
        block = scipy.fft.irfft(transformed, size, axis=1, workers=2, overwrite_x=True)
        flat = block[:, length - 1 :].reshape(-1)
        stop = min(total, first + flat.size)
        out[first:stop] = flat[: stop - first]
    return np.asarray(out, dtype=real)


class BlockConvolver:
    """A FIR applied in blocks of any size, without added latency.

    The state is the tail that earlier blocks leave for later ones.
    """

    def __init__(self, taps: Audio) -> None:
        self._taps = np.ascontiguousarray(taps, dtype=np.float64)
        self._spectra: dict[int, NDArray[np.complex128]] = {}

    def initial_state(self) -> NDArray[np.float64]:
        """The tail before the first block: silence."""
        return np.zeros(self._taps.size - 1)

    def process(
        self, block: Audio, tail: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """One block out for one block in, and the new tail."""
        count, length = block.size, self._taps.size
        if length == 1:
            return block * self._taps[0], tail
        if length <= 32:
            full = np.convolve(block, self._taps)
        else:
            full = self._by_transform(np.asarray(block, dtype=np.float64))
        full[: length - 1] += tail
        return full[:count], full[count : count + length - 1].copy()

    def _by_transform(self, block: NDArray[np.float64]) -> NDArray[np.float64]:
        import scipy.fft

        total = block.size + self._taps.size - 1
        if block.size > 32_768:
            return np.asarray(convolve_long(block, self._taps), dtype=np.float64)
        size = scipy.fft.next_fast_len(total, real=True)
        spectrum = self._spectra.get(size)
        if spectrum is None:
            spectrum = scipy.fft.rfft(self._taps, size)
            self._spectra[size] = spectrum
        product = scipy.fft.rfft(block, size) * spectrum
        return np.asarray(scipy.fft.irfft(product, size)[:total])
