#!/usr/bin/env python3
"""Memory over ten deliveries and over a long time of scrubbing and editing: it must stay flat.

    tools/bench_memory.py [--deliveries 10] [--scrubs 3000] [--size 1080]

Each delivery runs on a thread of its own, as a job of the window does. Prints what is resident after each, and by how much the
last one differs from the second (the first fills what is kept on purpose: faces, compiled kernels, decoded plates). Exit status
1 where that is over 3 %.
"""

import argparse
import gc
import random
import sys
import tempfile
import threading
from fractions import Fraction
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import msgspec

from lodestar.core.basics.job import Job
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.motion import with_value
from lodestar.core.work.delivery import deliver

ALLOWED = 0.03


def resident_mb() -> float:
    gc.collect()
    with open("/proc/self/status") as status:
        return next(int(line.split()[1]) for line in status if line.startswith("VmRSS")) / 1024


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


def told(name: str, figures: list[float]) -> bool:
    """Print the figures; whether the last is within what is allowed of the second."""
    drift = figures[-1] / figures[1] - 1
    print(f"{name}: {' '.join(f'{f:.0f}' for f in figures)} MB, {drift:+.1%} from the second to the last")
    return drift <= ALLOWED


def deliveries(shot: Shot, count: int, folder: Path) -> list[float]:
    figures = []
    for number in range(count):
        job = lambda number=number: deliver(shot, folder / f"{number}.mp4", Job(), samples=2, frames=range(0, 12))
        thread = threading.Thread(target=job)
        thread.start()
        thread.join()
        figures.append(resident_mb())
    return figures


def scrubbing(shot: Shot, count: int) -> list[float]:
    """Drafts of frames all over the clip while a title is turned, as by a hand that looks for its place."""
    rng, figures = random.Random(0), []
    for number in range(count):
        index = rng.randrange(shot.plate.count)  # type: ignore[union-attr]
        shot = with_value(shot, shot.objects[0].id, "turn", lambda value, n=number: value.changed(0, (float(n % 90), 0.0, 0.0)))
        shot = with_value(shot, shot.objects[0].id, "depth", lambda value, n=number: value.changed(0, (0.1 + 0.001 * (n % 200),)))
        frame(shot, index, "draft", scale=0.6)
        if number % max(count // 10, 1) == max(count // 10, 1) - 1:
            figures.append(resident_mb())
    close_workshop()
    return figures


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--deliveries", type=int, default=10)
    parser.add_argument("--scrubs", type=int, default=3000)
    parser.add_argument("--size", type=int, default=1080)
    args = parser.parse_args()
    demo = msgspec.structs.replace(files.read(ROOT / "demo" / "open-night.lode"), mattes=())
    with tempfile.TemporaryDirectory() as folder:
        shot = larger_clip(demo, args.size, Path(folder))
        flat = [told(f"deliveries at {args.size}p", deliveries(shot, args.deliveries, Path(folder)))]
    flat.append(told("scrubbing", scrubbing(demo, args.scrubs)))
    return 0 if all(flat) else 1


if __name__ == "__main__":
    sys.exit(main())
