#!/usr/bin/env python3
"""Make docs/screenshots/*.png from the demo shots: one picture of each step at 1280 x 800, and a finished frame at 100 %.

screenshots.py [STEP ...] [--out FOLDER] [--size 1000x700]
"""

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("XDG_STATE_HOME", tempfile.mkdtemp())
os.environ.setdefault("XDG_CONFIG_HOME", tempfile.mkdtemp())

import cv2
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QCheckBox, QPushButton

from lodestar.app import theme
from lodestar.app.session import STEPS, Session
from lodestar.app.window import Window
from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.edits.sky import with_kind_of_sky
from lodestar.core.picture.frame import frame
from lodestar.core.shot import files
from lodestar.core.shot.document import Marker, with_marker
from lodestar.core.shot.motion import overshot

FRAME, LOW_SUN_FRAME = 46, 40


def wait_for_picture(app: QApplication, window: Window, seconds: float = 60) -> None:
    """Until the picture on show is the one that is wanted in the end: of the present shot and frame, in the size of the view."""
    until = time.monotonic() + seconds
    canvas = window.canvas
    while time.monotonic() < until:
        app.processEvents()
        shown, wanted = canvas.shown, canvas.request("final")
        made = shown is not None and wanted is not None and shown.shot is wanted.shot and shown[1:] == wanted[1:]
        if made and (canvas.bare is not None or not canvas.before_after):
            break
        time.sleep(0.01)
    for _ in range(20):
        app.processEvents()


def rest(app: QApplication, seconds: float) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        app.processEvents()
        time.sleep(0.005)


def keyed(session: Session) -> None:
    """The title comes in from the left, runs a little past its place and swings in; its size grows meanwhile."""
    title = next(o for o in session.shot.objects if o.id == "open-sky")
    x, y, z = title.position.value
    comes = overshot(Keyed((x, y, z), (Key(8.0, (x - 2.4, y + 0.9, z)), Key(40.0, (x, y, z)))), [8.0, 40.0])
    grows = Keyed((1.0,), (Key(8.0, (0.6,)), Key(56.0, (1.0,))))
    session.edit_item("Key", title.id, position=comes, size=grows)
    session.edit("Marker", lambda s: with_marker(s, Marker(40, "it arrives")))
    session.choose_keys(frozenset({(title.id, "position", 40.0)}))


def point_at(window: Window, plate_xy: tuple[float, float]) -> None:
    """Move the pointer to a place of the picture."""
    at = QPointF(*window.canvas.to_widget(plate_xy))
    window.canvas.mouseMoveEvent(
        QMouseEvent(QEvent.Type.MouseMove, at, at, Qt.MouseButton.NoButton, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier)
    )


def prepare(window: Window, step: str) -> None:
    """What is chosen and shown on the picture of a step."""
    session, viewer = window.session, window.viewer
    viewer.show_view("Both" if step == "Solve" else "Picture")
    session.select("", frozenset())
    if step in ("Track", "Solve"):
        window.canvas.drawn["dim"] = True
    else:
        window.canvas.drawn["dim"] = False
    if step == "Ground":
        session.select("", frozenset(session.shot.ground.on_ground[:6]))
    if step == "Place":
        session.select("open-sky")
    if step == "Foreground":
        session.select("visitor")
    viewer._step = ""
    viewer.refresh()
    viewer.before_after.setChecked(step == "Light")


