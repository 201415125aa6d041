"""By mouse: an automatic sky matte mended by a stroke; a flag keyed in its own picture and hoisted behind a tower;
embers added; on the saltworks and on a photograph."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from skimage import data

from zonal_mantle.api import open_shot
from zonal_mantle.demo.elements import ember_frame, flag_frame
from zonal_mantle.media.still import read_still, write_still
from zonal_mantle.place.timing import zone_frame

CONTROL = Qt.KeyboardModifier.ControlModifier


def opened_at(hands, path: Path) -> None:
    window = hands.window
    window.desk.open(open_shot(path).shot, None)  # without its file: other tests have the same one open
    window.bench.refresh()
    hands.settled()


def imported(hands, path: Path):
    hands.with_file(path, lambda: hands.keys(Qt.Key.Key_I, CONTROL))
    return hands.window.desk.zone


def hung(hands, distance_m: float, **numbers: float) -> None:
    """Types a placement and drags the zone's upright to a distance."""
    window, desk = hands.window, hands.window.desk
    hands.open_stage(window.bench.place)
    for name, value in numbers.items():
        hands.type_number(window.bench.place.hang.fields[("", name)], f"{value:.3f}")
    view = window.section.view
    upright = view.upright(desk.zone).center().toPoint()
    hands.drag(view, upright, QPoint(int(view.x_of(distance_m)), upright.y()))


def test_a_flag_is_keyed_in_its_own_picture_and_hoisted_behind_the_tower(hands, demo: Path):
    window, desk, bench = hands.window, hands.window.desk, hands.window.bench
    opened_at(hands, demo / "SLT_0140.shot.json")
    tower = next(zone for zone in desk.shot.zones if zone.name == "Mill tower")
    flag = imported(hands, demo / "elements" / "signal_flag.mp4")
    hands.open_stage(bench.matte)
    hands.click(bench.matte.header.switch)
    hands.wait(lambda: desk.matte is not None)
    assert (desk.matte.reads, desk.matte.pulls[0].kind, desk.matte.pulls[0].screen) == ("own picture", "screen", "blue")
    hands.keys(Qt.Key.Key_3)  # the matte, in the flag's own pixels
    hands.settled()
    assert window.viewer.picture_size == (512, 384)
    index = zone_frame(desk.shot, desk.zone, desk.frame) - 1
    alpha = flag_frame(index, 3)[1]
    for x, y in ((256, 200), (30, 200), (480, 30), (120, 140)):
        assert hands.pixel(x, y)[0] == pytest.approx(255 * alpha[y, x], abs=24)
    # junk: all that is left of the flag is dropped, by a box drawn on its own picture
    hands.click(bench.matte.tabs["Shapes"])
    hands.choose(bench.matte.shapes.form, "rectangle")
    hands.click(bench.matte.shapes.drop)
    hands.drag_plate(4, 4, 60, 380)
    assert desk.matte.shapes[0].points_at(desk.frame)[0] == pytest.approx((4, 4), abs=2)
    hands.keys(Qt.Key.Key_1)
    hands.settled()
    # behind the tower's parapet: farther than the tower, nearer than the range
    hung(hands, 160.0, size=0.2, x=120.0, y=-60.0)
    assert tower.distance_m < desk.zone.distance_m < 400
    cut = desk.store.matte(desk.shot, desk.matte, desk.frame).alpha
    assert np.sqrt(((cut - alpha)[:, 70:] ** 2).mean()) < 0.04
    order = [zone.name for zone in desk.shot.near_to_far()]
    assert order.index("Mill tower") < order.index(desk.zone.name)
    assert desk.zone.id == flag.id


@pytest.mark.background
def test_a_screen_that_nobody_pulled_is_pulled_by_the_button_of_the_stage(hands, demo: Path):
    desk, bench = hands.window.desk, hands.window.bench
    opened_at(hands, demo / "SLT_0140.shot.json")
    imported(hands, demo / "elements" / "signal_flag.mp4")
    header = bench.matte.header
    hands.wait(lambda: not header.mend.isHidden())
    assert (header.mend.text(), header.words) == ("Pull the blue screen", "▲ off: hides what is behind")
    assert bench.place.header.words == "not keyed"
    hands.click(header.mend)
    assert (desk.matte.reads, desk.matte.pulls[0].kind, desk.matte.pulls[0].screen) == ("own picture", "screen", "blue")
    hands.wait(lambda: desk.job is None and header.mend.isHidden() and "covers" in bench.place.header.words)


