"""The random walker (Grady 2005, with priors) over a working picture: chances that change where colour does.

Conjugate gradients (Hestenes & Stiefel 1952) over unknowns that are scaled so that the diagonal is 1, on one thread:
the same bits every time.
"""

from __future__ import annotations

import numpy as np

from ..media.compiled import fast_kernel, fast_part

MOST_TURNS, CLOSE = 240, 1e-7
LEAST_LINK = np.float32(1e-3)  # between two pixels, however different


@fast_part
def _weighed(across, down, source, image):  # type: ignore[no-untyped-def]
    """The scaled Laplacian with its pulls, of `source`; and the product of both."""
    h, w = source.shape[0] - 2, source.shape[1] - 2
    along = 0.0
    for y in range(1, h + 1):
        here, above, below, own = source[y], source[y - 1], source[y + 1], image[y]
        aside, lower, upper = across[y], down[y], down[y - 1]
        product = np.float32(0)  # added up in float32 along a row, in float64 over rows
        for x in range(1, w + 1):
            beside = aside[x] * here[x + 1] + aside[x - 1] * here[x - 1]
            own[x] = here[x] - beside - lower[x] * below[x] - upper[x] * above[x]
        for x in range(1, w + 1):
            product += own[x] * here[x]
        along += float(product)
    return along


@fast_part
def _add_row(rest, grow, way_to):  # type: ignore[no-untyped-def]
    for x in range(way_to.size):
        way_to[x] = rest[x] + grow * way_to[x]


@fast_part
def _step_row(share, way_to, image, at, rest):  # type: ignore[no-untyped-def]
    after = np.float32(0)
    for x in range(at.size):
        at[x] += share * way_to[x]
        rest[x] -= share * image[x]
    for x in range(at.size):
        after += rest[x] * rest[x]
    return after


@fast_part
def _linked(smooth, step, across, down):  # type: ignore[no-untyped-def]
    """How much each pixel is bound to the next one and to the one below it."""
    h, w = smooth.shape[:2]
    scale = np.float32(1) / (np.float32(3) * step * step)
    for y in range(h):
        below = min(y + 1, h - 1)
        for x in range(w):
            beside = min(x + 1, w - 1)
            a, b = np.float32(0), np.float32(0)
            for c in range(3):
                d = smooth[y, beside, c] - smooth[y, x, c]
                a += d * d
                d = smooth[below, x, c] - smooth[y, x, c]
                b += d * d
            across[y + 1, x + 1] = np.exp(-a * scale) + LEAST_LINK if x < w - 1 else np.float32(0)
            down[y + 1, x + 1] = np.exp(-b * scale) + LEAST_LINK if y < h - 1 else np.float32(0)


@fast_kernel
def walk(smooth, for_sky, against, step, p):  # type: ignore[no-untyped-def]
    """Solves (weights' Laplacian + pulls) p = pull to sky by conjugate gradients, from p as it stands. All float32.

    All are held with a rim of weight 0, so that no loop asks where the frame ends.
    """
    h, w = p.shape
    zeros = (h + 2, w + 2)
    across, down = np.zeros(zeros, np.float32), np.zeros(zeros, np.float32)
    root = np.ones(zeros, np.float32)  # of one over the diagonal
    at, rest = np.zeros(zeros, np.float32), np.zeros(zeros, np.float32)
    way_to, image = np.zeros(zeros, np.float32), np.zeros(zeros, np.float32)
    _linked(smooth, step, across, down)
    for y in range(1, h + 1):
        for x in range(1, w + 1):
            diagonal = for_sky[y - 1, x - 1] + against[y - 1, x - 1]
            diagonal += across[y, x] + down[y, x] + across[y, x - 1] + down[y - 1, x]
            root[y, x] = np.float32(1) / np.sqrt(diagonal)
            at[y, x] = p[y - 1, x - 1] / root[y, x]
            rest[y, x] = for_sky[y - 1, x - 1] * root[y, x]
    for y in range(1, h + 1):
        for x in range(1, w + 1):
            across[y, x] *= root[y, x] * root[y, x + 1]
            down[y, x] *= root[y, x] * root[y + 1, x]
    _weighed(across, down, at, image)
    first = 0.0
    for y in range(1, h + 1):
        first += _step_row(np.float32(1), way_to[y], image[y], at[y], rest[y])
    before, grow = first, 0.0
    for _ in range(MOST_TURNS):
        if before <= CLOSE * first or before < 1e-12:
            break
        for y in range(1, h + 1):
            _add_row(rest[y], np.float32(grow), way_to[y])
        along = _weighed(across, down, way_to, image)
        share = np.float32(before / along if along > 0 else 0.0)
        after = 0.0
        for y in range(1, h + 1):
            after += _step_row(share, way_to[y], image[y], at[y], rest[y])
        grow, before = after / before, after
    for y in range(h):
        for x in range(w):
            p[y, x] = at[y + 1, x + 1] * root[y + 1, x + 1]
