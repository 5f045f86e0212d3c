"""How well a painted subject is followed: the demo's visitor against its true shape, from strokes on one frame and after corrections; or what
passes in trial shots.

python tools/trial_mattes.py [FOLDER [NAME ...]]      FOLDER holds what demo/make_trials.py wrote with --frames 60
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
from lodestar.core.media.plates import probe
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, with_plate
from lodestar.core.work import matting
from lodestar.core.work.solving import solve_shot
from lodestar.core.work.tracking import track_shot
from make_demo import HEIGHT, WIDTH

KEY, FIRST, SECOND = 46, 22, 75
INSIDE = (352, 240, 350, 260, 352, 290, 350, 330, 350, 380), (340, 400, 332, 470, 330, 545), (372, 400, 378, 450, 380, 545)
OUTSIDE = (300, 230, 290, 330, 285, 450, 290, 575), (420, 230, 430, 330, 420, 450, 425, 575, 300, 590), (357, 480, 357, 540)
PARTS, AWAY, EVERY = 25, 14, 12  # of a subject that are painted; px outside of it, where it is gone round; px from corner to corner of that
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
    middle = values[(len(values) - 60) // 2 :][:60]
    print(f"{label}: overlap {values.mean():.3f}, over 60 frames {middle.mean():.3f}, least {values.min():.3f}; ", end="")
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


def solved(clip: Path) -> Shot:
    """A clip tracked, solved and levelled as a user's."""
    return solve_shot(track_shot(with_plate(Shot(), probe(clip)), Job()), Job())


def painted(true: np.ndarray, frame: int) -> tuple[Stroke, ...]:
    """Strokes of a hand that takes the larger parts by their middles, and goes once round all of it."""
    sure = (true > 0.95).astype(np.uint8)
    count, label, stats, _ = cv2.connectedComponentsWithStats(sure)
    deep, strokes = cv2.distanceTransform(sure, cv2.DIST_L2, 3), []
    for part in 1 + np.argsort(-stats[1:, 4])[:PARTS]:
        x, y, wide, high, _ = stats[part]
        own = np.where(label[y : y + high, x : x + wide] == part, deep[y : y + high, x : x + wide], 0)
        lines = own if high >= wide else own.T
        rows = np.unique(np.linspace(0, len(lines) - 1, 9).round().astype(int))[1:-1]
        at = [(lines[row].argmax(), row) for row in rows if lines[row].max() > 1.5]
        points = np.array([p if high >= wide else p[::-1] for p in at], float).reshape(-1, 2) + (x, y)
        # a hand does not go across what lies between two parts
        between = [sure[tuple(np.linspace(a, b, 30).round().astype(int).T[::-1])].all() for a, b in zip(points, points[1:])]
        for run in np.split(np.arange(len(points)), np.flatnonzero(~np.array(between, bool)) + 1):
            if len(run) > 1:
                strokes.append(Stroke(frame, tuple(points[run].ravel()), 3.0))
    ring = cv2.dilate((true > 0.02).astype(np.uint8), np.ones((2 * AWAY + 1, 2 * AWAY + 1), np.uint8))
    high, wide = true.shape
    rings = list(cv2.findContours(ring, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)[0])
    for line in rings:
        points = np.concatenate([line[::EVERY, 0], line[:1, 0]]).astype(float)
        within = np.all((points > 1) & (points < [wide - 2, high - 2]), axis=1)
        # where the subject leaves the picture there is nothing round it
        for run in np.split(np.arange(len(points)), np.flatnonzero(np.diff(within.astype(int))) + 1):
            if within[run[0]] and len(run) > 1:
                strokes.append(Stroke(frame, tuple(points[run].ravel()), 5.0, False))
    return tuple(strokes)


def trial(folder: Path, name: str) -> None:
    truth = {f: alpha / np.float32(255) for f, alpha in enumerate(np.load(folder / f"{name}.mattes.npy"))}
    shot = solved(folder / f"{name}.mp4")
    key, first, second = (int(share * (len(truth) - 1)) for share in (0.5, 0.2, 0.8))
    source = Brushed(id=name, name=name, strokes=painted(truth[key], key))
    found = followed(shot, source, truth, f"{name}: strokes on frame {key}")
    for frame in (first, second):
        source = corrected(source, frame, laid_out(found[frame], shot.plate.width, shot.plate.height), truth[frame])
    followed(shot, source, truth, f"{name}: two corrections")


def main() -> None:
    if len(sys.argv) > 1:
        folder = Path(sys.argv[1])
        for name in sys.argv[2:] or sorted(p.name.removesuffix(".mattes.npy") for p in folder.glob("*.mattes.npy")):
            trial(folder, name)
        return
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
