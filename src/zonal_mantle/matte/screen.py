"""The screen pull: a colour-difference matte, against a screen that may be lit unevenly; and despill.

By Smith & Blinn 1996, a pixel is C = α·F + (1 − α)·S. The amount by which the screen's channel stands above a mix of
the other two is linear in C where it is positive, and 0 for greys and for the colours of what stays; so its share of
the screen's own amount is 1 − α.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..shot.matte import ScreenPull
from ..words import say
from .errors import MatteError

Array = NDArray[np.float32]
CELLS_ACROSS = 96
LEAST_AMOUNT = 0.004
RIM_PX = 3  # plate pixels beside what is half gone


@fast_part
def _amount(r, g, b, blue, balance):  # type: ignore[no-untyped-def]
    key, p, q = (b, r, g) if blue else (g, r, b)
    larger, smaller = max(p, q), min(p, q)
    return key - (larger + (smaller - larger) * balance)


@fast_kernel
def _amount_rows(y0, y1, pixels, blue, balance, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            out[y, x] = _amount(pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2], blue, balance)


def screen(pixels: Array, pull: ScreenPull, frame: float = 0, scale: float = 1.0) -> tuple[Array, Array]:
    """Pulls a matte against a blue or green screen.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    pull : with no sampled colour the screen's is taken from where its channel stands out most.

    Returns
    -------
    (h, w) float32 alpha 0…1 of what stays, and (h, w, 3) float32 the screen behind it, scene-linear.

    Raises
    ------
    MatteError : nothing of the screen's colour is in the picture, or the sample is not of it.
    """
    height, width = pixels.shape[:2]
    blue, balance = pull.screen == "blue", np.float32(pull.balance.at(frame))
    amount = np.empty((height, width), np.float32)
    run_bands(_amount_rows, height, pixels, blue, balance, amount)
    grid = min(CELLS_ACROSS, width), max(1, min(round(CELLS_ACROSS * height / width), height))
    cells: Array = np.asarray(cv2.resize(amount, grid, interpolation=cv2.INTER_AREA))
    colours: Array = np.asarray(cv2.resize(pixels, grid, interpolation=cv2.INTER_AREA))
    if pull.colour is not None:
        sample = np.empty((1, 1), np.float32)
        _amount_rows(0, 1, np.array(pull.colour, np.float32).reshape(1, 1, 3), blue, balance, sample)
        whole = float(sample[0, 0])
    else:
        whole = float(np.percentile(cells, 98))
    if whole < LEAST_AMOUNT:
        where = say("The sample is not") if pull.colour is not None else say("Nothing in the picture is")
        raise MatteError(
            say("{where} {screen}. Drag over the screen, or choose the other screen.", where=where, screen=pull.screen)
        )
    lit = cells > 0.6 * whole
    if pull.uneven and lit.mean() > 0.02:
        behind, strength = _surface(colours, cells, lit)
    else:
        mean = np.array(pull.colour, np.float32) if pull.colour is not None else colours[lit].mean(axis=0)
        behind = np.broadcast_to(mean, colours.shape).astype(np.float32)
        strength = np.full(cells.shape, whole, np.float32)
    strength = np.asarray(cv2.resize(strength, (width, height), interpolation=cv2.INTER_LINEAR))
    behind = np.asarray(cv2.resize(behind, (width, height), interpolation=cv2.INTER_LINEAR))
    alpha = _at_the_rim(amount, np.maximum(strength, LEAST_AMOUNT), scale)
    if pull.soften_px * scale > 0.05:
        alpha = np.asarray(cv2.GaussianBlur(alpha, (0, 0), pull.soften_px * scale))
    black, white = pull.black.at(frame), pull.white.at(frame)
    return np.clip((alpha - black) / max(white - black, 1e-4), 0, 1).astype(np.float32), behind


def _at_the_rim(amount: Array, strength: Array, scale: float) -> Array:
    """The screen's share, with what stays beside a rim taken into account.

    What stays may lie below a grey (red before blue has less blue than the mean of its other two): its own amount is
    below 0, and a rim of it would count as too solid and keep the screen's colour. There the amount is measured from
    that of what is solid near by, C = α·F + (1 − α)·S solved for α with both amounts known.
    """
    alpha = 1 - amount / strength
    reach = max(1, round(RIM_PX * scale))
    window = np.ones((2 * reach + 1,) * 2, np.uint8)
    rim = cv2.dilate((alpha < 0.5).astype(np.uint8), window)
    solid = ((alpha > 0.9) & (rim == 0)).astype(np.float32)
    stack = np.dstack([np.minimum(amount, 0) * solid, solid])
    drawn = cv2.GaussianBlur(stack, (0, 0), (reach + 1) / 1.5)
    own = np.where(drawn[..., 1] > 0.01, drawn[..., 0] / np.maximum(drawn[..., 1], 1e-6), 0)
    measured = 1 - (amount - own) / (strength - own)
    return np.asarray(np.where(rim > 0, np.minimum(alpha, measured), alpha), np.float32)


def _surface(colours: Array, cells: Array, lit: NDArray[np.bool_]) -> tuple[Array, Array]:
    """The screen's colour and amount over the frame: a cubic surface fitted robustly to the cells that show it."""
    gh, gw = lit.shape
    y, x = np.mgrid[0:gh, 0:gw]
    u, v = (x.reshape(-1) + 0.5) / gw * 2 - 1, (y.reshape(-1) + 0.5) / gh * 2 - 1
    basis = np.stack([u**i * v**j for i in range(4) for j in range(4 - i)], axis=1)
    target = np.concatenate([colours.reshape(-1, 3), cells.reshape(-1, 1)], axis=1).astype(np.float64)
    weight = lit.reshape(-1).astype(np.float64)
    fitted = target
    for _ in range(6):
        weighted = basis * weight[:, None]
        square = weighted.T @ basis + 1e-6 * max(weight.sum(), 1) * np.eye(basis.shape[1])
        fitted = basis @ np.linalg.solve(square, weighted.T @ target)
        rest = np.abs(target[:, 3] - fitted[:, 3])
        typical = 1.4826 * float(np.median(rest[lit.reshape(-1)])) + 1e-5
        weight = lit.reshape(-1) * np.clip(1 - (rest / (4.685 * typical)) ** 2, 0, 1) ** 2
    fitted = fitted.reshape(gh, gw, 4).astype(np.float32)
    low, high = cells[lit].min() * 0.7, cells[lit].max() * 1.2
    return np.ascontiguousarray(fitted[..., :3]), np.clip(fitted[..., 3], low, high)


def despill(colours: NDArray, pull: ScreenPull, frame: float = 0) -> NDArray[np.float32]:
    """Holds the screen's channel to a limit from the other two and gives back a share of the lightness it takes.

    Parameters
    ----------
    colours : (…, 3), scene-linear; premultiplied or not.
    """
    out = np.array(colours, np.float32)
    if pull.despill == "off":
        return out
    key, others = (2, out[..., :2]) if pull.screen == "blue" else (1, out[..., ::2])
    larger, smaller = others.max(axis=-1), others.min(axis=-1)
    limit = {"larger": larger, "mean": (larger + smaller) / 2, "smaller": smaller}[pull.despill]
    taken = np.maximum(out[..., key] - limit, 0) * pull.despill_amount.at(frame)
    weight = (0.2126, 0.7152, 0.0722)[key]
    out[..., key] -= taken
    out += (taken * weight * pull.despill_lightness.at(frame))[..., None]
    return out
