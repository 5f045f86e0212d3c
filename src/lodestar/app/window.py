"""The window: course, viewer, time and settings, the menus and their commands."""

import threading
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QMimeData, QPointF, QSize, Qt, QTimer
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.arrange import along_wall, dropped, facing_camera, packed, pasted, stood
from lodestar.core.exchange.camera_file import write_camera
from lodestar.core.media.deliveries import SequenceDelivery
from lodestar.core.media.plates import MOVIE_SUFFIXES, SEQUENCE_SUFFIXES, probe
from lodestar.core.shape.fonts import system_faces
from lodestar.core.shot import motion
from lodestar.core.shot.document import Marker, Shot, found_again, tracks_are_stale, with_marker, with_plate, without_marker
from lodestar.core.solve.views import triangulate

from . import theme
from .commands import Command, Commands, Finder
from .course import Course
from .errors import Log, Strip
from .panels.finish import FinishPanel
from .panels.foreground import ForegroundPanel
from .panels.ground import GroundPanel
from .panels.light import LightPanel
from .panels.output import OutputPanel
from .panels.place import PlacePanel
from .panels.plate import PlatePanel
from .panels.solve import SolvePanel
from .panels.track import TrackPanel
from .pictures import Pictures
from .session import STEPS, Gently, Session
from .timeline.curves import EASINGS
from .timeline.lanes import key_frames, move_keys, set_keys
from .timeline.time import Time
from .viewer.tools.marks import delete_tracks, join_tracks, reject_tracks
from .viewer.tools.place import DrawBox, DrawBoxStandIn, FileObject, PlaceAnchor, PlaceCard, PlaceCheck, PlaceLogo, PlacePicture
from .viewer.viewer import Viewer

PANELS = (PlatePanel, TrackPanel, SolvePanel, GroundPanel, PlacePanel, LightPanel, ForegroundPanel, FinishPanel, OutputPanel)
CLIPBOARD = "application/x-bright-lodestar-objects"
CLIPS = f"Clips ({' '.join('*' + s for s in sorted(MOVIE_SUFFIXES | SEQUENCE_SUFFIXES))})"


