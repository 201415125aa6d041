"""Takes the pictures in docs/screenshots from the demo, in a real window. Usage: screenshots.py [SHOT] [OUT]"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication

from zonal_mantle.demo import NAME, VERSION
from zonal_mantle.finish import looks_in, read_look
from zonal_mantle.paths import cache_dir, state_dir
from zonal_mantle.shot import (
    Aim,
    AimArea,
    Keyed,
    Light,
    LocalLight,
    LookUse,
    Matte,
    Output,
    Shape,
    ShapeKey,
    autosave_path,
    ellipse_key,
)
from zonal_mantle.ui.recent import remember
from zonal_mantle.ui.theme import dress
from zonal_mantle.ui.window import Window

HORIZON = ((60.0, 430.2), (1220.0, 424.6))  # plate pixels, on the frame that is shown
WATER = ((425.0, 436), (1280.0, 436), (1280.0, 500), (900.0, 572), (290.0, 572), (290.0, 470))
SHADOW = ((905.0, 455.0), (990.0, 459.0))  # on the ground, as if the sun stood on the left
WAGON = (40.0, 455.0, 220.0, 515.0)  # its painted wood, plate pixels
PICKED = ((300, 675), (1000, 640), (640, 455))  # places on the ground, plate pixels

SLOWEST_S = 60  # that a picture of the viewer is waited for


def settle(app: QApplication, seconds: float) -> None:
    end = time.time() + seconds
    while time.time() < end:
        app.processEvents()
        time.sleep(0.01)


def _measured(window: Window, app: QApplication) -> None:
    """Until the readings are those of the shot."""
    settle(app, 1.5)
    while window.desk.measuring.reader is not None:
        settle(app, 0.3)
    settle(app, 0.5)


def _findings(window: Window, app: QApplication, take: Callable[..., None], sky: str) -> None:
    """A sky that rides on nothing and runs out, with what mends it."""
    desk = window.desk
    kept = desk.shot
    zone = desk.shot.zone(sky)
    small = zone.placement.size.scaled(0.55)
    desk.edit_zone(zone.but(placement=zone.placement.but(rides=None, size=small)), "Let go")
    desk.choose_zone(sky)
    desk.choose_stage("Place")
    window.room.show("Findings", True)
    _measured(window, app)
    take("findings", 2)
    window.room.show("Findings", False)
    while desk.shot != kept:
        desk.undo()
    _measured(window, app)


def _dome(window: Window, app: QApplication, take: Callable[..., None], sky: str, lens: str) -> None:
    """A lat-long sky of the library under the solved camera, and the library beside it; then mirrored in the pans."""
    desk, shelf = window.desk, window.stock
    desk.choose_zone(sky)
    desk.edit(desk.shot.without_zone(sky), "Take the sky away")
    desk.choose_lock(lens)
    shelf.shelf.setCurrentText("Skies")
    shelf._shelve("Skies")
    settle(app, 1)
    while desk.job is not None:
        settle(app, 0.3)
    settle(app, 0.5)
    names = [f"{fit.card.name} {fit.card.around}" for fit in shelf.skies.fits]
    shelf.skies.setCurrentRow(names.index("Fair cumulus True"))
    shelf._hang()
    zone = desk.zone
    dome = zone.placement.dome
    dome = dome.but(
        turn_deg=dome.turn_deg.with_value(desk.frame, -25.0), tilt_deg=dome.tilt_deg.with_value(desk.frame, -1.8)
    )
    desk.edit_zone(zone.but(placement=zone.placement.but(dome=dome)), "Turn")
    window.bench.place.open_part("Transform")
    desk.set_view(view="Composite")
    _measured(window, app)
    take("dome", 2)
    shelf.shelf.setCurrentText("Stock")
    shelf._shelve("Stock")


def _match(window: Window, app: QApplication, take: Callable[..., None]) -> None:
    """The mill tower with the wagon's wood as its aim, lens and grain fitted."""
    desk, match = window.desk, window.bench.match
    tower = next(zone for zone in desk.shot.zones if zone.name == "Mill tower")
    desk.choose_zone(tower.id)
    desk.choose_stage("Match")
    aim = Aim(areas=(AimArea(box=WAGON, frame=desk.frame, distance_m=9.0),))
    desk.edit_zone(tower.but(match=tower.match.but(aim=aim)), "Aim")
    for part in (match.lens, match.grain):
        part.fit_now()
        while desk.job is not None:
            settle(app, 0.2)
    match.open_part("Tone")
    match.tone.open_page("Balance")
    _measured(window, app)
    take("match", 2)


def _light(window: Window, app: QApplication, take: Callable[..., None]) -> None:
    """A shadow that says that the plate is lit from the other side than the sky, and the sky flipped as it would be."""
    desk = window.desk
    window.bench.place.open_part("Light")
    a, b = SHADOW
    desk.edit(desk.shot.but(light=Light(kind="shadow", a=a, b=b, frame=desk.frame)), "The plate's light")
    _measured(window, app)
    take("light", 4)
    desk.undo()
    window.bench.place.open_part("Transform")


def _level(window: Window, app: QApplication, take: Callable[..., None]) -> None:
    """Horizons of plate and painting, met; then the sky mirrored in the brine pans."""
    desk, lines = window.desk, window.place_tool.lines
    window.bench.place.open_part("Level")
    lines.add("horizon", *HORIZON)
    source = desk.shot.source(desk.zone.source)
    desk.set_view(view="Painting")
    lines.add("horizon", (0.04 * source.width, 0.84 * source.height), (0.96 * source.width, 0.83 * source.height))
    desk.set_view(view="See-through")
    window.bench.place.level.align()
    _measured(window, app)
    take("level", 2)
    zone = desk.zone
    pans = Shape(id="pans", name="Pans", feather_out_px=6, keys=(ShapeKey(frame=desk.frame, points=WATER),))
    desk.edit(desk.shot.with_matte(Matte(id="water", name="Water", shapes=(pans,))), "Water")
    water = zone.mirror.but(
        matte="water",
        on=True,
        true=False,
        opacity=Keyed(constant=0.5),
        blur_px=Keyed(constant=2.0),
        ripple_px=Keyed(constant=3.0),
    )
    desk.edit_zone(zone.but(mirror=water), "Mirror")
    window.bench.place.open_part("Blend")
    desk.set_view(view="Composite")
    take("water", 3)


