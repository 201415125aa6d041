"""The window: menus, stock, viewer, bench, rail, section."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QListWidgetItem,
    QMainWindow,
    QMenu,
    QMessageBox,
    QVBoxLayout,
    QWidget,
)

from .. import __version__
from ..comp import VIEWS, ViewName
from ..media.colour import encodings
from . import recent
from .bench import Bench
from .compare import HELD, WAYS, Compare
from .desk import Desk
from .files import Files
from .parts import Parts
from .rail import Rail
from .renderpanel import RenderPanel
from .scopes import Scopes
from .section import Section
from .server import FrameServer
from .stock import Stock
from .tools.aim import AimTool
from .tools.base import Tool
from .tools.finish import FinishTool
from .tools.local import LocalTool
from .tools.lock import LockTool
from .tools.pick import PickTool
from .tools.place import PlaceTool
from .tools.sample import Area, SampleTool
from .tools.shape import ShapeTool
from .viewer import Viewer
from .viewstrip import Probe, ViewStrip


class Window(QMainWindow):
    """One shot in one window. The desk holds the shot; the parts ask the desk and are told by it."""

    def __init__(self) -> None:
        super().__init__()
        self.desk = Desk()
        self.server = FrameServer(self.desk.store, self.desk.scheduler)
        self.files = Files(self, self.desk)
        self.viewer = Viewer(self.desk, self.server)
        self.strip = ViewStrip(self.desk, self.viewer)
        self.probe = Probe(self.desk, self.viewer)
        self.shape_tool, self.lock_tool = ShapeTool(self.desk), LockTool(self.desk)
        self.place_tool = PlaceTool(self.desk)
        self.aim_tool = AimTool(self.desk)
        self.local_tool = LocalTool(self.desk)
        self.tools: dict[str, Tool] = {
            "Matte": self.shape_tool, "Lock": self.lock_tool, "Place": self.place_tool, "Match": self.aim_tool,
            "Finish": FinishTool(self.desk, self.local_tool, self.aim_tool.lines),
        }  # fmt: skip
        self.stock = Stock(self.desk)
        self.bench = Bench(
            self.desk, self.shape_tool, self.lock_tool, self.place_tool, self.aim_tool, self.local_tool, self._sample
        )
        self.rail = Rail(self.desk, self.viewer, self.server)
        self.section = Section(self.desk)
        self.parts = Parts(self.desk)
        self.render_panel = RenderPanel(self, self.desk)
        self.scopes = Scopes(self.desk)
        self.scopes.hide()
        self.compare = Compare(self, self.desk, self.viewer)
        self.scopes.region_wanted.connect(
            lambda: self._sample("Drag the part of the picture that counts.", self.scopes.set_region, "Finished")
        )
        self.scopes.patch_wanted.connect(
            lambda: self._sample("Drag a patch to be followed.", self.compare.add_patch, "Finished")
        )
        self.desk.picture_seen = self.viewer.picture_seen
        self._lay_out()
        self._make_menus()
        self.setAcceptDrops(True)
        self.setMinimumSize(1024, 640)
        self.resize(1280, 800)
        self.stock.import_wanted.connect(self.files.import_source)
        self.stock.hang_wanted.connect(self.files.hang)
        self.stock.relink_wanted.connect(self.files.relink)
        self.stock.findings.itemClicked.connect(self._open_part)
        self.stock.file_wanted.connect(lambda path: self.files.hang_file(path, None))
        self.bench.relink_wanted.connect(self.files.relink)
        self.section.view.dropped.connect(self.files.hang_file)
        self.section.pick_wanted.connect(self._pick_airlight)
        self.desk.shot_changed.connect(self._show_name)
        self.desk.choice_changed.connect(self._choose_tool)
        self._show_name()
        self._choose_tool()

    def _lay_out(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        for part in (self.strip, self.viewer, self.probe, self.scopes):
            middle.addWidget(part, 1 if part is self.viewer else 0)
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 0, 0)
        top.setSpacing(1)
        top.addWidget(self.stock)
        top.addLayout(middle, 1)
        top.addWidget(self.bench)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(1)
        whole.addLayout(top, 1)
        whole.addWidget(self.rail)
        whole.addWidget(self.section)
        holder = QWidget()
        holder.setLayout(whole)
        self.setCentralWidget(holder)

    def _add(self, menu: QMenu, text: str, keys: str, action: object) -> QAction:
        entry = menu.addAction(text)
        if keys:
            entry.setShortcut(QKeySequence(keys))
        entry.triggered.connect(lambda *_: action())  # type: ignore[operator]
        return entry

    def _make_menus(self) -> None:
        bar, desk = self.menuBar(), self.desk
        file = bar.addMenu("File")
        self._add(file, "New shot from a plate…", "Ctrl+N", self.files.new)
        self._add(file, "Open shot…", "Ctrl+O", self.files.open)
        self.recent_menu = file.addMenu("Recent shots")
        self.recent_menu.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        self._add(file, "Save", "Ctrl+S", self.files.save)
        self._add(file, "Save as…", "Ctrl+Shift+S", self.files.save_as)
        file.addSeparator()
        self._add(file, "Import and hang…", "Ctrl+I", self.files.import_source)
        self._add(file, "Render…", "Ctrl+R", self.render_panel.show_for_shot)
        file.addSeparator()
        self._add(file, "Quit", "Ctrl+Q", self.close)
        edit = bar.addMenu("Edit")
        self._add(edit, "Undo", "Ctrl+Z", desk.undo)
        self._add(edit, "Redo", "Ctrl+Shift+Z", desk.redo)
        edit.addSeparator()
        self._add(edit, "Duplicate zone", "Ctrl+D", self.parts.duplicate)
        self._add(edit, "Copy zone", "Ctrl+Alt+C", self.parts.copy_zone)
        self._add(edit, "Copy the open stage", "Ctrl+Shift+C", self.parts.copy_stage)
        self._add(edit, "Copy the open part of the match", "", self.parts.copy_part)
        self._add(edit, "Paste zone or stage", "Ctrl+Alt+V", self.parts.paste)
        self._add(edit, "Paste the stage to the whole group", "", lambda: self.parts.paste(to_group=True))
        view = bar.addMenu("View")
        for number, name in enumerate(VIEWS, 1):
            keys = str(number % 10) if number <= 10 else "Shift+0"
            self._add(view, name, keys, lambda name=name: desk.set_view(view=name))
        view.addSeparator()
        self._add(view, "Step: plate, matte, cut-out, composite", "S", desk.step_view)
        self._add(view, "Magnifier", "M", lambda: desk.set_view(loupe=not desk.loupe))
        self._add(view, "Wipe", "W", lambda: desk.set_view(wipe=not desk.wipe))
        self._add(view, "Held still", "H", self.strip._still)
        self._add(view, "Before: without the open part of the match", "B", self.bench.match.flip_before)
        self._add(view, "Next mood", "N", lambda: self.bench.finish.flip_mood())
        self._add(view, "Show delivered frame", "G", self._flip_guides)
        self._add(view, "Scopes", "V", lambda: self.scopes.setVisible(not self.scopes.isVisible()))
        self.lut_menu = view.addMenu("Encoding of the viewing LUT")
        self.lut_menu.aboutToShow.connect(self._fill_encodings)
        compare = view.addMenu("Compare")
        for name in ("A", "B"):
            self._add(compare, f"Keep as state {name}", f"Ctrl+Shift+{name}", lambda name=name: self.compare.keep(name))
        for way, keys in zip(WAYS, ("Shift+1", "Shift+2", "Shift+3")):
            self._add(compare, f"A and B, {way}", keys, lambda way=way: self.compare.show(way))
        self._add(compare, "Follow the patches", "", self.compare.follow)
        self._add(view, "Fit", "F", self.viewer.fit)
        self._add(view, "One to one", "Ctrl+1", self.viewer.actual_size)
        frame = bar.addMenu("Frame")
        self._add(frame, "Play or stop", "L", self.rail.toggle_play)
        self._add(frame, "One frame back", ",", lambda: desk.set_frame(desk.frame - 1))
        self._add(frame, "One frame on", ".", lambda: desk.set_frame(desk.frame + 1))
        self._add(frame, "First frame", "Home", lambda: desk.set_frame(desk.shot.first))
        self._add(frame, "Last frame", "End", lambda: desk.set_frame(desk.shot.last))
        frame.addSeparator()
        self._add(frame, "Work range from this frame", "Shift+Home", lambda: self.parts.work_range(first=desk.frame))
        self._add(frame, "Work range to this frame", "Shift+End", lambda: self.parts.work_range(last=desk.frame))
        self._add(frame, "Work on the whole shot", "", lambda: self.parts.work_range())
        frame.addSeparator()
        self._add(frame, "Cancel what is running", "Ctrl+.", desk.cancel_job)
        help_ = bar.addMenu("Help")
        self._add(help_, "About Zonal Mantle", "", self._about)
        self.name = QLabel()
        self.name.setContentsMargins(0, 0, 10, 0)
        bar.setCornerWidget(self.name, Qt.Corner.TopRightCorner)

    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        for path in recent.recent_shots():
            entry = self.recent_menu.addAction(path.name)
            entry.setToolTip(str(path))
            entry.triggered.connect(lambda _=False, path=path: self._open_recent(path))
        if self.recent_menu.isEmpty():
            self.recent_menu.addAction("None yet").setEnabled(False)

    def _fill_encodings(self) -> None:
        self.lut_menu.clear()
        for name in encodings():
            entry = self.lut_menu.addAction(name)
            entry.setCheckable(True)
            entry.setChecked(name == self.desk.look.lut_encoding)
            entry.triggered.connect(
                lambda _=False, name=name: self.desk.set_view(look=replace(self.desk.look, lut_encoding=name))
            )

    def _open_recent(self, path: Path) -> None:
        if self.files.may_leave():
            self.files.open_path(path)

    def _show_name(self) -> None:
        dot = " ●" if self.desk.unsaved and self.desk.shot.plate else ""
        self.name.setText(f"{self.desk.shot.name}{dot}")
        self.name.setToolTip("Not saved yet" if dot else str(self.desk.path or ""))
        self.name.adjustSize()
        self.setWindowTitle(f"{self.desk.shot.name}{dot} — Zonal Mantle")

    def _choose_tool(self) -> None:
        tool = self.tools.get(self.desk.stage, Tool(self.desk))
        if type(tool) is not type(self.viewer.tool):
            self.shape_tool.cancel()
            self.lock_tool.cancel()
            self.place_tool.cancel()
            self.aim_tool.cancel()
            self.local_tool.cancel()
            self.viewer.set_tool(tool)
            self.probe.show_place(None)
        elif self.desk.stage in ("Lock", "Place", "Match", "Finish"):
            self.probe.show_place(None)  # what is at hand there has hints of its own
        self.viewer.update()

    def _open_part(self, item: QListWidgetItem) -> None:
        """The part of the Place stage in which a finding is answered."""
        part = {"light": "Light", "uncovered": "Cover"}.get(item.data(Qt.ItemDataRole.UserRole).fault)
        if part is not None:
            self.bench.refresh()
            self.bench.place.open_part(part)

    def _flip_guides(self) -> None:
        self.desk.set_view(frame_guides=not self.desk.frame_guides)

    def _pick_airlight(self) -> None:
        desk = self.desk
        if desk.shot.plate is None:
            return
        view = desk.view

        def picked(colour: tuple[float, float, float] | None) -> None:
            if colour is not None:
                desk.edit(desk.shot.but(air=desk.shot.air.but(airlight=colour)), "Pick the airlight")
            self.viewer.set_tool(self.tools.get(desk.stage, Tool(desk)))
            desk.set_view(view=view)

        desk.set_view(view="Plate")
        self.viewer.set_tool(PickTool(desk, picked))
        self.probe.show_place(None)

    def _sample(self, hint: str, then: Callable[[Area], None], shown: ViewName | None = None) -> None:
        """Asks for an area of what the open stage looks at, which is shown until it is given."""
        desk = self.desk
        if desk.shot.plate is None:
            return
        view = desk.view

        def taken(area: Area | None) -> None:
            self.viewer.set_tool(self.tools.get(desk.stage, Tool(desk)))
            desk.set_view(view=view)
            self.probe.show_place(None)
            if area is not None:
                then(area)

        own = desk.stage == "Matte" and desk.cuts_own
        finish = "Finished" if desk.stage == "Finish" else "Plate"
        desk.set_view(view=shown or ("Painting" if own else finish))
        self.viewer.set_tool(SampleTool(desk, hint, taken))
        self.probe.show_place(None)

    def _about(self) -> None:
        QMessageBox.about(
            self,
            "Zonal Mantle",
            f"Zonal Mantle {__version__}\n\nSky replacement and set extension for moving shots.\n"
            "Apache License 2.0. Font: Inter (SIL Open Font License 1.1). Icons: Lucide (ISC).",
        )

    # --- Qt ---
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.desk.cancel_job()
        held = event.key() == HELD and event.modifiers() == Qt.KeyboardModifier.NoModifier
        if held and (event.isAutoRepeat() or self.desk.compared is not None or self.compare.hold()):
            return
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == HELD and not event.isAutoRepeat() and self.desk.compared is not None:
            self.compare.let_go()
            return
        super().keyReleaseEvent(event)

    def changeEvent(self, event: QEvent) -> None:
        if (
            event.type() == QEvent.Type.ActivationChange
            and self.desk.compared is not None
            and not self.isActiveWindow()
        ):
            self.compare.let_go()  # the key is let go somewhere else
        super().changeEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls():
            path = Path(url.toLocalFile())
            if path.name.endswith(".shot.json"):
                if self.files.may_leave():
                    self.files.open_path(path)
                return
            self.files.hang_file(path, None)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.compare.close()
        self.server.close()
        self.desk.close()
        event.accept()
