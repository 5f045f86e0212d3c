#!/usr/bin/env python3
"""How time and memory of tracking and solving grow, each beside a plain lower bound or a reference of the same run.

    bench_solve.py [CLIP]

* follow, on CLIP (any movie; best 1080p of 600 frames): beside decode and one plain forward flow pass of OpenCV for as many points.
* solve, on seeded tracks (400 a frame) of 75 to 600 frames: seconds a frame, which should not grow.
* the adjustment alone, beside pycolmap's bundle adjustment (a test requirement) from the same start.
* slip's promise, over seeded shots: docs/slip.png is drawn when Matplotlib is there.

Machines are shared and noisy: read the ratios.
"""

import argparse
import os
import resource
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ["OPENBLAS_NUM_THREADS"] = "1"  # as ./lodestar does

import cv2
import numpy as np
from tests.core.test_report import pinned, points_in
from tests.helpers import Seeded

from lodestar.core.basics.geometry import fit_similarity
from lodestar.core.basics.job import Job
from lodestar.core.media.plates import open_plate, probe
from lodestar.core.shot.document import Shot
from lodestar.core.solve.adjust import adjust
from lodestar.core.solve.camera import solve
from lodestar.core.solve.result import SolveSettings, slip
from lodestar.core.track.tracks import make_tracks
from lodestar.core.work.tracking import track_shot


def memory_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def seconds(function, *args) -> tuple[float, object]:
    began = time.perf_counter()
    result = function(*args)
    return time.perf_counter() - began, result


def flow(info, points: int) -> None:
    """Decode and one forward flow pass, with OpenCV's usual window."""
    plate, before = open_plate(info), None
    x, y = np.meshgrid(np.linspace(30, info.width - 30, 20), np.linspace(30, info.height - 30, max(points // 20, 1)))
    at = np.stack([x, y], -1).reshape(-1, 1, 2).astype(np.float32)
    for i in range(info.count):
        luma = plate.luma(i)
        if before is not None:
            cv2.calcOpticalFlowPyrLK(before, luma, at, None, winSize=(21, 21), maxLevel=3)
        before = luma
    plate.close()


def follow_figures(path: str) -> None:
    info = probe(path)
    shot = Shot(plate=info, first=0, last=info.count - 1)
    track_shot(Shot(plate=info, first=0, last=min(11, info.count - 1)), Job())
    own, tracked = seconds(track_shot, shot, Job())
    points = int(len(tracked.tracks.frame) / info.count)
    bound, _ = seconds(flow, info, points)
    print(
        f"follow {info.width} x {info.height}, {info.count} frames, {points} points: {own:.1f} s, {own / bound:.2f} x decode and flow ({bound:.1f} s); "
        f"memory {memory_mb():.0f} MB"
    )


def scaling() -> None:
    for frames in (75, 75, 150, 300, 600):
        t = Seeded(seed=1, frames=frames, tracks=int(frames * 400 / 40 * 1.4), life=40, moving=0.02, speed=frames / 150)
        tracks = make_tracks(t.frame, t.track, t.xy)
        took, s = seconds(solve, tracks, t.width, t.height, SolveSettings(), Job())
        print(
            f"solve {frames} frames, {len(t.frame) / frames:.0f} tracks a frame: {took:.1f} s, {1000 * took / frames:.0f} ms a frame, "
            f"rms {s.rms_px / np.sqrt(2) / t.sigma:.3f} x the noise, focal {100 * (s.lens.fx / t.lens.fx - 1):+.2f} %; memory {memory_mb():.0f} MB"
        )


def beside_pycolmap() -> None:
    try:
        from tests.core.test_reference import reference_adjustment, start_scene
    except ImportError:
        print("pycolmap is not installed (./lodestar test installs it)")
        return
    t = Seeded(seed=20, frames=150, tracks=3200, sigma=0.3, moving=0, life=40)
    scene, s = start_scene(t)
    theirs, (C, K) = seconds(reference_adjustment, t, scene, s)
    own, (done, _) = seconds(lambda: adjust(scene, s, (t.lens.cx, t.lens.cy), loss_px=0, rounds=40, tolerance=1e-8))
    true = np.array([c.centre for c in t.cameras])
    miss = [np.sqrt(((fit_similarity(c, true).points(c) - true) ** 2).sum(1).mean()) for c in (done.C, C)]
    print(
        f"adjustment of {len(s.frame)} observations: {own:.2f} s, {own / theirs:.2f} x pycolmap ({theirs:.2f} s); "
        f"position error {miss[0]:.5f}, {miss[0] / miss[1]:.3f} x its own; focal {done.K[0]:.2f} and {K[0]:.2f}"
    )


def promise() -> None:
    """Share of the measured errors that stay under the stated 95 % figure, and both against each other."""
    stated, measured, covered = [], [], []
    for seed in range(24):
        t = Seeded(seed=100 + seed, frames=40, tracks=260, sigma=(0.15, 0.3, 0.6)[seed % 3], moving=0, life=24, fading=(0.0, 0.5, 0.8)[seed // 3 % 3])
        s = solve(make_tracks(t.frame, t.track, t.xy), t.width, t.height, SolveSettings(), Job())
        points = t.points[::4] + [0, 0, 0.2]
        error, point = pinned(t, s, points)
        told = slip(s, points_in(s, t, points))
        covered.append(np.mean(error < told[point]))
        for k in np.unique(point):
            stated.append(told[k])
            measured.append(np.percentile(error[point == k], 95))
    print(
        f"slip: {100 * np.mean(covered):.1f} % of the errors lie under the stated 95 % (by shot {100 * min(covered):.0f} to {100 * max(covered):.0f} %), {len(covered)} shots"
    )
    draw(np.array(stated), np.array(measured), np.array(covered))


def draw(stated: np.ndarray, measured: np.ndarray, covered: np.ndarray) -> None:
    try:
        import matplotlib
    except ImportError:
        return
    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, (left, right) = pyplot.subplots(1, 2, figsize=(9, 4))
    left.loglog(stated, measured, ".", ms=2, alpha=0.4)
    ends = [min(stated.min(), measured.min()), max(stated.max(), measured.max())]
    left.plot(ends, ends, "k", lw=0.8)
    left.set(xlabel="stated slip, px (95 %)", ylabel="measured 95 % of the error at that place, px", title="each place of 24 seeded shots")
    right.bar(range(len(covered)), 100 * covered, color="#8CC7E8")
    right.axhline(95, color="k", lw=0.8)
    right.set(ylim=(80, 100), xlabel="shot", ylabel="errors under the stated figure, %", title=f"mean {100 * covered.mean():.1f} %")
    figure.tight_layout()
    figure.savefig(ROOT / "docs" / "slip.png", dpi=80)


def main() -> None:
    parser = argparse.ArgumentParser(description="time and memory of tracking and solving")
    parser.add_argument("clip", nargs="?")
    args = parser.parse_args()
    if args.clip:
        follow_figures(args.clip)
    scaling()
    beside_pycolmap()
    promise()


if __name__ == "__main__":
    main()
