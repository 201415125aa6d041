"""The table of colours by which sky and ground of a shot are told apart, and where colours lie in it.

Colours are told by CIE 1976 L*a*b* of sRGB (IEC 61966-2-1, white D65); between entries the table is straight.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_part, kernel, part
from ..media.powers import decoded_value, power_of
from .sky_fit import sampled

Array = NDArray[np.float32]

BINS = (20, 16, 16)  # of L, a and b
BIN_FROM, BIN_SPAN = (0.0, -40.0, -60.0), (100.0, 80.0, 120.0)
TO_WHITE = (  # linear sRGB to XYZ (IEC 61966-2-1), each as a share of white's, D65
    (0.4124 / 0.9505, 0.3576 / 0.9505, 0.1805 / 0.9505),
    (0.2126, 0.7152, 0.0722),
    (0.0193 / 1.0890, 0.1192 / 1.0890, 0.9505 / 1.0890),
)


def colour_ratio(pixels: Array, colours: Array) -> tuple[Array, Array]:
    """Every second pixel of every second row, coded, (h, w, 3); and the log ratio of how often its colour occurs in
    sky and in ground, (h, w)."""
    feed = sampled(pixels)
    ratio = np.empty(feed.shape[:2], np.float32)
    run_bands(_ratio_rows, len(ratio), pixels, colours, ratio)
    return feed, ratio


def places(feed: Array) -> Array:
    """Where colours lie in the table of colours."""
    out = np.empty_like(feed)
    run_bands(_place_rows, len(out), feed, out)
    return out


@kernel
def _place_rows(y0, y1, feed, out):  # type: ignore[no-untyped-def]
    places = np.empty((3, feed.shape[1]), np.float32)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            for c in range(3):
                places[c, x] = decoded_value(feed[y, x, c])
        _place_row(places)
        for x in range(out.shape[1]):
            for c in range(3):
                out[y, x, c] = places[c, x]


@fast_part
def _place_row(places):  # type: ignore[no-untyped-def]
    """Linear sRGB (3, w) becomes its place in the table, by CIE 1976 L*a*b* (IEC 61966-2-1, white D65)."""
    red, green, blue = places[0], places[1], places[2]
    zero, one = np.float32(0), np.float32(1)
    for c in range(3):
        row = places[c]
        for x in range(row.size):
            row[x] = min(row[x], one) if row[x] > zero else zero  # so is what is no number
    for x in range(red.size):
        r, g, b = red[x], green[x], blue[x]
        for c in range(3):
            part = np.float32(TO_WHITE[c][0]) * r + np.float32(TO_WHITE[c][1]) * g + np.float32(TO_WHITE[c][2]) * b
            places[c, x] = part
    for c in range(3):
        row = places[c]
        for x in range(row.size):
            root = power_of(row[x], np.float32(1 / 3))
            row[x] = root if row[x] > np.float32(0.008856) else np.float32(7.787) * row[x] + np.float32(16 / 116)
    for x in range(red.size):
        fx, fy, fz = red[x], green[x], blue[x]
        red[x] = np.float32(116) * fy - np.float32(16)
        green[x], blue[x] = np.float32(500) * (fx - fy), np.float32(200) * (fy - fz)
    for c in range(3):
        row = places[c]
        low, scale = np.float32(BIN_FROM[c]), np.float32((BINS[c] - 1) / BIN_SPAN[c])
        for x in range(row.size):
            row[x] = max(min((row[x] - low) * scale, np.float32(BINS[c] - 1.001)), np.float32(0))


@part
def entry_at(colours, u, v, w):  # type: ignore[no-untyped-def]
    """The table of colours between its entries."""
    i, j, m = np.uintp(u), np.uintp(v), np.uintp(w)
    fi, fj, fm = u - np.float32(i), v - np.float32(j), w - np.float32(m)
    one, next_ = np.float32(1), np.uintp(1)
    a, b, c, d = colours[i, j], colours[i, j + next_], colours[i + next_, j], colours[i + next_, j + next_]
    n = m + next_
    low = (a[m] * (one - fm) + a[n] * fm) * (one - fj) + (b[m] * (one - fm) + b[n] * fm) * fj
    high = (c[m] * (one - fm) + c[n] * fm) * (one - fj) + (d[m] * (one - fm) + d[n] * fm) * fj
    return low * (one - fi) + high * fi


@kernel
def _ratio_rows(y0, y1, pixels, colours, out):  # type: ignore[no-untyped-def]
    """What the colour of every second pixel says alone."""
    places = np.empty((3, out.shape[1]), np.float32)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            for c in range(3):
                places[c, x] = pixels[2 * y, 2 * x, c]
        _place_row(places)
        for x in range(out.shape[1]):
            out[y, x] = entry_at(colours, places[0, x], places[1, x], places[2, x])
