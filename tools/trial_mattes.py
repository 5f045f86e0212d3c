"""How well a painted subject is followed: the demo's visitor against its true shape, from strokes on one frame and after corrections.

python tools/trial_mattes.py
Strokes are those of a hand in a hurry; corrections paint over the middle of what is wrong, on the frames that are named. Prints overlap
(the sums of the smaller and of the larger alpha, as a ratio), frames that are far off and whether they were announced, seconds a frame beside the
plain lower bound of decoding and dense flow, and bytes a frame in the file.
"""

import sys
import time
from pathlib import Path

import cv2
import msgspec
import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "demo")]

import make_demo
import raycast
import scenery
from lodestar.core.basics.job import Job
from lodestar.core.matte.strokes import UNSURE, Brushed, Found, Stroke, laid_out
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.work import matting
from make_demo import HEIGHT, WIDTH

KEY, FIRST, SECOND = 46, 22, 75
INSIDE = (352, 240, 350, 260, 352, 290, 350, 330, 350, 380), (340, 400, 332, 470, 330, 545), (372, 400, 378, 450, 380, 545)
OUTSIDE = (300, 230, 290, 330, 285, 450, 290, 575), (420, 230, 430, 330, 420, 450, 425, 575, 300, 590), (357, 480, 357, 540)
SUB, LENS_PX = 3, 0.45  # by how many moments places in a px are apart; softness of the demo's lens


class Truth:
    """What the visitor covers in each frame of the demo, by rays of the poses and times that the clip was rendered with."""

    def __init__(self) -> None:
        path, count, focal, k1, k2, ground, solids, _, seed = make_demo.SHOTS["terrace"]
        self.land, self.lens = ground(), Lens(focal, focal, (WIDTH - 1) / 2, (HEIGHT - 1) / 2, k1, k2)
        self.fixed = solids(self.land)
        self.rotation, self.centre = make_demo.trajectory(path, count, seed)

    def at(self, frame: int) -> np.ndarray:
        """(HEIGHT, WIDTH) float32: the mean over the open shutter and places in a px, as soft as the lens."""
        total = np.zeros((HEIGHT, WIDTH), np.float32)
        times = (frame + 0.5 + make_demo.SHUTTER * ((np.arange(make_demo.POSES) + 0.5) / make_demo.POSES - 0.5)) / make_demo.FPS
        for k, (time_s, R, C) in enumerate(zip(times, self.rotation[frame], self.centre[frame], strict=True)):
            visitor = scenery.visitor(time_s)
            camera = Camera(R, -R @ C, self.lens)
            ends = np.array([p + np.outer([-1, 1], [s[8]] * 3)[k] for s in visitor for p in (s[2:5], s[5:8]) for k in (0, 1)])
            xy, _ = camera.project(ends)
            low = np.clip(np.floor(xy.min(0)).astype(int) - 12, 0, [WIDTH, HEIGHT])
            high = np.clip(np.ceil(xy.max(0)).astype(int) + 12, 0, [WIDTH, HEIGHT])
            y, x = np.mgrid[low[1] : high[1], low[0] : high[0]]
            if not x.size:
                continue
            # each moment at another place in the px
            shift = np.array([(k * SUB % len(times) + 0.5) / len(times), (k + 0.5) / len(times)]) - 0.5
            rays = camera.rays(np.stack([x, y], -1).reshape(-1, 2) + shift)
            near, far = (self.met(solids, C, rays) for solids in (visitor, self.fixed))
            total[low[1] : high[1], low[0] : high[0]] += (near < far).reshape(x.shape) / len(times)
        return cv2.GaussianBlur(total, (0, 0), LENS_PX)

    def met(self, solids: list, origin: np.ndarray, rays: np.ndarray) -> np.ndarray:
        return raycast.meet(scenery.table(solids), len(solids), self.land, origin, rays, -1e6)


def corrected(source: Brushed, frame: int, found: np.ndarray, true: np.ndarray) -> Brushed:
    """With strokes over the middle of each part of a frame that is wrong."""
    strokes = list(source.strokes)
    for wrong, inside in ((true - found > 0.5, True), (found - true > 0.5, False)):
        count, label, stats, _ = cv2.connectedComponentsWithStats(cv2.erode(wrong.astype(np.uint8), np.ones((3, 3), np.uint8)))
        for part in range(1, count):
            if stats[part, 4] > 25:
                ys, xs = np.nonzero(label == part)
                order = np.argsort(xs if np.ptp(xs) > np.ptp(ys) else ys)[:: max(len(xs) // 6, 1)]
                strokes.append(Stroke(frame, tuple(float(v) for p in zip(xs[order], ys[order]) for v in p), 2.0, inside))
    return msgspec.structs.replace(source, strokes=tuple(strokes))


def followed(shot: Shot, source: Brushed, truth: dict[int, np.ndarray], label: str) -> dict[int, Found]:
    """Follow through the shot, and print how well it went."""
    began, found = time.perf_counter(), {}
    for one in matting.followed(shot, source, Job()):
        found[one.frame] = one
    seconds = (time.perf_counter() - began) / len(found)
    high, wide = next(iter(truth.values())).shape
    fits = {}
    for f, one in found.items():
        alpha = laid_out(one, wide, high)
        fits[f] = float(np.minimum(alpha, truth[f]).sum() / np.maximum(alpha, truth[f]).sum())
    values = np.array([fits[f] for f in sorted(fits)])
    far = [f for f, fit in fits.items() if fit < UNSURE]
    announced = sum(found[f].sure < UNSURE for f in far)
    print(f"{label}: overlap {values.mean():.3f}, over 60 frames {values[16:76].mean():.3f}, least {values.min():.3f}; ", end="")
    print(f"{len(far)} frames under {UNSURE}, {announced} of them announced; {seconds:.2f} s a frame")
    return found


def lower_bound(shot: Shot) -> float:
    """Seconds a frame to decode and to find dense flow both ways at half of the size: less it cannot take."""
    began = time.perf_counter()
    search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    with matting.reader_of(shot) as read:
        grey = lambda i: cv2.cvtColor(cv2.resize(read(i), None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA), cv2.COLOR_RGB2GRAY)
        for i in range(1, 30):
            search.calc(grey(i), grey(i - 1), None)
            search.calc(grey(i - 1), grey(i), None)
    return (time.perf_counter() - began) / 29


def main() -> None:
    shot = files.read(ROOT / "demo" / "open-night.lode")
    true = Truth()
    truth = {f: true.at(f) for f in shot.frames}
    strokes = *(Stroke(KEY, tuple(map(float, s)), 8.0) for s in INSIDE), *(Stroke(KEY, tuple(map(float, s)), 8.0, False) for s in OUTSIDE)
    source = Brushed(id="visitor", name="Visitor", strokes=strokes)
    size = shot.plate.width, shot.plate.height
    found = followed(shot, source, truth, "strokes on one frame")
    source = corrected(source, KEY, laid_out(found[KEY], *size), truth[KEY])
    found = followed(shot, source, truth, "looked over on that frame")
    for frame in (FIRST, SECOND):
        source = corrected(source, frame, laid_out(found[frame], *size), truth[frame])
    found = followed(shot, source, truth, "two corrections")
    print(f"bytes a frame as stored, before packing: {np.mean([f.alpha.size for f in found.values()]):.0f}")
    print(f"decoding and dense flow alone: {lower_bound(shot):.2f} s a frame")


if __name__ == "__main__":
    main()
