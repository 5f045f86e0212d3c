"""What is done with a shot as a whole: opening, saving and leaving it, its clip, its camera and its output; with their dialogs."""

import stat
import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMainWindow, QMessageBox, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.exchange.camera_file import write_camera
from lodestar.core.media.deliveries import outputs_of
from lodestar.core.media.plates import MOVIE_SUFFIXES
from lodestar.core.media.stills import SEQUENCE_SUFFIXES
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot

from .commands import Command
from .needs import Needs, a_clip, a_solve, no_work
from .panels.output import OutputPanel
from .session import Session
from .shot_files import DEMO
from .unsaved import UnsavedWork

CLIPS = f"Clips ({' '.join('*' + s for s in sorted(MOVIE_SUFFIXES | SEQUENCE_SUFFIXES))})"

RANKS = ("the last shot", "the second last", "the third last", "the fourth last", "the fifth last")
AS_NEW = "Save mine as a new file"


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


class ShotCommands:
    def __init__(self, window: QMainWindow, session: Session) -> None:
        self.window, self.session = window, session
        session.files.may_leave = self.may_leave
        self._told_of: object = None  # a change on the disk that was told
        self.output: Callable[[], OutputPanel]  # which says how output is written; set once there are panels

    def commands(self) -> list[Command]:
        s, has = self.session, a_clip(self.session)
        return [
            Command("new", "Shot", "New shot", self.new_shot, "Ctrl+N"),
            Command("choose", "Shot", "Open a shot…", self.choose_shot, "Ctrl+O"),
            Command("open-clip", "Shot", "Open a clip…", self.choose_clip, "Ctrl+Shift+O", tip="movie or numbered pictures"),
            Command(
                "replace-clip",
                "Shot",
                "Replace the clip…",
                self.replace_clip,
                enabled=has,
                tip="titles stay; tracks and camera, where the new one fits",
            ),
            Command("find-clip", "Shot", "Say where the clip is…", self.find_clip, enabled=has),
            Command("open-demo", "Shot", "Open the demo", self.open_demo, tip="Fellgate observatory, open night"),
            *[
                Command(
                    f"recent-{k}",
                    "Shot",
                    f"Open again: {RANKS[k]}",
                    lambda k=k: self.open_path(s.files.recent()[k]),
                    enabled=Needs((lambda k=k: len(s.files.recent()) > k, "a shot that was open before")),
                )
                for k in range(len(RANKS))
            ],
            Command(
                "unsaved",
                "Shot",
                "Unsaved work…",
                lambda: UnsavedWork(s, self.window).exec(),
                enabled=Needs((lambda: bool(s.files.left()), "unsaved work that was left behind")),
                tip="of windows that are gone",
            ),
            Command("save", "Shot", "Save", self.save, "Ctrl+S", divided=True),
            Command("save-as", "Shot", "Save as…", self.save_as, "Ctrl+Shift+S"),
            Command("export-camera", "Shot", "Export the camera…", self.export_camera, enabled=a_solve(s)),
            Command("write-output", "Shot", "Write output…", self.write_output, "Ctrl+E", enabled=has & no_work(s)),
            Command("quit", "Shot", "Quit", self.window.close, "Ctrl+Q", divided=True),
        ]

    def may_leave(self) -> bool:
        """Ask what to do with unsaved work; True when the shot may be left."""
        if not self.session.files.unsaved or self.session.shot.plate is None:
            return True
        choice = ask(self.window, "This shot has unsaved work.", "It can be saved first.", ["Save", "Do not save", "Stay here"])
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
        if self.may_leave():
            self.session.files.open(path)

    def choose_shot(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.window, "Open a shot", self._folder("shot"), "Shots (*.lode)")
        if path:
            self._remember_folder("shot", path)
            self.open_path(path)

    def choose_clip(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.window, "Open a clip", self._folder("clip"), f"{CLIPS};;All files (*)")
        if path:
            self._remember_folder("clip", path)
            self.open_path(path)

    def replace_clip(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.window, "Replace the clip", self._folder("clip"), f"{CLIPS};;All files (*)")
        if path:
            self._remember_folder("clip", path)
            self.session.files.replace_clip(Path(path))

    def open_demo(self) -> None:
        self.open_path(DEMO)

    def find_clip(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.window, "Where is the clip?", self._folder("clip"), f"{CLIPS};;All files (*)")
        if path:
            self._remember_folder("clip", path)
            self.session.files.find_clip(Path(path))

    def save(self) -> bool:
        kept = self.session.files
        if kept.path is None:
            return self.save_as()
        if kept.changed_on_disk():
            self._told_of = None
            self.look_at_disk()
            return False
        if kept.path.exists() and not kept.path.stat().st_mode & stat.S_IWUSR:
            choice = ask(
                self.window, f"{kept.path.name} is marked read-only.", "Somebody wanted it to stay as it is.", [AS_NEW, "Write over it", "Stay here"]
            )
            if choice != "Write over it":
                return choice == AS_NEW and self.save_as()
        return kept.save(kept.path)

    def look_at_disk(self) -> None:
        """On coming back to the window: whether something else changed the shot's file meanwhile. It is told once for each change."""
        kept = self.session.files
        if kept.path is None or not kept.changed_on_disk() or self._told_of == (now := kept.path.stat().st_mtime_ns):
            return
        self._told_of = now
        try:
            there = files.read(kept.path)
            said = f"there are {len(there.objects)} objects in it, {len(self.session.shot.objects)} here"
        except UserError:
            said = "it cannot be read now"
        at, here = (time.strftime("%H:%M:%S", time.localtime(t)) for t in (now / 1e9, kept.saved_at))
        path = kept.path
        self.session.tell(
            f"{path.name} was changed by something else at {at}, after {here} when it was last read or saved here: {said}.",
            "Nothing was written over.",
            "doubtful",
            (AS_NEW, self.save_as),
            ("Take what is there", lambda: kept.open(path)),
            ("Write over it", lambda: kept.save(path)),
            holds=lambda: kept.path == path and kept.changed_on_disk(),
        )

    def save_as(self) -> bool:
        name = f"{self._folder('shot')}/{self.session.shot.name}.lode"
        path, _ = QFileDialog.getSaveFileName(self.window, "Save the shot", name, "Shots (*.lode)")
        if not path:
            return False
        self._remember_folder("shot", path)
        return self.session.files.save(Path(path if path.lower().endswith(".lode") else f"{path}.lode"))

    def export_camera(self) -> None:
        shot = self.session.shot
        if shot.solve is None or shot.plate is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self.window, "Export the camera", f"{self._folder('output')}/{self.session.shot.name}.json", "Camera files (*.json)"
        )
        if path:
            try:
                write_camera(shot.solve, shot.plate.fps, path, [shot.plate.path, *([self.session.files.path] if self.session.files.path else [])])
                self.session.tell(f"{Path(path).name} is written.", str(Path(path).parent))
            except UserError as error:
                self.session.fail(error)

    def write_output(self) -> None:
        self.session.show_step("Output")
        suffix = self.output().suffix()
        name = f"{self._folder('output')}/{self.session.shot.name}-titled{'' if suffix == '.mp4' else '.%04d'}{suffix}"
        path, _ = QFileDialog.getSaveFileName(self.window, "Write output", name, f"*{suffix}")
        if not path:
            return
        self._remember_folder("output", path)
        path = path if path.lower().endswith(suffix) else path + suffix
        if (
            self._would_replace(path)
            and ask(self.window, "Pictures of this name are there already.", "They will be replaced.", ["Replace", "Stay here"]) != "Replace"
        ):
            return
        self.session.work.deliver(Path(path), **self.output().how())

    def _would_replace(self, path: str) -> bool:
        outputs = outputs_of(Path(path), self.session.shot.frames)
        return outputs != [Path(path)] and any(output.exists() for output in outputs)  # the file dialog asks for single files

    def _folder(self, kind: str) -> str:
        return str(self.session.settings.value(f"folder/{kind}", str(Path.home())))

    def _remember_folder(self, kind: str, path: str) -> None:
        self.session.settings.setValue(f"folder/{kind}", str(Path(path).parent))
