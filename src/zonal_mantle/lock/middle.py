"""The middle of some values, without what NumPy's median does for those that are no numbers."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def middle(values: NDArray) -> float:
    """The value with as many above as below, of one or more; of an even count the upper of the two in the middle.

    Example
    -------
    >>> middle(np.array([3.0, 1.0, 2.0, 9.0]))
    3.0
    """
    half = values.size // 2
    return float(np.partition(values.reshape(-1), half)[half])
