"""The one door for pixels: plates, paintings and mattes, read or made once and kept within bounds."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from typing import TypeVar
from weakref import WeakValueDictionary

import cv2
import numpy as np
from numpy.typing import NDArray

from ..matte import Made, MatteError, SkyCut, SkyFound, Surroundings, build_matte, feed_of, find_sky, sky_matte
from ..matte.over_time import averaged_codes, share_of
from ..matte.sky_region import SkyModel, drawn, learn_sky, noise_of, plate_noise, working
from ..media.errors import MediaError
from ..media.inbetween import blended, flowed
from ..media.memory import ByteCache, budget, is_large, one_at_a_time
from ..media.picture import Picture, picture_of
from ..media.reader import read_picture
from ..place.minify import shrunk
from ..place.rim import calm_rim
from ..place.warp import lowest_of, warp, with_alpha
from ..shot import ClearSkyPull, Matte, Shot, Source, Zone
from .matte_planner import matte_plan, proxy_size
from .plan import Between, MattePlan, SkyPlan, SkyStudy

Array = NDArray[np.float32]
S = TypeVar("S")
T = TypeVar("T")
FRAMES_SHARE, CUTS_SHARE, PAINTINGS_SHARE = 0.32, 0.05, 0.27  # of the budget; the rest is the screen's and the shapes'
SMALL_THINGS = 4096
MODELS, READINGS_KNOWN = 16, 20_000  # that one process keeps
LEAST_GONE = 0.001  # alpha; of less the colour cannot be told


_known: dict[int, OrderedDict[object, object]] = {}
_learning: WeakValueDictionary[str, threading.Lock] = WeakValueDictionary()
_known_guard = threading.Lock()


def known(key: object, make: Callable[[], T], most: int) -> T:
    """A small thing that depends on its key alone (a digest, with times and sizes of files), whoever asks: worked out
    once in this process. The `most` newest are kept."""
    with _known_guard:
        shelf = _known.setdefault(most, OrderedDict())
        if key in shelf:
            shelf.move_to_end(key)
            found: T = shelf[key]  # type: ignore[assignment]
            return found
    value = make()
    with _known_guard:
        shelf[key] = value
        while len(shelf) > most:
            shelf.popitem(last=False)
    return value


def is_learnt(study: SkyStudy) -> bool:
    """Whether this process knows what a study teaches."""
    with _known_guard:
        return ("sky", study.digest) in _known.get(MODELS, {})


class Pictures:
    """Keeps what frames are made of. Everything is known by what its pixels depend on (`Picture`, `MattePlan`), never
    by a source's name or by what is drawn on it. `limit_bytes` bounds plates and mattes, `painting_bytes` paintings;
    by default both are shares of the machine's one budget.
    """

    def __init__(self, limit_bytes: int | None = None, painting_bytes: int | None = None) -> None:
        bound = limit_bytes or budget(FRAMES_SHARE + CUTS_SHARE)
        self._cuts = ByteCache(int(bound * CUTS_SHARE / (FRAMES_SHARE + CUTS_SHARE)))
        self._frames = ByteCache(bound - self._cuts.limit)
        self._paintings = ByteCache(painting_bytes or budget(PAINTINGS_SHARE))
        self._small: dict[object, object] = {}
        self._guard = threading.Lock()

    # --- by what they are ---
    def pixels(self, picture: Picture | Between, scale: float = 1.0) -> Array:
        """A picture without its alpha, (h, w, 3) float32, not to be written to; a proxy is the mean over the pixels
        it stands for."""

        def whole() -> Array:
            if isinstance(picture, Between):
                return _three(self.painting_of(picture))
            return _three(read_picture(picture))

        if scale == 1.0:
            return np.asarray(self._frames.make((picture, 1.0), whole), np.float32)

        def small() -> Array:
            full = self._frames.get((picture, 1.0))
            full = whole() if full is None else full
            return np.asarray(cv2.resize(full, proxy_size(picture.size, scale), interpolation=cv2.INTER_AREA))

        return np.asarray(self._frames.make((picture, scale), small), np.float32)

    def painting_of(self, picture: Picture | Between, steps: tuple[int, int] = (0, 0)) -> Array:
        """A picture with its alpha, shrunk by quarter octaves; (h, w, 4) float32, premultiplied."""

        def make() -> Array:
            if steps == (0, 0) and isinstance(picture, Between):
                before, after = self.painting_of(picture.before), self.painting_of(picture.after)
                return (flowed if picture.flow else blended)(before, after, picture.share)
            if steps == (0, 0):
                assert isinstance(picture, Picture)
                return with_alpha(read_picture(picture))
            return shrunk(self.painting_of(picture), steps, lambda nearer: self.painting_of(picture, nearer))

        return np.asarray(self._paintings.make((picture, steps), make), np.float32)

    def lowest_of(self, picture: Picture | Between) -> np.float32:
        """What a picture's light must not fall below where it is sampled; see `place.warp.lowest_of`."""
        return self.kept(("lowest", picture), lambda: lowest_of(self.painting_of(picture)))

    def bounds_of(self, picture: Picture | Between) -> tuple[int, int, int, int]:
        """The part of a picture outside of which it is nothing at all: left, top, right, bottom, its pixels."""

        def found() -> tuple[int, int, int, int]:
            there = (self.painting_of(picture) != 0).any(axis=2)
            rows, columns = np.flatnonzero(there.any(axis=1)), np.flatnonzero(there.any(axis=0))
            return (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1) if rows.size else (0,) * 4

        return self.kept(("bounds", picture), found)

    def calm_of(self, picture: Picture | Between) -> Array:
        """The calm continuation of a painting beyond its rim; see `place.rim.calm_rim`."""
        return np.asarray(
            self._paintings.make((picture, "calm"), lambda: calm_rim(self.painting_of(picture))), np.float32
        )

    def made(self, plan: MattePlan, with_steps: bool = False) -> Made:
        """A matte by its plan. One that cannot be made keeps all of the plate and says why in `problem`."""

        def make() -> Made:
            pixels = self.pixels(plan.picture, plan.scale)
            try:
                return build_matte(pixels, plan.matte, 0, plan.scale, self._around(plan), with_steps)
            except MatteError as problem:
                return Made(np.ones(pixels.shape[:2], np.float32), problem=str(problem))

        with one_at_a_time(plan.picture.size, plan.scale):
            made = self._frames.make((plan.digest, with_steps), make)
        assert isinstance(made, Made)
        return made

    def _around(self, plan: MattePlan) -> Surroundings:
        def clean(place: int) -> Array | None:
            found = plan.cleans[place]
            if found is None:
                return None
            size = proxy_size(plan.picture.size, plan.scale)
            return warp(self.painting_of(found.picture), found.matrix, size)

        def first_sky(place: int) -> tuple[Array, NDArray] | None:
            found = plan.skies[place]
            return None if found is None else (self.pixels(found.picture, plan.scale), found.motion)

        def neighbours() -> list[tuple[Array, Array, NDArray]]:
            return [
                (self.made(beside.plan).alpha, feed_of(self.pixels(beside.plan.picture, plan.scale)), beside.motion)
                for beside in plan.neighbours
            ]

        def cut_sky(place: int) -> tuple[SkyFound, SkyCut] | None:
            wanted, pull = plan.regions[place], plan.matte.pulls[place]
            if wanted is None or not isinstance(pull, ClearSkyPull):
                return None
            return self.sky_of(plan.picture, wanted), self.sky_cut(plan.picture, wanted, pull, plan.scale)

        return Surroundings(plan.keep, plan.drop, clean, first_sky, neighbours, cut_sky)

    def working_of(self, picture: Picture | Between) -> Array:
        """A picture at the one size at which the sky is found, see `sky_region.working`."""
        return np.asarray(self._frames.make((picture, "working"), lambda: working(self.pixels(picture))), np.float32)

    def judged(self, plan: MattePlan) -> tuple[Array | None, float]:
        """The doubt of a matte and how much of it is likely wrong, see `Made.judged`."""
        return self.made(plan).judged(self.pixels(plan.picture, plan.scale))

    def _studied(self, picture: Picture) -> tuple[Array, float]:
        """A picture at the size at which the sky is found, and its noise at its own size."""
        pixels = self.pixels(picture)
        noise = self.kept(("noise", picture), lambda: plate_noise(pixels))
        return np.asarray(self._frames.make((picture, "working"), lambda: working(pixels)), np.float32), noise

    def learn(self, study: SkyStudy, progress: Callable[[float], None] = lambda share: None) -> SkyModel:
        """What a shot teaches of its sky; once in this process. `progress` gets 0…1 and may end it by raising."""

        def learn() -> SkyModel:
            def studied(k: int) -> tuple[Array, float, Array | None]:
                progress(k / len(study.pictures))
                return (*self._studied(study.pictures[k]), drawn(study.said[k], study.size))

            frames = list(_readable(range(len(study.pictures)), studied))
            if not frames:
                self.pixels(study.pictures[0])  # says why
            pictures, noises, words = zip(*frames)
            return replace(learn_sky(pictures, words), noise=float(np.median(noises)))

        with _known_guard:
            turn = _learning.setdefault(study.digest, threading.Lock())
        with turn:  # who asks while it is learnt waits for it
            return known(("sky", study.digest), learn, MODELS)

    def sky_of(self, picture: Picture | Between, plan: SkyPlan) -> SkyFound:
        """Where a picture's sky is. What the shot teaches is learnt once."""
        study = plan.study
        model = self.learn(study)

        def find() -> SkyFound:
            seen = self.working_of(picture)
            if (share := share_of(model.noise)) > 0:
                seen = averaged_codes(seen, _readable(plan.beside, self.working_of), noise_of(seen), share)[0]
            return find_sky(seen, model, drawn(plan.said, study.size))

        found = self._frames.make((picture, study.digest, plan.said, plan.beside), find)
        assert isinstance(found, SkyFound)
        return found

    def sky_cut(self, picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float) -> SkyCut:
        """A picture's sky cut out by a pull; for a proxy at twice its size, and shrunk: so gaps are those that are seen
        there.

        Raises
        ------
        MatteError : no sky is found.
        """
        finer = min(2 * scale, 1.0)
        if scale < 1 and not is_large(picture.size, finer):
            return self._own_cut(picture, plan, pull, finer).shrunk(proxy_size(picture.size, scale))
        return self._own_cut(picture, plan, pull, scale)

    def finer_cut_if_there(
        self, picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float
    ) -> SkyCut | None:
        """The same where what it is made of is at hand already."""
        made: SkyCut | None = self._cuts.get(_cut_key(picture, plan, pull, min(2 * scale, 1.0)))
        return None if made is None else made.shrunk(proxy_size(picture.size, scale))

    def _own_cut(self, picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float) -> SkyCut:
        def cut() -> SkyCut:
            beside = _readable(plan.beside, lambda each: self.pixels(each, scale))
            return sky_matte(self.pixels(picture, scale), pull, self.sky_of(picture, plan), 0, scale, beside)

        made = self._cuts.make(_cut_key(picture, plan, pull, scale), cut)
        assert isinstance(made, SkyCut)
        return made

    def taken_away(self, picture: Picture | Between, cut: MattePlan) -> Array:
        """What a matte takes away of a picture, as if it stood alone: the old sky. (h, w, 3) float32, scene-linear.

        With what stays over it, it is the picture again. Where nothing goes, it is the picture itself.
        """

        def make() -> Array:
            made, pixels = self.made(cut), self.pixels(picture, cut.scale)
            if made.foreground is None:
                return pixels
            gone = 1 - np.clip(made.foreground[..., 3:], 0, 1)
            behind = (pixels - made.foreground[..., :3]) / np.maximum(gone, LEAST_GONE)
            return np.asarray(np.where(gone > LEAST_GONE, np.maximum(behind, 0), pixels), np.float32)

        with one_at_a_time(picture.size, cut.scale):
            return np.asarray(self._frames.make((picture, cut.digest, "taken away"), make), np.float32)

    def cut_out(self, picture: Picture | Between, cut: MattePlan, steps: tuple[int, int] = (0, 0)) -> Array:
        """What a matte leaves of a picture, in the picture's own pixels at full size or shrunk. (h, w, 4) float32,
        premultiplied."""

        def make() -> Array:
            if steps != (0, 0):
                return shrunk(self.cut_out(picture, cut), steps)
            if isinstance(picture, Between) and not picture.flow:  # each by itself: a matte of both is of neither
                before, after = (self.cut_out(p, replace(cut, picture=p)) for p in (picture.before, picture.after))
                return blended(before, after, picture.share)
            made, whole = self.made(cut), self.painting_of(picture)
            if made.foreground is not None:
                return np.asarray(made.foreground * whole[..., 3:], np.float32)
            return np.asarray(whole * np.clip(made.alpha, 0, 1)[..., None], np.float32)

        with one_at_a_time(picture.size, cut.scale):
            return np.asarray(self._paintings.make((picture, cut.digest, steps), make), np.float32)

    # --- by the shot's own words ---
    def plate(self, source: Source, frame: int, scale: float = 1.0) -> Array:
        """The plate on a frame, see `pixels`."""
        return self.pixels(picture_of(source, frame), scale)

    def painting(self, source: Source, frame: int, steps: tuple[int, int] = (0, 0)) -> Array:
        """A painting on one of its own frames, or on the nearest that it has, see `painting_of`."""
        frame = source.start if source.kind == "still" else min(max(frame, source.start), source.end)
        return self.painting_of(picture_of(source, frame), steps)

    def matte(self, shot: Shot, matte: Matte, frame: int, scale: float = 1.0) -> Made:
        """A matte on a frame, see `made`."""
        return self.made(matte_plan(shot, matte, frame, scale))

    def matte_steps(self, shot: Shot, matte: Matte, frame: int, zone: Zone | None = None) -> dict[str, Array]:
        """A matte's alpha after each step, by the step's name, at full size."""
        return dict(self.made(matte_plan(shot, matte, frame, zone=zone), with_steps=True).steps)

    def pixels_if_there(self, picture: Picture | Between | None) -> Array | None:
        """A picture at full size where it is at hand already."""
        pixels: Array | None = self._frames.get((picture, 1.0))
        return pixels

    def made_if_there(self, plan: MattePlan) -> Made | None:
        """A matte where it is at hand already."""
        made: Made | None = self._frames.get((plan.digest, False))
        return made

    def kept(self, key: object, make: Callable[[], T]) -> T:
        """A small thing that was worked out of pixels, or works it out. The key is all that it depends on."""
        with self._guard:
            if key in self._small:
                found: T = self._small[key]  # type: ignore[assignment]
                return found
        value = make()
        with self._guard:
            while len(self._small) > SMALL_THINGS:
                self._small.pop(next(iter(self._small)))
            self._small[key] = value
        return value

    @property
    def held_bytes(self) -> int:
        """Bytes of all that is kept."""
        return self._frames.used + self._cuts.used + self._paintings.used

    def clear(self) -> None:
        """Forgets everything, so that files are read anew."""
        for each in (self._frames, self._cuts, self._paintings):
            each.clear()
        with self._guard:
            self._small.clear()


def _cut_key(picture: Picture | Between, plan: SkyPlan, pull: ClearSkyPull, scale: float) -> tuple[object, ...]:
    return picture, plan.study.digest, plan.said, plan.beside, pull.empty.at(0), pull.full.at(0), scale


def _three(pixels: Array) -> Array:
    return np.ascontiguousarray(pixels[..., :3])


def _readable(pictures: Iterable[S], read: Callable[[S], T]) -> Iterator[T]:
    """What is read of those that can be: a frame that is there does not fail for one beside it that is not."""
    for each in pictures:
        try:
            yield read(each)
        except MediaError:
            continue