def _flag(window: Window, app: QApplication, take: Callable[..., None]) -> None:
    """The signal flag, keyed in its own picture."""
    desk = window.desk
    window.files.hang(next(source.id for source in desk.shot.sources if source.name == "signal_flag"))
    desk.choose_stage("Matte")
    window.bench.refresh()
    window.bench.matte._new()
    window.bench.matte.open_part("Pulls")
    window.section.view.update()
    desk.edit_zone(desk.zone.but(distance_m=160.0), "Distance")
    desk.set_view(view="Cut-out")
    window.viewer.fit()
    _measured(window, app)
    take("own-picture", 2)


def _finish(window: Window, app: QApplication, take: Callable[..., None]) -> None:
    """A look at part strength, a warm patch that rides, an aspect; then scopes and two states beside one another."""
    desk, bench = window.desk, window.bench
    desk.choose_zone(next(zone.id for zone in desk.shot.zones if zone.name == "Mill tower"))
    bench._open_finish()
    settle(app, 1)
    shape = Shape(
        id="shape", form="curve", keys=(ellipse_key(desk.frame, (560, 60), (1010, 520)),), feather_in_px=90,
        feather_out_px=110, rides=next(lock.id for lock in desk.shot.locks if lock.holds),
    )  # fmt: skip
    warm = LocalLight(
        id="warm",
        name="Warm patch",
        shape=shape,
        exposure_stops=Keyed(constant=0.5),
        temperature_k=Keyed(constant=4700),
    )
    look = LookUse(look=read_look(looks_in()["Slack tide"]).look, strength=Keyed(constant=0.6))
    plain = desk.shot
    finish = plain.finish.but(look=look, lights=(warm,), output=Output(aspect=2.39))
    desk.edit(plain.but(finish=finish), "Finish")
    window.local_tool.choose("warm")
    bench.finish.open_part("Local")
    _measured(window, app)
    take("finish", 3)
    window.compare.keep("A")
    desk.edit(plain.but(finish=finish.but(look=None, lights=())), "Without")
    window.compare.keep("B")
    window.scopes.show()
    window.scopes.over.setChecked(True)
    bench.finish.open_part("Tone")
    bench.finish.tone.open_page("Look")
    desk.undo()
    window.compare.show("side by side")
    settle(app, 2)
    window.viewer.fit()
    take("scopes", 4)
    window.compare.show("side by side")
    window.scopes.hide()
    bench._open_finish()
    desk.set_view(view="Composite")


def main() -> None:
    shot = Path(sys.argv[1]) if len(sys.argv) > 1 else cache_dir() / f"demo-{VERSION}" / f"{NAME}.shot.json"
    out = Path(sys.argv[2]) if len(sys.argv) > 2 else Path(__file__).parent.parent / "docs" / "screenshots"
    out.mkdir(parents=True, exist_ok=True)
    autosave_path(shot).unlink(missing_ok=True)  # one that is left over would be asked about
    app = QApplication(sys.argv[:1])
    dress(app)
    (state_dir() / "window.json").unlink(missing_ok=True)
    remember(shot)
    window = Window()
    window.resize(1280, 800)
    window.show()
    desk = window.desk
    settle(app, 1)
    window.grab().save(str(out / "start.png"))
    window.files.open_path(shot)
    settle(app, 4)
    _measured(window, app)
    plate, sky, *_ = [zone.id for zone in desk.shot.zones]
    desk.set_frame(desk.shot.first + 23)

    def solve(stage: object) -> None:
        stage.measure.solve("both")
        settle(app, 0.5)
        while desk.job is not None:
            settle(app, 0.2)

    def take(name: str, wait: float = 1.2) -> None:
        settle(app, wait)
        latest = time.time() + SLOWEST_S
        while not window.viewer.is_showing() and time.time() < latest:
            settle(app, 0.2)
        settle(app, 0.2)
        window.grab().save(str(out / f"{name}.png"))

    take("window")
    _findings(window, app, take, sky)
    desk.choose_zone(plate)
    desk.choose_stage("Matte")
    window.bench.matte.open_part("Pulls")
    desk.set_view(view="Alpha check")
    take("alpha-check", 3)
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
    desk.set_view(view="Plate")
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
    lens = desk.lock.id
    _dome(window, app, take, sky, lens)
    while desk.shot != kept:
        desk.undo()
    _measured(window, app)
    desk.choose_zone(sky)
    desk.set_view(view="Composite")
    desk.choose_stage("Place")
    take("place")
    _light(window, app, take)
    _level(window, app, take)
    while desk.shot != kept:
        desk.undo()
    _match(window, app, take)
    _flag(window, app, take)
    while desk.shot != kept:
        desk.undo()
    _finish(window, app, take)
    while desk.shot != kept:
        desk.undo()
    window.render_panel.show_for_shot()
    window.render_panel.move(window.mapToGlobal(QPoint(420, 180)))
    window.render_panel.folder.setText("saltern/render")
    settle(app, 0.5)
    window.render_panel.grab().save(str(out / "render.png"))
    window.render_panel.hide()
    desk.file.saved = desk.shot
    window.close()


if __name__ == "__main__":
    main()
