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


class PartitionedConvolver:
    """A long FIR in short blocks, without added latency, for one stream.

    The FIR is cut into parts of `part` samples, each applied by its transform to the block that
    many samples back (uniformly partitioned overlap-save; Gardner, J. Audio Eng. Soc. 43, 1995,
    from memory). Of a block that is not whole yet the newest part is worked out at once, so that
    blocks may have any size.
    """

    def __init__(self, taps: Audio, part: int = 256) -> None:
        import scipy.fft

        self._part = part
        self._length = int(taps.size)
        count = max(1, -(-taps.size // part))
        padded = np.zeros((count, 2 * part))
        padded[:, :part].flat[: taps.size] = np.asarray(taps, dtype=np.float64)
        self._filters = np.asarray(scipy.fft.rfft(padded, axis=1))
        self.reset()

    def reset(self) -> None:
        """Silence before the next sample."""
        count, bins = self._filters.shape
        self._line = np.zeros((count, bins), np.complex128)
        """Spectra of the whole blocks that came, a ring; `_newest` is the last one's place."""
        self._newest = 0
        self._frame = np.zeros(2 * self._part)
        """The last whole block, and what came of the one behind it."""
        self._filled = 0
        self._past = np.zeros(bins, np.complex128)

    def process(self, block: Audio) -> NDArray[np.float64]:
        """One block out for one block in.

        Parameters
        ----------
        block
            Samples that follow those of the last call, shape (frames,), of any number.

        Returns
        -------
        Samples, shape (frames,): what the FIR gives at those samples.
        """
        import scipy.fft

        out = np.empty(block.size)
        part, at = self._part, 0
        while at < block.size:
            count = min(part - self._filled, block.size - at)
            place = part + self._filled
            self._frame[place : place + count] = block[at : at + count]
            spectrum = scipy.fft.rfft(self._frame)
            total = scipy.fft.irfft(self._past + self._filters[0] * spectrum, 2 * part)
            out[at : at + count] = total[place : place + count]
            at += count
            self._filled += count
            if self._filled == part:
                self._take_in(np.asarray(spectrum))
        return out

    def _take_in(self, spectrum: NDArray[np.complex128]) -> None:
        """A block is whole: it moves back by one place."""
        count = self._filters.shape[0]
        self._newest = (self._newest + 1) % count
        self._line[self._newest] = spectrum
        part = self._part
        self._frame[:part] = self._frame[part:]
        self._frame[part:] = 0.0
        self._filled = 0
        if count == 1:
            return
        # Filter n goes with the block n places back; the ring is read in two runs.
        head = min(self._newest + 1, count - 1)
        past = np.einsum("pb,pb->b", self._filters[1 : head + 1],
                         self._line[self._newest - head + 1 : self._newest + 1][::-1])  # fmt: skip
        rest = count - 1 - head
        if rest:
            past += np.einsum("pb,pb->b", self._filters[head + 1 :],
                              self._line[count - rest :][::-1])  # fmt: skip
        self._past = past