def test_embers_are_added_with_plus(hands, demo: Path):
    desk, bench = hands.window.desk, hands.window.bench
    opened_at(hands, demo / "SLT_0140.shot.json")
    desk.set_frame(1006)
    hands.settled()
    imported(hands, demo / "elements" / "embers.mp4")
    hands.open_stage(bench.matte)
    hands.click(bench.matte.header.switch)
    hands.wait(lambda: desk.matte is not None)
    assert desk.matte.over_black
    assert desk.matte.pulls[0].kind == "luma"
    hung(hands, 30.0, x=0.0, y=0.0)  # pixel for pixel in the middle of the plate, before everything
    hands.click(bench.place.tabs["Blend"])
    hands.choose(bench.place.panel("Blend").mode, "plus")
    hands.open_stage(bench.match)
    hands.click(bench.match.header.switch)  # its light as it is
    hands.settled()
    assert desk.zone.blend.mode == "plus"
    from zonal_mantle.comp import compose

    frame = zone_frame(desk.shot, desk.zone, 1006)
    light = ember_frame(frame - 1, 3)
    left = (640 - 512) // 2
    out = compose(desk.shot, 1006, desk.store)[:, left : left + 512, :3]
    without = compose(desk.shot.with_zone(desk.zone.but(on=False)), 1006, desk.store)[:, left : left + 512, :3]
    added = out - without
    assert added.min() > -1e-5  # light is only added
    shown = light[12 : 12 + 360]
    assert added[shown.max(axis=2) > 0.5].mean() == pytest.approx(shown[shown.max(axis=2) > 0.5].mean(), rel=0.25)


def test_a_photographs_sky_goes_by_itself_and_a_leftover_by_one_stroke(hands, tmp_path: Path):
    """`skimage.data.rocket`: dusk behind lattice towers, which stay. Right of the last of them sky is left."""
    desk, bench = hands.window.desk, hands.window.bench
    write_still(tmp_path / "dusk.png", data.rocket().astype(np.float32) / 255, "uint8")
    hands.with_file(tmp_path / "dusk.png", lambda: hands.keys(Qt.Key.Key_N, CONTROL))
    hands.settled()
    hands.open_stage(bench.matte)
    hands.click(bench.matte.header.switch)
    alpha = desk.store.matte(desk.shot, desk.matte, desk.frame).alpha.copy()
    assert alpha[20:120, 100:540].mean() < 0.05  # open sky is gone
    assert alpha[200:300, 316:328].mean() > 0.95  # the rocket stays
    assert alpha[200:260, 610:625].mean() < 0.6  # and so it is between the beams
    assert alpha[360:400, 622:638].mean() > 0.9  # what is left
    hands.click(bench.matte.pulls.form.here)
    hands.drag_plate(618, 350, 638, 410)
    hands.settled()
    mended = desk.store.matte(desk.shot, desk.matte, desk.frame).alpha
    assert mended[356:404, 622:634].max() < 0.02
    assert mended[200:300, 316:328].mean() > 0.95
    assert len(desk.matte.pulls[0].strokes) == 1


def test_the_saltworks_sky_goes_by_itself(hands, demo: Path):
    desk, bench = hands.window.desk, hands.window.bench
    opened_at(hands, demo / "SLT_0140.shot.json")
    desk.choose_zone(desk.shot.zones[0].id)
    hands.open_stage(bench.matte)
    hands.click(bench.matte.new)  # another matte, as it begins
    assert desk.matte.pulls[0].finds == "region"
    for frame in (1001, 1010):
        desk.set_frame(frame)
        true, _ = read_still(demo / "truth" / "alpha" / f"alpha.{frame}.png")
        error = desk.store.matte(desk.shot, desk.matte, frame).alpha - true[..., 0]
        assert np.sqrt((error**2).mean()) < 0.08
