#!/usr/bin/env python3
"""Track and solve shots whose true camera is known, and tell how much a title would slide in each.

    trials.py FOLDER [NAME ...]      FOLDER holds what demo/make_trials.py wrote

Pinned slip: each true point is put into the solved scene by triangulating its true image positions with the solved cameras,
then re-projected: what is seen of a title that is pinned there. Scene slip: the true points are carried over by one
similarity for the whole shot: what is seen of a large scene that was built. Both in px over all frames and visible points.
"""

import argparse
import os
import sys
import time
from pathlib import Path

os.environ["OPENBLAS_NUM_THREADS"] = "1"  # as ./lodestar does
import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from lodestar.core.basics.geometry import fit_similarity
from lodestar.core.basics.job import Job
from lodestar.core.media.plates import probe
from lodestar.core.projection.pinhole import Lens
from lodestar.core.shot.document import Shot
from lodestar.core.solve.report import report
from lodestar.core.solve.result import Solve
from lodestar.core.solve.views import triangulate
from lodestar.core.work.solving import solve_shot
from lodestar.core.work.tracking import track_shot


class Truth:
    """What make_trials.py wrote, and where each true point is seen in each frame."""

    def __init__(self, path: Path) -> None:
        data = np.load(path)
        self.R, self.C, self.times, self.points, self.visible = data["R"], data["C"], data["times"], data["points"], data["visible"]
        f, k1, k2 = data["lens"]
        self.readout, self.turning = float(data["readout"]), bool(data["turning"])
        self.lens, self.zoom = Lens(f, f, 639.5, 359.5, k1, k2), data["zoom"] if "zoom" in data else np.ones(len(self.R))
        self.middle = len(self.times) // 2
        # a picture shows the mean over the open shutter, which shake within it moves away from the middle
        open_s = np.linspace(-0.5, 0.5, 5) * float(data["shutter"])
        self.xy = np.array([np.average([self.seen(i, late) for late in open_s], axis=0, weights=[1, 2, 2, 2, 1]) for i in range(len(self.R))])

    def seen(self, i: int, late: float) -> np.ndarray:
        """(m, 2) px at `late` frames after the middle of the exposure: each row is read at a time of its own."""
        when = np.full(len(self.points), late)
        for _ in range(4):
            slot = np.clip((when - self.times[0]) / (self.times[1] - self.times[0]), 0, len(self.times) - 1.001)
            a, share = slot.astype(int), slot % 1
            d = self.points - (self.C[i][a] + share[:, None] * (self.C[i][a + 1] - self.C[i][a]))
            # between two neighbouring times, 1/10 of a frame apart, a turn is small enough to be blended
            R = self.R[i][a] + share[:, None, None] * (self.R[i][a + 1] - self.R[i][a])
            inside = np.einsum("kij,kj->ki", R, d)
            xy = self.lens.zoomed(self.zoom[i]).distort(inside[:, :2] / np.maximum(inside[:, 2:], 1e-6))
            when = late + self.readout * (np.clip(xy[:, 1], 0, 719) / 719 - 0.5)
        return xy


def slips(solve: Solve, truth: Truth) -> tuple[np.ndarray, np.ndarray]:
    """(pinned, scene) errors in px of all visible points in all solved frames."""
    C = solve.centres
    frame, point = np.nonzero(truth.visible[solve.frames])
    xy = truth.xy[solve.frames[frame], point]
    count = np.bincount(point, minlength=len(truth.points))
    often = count[point] >= 5
    frame, point, xy = frame[often], point[often], xy[often]
    straight = solve.undistorted(frame, xy)
    X = triangulate(solve.R, C, frame, point, straight, len(truth.points), 1e3)
    if solve.motion == "turning":
        d = np.einsum("kji,kj->ki", solve.R[frame], np.c_[straight, np.ones(len(straight))])
        X = np.zeros((len(truth.points), 3))
        np.add.at(X, point, d / np.linalg.norm(d, axis=1, keepdims=True))
        X = 10 * X / np.maximum(np.linalg.norm(X, axis=1, keepdims=True), 1e-9)

    def error(points: np.ndarray) -> np.ndarray:
        inside = np.einsum("kij,kj->ki", solve.R[frame], points[point]) + solve.t[frame]
        return np.linalg.norm(solve.pixels(frame, inside) - xy, axis=1)

    pinned = error(X)
    if solve.motion == "turning":
        return pinned, pinned
    known = np.isfinite(X[:, 0]) & (np.bincount(point, minlength=len(X)) > 0)
    place = fit_similarity(truth.C[solve.frames, truth.middle], C)
    from scipy.optimize import least_squares
    from scipy.spatial.transform import Rotation

    def carried(q: np.ndarray) -> np.ndarray:
        return np.exp(q[6]) * place.points(truth.points) @ Rotation.from_rotvec(q[:3]).as_matrix().T + q[3:6]

    some = np.random.default_rng(0).permutation(len(frame))[:20000]

    def miss(q: np.ndarray) -> np.ndarray:
        inside = np.einsum("kij,kj->ki", solve.R[frame[some]], carried(q)[point[some]]) + solve.t[frame[some]]
        return (solve.pixels(frame[some], inside) - xy[some]).ravel()

    assert known.any()
    q = least_squares(miss, np.zeros(7), x_scale="jac", loss="soft_l1", max_nfev=40).x
    return pinned, error(carried(q))


def judge(name: str, solve: Solve, truth: Truth, seconds: tuple[float, float], words: str = "") -> str:
    pinned, scene = slips(solve, truth)
    relative = truth.R[solve.frames, truth.middle].transpose(0, 2, 1) @ solve.R
    from scipy.spatial.transform import Rotation

    turn = Rotation.from_matrix(relative)
    turned = np.rad2deg((turn * turn.mean().inv()).magnitude()).max() if truth.turning else np.nan
    return (
        f"{name:<9}{solve.motion:<8}{len(solve.frames):4d}/{len(truth.R)} frames  error {solve.mean_px:.3f}  focal {100 * (solve.lens.fx * solve.zooms.mean() / (truth.lens.fx * truth.zoom[solve.frames].mean()) - 1):+6.2f} %  "
        f"pinned {np.median(pinned):.3f} {np.percentile(pinned, 95):.3f}  scene {np.median(scene):.2f} {np.percentile(scene, 95):.2f}  "
        f"track {seconds[0]:.1f} s  solve {seconds[1]:.1f} s" + (f"  turn {turned:.3f} deg" if truth.turning else "") + f"\n          {words}"
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("names", nargs="*")
    args = parser.parse_args()
    for path in sorted(args.folder.glob("*.npz")):
        if args.names and path.stem not in args.names:
            continue
        clip = path.with_suffix(".mp4")
        info = probe(clip)
        shot = Shot(plate=info, first=0, last=info.count - 1)
        began = time.perf_counter()
        shot = track_shot(shot, Job())
        middle = time.perf_counter()
        shot = solve_shot(shot, Job())
        seconds = middle - began, time.perf_counter() - middle
        told = report(shot.solve, shot.tracks)
        words = f"{told.state}: {told.verdict} {told.action} {shot.solve.warning}\n          noise {told.noise_px:.3f} ratio {told.ratio:.2f} slip {told.slip_px:.3f} {told.slip_p95_px:.3f}"
        print(judge(path.stem, shot.solve, Truth(path), seconds, words), flush=True)


if __name__ == "__main__":
    main()
