"""Tones in and out: the ASC CDL part as .cc, .ccc or .cdl; a whole tone as CLF, or as .cube with a shaper.

References
----------
ASC Color Decision List 1.2; Academy/ASC Common LUT Format (S-2014-006); both written and read by OpenColorIO. The .cube
holds a one-dimensional table from scene-linear to the log encoding, then a cube from there to scene-linear's log.
"""

from __future__ import annotations

import logging
import math
from pathlib import Path

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from ..media.errors import MediaError
from ..media.opener import opener
from ..paths import for_library, named, placed, why_no_file, why_no_writing, why_not, write_whole, written_whole
from ..shot.keyed import Keyed
from ..shot.match import Cdl
from ..words import say
from .errors import MatchError
from .tone import (
    CURVE_HIGH,
    CURVE_LOW,
    CURVE_POINTS,
    LOG_BREAK,
    LOG_OFFSET,
    LOG_SCALE,
    LOG_SHIFT,
    LOG_SLOPE,
    REC709_LUMA,
    Stage,
    Tone,
    toned,
)
from .tone_fit import log_codes

CDL_FORMATS = {".cc": "ColorCorrection", ".ccc": "ColorCorrectionCollection", ".cdl": "ColorDecisionList"}
CUBE, SHAPER = 49, 4096
MOST_CDL_BYTES, MOST_CDL = 4 << 20, 1e4
log = logging.getLogger(__name__)


def write_cdl(path: Path, cdl: Cdl, name: str, frame: float = 0) -> str:
    """Writes a CDL as it stands on a frame. Returns what of it the file cannot hold, or nothing.

    Raises
    ------
    MatchError : another kind of file, or it cannot be written.
    """
    format_ = CDL_FORMATS.get(path.suffix.lower())
    if format_ is None:
        raise MatchError(
            say("{name} is no kind of CDL file: use {names}.", name=path.name, names=", ".join(CDL_FORMATS))
        )
    s, o, p = ([part.at(frame) for part in triple] for triple in (cdl.slope, cdl.offset, cdl.power))
    transform = ocio.CDLTransform(slope=s, offset=o, power=p, sat=cdl.saturation.at(frame))
    transform.setID(name)
    _write(path, format_, [transform])
    lost = []
    if any(part.keys for triple in (cdl.slope, cdl.offset, cdl.power, (cdl.saturation,)) for part in triple):
        lost.append(say("its keys: it is as on frame {frame:g}", frame=frame))
    if cdl.encoding != "scene-linear":
        lost.append(say("that it works in the log encoding"))
    return say("The file does not hold {names}.", names=say(" and ").join(lost)) if lost else ""


def read_cdl(path: Path) -> Cdl:
    """The first CDL of a .cc, .ccc or .cdl file, for scene-linear colour.

    Raises
    ------
    MatchError : missing, damaged, or of another kind.
    """
    why = why_no_file(path)
    if why is not None:
        raise MatchError(f"{named(path)} {why}.")
    if path.stat().st_size > MOST_CDL_BYTES:
        raise MatchError(
            say(
                "{named} is larger than a CDL can be ({most_cdl_bytes} MB). Choose another.",
                named=named(path),
                most_cdl_bytes=MOST_CDL_BYTES >> 20,
            )
        )
    try:
        opener.check(path)
    except MediaError as problem:
        raise MatchError(str(problem)) from problem
    try:
        found = ocio.CDLTransform.CreateFromFile(for_library(path), "")
        numbers = [*found.getSlope(), *found.getOffset(), *found.getPower(), found.getSat()]
    except Exception as problem:  # the library's, and what its parser lets through
        log.info("%s: %s", placed(path), problem)
        words = say("holds no ASC CDL that can be read. Have it exported again as .cc, .ccc or .cdl")
        raise MatchError(f"{named(path)} {words}.") from problem
    if not all(math.isfinite(number) and abs(number) <= MOST_CDL for number in numbers):
        raise MatchError(
            say(
                "{named} holds a number beyond ±{most_cdl:g}. Have it exported again.",
                named=named(path),
                most_cdl=MOST_CDL,
            )
        )

    def triple(values: list[float]) -> tuple[Keyed, Keyed, Keyed]:
        r, g, b = (Keyed(constant=float(value)) for value in values)
        return r, g, b

    return Cdl(
        slope=triple(found.getSlope()), offset=triple(found.getOffset()), power=triple(found.getPower()),
        saturation=Keyed(constant=float(found.getSat())),
    )  # fmt: skip


def write_tone(path: Path, tone: Tone) -> str:
    """Writes a whole tone as CLF or .cube. Returns what of it the file cannot hold, or nothing.

    Raises
    ------
    MatchError : another kind of file, or it cannot be written.
    """
    if path.suffix.lower() == ".cube":
        return _write_cube(path, tone)
    if path.suffix.lower() != ".clf":
        raise MatchError(say("{name}: a tone is written as .clf or as .cube.", name=path.name))
    sampled = any(stage.hues is not None or stage.tints is not None for stage in tone.stages)
    parts = _sampled(tone) if sampled else [part for stage in tone.stages for part in _exact(stage)]
    _write(path, "Academy/ASC Common LUT Format", parts or [ocio.MatrixTransform()])
    if sampled:
        return say(
            "What goes by hue or along lightness is sampled on {cube} steps a side: light beyond the log "
            "encoding's 0 to 1 is held there.",
            cube=CUBE,
        )
    curved = any(stage.curves is not None for stage in tone.stages)
    return (
        say(
            "Its curves are held beyond {curve_low:g} to {curve_high:g} of the log encoding.",
            curve_low=CURVE_LOW,
            curve_high=CURVE_HIGH,
        )
        if curved
        else ""
    )


