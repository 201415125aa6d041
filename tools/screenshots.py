"""Takes the pictures in docs/screenshots from the demo, in a real window. Usage: screenshots.py [SHOT] [OUT]"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication

from zonal_mantle.demo import NAME, VERSION
from zonal_mantle.paths import cache_dir
from zonal_mantle.shot import Shape, ShapeKey
from zonal_mantle.ui.theme import dress
from zonal_mantle.ui.window import Window

PICKED = ((300, 675), (1000, 640), (640, 455))  # places on the ground, plate pixels


def settle(app: QApplication, seconds: float) -> None:
    end = time.time() + seconds
    while time.time() < end:
        app.processEvents()
        time.sleep(0.01)


def main() -> None:
    shot = Path(sys.argv[1]) if len(sys.argv) > 1 else cache_dir() / f"demo-{VERSION}" / f"{NAME}.shot.json"
    out = Path(sys.argv[2]) if len(sys.argv) > 2 else Path(__file__).parent.parent / "docs" / "screenshots"
    out.mkdir(parents=True, exist_ok=True)
    app = QApplication(sys.argv[:1])
    dress(app)
    window = Window()
    window.show()
    window.files.open_path(shot)
    desk = window.desk
    settle(app, 10)
    plate, sky, *_ = [zone.id for zone in desk.shot.zones]
    desk.set_frame(desk.shot.first + 23)

    def solve(stage: object) -> None:
        stage.measure.solve("both")
        settle(app, 0.5)
        while desk.job is not None:
            settle(app, 0.2)

    def take(name: str, wait: float = 1.2) -> None:
        settle(app, wait)
        window.grab().save(str(out / f"{name}.png"))

    take("window")
    desk.choose_zone(plate)
    desk.choose_stage("Matte")
    window.bench.matte.open_part("Pulls")
    desk.set_view(view="Alpha apart")
    take("alpha-apart", 3)
    window.bench.matte.open_part("Edge")
    desk.set_view(view="Cut-out")
    window.viewer.zoom_about(window.viewer.to_widget(1130, 350), 4.0)
    take("edge", 6)
    window.viewer.fit()
    window.bench.matte.open_part("Shapes")
    desk.set_view(view="Composite")
    window.shape_tool.choose(desk.shot.mattes[0].shapes[1].id)
    desk.choice_changed.emit()
    desk.set_view(view="Tint")
    take("matte")
    desk.set_view(view="Matte")
    take("matte-grey")
    desk.set_view(view="Cut-out", wipe=True, other_view="Composite")
    take("wipe")
    desk.set_view(view="Plate", wipe=False)
    desk.choose_zone(sky)
    desk.choose_stage("Lock")
    kept = desk.shot
    stage = window.bench.lock
    desk.set_frame(desk.shot.first + 24)
    stage.kind.setCurrentText("plane")
    stage._new()
    corners = ((405, 332), (632, 332), (632, 452), (405, 452))
    field = Shape(id="field", name="Field 1", keys=(ShapeKey(frame=desk.frame, points=corners),))
    desk.edit_lock(desk.lock.but(field=(field,)), "Field")
    solve(stage)
    stage._quad(True)
    desk.set_frame(desk.shot.first + 38)
    take("lock")
    desk.set_view(view="Difference")
    take("difference", 2)
    desk.set_view(view="Plate")
    desk.set_frame(desk.shot.first + 24)
    stage.kind.setCurrentText("camera")
    stage._new()
    solve(stage)
    places = window.lock_tool.places(desk.lock)
    low = [k for k in range(len(places)) if 450 < places[k][1] < 690]
    picked = [min(low, key=lambda k: abs(places[k][0] - x) + abs(places[k][1] - y)) for x, y in PICKED]
    window.lock_tool.points_chosen = picked
    stage.open_part("Correct")
    take("camera", 2)
    stage.open_part("Measure")
    while desk.shot != kept:
        desk.undo()
    settle(app, 8)  # until the readings are those of the shot again
    desk.choose_zone(sky)
    desk.set_view(view="Composite")
    desk.choose_stage("Place")
    take("place")
    desk.choose_zone(desk.shot.zones[2].id)
    desk.choose_stage("Match")
    take("match")
    window.render_panel.show_for_shot()
    window.render_panel.move(window.mapToGlobal(QPoint(420, 180)))
    window.render_panel.folder.setText("saltern/render")
    settle(app, 0.5)
    window.render_panel.grab().save(str(out / "render.png"))
    window.render_panel.hide()
    desk.saved = desk.shot
    window.close()


if __name__ == "__main__":
    main()
