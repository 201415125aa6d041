"""A look-up table from a file, through OpenColorIO: it reads .cube and CLF, and its interpolation is ours.

References
----------
CLF: AMPAS S-2014-006, Common LUT Format. Three-dimensional tables are interpolated in tetrahedra, as CLF asks
(section 7.3 of its implementation guide); one-dimensional ones straight.
"""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.colour import SRGB, from_linear, to_linear
from ..media.compiled import fast_kernel
from ..media.errors import MediaError
from ..media.opener import opener
from ..media.powers import coded_value, decoded_value
from ..media.stamps import GONE, Stamp
from ..paths import for_library, named, placed
from ..shot.door import bytes_of
from ..shot.errors import ShotError
from ..words import say
from .errors import FinishError

Array = NDArray[np.float32]
KINDS = (".cube", ".clf", ".ctf")
NEAR_ROWS = 16  # that are carried through together
MOST_BYTES = 100 << 20  # a cube of 129 steps a side takes about 60 MB as text
_NOT_A_NUMBER = re.compile(rb"(?<![\w.])[-+]?(?:nan|inf(?:inity)?)(?![\w.])", re.IGNORECASE)


@lru_cache(maxsize=16)
def lut_processor(path: str, stamp: Stamp) -> ocio.CPUProcessor:
    """What carries a table out; kept by the file's path, time and size.

    Raises
    ------
    FinishError : the file is missing, too large, of another kind, damaged, or holds what is not a number.
    """
    file, name = Path(path), named(path)
    if stamp == GONE:
        words = say("is missing from {placed}", placed=placed(file.parent))
        raise FinishError(
            say("The LUT {name} {words}. Choose it again, or switch the LUT off.", name=name, words=words)
        )
    if file.suffix.lower() not in KINDS:
        raise FinishError(say("{name} is no LUT that can be read. Choose a .cube or a CLF (.clf) file.", name=name))
    try:
        text = bytes_of(file, MOST_BYTES)
    except ShotError as problem:
        raise FinishError(
            say("The LUT {problem} Choose it again, or switch the LUT off.", problem=problem)
        ) from problem
    found = _NOT_A_NUMBER.search(text)
    if found is not None:
        line = text.count(b"\n", 0, found.start()) + 1
        raise FinishError(
            say(
                "{name} holds {word} in line {line}, which is not a number. Have it exported again.",
                name=name,
                word=found.group().decode(),
                line=line,
            )
        )
    try:
        opener.check(file)
    except MediaError as problem:
        raise FinishError(say("The LUT {problem}", problem=problem)) from problem
    ocio.ClearAllCaches()  # it keeps files by their path alone
    transform = ocio.FileTransform(for_library(file))
    transform.setInterpolation(ocio.INTERP_TETRAHEDRAL)
    try:
        return ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor()
    except Exception as problem:
        raise FinishError(
            say(
                "{name} cannot be read as a LUT: {reason} Have it exported again.",
                name=name,
                reason=_reason(str(problem)),
            )
        ) from problem


def _reason(words: str) -> str:
    """The last sentence of what the library says, without paths."""
    found = re.findall(r"(?:Error parsing[^.]*\([^)]*\)\.\s*)?(At line[^\n]*|Incorrect[^\n]*|[A-Z][^\n]*)", words)
    last = str(found[-1]).strip() if found else words.strip()
    last = re.sub(r"\([^)]*[/\\][^)]*\)|'[^']*[/\\][^']*'", "", last)
    last = re.sub(r"\s+", " ", last).strip(" .")
    return f"{last[:160]}."


def through_lut(
    picture: Array, path: str, stamp: Stamp, encoding: str, strength: float = 1.0, out: Array | None = None
) -> Array:
    """A picture through a table.

    Parameters
    ----------
    picture : (h, w, 4) float32, scene-linear, premultiplied.
    encoding : one of `media.colour.encodings()`, that the table takes and gives. strength : 0…1, mixed in it.

    Returns
    -------
    A new picture of the same kind, or `out`, which may be the picture itself.

    Raises
    ------
    FinishError : see `lut_processor`.
    """
    processor, codes = lut_processor(path, stamp), encoding == SRGB
    done = np.empty_like(picture) if out is None else out

    def some(y0: int, y1: int) -> None:
        """A few rows at a time, so that they stay near."""
        for first in range(y0, y1, NEAR_ROWS):
            part = picture[first : min(first + NEAR_ROWS, y1)]
            mixed = done[first : first + len(part)]
            before = np.empty_like(part)
            _straight_rows(0, len(part), part, codes, before)
            before = before if codes else from_linear(before, encoding)
            after = before.copy()
            processor.applyRGBA(after)
            if codes:
                _decoded_rows(0, len(part), before, after, np.float32(strength), part, mixed)
                continue
            alpha = part[..., 3:].copy()
            mixed[:] = to_linear(before + np.float32(strength) * (after - before), encoding)
            mixed[..., :3] *= alpha
            mixed[..., 3:] = alpha

    run_bands(some, done.shape[0])
    return done


@fast_kernel
def _straight_rows(y0, y1, picture, codes, out):  # type: ignore[no-untyped-def]
    """Colours without their alpha, in codes of sRGB where asked; channels lie one after the other meanwhile."""
    width = np.uintp(picture.shape[1])
    row = np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        for x in range(width):
            share = np.float32(1) / max(picture[y, x, 3], np.float32(1e-6))
            row[x] = picture[y, x, 0] * share
            row[width + x] = picture[y, x, 1] * share
            row[np.uintp(2) * width + x] = picture[y, x, 2] * share
        if codes:
            for k in range(np.uintp(row.shape[0])):
                row[k] = coded_value(row[k])
        for x in range(width):
            out[y, x, 0], out[y, x, 1] = row[x], row[width + x]
            out[y, x, 2], out[y, x, 3] = row[np.uintp(2) * width + x], np.float32(1)


@fast_kernel
def _decoded_rows(y0, y1, before, after, strength, picture, out):  # type: ignore[no-untyped-def]
    """Mixes codes, decodes them and gives them the picture's alpha again; `out` may be the picture."""
    width = np.uintp(picture.shape[1])
    row = np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        for x in range(width):
            row[x] = before[y, x, 0] + strength * (after[y, x, 0] - before[y, x, 0])
            row[width + x] = before[y, x, 1] + strength * (after[y, x, 1] - before[y, x, 1])
            row[np.uintp(2) * width + x] = before[y, x, 2] + strength * (after[y, x, 2] - before[y, x, 2])
        for k in range(np.uintp(row.shape[0])):
            row[k] = decoded_value(row[k])
        for x in range(width):
            alpha = picture[y, x, 3]
            out[y, x, 0], out[y, x, 1] = row[x] * alpha, row[width + x] * alpha
            out[y, x, 2], out[y, x, 3] = row[np.uintp(2) * width + x] * alpha, alpha