def _write(path: Path, format_: str, parts: list[ocio.Transform]) -> None:
    """Writes transforms, and reads them back: the library does not say that a disk was full."""
    config = ocio.Config.CreateRaw()
    try:
        with written_whole(path) as part:
            ocio.GroupTransform(parts).write(format_, for_library(part), config)
            config.getProcessor(ocio.FileTransform(for_library(part)))
    except (ocio.Exception, OSError) as problem:
        log.info("%s: %s", placed(path), problem)
        why = why_no_writing(problem)
        raise MatchError(
            say("{placed} cannot be written: {why}. Choose another folder.", placed=placed(path), why=why)
        ) from problem


def _log(forward: bool) -> ocio.Transform:
    """Scene-linear to the log encoding, or back."""
    return ocio.LogCameraTransform(
        base=2.0, linSideBreak=[LOG_BREAK] * 3, logSideSlope=[1 / LOG_SCALE] * 3,
        logSideOffset=[LOG_SHIFT / LOG_SCALE] * 3,
        linSideSlope=[1.0] * 3, linSideOffset=[0.0] * 3, linearSlope=[LOG_SLOPE] * 3,
        direction=ocio.TRANSFORM_DIR_FORWARD if forward else ocio.TRANSFORM_DIR_INVERSE,
    )  # fmt: skip


def _matrix(numbers: tuple[float, ...]) -> ocio.Transform:
    rows = np.array(numbers).reshape(3, 4)
    four = np.eye(4)
    four[:3, :3] = rows[:, :3]
    return ocio.MatrixTransform(matrix=four.ravel().tolist(), offset=[*rows[:, 3].tolist(), 0.0])


def _exact(stage: Stage) -> list[ocio.Transform]:
    parts = [_log(True)] if stage.encoding == "log" else []
    parts.append(_matrix(stage.matrix))
    if stage.curves is not None:
        span = CURVE_HIGH - CURVE_LOW
        parts.append(_matrix(tuple((np.hstack([np.eye(3) / span, np.full((3, 1), -CURVE_LOW / span)])).ravel())))
        table = ocio.Lut1DTransform(CURVE_POINTS, False)
        table.setData(np.ascontiguousarray(np.frombuffer(stage.curves, np.float32).reshape(3, CURVE_POINTS).T).ravel())
        parts.append(table)
    elif stage.powers is not None:
        parts.append(ocio.ExponentTransform(value=[*stage.powers, 1.0], negativeStyle=ocio.NEGATIVE_CLAMP))
    if stage.saturation != 1:
        grey = np.tile(REC709_LUMA, (3, 1))
        mix = grey + stage.saturation * (np.eye(3) - grey)
        parts.append(_matrix(tuple(np.hstack([mix, np.zeros((3, 1))]).ravel())))
    return [*parts, _log(False)] if stage.encoding == "log" else parts


def _linear_cube(tone: Tone, low: float, high: float) -> NDArray[np.float32]:
    """Scene-linear out for log codes from low to high in, (CUBE, CUBE, CUBE, 3), by red, green, blue."""
    at = np.linspace(low, high, CUBE)
    codes = np.stack(np.meshgrid(at, at, at, indexing="ij"), axis=-1)
    straight = LOG_SLOPE * LOG_BREAK + LOG_OFFSET
    linear = np.where(codes > straight, 2 ** (codes * LOG_SCALE - LOG_SHIFT), (codes - LOG_OFFSET) / LOG_SLOPE)
    flat = np.ascontiguousarray(linear.reshape(CUBE * CUBE, CUBE, 3), np.float32)
    return toned(flat, tone).reshape(CUBE, CUBE, CUBE, 3)


def _sampled(tone: Tone) -> list[ocio.Transform]:
    table = ocio.Lut3DTransform(CUBE)
    table.setInterpolation(ocio.INTERP_TETRAHEDRAL)
    table.setData(log_codes(_linear_cube(tone, 0.0, 1.0)).astype(np.float32).ravel())  # blue runs fastest
    return [_log(True), table, _log(False)]


def _write_cube(path: Path, tone: Tone) -> str:
    """A shaper from scene-linear to the log encoding, and a cube from there to scene-linear. The shaper's steps are
    even in light: it ends at white, so that shadows keep theirs."""
    shaper = log_codes(np.linspace(0, 1, SHAPER)[:, None])[:, 0]
    low, high = float(shaper[0]), float(shaper[-1])
    cube = _linear_cube(tone, low, high).transpose(2, 1, 0, 3).reshape(-1, 3)  # red runs fastest
    lines = [f"LUT_1D_SIZE {SHAPER}", "LUT_1D_INPUT_RANGE 0.0 1.0", f"LUT_3D_SIZE {CUBE}"]
    lines.append(f"LUT_3D_INPUT_RANGE {low:.7g} {high:.7g}")
    lines += [f"{v:.7g} {v:.7g} {v:.7g}" for v in shaper]
    lines += [f"{r:.6g} {g:.6g} {b:.6g}" for r, g, b in cube]
    try:
        write_whole(path, "\n".join(lines) + "\n")
    except OSError as problem:
        raise MatchError(say("{named} cannot be written: {why}.", named=named(path), why=why_not(problem))) from problem
    return say("Light above 1 is held there; what lies between {cube} steps a side is interpolated.", cube=CUBE)
