"""Which pixels are sky at all: decided at one working size, whatever the size of the plate or of the proxy.

Four things speak for sky. *Reach*: the least sum of squared steps of colour on a way from the frame's top, the steps
of noise taken off. A step of d spread over n pixels costs d²/n, so that the soft rims of clouds cost little and the
sharp rims of things much. *Colour and texture*: how much more often they occur in what is sky than in what is not,
counted over frames of the whole shot, and learnt anew from each better guess (a classifier that trains itself, as in
Rother, Kolmogorov & Blake 2004, with tables in place of mixtures). *Place*: higher is likelier. *Sense*: what a taught
classifier (`sky_sense`) says of skies and grounds anywhere; since it is coarse, not against sky close to a sky. But of
a hue that nothing has which is surely sky, and that is none of clouds or haze (copper, brick, lawns), it is heard close
by as well, and has to be surer that it is sky.

Together they are the prior of a random walker (Grady 2005, with priors): the chance that a walk which seldom crosses
steps of colour ends in sky. It is real-valued and changes smoothly with the picture, so that it does not jump from
frame to frame, and where it is neither near 0 nor near 1 it says so by itself.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_apart, run_bands
from ..media.compiled import kernel
from ..media.curves import coded
from .dead_border import BLACK, dead_border, filled_in
from .sky_colours import BIN_FROM, BIN_SPAN, BINS, entry_at, places
from .sky_lines import without_lines
from .sky_reach import reach
from .sky_sense import cells, sensed
from .sky_walk import walk

Array = NDArray[np.float32]

WORKING_PX = 480  # the longer side of the picture that is judged
TEXTURES = 24
ROUNDS = 3  # of learning
NEAR_REACH = 0.075  # coded step from the top at which sky and ground are as likely, all in one pixel
PULL = 0.03  # of the prior against the walk of a step to the next pixel
LEAST_STEP, STEP_NOISES = 0.02, 5.0
HINTED = 40.0  # pull of a stroke, against PULL
LEAST_NOISE, LEAST_LIGHT = 0.006, 0.75  # coded; the share of a block that is not black where its noise is looked at
NOISE_ROWS = 240  # of a plate that its noise is measured on
MOST_SENSE = 6.0  # log odds of the classifier that are listened to
LEAST_SPREAD = (0.01, 0.05)  # coded: a frame of one colour tells nothing
THIN_DARK = np.float32(-4.0)  # log odds of what is thin and dark before an even sky: wires, masts, twigs, birds
WEIGHTS = (0.5, 0.25, 1.5)  # of reach, of place, and of the classifier
COARSE = 36  # working pixels: as near to a likely sky the classifier says nothing against one (leaves, gaps)
SURELY, NEARLY, LEAST_SURE = 2.0, 1.0, 0.02  # log odds by the classifier and by reach of what is surely sky; its share
NEW = 3e-4  # of what is surely sky: a hue that less of it has is new
CLOUDS = (6.0, 12.0)  # of a* and b*: what lies as near to the way from the sky's hue to grey may be cloud or haze
FINER, DOUBTED = 4, 4.0  # of new hues: working pixels instead of COARSE, and log odds more that are wanted
UNDECIDED = 1.5  # log odds of a colour; where it is less likely sky, that is heard


@dataclass(frozen=True)
class SkyModel:
    """How sky and ground of a shot differ: log ratios of how often colours (L, a, b) and textures occur in them; how
    new a hue (a, b) is to what is surely sky, 0…1; the noise of its plate, coded, 0 where it was not measured; and
    whether a person has shown sky in it."""

    colours: Array
    textures: Array
    new: Array
    noise: float = 0.0
    shown: bool = False


@dataclass(frozen=True)
class Said:
    """What a person has said of a place on a frame: a path in plate pixels, or the outline of what is filled."""

    is_sky: bool
    points: tuple[tuple[float, float], ...]
    width_px: float
    filled: bool


@dataclass
class _Look:
    """A frame at the working size, as all steps need it."""

    smooth: Array
    noise: float
    prior: Array
    sense: Array  # log odds by the classifier
    sure: Array  # 1 where it is surely sky, by the classifier and by reach; else 0
    against: Array  # what it says against sky close to a sky, of new hues that do not tell; 0 or less
    places: Array  # (h, w, 3) in the table of colours
    textures: Array  # (h, w) in that of textures
    said: Array | None
    dead: NDArray[np.bool_] | None  # where the frame shows nothing


def drawn(said: Sequence[Said], plate: tuple[int, int]) -> Array | None:
    """What was said of a frame of a plate's size, at the working size: 1 sky, -1 not, what was said last on top.
    (h, w) float32; None where nothing was."""
    if not said:
        return None
    width, height = working_size(*plate)
    out = np.zeros((height, width), np.float32)
    scale = np.array([width / plate[0], height / plate[1]])
    for each in said:
        places = np.round((np.array(each.points) * scale - 0.5) * 16).astype(np.int32)
        value = 1.0 if each.is_sky else -1.0
        if each.filled:
            cv2.fillPoly(out, [places], value, shift=4)
        else:
            thick = max(1, round(each.width_px * float(scale[0])))
            cv2.polylines(out, [np.concatenate([places, places[-1:]])], False, value, thick, shift=4)
    return out


def working_size(width: int, height: int) -> tuple[int, int]:
    """Width and height of the picture that is judged, for a plate of any size."""
    share = WORKING_PX / max(width, height)
    return max(round(width * share), 8), max(round(height * share), 8)


def working(pixels: Array) -> Array:
    """The picture that is judged: coded, the mean over the pixels it stands for. pixels (h, w, 3) scene-linear."""
    size = working_size(pixels.shape[1], pixels.shape[0])
    seen = coded(np.ascontiguousarray(pixels, np.float32))  # finite, whatever the pixels are
    shrinks = size[0] <= pixels.shape[1]
    return np.asarray(cv2.resize(seen, size, interpolation=cv2.INTER_AREA if shrinks else cv2.INTER_LINEAR), np.float32)


def learn_sky(pictures: Sequence[Array], said: Sequence[Array | None] = ()) -> SkyModel:
    """What sky and ground of a shot look like.

    Parameters
    ----------
    pictures : working pictures of a few frames, spread over the shot, each (h, w, 3) float32.
    said : what was said of each of them, see `drawn`; nothing by default.
    """
    looks = [_look(picture, each) for picture, each in zip(pictures, said or [None] * len(pictures))]
    shares, new = [_sigmoid(look.prior) for look in looks], _new_to(looks)
    for round_number in range(ROUNDS):
        model = _counted(looks, shares, new)
        if round_number < ROUNDS - 1:
            shares = [_walked(look, model) for look in looks]
    return replace(model, shown=any(each is not None and bool((each > 0).any()) for each in said))


def sky_region(picture: Array, model: SkyModel, said: Array | None = None) -> tuple[Array, Array]:
    """The chance of each pixel of a working picture to be sky, 0…1, (h, w) float32; and that by the taught classifier
    alone."""
    look = _look(picture, said)
    return _walked(look, model), _sigmoid(look.sense)


def sharpened(chance: Array) -> Array:
    """Nearer to a decision: what is more likely sky than not is all but sky. (h, w) float32."""
    p, q = chance**3, (1 - chance) ** 3
    return np.asarray(p / np.maximum(p + q, 1e-12), np.float32)


def noise_of(picture: Array) -> float:
    """Standard deviation of a working picture's noise, coded, judged by its quietest blocks (second differences)."""
    rough = np.abs(picture[:, :-2] - 2 * picture[:, 1:-1] + picture[:, 2:]) / np.float32(np.sqrt(6))
    size = 16
    height, width = rough.shape[0] // size * size, rough.shape[1] // size * size
    if min(height, width) == 0:
        return max(float(np.median(rough)) * 1.4826, LEAST_NOISE)
    rows, half = (height // size, size, width // size, size, 3), size * size * 3 // 2
    red, green, blue = (picture[:height, 1 : width + 1, c] for c in range(3))
    blocks = rough[:height, :width].reshape(rows).transpose(0, 2, 1, 3, 4).reshape(-1, 2 * half)
    shows = (np.maximum(np.maximum(red, green), blue) > BLACK).reshape(rows[:4])
    light = shows.mean(axis=(1, 3)).ravel() > LEAST_LIGHT
    ordered = np.sort(blocks[light] if light.any() else blocks, axis=1)  # what is black has no noise
    middle = ordered[:, half - 1 : half + 1].mean(axis=1)
    return max(float(np.percentile(middle, 15)) * 1.4826, LEAST_NOISE)


def plate_noise(pixels: Array) -> float:
    """Standard deviation of a plate's noise, coded, see `noise_of`. pixels (h, w, 3) scene-linear."""
    rows = np.ascontiguousarray(pixels[:: max(1, pixels.shape[0] // NOISE_ROWS)], np.float32)
    return noise_of(np.nan_to_num(coded(rows), nan=0.0, posinf=16.0, neginf=0.0))


def _look(picture: Array, said: Array | None) -> _Look:
    noise, dead = noise_of(picture), dead_border(picture)
    if dead is not None:
        picture = filled_in(picture, dead)
    bare, dark = without_lines(picture, noise)
    way = run_apart(_way_from_top, bare, noise, said)
    smooth = _smoothed(picture, noise)
    level = np.asarray(smooth @ np.array((0.2126, 0.7152, 0.0722), np.float32))
    fine = level - cv2.GaussianBlur(level, (0, 0), 1.0)
    texture = np.sqrt(np.maximum(cv2.GaussianBlur(fine * fine, (0, 0), 2.5) - np.float32((0.3 * noise) ** 2), 0))
    step = np.clip(np.log((texture + 0.002) / 0.002) / 4 * (TEXTURES - 1), 0, TEXTURES - 1.001)
    height = np.linspace(1, -1, picture.shape[0], dtype=np.float32)[:, None]
    size = picture.shape[1], picture.shape[0]
    sense = cv2.resize(sensed(cells(bare, noise)), size, interpolation=cv2.INTER_LINEAR)
    low, high = np.percentile(np.sort(smooth[::2, ::2], axis=None), (1, 99))
    told = np.clip((high - low - LEAST_SPREAD[0]) / (LEAST_SPREAD[1] - LEAST_SPREAD[0]), 0, 1)
    sense = np.clip(sense, -MOST_SENSE, MOST_SENSE) * np.float32(told)
    by_reach, by_place, by_sense = (np.float32(each) for each in WEIGHTS)
    coarse, finer = (cv2.dilate(sense, np.ones((2 * n + 1,) * 2, np.uint8)) for n in (COARSE, FINER))
    coarse, finer = np.minimum(coarse, 0), np.minimum(finer - np.float32(DOUBTED), 0)
    heard = coarse + np.maximum(sense, 0)
    far = np.clip(-1.6 * np.log((np.sqrt(way()) + 0.004) / NEAR_REACH), -4, 4)
    prior = by_reach * far + by_place * height + by_sense * heard
    if dead is not None:
        sense[dead] = -MOST_SENSE
    both = ((sense > SURELY) & (far > NEARLY)).astype(np.float32)
    sure = np.asarray(cv2.erode(both, np.ones((2 * FINER + 1,) * 2, np.uint8)), np.float32)
    return _Look(
        smooth,
        noise,
        np.asarray(prior * (1 - dark) + THIN_DARK * dark, np.float32),
        sense,
        sure,
        np.asarray(0.5 * by_sense * np.minimum(finer - coarse, 0) * (1 - dark), np.float32),
        places(smooth),
        step.astype(np.float32),
        said,
        dead,
    )


def _way_from_top(picture: Array, noise: float, said: Array | None) -> Array:
    """What colour changes by on the easiest way from the top, noise apart; see `sky_reach.reach`."""
    return reach(_smoothed(picture, noise), np.float32(2 * (0.7 * noise) ** 2), said)


def _smoothed(picture: Array, noise: float) -> Array:
    return np.ascontiguousarray(cv2.bilateralFilter(picture, 5, max(4 * noise, 0.03), 1.5), np.float32)


def _new_to(looks: Sequence[_Look]) -> Array:
    """How new each hue of the table, (a, b), is to what is surely sky by the classifier, where it is neither cloud nor
    haze either; nothing is where little is sure."""
    seen, kinds = np.zeros((2, *BINS)), np.zeros((2, TEXTURES))
    for look in looks:
        _count(look.places, look.textures, look.sure, np.ones_like(look.sure), seen, kinds)
    if seen[0].sum() < LEAST_SURE * seen.sum():
        return np.zeros(BINS[1:], np.float32)
    share = seen[0].sum(axis=0) / seen[0].sum()
    hues = [low + span * np.arange(count) / (count - 1) for low, span, count in zip(BIN_FROM, BIN_SPAN, BINS)][1:]
    hue = np.stack(np.meshgrid(*hues, indexing="ij"), axis=-1)
    mean = (share[..., None] * hue).sum(axis=(0, 1))
    along = np.clip(hue @ mean / max(float(mean @ mean), 1e-6), 0, 1)
    off = np.linalg.norm(hue - along[..., None] * mean, axis=-1)
    for axis in (0, 1):
        share = _blurred(share, axis)
    clear = np.clip((off - CLOUDS[0]) / (CLOUDS[1] - CLOUDS[0]), 0, 1)
    return np.asarray(np.clip(1 - share / NEW, 0, 1) * clear, np.float32)


def _counted(looks: Sequence[_Look], shares: Sequence[Array], new: Array) -> SkyModel:
    """Log ratios of colours and textures, counted with each pixel's share of sky."""
    colours = np.zeros((2, *BINS), np.float64)
    textures = np.zeros((2, TEXTURES), np.float64)
    for look, share in zip(looks, shares):
        weight = np.ones_like(share) if look.dead is None else (~look.dead).astype(np.float32)
        if look.said is not None:
            share = np.where(look.said > 0, 1, np.where(look.said < 0, 0, share)).astype(np.float32)
            weight = np.where(look.said != 0, np.float32(8), weight)  # what a person says teaches more
        _count(look.places, look.textures, share, weight, colours, textures)
    for axis in (1, 2, 3):
        colours = _blurred(colours, axis)
    textures = _blurred(textures + 1, 1)
    colours = colours / np.maximum(colours.sum(axis=(1, 2, 3), keepdims=True), 1e-9) + 4e-5
    textures = textures / textures.sum(axis=1, keepdims=True)
    return SkyModel(
        np.clip(np.log(colours[0] / colours[1]), -4, 4).astype(np.float32),
        np.clip(np.log(textures[0] / textures[1]), -2, 2).astype(np.float32),
        new,
    )


def _blurred(table: NDArray[np.float64], axis: int) -> NDArray[np.float64]:
    """Each entry with a quarter of each of its neighbours, the ends repeated."""
    last = table.shape[axis] - 1
    before = np.take(table, np.maximum(np.arange(last + 1) - 1, 0), axis)
    after = np.take(table, np.minimum(np.arange(last + 1) + 1, last), axis)
    return np.asarray(0.5 * table + 0.25 * (before + after))


@kernel
def _count(places, textures, share, weight, colours, kinds):  # type: ignore[no-untyped-def]
    for y in range(share.shape[0]):
        for x in range(share.shape[1]):
            k = int(textures[y, x])
            kinds[0, k] += share[y, x] * weight[y, x]
            kinds[1, k] += (1 - share[y, x]) * weight[y, x]
            i, j, m = int(places[y, x, 0]), int(places[y, x, 1]), int(places[y, x, 2])
            fi, fj, fm = places[y, x, 0] - i, places[y, x, 1] - j, places[y, x, 2] - m
            for corner in range(8):
                di, dj, dm = corner & 1, (corner >> 1) & 1, corner >> 2
                part = (fi if di else 1 - fi) * (fj if dj else 1 - fj) * (fm if dm else 1 - fm) * weight[y, x]
                colours[0, i + di, j + dj, m + dm] += part * share[y, x]
                colours[1, i + di, j + dj, m + dm] += part * (1 - share[y, x])


@kernel
def _log_ratio(y0, y1, places, textures, colours, kinds, new, prior, against, out):  # type: ignore[no-untyped-def]
    """What reach, place, colour and texture say together; and what speaks `against` sky of new hues that do not
    tell."""
    half = np.float32(0.5)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            total = entry_at(colours, places[y, x, 0], places[y, x, 1], places[y, x, 2])
            k = int(textures[y, x])
            f = textures[y, x] - np.float32(k)
            kind = kinds[k] * (np.float32(1) - f) + kinds[min(k + 1, TEXTURES - 1)] * f
            out[y, x] = half * prior[y, x] + total + half * kind
            if against[y, x] < 0 and total < UNDECIDED:
                untold = min(np.float32(1) - total / np.float32(UNDECIDED), np.float32(1))
                out[y, x] += against[y, x] * untold * new[int(places[y, x, 1] + half), int(places[y, x, 2] + half)]


def _sigmoid(value: Array) -> Array:
    return np.asarray(1 / (1 + np.exp(-np.clip(value, -30, 30))), np.float32)


def _walked(look: _Look, model: SkyModel) -> Array:
    """The random walker over a frame."""
    said = np.empty(look.prior.shape, np.float32)
    told = look.places, look.textures, model.colours, model.textures, model.new, look.prior, look.against
    run_bands(_log_ratio, len(said), *told, said)
    chance = _sigmoid(said)
    pull = np.float32(PULL) * np.abs(2 * chance - 1)
    for_sky, against = pull * chance, pull * (1 - chance) + np.float32(1e-7)
    if look.said is not None:
        for_sky = np.where(look.said > 0, np.float32(HINTED), np.where(look.said < 0, np.float32(0), for_sky))
        against = np.where(look.said < 0, np.float32(HINTED), np.where(look.said > 0, np.float32(0), against))
    step = np.float32(max(STEP_NOISES * look.noise, LEAST_STEP))
    walk(look.smooth, for_sky, against, step, chance)
    if look.dead is not None:  # it is not there to go, unless somebody says so
        chance[look.dead if look.said is None else look.dead & (look.said <= 0)] = 0
    return np.asarray(np.clip(chance, 0, 1), np.float32)
