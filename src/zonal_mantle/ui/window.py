"""The window: menus, stock, viewer, bench, rail, section."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QShowEvent
from PySide6.QtWidgets import QDialog, QLabel, QMainWindow, QMessageBox, QStackedWidget

from .. import __version__
from ..comp import Finding, ViewName, reason_set_aside
from ..words import say
from .apart import apart, is_waiting
from .bench import Bench
from .compare import HELD, Compare
from .desk import Desk
from .files import Files
from .findings import Findings
from .firstpass import first_pass
from .guard import guarded
from .keptpictures import keep_picture
from .keypointer import KeyPointer
from .mender import Mender
from .menus import Menus
from .notes import Notes
from .pages import Page, shipped_text, shortcuts_page
from .parts import Parts
from .past import EarlierVersions
from .preferences import Preferences
from .rail import Rail
from .renderpanel import RenderPanel
from .room import Room
from .scopes import Scopes
from .section import Section
from .server import FrameServer
from .start import StartPage
from .states import States
from .stock import Stock
from .theme import STYLE
from .tools.aim import AimTool
from .tools.base import Tool
from .tools.finish import FinishTool
from .tools.local import LocalTool
from .tools.lock import LockTool
from .tools.pick import PickTool
from .tools.place import PlaceTool
from .tools.sample import Area, SampleTool
from .tools.shape import ShapeTool
from .tour import Tour
from .viewer import Viewer
from .viewstrip import Probe, ViewStrip


@guarded
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
        self.desk.is_showing = lambda: self.viewer.is_showing() or bool(self.viewer.message)  # one that fails is over
        self.start = StartPage()
        self.findings = Findings(self.desk)
        self.mender = Mender(self.desk, self.bench, self.files)
        self._pages: dict[str, QDialog] = {}
        self._was_shown = False
        self.face = QStackedWidget()
        self.face.setAccessibleName(say("Viewer"))
        self.face.addWidget(self.start)
        self.face.addWidget(self.viewer)
        self.room = Room(
            self,
            {"Stock": self.stock, "Bench": self.bench, "Rail": self.rail, "Section": self.section,
             "Findings": self.findings},
            [self.strip, self.face, self.probe, self.scopes],
        )  # fmt: skip
        self.name = QLabel()
        self.name.setContentsMargins(0, 5, 10, 0)
        self.menuBar().setCornerWidget(self.name, Qt.Corner.TopRightCorner)
        self.key_pointer = KeyPointer(self, self.desk)
        self.menus = Menus(self)
        self.setStyleSheet(STYLE)
        self.setAcceptDrops(True)
        self._connect()
        self._show_name()
        self._show_face()
        self._choose_tool()

    def _connect(self) -> None:
        self.start.plate_wanted.connect(self.files.new)
        self.start.shot_wanted.connect(self.files.open)
        self.start.demo_wanted.connect(self.open_demo)
        self.start.tour_wanted.connect(self.take_tour)
        self.start.recent_wanted.connect(self.open_recent)
        self.findings.jumped.connect(self._open_part)
        self.rail.findings_wanted.connect(lambda: self.room.show("Findings", not self.room.shows("Findings")))
        for part in (self.findings, self.bench):
            part.mend_wanted.connect(self.mender.do)
        for signal in (self.desk.readings_changed, self.desk.shot_changed, self.desk.measuring_began):
            signal.connect(self._count_findings)
        self.desk.readings_changed.connect(self._measured)
        self.stock.import_wanted.connect(self.files.import_source)
        self.stock.hang_wanted.connect(self.files.hang)
        self.stock.relink_wanted.connect(self.files.relink)
        self.stock.file_wanted.connect(lambda path: self.files.hang_file(path, None))
        self.bench.relink_wanted.connect(self.files.relink)
        self.section.view.dropped.connect(self.files.hang_file)
        self.section.pick_wanted.connect(self._pick_airlight)
        self.desk.shot_changed.connect(self._show_name)
        self.desk.shot_changed.connect(self._show_face)
        self.desk.choice_changed.connect(self._choose_tool)

    def _show_name(self) -> None:
        dot = " ●" if self.desk.unsaved and self.desk.shot.plate else ""
        self.name.setText(f"{self.desk.shot.name}{dot}")
        self.name.setToolTip(say("Not saved yet") if dot else str(self.desk.path or ""))
        self.menuBar().setCornerWidget(self.name, Qt.Corner.TopRightCorner)  # laid out anew: its own size moves nothing
        self.setWindowTitle(say("{name}{dot} — Zonal Mantle", name=self.desk.shot.name, dot=dot))

    def _show_face(self) -> None:
        """The start page while there is no shot, else the viewer."""
        empty = self.desk.shot.plate is None
        self.face.setCurrentWidget(self.start if empty else self.viewer)
        self.room.set_bare(empty)
        for part in (self.strip, self.probe):
            part.setVisible(not empty and not self.room.is_alone)

    def _count_findings(self) -> None:
        open_ = [f for f in self.desk.readings.findings if reason_set_aside(self.desk.shot, f) is None]
        self.rail.show_findings(self.findings.words(), any(finding.severity == "wrong" for finding in open_))

    def _measured(self) -> None:
        """Frames are made ahead once the first findings are there, and once all is measured, the picture that the shot
        opens with is kept for the next time."""
        desk, server = self.desk, self.server
        if desk.readings.mattes or not desk.is_measuring:
            server.hold_ahead(False)
        shot, wanted = desk.shot, self.viewer.wanted(desk.shot.first)
        if desk.path is not None and not (desk.is_measuring or desk.unsaved or desk.comparing or desk.before):
            desk.later("opening", lambda: server.keep_opening(shot, wanted[0]), lambda _: None)

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

    def _open_part(self, finding: Finding) -> None:
        """The part of the Place stage in which a finding is answered."""
        part = {"light": "Light", "uncovered": "Cover"}.get(finding.fault or "")
        if part is not None:
            self.bench.refresh()
            self.bench.place.open_part(part)

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

    # --- what the menus open ---
    def open_demo(self) -> None:
        """The demo shot that ships with the application."""
        if self.files.may_leave():
            self.files.open_demo()

    def open_recent(self, path: Path) -> None:
        """A shot of the list of recent ones."""
        if self.files.may_leave():
            self.files.open_path(path)

    def picture_alone(self) -> None:
        """Gives the picture the whole window, or everything its place again."""
        self.room.picture_alone(self._show_frame_of_picture)

    def _show_frame_of_picture(self, on: bool) -> None:
        for part in (self.strip, self.probe):
            part.setVisible(on)

    def copy_shape(self) -> None:
        """The chosen keep or drop shape to the clipboard."""
        self.bench.matte.shapes.copy_shape()

    def paste(self) -> None:
        """What was copied last: a zone, a stage, or a shape."""
        if self.parts.can_paste():
            self.parts.paste()
        else:
            self.bench.matte.shapes.paste_shape()

    def first_pass(self) -> None:
        """Lock, matte, sky, cover and fits, each a step of its own; then the findings."""

        def passed() -> None:
            self.server.hold_ahead(True)  # what it doubts is wanted before frames to play
            self.room.show("Findings", True)

        first_pass(self.desk, passed)

    def _page(self, name: str, make: Callable[[], QDialog]) -> None:
        page = self._pages.get(name)
        if page is None:
            page = self._pages[name] = make()
        page.show()
        page.raise_()
        page.activateWindow()

    def show_manual(self) -> None:
        """The manual, with a search."""
        self._page("manual", lambda: Page(self, "Manual", shipped_text("MANUAL.md")))

    def take_tour(self) -> None:
        """Six steps over the window, on the demo where nothing is open."""
        if self.desk.shot.plate is not None:
            Tour(self)
        else:
            self.files.open_demo(lambda: Tour(self))

    def show_news(self) -> None:
        """What is new."""
        self._page("news", lambda: Page(self, "What is new", shipped_text("CHANGELOG.md")))

    def show_shortcuts(self) -> None:
        """All keys on one page."""
        self._page("shortcuts", lambda: shortcuts_page(self, self.menus.shortcuts))

    def show_preferences(self) -> None:
        """Memory, scale, folders."""
        cache = self.server.cache
        self._page("preferences", lambda: Preferences(self, cache.resize, self.server.usual_bytes))

    def show_notes(self) -> None:
        """Notes in the shot."""
        self._page("notes", lambda: Notes(self, self.desk, self._sample))

    def show_states(self) -> None:
        """Named states of the shot."""
        self._page("states", lambda: States(self, self.desk, self.viewer.picture_seen))

    def show_past(self) -> None:
        """Earlier versions of the shot."""
        self._page("past", lambda: EarlierVersions(self, self.desk))
        self._pages["past"].refresh()

    def raise_to_front(self) -> None:
        """Another start of the program wanted this window."""
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.raise_()
        self.activateWindow()

    def about(self) -> None:
        """Release and licences."""
        QMessageBox.about(
            self,
            "Zonal Mantle",
            say(
                "Zonal Mantle {version}\n\nSky replacement and set extension for moving shots.\nApache License 2.0. "
                "Font: Inter (SIL Open Font License 1.1). Icons: Lucide (ISC).",
                version=__version__,
            ),
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

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if not self._was_shown:
            self._was_shown = True
            QTimer.singleShot(0, self.room.divide)  # once it is laid out

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
        if is_waiting() or not self.files.may_leave():
            event.ignore()
            return
        self.room.save()
        if self.desk.path is not None:
            path, seen = self.desk.path, self.viewer.picture_seen()
            apart(lambda: keep_picture(path, seen))
        for page in self._pages.values():
            page.close()
        self.compare.close()
        self.server.close()
        self.desk.close()
        event.accept()
