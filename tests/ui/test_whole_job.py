"""The whole job by mouse and keyboard, compared with the truth."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from zonal_mantle.api import open_shot
from zonal_mantle.geometry import carry
from zonal_mantle.media.curves import srgb_encode
from zonal_mantle.media.still import read_still
from zonal_mantle.place import painting_to_frame
from zonal_mantle.ui.window import Window


def codes(pixels: np.ndarray) -> np.ndarray:
    return srgb_encode(np.clip(pixels[..., :3], 0, 1)) * 255


def outline(hands, button, points, form=None):
    """Draws a shape: presses its button, clicks its points, closes it with Enter."""
    if form:
        hands.window.bench.matte.shapes.form.setCurrentText(form)
    hands.click(button)
    for x, y in points:
        hands.click_plate(x, y)
    QTest.keyClick(hands.window.viewer, Qt.Key.Key_Return)
    QApplication.processEvents()


@pytest.mark.background
def test_from_plate_to_rendered_sky(hands, demo: Path, tmp_path: Path):
    window, desk, bench = hands.window, hands.window.desk, hands.window.bench
    made = open_shot(demo / "SLT_0140.shot.json").shot  # where an artist would set marks and hang the sky

    # open the plate
    hands.with_file(
        demo / "plate" / "SLT_0140.1001.exr", lambda: hands.keys(Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    )
    assert (desk.shot.first, desk.shot.last, desk.shot.size) == (1001, 1010, (640, 360))
    first_shot = desk.shot
    hands.settled()

    # pull the luma matte
    hands.open_stage(bench.matte)
    hands.click(bench.matte.header.switch)
    assert desk.zone.matte.on
    pulls = bench.matte.pulls
    hands.click(pulls.remove)  # the clear-sky pull that a new matte begins with
    hands.choose(pulls.add, "luma")
    hands.type_number(pulls.form.high, "0.66")
    hands.type_number(pulls.form.high_softness, "0.2")
    assert (desk.matte.pulls[0].high.at(1001), desk.matte.pulls[0].high_softness.at(1001)) == (0.66, 0.2)

    # draw both shapes: all the ground stays, the upper sky goes
    hands.click(bench.matte.tabs["Shapes"])
    outline(hands, bench.matte.shapes.keep, [(2, 222), (638, 222), (638, 358), (2, 358)])
    outline(hands, bench.matte.shapes.drop, [(2, 2), (638, 2), (638, 30), (2, 30)])
    keep, drop = desk.matte.shapes
    assert (keep.mode, drop.mode) == ("keep", "drop")
    assert abs(keep.points_at(1001)[0][1] - 222) < 1.5
    window.viewer.tool.chosen = None
    hands.keys(Qt.Key.Key_3)
    hands.settled()
    assert hands.pixel(320, 300) == (255, 255, 255)
    assert hands.pixel(320, 15) == (0, 0, 0)
    hands.keys(Qt.Key.Key_1)

    # hang the sky, make a lock, set two marks on the boiling house, solve
    hands.with_file(
        demo / "paintings" / "evening_sky.exr", lambda: hands.keys(Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    )
    sky = desk.zone
    assert sky.distance_m is None
    works = made.lock("works")
    desk.set_frame(works.reference_frame)
    hands.open_stage(bench.lock)
    hands.click(bench.lock.new)
    assert desk.zone.placement.rides == desk.lock.id
    for mark in works.marks:
        hands.click_plate(mark.x, mark.y)
    assert len(desk.lock.marks) == 2
    assert desk.lock.reference_frame == works.reference_frame
    desk.set_frame(1001)  # the solve still starts where the marks were set
    bench.refresh()
    hands.click(bench.lock.measure.both)
    hands.wait(lambda: bool(desk.lock.solved) and desk.job is None)
    assert [entry.frame for entry in desk.lock.solved] == list(range(1001, 1011))
    for ours, theirs in zip(desk.lock.solved, works.solved):
        points = np.array([[240.0, 190.0], [300.0, 215.0]])
        a, b = (carry(np.array(e.homography).reshape(3, 3), points) for e in (ours, theirs))
        assert np.abs(a - b).max() < 1.5

    # size the sky by typing, put it in place by dragging, flip it there and back
    hands.open_stage(bench.place)
    size = made.zones[1].placement.size.constant
    hands.type_number(bench.place.hang.fields[("", "size")], f"{size:.4f}")
    desk.set_frame(works.reference_frame)
    hands.settled()
    wanted = carry(painting_to_frame(made, made.zones[1], desk.frame), np.array([[1300.0, 700.0]]))[0]
    now = carry(painting_to_frame(desk.shot, desk.zone, desk.frame), np.array([[1300.0, 700.0]]))[0]
    hands.drag_plate(500, 60, 500 + wanted[0] - now[0], 60 + wanted[1] - now[1])
    now = carry(painting_to_frame(desk.shot, desk.zone, desk.frame), np.array([[1300.0, 700.0]]))[0]
    assert np.abs(now - wanted).max() < 1.5
    hands.settled()
    before = hands.pixel(600, 120)
    hands.click(bench.place.hang.across)
    hands.settled()
    assert desk.zone.placement.flip_across
    assert hands.pixel(600, 120) != before
    hands.click(bench.place.hang.across)

    # the visibility, by dragging the section's curve; then a number, by typing
    view = window.section.view
    x = view.x_of(6000)
    from zonal_mantle.match import transmittance

    start = QPoint(int(x), int(view.y_of(transmittance(6000, desk.shot.air.visibility_m))))
    visibility = desk.shot.air.visibility_m
    hands.drag(view, start, start + QPoint(0, 12))
    assert desk.shot.air.visibility_m < visibility
    hands.type_number(window.section.visibility, "30")
    assert desk.shot.air.visibility_m == 30000

    # an upright, by dragging
    upright = view.upright(desk.shot.zones[0]).center().toPoint()
    hands.drag(view, upright, QPoint(int(view.x_of(40)), upright.y()))
    assert 30 < desk.shot.zones[0].distance_m < 55

    # save, close, reopen
    path = tmp_path / "job.shot.json"
    hands.with_file(path, lambda: hands.keys(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier))
    assert path.exists()
    assert not desk.unsaved
    saved = desk.shot
    again = Window()
    again.show()
    again.files.open_path(path)
    assert again.desk.shot == saved
    again.close()

    # undo all the way back gives the first shot
    for _ in range(200):
        hands.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        if desk.history.place == 0:
            break
    assert desk.shot == first_shot
    while desk.history.redo():
        pass
    assert desk.shot == saved

    # render, and compare with the truth
    hands.keys(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    panel = window.render_panel
    panel.folder.setText("")
    QTest.keyClicks(panel.folder, str(tmp_path / "out"))
    hands.click(panel.go)
    hands.wait(lambda: desk.job is None and (tmp_path / "out" / "SLT_0140.1010.exr").exists())
    for frame in (1002, 1009):
        ours, _ = read_still(tmp_path / "out" / f"SLT_0140.{frame}.exr")
        alpha, _ = read_still(demo / "truth" / "alpha" / f"alpha.{frame}.png")
        truth, _ = read_still(demo / "truth" / "finished" / f"finished.{frame}.exr")
        plate, _ = read_still(demo / "plate" / f"SLT_0140.{frame}.exr")
        sky_area = alpha[..., 0] < 0.02
        sky_area[:, :] &= np.arange(360)[:, None] < 60  # above range and tower, which this job leaves out
        land = alpha[..., 0] > 0.98
        land &= np.arange(360)[:, None] > 230
        assert np.sqrt(np.mean((codes(ours) - codes(truth))[sky_area] ** 2)) < 14
        assert np.sqrt(np.mean((codes(plate) - codes(truth))[sky_area] ** 2)) > 40
        assert np.abs(codes(ours) - codes(truth))[land].mean() < 1.0
