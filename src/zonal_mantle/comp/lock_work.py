"""What a lock's solver asks for of a shot's plate: feeds, field, covers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..lock import LockError, lock_feed, solve_camera, solve_pan, solve_plane, solve_point, solve_staying
from ..lock.astray import Astray, astray
from ..lock.bend import bend_of, bends_advice, bends_words
from ..lock.codec import carried_px, left_out, step_of
from ..lock.falloff import falloff_of, lifted
from ..lock.look import runs_of
from ..lock.runs import Direction, SoFar, unseen
from ..lock.standing import standing
from ..matte import shape_alpha
from ..media import MediaError, bits_per_pixel, quantiser_of
from ..place.ride import followed
from ..place.transform import reference_to_frame
from ..shot import Lock, Shape, Shot
from ..shot.follow import WHOLE
from ..shot.limits import MOST_POINTS
from ..shot.lock import MOST_LEFT_OUT
from ..shot.shapes import Point
from ..words import say
from .pictures import Pictures

Array = NDArray[np.float32]
MOST_COLUMNS = 100  # of each frame, by which doubled and interlaced frames are found
# what H.264 moves marks by, root mean square, px: measured on marks of two photographs at rate factors 16 to 34,
# where a pixel took 0.67 to 0.03 bits (docs/FIGURES.md); others were kept apart
CODEC_PX, CODEC_POWER, LEAST_BITS = 0.03, 0.7, 0.005
OF_MARKS = 8.0  # a patch is of few blocks: that many times as much as of a field, over its slope, counts as well
TRUSTED_BITS, UNTRUSTED = 0.015, 0.3  # below so many bits marks went astray; what their confidence is then at most
CARRIED_SAID_PX = 0.3
# a codec writes a block anew only where it differs by more than its quantiser can tell, which is many times what it
# leaves out of one that it does write; measured on soft planes at rate factor 28 (docs/FIGURES.md)
MOST_UNSEEN, UNSEEN_PX, MOST_PAIRS, REPEATED_SAID = 15.0, (0.45, 0.9), 8, 0.8
LARGE_FIELD, LEAST_LEFT = 0.1, 0.2  # of the frame, from which what stands in it counts; of a field that must be left
OUTLINE_PX = 1.5  # by which an outline may be drawn straighter
LEAST_SIDE = 32  # px, of a plate
WHOLE_MARGIN = 0.02  # of the width; a field that is not drawn is the whole frame but for its rim


@dataclass(frozen=True)
class FirstLook:
    """What a first look at a plate tells: where something stands in the frame while the picture moves, (h, w), the
    coefficients of its falloff, see `lock.falloff`, and how its lens bends, see `lock.bend`; None where there is none.
    """

    stands: Array | None = None
    falloff: NDArray[np.float64] | None = None
    bend: float | None = None


class LockWork:
    """What a solver asks for."""

    def __init__(self, shot: Shot, lock: Lock, pictures: Pictures, seen: FirstLook = FirstLook()) -> None:
        source = shot.plate_source
        if source is None:
            raise LockError(say("The shot has no plate to lock onto. Open a plate first."))
        if lock.kind == "by hand":
            raise LockError(
                say(
                    "{name} is keyed by hand: there is nothing to solve. Key its position under Correct.",
                    name=lock.name,
                )
            )
        self.filmed = source  # what its codec did is in the denoised plate as well
        if lock.reads == "denoised plate" and shot.denoised is not None:
            source = shot.source(shot.denoised)
        self.shot, self.lock, self.pictures, self.source = shot, lock, pictures, source
        self.seen = seen
        self.carried_px = 0.0  # by the plate's codec, all of the field at once
        self.repeated = 0.0  # share of the field that the codec did not write anew
        self.astray = Astray({})
        self._small: dict[int, Array] = {}

    def feed(self, frame: int) -> Array:
        """A frame as the lock looks at it."""
        feed = lock_feed(self.pictures.plate(self.source, frame), self.lock.channel, self.lock.filter_px)
        if self.seen.falloff is not None:
            feed = lifted(feed, self.seen.falloff)
        if frame not in self._small:
            self._small[frame] = feed[: feed.shape[0] // 2 * 2, :: max(9, feed.shape[1] // MOST_COLUMNS)].copy()
        return feed

    def _with_codec(self, solved: Lock) -> Lock:
        """What a codec moves about is added to the error of marks. It moves a whole patch at once, by the motion that
        it found cheapest to write down, which the patch itself cannot see: by how few bits were spent, and, where the
        file tells it, by the quantiser's step over the patches' slope, each as sure as the other."""
        bits = bits_per_pixel(self.filmed)
        if bits is None:
            return solved
        moved = CODEC_PX * max(bits, LEAST_BITS) ** -CODEC_POWER
        patches, quantiser = self._patches(), quantiser_of(self.filmed)
        if quantiser is not None and patches.any():
            codes = OF_MARKS * left_out(quantiser, bits)
            by_slope = carried_px(self.feed(solved.reference_frame), patches, "translation", codes)
            moved = float(np.hypot(moved, by_slope) / np.sqrt(2))
        most = 1.0 if bits >= TRUSTED_BITS else UNTRUSTED
        before = set(self.lock.solved)
        entries = tuple(
            entry
            if entry.frame == solved.reference_frame or entry in before
            else entry.but(
                residual_px=float(np.hypot(entry.residual_px, moved)), confidence=min(entry.confidence, most)
            )
            for entry in solved.solved
        )
        return solved.but(solved=entries)

    def _patches(self) -> Array:
        """1 where the marks' patches lie on the reference frame, 0 elsewhere; (h, w)."""
        width, height = self.shot.size
        out = np.zeros((height, width), np.float32)
        for mark in self.lock.marks:
            if mark.frame in (None, self.lock.reference_frame):
                (x, y), (wide, high) = (round(mark.x), round(mark.y)), (round(side) for side in mark.patch)
                out[max(y - high, 0) : max(y + high + 1, 0), max(x - wide, 0) : max(x + wide + 1, 0)] = 1
        return out

    def _carried(self, solved: Lock, field: Array, progress: Callable[[float, str], None]) -> Lock:
        """No frame but the reference is said to be off by less than the codec may have carried the field along. Of a
        field that stays that adds up with what its links disagree by: each of them was carried by itself."""
        codes = left_out(quantiser_of(self.filmed), bits_per_pixel(self.filmed))
        if codes == 0:
            return solved
        feed = self.feed(solved.reference_frame)
        unseen = MOST_UNSEEN * carried_px(feed, field, "translation", codes)  # what is sharp would show that it moved
        soft = float(np.clip((unseen - UNSEEN_PX[0]) / (UNSEEN_PX[1] - UNSEEN_PX[0]), 0, 1))
        self.repeated = self._repeated(solved, field > 0.5, progress) if soft else 0.0
        more = 1 + soft * (1 / max(1 - self.repeated, 1 / MOST_UNSEEN) - 1)
        self.carried_px = more * carried_px(feed, field, solved.moves, codes)
        both = np.hypot if solved.field_stays else max
        entries = tuple(
            entry
            if entry.frame == solved.reference_frame
            else entry.but(residual_px=float(both(entry.residual_px, self.carried_px)))
            for entry in solved.solved
        )
        return solved.but(solved=entries)

    def _repeated(self, solved: Lock, inside: NDArray[np.bool_], progress: Callable[[float, str], None]) -> float:
        """The share of a field that a codec repeated from one frame to the next, to the last code: what moved by less
        than it would write down. The middle one of some pairs of frames, of the plate as it was filmed: what was
        denoised differs everywhere."""

        def codes(frame: int) -> Array:
            progress(0.98, say("{name}: what the codec repeats", name=solved.name))
            return lock_feed(self.pictures.plate(self.filmed, frame), self.lock.channel)

        known = [entry.frame for entry in solved.solved]
        pairs = [(a, b) for a, b in zip(known, known[1:]) if b == a + 1]
        if not pairs or not inside.any():
            return 0.0
        some = pairs[:: -(-len(pairs) // MOST_PAIRS)]
        return float(np.median([(codes(a) == codes(b))[inside].mean() for a, b in some]))

    def _with_astray(self, solved: Lock, field: Array, progress: Callable[[float, str], None]) -> Lock:
        """What of the frame does not go the lock's way counts as error, see `lock.astray`. Where a plane lock is known
        not to follow all of a motion (a lens that bends, a motion that was not asked for) that is counted already."""
        bend = self.seen.bend or 0.0
        if solved.kind == "plane" and (bend or solved.moves != "perspective"):
            return solved
        self.astray = astray(
            solved,
            self.feed,
            field,
            self.cover,
            bend,
            OF_MARKS * left_out(quantiser_of(self.filmed), bits_per_pixel(self.filmed)),
            lambda: progress(0.99, say("{name}: what does not move as the rest", name=solved.name)),
        )
        px, before = self.astray.px, set(self.lock.solved)  # what was there before has it in it
        entries = tuple(
            entry.but(residual_px=float(np.hypot(entry.residual_px, px[entry.frame])))
            if entry.frame in px and entry not in before
            else entry
            for entry in solved.solved
        )
        remarks = (*solved.remarks, self.astray.words()) if px else solved.remarks
        return solved.but(solved=entries, remarks=remarks)

    @property
    def codec_step(self) -> float:
        """The step of the quantiser of the plate's codec, of a range of 1; 0 where it predicts no frames."""
        return step_of(quantiser_of(self.filmed), bits_per_pixel(self.filmed))

    def codec_remarks(self) -> tuple[str, ...]:
        """What has to be known of marks on a plate that hardly any bits were spent on, and of a field that is so soft
        that its codec may have carried all of it along."""
        if self.carried_px > CARRIED_SAID_PX:
            words = say(
                "{name} is compressed and the field soft: the codec may have carried all of it along by {by:.1f} px.",
                name=self.filmed.name,
                by=self.carried_px,
            )
            if self.repeated > REPEATED_SAID:
                words = say(
                    "{name} is compressed and {share:.0%} of the field is the same from frame to frame, to the last "
                    "code: it may have moved by {by:.1f} px without showing it.",
                    name=self.filmed.name,
                    share=self.repeated,
                    by=self.carried_px,
                )
            return (
                say(
                    "{words} Draw a field with clearer edges, or ask for a plate that is compressed less.", words=words
                ),
            )
        bits = bits_per_pixel(self.filmed) if self.lock.kind == "point" else None
        if bits is None or bits >= TRUSTED_BITS:
            return ()
        words = say(
            "{name} is compressed to {bits:.3f} bits a pixel: marks may be led away by whole pixels.",
            name=self.filmed.name,
            bits=bits,
        )
        return (say("{words} Use a plane lock on a large field.", words=words),)

    def look(self, progress: Callable[[float, str], None]) -> None:
        """Leaves out borders, burnt-in words and the like from now on, but where the field is drawn over them; takes
        the plate's falloff out of feeds. Marks and small fields do without."""
        shot, lock = self.shot, self.lock
        staying = lock.kind in ("pan", "camera") or lock.field_stays
        field = None if lock.kind == "camera" else self.field()
        if lock.kind == "point" or (field is not None and not staying and field.mean() < LARGE_FIELD):
            return

        def feed(frame: int) -> Array:
            progress(0.0, say("{name}: a first look at the plate", name=lock.name))
            return lock_feed(self.pictures.plate(self.source, frame))

        try:
            runs = runs_of(feed, shot.frames)
        except MediaError:  # a frame that the solve itself may not need
            return
        stands = standing(runs)
        falloff = falloff_of(runs, stands) if lock.channel != "saturation" else None
        bend = bend_of(runs, stands)
        if stands is not None:
            stands = np.asarray(cv2.resize(stands, shot.size, interpolation=cv2.INTER_NEAREST), np.float32)
            if field is not None and (field * (1 - stands)).sum() < LEAST_LEFT * field.sum():
                stands = None
        self.seen = FirstLook(stands, falloff, bend)

    def look_remarks(self) -> tuple[str, ...]:
        """What is said where something that stands in the frame was left out, or a camera's lens bends and is taken for
        straight."""
        out, lens, bend = list[str](), self.lock.lens, self.seen.bend
        if self.seen.stands is not None:
            share = float(self.seen.stands.mean())
            if bits_per_pixel(self.filmed) is None:
                words = say(
                    "{share:.0%} of the frame does not move with the picture (letterbox, burn-ins, watermark, dirt on "
                    "the lens) and was left out.",
                    share=share,
                )
            else:
                words = say(
                    "{share:.0%} of the frame does not move with the picture (letterbox, burn-ins, watermark, dirt on "
                    "the lens, or blocks that the codec did not move) and was left out.",
                    share=share,
                )
            out.append(say("{words} To lock onto it, draw the field over it alone.", words=words))
        if self.lock.kind == "camera" and bend is not None and not (lens.solve_distortion or lens.distortion):
            out.append(bends_words(bend, self.shot.size) + bends_advice())
        return tuple(out)

    def left_out(self) -> tuple[tuple[Point, ...], ...]:
        """Outlines of what stands in the frame and was left out, in plate pixels, the largest first."""
        if self.seen.stands is None:
            return ()
        found, _ = cv2.findContours((self.seen.stands > 0).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
        outlines = [cv2.approxPolyDP(each, OUTLINE_PX, True)[:MOST_POINTS, 0] + 0.5 for each in found]
        largest = sorted((each for each in outlines if len(each) > 2), key=lambda each: -np.ptp(each, axis=0).max())
        return tuple(tuple((float(x), float(y)) for x, y in each) for each in largest[:MOST_LEFT_OUT])

    def neighbours(self) -> dict[int, Array]:
        """Thin columns of all frames that were looked at, by which doubled and interlaced frames are found."""
        return self._small

    def solve(
        self, direction: Direction, progress: Callable[[float, str], None], missing_only: bool, so_far: SoFar = unseen
    ) -> Lock:
        """The lock, solved by its kind's solver."""
        lock, frames = self.lock, self.shot.frames
        guess = self.guess if lock.rides else None
        if lock.kind == "point":
            solved = solve_point(lock, self.feed, frames, direction, progress, missing_only, guess, so_far)
            return self._with_codec(solved)
        if lock.reference_frame not in frames:
            raise LockError(
                say(
                    "{name} starts on frame {reference_frame}, which is not in the shot ({frames}–{frames_2}). Draw "
                    "its field anew on a frame of the shot.",
                    name=lock.name,
                    reference_frame=lock.reference_frame,
                    frames=frames[0],
                    frames_2=frames[-1],
                )
            )
        if min(self.shot.size) < LEAST_SIDE:
            width, height = self.shot.size
            raise LockError(
                say("The plate is {width} × {height} px, too small to lock onto.", width=width, height=height)
            )
        self.look(progress)
        if lock.kind == "camera":
            return solve_camera(lock, self.feed, self.cover, frames, progress, so_far)
        field, bend, step = self.field(), self.seen.bend, self.codec_step
        if lock.kind == "pan":
            solved = solve_pan(lock, self.feed, field, self.cover, frames, direction, progress, so_far, bend, step)
            return self._with_astray(solved, field, progress)
        if lock.field_stays:
            solved = solve_staying(lock, self.feed, field, self.cover, frames, direction, progress, so_far, bend, step)
            return self._with_astray(self._carried(solved, field, progress), field, progress)
        solved = solve_plane(
            lock, self.feed, field, self.cover, frames, direction, progress, missing_only, guess, so_far, step
        )
        return self._with_astray(self._carried(solved, field, progress), field, progress)

    def field(self) -> Array:
        """The field on the reference frame: its shapes, or the whole frame where none is drawn; without what is out."""
        width, height = self.shot.size
        drawn = [shape for shape in self.lock.field if shape.on and shape.mode == "keep"]
        reference = self.lock.reference_frame
        if drawn:
            out = np.zeros((height, width), np.float32)
            for shape in drawn:
                out = np.maximum(out, shape_alpha(shape, reference, self.shot.size, 1.0, self._ride))
        else:
            rim = round(WHOLE_MARGIN * width)
            out = np.zeros((height, width), np.float32)
            out[rim : height - rim, rim : width - rim] = 1
        cover = self.cover(reference)
        return out if cover is None else np.asarray(out * cover, np.float32)

    def cover(self, frame: int) -> Array | None:
        """What of a frame counts: all but the excluded shapes and what stands; None where nothing is left out."""
        out = None if self.seen.stands is None else np.asarray(1 - self.seen.stands, np.float32)
        for shape in self.lock.excluded:
            inside = shape_alpha(shape, frame, self.shot.size, 1.0, self._ride)
            out = 1 - inside if out is None else np.minimum(out, 1 - inside)
        return None if out is None else np.asarray(out, np.float32)

    def guess(self, frame: int) -> NDArray[np.float64]:
        """Where the lock that this one rides on says that the reference frame went."""
        lock, about = self.lock, self._middle()
        start = reference_to_frame(self.shot, lock.rides, lock.reference_frame)
        motion = reference_to_frame(self.shot, lock.rides, frame) @ np.linalg.inv(start)
        return motion if lock.follow == WHOLE else followed(motion, lock.follow, about)

    def _middle(self) -> tuple[float, float]:
        """Of what the lock looks at, on its reference frame."""
        places = [shape.middle for shape in self.lock.field if shape.on and shape.mode == "keep"]
        places += [(mark.x, mark.y) for mark in self.lock.marks]
        x, y = np.mean(places, axis=0) if places else np.array(self.shot.size) / 2
        return float(x), float(y)

    def _ride(self, shape: Shape, frame: int) -> NDArray[np.float64]:
        return reference_to_frame(self.shot, shape, frame)
