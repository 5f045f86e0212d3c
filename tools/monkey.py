"""Real events on every step of a window, by a seed: clicks, drags, keys and commands wherever they may fall."""
# mypy: disable-error-code="call-overload, attr-defined, call-arg, union-attr, arg-type"

import os
import random
import sys
import tempfile
import time
from collections import Counter
from fractions import Fraction
from pathlib import Path

import cv2
import msgspec
import numpy as np
from PyQt6.QtCore import QPoint, QSettings, Qt, QThread, QTimer
from PyQt6.QtGui import QColor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QColorDialog, QDialog, QFileDialog, QMenu, QWidget

from lodestar.app import errors, shot_commands, theme
from lodestar.app.jobs import Collector
from lodestar.app.session import STEPS, Session
from lodestar.app.window import Window
from lodestar.core.media.deliveries import open_delivery
from lodestar.core.media.plates import open_plate, probe
from lodestar.core.shot import files
from lodestar.core.shot.document import rebased

ROOT = Path(__file__).resolve().parents[1]
DEMO = ROOT / "demo" / "open-night.lode"
LONG = 1500  # frames
BUSY_MS = 100.0  # of its own processor time that the interface may take for one event
LEFT, RIGHT, PLAIN, SHIFT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier
KEYS = [*map(Qt.Key, (0x41, 0x44, 0x20, 0x2C, 0x2E)), Qt.Key.Key_Delete, Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Left, Qt.Key.Key_Up]
KEYS += [Qt.Key.Key_Tab, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_5, Qt.Key.Key_Minus, Qt.Key.Key_B, Qt.Key.Key_K]
# commands that leave the shot, work for minutes, or undo what is to be undone at the end
SPARED = {
    "quit",
    "new",
    "choose",
    "open-clip",
    "open-demo",
    "save",
    "save-as",
    "export-camera",
    "write-output",
    "find-clip",
    "find",
    "help",
    "shortcuts",
    "about",
    "preferences",
    "steps",
} | {f"recent-{k}" for k in range(5)}
SPARED |= {"track", "solve", "track-and-solve", "unsaved", "undo", "redo"}
NOT_PRESSED = {"invite-demo", "invite-clip", "write", "output-write"}


class Watched(QApplication):
    """Measures how long each event keeps the interface thread. Of events inside events only the outer one counts, and the longest of them is named; what
    comes in a loop of its own, as that of an open menu, is an outer one: there the thread is free between them."""

    longest, inside = (0.0, ""), (0.0, "")

    def __init__(self, arguments: list[str]) -> None:
        super().__init__(arguments)
        self._loops: list[list[float]] = []  # of each event under way: the loop that brought it, and ms that inner loops had of it

    def notify(self, receiver, event) -> bool:
        began, loop = time.thread_time(), QThread.currentThread().loopLevel()
        what = f"{type(receiver).__name__}, {event.type().name}"
        outer = not self._loops or loop > self._loops[-1][0]
        if outer:
            self.inside = (0.0, "")
        self._loops.append([loop, 0.0])
        try:
            return super().notify(receiver, event)
        finally:
            whole = (time.thread_time() - began) * 1e3
            busy = whole - self._loops.pop()[1]
            if self._loops:
                self._loops[-1][1] += whole if outer else whole - busy
            if outer:
                self.longest = max(self.longest, (busy, f"{what} ({self.inside[0]:.0f} ms of it: {self.inside[1]})"))
            else:
                self.inside = max(self.inside, (busy, what))


class Hand:
    """One user of a window, who does anything."""

    def __init__(self, window: Window, app: QApplication, rng: random.Random) -> None:
        self.window, self.app, self.rng = window, app, rng

    def act(self) -> str:
        """Do one thing; returns what it was."""
        window, rng = self.window, self.rng
        way = rng.random()
        if way < 0.06:
            step = rng.choice(STEPS)
            window.session.show_step(step)
            return f"step {step}"
        if way < 0.12:
            name = rng.choice([n for n in window.commands.actions if n not in SPARED])
            window.commands.actions[name].trigger()
            return f"command {name}"
        if way < 0.16:
            window.session.show_frame(rng.randrange(window.session.shot.plate.count))
            return "frame"
        on_show = lambda w: w.isVisible() and w.isEnabled() and w.width() > 3 and w.height() > 3
        target = window.canvas if way < 0.5 else rng.choice(list(filter(on_show, window.findChildren(QWidget))))
        if isinstance(target, QAbstractButton) and target.objectName() in NOT_PRESSED:
            return "spared"
        return self.touch(target)

    def touch(self, target: QWidget) -> str:
        rng, kind = self.rng, self.rng.random()
        at = lambda: QPoint(rng.randrange(target.width()), rng.randrange(target.height()))
        name = f"{type(target).__name__} {target.objectName()}"
        if kind < 0.35:
            QTest.mouseClick(target, rng.choice((LEFT, LEFT, LEFT, RIGHT)), pos=at())
            return f"click {name}"
        if kind < 0.6:
            a, b = at(), at()
            QTest.mousePress(target, LEFT, pos=a)
            for t in (0.3, 0.6, 1.0):
                QTest.mouseMove(target, a + (b - a) * t)
                self.app.processEvents()
            QTest.mouseRelease(target, LEFT, pos=b)
            return f"drag {name}"
        if kind < 0.7:
            QTest.mouseDClick(target, LEFT, pos=at())
            return f"double click {name}"
        key = rng.choice(KEYS)
        QTest.keyClick(self.app.focusWidget() or self.window.canvas, key, rng.choice((PLAIN, PLAIN, PLAIN, SHIFT)))
        return f"key {key}"

    def close_popups(self) -> None:
        for popup in self.app.topLevelWidgets():
            if popup is not self.window and popup.isVisible() and isinstance(popup, QDialog | QMenu):
                popup.close()


