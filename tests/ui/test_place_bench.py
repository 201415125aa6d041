"""The place bench by mouse: hang, meet the horizon, flip, run out, cover, a base out and back, a facade on a wall.

Compared with the demo's own camera.
"""

import json
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from zonal_mantle.demo.shot import camera_at
from zonal_mantle.media import open_source, read_frame
from zonal_mantle.media.still import write_still
from zonal_mantle.place import plate_perspective, plate_places
from zonal_mantle.place.perspective import height_at
from zonal_mantle.shot import load, save


@pytest.fixture
def opened(hands, demo: Path, tmp_path: Path):
    """The demo with its sky on the bench, at the Place stage."""
    desk = hands.window.desk
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")
    hands.window.files.open_path(tmp_path / "SLT_0140.shot.json")
    desk.choose_zone(desk.shot.zones[1].id)
    hands.open_stage(hands.window.bench.place)
    desk.set_frame(1005)
    hands.settled()
    return hands


@pytest.fixture(scope="module")
def truth(demo: Path):
    return json.loads((demo / "truth" / "truth.json").read_text())


def true_horizon(truth, frame: int) -> np.ndarray:
    """Where the level ground ends for the true camera, at both sides of the frame."""
    camera = camera_at(truth, frame - 1001)
    far = [np.array([x, 1e7, camera.position[2]]) + camera.position * [1, 0, 0] for x in (-1.5e6, 1.5e6)]
    a, b = (camera.project(point) for point in far)
    slope = (b[1] - a[1]) / (b[0] - a[0])
    return np.array([a[1] + slope * (x - a[0]) for x in (0, camera.width)])


def measured(opened):
    """Waits until the readings belong to the shot as it is."""
    desk = opened.window.desk
    opened.wait(lambda: not desk.is_measuring, 60)
    opened.window.bench.refresh()
    return desk.readings.places[desk.zone.id]


@pytest.mark.background
def test_horizons_are_drawn_and_met_over_the_shot(opened, truth):
    desk, place = opened.window.desk, opened.window.bench.place
    opened.click(place.tabs["Level"])
    y0, y1 = true_horizon(truth, 1005)
    opened.click(place.level.horizon)
    opened.drag_plate(40, y0 + (y1 - y0) * 40 / 640, 600, y0 + (y1 - y0) * 600 / 640)
    assert desk.shot.lines[0].kind == "horizon"
    assert desk.shot.lines_ride == "hills"
    for frame in (1001, 1010):  # carried by the lock, and true there
        told = plate_perspective(desk.shot, frame).horizon
        for x, y in zip((0, 640), true_horizon(truth, frame)):
            assert height_at(told, x) == pytest.approx(y, abs=1.5)
    opened.keys(Qt.Key.Key_9)
    opened.settled()
    source = desk.shot.source(desk.zone.source)
    opened.window.bench.refresh()
    opened.click(place.level.horizon)
    opened.drag_plate(0.1 * source.width, 0.9 * source.height, 0.9 * source.width, 0.87 * source.height)
    line = desk.shot.source(desk.zone.source).lines[0]
    assert line.a == pytest.approx((0.1 * source.width, 0.9 * source.height), abs=source.width / 200)
    opened.keys(Qt.Key.Key_1)
    opened.settled()
    opened.window.bench.refresh()
    before = measured(opened).horizon
    assert abs(before.off_px) > 3
    opened.click(place.level.meet)
    after = measured(opened).horizon
    assert abs(after.off_px) < 0.5
    assert abs(after.off_deg) < 0.05
    opened.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert abs(measured(opened).horizon.off_px) > 3


@pytest.mark.background
def test_light_from_the_wrong_side_is_a_finding_and_flip_answers_it(opened):
    desk, place = opened.window.desk, opened.window.bench.place
    reading = measured(opened)
    opened.click(place.tabs["Light"])
    opened.click(place.light.shadow)
    side = 40 if reading.lit.side == "right" else -40  # a shadow toward the painting's own light
    opened.drag_plate(300, 300, 300 + side, 304)
    reading = measured(opened)
    assert reading.plate_lit.how == "shadow"
    assert {reading.lit.side, reading.plate_lit.side} == {"left", "right"}
    finding = next(f for f in desk.readings.findings if f.fault == "light")
    assert "is lit from the" in finding.words
    opened.window.bench.refresh()
    opened.wait(lambda: not place.light.preview.pixmap().isNull())  # what it would be is seen before
    place.open_part("Transform")
    opened.click_finding("is lit from the")
    assert place.part == "Light"
    opened.window.bench.refresh()
    opened.click(place.light.flip)
    reading = measured(opened)
    assert reading.lit.side == reading.plate_lit.side
    assert not [f for f in desk.readings.findings if f.fault == "light"]


