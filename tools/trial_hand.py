"""Jobs done in the real window by mouse and keys, counted: clicks, keystrokes and seconds of waiting.

    QT_QPA_PLATFORM=offscreen .venv/bin/python tools/trial_hand.py [job …]

A press with a drag is one click; a word that is typed is told apart from other keystrokes. Nothing is done but by events and what they
lead to; the one file dialog is answered. Clips are those of the demo.
"""

import json
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
_home = tempfile.TemporaryDirectory()
os.environ["XDG_STATE_HOME"] = os.environ["XDG_CONFIG_HOME"] = _home.name

import numpy as np
from PyQt6 import QtTest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QWidget

from lodestar.app import theme
from lodestar.app.session import Session
from lodestar.app.shot_files import DEMO
from lodestar.app.window import Window
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.matte.sources import Outline, View, matte_of
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Logo, Title

QTest: Any = QtTest.QTest  # its stubs take its static functions for methods
LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


class Hand:
    """A window, and a hand that counts what it does."""

    def __init__(self) -> None:
        self.window = Window(Session())
        self.window.resize(1280, 800)
        self.window.show()
        self.clicks = self.keys = self.letters = 0
        self.waited = 0.0
        self.settle()

    @property
    def session(self) -> Session:
        return self.window.session

    def open_demo(self) -> None:
        self.window.shot.open_demo()
        self.wait(lambda: not self.session.jobs.busy)

    def settle(self) -> None:
        for _ in range(12):
            QApplication.processEvents()

    def wait(self, done: Callable[[], bool], seconds: float = 300.0) -> None:
        began = time.monotonic()
        while not done():
            if time.monotonic() - began > seconds:
                raise SystemExit("it did not happen in time")
            QApplication.processEvents()
            time.sleep(0.005)
        self.waited += time.monotonic() - began
        self.settle()

    def find(self, name: str) -> Any:
        found = [w for w in QApplication.allWidgets() if w.objectName() == name and w.isVisible()]
        if not found:
            raise SystemExit(f"{name} is not on show")
        return found[0]

    def click(self, name: str) -> None:
        self.clicks += 1
        QTest.mouseClick(self.find(name), LEFT)
        self.settle()

    def _mouse(self, widget: QWidget, kind: QEvent.Type, at, button=LEFT, held=LEFT, modifiers=NONE) -> None:
        point = QPointF(float(at[0]), float(at[1]))
        QApplication.sendEvent(widget, QMouseEvent(kind, point, QPointF(widget.mapToGlobal(point.toPoint())), button, held, modifiers))
        self.settle()

    def drag(self, path, widget: QWidget | None = None, modifiers=NONE) -> None:
        """Along places of the plate, or of a widget."""
        self.clicks += 1
        target = widget or self.window.canvas
        places = [self.window.canvas.to_widget(p) for p in path] if widget is None else path
        none = Qt.MouseButton.NoButton
        self._mouse(target, QEvent.Type.MouseMove, places[0], none, none, modifiers)
        self._mouse(target, QEvent.Type.MouseButtonPress, places[0], LEFT, LEFT, modifiers)
        for p in places[1:]:
            self._mouse(target, QEvent.Type.MouseMove, p, none, LEFT, modifiers)
        self._mouse(target, QEvent.Type.MouseButtonRelease, places[-1], LEFT, none, modifiers)

    def point(self, at, widget: QWidget | None = None) -> None:
        self.drag([at, at], widget)

    def press(self, key: Qt.Key, modifiers=NONE) -> None:
        self.keys += 1
        QTest.keyClick(QApplication.focusWidget() or self.window, key, modifiers)
        self.settle()

    def type_words(self, words: str) -> None:
        self.letters += len(words)
        QTest.keyClicks(QApplication.focusWidget(), words)
        self.settle()

    def tick(self, name: str) -> None:
        """A click on the box of a check, which its words run on from."""
        self.clicks += 1
        QTest.mouseClick(self.find(name), LEFT, pos=QPoint(12, 8))
        self.settle()

    def number(self, name: str, text: str) -> None:
        """Click a field, type a number and Enter."""
        field = self.find(name)
        self.clicks += 1
        QTest.mouseClick(field, LEFT)
        self.keys += len(text) + 1
        QTest.keyClicks(field.editor, text)
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.settle()

    def menu(self, button: str, entry: str) -> None:
        """A click on a button, and one on an entry of its menu."""
        self.clicks += 2
        next(a for a in self.find(button).menu().actions() if a.text() == entry).trigger()
        self.settle()

    def close(self) -> None:
        self.session.files.saved_shot = self.session.shot
        self.window.close()
        self.settle()

    def told(self) -> str:
        return f"{self.clicks:3} clicks, {self.keys:3} keystrokes, {self.letters} letters of words, {self.waited:5.1f} s of waiting"


