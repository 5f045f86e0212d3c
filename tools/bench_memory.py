#!/usr/bin/env python3
"""Memory over ten deliveries, and over an hour of scrubbing, playing and editing in the window: it must stay flat.

    tools/bench_memory.py [--deliveries 10] [--minutes 60] [--size 1080]

Each delivery runs on a thread of its own, as a job of the window does. Prints what is resident after each, and by how much the
last one differs from the second, of the hour's tenths from the fourth (the first ones fill what is kept on purpose: faces, compiled kernels, decoded plates). The hour of a hand is done in less:
nothing waits for it to think. Exit status 1 where memory grew by over 3 %, or there are more threads, open files or processes.
"""

import argparse
import gc
import os
import random
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, Qt, QTimer
from PyQt6.QtTest import QTest

from bench_window import opened, rest, send, shut
from lodestar.app.session import STEPS
from lodestar.core.basics.job import Job
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.work.delivery import deliver

ALLOWED = 0.03
KEPT_BYTES = 60_000_000  # of finished pictures; up to 500 MB are kept on purpose, which would hide all else
HAND_SECONDS = 3  # of a hand's time for one thing that it does


def children(pid: str) -> list[str]:
    """The processes that one started, and those that they did."""
    own = [child for task in Path(f"/proc/{pid}/task").glob("*/children") for child in task.read_text().split()]
    return [*own, *(far for child in own for far in children(child))]


def resident_mb() -> float:
    """Of this process, and of those in which decoders run: what they share is counted once."""
    gc.collect()
    kilobytes = 0
    for pid in ("self", *children("self")):
        with open(f"/proc/{pid}/smaps_rollup") as status:
            kilobytes += next(int(line.split()[1]) for line in status if line.startswith("Pss:"))
    return kilobytes / 1024


def larger_clip(shot: Shot, height: int, folder: Path) -> Shot:
    """The shot with its clip at another size, without the camera, which fits no longer; titles stand before a default one."""
    import av

    from lodestar.core.media.plates import probe
    from lodestar.core.shot.document import with_plate

    assert shot.plate is not None
    path, width = folder / "clip.mp4", height * 16 // 9
    clip = shot.plate.path
    with av.open(clip) as source, av.open(str(path), "w") as target:
        stream = target.add_stream("libx264", rate=25)
        stream.width, stream.height, stream.pix_fmt, stream.options = width, height, "yuv420p", {"preset": "ultrafast"}
        for number, one in zip(range(40), source.decode(video=0)):
            one = one.reformat(width=width, height=height, format="yuv420p")
            one.pts, one.time_base = number, Fraction(1, 25)
            target.mux(stream.encode(one))
        target.mux(stream.encode())
    return with_plate(shot, probe(path))


def told(name: str, figures: list[float], first: int) -> bool:
    """Print the figures; whether the last is within what is allowed of one of the first, before which things are kept on purpose."""
    drift = figures[-1] / figures[first] - 1
    print(f"{name}: {' '.join(f'{f:.0f}' for f in figures)} MB, {drift:+.1%} from number {first + 1} to the last")
    return drift <= ALLOWED


def deliveries(shot: Shot, count: int, frames: range, folder: Path) -> list[float]:
    figures = []
    for number in range(count):
        job = lambda number=number: deliver(shot, folder / f"{number}.mp4", Job(), samples=2, frames=frames)
        thread = threading.Thread(target=job)
        thread.start()
        thread.join()
        figures.append(resident_mb())
    return figures


