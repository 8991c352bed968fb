"""A long filter in blocks, without latency beyond the block: what is heard live goes through it.

Uniformly partitioned overlap-save (textbook: Oppenheim and Schafer, block convolution): the
response is cut into parts as long as the block, each with its spectrum, and a line of the last
blocks' spectra is summed against them. Only numpy: it runs in the process that holds the ports.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32]


class LiveFilter:
    """One channel through one response; another block size begins anew."""

    def __init__(self, taps: NDArray[np.floating]) -> None:
        self._taps = np.asarray(taps, np.float64)
        self._block = 0

    def _begin(self, block: int) -> None:
        parts = max(1, -(-self._taps.size // block))
        padded = np.zeros(parts * block)
        padded[: self._taps.size] = self._taps
        self._spectra = np.fft.rfft(padded.reshape(parts, block), 2 * block, axis=1)
        self._line = np.zeros_like(self._spectra)
        self._before = np.zeros(block)
        self._at, self._block = 0, block

    def process(self, samples: Samples) -> Samples:
        """The next block.

        Parameters
        ----------
        samples
            Of one channel, shape (frames,).

        Returns
        -------
        As many, each with all that came before it.
        """
        block = samples.size
        if block != self._block:
            self._begin(block)
        both = np.concatenate([self._before, samples])
        self._before = both[block:]
        self._line[self._at] = np.fft.rfft(both)
        order = (self._at - np.arange(self._line.shape[0])) % self._line.shape[0]
        whole = np.einsum("pf,pf->f", self._line[order], self._spectra)
        self._at = (self._at + 1) % self._line.shape[0]
        return np.fft.irfft(whole, 2 * block)[block:].astype(np.float32)