def idle(hand: Hand) -> Callable[[], bool]:
    return lambda: not hand.session.jobs.busy


def open_clip(hand: Hand, name: str) -> None:
    path = ROOT / "demo" / "shots" / name
    with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(path), "")):
        hand.click("invite-clip")
    hand.wait(lambda: hand.session.shot.plate is not None)


def terrace(hand: Hand) -> str:
    """From nothing to a written movie: a title of two words, the sun, the passer-by."""
    open_clip(hand, "terrace.mp4")
    hand.click("step-solve")
    hand.click("solve")
    hand.wait(idle(hand))
    hand.click("step-place")
    hand.point((700, 470))
    hand.click("words")
    hand.press(Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    hand.type_words("OPEN SKY")
    hand.click("step-light")
    hand.drag([(360, 560), (520, 600)])
    hand.point((360, 440))
    hand.click("step-foreground")
    hand.click("tool-brush")
    hand.drag([(84, 270), (82, 360), (76, 450), (64, 540)])
    hand.wait(idle(hand))
    hand.drag([(190, 260), (190, 590)], modifiers=Qt.KeyboardModifier.ShiftModifier)
    hand.wait(idle(hand))
    hand.click("follow")
    hand.wait(idle(hand))
    hand.click("step-output")
    out = Path(_home.name) / "out.mp4"
    with mock.patch("PyQt6.QtWidgets.QFileDialog.getSaveFileName", return_value=(str(out), "")):
        hand.click("write-output")
    hand.wait(idle(hand), 900)
    shares = [_overlap(hand.session.shot, frame) for frame in (20, 50, 80)]
    return f"{out.stat().st_size / 1e6:.1f} MB written; overlap with the outline that was drawn by hand {min(shares):.2f} to {max(shares):.2f}"


def _overlap(shot: Shot, frame: int) -> float:
    """Of the painted subject with the visitor as the demo has him outlined."""
    assert shot.plate is not None
    view = View(frame, shot.plate.width, shot.plate.height)
    found, known = (matte_of(s.mattes[:1], view) > 0.5 for s in (shot, files.read(DEMO)))
    return float((found & known).sum() / max((found | known).sum(), 1))


def title(hand: Hand) -> str:
    """A title that stands where one wants it: placed, moved, turned."""
    hand.open_demo()
    hand.session.select("")
    hand.click("step-place")
    hand.click("tool-title")
    hand.point((480, 520))
    item = hand.session.object()
    assert isinstance(item, Title)
    tool = hand.window.canvas.tool
    handles = {name: tool._on_widget(at) for name, at in tool.handles(item).items()}
    hand.drag([handles["turn"], handles["turn"] + [20, 4]], hand.window.canvas)
    moved: Any = hand.session.object()
    return f"stands at {tuple(round(v, 2) for v in moved.position.at(hand.session.frame))}"


def bounce(hand: Hand) -> str:
    """Two keys of size, and a bounce at the end."""
    hand.open_demo()
    hand.click("step-place")
    axis, lanes = hand.window.time.axis(), hand.window.time.lanes
    hand.point((40, 9), lanes)
    hand.number("size", "0.01")
    hand.click("key-size")
    hand.point((axis.x(25), 8), hand.window.time.ruler)
    hand.number("size", "1")
    hand.window.commands.run("bounce")
    hand.clicks += 2  # the menu and its entry
    keys = hand.session.shot.objects[0].size.keys
    return f"{len(keys)} keys of size, the last at frame {keys[-1].frame:g}"


def glow(hand: Hand) -> str:
    """A title of stone with a lamp on it."""
    hand.open_demo()
    hand.click("step-place")
    hand.point((40, 9), hand.window.time.lanes)
    hand.menu("ready-surface", "Stone, rough")
    hand.click("step-light")
    hand.menu("add-lamp", "Spot")
    item: Any = hand.session.shot.objects[0]
    return f"{item.texture}, {len(hand.session.shot.lamps)} lamps"


def arrive(hand: Hand) -> str:
    """Letters that come one after the other, in another face."""
    hand.open_demo()
    hand.click("step-place")
    hand.point((40, 9), hand.window.time.lanes)
    hand.click("choose-face")
    chooser: Any = next(w for w in QApplication.topLevelWidgets() if w.objectName() == "face-chooser")
    hand.point(_centre(chooser, 2), chooser.list.viewport())
    hand.click("face-keep")
    hand.window.commands.run("arrive-settle-from-above")
    hand.clicks += 3  # the menu, the menu in it, the entry
    item = hand.session.shot.objects[0]
    assert isinstance(item, Title)
    return f"{item.face}, {item.movers[0].name}"


def _centre(chooser, row: int) -> tuple[int, int]:
    rect = chooser.list.visualRect(chooser.model.index(row))
    return rect.left() + 40, rect.center().y()


def sky(hand: Hand) -> str:
    """Another sky, turned by hand, with its sun where the shadows say."""
    hand.open_demo()
    hand.click("step-foreground")
    hand.tick("sky-on")
    hand.wait(idle(hand))
    hand.click("sky-sun")
    hand.click("tool-sky")
    hand.drag([(640, 60), (690, 62), (720, 70)])
    backdrop = hand.session.shot.backdrop
    return f"{backdrop.kind} sky, heading {backdrop.heading.value[0]:.1f} degrees"


def wall(hand: Hand) -> str:
    """A post hides the title: outlined in one frame, carried by the solve."""
    hand.open_demo()
    tree = json.loads((ROOT / "demo" / "shots" / "terrace.camera.json").read_text())
    lens = Lens(**{k: tree["lens"][k] for k in ("fx", "fy", "cx", "cy", "k1", "k2")})
    true = [Camera(np.array(f["R"]), np.array(f["t"]), lens) for f in tree["frames"]]
    middle = np.array([[-3.6, 4.7, z] for z in (0.0, 1.05)])  # of the post, as the scenery has it

    def round_it(frame: int) -> np.ndarray:
        side = true[frame].R[0] * 0.12  # as the camera sees it
        low, high = middle
        return np.array([true[frame].project(p)[0] for p in (low - side, high - side, high + side, low + side)])

    hand.point((hand.window.time.axis().x(46), 8), hand.window.time.ruler)
    hand.session.select("")
    hand.click("step-foreground")
    hand.click("draw-matte")
    for corner in round_it(46):
        hand.point(corner)
    hand.press(Qt.Key.Key_Return)
    hand.tick("carry-matte")
    matte = next(m for m in hand.session.shot.mattes if m.id == hand.session.selected)
    assert isinstance(matte, Outline)
    off = [np.abs(outline_at(hand.session.shot, matte, frame) - round_it(frame)).max() for frame in (10, 30, 60, 90)]
    return f"the corners are {max(off):.1f} px off the true post at most"


def emblem(hand: Hand) -> str:
    """A logo on the wall of the tower, of polished steel, out of focus a little."""
    hand.open_demo()
    hand.session.select("")
    hand.click("step-place")
    with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(ROOT / "demo" / "star-wheel.svg"), "")):
        hand.menu("more-tools", "Logo")
    hand.point((770, 260))
    item: Any = hand.session.object()
    assert isinstance(item, Logo)
    hand.menu("ready-surface", "Steel, polished")
    hand.click("step-finish")
    hand.click("focus-object")
    return f"{item.name} at {tuple(round(v, 2) for v in item.position.at(hand.session.frame))}"


JOBS = {
    "terrace": (terrace, "at most 40 clicks and 12 keystrokes"),
    "title": (title, "at most 6 clicks and no typing"),
    "bounce": (bounce, "at most 8 clicks and 2 numbers"),
    "stone and lamp": (glow, ""),
    "letters arrive": (arrive, ""),
    "new sky": (sky, ""),
    "post in front": (wall, ""),
    "logo on a wall": (emblem, ""),
}


def main() -> int:
    app = QApplication(["trial"])
    theme.apply(app)
    wanted = sys.argv[1:]
    for name, (job, limit) in JOBS.items():
        if wanted and name not in wanted:
            continue
        hand = Hand()
        said = job(hand)
        print(f"{name:15} {hand.told()}   {said}" + (f"   (wanted: {limit})" if limit else ""), flush=True)
        hand.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
