"""Nothing heavy on the interface's thread: no decoder, no kernel, no read of a picture."""

import sys
import threading
from pathlib import Path

import cv2
import numpy as np
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication

import zonal_mantle
from zonal_mantle.comp import Pictures
from zonal_mantle.media import reader
from zonal_mantle.paths import cache_dir_name
from zonal_mantle.shot import load, save
from zonal_mantle.ui import desk as desk_of_window

HEAVY = ("plate", "painting", "pixels", "matte", "matte_steps")


@pytest.fixture
def entered(monkeypatch):
    """What of the core was entered on the interface's thread."""
    found: list[str] = []

    def watched(holder: object, name: str) -> None:
        whole = getattr(holder, name)

        def watch(*values, **named):
            if threading.current_thread() is threading.main_thread():
                found.append(name)
            return whole(*values, **named)

        monkeypatch.setattr(holder, name, watch)

    for name in HEAVY:
        watched(Pictures, name)
    for name in ("read_picture", "still_info", "frames_of", "_read_file"):
        watched(reader, name)
    watched(desk_of_window, "source_problem")
    return found


OURS = (
    str(Path(zonal_mantle.__file__).parent),
    str(cache_dir_name() / "kernels"),
    sys.prefix,
    sys.base_prefix,
)
_opened: list[str] = []
_watching = threading.Event()


def _audit(event: str, values: tuple[object, ...]) -> None:
    if event == "open" and _watching.is_set() and threading.current_thread() is threading.main_thread():
        name = str(values[0])
        if not name.startswith((*OURS, "/proc", "/dev")) and not name.isdecimal():
            _opened.append(name)


@pytest.fixture
def opened():
    """The files that Python opened on the interface's thread, but for the program's own."""
    if not hasattr(sys, "_files_are_watched"):
        sys.addaudithook(_audit)
        sys._files_are_watched = True
    _opened.clear()
    _watching.set()
    yield _opened
    _watching.clear()


@pytest.mark.background
def test_no_file_is_opened_on_the_interface_thread(hands, demo, tmp_path, opened):
    window, desk = hands.window, hands.window.desk
    _watching.clear()
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")
    cv2.imwrite(str(tmp_path / "new.png"), np.full((360, 640, 3), 90, np.uint8))
    _watching.set()
    window.files.open_path(tmp_path / "SLT_0140.shot.json")
    hands.settled()
    window.files.hang_file(tmp_path / "new.png", None)
    desk.file.autosave()
    hands.settled()
    assert desk.file.save(tmp_path / "SLT_0140.shot.json")
    desk.edit_zone(desk.zone.but(name="Other"), "Name")
    assert window.files.save()
    hands.with_file(tmp_path / "shapes.svg", window.bench.matte.shapes._write)
    hands.with_file(tmp_path / "shapes.svg", window.bench.matte.shapes._read)
    window.files.new_from(tmp_path / "new.png")
    hands.settled()
    assert (tmp_path / "shapes.svg").exists()
    assert opened == []


@pytest.mark.background
def test_no_picture_is_read_or_made_on_the_interface_thread(hands, demo, tmp_path, entered):
    window, desk = hands.window, hands.window.desk
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")
    window.files.open_path(tmp_path / "SLT_0140.shot.json")
    hands.settled()
    for zone in desk.shot.zones:
        desk.choose_zone(zone.id)
        for stage in ("Source", "Matte", "Lock", "Place", "Match", "Finish"):
            desk.choose_stage(stage)
            QApplication.processEvents()
            window.grab()
    for frame in list(desk.shot.frames)[:5]:  # every step shows five stages and lists no folder
        desk.set_frame(frame)
        QApplication.processEvents()
        window.bench.refresh()
    for view in ("Plate", "Matte", "Cut-out", "Finished", "Composite"):
        desk.set_view(view=view)
        hands.settled()
    window.rail.toggle_play()
    hands.wait(lambda: desk.frame != list(desk.shot.frames)[4])
    window.rail.toggle_play()
    zone = desk.shot.zones[1]
    desk.edit_zone(zone.but(placement=zone.placement.but(size=zone.placement.size.scaled(1.1))), "Size")
    hands.settled()
    hands.drag(window.section.view, QPoint(300, 30), QPoint(340, 30))
    window.grab()
    assert entered == []


@pytest.mark.background
def test_a_picture_that_was_hung_shows_its_thumbnails_later(hands, demo, tmp_path):
    window, desk = hands.window, hands.window.desk
    save(load(demo / "SLT_0140.shot.json"), tmp_path / "SLT_0140.shot.json")
    window.files.open_path(tmp_path / "SLT_0140.shot.json")
    item = window.stock.sources.item(0)
    hands.wait(lambda: desk.thumbs._images.get(f"source {desk.shot.sources[0].id}", (0, None, ""))[1] is not None)
    assert not item.icon().isNull()
    hands.wait(lambda: all(f"zone {zone.id}" in desk.thumbs._images for zone in desk.shot.zones))
    image = desk.thumbs._images[f"zone {desk.shot.zones[0].id}"][1]
    assert len({image.pixel(x, y) for x in range(0, image.width(), 4) for y in range(0, image.height(), 4)}) > 20


@pytest.mark.background
def test_a_missing_file_is_said_in_stock_and_source_once_it_was_looked_at(hands, demo, tmp_path):
    window, desk = hands.window, hands.window.desk
    shot = load(demo / "SLT_0140.shot.json")
    source = shot.sources[-1]
    save(shot.with_source(source.but(path=str(tmp_path / "gone.exr"))), tmp_path / "a.shot.json")
    window.files.open_path(tmp_path / "a.shot.json")
    hands.wait(lambda: bool(desk.problem_of(desk.shot.source(source.id))))
    row = next(k for k, each in enumerate(desk.shot.sources) if each.id == source.id)
    assert "gone.exr" in window.stock.sources.item(row).toolTip()
