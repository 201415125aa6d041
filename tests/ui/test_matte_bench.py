"""The matte bench by mouse and keyboard: pulls, samples, edge, shapes that ride, looking at it, rendering it."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from scipy import ndimage

from zonal_mantle.api import open_shot
from zonal_mantle.comp.readings_matte import faulty_pixels
from zonal_mantle.media.still import read_still
from zonal_mantle.shot import ClearSkyPull, ColourPull, load, save


@pytest.fixture
def opened(hands, demo: Path, tmp_path: Path):
    """The demo with its plate zone on the bench, without the matte it came with."""
    window, desk = hands.window, hands.window.desk
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")  # so that its autosave is its own
    window.files.open_path(tmp_path / "SLT_0140.shot.json")
    desk.choose_zone(desk.shot.zones[0].id)
    hands.open_stage(window.bench.matte)
    hands.click(window.bench.matte.remove)
    assert desk.shot.mattes == ()
    hands.settled()
    return hands


@pytest.fixture
def truth(demo: Path):
    def at(frame: int) -> np.ndarray:
        return read_still(demo / "truth" / "alpha" / f"alpha.{frame}.png")[0][..., 0]

    return at


def sample(hands, button, x0, y0, x1, y1):
    """Presses a button that asks for an area, and drags over it on the plate."""
    hands.click(button)
    assert hands.window.desk.view == "Plate"
    hands.drag_plate(x0, y0, x1, y1)
    QApplication.processEvents()
    hands.window.bench.refresh()


def test_a_clear_sky_matte_is_pulled_by_a_click(opened, truth):
    window, desk = opened.window, opened.window.desk
    opened.click(window.bench.matte.new)
    assert isinstance(desk.matte.pulls[0], ClearSkyPull)
    assert desk.zone.matte.on
    opened.keys(Qt.Key.Key_3)
    opened.settled()
    solid, empty = (np.argwhere(cond) for cond in (truth(1001)[:150] > 0.999, truth(1001)[:150] < 0.001))
    rng = np.random.default_rng(1)
    for places, wanted in ((solid, 255), (empty, 0)):
        seen = [opened.pixel(x + 0.5, y + 0.5)[0] for y, x in places[rng.integers(0, len(places), 12)]]
        assert np.median(np.abs(np.array(seen) - wanted)) <= 4
    alpha = desk.store.matte(desk.shot, desk.matte, 1001).alpha
    above = np.s_[:195]  # above the wet ground, which only a keep shape can tell from sky
    assert ((alpha[above] - truth(1001)[above]) ** 2).mean() < 2e-3


def test_what_is_sky_is_said_by_dragging_and_doubt_is_shown(opened):
    window, desk = opened.window, opened.window.desk
    opened.click(window.bench.matte.new)
    form = window.bench.matte.pulls.form
    assert form.finds.currentText() == "region"
    assert not form.carried.isVisible()
    sample(opened, form.not_here, 60, 40, 140, 80)
    sample(opened, form.here, 200, 40, 260, 80)
    assert [(stroke.says, stroke.frame) for stroke in desk.matte.pulls[0].strokes] == [
        ("not sky", desk.frame), ("sky", desk.frame)
    ]  # fmt: skip
    alpha = desk.store.matte(desk.shot, desk.matte, desk.frame).alpha
    assert alpha[46:74, 66:134].min() > 0.99
    assert alpha[46:74, 206:254].max() < 0.01
    opened.click(form.doubt)
    assert (desk.view, desk.look.fault) == ("Alpha check", "doubt")
    opened.click(form.forget)
    assert not desk.matte.pulls[0].strokes
    opened.choose(form.finds, "surface")
    assert form.carried.isVisible()
    assert not form.not_here.isEnabled()


def test_a_colour_matte_is_pulled_from_samples_dragged_on_the_plate(opened):
    window, desk = opened.window, opened.window.desk
    pulls = window.bench.matte.pulls
    opened.choose(pulls.add, "colour")
    assert isinstance(desk.matte.pulls[0], ColourPull)
    sample(opened, pulls.form.add, 60, 90, 110, 110)
    sample(opened, pulls.form.run, 60, 20, 110, 40)
    only = desk.matte.pulls[0].samples
    assert len(only) == 1
    assert only[0].to is not None
    assert min(only[0].colour) > 0.5  # the overcast
    sample(opened, pulls.form.take, 40, 195, 60, 203)
    assert [s.subtract for s in desk.matte.pulls[0].samples] == [False, True]
    opened.type_number(pulls.form.tolerance, "0.05")
    opened.keys(Qt.Key.Key_3)
    opened.settled()
    assert max(opened.pixel(90, 60)) < 40
    assert min(opened.pixel(250, 195)) > 200  # the boiling house
    opened.click(pulls.form.remove)
    assert len(desk.matte.pulls[0].samples) == 1


def test_thresholds_follow_from_what_goes_and_what_stays(opened):
    window, desk = opened.window, opened.window.desk
    opened.choose(window.bench.matte.pulls.add, "luma")
    form = window.bench.matte.pulls.form
    sample(opened, form.goes, 60, 60, 140, 100)
    sample(opened, form.stays, 240, 190, 262, 198)
    pull = desk.matte.pulls[0]
    alpha = desk.store.matte(desk.shot, desk.matte, 1001).alpha
    assert 0.3 < pull.high.constant < 0.8
    assert alpha[70:95, 70:130].mean() < 0.1
    assert alpha[191:197, 242:260].mean() > 0.9
    assert form.curve.isVisible()
    assert set(form.curve.samples) == {"goes", "stays"}


def test_pulls_are_joined_reordered_switched_and_removed(opened):
    window, desk = opened.window, opened.window.desk
    panel = window.bench.matte.pulls
    opened.choose(panel.add, "clear sky")
    opened.choose(panel.add, "luma")
    assert [pull.kind for pull in desk.matte.pulls] == ["clear sky", "luma"]
    opened.choose(panel.combine, "union")
    assert desk.matte.pulls[1].combine == "union"
    opened.click(panel.up)
    assert [pull.kind for pull in desk.matte.pulls] == ["luma", "clear sky"]
    panel.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    assert desk.matte.pulls[0].on is False
    opened.click(panel.remove)
    assert [pull.kind for pull in desk.matte.pulls] == ["clear sky"]


def test_the_edge_is_worked_in_parts_of_a_pixel(opened):
    window, desk = opened.window, opened.window.desk
    opened.click(window.bench.matte.new)
    before = desk.store.matte(desk.shot, desk.matte, 1001).alpha.sum()
    opened.click(window.bench.matte.tabs["Edge"])
    edge = window.bench.matte.edge
    opened.type_number(edge.grow, "0.7")
    assert desk.matte.edge.grow_px.constant == 0.7
    assert desk.store.matte(desk.shot, desk.matte, 1001).alpha.sum() > before
    opened.choose(edge.remove, "Off")
    assert desk.store.matte(desk.shot, desk.matte, 1001).foreground is None
    opened.type_number(edge.black, "0.1")
    assert desk.matte.levels.black.constant == 0.1
    for _ in range(3):
        opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.matte.edge.grow_px.constant == 0


def test_a_riding_shape_is_drawn_keyed_seen_and_rendered(opened, tmp_path):
    window, desk, stage = opened.window, opened.window.desk, opened.window.bench.matte
    opened.click(stage.new)
    opened.click(stage.tabs["Shapes"])
    opened.choose(stage.shapes.form, "ellipse")
    opened.click(stage.shapes.keep)
    opened.drag_plate(300, 40, 380, 90)
    shape = desk.matte.shapes[0]
    assert shape.form == "curve"
    assert shape.points_at(1001)[1][0] == pytest.approx(380, abs=1.5)
    works = desk.shot.lock("works")
    opened.choose(stage.shapes.rides, works.name)
    assert desk.matte.shapes[0].rides == works.id
    desk.set_frame(1009)
    stage.refresh()
    opened.click(stage.shapes.key)  # a correction on this frame, in the lock's own space
    opened.settled()
    held = np.array(works.at(1009).homography).reshape(3, 3) @ np.linalg.inv(
        np.array(works.at(1001).homography).reshape(3, 3)
    )
    centre = held @ [340, 65, 1]
    x, y = centre[:2] / centre[2]
    opened.drag_plate(x, y, x + 40, y)
    assert [key.frame for key in desk.matte.shapes[0].keys] == [1001, 1009]
    opened.keys(Qt.Key.Key_3)
    window.shape_tool.choose(None)
    opened.settled()
    assert opened.pixel(x + 40, y) == (255, 255, 255)
    assert max(opened.pixel(x - 25, y)) < 60  # what the correction left behind is sky again
    # rendered the same: the plate's own sky stands within the shape, the new sky beside it
    session = open_shot_of(desk, tmp_path)
    session.render(tmp_path / "out", format="exr", first=1009, last=1009)
    picture, _ = read_still(tmp_path / "out" / "SLT_0140.1009.exr")
    plate = session.plate(1009)
    inside = np.s_[int(y) - 8 : int(y) + 8, int(x) + 30 : int(x) + 50]
    beside = np.s_[int(y) - 8 : int(y) + 8, int(x) - 35 : int(x) - 15]
    assert np.abs(picture[inside][..., :3] - plate[inside]).mean() < 0.01
    assert np.abs(picture[beside][..., :3] - plate[beside]).mean() > 0.1


def open_shot_of(desk, folder: Path):
    path = folder / "job.shot.json"
    assert desk.file.save(path)
    return open_shot(path)


def test_shapes_are_edited_by_hand(opened):
    window, desk, stage = opened.window, opened.window.desk, opened.window.bench.matte
    opened.click(stage.tabs["Shapes"])
    opened.choose(stage.shapes.form, "rectangle")
    opened.click(stage.shapes.drop)
    opened.drag_plate(200, 40, 300, 100)
    tool = window.shape_tool
    # several points at once
    opened.click_plate(200, 40)
    QTest.mouseClick(window.viewer, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, opened.at(300, 40))
    assert len(tool.points_chosen) == 2
    opened.drag_plate(300, 40, 310, 30)
    points = desk.matte.shapes[0].points_at(1001)
    assert points[0] == pytest.approx((210, 30), abs=1.5)
    assert points[2] == pytest.approx((300, 100), abs=1.5)
    # a corner made smooth has handles, by a double click
    QTest.mouseDClick(window.viewer, Qt.MouseButton.LeftButton, pos=opened.at(*points[2]))
    shape = desk.matte.shapes[0]
    assert shape.form == "curve"
    assert not shape.is_corner(2)
    assert shape.is_corner(0)
    # a new point on an edge, by a double click
    QTest.mouseDClick(window.viewer, Qt.MouseButton.LeftButton, pos=opened.at((points[0][0] + points[1][0]) / 2, 30))
    assert len(desk.matte.shapes[0].keys[0].points) == 5
    QTest.keyClick(window.viewer, Qt.Key.Key_Delete)
    assert len(desk.matte.shapes[0].keys[0].points) == 4
    # scaled with Ctrl, turned with Alt
    before = np.array(desk.matte.shapes[0].points_at(1001))
    middle = before.mean(axis=0)
    grip = middle + (20, 5)
    viewer = window.viewer
    for modifier in (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier):
        QTest.mousePress(viewer, Qt.MouseButton.LeftButton, modifier, opened.at(*grip))
        QTest.mouseMove(viewer, opened.at(*(middle + (34, 12))))
        QTest.mouseRelease(viewer, Qt.MouseButton.LeftButton, modifier, opened.at(*(middle + (34, 12))))
    after = np.array(desk.matte.shapes[0].points_at(1001))
    assert np.ptp(after, axis=0).max() > 1.2 * np.ptp(before, axis=0).max()
    assert after.mean(axis=0) == pytest.approx(middle, abs=0.5)


def test_shapes_are_copied_and_go_through_svg(opened, tmp_path):
    desk, stage = opened.window.desk, opened.window.bench.matte
    opened.click(stage.tabs["Shapes"])
    opened.choose(stage.shapes.form, "ellipse")
    opened.click(stage.shapes.keep)
    opened.drag_plate(200, 40, 300, 100)
    opened.click(stage.shapes.copy)
    opened.click(stage.shapes.paste)
    assert len(desk.matte.shapes) == 2
    assert desk.matte.shapes[0].keys == desk.matte.shapes[1].keys
    opened.with_file(tmp_path / "shapes.svg", lambda: opened.click(stage.shapes.write))
    assert "<path" in (tmp_path / "shapes.svg").read_text()
    opened.with_file(tmp_path / "shapes.svg", lambda: opened.click(stage.shapes.read))
    assert len(desk.matte.shapes) == 4


def test_one_key_steps_through_the_views(opened):
    desk = opened.window.desk
    opened.click(opened.window.bench.matte.new)
    desk.set_view(view="Composite")
    seen = []
    for _ in range(4):
        opened.keys(Qt.Key.Key_S)
        seen.append(desk.view)
    assert seen == ["Plate", "Matte", "Cut-out", "Composite"]


def test_the_probe_shows_every_step_of_the_matte(opened):
    window = opened.window
    opened.click(window.bench.matte.new)
    opened.settled()
    QTest.mouseMove(window.viewer, opened.at(250, 195))
    opened.wait(lambda: (window.probe.show_place((250.0, 195.0)), "clear sky 1.00" in window.probe.text())[1])
    assert "shapes" in window.probe.text()


def test_the_magnifier_follows_the_pointer(opened):
    window = opened.window
    opened.settled()
    QTest.mouseMove(window.viewer, opened.at(120, 150))
    QApplication.processEvents()
    before = window.viewer.grab().toImage()
    opened.keys(Qt.Key.Key_M)
    QTest.mouseMove(window.viewer, opened.at(121, 150))
    QApplication.processEvents()
    after = window.viewer.grab().toImage()
    right = [(after.width() - 60, y) for y in range(40, 150, 10)]
    assert any(before.pixelColor(*p) != after.pixelColor(*p) for p in right)


@pytest.mark.background
def test_a_matte_that_cannot_be_pulled_says_so_at_its_stage(opened):
    desk, stage = opened.window.desk, opened.window.bench.matte
    opened.choose(stage.pulls.add, "colour")
    opened.wait(lambda: desk.shot.mattes[0].id in desk.readings.mattes)
    stage.refresh()
    assert "cannot be pulled" in stage.header.words
    assert "Drag over a colour" in stage.problem.text()
    opened.keys(Qt.Key.Key_1)
    opened.settled()
    plate = desk.store.plate(desk.shot.plate_source, 1001)
    assert np.isfinite(plate).all()
    assert opened.pixel(90, 60)[0] > 200  # the plate is shown


def test_a_matte_is_shared_and_renamed(opened):
    window, desk, stage = opened.window, opened.window.desk, opened.window.bench.matte
    opened.click(stage.new)
    stage.title.setFocus()
    stage.title.selectAll()
    QTest.keyClicks(stage.title, "Skyline")
    QTest.keyClick(stage.title, Qt.Key.Key_Return)
    assert desk.matte.name == "Skyline"
    desk.choose_zone(desk.shot.zones[1].id)
    window.bench.refresh()
    opened.choose(stage.which, "Skyline")
    assert desk.shot.zones[1].matte.id == desk.shot.zones[0].matte.id
    assert desk.zone.matte.on


@pytest.mark.background
def test_a_finding_goes_to_its_frame_and_lifts_its_pixels(opened):
    window, desk = opened.window, opened.window.desk
    opened.choose(window.bench.matte.pulls.add, "luma")
    opened.type_number(window.bench.matte.pulls.form.high, "0.3")  # far too low: the land is full of holes
    opened.wait(lambda: any(finding.stage == "Matte" for finding in desk.readings.findings))
    finding = next(finding for finding in desk.readings.findings if finding.stage == "Matte" and finding.fault)
    desk.choose_zone(desk.shot.zones[1].id)
    opened.click_finding(finding.words)
    assert desk.frame == finding.frame
    assert desk.zone.id == desk.shot.zones[0].id
    assert desk.view == "Alpha check"
    # its pixels, and only those, are vermilion
    opened.settled()
    marked = faulty_pixels(desk.shot, desk.matte, desk.frame, finding.fault, desk.store)
    ys, xs = np.nonzero(ndimage.binary_erosion(marked, iterations=1))
    assert len(ys) > 5
    for k in np.linspace(0, len(ys) - 1, 5).astype(int):
        assert opened.pixel(xs[k] + 0.5, ys[k] + 0.5) == pytest.approx((213, 94, 0), abs=30)
    ys, xs = np.nonzero(ndimage.binary_erosion(~marked, iterations=4))
    assert all(opened.pixel(xs[k] + 0.5, ys[k] + 0.5) != (213, 94, 0) for k in range(0, len(ys), len(ys) // 5))
    opened.keys(Qt.Key.Key_4)  # the view itself marks nothing
    opened.settled()
    assert desk.look.fault is None


def test_a_free_curve_is_pulled_about_by_hand(opened):
    desk = opened.window.desk
    opened.choose(opened.window.bench.matte.pulls.add, "luma")
    form = opened.window.bench.matte.pulls.form
    opened.click(form.free, QPoint(8, 8))
    assert len(desk.matte.pulls[0].curve) >= 2
    assert form.curve.isVisible()
    assert not form.high.isVisible()
    before = desk.matte.pulls[0].curve
    sky = desk.store.matte(desk.shot, desk.matte, 1001).alpha[60:90, 60:120].mean()
    assert sky < 0.1
    # the last point is lifted: what is brightest stays half
    last = form.curve.place(before[-1]).toPoint()
    opened.drag(form.curve, last, last - QPoint(0, form.curve.height() // 2))
    opened.window.bench.refresh()
    assert desk.matte.pulls[0].curve[-1][1] == pytest.approx(0.52, abs=0.05)
    assert desk.store.matte(desk.shot, desk.matte, 1001).alpha[60:90, 60:120].mean() > 0.4
    # one drag is one step of undo
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.matte.pulls[0].curve == before
    opened.window.bench.refresh()
    opened.click(form.curve, QPoint(form.curve.width() // 4, form.curve.height() // 2))
    opened.window.bench.refresh()
    assert len(desk.matte.pulls[0].curve) == len(before) + 1
    QTest.keyClick(form.curve, Qt.Key.Key_Delete)
    assert desk.matte.pulls[0].curve == before
    opened.window.bench.refresh()
    opened.click(form.free, QPoint(8, 8))
    assert desk.matte.pulls[0].curve == ()


def test_the_ground_of_the_cut_out_is_seen(opened):
    window = opened.window
    opened.click(window.bench.matte.new)
    opened.keys(Qt.Key.Key_6)
    seen = {}
    for ground in ("black", "white", "grey"):
        opened.choose(window.strip.backing, ground)
        opened.settled()
        seen[ground] = opened.pixel(90, 60)
    assert max(seen["black"]) <= 3
    assert min(seen["white"]) >= 252
    assert seen["grey"] == pytest.approx((118, 118, 118), abs=3)  # IEC 61966-2-1: 18 % is code 118


def test_alpha_apart_is_that_of_the_chosen_zone(opened):
    window, desk = opened.window, opened.window.desk
    opened.click(window.bench.matte.new)
    desk.choose_zone(desk.shot.zones[1].id)
    window.bench.refresh()
    opened.click(window.bench.matte.new)
    opened.choose(window.bench.matte.pulls.add, "luma")
    opened.click(window.bench.matte.pulls.remove)  # nothing but its shapes: it is solid everywhere or empty
    opened.keys(Qt.Key.Key_4)
    opened.settled()
    alpha = desk.store.matte(desk.shot, desk.matte, 1001).alpha
    assert opened.pixel(90.5, 60.5)[0] == pytest.approx(alpha[60, 90] * 255, abs=60)
    first = opened.pixel(250.5, 195.5)
    desk.choose_zone(desk.shot.zones[0].id)
    opened.settled()
    assert opened.pixel(250.5, 195.5) == (255, 255, 255)
    assert first[0] == pytest.approx(alpha[195, 250] * 255, abs=60)


def test_an_outline_copied_on_one_frame_is_a_key_on_another(opened):
    desk, stage = opened.window.desk, opened.window.bench.matte
    opened.click(stage.tabs["Shapes"])
    opened.choose(stage.shapes.form, "rectangle")
    opened.click(stage.shapes.keep)
    opened.drag_plate(200, 40, 300, 100)
    opened.click(stage.shapes.copy)
    desk.set_frame(1006)
    stage.refresh()
    opened.click(stage.shapes.key)
    opened.drag_plate(250, 70, 290, 80)  # somewhere else on this frame
    moved = desk.matte.shapes[0].points_at(1006)
    assert moved[0] == pytest.approx((240, 50), abs=1.5)
    desk.set_frame(1010)
    stage.refresh()
    opened.choose(stage.shapes.rides, desk.shot.locks[0].name)
    opened.click(stage.shapes.paste_key)
    shape = desk.matte.shapes[0]
    assert 1010 in [key.frame for key in shape.keys]
    standing = opened.window.shape_tool.chosen_standing().keys[0].points
    assert standing[0] == pytest.approx((200, 40), abs=1.5)  # on the picture it lies as it was copied
    stage.shapes.takes.parts["position"].trigger()
    stage.refresh()
    assert desk.matte.shapes[0].follow.position is False
    assert stage.shapes.takes.text() == "Follows turn, size, shear, perspective"
    standing = opened.window.shape_tool.chosen_standing().keys[0].points
    assert standing[0] == pytest.approx((200, 40), abs=1.5)  # still there, where it has a key
    opened.choose(stage.shapes.form, "ellipse")
    opened.click(stage.shapes.keep)
    opened.drag_plate(20, 40, 60, 100)
    said = []
    desk.said.connect(lambda words, trouble: said.append(words))
    opened.click(stage.shapes.paste_key)
    assert any("another outline" in words for words in said)
    assert len(desk.matte.shapes[1].keys) == 1
