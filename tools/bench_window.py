#!/usr/bin/env python3
"""Time what a hand feels in the window: gaps while it works, pictures while a handle is dragged, the scene view, and the start.

    bench_window.py

Bounds in the same run: the draft picture made alone, without a window; importing the libraries alone.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["OPENBLAS_NUM_THREADS"] = "1"  # as ./lodestar does
os.environ["XDG_STATE_HOME"] = os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp()

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, Qt, QTimer
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from lodestar.app import theme
from lodestar.app.derived import points_of
from lodestar.app.jobs import Collector
from lodestar.app.session import Session
from lodestar.app.window import Window
from lodestar.core.basics.keyed import constant
from lodestar.core.picture.frame import frame
from lodestar.core.shot.document import rebased

HAND_HZ = 60  # events a second that a mouse sends, about
SECONDS = 5.0


def opened() -> tuple[QApplication, Window, Collector]:
    """The demo in a window, at rest."""
    running = QApplication.instance()
    app = running if isinstance(running, QApplication) else QApplication([])
    theme.apply(app)
    window = Window(Session())
    window.resize(1280, 800)
    window.show()
    window.viewer.show_view("Picture")  # whatever was looked at last
    window.shot.open_demo()
    rest(app, 4.0)
    return app, window, Collector(window)


def rest(app: QApplication, seconds: float) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        app.processEvents()
        time.sleep(0.001)


def shut(window: Window) -> None:
    window.session.files.saved_shot = window.session.shot
    window.close()


def send(widget, kind: QEvent.Type, at) -> None:
    button = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else Qt.MouseButton.LeftButton
    point = QPointF(float(at[0]), float(at[1]))
    QApplication.sendEvent(widget, QMouseEvent(kind, point, point, button, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier))


class Paints(QObject):
    """Counts how often a widget is painted."""

    def __init__(self, widget) -> None:
        super().__init__(widget)
        self.count = 0
        widget.installEventFilter(self)

    def eventFilter(self, watched, event) -> bool:
        self.count += event.type() == QEvent.Type.Paint
        return False


def drag_figures() -> None:
    """A title dragged over the ground for some seconds at a hand's rate: events in, pictures out, and how old a picture is.

    The bound is the same draft made alone, one after another. A queue would show as an age that grows.
    """
    app, window, keep = opened()
    session, canvas = window.session, window.canvas
    session.show_step("Place")
    session.select("open-sky")
    session.show_frame(46)
    rest(app, 3.0)
    shot, scale = session.shot, canvas.fit_zoom()
    frame(shot, 46, "draft", scale=scale)
    began = time.perf_counter()
    for k in range(12):
        item = msgspec.structs.replace(shot.objects[0], position=constant(0.4 + 0.01 * k, -0.7, 0.0))
        frame(msgspec.structs.replace(shot, objects=(item, *shot.objects[1:])), 46, "draft", scale=scale)
    alone = (time.perf_counter() - began) / 12
    asked: dict[int, float] = {}
    ages: list[float] = []

    def made(request, image) -> None:
        if request.layer == "picture" and id(request.shot) in asked:
            ages.append(time.perf_counter() - asked[id(request.shot)])

    window.pictures.made.connect(made)
    tool = canvas.tool
    start = tool._on_widget(tool.handles(session.object())["at"]) + np.array([-90.0, -30.0])
    send(canvas, QEvent.Type.MouseButtonPress, start)
    held, events, kept, began = tool.held, 0, [], time.perf_counter()
    due = 0.0
    while (now := time.perf_counter() - began) < SECONDS:
        if now < due:
            app.processEvents()
            time.sleep(0.0005)
            continue
        # moves that come while the window works are merged into one, as Qt merges those of a mouse
        due = (int(now * HAND_HZ) + 1) / HAND_HZ
        at = start + [60 * np.sin(now * 3), 8 * np.sin(now * 2)]
        send(canvas, QEvent.Type.MouseMove, at)
        kept.append(session.shot)  # so that no two shots share an id
        asked[id(session.shot)] = time.perf_counter()
        events += 1
        app.processEvents()
    seconds = time.perf_counter() - began
    send(canvas, QEvent.Type.MouseButtonRelease, at)
    assert held == "body", held
    half = len(ages) // 2
    print(
        f"drag of a title at {canvas.fit_zoom():.0%}: {events / seconds:.0f} events in, {len(ages) / seconds:.1f} pictures out a second; "
        f"{seconds / len(ages) / alone:.1f} × a draft made alone ({alone * 1000:.0f} ms); a picture is {np.median(ages[:half]) * 1000:.0f} ms old in the "
        f"first half, {np.median(ages[half:]) * 1000:.0f} ms in the second, {max(ages) * 1000:.0f} ms at most"
    )
    del keep
    shut(window)


def scene_figures() -> None:
    """The scene view of 10,000 points and five titles, orbited: views shown a second, and the interface thread's part of each."""
    app, window, keep = opened()
    session = window.session
    solve, rng = session.shot.solve, np.random.default_rng(0)
    pick = rng.integers(0, len(solve.xyz), 10_000)
    spread = np.median(np.linalg.norm(solve.xyz - np.median(solve.xyz, 0), axis=1))
    solve = msgspec.structs.replace(
        solve,
        xyz=solve.xyz[pick] + 0.02 * spread * rng.standard_normal((10_000, 3)),
        point_ids=np.arange(10_000, dtype=np.int32),
        point_error=solve.point_error[pick],
        colours=solve.colours[pick],
    )
    titles = tuple(
        msgspec.structs.replace(session.shot.objects[k % 2], id=f"t{k}", tracks=(), position=constant(-2.0 + k, 0.5 * k, 0.0)) for k in range(5)
    )
    # as another shot, so that nothing is carried from the old points to the new ones
    session.files.start_shot(rebased(session.shot, solve=solve, objects=titles, tracks=None), None)
    window.viewer.show_view("Scene")
    scene = window.viewer.scene
    rest(app, 3.0)
    assert len(points_of(session.shot)) == 10_000
    painted = Paints(scene)
    solids, began, due, at = window.pictures.count, time.perf_counter(), 0.0, np.array([400.0, 300.0])
    send(scene, QEvent.Type.MouseButtonPress, (20, 60))
    while (now := time.perf_counter() - began) < SECONDS:
        if now >= due:
            due = (int(now * HAND_HZ) + 1) / HAND_HZ
            send(scene, QEvent.Type.MouseMove, at + [120 * np.sin(now * 3), 20 * np.cos(now * 2)])
        app.processEvents()
        time.sleep(0.0005)
    seconds, solids, views = time.perf_counter() - began, window.pictures.count - solids, painted.count
    send(scene, QEvent.Type.MouseButtonRelease, at)
    print(
        f"scene view {scene.width()} x {scene.height()}, 10,000 points, five titles, orbiting: {views / seconds:.0f} views a second, "
        f"{solids / seconds:.0f} pictures of the solids a second, each from where it is looked"
    )
    del keep
    shut(window)