@pytest.mark.background
def test_a_painting_that_runs_out_is_hatched_named_and_covered(opened):
    desk, place = opened.window.desk, opened.window.bench.place
    size = desk.zone.placement.size.at(1005)
    opened.type_number(place.hang.fields[("", "size")], f"{0.45 * size:.4f}")
    reading = measured(opened)
    assert reading.coverage.covered < reading.coverage.frames
    assert "▲" in place.header.words
    desk.set_frame(reading.coverage.worst_frame)
    opened.settled()
    image = opened.window.viewer.grab().toImage()
    places = [(x, y) for x in range(0, image.width(), 3) for y in range(0, image.height() // 2, 3)]
    colours = [image.pixelColor(x, y) for x, y in places]
    found = sum(c.red() > 190 and c.green() < 120 and c.blue() < 40 for c in colours)
    assert found > 20  # the hatch
    opened.click(place.tabs["Cover"])
    opened.click(place.cover.cover)
    opened.wait(lambda: desk.job is None, 60)
    reading = measured(opened)
    assert reading.coverage.covered == reading.coverage.frames
    assert desk.zone.placement.size.at(1005) >= 0.45 * size - 1e-6


def test_a_base_goes_out_and_comes_back_in_register(opened, tmp_path):
    desk, place = opened.window.desk, opened.window.bench.place
    opened.click(place.tabs["Cover"])
    path = tmp_path / "wide.exr"
    opened.with_file(path, lambda: opened.click(place.cover.make))
    opened.wait(lambda: desk.job is None and path.exists(), 60)
    assert (tmp_path / "wide.guides.png").exists()
    base = desk.shot.bases[0]
    opened.window.bench.refresh()
    painted = read_frame(open_source(path, "x", as_still=True), 1)
    painted[60:70, :, :3] = [0.9, 0.05, 0.05]  # what the painter did
    write_still(tmp_path / "painted.exr", painted, "half", "zip")
    opened.with_file(tmp_path / "painted.exr", lambda: opened.click(place.cover.hang))
    zone = desk.zone
    assert desk.shot.source(zone.source).path.endswith("painted.exr")
    assert zone.placement.rides == base.rides
    reference = desk.shot.lock(base.rides).reference_frame
    at = plate_places(desk.shot, zone, reference, np.array([[100.0, 65.0]]))[0]
    assert at == pytest.approx(np.array(base.origin) + [100, 65], abs=1e-3)


def test_a_facade_lands_on_the_wall_and_stays(opened, truth, tmp_path):
    """The four edges of the boiling house's roof panel drawn by mouse; against the true camera on other frames."""
    desk, place = opened.window.desk, opened.window.bench.place
    corner, across, down = (np.array(v) for v in truth["panels_m"]["house roof"])
    corners_m = [corner, corner + across, corner + across + down, corner + down]

    def seen(frame):
        camera = camera_at(truth, frame - 1001)
        return np.array([camera.project(point) for point in corners_m])

    write_still(tmp_path / "facade.png", np.full((200, 300, 3), 0.5, np.float32), "uint8")
    desk.lock_id = "works"
    opened.window.files.hang_file(tmp_path / "facade.png", 74.0)
    desk.set_view(view="Plate")
    opened.settled()
    opened.open_stage(place)
    opened.click(place.tabs["Level"])
    opened.click(place.level.wall)
    quad = seen(1005)
    opened.window.viewer.zoom_about(opened.window.viewer.to_widget(*quad.mean(axis=0)), 2.0)
    for a, b in ((0, 1), (3, 2), (0, 3), (1, 2)):
        start, end = quad[a] + 0.1 * (quad[b] - quad[a]), quad[a] + 0.9 * (quad[b] - quad[a])
        opened.drag_plate(*start, *end)
    assert desk.zone.placement.way == "corner pin"
    order = np.array([[0, 0], [300, 0], [300, 200], [0, 200]], float)
    for frame in (1002, 1005, 1009):
        got = plate_places(desk.shot, desk.zone, frame, order)
        apart = np.linalg.norm(got[:, None] - seen(frame)[None], axis=2).min(axis=1)
        assert apart.max() < 1.5  # the mouse itself is within half a screen pixel; the lock within the rest


def test_ways_change_without_a_jump_and_pins_are_dragged_and_nudged(opened):
    desk, place = opened.window.desk, opened.window.bench.place
    before = plate_places(desk.shot, desk.zone, 1005, np.array([[200.0, 100.0], [900, 500]]))
    opened.choose(place.hang.way, "corner pin")
    assert desk.zone.placement.way == "corner pin"
    now = plate_places(desk.shot, desk.zone, 1005, np.array([[200.0, 100.0], [900, 500]]))
    assert now == pytest.approx(before, abs=0.01)
    opened.window.viewer.zoom_about(QPoint(300, 200).toPointF(), 0.4)
    corner = plate_places(desk.shot, desk.zone, 1005, np.array([[0.0, 0.0]]))[0]
    opened.drag_plate(*corner, corner[0] + 30, corner[1] + 20)
    moved = plate_places(desk.shot, desk.zone, 1005, np.array([[0.0, 0.0]]))[0]
    assert moved == pytest.approx(corner + [30, 20], abs=4)
    opened.window.viewer.setFocus()
    QTest.keyClick(opened.window.viewer, Qt.Key.Key_Right)
    QTest.keyClick(opened.window.viewer, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    nudged = plate_places(desk.shot, desk.zone, 1005, np.array([[0.0, 0.0]]))[0]
    assert nudged == pytest.approx(moved + [1, 0.1], abs=0.02)
    opened.choose(place.hang.way, "dome")
    tilt = desk.zone.placement.dome.tilt_deg.at(1005)
    opened.drag_plate(300, 100, 300, 140)
    assert desk.zone.placement.dome.tilt_deg.at(1005) < tilt


def test_laying_seam_mirror_and_group(opened):
    desk, place = opened.window.desk, opened.window.bench.place
    opened.click(place.tabs["Blend"])
    opened.choose(place.lay.mode, "multiply")
    assert desk.zone.blend.mode == "multiply"
    opened.click(place.lay.seam, QPoint(6, 8))
    opened.click(place.lay.mirror, QPoint(6, 8))
    opened.window.bench.refresh()
    opened.click(place.lay.line)
    opened.drag_plate(60, 250, 580, 250)
    assert desk.zone.mirror.on
    assert desk.zone.seam.on
    (_, y0), (_, y1) = desk.zone.mirror.line
    assert abs(y1 - y0) < 6
    opened.settled()
    opened.click(place.tabs["Transform"])
    other = desk.shot.zones[2]
    for zone in (desk.shot.zones[1], other):
        desk.choose_zone(zone.id)
        opened.window.bench.refresh()
        place.hang.grouped.setText("far")
        place.hang.grouped.editingFinished.emit()
    stood = [plate_places(desk.shot, z, 1005, np.array([[10.0, 10.0]]))[0] for z in desk.shot.zones[1:3]]
    desk.choose_zone(desk.shot.zones[1].id)
    opened.window.viewer.setFocus()
    for _ in range(5):
        QTest.keyClick(opened.window.viewer, Qt.Key.Key_Right)
    now = [plate_places(desk.shot, z, 1005, np.array([[10.0, 10.0]]))[0] for z in desk.shot.zones[1:3]]
    for a, b in zip(stood, now):
        assert b - a == pytest.approx([5, 0], abs=0.2)


@pytest.mark.background
def test_a_sky_of_the_library_is_hung_as_a_dome(opened, monkeypatch, tmp_path):
    from zonal_mantle.skies import make_library
    from zonal_mantle.ui import skies

    monkeypatch.setattr(skies, "library_folder", lambda: tmp_path / "skies")
    for module in ("ui.stock", "comp.shelf"):
        monkeypatch.setattr(f"zonal_mantle.{module}.library_folder", lambda: tmp_path / "skies")
    make_library(tmp_path / "skies", small=16)
    desk, stock = opened.window.desk, opened.window.stock
    measured(opened)
    stock.shelf.setCurrentText("Skies")
    stock._shelve("Skies")
    opened.wait(lambda: stock.skies.count() == 12, 60)
    costs = [fit.cost for fit in stock.skies.fits]
    assert costs == sorted(costs)
    assert "ΔE" in stock.skies.item(0).toolTip()
    row = next(k for k, fit in enumerate(stock.skies.fits) if fit.card.around)
    stock.skies.setCurrentRow(row)
    stock._hang()
    assert desk.zone.placement.way == "dome"
    assert desk.shot.source(desk.zone.source).sun is not None
