"""A real window on an offscreen screen, driven by mouse and keys; it leaves no window, thread or job behind."""

import functools
import gc
import os
import tempfile
import threading
import time
import unittest
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, QSettings, Qt
from PyQt6.QtGui import QImage, QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from lodestar.app import shot_files, theme
from lodestar.app.session import Session
from lodestar.app.shot_files import DEMO
from lodestar.app.window import Window
from lodestar.core.shot import files

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


read_anew, _demo = files.read, functools.cache(lambda: read_anew(DEMO))
_work_out, _worked = shot_files.work_out, functools.cache(lambda: _work_out(_demo()))


# The demo's shot is read, and what is known of it worked out, once for all tests: a shot never changes.
def _read_once(path, without=()):
    return _demo() if path == DEMO and not without else read_anew(path, without)


def _worked_once(shot):
    return _worked() if shot is _demo() else _work_out(shot)


files.read, shot_files.work_out = _read_once, _worked_once


def application() -> QApplication:
    app = QApplication.instance()
    if app is None:
        app = QApplication(["lodestar"])
        theme.apply(app)
        gc.disable()  # as the program does: only the interface thread collects,
        gc.freeze()  # and only what came after the libraries
    return app


class WindowCase(unittest.TestCase):
    def setUp(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        os.environ["XDG_STATE_HOME"] = str(self.folder / "state")
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(self.folder / "config"))
        self.app = application()
        self.window = self.open_window()

    def open_window(self) -> Window:
        window = Window(Session())
        window.canvas.refine = False  # a final picture takes both cores for a second: see wait_picture
        window.fill_ahead = False
        window.resize(1280, 800)
        window.show()
        self.settle()
        return window

    def tearDown(self) -> None:
        self.close_window(self.window)
        alive = [t.name for t in threading.enumerate() if t.name == "pictures"]
        self.assertEqual(alive, [], "a thread was left behind")
        self.assertEqual([w for w in QApplication.topLevelWidgets() if isinstance(w, Window) and w.isVisible()], [])
        self._folder.cleanup()

    def close_window(self, window: Window) -> None:
        window.session.files.saved_shot = window.session.shot
        window.close()
        self.assertFalse(window.session.jobs.busy)
        window.deleteLater()
        self.settle()
        gc.collect()

    @property
    def session(self) -> Session:
        return self.window.session

    @property
    def canvas(self):
        return self.window.canvas

    def settle(self, rounds: int = 10) -> None:
        for _ in range(rounds):
            self.app.processEvents()
        while any(w.isVisible() and not w.panels[w.session.step].is_filled for w in QApplication.topLevelWidgets() if isinstance(w, Window)):
            self.app.processEvents()

    def wait(self, condition, seconds: float = 60.0) -> None:
        """Process events until the condition holds."""
        until = time.monotonic() + seconds
        while not condition():
            self.assertLess(time.monotonic(), until, "it did not happen in time")
            self.app.processEvents()
            time.sleep(0.002)
        self.settle()

    def open_demo(self, window: Window | None = None) -> None:
        window = window or self.window
        window.shot.open_demo()
        self.wait(lambda: not window.session.jobs.busy)

    def wait_picture(self, quality: str = "final") -> None:
        if quality == "final" and not self.canvas.refine:
            self.canvas.refine = True
            self.canvas._ask_final()
        self.wait(
            lambda: (s := self.canvas.shown) is not None and s.shot is self.session.shot and s.index == self.session.frame and s.quality == quality
        )

    def wait_idle(self, seconds: float = 120.0) -> None:
        self.wait(lambda: not self.session.jobs.busy, seconds)

    def find(self, name: str) -> QWidget:
        found = [w for w in self.window.findChildren(QWidget, name) if w.isVisible()]
        self.assertTrue(found, f"{name} is not on show")
        return found[0]

    def click(self, name: str) -> None:
        QTest.mouseClick(self.find(name), LEFT)
        self.settle()

    def mouse(self, kind: QEvent.Type, at, buttons=LEFT, modifiers=NONE, widget: QWidget | None = None) -> None:
        widget = widget or self.canvas
        point = QPointF(float(at[0]), float(at[1]))
        button = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else LEFT
        event = QMouseEvent(kind, point, QPointF(widget.mapToGlobal(point.toPoint())), button, buttons, modifiers)
        QApplication.sendEvent(widget, event)
        self.settle(3)

    def click_at(self, plate_xy, modifiers=NONE) -> None:
        at = self.canvas.to_widget(plate_xy)
        QTest.mouseMove(self.canvas, QPoint(int(at[0]), int(at[1])))
        self.mouse(QEvent.Type.MouseMove, at, Qt.MouseButton.NoButton, modifiers)
        self.mouse(QEvent.Type.MouseButtonPress, at, LEFT, modifiers)
        self.mouse(QEvent.Type.MouseButtonRelease, at, Qt.MouseButton.NoButton, modifiers)

    def drag(self, path, modifiers=NONE, plate: bool = True) -> None:
        points = [self.canvas.to_widget(p) if plate else p for p in path]
        self.mouse(QEvent.Type.MouseButtonPress, points[0], LEFT, modifiers)
        for p in points[1:]:
            self.mouse(QEvent.Type.MouseMove, p, LEFT, modifiers)
        self.mouse(QEvent.Type.MouseButtonRelease, points[-1], Qt.MouseButton.NoButton, modifiers)

    def pixels(self, image: QImage | None = None) -> np.ndarray:
        """(h, w, 3) of what the picture shows, or of another image."""
        image = (image or self.canvas.image).convertToFormat(QImage.Format.Format_RGB32)
        data = np.frombuffer(image.constBits().asstring(image.sizeInBytes()), np.uint8)
        return data.reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), 2::-1]

    def key(self, key, modifiers=NONE, widget: QWidget | None = None) -> None:
        QTest.keyClick(widget or self.canvas, key, modifiers)
        self.settle()

    def told(self) -> str:
        return self.session.messages[-1].what if self.session.messages else ""
