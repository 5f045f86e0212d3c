"""The window: course, viewer, time and settings, the menus and their commands."""

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, QProcess, QSize, Qt, QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from lodestar.core.media.plates import MOVIE_SUFFIXES
from lodestar.core.media.stills import SEQUENCE_SUFFIXES
from lodestar.core.shape.face_files import ENDINGS as FACE_ENDINGS
from lodestar.core.shape.fonts import system_faces
from lodestar.core.solve.views import triangulate
from lodestar.desktop import ICON

from . import derived, theme
from .commands import Command, Commands, Finder
from .course import Course
from .errors import Log, Strip
from .fields import FocusFrame, button
from .help import ABOUT, KEYS, Help
from .needs import Needs, a_clip, a_solve
from .panels.finish import FinishPanel
from .panels.foreground import ForegroundPanel
from .panels.ground import GroundPanel
from .panels.light import LightPanel
from .panels.output import OutputPanel
from .panels.panel import Panel
from .panels.place import PlacePanel
from .panels.plate import PlatePanel
from .panels.solve import SolvePanel
from .panels.track import TrackPanel
from .pictures import Pictures
from .preferences import Preferences
from .preferences import apply as apply_preferences
from .session import DRAG_REFRESH_MS, STEPS, Gently, Session
from .shot_commands import ShotCommands
from .shot_files import ShotFiles, picture_place
from .steps_taken import StepsTaken
from .timeline.commands import TimeCommands
from .timeline.time import Time
from .viewer.tools.handles import MoveObject
from .viewer.viewer import Viewer

PANELS = (PlatePanel, TrackPanel, SolvePanel, GroundPanel, PlacePanel, LightPanel, ForegroundPanel, FinishPanel, OutputPanel)
CLIPBOARD = "application/x-bright-lodestar-objects"
SHOWN_RECENT = 6
FIRST_FILL_MS, FILL_MS = 1000, 30  # until panels that are not shown are made, and after each part of them
FRAME = QSize(8, 36)  # about what a window manager adds; a window is not framed before it is shown
NOTICED_S = 20.0  # a job that took so long is worth a notice
CLIPS = f"Clips ({' '.join('*' + s for s in sorted(MOVIE_SUFFIXES | SEQUENCE_SUFFIXES))})"


def _load_ahead() -> None:
    """What would keep the window waiting at its first use: the list of faces, and the compiled kernel that errors are worked out by."""
    system_faces()
    none = np.zeros(2, np.int64)
    triangulate(np.repeat(np.eye(3)[None], 2, 0), np.eye(3)[:2], np.arange(2), none, np.zeros((2, 2)), 1, 1.0)