def ask(parent: QWidget, text: str, hint: str, choices: list[str]) -> str:
    """The one question box of the program; replaced in tests. Returns the chosen word."""
    box = QMessageBox(parent)
    box.setText(text)
    box.setInformativeText(hint)
    buttons: dict[object, str] = {
        box.addButton(c, QMessageBox.ButtonRole.AcceptRole if i == 0 else QMessageBox.ButtonRole.RejectRole): c for i, c in enumerate(choices)
    }
    box.exec()
    return buttons.get(box.clickedButton(), choices[-1])


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
        self._add_commands()
        self.course = Course(session, self.commands.run)
        self.course.foot.messages.clicked.connect(lambda: self.commands.run("messages"))
        self.settings = QStackedWidget()
        self.settings.setFixedWidth(theme.SETTINGS_WIDTH)
        self.panels = {p.step: p(session, self.commands) for p in PANELS}
        for panel in self.panels.values():
            self.settings.addWidget(panel)
        self._arrange()
        self.commands.fill_menus(["Shot", "Edit", "View", "Go", "Object", "Time", "Help"])
        for part in (self.time.lanes, self.time.curves):
            part.customContextMenuRequested.connect(lambda at, part=part: self.commands.menus["Time"].exec(part.mapToGlobal(at)))
        self._menu_corner()
        threading.Thread(target=_load_ahead, name="fonts", daemon=True).start()
        self._panel_timer = QTimer(self, interval=0, singleShot=True)
        self._panel_timer.timeout.connect(self._refresh_panel)
        self._gently = Gently(session, self.refresh)
        session.frame_changed.connect(lambda _: self._panel_timer.start())
        session.jobs.changed.connect(self._panel_timer.start)
        self.resize(1280, 800)
        geometry = session.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)
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
        whole = QWidget()
        box = QVBoxLayout(whole)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addWidget(Strip(self.session))
        box.addLayout(row, 1)
        self.setCentralWidget(whole)
        self.invitation = Invitation(self.commands, self.canvas)

    def _menu_corner(self) -> None:
        corner = _Corner()
        corner.setStyleSheet(f"background: {theme.PANEL};")
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
        find.setStyleSheet(f"color: {theme.QUIET};")
        find.clicked.connect(lambda: self.commands.run("find"))
        row.addStretch(1)
        row.addWidget(self.name)
        row.addSpacing(24)
        row.addWidget(find)
        self.menuBar().setCornerWidget(corner)

    def _add_commands(self) -> None:
        s, has = self.session, lambda: self.session.shot.plate is not None
        title = lambda: s.object() is not None
        place = lambda: self.panels["Place"]
        pose = lambda label, change, *more: lambda: place().arrange(label, change, *more)
        idle = lambda: has() and not s.jobs.busy
        add = self.commands.add
        add(
            Command("new", "Shot", "New shot", self.new_shot, "Ctrl+N"),
            Command("choose", "Shot", "Open a shot…", self.choose_shot, "Ctrl+O"),
            Command("open-clip", "Shot", "Open a clip…", self.choose_clip, "Ctrl+Shift+O", tip="movie or numbered pictures"),
            Command("find-clip", "Shot", "Say where the clip is…", self.find_clip, enabled=has),
            Command("open-demo", "Shot", "Open the demo", self.open_demo, tip="Fellgate observatory, open night"),
            Command("recent", "Shot", "Open the last shot", lambda: self.open_path(s.files.recent()[0]), enabled=lambda: bool(s.files.recent())),
            Command("save", "Shot", "Save", self.save, "Ctrl+S"),
            Command("save-as", "Shot", "Save as…", self.save_as, "Ctrl+Shift+S"),
            Command("export-camera", "Shot", "Export the camera…", self.export_camera, enabled=lambda: s.shot.solve is not None),
            Command("write-output", "Shot", "Write output…", self.write_output, "Ctrl+E", enabled=idle),
            Command("quit", "Shot", "Quit", self.close, "Ctrl+Q"),
        )
        add(
            Command("undo", "Edit", "Undo", s.undo, "Ctrl+Z", lambda: s.history.undo_label is not None),
            Command("redo", "Edit", "Redo", s.redo, "Ctrl+Shift+Z", lambda: s.history.redo_label is not None),
            Command("reject", "Edit", "Reject chosen marks", lambda: reject_tracks(s, s.tracks), "", lambda: bool(s.tracks)),
            Command("restore", "Edit", "Restore chosen marks", lambda: reject_tracks(s, s.tracks, True), "", lambda: bool(s.tracks)),
            Command("delete-marks", "Edit", "Delete chosen marks", lambda: delete_tracks(s, s.tracks), "", lambda: bool(s.tracks)),
            Command("join-marks", "Edit", "Chosen marks are the same point", lambda: join_tracks(s, s.tracks), "", lambda: len(s.tracks) > 1),
            Command("join-found", "Edit", "Find marks that are one point", s.work.join_found, "", lambda: idle() and s.shot.solve is not None),
            Command("suggest", "Edit", "Suggest regions to keep out", s.work.suggest_regions, "", lambda: s.shot.solve is not None),
            Command("more-here", "Edit", "More tracks in one place", lambda: self._marks_tool("more"), "", has),
            Command("place-track", "Edit", "Place a track by hand", lambda: self._marks_tool("hand"), "", has),
            Command("track", "Edit", "Track", self._track, "Ctrl+T", idle),
            Command("solve", "Edit", "Solve", self._solve, "Ctrl+Return", idle),
            Command("cancel", "Edit", "Cancel the running work", s.jobs.cancel, "", lambda: s.jobs.busy),
        )
        add(
            *[
                Command(f"view-{v.lower()}", "View", v, lambda v=v: self.viewer.show_view(v), f"F{i + 5}")
                for i, v in enumerate(("Picture", "Scene", "Both"))
            ],
            Command("fit", "View", "Fit", self._fit, "F"),
            Command("fit-chosen", "View", "Fit the scene to what is chosen", self._fit_chosen, "Shift+F"),
            Command("beside", "View", "Scene beside or below the picture", self.viewer.turn_split),
            Command("full", "View", "100 %", lambda: self.canvas.set_zoom(1.0), "Ctrl+1"),
            Command("dim", "View", "Dim picture", self._dim, "D"),
            Command("before-after", "View", "Before–after", lambda: self.viewer.before_after.toggle(), "B", has),
            Command("sides", "View", "Hide or show both side columns", self.toggle_sides, "H"),
            Command("messages", "View", "Messages", lambda: Log(s, self).show()),
        )
        add(
            *[Command(f"go-{step.lower()}", "Go", step, lambda step=step: s.show_step(step), f"Ctrl+Alt+{i + 1}") for i, step in enumerate(STEPS)],
            Command("play", "Go", "Play or stop", self.time.player.toggle, "Space", has),
            Command("next", "Go", "Next frame", lambda: s.show_frame(s.frame + 1), ".", has),
            Command("previous", "Go", "Previous frame", lambda: s.show_frame(s.frame - 1), ",", has),
            Command("first", "Go", "First frame", lambda: s.show_frame(s.shot.first), "Home", has),
            Command("last", "Go", "Last frame", lambda: s.show_frame(s.shot.last), "End", has),
            Command("in", "Go", "In point here", lambda: s.set("Set in", first=min(s.frame, s.shot.last)), "Alt+,", has),
            Command("out", "Go", "Out point here", lambda: s.set("Set out", last=max(s.frame, s.shot.first)), "Alt+.", has),
            Command("worst", "Go", "Weakest frame", self._weakest, enabled=lambda: s.shot.solve is not None),
        )
        add(
            Command("place", "Object", "Place a title", self._place, "Ctrl+Shift+T", has),
            *[
                Command(
                    f"place-{t.name}",
                    "Object",
                    f"{t.label}{'…' if issubclass(t, FileObject) else ''}",
                    lambda n=t.name: self._place(n),
                    enabled=has,
                    tip=t.tip,
                )
                for t in (PlaceLogo, PlacePicture, PlaceCard, PlaceCheck, PlaceAnchor, DrawBox, DrawBoxStandIn)
            ],
            Command("duplicate", "Object", "Duplicate", lambda: place().duplicate(), "Ctrl+D", title),
            Command("copy", "Edit", "Copy objects", self._copy, "Ctrl+C", title),
            Command("cut", "Edit", "Cut objects", lambda: (self._copy(), place().remove()), "Ctrl+X", title),
            Command("paste", "Edit", "Paste objects", self._paste, "Ctrl+V", has),
            Command("up", "Object", "Stand up", pose("Stand up", stood), enabled=title),
            Command("lie", "Object", "Lie down", pose("Lie down", stood, -90.0), enabled=title),
            Command("face", "Object", "Face the camera", pose("Face the camera", facing_camera), enabled=title),
            Command("wall", "Object", "Face along the wall", pose("Face along the wall", along_wall), enabled=title),
            Command("drop", "Object", "Drop to the ground", pose("Drop to the ground", dropped), enabled=title),
            Command("row", "Object", "Arrange in a row", lambda: place()._in_row(), enabled=lambda: len(s.chosen_objects()) > 1),
            Command("along-path", "Object", "Arrange along a path", lambda: self._place("path"), enabled=lambda: len(s.chosen_objects()) > 1),
        )
        self._add_time_commands()
        add(
            Command("find", "Help", "Find a command…", lambda: Finder(self.commands).exec(), "Ctrl+K"), Command("about", "Help", "About", self._about)
        )

    def _add_time_commands(self) -> None:
        s = self.session
        has, keyed = lambda: s.shot.plate is not None, lambda: bool(s.keys_or_all())
        loop = lambda how: lambda: s.change_keys("Loop", lambda value, frames: motion.looped(value, frames, float(s.shot.last), how))
        self.commands.add(
            Command(
                "key",
                "Time",
                "Set key here",
                self._key_here,
                "K",
                lambda: s.object() is not None or bool(s.keys),
                "of the values whose keys are chosen, or of the position",
            ),
            Command("keying", "Time", "Drags set keys, on or off", lambda: s.set_keying(not s.keying), "Ctrl+Alt+K"),
            Command("copy-keys", "Time", "Copy chosen keys to here", self._copy_keys, "Ctrl+Shift+K", lambda: bool(s.keys)),
            Command("delete-keys", "Time", "Delete chosen keys", s.delete_keys, "", lambda: bool(s.keys)),
            Command("next-key", "Time", "Next key", lambda: self._next_of(key_frames(s), 1), "Shift+.", keyed),
            Command("previous-key", "Time", "Previous key", lambda: self._next_of(key_frames(s), -1), "Shift+,", keyed),
            *[
                Command(
                    f"ease-{e}", "Time", f"Easing: {e}", lambda e=e: s.ease_keys(e), "", keyed, "from the chosen keys on, or from all of the object"
                )
                for e in EASINGS
            ],
            Command(
                "constant-speed",
                "Time",
                "Constant speed",
                lambda: s.change_keys("Constant speed", motion.constant_speed),
                "",
                keyed,
                "straight from key to key at one speed, as a camera's own move looks",
            ),
            *[
                Command(f"loop-{how.replace(' ', '-')}", "Time", f"Loop: {how}", loop(how), "", keyed, "as keys, up to the out point")
                for how in motion.LOOPS
            ],
            Command(
                "bounce",
                "Time",
                "Bounce at the end",
                lambda: s.change_keys("Bounce", motion.bounced),
                "",
                keyed,
                "the last step falls and bounces, as keys",
            ),
            Command(
                "overshoot",
                "Time",
                "Overshoot at the end",
                lambda: s.change_keys("Overshoot", motion.overshot),
                "",
                keyed,
                "the last step runs past and swings in, as keys",
            ),
            Command("curves", "Time", "Curves or lanes", lambda: self.time.show_curves(not self.time.on_curves), "Ctrl+L"),
            Command("marker", "Time", "Marker here", self._marker, "M", has, "again: takes it away"),
            Command(
                "name-marker",
                "Time",
                "Name the marker here",
                lambda: self.time.ruler.name_marker(s.frame),
                "Shift+M",
                lambda: any(m.frame == s.frame for m in s.shot.markers),
            ),
            Command(
                "next-marker",
                "Time",
                "Next marker",
                lambda: self._next_of([m.frame for m in s.shot.markers], 1),
                "Ctrl+.",
                lambda: bool(s.shot.markers),
            ),
            Command(
                "previous-marker",
                "Time",
                "Previous marker",
                lambda: self._next_of([m.frame for m in s.shot.markers], -1),
                "Ctrl+,",
                lambda: bool(s.shot.markers),
            ),
        )

    # what commands do ----------------------------------------------------------------------------------------------------------

    def _track(self) -> None:
        self.session.show_step("Track")
        self.session.work.track()

    def _marks_tool(self, name: str) -> None:
        if self.session.step != "Solve":
            self.session.show_step("Track")
        self.session.use_tool(name)

    def _solve(self) -> None:
        shot = self.session.shot
        self.session.show_step("Solve")
        if shot.tracks is None or tracks_are_stale(shot):
            self.session.work.track_and_solve()
        else:
            self.session.work.solve()

    def _fit(self) -> None:
        if self.viewer.view == "Scene" or self.viewer.scene.hasFocus():
            self.viewer.scene.fit()
        else:
            self.canvas.set_zoom(0.0)

    def _fit_chosen(self) -> None:
        if self.viewer.view == "Picture":
            self.viewer.show_view("Both")
        self.viewer.scene.fit(chosen=True)

    def _dim(self) -> None:
        self.canvas.drawn["dim"] = not self.canvas.drawn["dim"]
        self.viewer._step = ""
        self.viewer.refresh()

    def _weakest(self) -> None:
        solve = self.session.shot.solve
        self.session.show_frame(int(solve.frames[int(np.argmax(solve.frame_error))]))

    def _place(self, name: str = "title") -> None:
        self.session.show_step("Place")
        self.viewer.take(name)

    def _copy(self) -> None:
        ids = self.session.chosen_objects()
        data = QMimeData()
        data.setData(CLIPBOARD, packed(self.session.shot, ids).encode())
        data.setData(CLIPBOARD + "-from", str(id(self.session.history)).encode())
        QApplication.clipboard().setMimeData(data)

    def _paste(self) -> None:
        data = QApplication.clipboard().mimeData()
        new: list[str] = []
        text = data.data(CLIPBOARD).data().decode("utf-8", "replace") if data is not None and data.hasFormat(CLIPBOARD) else ""
        same = data is not None and data.data(CLIPBOARD + "-from").data().decode() == str(id(self.session.history))

        def edit(shot: Shot) -> Shot:
            result, ids = pasted(shot, text, same)
            new.extend(ids)
            return result

        self.session.edit("Paste", edit)
        if new:
            self.session.show_step("Place")
            self.session.select(new[0], others=frozenset(new[1:]))

    def _key_here(self) -> None:
        s, item = self.session, self.session.object()
        parts = sorted({(id_, part) for id_, part, _ in s.keys}) or ([(item.id, "position")] if item is not None else [])
        set_keys(s, parts, float(s.frame))

    def _copy_keys(self) -> None:
        s = self.session
        move_keys(s, s.keys, s.frame - min(frame for *_, frame in s.keys), True, None)

    def _next_of(self, frames: list[float], way: int) -> None:
        """The next of some frames after the present one, or with way -1 the one before."""
        found = [f for f in frames if (f - self.session.frame) * way > 0.5]
        if found:
            self.session.show_frame(round(min(found) if way > 0 else max(found)))

    def _marker(self) -> None:
        s = self.session
        there = any(m.frame == s.frame for m in s.shot.markers)
        s.edit(
            "Delete marker" if there else "Set marker", lambda shot: without_marker(shot, s.frame) if there else with_marker(shot, Marker(s.frame))
        )

    def _about(self) -> None:
        self.session.tell(
            "Bright Lodestar 0.1, free software under the GNU General Public License, version 3 or later.",
            "Faces Inter and Zilla Slab under the SIL Open Font License, icons Lucide under the ISC licence.",
        )

    def toggle_sides(self) -> None:
        shown = self.course.isVisible()
        self.course.setVisible(not shown)
        self.settings.setVisible(not shown)

    # files ---------------------------------------------------------------------------------------------------------------------

    def _folder(self, kind: str) -> str:
        return str(self.session.settings.value(f"folder/{kind}", str(Path.home())))

    def _remember_folder(self, kind: str, path: str) -> None:
        self.session.settings.setValue(f"folder/{kind}", str(Path(path).parent))

    def may_leave(self) -> bool:
        """Ask what to do with unsaved work; True when the shot may be left."""
        if not self.session.files.unsaved or self.session.shot.plate is None:
            return True
        choice = ask(self, "This shot has unsaved work.", "It can be saved first.", ["Save", "Do not save", "Stay here"])
        if choice == "Save":
            return self.save()
        if choice == "Do not save":
            self.session.files.drop_swap()
        return choice == "Do not save"

    def new_shot(self) -> None:
        if self.may_leave():
            self.session.files.start_shot(Shot(), None)
            self.session.show_step("Plate")

    def open_path(self, path: str | Path) -> None:
        if Path(path).suffix.lower() == ".lode" and not self.may_leave():
            return
        self.session.files.open(path)

    def choose_shot(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a shot", self._folder("shot"), "Shots (*.lode)")
        if path:
            self._remember_folder("shot", path)
            self.open_path(path)

    def choose_clip(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a clip", self._folder("clip"), f"{CLIPS};;All files (*)")
        if path:
            self._remember_folder("clip", path)
            self.session.files.open(path)

    def open_demo(self) -> None:
        if self.may_leave():
            self.session.files.open_demo()

    def find_clip(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Where is the clip?", self._folder("clip"), f"{CLIPS};;All files (*)")
        if not path:
            return
        try:
            info = probe(path)
        except UserError as error:
            self.session.fail(error)
            return
        old = self.session.shot.plate
        again = found_again(old, info) if old is not None else info
        if again is None:
            self.session.tell(
                f"{Path(path).name} has another size or length than the clip of this shot.",
                "It was not taken. Choose the right one, or open it as a new clip.",
                "bad",
            )
            return
        self.session.edit("Say where the clip is", lambda s: with_plate(s, again))

    def save(self) -> bool:
        return self.session.files.save(self.session.files.path) if self.session.files.path is not None else self.save_as()

    def save_as(self) -> bool:
        name = f"{self._folder('shot')}/{self.session.shot.name}.lode"
        path, _ = QFileDialog.getSaveFileName(self, "Save the shot", name, "Shots (*.lode)")
        if not path:
            return False
        self._remember_folder("shot", path)
        return self.session.files.save(Path(path).with_suffix(".lode"))

    def export_camera(self) -> None:
        shot = self.session.shot
        if shot.solve is None or shot.plate is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self, "Export the camera", f"{self._folder('output')}/{self.session.shot.name}.json", "Camera files (*.json)"
        )
        if path:
            try:
                write_camera(shot.solve, shot.plate.fps, path)
                self.session.tell(f"{Path(path).name} is written.", str(Path(path).parent))
            except UserError as error:
                self.session.fail(error)

    def write_output(self) -> None:
        self.session.show_step("Output")
        panel = self.panels["Output"]
        suffix = panel.suffix()
        name = f"{self._folder('output')}/{self.session.shot.name}{'' if suffix == '.mp4' else '.%04d'}{suffix}"
        path, _ = QFileDialog.getSaveFileName(self, "Write output", name, f"*{suffix}")
        if not path:
            return
        self._remember_folder("output", path)
        path = path if path.lower().endswith(suffix) else path + suffix
        if (
            self._would_replace(path)
            and ask(self, "Pictures of this name are there already.", "They will be replaced.", ["Replace", "Stay here"]) != "Replace"
        ):
            return
        self.session.work.deliver(Path(path), **panel.how())

    def _would_replace(self, path: str) -> bool:
        if "%" not in path:
            return False  # the file dialog asks for single files
        sequence = SequenceDelivery(Path(path))
        return any((sequence.path.with_name(sequence.path.name % i)).exists() for i in self.session.shot.frames)

    # the window itself -----------------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        shot = self.session.shot
        mark = " · unsaved" if self.session.files.unsaved and shot.plate else ""
        self.name.setText(f"{shot.name}{mark}" if shot.plate else "") if hasattr(self, "name") else None
        self.setWindowTitle(f"{shot.name} · Bright Lodestar" if shot.plate else "Bright Lodestar")
        self.invitation.setVisible(shot.plate is None)
        self.settings.setCurrentWidget(self.panels[self.session.step])
        undo, redo = self.session.history.undo_label, self.session.history.redo_label
        if self.commands.actions:
            self.commands.actions["undo"].setText(f"Undo {undo}" if undo else "Undo")
            self.commands.actions["redo"].setText(f"Redo {redo}" if redo else "Redo")
            self.commands.actions["undo"].setEnabled(undo is not None)
            self.commands.actions["redo"].setEnabled(redo is not None)
        self._panel_timer.start()

    def _refresh_panel(self) -> None:
        self.panels[self.session.step].refresh()
        self.commands.refresh()

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        urls = [u for u in event.mimeData().urls() if u.isLocalFile()]
        if not urls:
            return
        path = Path(urls[0].toLocalFile())
        on_picture = self.canvas.isVisible() and self.canvas.rect().contains(self.canvas.mapFrom(self, event.position().toPoint()))
        placing = self.session.step == "Place" and self.session.shot.plate is not None and on_picture
        if path.suffix.lower() == ".svg" or (placing and path.suffix.lower() != ".lode"):
            self._place_dropped(path, QPointF(self.canvas.mapFrom(self, event.position().toPoint())))
        else:
            self.open_path(path)

    def _place_dropped(self, path: Path, at: QPointF) -> None:
        """A drawing or picture that was dropped on the picture stands where it fell."""
        if self.session.shot.plate is None:
            self.session.tell(f"{path.name} can be placed once there is a clip.", "Drop the clip first.", "doubtful")
            return
        self.session.show_step("Place")
        self.viewer.refresh()
        self.viewer.place_file("logo" if path.suffix.lower() == ".svg" else "picture", str(path), at)

    def closeEvent(self, event) -> None:
        if not self.may_leave():
            event.ignore()
            return
        self.session.settings.setValue("geometry", self.saveGeometry())
        if self.time.player.playing:
            self.time.player.toggle()
        self.session.close()
        self.pictures.close()
        event.accept()


class _Corner(QWidget):
    """The right of the menu bar. The bar places it by its hint and never asks again, so the hint must not change."""

    def sizeHint(self) -> QSize:
        return QSize(460, 28)


class Invitation(QWidget):
    """What an empty program shows: what it is for, and the two ways to begin."""

    def __init__(self, commands: Commands, canvas: QWidget) -> None:
        super().__init__(canvas)
        self.setObjectName("invitation")
        self.canvas = canvas
        from .fields import button

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
            part.setStyleSheet(f"background: {theme.SURROUND};")
            box.addWidget(part)
        box.addLayout(buttons)
        self.setStyleSheet(f"#invitation {{ background: {theme.SURROUND}; }}")
        canvas.installEventFilter(self)
        self.adjustSize()

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.Resize:
            self.adjustSize()
            self.move((self.canvas.width() - self.width()) // 2, (self.canvas.height() - self.height()) // 2)
        return False
