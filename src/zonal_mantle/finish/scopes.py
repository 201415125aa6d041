"""Scopes: how the values of a picture are spread, as counts that are drawn.

References
----------
ITU-R BT.709-6: luma (item 3.2) and colour differences E'CB = (E'B − E'Y) / 1.8556, E'CR = (E'R − E'Y) / 1.5748 (item
3.3). What is measured are coded values, as they are seen.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Literal, NamedTuple, get_args

import numpy as np
from numpy.typing import NDArray

from ..match.tone import REC709_LUMA
from ..media.compiled import kernel
from ..words import say
from .errors import FinishError

Array = NDArray[np.float32]
Kind = Literal["waveform", "parade", "vectorscope", "histogram"]
KINDS: tuple[Kind, ...] = get_args(Kind)
LOW, HIGH, LEVELS = -0.1, 1.2, 260  # coded values over the height of a waveform and the width of a histogram
COLUMNS = 320
REACH, CELLS = 0.62, 248  # of the colour differences to each side, and cells across
CB, CR = 1.8556, 1.5748
_BANDS = 2
_threads = ThreadPoolExecutor(_BANDS, thread_name_prefix="scopes")


class Scope(NamedTuple):
    """Counts of pixels.

    counts : waveform (1, LEVELS, COLUMNS) of luma; parade (3, LEVELS, COLUMNS) of red, green, blue; vectorscope
    (1, CELLS, CELLS), rows E'CR from the top down, columns E'CB from left to right; histogram (4, LEVELS) of red,
    green, blue and luma. Levels go up from LOW to HIGH; what lies beyond counts at the ends. pixels : how many were
    counted.
    """

    kind: Kind
    counts: NDArray[np.int32]
    pixels: int


@kernel
def _levels_rows(y0, y1, codes, mask, masked, parade, counts):  # type: ignore[no-untyped-def]
    """Levels by column. `counts` (planes, levels, columns)."""
    width, columns = codes.shape[1], counts.shape[2]
    last = np.float32(LEVELS - 1)
    factor, low = np.float32(LEVELS / (HIGH - LOW)), np.float32(LOW)
    places = np.empty(3 * width, np.int32)
    for y in range(y0, y1):
        row = codes[y].reshape(-1)
        if parade:
            for k in range(np.uintp(3 * width)):
                place = (row[k] - low) * factor
                places[k] = np.int32(min(max(place, np.float32(0)), last))
        else:
            for x in range(np.uintp(width)):
                j = np.uintp(3) * x
                luma = np.float32(0.2126) * row[j] + np.float32(0.7152) * row[j + np.uintp(1)]
                luma += np.float32(0.0722) * row[j + np.uintp(2)]
                places[x] = np.int32(min(max((luma - low) * factor, np.float32(0)), last))
        for x in range(width):
            if masked and not mask[y, x]:
                continue
            column = x * columns // width
            if parade:
                for c in range(3):
                    counts[c, places[3 * x + c], column] += 1
            else:
                counts[0, places[x], column] += 1


@kernel
def _colour_rows(y0, y1, codes, mask, masked, counts):  # type: ignore[no-untyped-def]
    width, cells = codes.shape[1], counts.shape[1]
    factor, reach = np.float32(cells / (2 * REACH)), np.float32(REACH)
    last = np.float32(cells - 1)
    across, down = np.empty(width, np.int32), np.empty(width, np.int32)
    for y in range(y0, y1):
        row = codes[y].reshape(-1)
        for x in range(np.uintp(width)):
            k = np.uintp(3) * x
            r, g, b = row[k], row[k + np.uintp(1)], row[k + np.uintp(2)]
            luma = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
            cb, cr = (b - luma) * np.float32(1 / CB), (r - luma) * np.float32(1 / CR)
            across[x] = np.int32(min(max((cb + reach) * factor, np.float32(0)), last))
            down[x] = np.int32(min(max((reach - cr) * factor, np.float32(0)), last))
        for x in range(width):
            if not masked or mask[y, x]:
                counts[0, down[x], across[x]] += 1


@kernel
def _histogram_rows(y0, y1, codes, mask, masked, counts):  # type: ignore[no-untyped-def]
    width = codes.shape[1]
    last = np.float32(LEVELS - 1)
    factor, low = np.float32(LEVELS / (HIGH - LOW)), np.float32(LOW)
    places = np.empty(4 * width, np.int32)
    for y in range(y0, y1):
        row = codes[y].reshape(-1)
        for x in range(np.uintp(width)):
            k, j = np.uintp(3) * x, np.uintp(4) * x
            r, g, b = row[k], row[k + np.uintp(1)], row[k + np.uintp(2)]
            luma = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
            places[j] = np.int32(min(max((r - low) * factor, np.float32(0)), last))
            places[j + np.uintp(1)] = np.int32(min(max((g - low) * factor, np.float32(0)), last))
            places[j + np.uintp(2)] = np.int32(min(max((b - low) * factor, np.float32(0)), last))
            places[j + np.uintp(3)] = np.int32(min(max((luma - low) * factor, np.float32(0)), last))
        for x in range(width):
            if not masked or mask[y, x]:
                for c in range(4):
                    counts[c, places[4 * x + c]] += 1


_NO_MASK = np.ones((1, 1), np.bool_)


def scope_of(codes: Array, kind: Kind, mask: NDArray[np.bool_] | None = None) -> Scope:
    """How the coded values of a picture are spread.

    Parameters
    ----------
    codes : (h, w, 3) float32, 0…1 and beyond; what is not a number counts at an end. mask : (h, w), which pixels count.

    Raises
    ------
    FinishError : there is no such kind of scope.

    Examples
    --------
    >>> scope_of(np.full((2, 2, 3), 0.5, np.float32), "histogram").counts.sum(axis=1).tolist()
    [4, 4, 4, 4]
    """
    if kind not in KINDS:
        raise FinishError(
            say("There is no scope {kind}. Choose one of {names}.", kind=say(kind), names=", ".join(KINDS))
        )
    if codes.shape[0] == 0 or codes.shape[1] == 0:
        raise FinishError(say("The region of the scope is empty. Drag a larger one."))
    shapes = {
        "waveform": (1, LEVELS, COLUMNS), "parade": (3, LEVELS, COLUMNS), "vectorscope": (1, CELLS, CELLS),
        "histogram": (4, LEVELS),
    }  # fmt: skip
    codes = np.ascontiguousarray(np.nan_to_num(codes) if not np.isfinite(codes[0, 0]).all() else codes, np.float32)
    parts = np.zeros((_BANDS, *shapes[kind]), np.int32)
    rows = [codes.shape[0] * k // _BANDS for k in range(_BANDS + 1)]
    given = (codes, _NO_MASK if mask is None else mask, mask is not None)

    def count(k: int) -> None:
        if kind == "vectorscope":
            _colour_rows(rows[k], rows[k + 1], *given, parts[k])
        elif kind == "histogram":
            _histogram_rows(rows[k], rows[k + 1], *given, parts[k])
        else:
            _levels_rows(rows[k], rows[k + 1], *given, kind == "parade", parts[k])

    list(_threads.map(count, range(_BANDS)))
    pixels = codes.shape[0] * codes.shape[1] if mask is None else int(mask.sum())
    return Scope(kind, parts.sum(axis=0, dtype=np.int32), pixels)


def colour_difference(red: float, green: float, blue: float) -> tuple[float, float]:
    """E'CB and E'CR of coded values (ITU-R BT.709-6, item 3.3).

    Examples
    --------
    >>> [round(v, 4) for v in colour_difference(1, 0, 0)]
    [-0.1146, 0.5]
    """
    luma = REC709_LUMA[0] * red + REC709_LUMA[1] * green + REC709_LUMA[2] * blue
    return (blue - luma) / CB, (red - luma) / CR


def bar_targets(share: float = 0.75) -> dict[str, tuple[float, float]]:
    """Where the six colours of a bar signal lie on a vectorscope: its E'CB and E'CR by name."""
    colours = {
        "red": (1, 0, 0), "magenta": (1, 0, 1), "blue": (0, 0, 1),
        "cyan": (0, 1, 1), "green": (0, 1, 0), "yellow": (1, 1, 0),
    }  # fmt: skip
    return {name: colour_difference(*(share * value for value in rgb)) for name, rgb in colours.items()}
