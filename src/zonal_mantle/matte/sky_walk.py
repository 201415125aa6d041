"""The random walker (Grady 2005, with priors) over a working picture: chances that change where colour does.

Conjugate gradients (Hestenes & Stiefel 1952) with the diagonal for a preconditioner, in float64 and on one thread: the
same bits every time.
"""

from __future__ import annotations

import numba
import numpy as np

from ..media.powers import FAST

MOST_TURNS, CLOSE = 240, 1e-7

fast_kernel = numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")


@fast_kernel
def _weighed(diagonal, across, down, source, image):  # type: ignore[no-untyped-def]
    """The Laplacian with its pulls, of `source`; and the product of both."""
    h, w = source.shape[0] - 2, source.shape[1] - 2
    along = 0.0
    for y in range(1, h + 1):
        here, above, below, own = source[y], source[y - 1], source[y + 1], image[y]
        aside, lower, upper, whole = across[y], down[y], down[y - 1], diagonal[y]
        for x in range(1, w + 1):
            total = whole[x] * here[x] - aside[x] * here[x + 1] - aside[x - 1] * here[x - 1]
            own[x] = total - lower[x] * below[x] - upper[x] * above[x]
        for x in range(1, w + 1):
            along += own[x] * here[x]
    return along


@fast_kernel
def _add_row(rest, diagonal, grow, way_to):  # type: ignore[no-untyped-def]
    for x in range(way_to.size):
        way_to[x] = rest[x] / diagonal[x] + grow * way_to[x]


@fast_kernel
def _step_row(share, way_to, image, diagonal, at, rest):  # type: ignore[no-untyped-def]
    after = 0.0
    for x in range(at.size):
        at[x] += share * way_to[x]
        rest[x] -= share * image[x]
    for x in range(at.size):
        after += rest[x] * rest[x] / diagonal[x]
    return after


@fast_kernel
def walk(smooth, for_sky, against, step, p):  # type: ignore[no-untyped-def]
    """Solves (weights' Laplacian + pulls) p = pull to sky by conjugate gradients, from p as it stands.

    All are held with a rim of weight 0, so that no loop asks where the frame ends.
    """
    h, w = p.shape
    across, down, diagonal = np.zeros((h + 2, w + 2)), np.zeros((h + 2, w + 2)), np.ones((h + 2, w + 2))
    at, rest = np.zeros((h + 2, w + 2)), np.zeros((h + 2, w + 2))
    way_to, image = np.zeros((h + 2, w + 2)), np.zeros((h + 2, w + 2))
    for y in range(h):
        for x in range(w):
            for way in range(2):
                v, u = y + way, x + 1 - way
                if v >= h or u >= w:
                    continue
                total = 0.0
                for c in range(3):
                    d = smooth[v, u, c] - smooth[y, x, c]
                    total += d * d
                weight = np.exp(-total / (3 * step * step)) + 1e-3
                if way == 0:
                    across[y + 1, x + 1] = weight
                else:
                    down[y + 1, x + 1] = weight
    for y in range(1, h + 1):
        for x in range(1, w + 1):
            diagonal[y, x] = for_sky[y - 1, x - 1] + against[y - 1, x - 1]
            diagonal[y, x] += across[y, x] + down[y, x] + across[y, x - 1] + down[y - 1, x]
            at[y, x] = p[y - 1, x - 1]
    _weighed(diagonal, across, down, at, image)
    first = 0.0
    for y in range(1, h + 1):
        for x in range(1, w + 1):
            rest[y, x] = for_sky[y - 1, x - 1] - image[y, x]
            first += rest[y, x] * rest[y, x] / diagonal[y, x]
    before, grow = first, 0.0
    for _ in range(MOST_TURNS):
        if before <= CLOSE * first or before < 1e-12:
            break
        for y in range(1, h + 1):
            _add_row(rest[y], diagonal[y], grow, way_to[y])
        along = _weighed(diagonal, across, down, way_to, image)
        share = before / along if along > 0 else 0.0
        after = 0.0
        for y in range(1, h + 1):
            after += _step_row(share, way_to[y], image[y], diagonal[y], at[y], rest[y])
        grow, before = after / before, after
    for y in range(h):
        for x in range(w):
            p[y, x] = at[y + 1, x + 1]