class Shots:
    """A window with the demo shot in it, and one function for each picture that shows more than a step does. Each leaves the shot as it was."""

    def __init__(self, app: QApplication, out: Path, size: tuple[int, int]) -> None:
        self.app, self.out = app, out
        self.window = Window(Session())
        self.window.resize(*size)
        self.window.show()
        rest(app, 0.2)

    @property
    def session(self) -> Session:
        return self.window.session

    def step(self, name: str, tool: str = "", frame: int = FRAME) -> None:
        self.session.show_step(name)
        self.session.show_frame(frame)
        prepare(self.window, name)
        if tool:
            self.session.use_tool(tool)
            self.window.viewer.refresh()

    def grab(self, name: str) -> None:
        self.window.canvas.update()
        rest(self.app, 0.1)
        self.window.grab().save(str(self.out / f"{name}.png"))

    def made(self, name: str) -> None:
        wait_for_picture(self.app, self.window)
        self.grab(name)

    def placing(self) -> None:
        self.step("Place", "title")
        wait_for_picture(self.app, self.window)
        point_at(self.window, (930, 600))
        self.grab("placing")

    def letters(self) -> None:
        self.step("Place", "move", 14)
        self.window.commands.run("arrive-settle-from-above")
        self.window.commands.run("leave-burn-in")
        self.made("letters")

    def faces(self) -> None:
        self.step("Place", "move")
        rest(self.app, 0.3)
        self.window.panel("Place").findChild(QPushButton, "choose-face").click()
        rest(self.app, 2.0)
        chooser = next(w for w in self.app.topLevelWidgets() if w.objectName() == "face-chooser")
        chooser.grab().save(str(self.out / "faces.png"))
        chooser.close()

    def lamps(self) -> None:
        self.step("Light")
        self.session.select("open-sky")
        self.window.commands.run("add-spot")
        lamp = self.session.shot.lamps[-1]
        for part, value in (("position", (0.9, -2.2, 1.5)), ("turn", (16.0, -32.0)), ("strength", (3.0,))):
            self.session.edit_value("Set", lamp.id, part, lambda v, value=value: v.changed(FRAME, value))
        self.made("lamps")

    def curves(self) -> None:
        self.step("Place", "move")
        keyed(self.session)
        self.window.time.show_curves(True)
        self.made("curves")
        self.window.time.show_curves(False)

    def sky(self) -> None:
        self.step("Foreground", "sky")
        self.session.select("")
        self.window.panel("Foreground").findChild(QCheckBox, "sky-on").click()
        while self.session.jobs.busy:
            rest(self.app, 0.05)
        self.session.edit("Choose a sky", lambda shot: with_kind_of_sky(shot, "overcast"))
        self.made("sky")

    def finished(self) -> None:
        """Of the second shot, in which the light makes the picture."""
        pixels = frame(files.read(ROOT / "demo" / "low-sun.lode"), LOW_SUN_FRAME).pixels
        cv2.imwrite(str(self.out / "finished.png"), cv2.cvtColor(pixels, cv2.COLOR_RGB2BGR))


MORE = ("placing", "letters", "faces", "lamps", "curves", "sky", "finished")
VIEWS = (*STEPS, "empty", *MORE)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("steps", nargs="*", metavar="STEP", help=", ".join(VIEWS))
    parser.add_argument("--out", default=str(ROOT / "docs" / "screenshots"))
    parser.add_argument("--size", default="1280x800", help="of the window, in px")
    args = parser.parse_args()
    if unknown := [step for step in args.steps if step not in VIEWS]:
        parser.error(f"there is no {unknown[0]}; there are {', '.join(VIEWS)}")
    out = Path(args.out)
    out.mkdir(parents=True, exist_ok=True)
    app = QApplication(sys.argv[:1])
    theme.apply(app)
    shots = Shots(app, out, tuple(int(n) for n in args.size.split("x")))
    wanted = args.steps or VIEWS
    if "empty" in wanted:
        shots.grab("empty")
    shots.window.shot.open_demo()
    while shots.session.jobs.busy:
        app.processEvents()
    for name in wanted:
        before = shots.session.shot
        if name in STEPS:
            shots.step(name)
            shots.made(name.lower())
        elif name in MORE:
            getattr(shots, name)()
        if shots.session.shot is not before:
            shots.session.edit("As it was", lambda _, before=before: before)
    shots.session.files.saved_shot = shots.session.shot
    shots.window.close()


if __name__ == "__main__":
    main()
