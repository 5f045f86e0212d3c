#!/usr/bin/env python3
"""Make docs/screenshots/*.png from the demo shot: one picture of each step at 1280 x 800, and a finished frame at 100 %.

screenshots.py [STEP ...] [--out FOLDER]
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
from PyQt6.QtWidgets import QApplication, QPushButton

from lodestar.app import theme
from lodestar.app.session import STEPS, Session
from lodestar.app.window import Window
from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.picture.frame import frame
from lodestar.core.shot.document import Marker, with_marker
from lodestar.core.shot.motion import overshot

FRAME = 46
VIEWS = (*STEPS, "empty", "placing", "letters", "faces", "lamps", "scene", "curves", "finished")


def wait_for_picture(app: QApplication, window: Window, seconds: float = 60) -> None:
    """Until the picture on show is final, of the present shot and frame."""
    until = time.monotonic() + seconds
    canvas = window.canvas
    while time.monotonic() < until:
        app.processEvents()
        shown = canvas.shown
        made = shown is not None and shown.index == window.session.frame and shown.shot is window.session.shot and shown.quality == "final"
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


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("steps", nargs="*", metavar="STEP", help=", ".join(VIEWS))
    parser.add_argument("--out", default=str(ROOT / "docs" / "screenshots"))
    args = parser.parse_args()
    if unknown := [step for step in args.steps if step not in VIEWS]:
        parser.error(f"there is no {unknown[0]}; there are {', '.join(VIEWS)}")
    out = Path(args.out)
    out.mkdir(parents=True, exist_ok=True)
    app = QApplication(sys.argv[:1])
    theme.apply(app)
    window = Window(Session())
    window.resize(1280, 800)
    window.show()
    for _ in range(20):
        app.processEvents()
    if not args.steps or "empty" in args.steps:
        window.grab().save(str(out / "empty.png"))
    window.shot.open_demo()
    session = window.session
    for step in args.steps or STEPS:
        if step not in STEPS:
            continue
        session.show_step(step)
        session.show_frame(FRAME)
        prepare(window, step)
        wait_for_picture(app, window)
        window.canvas.update()
        window.grab().save(str(out / f"{step.lower()}.png"))
    if not args.steps or "placing" in args.steps:
        session.show_step("Place")
        prepare(window, "Place")
        session.use_tool("title")
        window.viewer.refresh()
        wait_for_picture(app, window)
        point_at(window, (930, 600))
        for _ in range(20):
            app.processEvents()
        window.grab().save(str(out / "placing.png"))
    if not args.steps or "letters" in args.steps:
        session.show_step("Place")
        session.use_tool("move")
        session.show_frame(14)
        prepare(window, "Place")
        before = session.shot
        window.commands.run("arrive-settle-from-above")
        window.commands.run("leave-burn-in")
        wait_for_picture(app, window)
        window.grab().save(str(out / "letters.png"))
        session.edit("As it was", lambda _: before)
        session.show_frame(FRAME)
    if not args.steps or "faces" in args.steps:
        session.show_step("Place")
        prepare(window, "Place")
        rest(app, 0.3)
        window.panels["Place"].findChild(QPushButton, "choose-face").click()
        rest(app, 2.0)
        chooser = next(w for w in app.topLevelWidgets() if w.objectName() == "face-chooser")
        chooser.grab().save(str(out / "faces.png"))
        chooser.close()
    if not args.steps or "lamps" in args.steps:
        session.select("open-sky")
        session.show_step("Light")
        before = session.shot
        window.commands.run("add-spot")
        lamp = session.shot.lamps[-1]
        session.edit_value("Lower", lamp.id, "position", lambda v: v.changed(FRAME, (0.9, -2.2, 1.5)))
        session.edit_value("Aim", lamp.id, "turn", lambda v: v.changed(FRAME, (16.0, -32.0)))
        session.edit_value("Strength", lamp.id, "strength", lambda v: v.changed(FRAME, (3.0,)))
        wait_for_picture(app, window)
        window.grab().save(str(out / "lamps.png"))
        session.edit("As it was", lambda _: before)
    if not args.steps or "scene" in args.steps:
        session.show_step("Place")
        session.use_tool("move")
        prepare(window, "Place")
        window.viewer.show_view("Scene")
        rest(app, 2.0)
        window.grab().save(str(out / "scene.png"))
        window.viewer.show_view("Picture")
    if not args.steps or "curves" in args.steps:
        session.show_step("Place")
        session.use_tool("move")
        prepare(window, "Place")
        before = session.shot
        keyed(session)
        window.time.show_curves(True)
        wait_for_picture(app, window)
        window.grab().save(str(out / "curves.png"))
        window.time.show_curves(False)
        session.edit("As it was", lambda _: before)
    if not args.steps or "finished" in args.steps:
        pixels = frame(session.shot, FRAME).pixels
        cv2.imwrite(str(out / "finished.png"), cv2.cvtColor(pixels, cv2.COLOR_RGB2BGR))
    session.files.saved_shot = session.shot
    window.close()


if __name__ == "__main__":
    main()
