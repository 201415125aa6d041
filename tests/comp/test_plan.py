"""Plans: a picture is made from its plan alone, and named by what it depends on."""

import dataclasses
import os
import pickle
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from stores import kept_pictures
from zonal_mantle.api import open_shot
from zonal_mantle.comp import compose, compose_plan, plan
from zonal_mantle.comp.develop import ORDER, develop
from zonal_mantle.comp.digest import digest
from zonal_mantle.comp.plan import FramePlan
from zonal_mantle.comp.stack import segments, stacked
from zonal_mantle.shot import Blend, Keyed, Shot
from zonal_mantle.shot.base import Value


@pytest.fixture
def shot(demo: Path) -> Shot:
    return open_shot(demo / "SLT_0140.shot.json").shot


def parts(value: object) -> list[object]:
    """A value and all that is in it."""
    if isinstance(value, tuple | list):
        return [value, *(inner for part in value for inner in parts(part))]
    if dataclasses.is_dataclass(value):
        return [value, *(inner for f in dataclasses.fields(value) for inner in parts(getattr(value, f.name)))]
    if isinstance(value, Value):
        return [value, *(inner for name in type(value).model_fields for inner in parts(getattr(value, name)))]
    return [value]


def test_a_plan_knows_no_shot_and_no_keyed_number(shot):
    zone = shot.zones[1]
    moved = zone.but(placement=zone.placement.but(x=Keyed().with_key(1001, 0).with_key(1010, 9)))
    inside = parts(plan(shot.with_zone(moved), 1004))
    assert len(inside) > 100
    assert not [part for part in inside if isinstance(part, Shot | Keyed)]


def test_a_frame_is_made_from_its_plan_alone_in_another_process(shot, tmp_path):
    planned = plan(shot, 1006, 0.5)
    (tmp_path / "plan").write_bytes(pickle.dumps(planned))
    code = (
        "import pickle, sys, numpy as np; from zonal_mantle.comp import Pictures, compose_plan;"
        f"p = pickle.load(open({str(tmp_path / 'plan')!r}, 'rb'));"
        f"np.save({str(tmp_path / 'out.npy')!r}, compose_plan(p, Pictures())); print(p.digest, p.portable_digest)"
    )
    told = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True, env=os.environ)
    assert told.stdout.split() == [planned.digest, planned.portable_digest]
    ours, theirs = compose(shot, 1006, kept_pictures(), 0.5), np.load(tmp_path / "out.npy")
    assert np.abs(ours - theirs).max() == 0, (np.abs(ours - theirs).max(), np.argwhere(ours != theirs)[:5])


def test_the_digest_moves_with_the_picture_and_with_nothing_else(shot):
    zone = shot.zone("zone2")
    before = plan(shot, 1004).digest

    def now(changed: Shot) -> str:
        return plan(changed, 1004).digest

    assert now(shot.with_zone(zone.but(name="Another name"))) == before
    assert now(shot.but(name="Another shot")) == before
    keyed = Keyed().with_key(1004, zone.placement.x.at(1004), "hold").with_key(1009, 50)
    assert now(shot.with_zone(zone.but(placement=zone.placement.but(x=keyed)))) == before
    assert plan(shot, 1005).digest != before
    nudged = [
        zone.but(placement=zone.placement.but(x=Keyed(constant=zone.placement.x.at(1004) + by))) for by in (-1.0, -2.0)
    ]
    assert len({before, *(now(shot.with_zone(each)) for each in nudged)}) == 3  # hash(-1.0) is hash(-2.0) in Python
    moved_lock = shot.lock("hills")
    entry = moved_lock.at(1004)
    assert entry is not None
    shifted = entry.but(homography=(*entry.homography[:2], entry.homography[2] + 0.5, *entry.homography[3:]))
    solved = tuple(shifted if each.frame == 1004 else each for each in moved_lock.solved)
    assert now(shot.with_lock(moved_lock.but(solved=solved))) != before
    other = tuple(e.but(residual_px=9.0) if e.frame == 1008 else e for e in moved_lock.solved)
    assert now(shot.with_lock(moved_lock.but(solved=other))) == before


def test_the_portable_digest_goes_by_content_and_the_local_one_by_the_file(shot, demo, tmp_path):
    there = tmp_path / "elsewhere"
    shutil.copytree(demo, there)
    moved = open_shot(there / "SLT_0140.shot.json").shot
    assert plan(moved, 1003).digest != plan(shot, 1003).digest
    assert plan(moved, 1003).portable_digest == plan(shot, 1003).portable_digest
    sky = Path(moved.source("source1").path)
    sky.write_bytes(sky.read_bytes()[:-1] + b"!")
    later = sky.stat().st_mtime_ns + 10**9
    os.utime(sky, ns=(later, later))
    from zonal_mantle.media.stamps import stamp_of

    stamp_of(str(sky), fresh_s=0)
    assert plan(moved, 1003).portable_digest != plan(shot, 1003).portable_digest


def test_what_has_no_content_is_refused():
    assert digest((1, "a", 2.5, None, np.arange(3))) == digest((1, "a", 2.5, None, np.arange(3)))
    assert digest(np.arange(3, dtype=np.int32)) != digest(np.arange(3, dtype=np.int64))
    with pytest.raises(TypeError, match="no content"):
        digest(lambda: 1)


def test_layers_fall_into_segments_at_what_needs_the_ground_behind(shot):
    zone = shot.zone("zone4")
    laid = shot.with_zone(zone.but(blend=Blend(mode="multiply")))
    runs = segments(plan(laid, 1003).layers)
    assert [len(run) for run in runs] == [1, 1, 2]
    assert [len(run) for run in segments(plan(shot, 1003).layers)] == [4]


class Noted:
    """A step that notes when it came and what share it was given."""

    def __init__(self, place: str, seen: list, needs_plate_share: bool = False) -> None:
        self.place, self.seen, self.needs_plate_share = place, seen, needs_plate_share

    def applied(self, picture: np.ndarray, share: np.ndarray | None) -> np.ndarray:
        self.seen.append((self.place, share))
        return picture


def test_the_steps_after_the_layers_come_in_one_order(shot):
    seen: list = []
    develop(np.zeros((4, 4, 4), np.float32), [Noted(place, seen) for place in reversed(ORDER)], None)
    assert [place for place, _ in seen] == list(ORDER)


@pytest.mark.parametrize("mode", ["normal", "screen"])
def test_the_plates_share_of_each_pixel_is_counted_where_a_step_asks(shot, mode):
    seen: list = []
    far = shot.zone("zone3")
    plain = plan(shot.with_zone(far.but(blend=Blend(mode=mode))), 1003, 0.5)
    asked = FramePlan(plain.size, plain.scale, plain.layers, (Noted("grain", seen, True),))
    pictures = kept_pictures()
    picture = compose_plan(asked, pictures)
    assert np.abs(picture - compose_plan(plain, pictures)).max() < 1e-6
    share = seen[0][1]
    # by itself: how much of the plate's layer the layers before it let through
    front = plain.layers[: [layer.is_plate for layer in plain.layers].index(True)]
    before = compose_plan(FramePlan(plain.size, plain.scale, front), pictures)[..., 3]
    plate = next(layer for layer in plain.layers if layer.is_plate)
    own = compose_plan(FramePlan(plain.size, plain.scale, (plate,)), pictures)[..., 3]
    assert np.abs(share - own * (1 - before)).max() < 2e-5
    assert not stacked(plain, pictures).counts
