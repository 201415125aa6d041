"""What a taught perceptron of two hidden layers answers. A loop of our own: always the same bits."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import kernel

Array = NDArray[np.float32]

MOST_DEVIATIONS = 6.0  # what is told is held within


def answered(described: Array, taught: Mapping[str, Array]) -> Array:
    """Log odds (h, w). described (h, w, n); taught : *mean*, *spread*, and *weights* and *offsets* 0 to 2."""
    height, width, kinds = described.shape
    x = (described.reshape(-1, kinds) - taught["mean"]) / taught["spread"]
    x = np.ascontiguousarray(np.clip(x, -MOST_DEVIATIONS, MOST_DEVIATIONS), np.float32)
    first, second, last = ((taught[f"weights{k}"], taught[f"offsets{k}"]) for k in range(3))
    out = np.empty(len(x), np.float32)
    run_bands(_through, len(x), x, first[0], first[1], second[0], second[1], last[0], last[1], out)
    return out.reshape(height, width)


@kernel
def _through(n0, n1, x, weights0, offsets0, weights1, offsets1, weights2, offsets2, out):  # type: ignore[no-untyped-def]
    """Two hidden layers, what is below 0 left out."""
    first, second = np.empty_like(offsets0), np.empty_like(offsets1)
    for n in range(n0, n1):
        first[:] = offsets0
        for k in range(x.shape[1]):
            for j in range(first.size):
                first[j] += x[n, k] * weights0[k, j]
        second[:] = offsets1
        for k in range(first.size):
            if first[k] > 0:
                for j in range(second.size):
                    second[j] += first[k] * weights1[k, j]
        total = offsets2[0]
        for k in range(second.size):
            total += max(second[k], np.float32(0)) * weights2[k, 0]
        out[n] = total
