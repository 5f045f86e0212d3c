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

import make_shot
import scenery
from lodestar.core.basics.job import Job
from lodestar.core.matte.strokes import UNSURE, Brushed, Found, Stroke, laid_out
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.work import matting

KEY, FIRST, SECOND = 46, 22, 75
INSIDE = (352, 240, 350, 260, 352, 290, 350, 330, 350, 380), (340, 400, 332, 470, 330, 545), (372, 400, 378, 450, 380, 545)
OUTSIDE = (300, 230, 290, 330, 285, 450, 290, 575), (420, 230, 430, 330, 420, 450, 425, 575, 300, 590), (357, 480, 357, 540)
SHUTTER = (-0.2, -0.1, 0.0, 0.1, 0.2)  # frames, at which the demo's shutter was open


def true_matte(camera, frame: int, width: int, height: int) -> np.ndarray:
    """(height, width) float32: what the visitor covers while the shutter is open."""
    total = np.zeros((height, width), np.float32)
    for shift in SHUTTER:
        mask = np.zeros((height, width), np.uint8)
        for solid in scenery.visitor((frame + 0.5 + shift) / 25):
            a, b, radius = np.array(solid[2:5]), np.array(solid[5:8]), solid[8]
            for share in np.linspace(0, 1, 24):
                xy, depth = camera.project(a + share * (b - a))
                size = int(round(radius * camera.lens.fx / float(depth) * 16))
                cv2.circle(mask, tuple(np.round(xy * 16).astype(int)), size, 255, -1, cv2.LINE_AA, 4)
        total += mask / (255 * len(SHUTTER))
    return total


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
    cameras = make_shot.true_cameras("terrace")
    truth = {f: true_matte(cameras[f], f, shot.plate.width, shot.plate.height) for f in shot.frames}
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