def at_the_window(minutes: float) -> tuple[list[float], list[str]]:
    """What a hand does in so many minutes: it scrubs, plays, drags a title, nudges it, goes through the steps and takes back, each as soon as
    the window has done the last. Resident MB at each tenth; and what there is more of, threads, open files or processes, than at the second."""
    app, window, keep = opened()
    window.pictures.most_bytes = KEPT_BYTES
    session, canvas, ruler = window.session, window.canvas, window.time.ruler
    rng, figures, counts = random.Random(0), [], []

    def until(done: Callable[[], bool], seconds: float = 20.0) -> None:
        end = time.monotonic() + seconds
        while not done() and time.monotonic() < end:
            rest(app, 0.005)

    def shown() -> bool:
        return canvas.shown is not None and (canvas.shown.index, canvas.shown.shot) == (session.frame, session.shot)

    def stroke(widget, start, end, moves: int) -> None:
        start, end = np.array(start, float), np.array(end, float)
        send(widget, QEvent.Type.MouseButtonPress, start)
        for k in range(moves):
            send(widget, QEvent.Type.MouseMove, start + (end - start) * (k + 1) / moves)
            rest(app, 0.01)
        send(widget, QEvent.Type.MouseButtonRelease, end)

    def scrub() -> None:
        at = [rng.uniform(130, ruler.width() - 20) for _ in range(2)]
        stroke(ruler, (at[0], 10), (at[1], 10), 20)

    def play() -> None:
        before = session.frame
        QTest.keyClick(canvas, Qt.Key.Key_Space)
        until(lambda: abs(session.frame - before) > 12, 3.0)
        QTest.keyClick(canvas, Qt.Key.Key_Space)

    def drag() -> None:
        session.show_step("Place")
        session.select("open-sky")
        rest(app, 0.05)
        handles = canvas.tool.handles(session.object()) if hasattr(canvas.tool, "handles") else {}
        if "at" in handles:
            start = canvas.tool._on_widget(handles["at"])
            stroke(canvas, start, start + [rng.uniform(-60, 60), rng.uniform(-10, 10)], 10)

    def nudge() -> None:
        session.show_step("Place")
        session.select("open-sky")
        for _ in range(3):
            QTest.keyClick(canvas, rng.choice((Qt.Key.Key_Left, Qt.Key.Key_Right)))
            rest(app, 0.02)

    def steps() -> None:
        session.show_step(rng.choice(STEPS))

    def take_back() -> None:
        for _ in range(rng.randrange(1, 6)):
            session.undo()

    count, done = max(round(minutes * 60 / HAND_SECONDS), 20), 0

    def act() -> None:
        nonlocal done
        rng.choice((scrub, scrub, play, drag, nudge, steps, take_back))()
        until(shown)
        done += 1
        if done % (count // 10) == 0:
            rest(app, 1.0)
            figures.append(resident_mb())
            counts.append((len(os.listdir("/proc/self/task")), len(os.listdir("/proc/self/fd")), len(children("self"))))
            print(
                f"{done} of {count} things done: {figures[-1]:.0f} MB, {counts[-1][0]} threads, {counts[-1][1]} open files, {counts[-1][2]} processes",
                file=sys.stderr,
                flush=True,
            )
        if done == count // 10 * 10:
            app.exit()  # `quit` would ask whether the shot is to be saved

    # one thing after another from the program's own loop: what it throws away goes when it comes back to that
    timer = QTimer()
    timer.timeout.connect(act)
    timer.start()
    app.exec()
    timer.stop()
    del keep
    shut(window)
    last = {name: max(n[k] for n in counts[-3:]) - max(n[k] for n in counts[:2]) for k, name in enumerate(("threads", "open files", "processes"))}
    return figures, [f"{more} more {name}" for name, more in last.items() if more > 0]


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--deliveries", type=int, default=10)
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--size", type=int, default=1080)
    args = parser.parse_args()
    demo = msgspec.structs.replace(files.read(ROOT / "demo" / "open-night.lode"), mattes=())
    with tempfile.TemporaryDirectory() as folder:
        shot = larger_clip(demo, args.size, Path(folder))
        flat = [told(f"deliveries at {args.size}p", deliveries(shot, args.deliveries, range(12), Path(folder)), 1)]
        around = files.read(ROOT / "demo" / "low-sun.lode")  # surroundings, a mirror, uneven ground
        flat.append(told("deliveries with surroundings", deliveries(around, args.deliveries, range(20, 24), Path(folder)), 1))
    figures, more = at_the_window(args.minutes)
    flat.append(told(f"{args.minutes:g} minutes of a hand", figures, 3))
    print("no thread, open file or process more" if not more else ", ".join(more))
    return 0 if all(flat) and not more else 1


if __name__ == "__main__":
    sys.exit(main())