class Window(QMainWindow):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.pictures = Pictures(self)
        self.setObjectName("window")
        self.setWindowTitle("Bright Lodestar")
        self.setAcceptDrops(True)
        self.setMinimumSize(1000, 640)
        self.commands = Commands(self)
        self.viewer = Viewer(session, self.pictures)
        self.canvas = self.viewer.canvas
        self.time = Time(session, self.pictures, self.canvas)
        self.shot = ShotCommands(self, session)
        self.commands.add(*self.shot.commands())
        self._add_commands()
        self.course = Course(session, self.commands.run)
        self.course.foot.messages.clicked.connect(lambda: self.commands.run("messages"))
        self.setCentralWidget(QWidget())
        self.settings = QStackedWidget(self.centralWidget())
        self.settings.setFixedWidth(theme.SETTINGS_WIDTH)
        self.panels: dict[str, Panel] = {p.step: p(session, self.commands, self.settings) for p in PANELS}
        for panel in self.panels.values():
            self.settings.addWidget(panel)
        self._no_panel = QWidget()  # while that of the step in hand is made
        self.settings.addWidget(self._no_panel)
        output = self.panels["Output"]
        assert isinstance(output, OutputPanel)
        self.shot.output = output.filled
        self.fill_ahead = True  # also the panels of steps that nobody turned to yet
        self._filling = QTimer(self)
        self._filling.timeout.connect(self._fill_panels)
        self.commands.add(*TimeCommands(session, self.time).commands())
        self._arrange()
        self.commands.fill_menus(["Shot", "Edit", "View", "Go", "Object", "Time", "Help"])
        for part in (self.time.lanes, self.time.curves):
            part.customContextMenuRequested.connect(lambda at, part=part: self.commands.menus["Time"].exec(part.mapToGlobal(at)))
        for view in (self.canvas, self.viewer.scene):
            view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            view.customContextMenuRequested.connect(lambda at, view=view: self._context(view, at))
        self._menu_corner()
        self.focus_frame = FocusFrame(self, self.canvas, self.viewer.scene, self.time.ruler, self.time.lanes, self.time.curves)
        threading.Thread(target=_load_ahead, name="fonts", daemon=True).start()
        self._panel_timer = QTimer(self, singleShot=True)
        self._panel_timer.timeout.connect(self._refresh_panel)
        self._gently = Gently(session, self.refresh)
        session.files.pictured = lambda: self.canvas.image
        session.frame_changed.connect(lambda _: self._panel_later())
        session.worked_out.connect(session.view_changed)  # from the worker's thread to this one
        self._tell_worked_out = session.worked_out.emit
        derived.waiting.append(self._tell_worked_out)
        session.jobs.changed.connect(lambda: self._panel_timer.start(0))
        session.jobs.ended.connect(self._notice)
        self.resize(QSize(1280, 800).boundedTo(self.screen().availableSize() - FRAME))
        geometry = session.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
        apply_preferences(session, self.pictures)
        QApplication.instance().focusChanged.connect(self._focus_moved)  # type: ignore[union-attr]
        self.refresh()
        self.canvas.setFocus()

    def _arrange(self) -> None:
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(1, 0, 1, 0)
        column.setSpacing(0)
        column.addWidget(self.viewer, 1)
        column.addWidget(self.time)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        for part in (self.course, middle, self.settings):
            row.addWidget(part, 1 if part is middle else 0)
        box = QVBoxLayout(self.centralWidget())
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addLayout(row, 1)
        self.invitation = Invitation(self.commands, self.canvas, self.session.files, self.shot.open_path)
        self.strip = Strip(self.session, self.viewer.split)
        self.drop_mark = QLabel("Let go here: a clip or a shot is opened, a drawing or picture is placed where it falls", self)
        self.drop_mark.setObjectName("drop-mark")
        self.drop_mark.setAlignment(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom)
        self.drop_mark.setStyleSheet(
            f"#drop-mark {{ background: transparent; border: 2px solid {theme.ACCENT}; color: {theme.TEXT}; padding: 12px; }}"
        )
        self.drop_mark.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.drop_mark.hide()

    def _menu_corner(self) -> None:
        corner = _Corner()
        corner.setProperty("role", "panel")
        row = QHBoxLayout(corner)
        row.setContentsMargins(0, 0, 12, 0)
        self.name = QLabel()
        self.name.setObjectName("shot-name")
        self.name.setProperty("role", "label")
        find = QToolButton(text="Find a command  Ctrl K")
        find.setObjectName("find-command")
        find.setIcon(theme.icon("search", theme.QUIET))
        find.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        find.setToolTip("Type what you want to do (Ctrl+K)")
        find.clicked.connect(lambda: self.commands.run("find"))
        row.addStretch(1)
        row.addWidget(self.name)
        row.addSpacing(24)
        row.addWidget(find)
        self.menuBar().setCornerWidget(corner)

    def _add_commands(self) -> None:
        s, has = self.session, a_clip(self.session)
        add = self.commands.add
        add(
            Command("undo", "Edit", "Undo", s.undo, "Ctrl+Z", Needs((lambda: s.history.undo_label is not None, "a step to take back"))),
            Command("redo", "Edit", "Redo", s.redo, "Ctrl+Shift+Z", Needs((lambda: s.history.redo_label is not None, "a step that was undone"))),
            Command("steps", "Edit", "What was done…", lambda: StepsTaken(s, self).show(), "Ctrl+Alt+Z", tip="the list of steps, to go back to any"),
            Command("preferences", "Edit", "Preferences…", lambda: Preferences(s, self.pictures, self).show(), "Ctrl+;", divided=True),
            Command("choose-all", "Edit", "Choose all", self._choose_all, "Ctrl+A", has, "tracks in Track and Solve, objects elsewhere", True),
            Command("choose-none", "Edit", "Choose nothing", lambda: s.select("", frozenset()), "Ctrl+Shift+A", has),
        )
        add(
            *[
                Command(f"view-{v.lower()}", "View", v, lambda v=v: self.viewer.show_view(v), f"F{i + 5}")
                for i, v in enumerate(("Picture", "Scene", "Both"))
            ],
            Command("fit", "View", "Fit", self._fit, "F", divided=True),
            Command("fit-chosen", "View", "Fit the scene to what is chosen", self._fit_chosen, "Shift+F"),
            Command("beside", "View", "Scene beside or below the picture", self.viewer.turn_split),
            Command("full", "View", "100 %", lambda: self.canvas.set_zoom(1.0), "Ctrl+1"),
            Command("dim", "View", "Dim picture", self._dim, "D", divided=True),
            Command("before-after", "View", "Before–after", lambda: self.viewer.before_after.toggle(), "B", has),
            Command("sides", "View", "Hide or show both side columns", self.toggle_sides, "H"),
            Command("messages", "View", "Messages", lambda: Log(s, self).show()),
        )
        add(
            *[Command(f"go-{step.lower()}", "Go", step, lambda step=step: s.show_step(step), f"Ctrl+Alt+{i + 1}") for i, step in enumerate(STEPS)],
            Command("play", "Go", "Play or stop", self.time.player.toggle, "Space", has, divided=True),
            Command("next", "Go", "Next frame", lambda: s.show_frame(s.frame + 1), ".", has),
            Command("previous", "Go", "Previous frame", lambda: s.show_frame(s.frame - 1), ",", has),
            Command("first", "Go", "First frame", lambda: s.show_frame(s.shot.first), "Home", has),
            Command("last", "Go", "Last frame", lambda: s.show_frame(s.shot.last), "End", has),
            Command("in", "Go", "In point here", lambda: s.set("Set in", first=min(s.frame, s.shot.last)), "Alt+,", has, divided=True),
            Command("out", "Go", "Out point here", lambda: s.set("Set out", last=max(s.frame, s.shot.first)), "Alt+.", has),
            Command("worst", "Go", "Weakest frame", self._weakest, enabled=a_solve(s)),
        )
        add(
            Command("help", "Help", "About this step", lambda: self.show_help(s.step), "F1"),
            Command("shortcuts", "Help", "Shortcuts", lambda: self.show_help(KEYS), "Shift+F1"),
            Command("find", "Help", "Find a command…", lambda: Finder(self.commands).open(), "Ctrl+K", divided=True),
            Command("about", "Help", "About Bright Lodestar", lambda: self.show_help(ABOUT), divided=True),
        )

    # what commands do ----------------------------------------------------------------------------------------------------------

    def _fit(self) -> None:
        if self.viewer.view == "Scene" or self.viewer.scene.hasFocus():
            self.viewer.scene.fit()
        else:
            self.canvas.set_zoom(0.0)

    def _fit_chosen(self) -> None:
        if self.viewer.view == "Picture":
            self.viewer.show_view("Both")
        self.viewer.scene.fit(chosen=True)

    def _choose_all(self) -> None:
        s = self.session
        if s.step in ("Track", "Solve") and s.shot.tracks is not None:
            s.select(s.selected, frozenset(range(s.shot.tracks.count)))
        else:
            ids = [o.id for o in s.shot.objects]
            s.select(ids[0] if ids else "", others=frozenset(ids[1:]))

    def _dim(self) -> None:
        self.canvas.drawn["dim"] = not self.canvas.drawn["dim"]
        self.viewer._step = ""
        self.viewer.refresh()

    def _weakest(self) -> None:
        solve = self.session.shot.solve
        self.session.show_frame(int(solve.frames[int(np.argmax(solve.frame_error))]))

    def show_help(self, page: str) -> None:
        """The help on a page, in the window that is open already or a new one."""
        there = self.findChild(Help)
        if there is not None:
            there.show_page(page)
            there.raise_()
        else:
            Help(self.commands, page, self).show()

    def _context(self, part: QWidget, at: QPoint) -> None:
        """What can be done with what is under the pointer, or where nothing is with the shot."""
        s = self.session
        tool = self.viewer.scene.tool if part is self.viewer.scene else MoveObject(self.canvas)
        under = tool.object_under(QPointF(at)) if s.shot.plate is not None and tool.canvas.camera() is not None else None
        if under is not None:
            if under.id not in s.chosen_objects():
                s.select(under.id)
            own: tuple[str, ...] = (
                "duplicate",
                "copy",
                "cut",
                "delete",
                "",
                "up",
                "lie",
                "face",
                "wall",
                "drop",
                "",
                "add-spot",
                "add-area-lamp",
                "",
                "fit-chosen",
            )
        else:
            own = ("place", "paste", "", "choose-all", "choose-none", "", "fit", "full", "before-after", "sides")
        self.commands.context_menu(*own).popup(part.mapToGlobal(at))

    def toggle_sides(self) -> None:
        shown = self.course.isVisible()
        self.course.setVisible(not shown)
        self.settings.setVisible(not shown)

    # the window itself -----------------------------------------------------------------------------------------------------------

    def panel(self, step: str) -> Panel:
        """The settings of a step, with all that they hold."""
        return self.panels[step].filled()

    def _fill_panels(self) -> None:
        """A part of what panels hold: first of the step in hand, which is shown once it is whole; then of the others, so that a first look
        at them need not wait. All at once would keep the window busy for some tenths of a second."""
        here = self.panels[self.session.step]
        if here.fill_on():
            if here.is_filled:
                self._filling.start(FIRST_FILL_MS)
                self._refresh_panel()
        elif self.fill_ahead and any(panel.fill_on() for panel in self.panels.values()):
            self._filling.start(FILL_MS)
        else:
            self._filling.stop()

    def refresh(self) -> None:
        shot = self.session.shot
        mark = " · unsaved" if self.session.files.unsaved and shot.plate else ""
        self.name.setText(f"{shot.name}{mark}" if shot.plate else "") if hasattr(self, "name") else None
        self.setWindowTitle(f"{shot.name} · Bright Lodestar" if shot.plate else "Bright Lodestar")
        self.invitation.setVisible(shot.plate is None)
        undo, redo = self.session.history.undo_label, self.session.history.redo_label
        if self.commands.actions:
            self.commands.actions["undo"].setText(f"Undo {undo}" if undo else "Undo")
            self.commands.actions["redo"].setText(f"Redo {redo}" if redo else "Redo")
            self.commands.actions["undo"].setEnabled(undo is not None)
            self.commands.actions["redo"].setEnabled(redo is not None)
        self._panel_timer.start(0)

    def _panel_later(self) -> None:
        """Of another frame at once; while the shot plays some times a second, so that the picture gets the time."""
        if not self._panel_timer.isActive():
            self._panel_timer.start(DRAG_REFRESH_MS if self.session.playing else 0)

    def _refresh_panel(self) -> None:
        panel = self.panels[self.session.step]
        if panel.is_filled:
            panel.refresh()
            self._show_panel(panel)  # not before: it would tell of another shot, or of none
        else:
            self._show_panel(self._no_panel)
            self._filling.start(0)
        self.commands.refresh()

    def _focus_moved(self, _: QWidget | None, now: QWidget | None) -> None:
        """A click on a button, unlike Tab, leaves keys to the picture: arrows nudge what is in hand, and do not wander from button to button."""
        if isinstance(now, QAbstractButton) and QApplication.mouseButtons() and self.settings.isAncestorOf(now):
            self.viewer.take_keyboard()

    def _show_panel(self, panel: QWidget) -> None:
        now = QApplication.focusWidget()
        if panel is not self.settings.currentWidget() and now is not None and self.settings.isAncestorOf(now):
            self.viewer.take_keyboard()  # Qt would give the keyboard to the first head of the other panel
        self.settings.setCurrentWidget(panel)

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()
            self.drop_mark.setGeometry(self.viewer.split.rect().translated(self.viewer.split.mapTo(self, QPoint())))
            self.drop_mark.show()
            self.drop_mark.raise_()

    def dragLeaveEvent(self, event) -> None:
        self.drop_mark.hide()

    def dropEvent(self, event) -> None:
        self.drop_mark.hide()
        urls = [u for u in event.mimeData().urls() if u.isLocalFile()]
        if not urls:
            return
        path = Path(urls[0].toLocalFile())
        on_picture = self.canvas.isVisible() and self.canvas.rect().contains(self.canvas.mapFrom(self, event.position().toPoint()))
        placing = self.session.step == "Place" and self.session.shot.plate is not None and on_picture
        if path.suffix.lower() in FACE_ENDINGS:
            place = self.panel("Place")
            assert isinstance(place, PlacePanel)
            place.open_face(path)
        elif path.suffix.lower() == ".svg" or (placing and path.suffix.lower() != ".lode"):
            self._place_dropped(path, QPointF(self.canvas.mapFrom(self, event.position().toPoint())))
        else:
            self.shot.open_path(path)

    def _place_dropped(self, path: Path, at: QPointF) -> None:
        """A drawing or picture that was dropped on the picture stands where it fell."""
        if self.session.shot.plate is None:
            self.session.tell(f"{path.name} can be placed once there is a clip.", "Drop the clip first.", "doubtful")
            return
        self.session.show_step("Place")
        self.viewer.refresh()
        self.viewer.place_file("logo" if path.suffix.lower() == ".svg" else "picture", str(path), at)

    def changeEvent(self, event) -> None:
        super().changeEvent(event)
        if event.type() == event.Type.ActivationChange and self.isActiveWindow() and hasattr(self, "shot"):
            self.shot.look_at_disk()

    def _notice(self, name: str, how: str, seconds: float) -> None:
        """Who turned to something else meanwhile is told by the desktop that a long job ended."""
        if how == "cancelled" or seconds < NOTICED_S or self.isActiveWindow():
            return
        QApplication.alert(self)
        words = f"{name} {'is done' if how == 'done' else 'stopped; the window says why'}."
        QProcess.startDetached("notify-send", ["--app-name=Bright Lodestar", f"--icon={ICON}", self.session.shot.name, words])

    def closeEvent(self, event) -> None:
        if not self.shot.may_leave():
            event.ignore()
            return
        self.session.settings.setValue("geometry", self.saveGeometry())
        if self.time.player.playing:
            self.time.player.toggle()
        self._filling.stop()
        if self._tell_worked_out in derived.waiting:  # a window may be closed twice
            derived.waiting.remove(self._tell_worked_out)
        self.session.close()
        self.pictures.close()
        event.accept()


