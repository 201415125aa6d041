"""Whether the painting covers; what is seen beyond its rim; painting bases out and back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ...comp import Job
from ...comp.base import Stitched, base_placement, clean_frame, hang_base, make_base, write_base, write_picture
from ...comp.readings_place import opening_of
from ...media import MediaError, open_source
from ...place import covering
from ...shot import MantleError, Placement, Zone
from ...words import say
from ..apart import apart
from ..ask import PICTURES, existing_file, folder, new_file
from ..desk import Desk
from ..numberfield import NumberField
from ..widgets import choice, fill, note, push_button, row, show_choice
from .panel import Panel

RIMS = {"ends": "Nothing", "mirrored": "Mirrored painting", "sky": "Extended sky"}
CHECK_SCALE = 0.25


class CoverPanel(Panel):
    """Coverage, the rim, painting bases."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.words = note()
        self.inside.addWidget(self.words)
        self.cover = push_button(
            "Scale to cover", "The smallest move, and only then enlargement, that covers every frame", self.cover_now
        )
        self.worst = push_button("Go to worst frame", "To the frame on which most is uncovered", self._worst)
        self.inside.addLayout(row(self.cover, self.worst))
        self.rim = choice(list(RIMS.values()), "What is seen beyond the painting's rim", self._rim)
        self.inside.addWidget(self.rim)
        self.about_base = note("Painting base: the plate stitched through the chosen lock into one still to paint on.")
        self.inside.addWidget(self.about_base)
        self.make = push_button(
            "Make base…",
            "Stitches the plate's frames into one wide EXR, PNG or TIFF, with guides beside",
            self._make,
            "download",
        )
        self.hang = push_button(
            "Add painted base…", "Hangs a painted base in register, as a zone of its own", self._hang, "upload"
        )
        self.inside.addLayout(row(self.make, self.hang))
        self.which = choice([], "The base that a painted picture belongs to", lambda _: None)
        self.inside.addWidget(self.which)
        self.clean = push_button(
            "Export clean frames…", "Writes the base as each frame sees it: the plate without what moves", self._clean
        )
        self.every = NumberField(
            "Interval", 1, 100, 1, 1, 0, "fr", "Of how many frames one is stitched; 1 takes them all"
        )
        self._step = 1
        self.plain(self.every, lambda: self._step, lambda v, w, g: self._put_step(v))
        self.inside.addLayout(row(self.clean, self.every))

    def refresh(self) -> None:
        super().refresh()
        zone, shot = self.desk.zone, self.desk.shot
        if zone is None or shot.holds_plate(zone):
            return
        place = self.desk.readings.places.get(zone.id)
        self.cover.setEnabled(zone.placement.way == "flat")
        show_choice(self.rim, list(RIMS.values()), RIMS[zone.placement.rim])
        ids = [base.id for base in shot.bases]
        known = self.which.currentData()
        fill(
            self.which,
            [(base.id, base.name) for base in shot.bases],
            known if known in ids else ids[-1] if ids else None,
        )
        self.which.setVisible(bool(ids))
        self.hang.setEnabled(bool(ids))
        lock = self.desk.lock
        for part in (self.make, self.clean):
            part.setEnabled(lock is not None and bool(lock.solved))
        if place is None:
            self.words.setText(say("Measuring…"))
            return
        cover = place.coverage
        lines = [say("Covers {covered} of {frames} frames.", covered=cover.covered, frames=cover.frames)]
        if cover.covered < cover.frames:
            lines.append(
                say(
                    "Worst on frame {worst_frame}: {worst_share:.2%} of the picture is uncovered.",
                    worst_frame=cover.worst_frame,
                    worst_share=cover.worst_share,
                )
            )
        if cover.margin_px is not None:
            lines.append(
                say(
                    "Smallest margin, frame {margin_frame}: {margin_px:.1f} px.",
                    margin_frame=cover.margin_frame,
                    margin_px=cover.margin_px,
                )
            )
        if cover.enlarged:
            lines.append(
                say(
                    "Seen at {enlarged:.0%} of its size at its largest pixel, frame {enlarged_frame}.",
                    enlarged=cover.enlarged,
                    enlarged_frame=cover.enlarged_frame,
                )
            )
        self.words.setText(" ".join(lines))

    # --- covering ---
    def cover_now(self) -> None:
        desk, zone = self.desk, self.desk.zone
        if zone is None:
            return
        shot = desk.shot

        def work(job: Job) -> Placement:
            openings = {}
            for done, frame in enumerate(shot.frames):
                job.progress(done / len(shot.frames), say("Looking at frame {frame}", frame=frame))
                openings[frame] = opening_of(shot, zone, frame, desk.store, CHECK_SCALE)
            try:
                return covering(shot, zone, openings, spare_px=3.0)
            except ValueError as problem:
                raise MantleError(str(problem)) from problem

        def then(placement: Placement) -> None:
            now = desk.shot.zone(zone.id)
            if placement == now.placement:
                desk.said.emit(say("{name} covers every frame already.", name=now.name), False)
                return
            grown = placement.size.at(desk.frame) / now.placement.size.factor_at(desk.frame)
            desk.edit_zone(now.but(placement=placement), say("{name} covers", name=now.name))
            how = say("enlarged to {grown:.1%} of what it was", grown=grown) if grown > 1.0001 else say("moved only")
            desk.said.emit(say("{name} covers every frame: {how}.", name=now.name, how=how), False)

        desk.run("Covering", work, then)

    def _worst(self) -> None:
        zone = self.desk.zone
        place = self.desk.readings.places.get(zone.id) if zone is not None else None
        if place is not None:
            self.desk.set_frame(place.coverage.worst_frame)

    def _rim(self, words: str) -> None:
        zone = self.desk.zone
        if zone is not None:
            rim = next(name for name, text in RIMS.items() if text == words)
            self.desk.edit_zone(zone.but(placement=zone.placement.but(rim=rim)), say("Rim of {name}", name=zone.name))

    # --- bases ---
    def _distance(self) -> float | None:
        zone, lock = self.desk.zone, self.desk.lock
        return zone.distance_m if zone is not None and lock is not None and lock.kind == "camera" else None

    def _put_step(self, value: float) -> None:
        self._step = max(1, round(value))
        self.refresh()

    def _stitch(self, words: str, then: Callable[[Stitched], None]) -> None:
        desk, lock = self.desk, self.desk.lock
        if lock is not None:
            shot, distance, frames = desk.shot, self._distance(), desk.shot.work_frames[:: self._step]

            def work(job: Job) -> Stitched:
                return make_base(shot, lock.id, desk.store, frames, distance_m=distance, progress=job.progress)

            desk.run(words, work, then)

    def _make(self) -> None:
        desk, lock = self.desk, self.desk.lock
        if lock is None:
            return
        path = new_file(
            self, "Painting base", "Pictures (*.exr *.tif *.tiff *.png)", "", Path.home() / f"{lock.name}_base.exr"
        )
        if path is None:
            return
        path = path if path.suffix else path.with_suffix(".exr")

        def then(stitched: Stitched) -> None:
            try:
                beside = write_base(desk.shot, stitched, path)
            except MantleError as problem:
                desk.said.emit(str(problem), True)
                return
            base = stitched.base.but(id=desk.shot.new_id("base"), name=path.stem)
            desk.edit(desk.shot.but(bases=(*desk.shot.bases, base)), say("Painting base {stem}", stem=path.stem))
            size = f"{base.size[0]}×{base.size[1]}"
            desk.said.emit(
                say(
                    "Wrote {name} ({size}) and {other}. Add painted base… takes it back.",
                    name=path.name,
                    size=size,
                    other=beside.name,
                ),
                False,
            )

        self._stitch("Stitching", then)

    def _hang(self) -> None:
        desk = self.desk
        base = next((b for b in desk.shot.bases if b.id == self.which.currentData()), None)
        path = existing_file(self, "Hang a painted base", PICTURES)
        if base is None or path is None:
            return
        shot = desk.shot
        try:
            source = apart(lambda: open_source(path, shot.new_id("source"), as_still=True))
            plate = shot.plate_source
            if plate is not None:  # painted pixel for pixel, whatever the file says of their shape
                source = source.but(pixel_aspect=plate.pixel_aspect)
            shot = shot.with_source(source)
            zone = Zone(id=shot.new_id("zone"), name=path.stem, source=source.id, placement=base_placement(shot, base))
            zone = hang_base(shot, zone, base)
        except (MantleError, MediaError) as problem:
            desk.said.emit(str(problem), True)
            return
        desk.edit(shot.with_zone(zone), say("Hang {stem}", stem=path.stem))
        desk.choose_zone(zone.id)
        desk.said.emit(
            say("{name} hangs in register on {other}.", name=path.name, other=desk.shot.lock(base.rides or "").name),
            False,
        )

    def _clean(self) -> None:
        desk, lock = self.desk, self.desk.lock
        into = folder(self, "Clean frames")
        if into is None or lock is None:
            return
        shot, distance = desk.shot, self._distance()

        def work(job: Job) -> int:
            stitched = make_base(
                shot,
                lock.id,
                desk.store,
                distance_m=distance,
                progress=lambda share, words: job.progress(0.6 * share, words),
            )
            for done, frame in enumerate(shot.frames):
                job.progress(0.6 + 0.4 * done / len(shot.frames), say("Writing frame {frame}", frame=frame))
                write_picture(into / f"clean.{frame:04d}.exr", clean_frame(shot, stitched, frame), "half", "zip")
            return len(shot.frames)

        desk.run(
            "Clean frames", work, lambda count: desk.said.emit(say("Wrote {count} clean frames.", count=count), False)
        )