def gap_figures() -> None:
    """The event loop's longest gap during a whole track and solve, and its 95 % over all gaps."""
    app, window, keep = opened()
    gaps, last = [], [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer()
    timer.setInterval(5)
    timer.timeout.connect(beat)
    window.session.show_step("Solve")
    window.session.work.track_and_solve()
    last[0] = time.perf_counter()
    timer.start()
    began = time.perf_counter()
    while window.session.jobs.busy:
        app.processEvents()
        time.sleep(0.0005)
    timer.stop()
    g = np.array(gaps) * 1000
    print(
        f"window while it tracks and solves ({time.perf_counter() - began:.1f} s): longest gap {g.max():.0f} ms, over 100 ms: {(g > 100).sum()}, 99 % of {len(g)} under {np.percentile(g, 99):.0f} ms"
    )
    del keep
    shut(window)


def _run(code: str, env: dict) -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], env=env, check=True)
    return time.perf_counter() - began


def start_figure() -> None:
    code = "from lodestar.app.pictures import Pictures; import os,sys; Pictures.made  # noqa\n"
    code += "import lodestar.app.viewer.canvas as c\nold = c.PictureCanvas._made\n"
    code += "def made(self, r, i):\n    old(self, r, i); sys.stdout.flush(); os._exit(0)\nc.PictureCanvas._made = made\nfrom lodestar.cli import main\nmain(['demo'])"
    env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    seconds = min(_run(code, env) for _ in range(2))
    bare = _run("import PyQt6.QtWidgets, numpy, scipy.linalg, cv2, numba, av", env)
    print(f"start to the first picture of the demo: {seconds:.2f} s, {seconds / bare:.1f} × importing the libraries alone ({bare:.2f} s)")


def main() -> None:
    drag_figures()
    scene_figures()
    gap_figures()
    start_figure()


if __name__ == "__main__":
    main()