class _Corner(QWidget):
    """The right of the menu bar. The bar places it by its hint and never asks again, so the hint must not change."""

    def sizeHint(self) -> QSize:
        return QSize(460, 28)


class Invitation(QWidget):
    """What an empty program shows: what it is for, and the two ways to begin."""

    def __init__(self, commands: Commands, canvas: QWidget, files: ShotFiles, open_path: Callable[[str], object]) -> None:
        super().__init__(canvas)
        self.setObjectName("invitation")
        self.canvas, self.files, self.open_path = canvas, files, open_path
        box = QVBoxLayout(self)
        box.setSpacing(8)
        head, text = (
            QLabel("Letters that stood in the place when it was filmed"),
            QLabel(
                "Drop a clip here that was filmed from the hand or from a drone,\nor look at the demo first: an open night at the Fellgate observatory."
            ),
        )
        head.setProperty("role", "title")
        text.setProperty("role", "label")
        buttons = QHBoxLayout()
        buttons.addWidget(
            button("Open a clip", "invite-clip", "Choose a movie, or a picture of a numbered sequence", lambda: commands.run("open-clip"), True)
        )
        buttons.addWidget(button("Open the demo", "invite-demo", "A finished shot to play with", lambda: commands.run("open-demo")))
        buttons.addStretch(1)
        for part in (head, text):
            box.addWidget(part)
        box.addLayout(buttons)
        self.recent = QGridLayout()
        self.recent.setContentsMargins(0, 12, 0, 0)
        self.recent.setSpacing(8)
        box.addLayout(self.recent)
        canvas.installEventFilter(self)

    def showEvent(self, event) -> None:
        self.fill_recent()
        super().showEvent(event)

    def fill_recent(self) -> None:
        """The shots that were open last, as small pictures with their names."""
        while self.recent.count():
            gone = self.recent.takeAt(0).widget()
            gone.hide()
            gone.deleteLater()
        for k, path in enumerate(self.files.recent()[:SHOWN_RECENT]):
            b = QToolButton()
            b.setObjectName(f"recent-{k}")
            b.setAccessibleName(f"Open {Path(path).stem}")
            b.setToolTip(path)
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            b.setIconSize(QSize(128, 72))
            b.setFixedSize(144, 104)
            b.setText(b.fontMetrics().elidedText(Path(path).stem, Qt.TextElideMode.ElideMiddle, 132))
            place = picture_place(path)
            b.setIcon(QIcon(str(place)) if place is not None and place.exists() else theme.icon("film", theme.QUIET))
            b.clicked.connect(lambda _, path=path: self.open_path(path))
            self.recent.addWidget(b, k // 3, k % 3)
            b.show()  # of a part that is shown already
        self._centre()

    def _centre(self) -> None:
        self.layout().activate()
        self.resize(self.sizeHint())
        self.move((self.canvas.width() - self.width()) // 2, (self.canvas.height() - self.height()) // 2)

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.Resize:
            self._centre()
        return False