def _window_on(at: Path, app: QApplication) -> Window:
    """A window with state of its own, in which whatever asks gets no answer."""
    state = tempfile.mkdtemp()
    os.environ["XDG_STATE_HOME"] = state
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, state)
    theme.apply(app)
    shot_commands.ask = lambda *_: "Stay here"
    Session.ask_file = lambda *_: ""  # type: ignore[method-assign]
    for dialog, name, nothing in (
        (QFileDialog, "getOpenFileName", ("", "")),
        (QFileDialog, "getSaveFileName", ("", "")),
        (QColorDialog, "getColor", QColor()),
    ):
        setattr(dialog, name, staticmethod(lambda *_, nothing=nothing, **__: nothing))
    window = Window(Session())
    Collector(window.session)  # as the program does: else Python collects all it has inside any event, which took 110 to 140 ms
    window.resize(1280, 800)
    window.show()
    window.session.files.open(at)
    while window.session.jobs.busy:  # a large one is read beside the interface
        app.processEvents()
    window.session.files.path = None  # nothing is written over it
    for _ in range(50):
        app.processEvents()
    return window


def monkey(events: int, seed: int, at: Path) -> Counter:
    """Send events; what was undone to the start must be the shot of the start. Counts faults, and events for which the interface
    thread was busy for longer than BUSY_MS of its own processor time."""
    app = QApplication.instance() or Watched(["lodestar"])
    found: Counter = Counter()
    faults: list[str] = []
    hook = sys.excepthook
    errors.catch_faults(lambda kind, report: faults.append(report.read_text()[-900:] if report else kind))
    window = _window_on(at, app)
    hand = Hand(window, app, random.Random(seed))
    begin = window.session.shot
    popups = QTimer(window, interval=100)  # what waits for an answer inside an event gets none
    popups.timeout.connect(hand.close_popups)
    popups.start()
    worst = (0.0, "")
    for number in range(events):
        app.longest = (0.0, "")
        what = hand.act()
        for _ in range(3):
            app.processEvents()
        busy, event = app.longest
        hand.close_popups()
        if number % 25 == 0 and window.session.jobs.busy:
            window.session.jobs.cancel()
        worst = max(worst, (busy, f"{event} after {what}"))
        if busy > BUSY_MS:
            found["BUSY"] += 1
            _say(f"event {number} of seed {seed}: {what}: busy for {busy:.0f} ms in {event}")
        if faults:
            found["FAULT"] += len(faults)
            _say(f"event {number} of seed {seed}: {what}\n{faults[0]}")
            faults.clear()
        found["events"] += 1
    until = time.monotonic() + 60
    window.session.jobs.cancel()
    while window.session.jobs.busy and time.monotonic() < until:
        app.processEvents()
    while window.session.history.undo_label is not None:
        window.session.undo()
    found["NOT UNDONE"] += window.session.shot is not begin
    window.session.files.saved_shot = window.session.shot
    window.close()
    sys.excepthook = hook
    _say(f"longest event of the window: {worst[0]:.0f} ms ({worst[1]})")
    return found


def _say(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def long_shot(folder: Path) -> Path:
    """A shot of 1,500 frames at 1080p: the demo's pictures made larger and run forward and back, with its tracks and cameras."""

    shot = files.read(DEMO)
    old, tracks, solve = shot.plate, shot.tracks, shot.solve
    assert old is not None and tracks is not None and solve is not None
    there_and_back = [*range(old.count), *range(old.count - 2, 0, -1)]
    source = [there_and_back[i % len(there_and_back)] for i in range(LONG)]
    plate = open_plate(old)
    pictures = [cv2.resize(plate.frame(i), (1920, 1080), interpolation=cv2.INTER_LINEAR) for i in range(old.count)]
    plate.close()
    delivery = open_delivery(folder / "long.mp4", Fraction(*old.rate), 1920, 1080, old.colour, None)
    for index, frame in enumerate(source):
        delivery.add(index, pictures[frame])
    delivery.finish()
    grow, info = 1.5, probe(folder / "long.mp4")
    of_frame = [tracks.at(i) for i in range(old.count)]
    rows = np.concatenate([of_frame[i] for i in source])
    frame = np.repeat(np.arange(LONG), [len(of_frame[i]) for i in source])
    order = np.lexsort((frame, tracks.track[rows]))
    larger = lambda xy: (xy + 0.5) * grow - 0.5
    longer = msgspec.structs.replace(
        tracks, frame=frame[order].astype(tracks.frame.dtype), track=tracks.track[rows][order], xy=larger(tracks.xy[rows][order])
    )
    number = {int(f): k for k, f in enumerate(solve.frames)}
    k = np.array([number[i] for i in source])
    lens = solve.lens
    lens = msgspec.structs.replace(lens, fx=lens.fx * grow, fy=lens.fy * grow, cx=larger(lens.cx), cy=larger(lens.cy))
    long = msgspec.structs.replace(
        solve,
        width=1920,
        height=1080,
        lens=lens,
        frames=np.arange(LONG),
        R=solve.R[k],
        t=solve.t[k],
        frame_error=solve.frame_error[k],
        covariance_sample=None,
    )
    shot = rebased(shot, plate=info, first=0, last=LONG - 1, tracks=longer, solve=long)
    files.write(shot, folder / "long.lode")
    return folder / "long.lode"
